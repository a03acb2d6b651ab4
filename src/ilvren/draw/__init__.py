"""Figures: histories of runs, contours and curves of problems. Matplotlib is imported here and nowhere else."""

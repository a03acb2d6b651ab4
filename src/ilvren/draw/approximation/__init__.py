"""Figures and a page of approximations: predicted against actual, and sliders for every input."""

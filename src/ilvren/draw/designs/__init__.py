"""Designs as figures and as one page to sort, filter and pick from."""

from ilvren.draw.designs.figures import draw_pairs, draw_parallel
from ilvren.draw.designs.page import write_designs_page

__all__ = ["draw_pairs", "draw_parallel", "write_designs_page"]

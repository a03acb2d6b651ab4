"""Tables of designs, drawn: parallel coordinates, pairs, main effects, and a page to sort, filter and pick from."""

from ilvren.draw.designs.effects import draw_effects, effects_of
from ilvren.draw.designs.figures import draw_pairs, draw_parallel
from ilvren.draw.designs.page import write_designs_page

__all__ = ["draw_effects", "draw_pairs", "draw_parallel", "effects_of", "write_designs_page"]

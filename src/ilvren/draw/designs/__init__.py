"""Tables of designs, drawn: parallel coordinates, pairs, main effects, and a page to sort, filter and pick from."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.draw.designs.effects import draw_effects as draw_effects, effects_of as effects_of
    from ilvren.draw.designs.figures import draw_pairs as draw_pairs, draw_parallel as draw_parallel
    from ilvren.draw.designs.page import write_designs_page as write_designs_page

__getattr__, __all__ = door(
    __name__,
    {
        "effects": "draw_effects effects_of",
        "figures": "draw_pairs draw_parallel",
        "page": "write_designs_page",
    },
)

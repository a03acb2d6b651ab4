"""Figures and a page of approximations: predicted against actual, and sliders for every input."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.draw.approximation.predicted import draw_predicted as draw_predicted
    from ilvren.draw.approximation.sliders import write_sliders as write_sliders

__getattr__, __all__ = door(
    __name__,
    {
        "predicted": "draw_predicted",
        "sliders": "write_sliders",
    },
)

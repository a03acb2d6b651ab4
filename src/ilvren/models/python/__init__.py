"""Models that are Python functions: read without being run, called, and followed for their derivatives."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.models.python.guard import be_apart as be_apart, first_line as first_line

__getattr__, __all__ = door(
    __name__,
    {
        "guard": "be_apart first_line",
    },
)

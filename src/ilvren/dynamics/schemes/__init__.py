"""Collocation schemes, one a file: tables over one interval of the grid. Knows arrays; never problems or methods."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.dynamics.schemes.known_schemes import DEFAULT_SCHEME as DEFAULT_SCHEME, SCHEMES as SCHEMES
    from ilvren.dynamics.schemes.scheme import lagrange as lagrange

__getattr__, __all__ = door(
    __name__,
    {
        "known_schemes": "DEFAULT_SCHEME SCHEMES",
        "scheme": "lagrange",
    },
)

"""Collocation schemes, one a file: tables over one interval of the grid. Knows arrays; never problems or methods."""

from ilvren.dynamics.schemes import gauss_legendre, hermite_simpson, radau, trapezoid
from ilvren.dynamics.schemes.scheme import Scheme

__all__ = ["DEFAULT_SCHEME", "SCHEMES", "Scheme"]

SCHEMES: dict[str, Scheme] = {
    item.SCHEME.name: item.SCHEME for item in (radau, gauss_legendre, hermite_simpson, trapezoid)
}
DEFAULT_SCHEME = radau.SCHEME.name

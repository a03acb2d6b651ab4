"""The collocation schemes by name, and the one that is taken where none is asked for."""

from __future__ import annotations

from ilvren.dynamics.schemes import gauss_legendre, hermite_simpson, radau, trapezoid
from ilvren.dynamics.schemes.scheme import Scheme

__all__ = ["DEFAULT_SCHEME", "SCHEMES"]

SCHEMES: dict[str, Scheme] = {
    item.SCHEME.name: item.SCHEME for item in (radau, gauss_legendre, hermite_simpson, trapezoid)
}
DEFAULT_SCHEME = radau.SCHEME.name

"""Approximations: surfaces fitted to points and values, chosen by what they get wrong at points left out.

Knows arrays alone: points (k, n) and values (k,) in, surfaces and their errors out. Never knows problems, models, runs
or names of anything.
"""

from ilvren.approximate.choosing import KINDS, LEAST_POINTS, Approximated, Told, approximated
from ilvren.approximate.form import FormError, surface_from, surface_to
from ilvren.approximate.kernels import KERNELS, SMOOTH
from ilvren.approximate.surface import Expansion, Part, Surface, Trend

__all__ = [
    "KERNELS",
    "KINDS",
    "LEAST_POINTS",
    "SMOOTH",
    "Approximated",
    "Expansion",
    "FormError",
    "Part",
    "Surface",
    "Told",
    "Trend",
    "approximated",
    "surface_from",
    "surface_to",
]

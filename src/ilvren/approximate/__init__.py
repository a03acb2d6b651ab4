"""Approximations: surfaces fitted to points and values, chosen by what they get wrong at points left out.

Knows arrays alone: points (k, n) and values (k,) in, surfaces and their errors out. Never knows problems, models, runs
or names of anything.
"""

from ilvren.approximate.choosing import KINDS, LEAST_POINTS, Approximated, Told, approximated
from ilvren.approximate.effects import EffectsField, conditioned_effects, likelihood_of_effects, searched_effects
from ilvren.approximate.failing import KNOWING_NOTHING, Failing, fitted_failing
from ilvren.approximate.form import FormError, failing_from, failing_to, surface_from, surface_to
from ilvren.approximate.gaussian import Field, conditioned, fitted_fields, likelihood_of
from ilvren.approximate.kernels import KERNELS, SMOOTH
from ilvren.approximate.polynomial import all_powers
from ilvren.approximate.surface import Expansion, Part, Surface, Trend

__all__ = [
    "KERNELS",
    "KINDS",
    "KNOWING_NOTHING",
    "LEAST_POINTS",
    "SMOOTH",
    "Approximated",
    "EffectsField",
    "Expansion",
    "Failing",
    "Field",
    "FormError",
    "Part",
    "Surface",
    "Told",
    "Trend",
    "all_powers",
    "approximated",
    "conditioned",
    "conditioned_effects",
    "failing_from",
    "failing_to",
    "fitted_failing",
    "fitted_fields",
    "likelihood_of",
    "likelihood_of_effects",
    "searched_effects",
    "surface_from",
    "surface_to",
]

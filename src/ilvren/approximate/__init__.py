"""Approximations: surfaces fitted to points and values, chosen by what they get wrong at points left out.

Knows arrays alone: points (k, n) and values (k,) in, surfaces and their errors out. Never knows problems, models, runs
or names of anything.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.approximate.choosing import (
        KINDS as KINDS,
        LEAST_POINTS as LEAST_POINTS,
        Approximated as Approximated,
        approximated as approximated,
    )
    from ilvren.approximate.effects import (
        EffectsField as EffectsField,
        conditioned_effects as conditioned_effects,
        likelihood_of_effects as likelihood_of_effects,
        searched_effects as searched_effects,
    )
    from ilvren.approximate.failing import (
        KNOWING_NOTHING as KNOWING_NOTHING,
        Failing as Failing,
        fitted_failing as fitted_failing,
    )
    from ilvren.approximate.form import (
        FormError as FormError,
        failing_from as failing_from,
        failing_to as failing_to,
        surface_from as surface_from,
        surface_to as surface_to,
    )
    from ilvren.approximate.gaussian import (
        Field as Field,
        conditioned as conditioned,
        fitted_fields as fitted_fields,
        likelihood_of as likelihood_of,
    )
    from ilvren.approximate.kernels import KERNELS as KERNELS, SMOOTH as SMOOTH
    from ilvren.approximate.polynomial import all_powers as all_powers
    from ilvren.approximate.surface import Expansion as Expansion, Part as Part, Surface as Surface

__getattr__, __all__ = door(
    __name__,
    {
        "choosing": "Approximated KINDS LEAST_POINTS approximated",
        "effects": "EffectsField conditioned_effects likelihood_of_effects searched_effects",
        "failing": "Failing KNOWING_NOTHING fitted_failing",
        "form": "FormError failing_from failing_to surface_from surface_to",
        "gaussian": "Field conditioned fitted_fields likelihood_of",
        "kernels": "KERNELS SMOOTH",
        "polynomial": "all_powers",
        "surface": "Expansion Part Surface",
    },
)

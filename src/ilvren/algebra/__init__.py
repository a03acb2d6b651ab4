"""Linear algebra of optimization: KKT factorizations, quadratic programs, signed least squares, trust-region
steps, quasi-Newton updates, robust losses; fronts of several objectives: domination and hypervolume.

Knows arrays; never problems or methods.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.algebra.allowed_values import AllowedValues as AllowedValues
    from ilvren.algebra.differences import (
        CENTRAL_STEP as CENTRAL_STEP,
        central as central,
        central_along as central_along,
    )
    from ilvren.algebra.dominated_volume import (
        hypervolume as hypervolume,
        own_shares as own_shares,
        spread_subset as spread_subset,
    )
    from ilvren.algebra.domination import (
        crowding as crowding,
        crowding_by_layer as crowding_by_layer,
        dominated_by as dominated_by,
        domination_layers as domination_layers,
        lattice as lattice,
        nondominated as nondominated,
    )
    from ilvren.algebra.kkt import CHAINED as CHAINED, KktFactor as KktFactor, KktSystem as KktSystem
    from ilvren.algebra.least_squares import (
        signed_least_squares as signed_least_squares,
        sparse_signed_least_squares as sparse_signed_least_squares,
    )
    from ilvren.algebra.missing import misses as misses
    from ilvren.algebra.quadratic_program import (
        QuadraticSolution as QuadraticSolution,
        solve_quadratic as solve_quadratic,
        solve_relaxed as solve_relaxed,
    )
    from ilvren.algebra.robust import loss_values as loss_values
    from ilvren.algebra.trust_region import trust_region_step as trust_region_step
    from ilvren.algebra.updates import LimitedMemory as LimitedMemory, damped_bfgs as damped_bfgs

__getattr__, __all__ = door(
    __name__,
    {
        "allowed_values": "AllowedValues",
        "differences": "CENTRAL_STEP central central_along",
        "dominated_volume": "hypervolume own_shares spread_subset",
        "domination": "crowding crowding_by_layer dominated_by domination_layers lattice nondominated",
        "kkt": "CHAINED KktFactor KktSystem",
        "least_squares": "signed_least_squares sparse_signed_least_squares",
        "missing": "misses",
        "quadratic_program": "QuadraticSolution solve_quadratic solve_relaxed",
        "robust": "loss_values",
        "trust_region": "trust_region_step",
        "updates": "LimitedMemory damped_bfgs",
    },
)

"""Linear algebra of optimization: KKT factorizations, quadratic programs, signed least squares, trust-region
steps, quasi-Newton updates, robust losses; fronts of several objectives: domination and hypervolume.

Knows arrays; never problems or methods.
"""

from ilvren.algebra.domination import (
    crowding,
    crowding_by_layer,
    dominated_by,
    domination_layers,
    lattice,
    nondominated,
)
from ilvren.algebra.hypervolume import hypervolume, own_shares, spread_subset
from ilvren.algebra.kkt import CHAINED, KktFactor, KktSystem
from ilvren.algebra.least_squares import signed_least_squares, sparse_signed_least_squares
from ilvren.algebra.quadratic_program import QuadraticSolution, solve_quadratic, solve_relaxed
from ilvren.algebra.robust import loss_values
from ilvren.algebra.trust_region import trust_region_step
from ilvren.algebra.updates import LimitedMemory, damped_bfgs

__all__ = [
    "CHAINED",
    "KktFactor",
    "KktSystem",
    "LimitedMemory",
    "QuadraticSolution",
    "crowding",
    "crowding_by_layer",
    "damped_bfgs",
    "dominated_by",
    "domination_layers",
    "hypervolume",
    "lattice",
    "loss_values",
    "nondominated",
    "own_shares",
    "signed_least_squares",
    "solve_quadratic",
    "solve_relaxed",
    "sparse_signed_least_squares",
    "spread_subset",
    "trust_region_step",
]

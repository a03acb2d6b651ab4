"""Linear algebra of optimization: KKT factorizations, quadratic programs, signed least squares, quasi-Newton updates.

Knows arrays; never problems or methods.
"""

from ilvren.algebra.kkt import KktFactor, KktSystem
from ilvren.algebra.least_squares import signed_least_squares, sparse_signed_least_squares
from ilvren.algebra.quadratic_program import QuadraticSolution, solve_quadratic, solve_relaxed
from ilvren.algebra.updates import LimitedMemory, damped_bfgs

__all__ = [
    "KktFactor",
    "KktSystem",
    "LimitedMemory",
    "QuadraticSolution",
    "damped_bfgs",
    "signed_least_squares",
    "signed_least_squares",
    "solve_quadratic",
    "solve_relaxed",
    "sparse_signed_least_squares",
]

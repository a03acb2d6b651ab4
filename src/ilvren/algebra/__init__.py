"""Linear algebra of optimization: quadratic programs, signed least squares, quasi-Newton updates.

Knows arrays; never problems or methods.
"""

from ilvren.algebra.least_squares import signed_least_squares
from ilvren.algebra.quadratic_program import QuadraticSolution, solve_quadratic, solve_relaxed
from ilvren.algebra.updates import damped_bfgs

__all__ = ["QuadraticSolution", "damped_bfgs", "signed_least_squares", "solve_quadratic", "solve_relaxed"]

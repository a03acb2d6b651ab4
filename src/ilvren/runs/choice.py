"""Which method a problem gets when none is named, and why."""

from __future__ import annotations

from dataclasses import dataclass

from ilvren.errors import RequestError
from ilvren.methods.base import Method, method_named
from ilvren.methods.pieces.in_turn import in_turn
from ilvren.problem import Problem, sum_of_squares
from ilvren.runs.settings import Settings

__all__ = ["AUTOMATIC", "Choice", "choose", "chosen_method"]

AUTOMATIC = "automatic"
# Free variables and rows up to which dense matrices are quicker; variables up to which Hessians are formed, up to which
# they are used at all, and up to which a search without derivatives is worth trying.
SMALL, MEDIUM, LARGE, FEW = 300, 1000, 5000, 12
# Operations whose derivatives jump.
KINKED = frozenset({"abs", "min", "max", "where", "<=", ">=", "<", ">", "interp"})


@dataclass(frozen=True)
class Choice:
    """The methods to be run in turn, and why the first comes first, in a clause."""

    names: tuple[str, ...]
    why: str

    @property
    def sentence(self) -> str:
        """Return the choice in one line."""
        rest = f"; if it ends badly, {' and then '.join(self.names[1:])}" if len(self.names) > 1 else ""
        return f"method {self.names[0]}: {self.why}{rest}"


def choose(problem: Problem, derivatives: str = "automatic") -> Choice:
    """Return the choice for a problem: by its size, its derivatives, the kinds of its limits, and its objective."""
    n, m = len(problem.free), problem.row_count
    has_curvature = not problem.runners and derivatives != "differences"
    last = ("nelder-mead",) if n <= FEW and _has_kinks(problem) else ()
    is_small = n + m <= SMALL
    if not m:
        if sum_of_squares(problem):
            return Choice(
                ("levenberg-marquardt", "newton" if n <= LARGE else "l-bfgs"), "a sum of squares, with bounds at most"
            )
        if not has_curvature:
            if n <= MEDIUM:
                return Choice(("bfgs", "l-bfgs", *last), "bounds at most, and no exact second derivatives")
            return Choice(("l-bfgs", "conjugate-gradient"), "many variables, bounds at most")
        if n <= LARGE:
            rest = ("sqp", "bfgs") if is_small else ("l-bfgs",)
            return Choice(("newton", *rest, *last), "bounds at most, and exact second derivatives")
        return Choice(("l-bfgs", "newton"), f"{n} variables, bounds at most")
    what = f"{n} variables and {m} rows" if n > 1 else f"one variable and {m} row{'s' if m > 1 else ''}"
    if is_small:
        if last:
            return Choice(("sqp", *last, "interior-point"), f"{what}, with kinks")
        return Choice(("sqp", "interior-point"), f"{what}: small and smooth")
    return Choice(("interior-point", "augmented-lagrangian"), f"{what}: sparse factorizations")


def chosen_method(problem: Problem, settings: Settings, *, has_options: bool) -> tuple[Method, Choice | None]:
    """Return the method of the settings, and the choice where it is AUTOMATIC. Raises RequestError for an unknown name,
    and for options without a method that they belong to."""
    if settings.method != AUTOMATIC:
        return method_named(settings.method), None
    if has_options:
        raise RequestError("--option needs --method: options belong to a method", advice="`ilvren methods` lists them")
    choice = choose(problem, settings.derivatives)
    return in_turn(choice.names), choice


def _has_kinks(problem: Problem) -> bool:
    graph = problem.graph
    roots = [block.node for block in problem.row_blocks]
    if problem.objective is not None:
        roots.append(problem.objective.node)
    return any(graph.nodes[number].operation in KINKED for number in graph.reachable(roots))

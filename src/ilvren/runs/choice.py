"""Which method a problem gets when none is named, and why."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.errors import RequestError
from ilvren.methods import FRONT, Method, Protocol, Task, method_named
from ilvren.models import is_differenced
from ilvren.problem import Problem, allowed_values_of, looked_up
from ilvren.records import dataclass
from ilvren.runs.front_choice import ENUMERATION, front_names, front_parts, of_one_objective
from ilvren.runs.handling import MOST_ENTRIES, refuse_other_kind
from ilvren.runs.settings import AUTOMATIC, GLOBAL

if TYPE_CHECKING:
    from ilvren.problem import Lifted
    from ilvren.runs.settings import Settings

__all__ = ["AUTOMATIC", "GLOBAL", "Choice", "can_be_enumerated", "choose", "chosen_method", "design_count"]

# Free variables and rows up to which dense matrices are quicker; variables up to which Hessians are formed, up to which
# they are used at all, and up to which a search without derivatives is worth trying.
SMALL, MEDIUM, LARGE, FEW = 300, 1000, 5000, 12
# Rows up to which a quadratic subproblem of few variables is quick: a limit at every moment, say.
MOST_ROWS_OF_FEW = 3000
# Of models that take long: in a box of so many variables at most, and anywhere else.
COSTLY, MOST_COSTLY, COSTLY_ANYWHERE = "expected-improvement", 20, "surface-trust-region"
COSTLY_FRONT = "expected-hypervolume"
# Designs of whole numbers and catalogues, and numbers computed for all of them, up to which all are tried.
# Combinations of words and of looked-up members, each of which is solved by itself.
MOST_APART = 200
MOST_DESIGNS, MOST_DESIGN_NUMBERS = 10_000_000, 1_000_000_000


@dataclass(frozen=True)
class Choice:
    """The methods to be run in turn, and why the first comes first, in a clause; `costly` takes the first one's place
    where a design takes long."""

    names: tuple[str, ...]
    why: str
    is_in_turn: bool = True
    costly: str = ""

    @property
    def sentence(self) -> str:
        """Return the choice in one line."""
        if not self.is_in_turn:
            several = "s" if len(self.names) > 1 else ""
            return f"method{several} {', then '.join(self.names)}: {self.why}"
        rest = f"; if it ends badly, {' and then '.join(self.names[1:])}" if len(self.names) > 1 else ""
        instead = f"; where a design takes over 3 s, {self.costly} instead" if self.costly else ""
        return f"method {self.names[0]}: {self.why}{rest}{instead}"


def choose(problem: Problem, derivatives: str = "automatic", *, is_relaxed: bool = False) -> Choice:
    """Return the choice for a problem: by its size, its derivatives, the kinds of its limits and variables, and its
    objective; with `is_relaxed` as if all variables were continuous."""
    from ilvren.problem import has_kinks, lifted_of, sum_of_squares

    if len(problem.objectives) > 1:
        count = design_count(problem)
        few = count if count is not None and can_be_enumerated(problem, count) else None
        return Choice(*front_names(problem, derivatives, few), is_in_turn=False)
    if not is_relaxed and _is_discrete(problem):
        few = design_count(problem)
        if few is not None and can_be_enumerated(problem, few):
            return Choice(("enumeration",), f"{few:,} designs in all: every one is evaluated")
        count = None if problem.sources else _apart_count(problem)
        if count is not None and count <= MOST_APART:
            what = "whole numbers or catalogues in formulas"
            what += f", {count} combinations of what has no value between" if count > 1 else ""
            return Choice(("branch-and-bound", "mesh-adaptive-search"), what)
        return Choice(("mesh-adaptive-search", "differential-evolution"), "whole numbers or catalogues")
    if problem.is_collocated:
        n, m = len(problem.free), problem.row_count
        return Choice(("interior-point", "augmented-lagrangian"), f"{n} unknowns and {m} rows on a grid")
    lifted = None if derivatives == "differences" else lifted_of(problem)
    if lifted is not None and lifted.is_smooth:
        return _with_lifted(problem, lifted)
    n, m = len(problem.free), problem.row_count
    has_curvature = not problem.sources and derivatives != "differences"
    # What goes on inside a model nobody sees: it may have kinks, too, or slopes that differences get wrong.
    without_slopes = ("quadratic-interpolation", "mesh-adaptive-search") if problem.sources else ("nelder-mead",)
    last = without_slopes if n <= FEW and (has_kinks(problem) or problem.sources) else ()
    is_small = _is_small(n, m)
    if n <= FEW and any(source.is_apart and not source.can_supply for source in problem.sources):
        why = "values of a program: few calls, whatever digits it shows and wherever it fails"
        return Choice(("quadratic-interpolation", "mesh-adaptive-search"), why)
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
    rows = f"{m} row{'s' if m > 1 else ''}"
    what = f"{n} variables and {rows}" if n > 1 else f"one variable and {rows}"
    if is_small:
        if last:
            return Choice(
                ("sqp", *last, "interior-point"), f"{what}, {'through models' if problem.sources else 'with kinks'}"
            )
        return Choice(("sqp", "interior-point"), f"{what}: small and smooth")
    return Choice(("interior-point", "augmented-lagrangian"), f"{what}: sparse factorizations")


def _with_lifted(problem: Problem, lifted: Lifted) -> Choice:
    """Return the choice for a problem all of whose kinks can be lifted."""
    n, unknowns = len(problem.free), lifted.problem.size - problem.size
    rows = lifted.problem.row_count - problem.row_count
    why = f"kinks lifted into {unknowns} unknown{'s' * (unknowns > 1)} and {rows} smooth limits"
    last = ("nelder-mead",) if n <= FEW else ()
    if _is_small(len(lifted.problem.free), lifted.problem.row_count):
        return Choice(("sqp", "interior-point", *last), why)
    return Choice(("interior-point", "sqp", *last) if n <= FEW else ("interior-point", "augmented-lagrangian"), why)


def _is_small(n: int, m: int) -> bool:
    """Return whether dense matrices of n variables and m rows are quick."""
    return n + m <= SMALL or (n <= FEW and m <= MOST_ROWS_OF_FEW)


def chosen_method(problem: Problem, settings: Settings, *, has_options: bool) -> tuple[Method, Choice | None]:
    """Return the method of the settings, and the choice where it is AUTOMATIC. Raises RequestError for an unknown name,
    and for options without a method that they belong to."""
    from ilvren.methods.pieces import in_turn, looking

    if len(problem.objectives) > 1:
        return _front_method(problem, settings, has_options=has_options)
    if settings.method == GLOBAL:
        if has_options:
            raise RequestError("--option needs the name of one method", advice="`ilvren methods` lists them")
        return _global_method(problem, settings)
    if settings.method != AUTOMATIC:
        named = _resolved(problem, settings.method, settings)
        return _looking_again(problem, looking(named), named, settings), None
    if has_options:
        raise RequestError("--option needs --method: options belong to a method", advice="`ilvren methods` lists them")
    choice = choose(problem, settings.derivatives)
    looks_first = not problem.is_collocated  # an equation between unknowns tells nothing elsewhere
    methods = [_resolved(problem, name, settings, looks_first=looks_first) for name in choice.names]
    if problem.is_collocated and not settings.second_look:
        return in_turn(methods), choice  # other starts of unknowns on a grid are no courses
    found = _looking_again(problem, looking(in_turn(methods)), methods[0], settings)
    costly = _costly(problem, methods)
    if costly:
        return replace(found, costly=method_named(costly)), replace(choice, costly=costly)
    return found, choice


def _looking_again(problem: Problem, method: Method, local: Method, settings: Settings) -> Method:
    if not settings.look_scale:
        return method
    from ilvren.runs.second_look import with_second_look

    return with_second_look(problem, method, local, settings)


def _front_method(problem: Problem, settings: Settings, *, has_options: bool) -> tuple[Method, Choice | None]:
    """Return the method that finds the trade-offs of several objectives, as `chosen_method` does. Raises
    RequestError."""
    from ilvren.methods.pieces import by_priority, front_in_turn

    if settings.method not in (AUTOMATIC, GLOBAL):
        named = _resolved(problem, settings.method, settings)
        return by_priority(_with_ends(problem, named, settings)), None
    if has_options:
        raise RequestError("--option needs --method: options belong to a method", advice="`ilvren methods` lists them")
    choice = choose(problem, settings.derivatives)
    methods = [_resolved(problem, name, settings) for name in choice.names]
    found = by_priority(_with_ends(problem, front_in_turn(front_parts(choice.names, methods)), settings))
    if not _can_be_hoped_for(problem):
        return found, choice
    costly = by_priority(_with_ends(problem, method_named(COSTLY_FRONT), settings))
    return replace(found, costly=costly), replace(choice, costly=COSTLY_FRONT)


def _with_ends(problem: Problem, method: Method, settings: Settings) -> Method:
    """Return a method that begins with the best of each objective alone, where that is asked for and it does not do so
    by itself."""
    from ilvren.methods.pieces import from_ends

    if not settings.ends_first or method.inner:
        return method
    names = choose(of_one_objective(problem), settings.derivatives).names
    local = method_named(next(name for name in names if not method_named(name).inner))
    return from_ends(method, local)


def _can_be_hoped_for(problem: Problem) -> bool:
    """Return whether surfaces pay where a design takes long: models without derivatives, in a box of few sides."""
    if not problem.sources or not all(is_differenced(source.derivatives) for source in problem.sources):
        return False
    own = [block for block in problem.row_blocks if not block.is_objective]
    return _is_boxed(problem) and not any((block.lower == block.upper).any() for block in own)


def _is_boxed(problem: Problem) -> bool:
    free = list(problem.free)
    is_bounded = bool(np.isfinite(problem.joined("upper")[free] - problem.joined("lower")[free]).all())
    return is_bounded and len(free) <= MOST_COSTLY


def _costly(problem: Problem, methods: list[Method]) -> str:
    """Return the method for designs that take so long that surfaces pay, "" where none can be had: models without
    derivatives of their own. A search of the box, where there is one and it has few sides; else from the start on."""
    differenced = all(is_differenced(source.derivatives) for source in problem.sources)
    if not problem.sources or problem.objective is None or not (methods[0].needs == "values" or differenced):
        return ""
    free = list(problem.free)
    has_equalities = bool((problem.joined_rows("lower") == problem.joined_rows("upper")).any())
    if _is_boxed(problem) and not has_equalities:
        return COSTLY
    most = method_named(COSTLY_ANYWHERE).most_variables or 0
    return COSTLY_ANYWHERE if len(free) <= most and not _is_discrete(problem) else ""


def _resolved(problem: Problem, name: str, settings: Settings, *, looks_first: bool = False) -> Method:
    method = method_named(name)
    if name == ENUMERATION and len(problem.objectives) > 1:
        return replace(method, kind=FRONT)  # all designs are asked for: the front is what nothing dominates
    refuse_other_kind(problem, method)
    if method.inner:
        return _with_inner(problem, method, settings)
    from ilvren.methods.pieces import can_lift, lifting, watched

    if looks_first:
        from ilvren.methods.pieces import looking_first

        method = looking_first(method)
    method = watched(method)
    return lifting(method) if can_lift(method) and _has_room(problem, method) else method


def _has_room(problem: Problem, method: Method) -> bool:
    """Return whether a method's matrices allow the unknowns of lifted kinks, where there are any."""
    from ilvren.problem import lifted_of

    lifted = lifted_of(problem)
    if lifted is None or method.most_variables is None:
        return True
    n, m = len(lifted.problem.free), lifted.problem.row_count
    return n <= method.most_variables and (method.takes_sparse or n * m <= MOST_ENTRIES)


def _is_discrete(problem: Problem) -> bool:
    return any(
        block.kind != "continuous" and bool(((block.lower < block.upper) & block.is_used).any())
        for block in problem.blocks
    )


def design_count(problem: Problem) -> int | None:
    """Return how many designs there are where all free variables are spaced or from catalogues, else None."""
    if len(problem.continuous_places):
        return None
    free = set(problem.free)
    return math.prod(allowed_values_of(variable).count for place, variable in problem.grid if place in free)


def can_be_enumerated(problem: Problem, count: int) -> bool:
    """Return whether formulas of so many designs are evaluated within seconds."""
    if problem.sources or count > MOST_DESIGNS:
        return False
    graph = problem.graph
    numbers = sum(graph.nodes[number].size for number in graph.reachable(_roots(problem)))
    return count * numbers <= MOST_DESIGN_NUMBERS


def _apart_count(problem: Problem) -> int:
    """Return how many combinations there are of words, and of members that are looked up."""
    apart, free = looked_up(problem), set(problem.free)
    own = ((place, allowed_values_of(item)) for place, item in problem.grid if place in free)
    return math.prod(values.count for place, values in own if values.is_apart or place in apart)


def _global_method(problem: Problem, settings: Settings) -> tuple[Method, Choice]:
    """Return the search of a whole box: starts spread over it where derivatives make descents cheap, then a population,
    then a descent from the best."""
    from ilvren.methods.pieces import all_of
    from ilvren.problem import has_kinks

    last = choose(problem, settings.derivatives, is_relaxed=False).names[0]
    names = ["differential-evolution"]
    if not _is_discrete(problem):
        is_smooth = not problem.sources and not has_kinks(problem)
        if not is_smooth:
            last = "quadratic-interpolation" if problem.sources else "mesh-adaptive-search"
        names = [*(["multistart"] if is_smooth else []), *names, last]
    why = "a search of the whole box" + (": local searches from many starts first" if len(names) > 2 else "")
    return all_of(GLOBAL, [_resolved(problem, name, settings) for name in names]), Choice(
        tuple(names), why, is_in_turn=False
    )


def _with_inner(problem: Problem, method: Method, settings: Settings) -> Method:
    """Return a method that works with another one with that one in place, sharing its needs and limits. Raises
    RequestError for one that itself works with another."""
    from ilvren.problem import has_kinks

    name = str(settings.options.get(method.inner, AUTOMATIC))
    if name == AUTOMATIC:
        searched = of_one_objective(problem) if method.finds_fronts else problem
        names = choose(searched, settings.derivatives, is_relaxed=method.relaxes).names
        name = next(item for item in names if not method_named(item).inner)
        if has_kinks(problem) and len(problem.free) <= FEW and not method.relaxes and not method.finds_fronts:
            name = "mesh-adaptive-search"  # a descent that stops at every kink would be run from every start
    inner = method_named(name)
    if inner.inner:
        close = method.inner.replace("_", "-")
        raise RequestError(
            f'option "{method.inner}" of "{method.name}" names a method that stands alone, not {name}',
            advice=f"for example --option {close}=nelder-mead",
        )

    def run(task: Task, options: Any) -> Protocol:
        return method.run(task, replace(options, **{method.inner: name}))

    kinds = inner.handles | ({"spaced", "catalogue"} if method.relaxes else frozenset())
    return replace(
        method,
        needs=inner.needs,
        handles=method.handles & kinds,
        run=run,
        most_variables=inner.most_variables,
        takes_sparse=inner.takes_sparse and not method.relaxes,
    )


def _roots(problem: Problem) -> list[int]:
    roots = [block.node for block in problem.row_blocks]
    return roots if problem.objective is None else [*roots, problem.objective.node]

"""Whether a run looks a second time, with how much effort, and what is said of it."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from ilvren.methods import Looked, Method, method_named, method_names
from ilvren.methods.pieces import Effort, looking, looking_again

if TYPE_CHECKING:
    from ilvren.problem import Problem
    from ilvren.runs.settings import Settings

__all__ = ["document", "no_second_look", "with_second_look"]

# Beyond so many free variables or rows a second look would be a look at a corner.
MOST_VARIABLES, MOST_ROWS = 60, 200
# Operations of simulations are of plain numbers, and take so much of the work of a formula's; of one design among many
# so much, in work for each, where they are simulated together, and where that cannot be.
SIMULATED_SHARE, SIMULATED_AMONG_MANY, SIMULATED_ALONE = 0.25, 0.1, 0.6
# Free variables up to which a proof by a few hundred boxes is tried.
MOST_PROVED = 6


def with_second_look(problem: Problem, method: Method, local: Method, settings: Settings) -> Method:
    """Return `method` with the second look that the settings ask for, in which `local` is run from other starts."""
    scale = settings.look_scale
    if not scale or not _is_open(problem, method) or settings.target is not None:
        return method
    is_least = partial(_is_least, problem) if _can_be_proved(problem) else None
    effort = Effort(scale, *_operations(problem), partial(_is_convex, problem), is_least)
    if problem.simulations:
        has_lags = any(axis.lag_nodes for axis in problem.template.built_axes)
        among_many = SIMULATED_ALONE if has_lags else SIMULATED_AMONG_MANY
        effort = replace(effort, is_over_time=not problem.sources, among_many=among_many)
    return looking_again(method, looking(local), effort)


def _is_open(problem: Problem, method: Method) -> bool:
    """Return whether there is anything to look for: a problem of continuous variables with an objective, small enough,
    and a method that finds local optima of it."""
    is_small = 0 < len(problem.free) <= MOST_VARIABLES and problem.row_count <= MOST_ROWS
    is_local = method.needs_derivatives and method.kind in ("gradient-based", "local")
    return is_small and is_local and not problem.grid and not problem.seeks_feasible


def no_second_look(problem: Problem, settings: Settings) -> str:
    """Return why a second look that is asked for is not taken, "" where it is or was not asked for."""
    if not settings.second_look:
        return ""
    if settings.target is not None:
        return "a run with a target ends there"
    if problem.grid:
        return "with spaced or catalogue variables a search of their own is made"
    if problem.seeks_feasible:
        return "any feasible design will do"
    if len(problem.free) > MOST_VARIABLES or problem.row_count > MOST_ROWS:
        return f"it is for at most {MOST_VARIABLES} variables and {MOST_ROWS} limits"
    name = settings.method
    is_found = name in method_names() and not _is_open(problem, method_named(name))
    return f"{name} is no local search that could be started elsewhere" if is_found else ""


def _operations(problem: Problem) -> tuple[float, float]:
    """Return how many operations one design takes, those on vectors weighted by what they take, and on how many
    elements."""
    graph = problem.graph
    roots = [block.node for block in problem.row_blocks]
    if problem.objective is not None:
        roots.append(problem.objective.node)
    found = [graph.nodes[number] for number in graph.reachable(roots)]
    each = 0.01 if graph.has_arrays else 0.0
    weight = 4.0 if graph.has_arrays else 1.0  # an operation of NumPy takes longer than one of Python
    elements = sum(node.size for node in found)
    simulated = 0.0
    if problem.simulations:
        from ilvren.problem import operations_over_time

        simulated = SIMULATED_SHARE * sum(map(operations_over_time, problem.template.built_axes))
    return weight * len(found) + each * elements + simulated, float(elements)


def _can_be_proved(problem: Problem) -> bool:
    """Return whether intervals have a chance: few variables, all between bounds, in formulas."""
    places = problem.free_places
    width = problem.joined("upper")[places] - problem.joined("lower")[places]
    can_follow = not problem.sources and not problem.is_about_scatter
    return can_follow and len(places) <= MOST_PROVED and bool(np.isfinite(width).all())


def _is_least(problem: Problem, f: float, slack: float, boxes: int) -> tuple[bool, int]:
    from ilvren.proofs import nothing_below

    return nothing_below(problem, f - slack, boxes)


def _is_convex(problem: Problem) -> bool:
    from ilvren.proofs import is_convex

    return not problem.is_about_scatter and is_convex(problem)  # element by element, scenarios would take long


def document(looked: Looked, evaluations: int) -> dict[str, object]:
    """Return what is reported of a second look, of whose designs so many `evaluations` were new."""
    return {
        "starts": looked.starts,
        "ended_here": looked.same,
        "at_worse": looked.worse,
        "at_better": looked.better,
        "at_none": looked.failed,
        "sampled": looked.sampled,
        "population": looked.populated,
        "found_better": looked.found,
        "convex": looked.is_convex,
        "proved": looked.is_proved or looked.is_convex,
        "evaluations": evaluations,
        "told": told(looked),
    }


def told(looked: Looked) -> str:
    """Return in a sentence what a second look came to."""
    if looked.is_convex:
        return "the problem is convex: there is no better optimum elsewhere"
    ends = []
    if looked.same:
        ends.append(f"{looked.same} ended {'at the first design' if looked.found else 'here'}")
    if looked.worse:
        ends.append(f"{looked.worse} at worse designs")
    if looked.better:
        ends.append(f"{looked.better} at better ones")
    if looked.failed:
        ends.append(f"{looked.failed} at none")
    starts = f"{looked.starts} other start{'s' * (looked.starts != 1)}"
    what = f"{starts}: {', '.join(ends)}" if ends else f"{looked.sampled:,} designs tried, none led further"
    if looked.populated:
        what += f"; a population of {looked.populated:,} designs"
    if looked.is_proved:
        proof = "proved: no feasible design is better"
        if looked.found:
            return f"a better one was found ({what}); {proof}"
        return proof if not looked.starts else f"{what}; {proof}"
    if looked.found:
        return f"a better one was found ({what})"
    return f"{what}; nothing better was found, which proves nothing"

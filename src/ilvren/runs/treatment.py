"""How a problem over time is treated by a run: its states simulated, or unknowns on a grid; and why."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import InputError, RequestError
from ilvren.problem import (
    SIMULATED,
    Problem,
    begun,
    carried,
    collocated_problem,
    control_count,
    kinked_rate,
    refined_problem,
    simulated_problem,
)
from ilvren.records import dataclass
from ilvren.runs.warm import begun_at

__all__ = ["COLLOCATING", "Treatment", "recalled", "refuse_scheme", "treated", "treated_as"]

FloatArray = NDArray[np.float64]

# Methods that take very many equations.
COLLOCATING = frozenset({"automatic", "interior-point", "sqp", "augmented-lagrangian"})
# Controls of so few numbers are tuned, each evaluation being a simulation.
FEW_NUMBERS = 12


@dataclass(frozen=True)
class Treatment:
    """A problem as a run takes it, and why so, in a sentence ("" of what does not evolve)."""

    problem: Problem
    why: str = ""


def treated(problem: Problem, method: str, *, is_search: bool = True) -> Treatment:
    """Return how a run by a method takes a problem; only searches have unknowns on a grid. Raises RequestError for a
    method that cannot do what is asked, ProblemError where collocation is asked for and cannot be."""
    from ilvren.dynamics.schemes import DEFAULT_SCHEME

    if not problem.is_over_time:
        return Treatment(problem)
    asked = problem.template.declarations.time.treatment
    if problem.is_collocated:
        scheme = problem.refinement.scheme
        refuse_scheme(method, scheme)
        return _collocated(problem, scheme, f"the scheme {scheme} is asked for")
    why_not = "" if is_search else "every design is simulated"
    if not why_not and method not in COLLOCATING:
        why_not = f"{method} does not take the many equations of a grid"
    if asked == "collocation" and is_search:
        refuse_scheme(method, DEFAULT_SCHEME)
        return _collocated(problem, DEFAULT_SCHEME, "the file asks for it")
    if asked == SIMULATED or why_not:
        by_whom = "it is asked for" if problem.refinement.scheme == SIMULATED else "the file asks for it"
        return Treatment(problem, f"simulation: {why_not or by_whom}")
    obstacle = _obstacle(problem)
    if obstacle:
        return Treatment(problem, f"simulation: {obstacle}")
    count = control_count(problem)
    if count > FEW_NUMBERS:
        many = "a control is chosen at every moment" if count == np.inf else f"its controls are {count:.0f} numbers"
        return _tried(problem, many)
    if not _can_be_simulated(problem):
        return _tried(problem, "its start cannot be simulated")
    few = f"its controls are {count:.0f} number{'s' if count > 1 else ''}" if count else "it has no control over time"
    return Treatment(problem, f"simulation: {few}")


def treated_as(problem: Problem, scheme: str = "", steps: int = 0) -> Problem:
    """Return a problem over time, not yet on a grid, to be treated by a scheme or "simulation", so many steps to begin
    with ("" and 0: as without); from its own start. Raises RequestError and ProblemError."""
    from ilvren.dynamics.schemes import SCHEMES

    word = scheme if scheme == SIMULATED else problem.refinement.scheme
    names = [
        item.name for item in problem.template.declarations.controls if item.pieces is None
    ]  # as long as the steps
    lasting = {name: value for name, value in problem.start_overrides.items() if name not in names}
    bare = replace(problem, start_overrides=lasting)
    own = refined_problem(bare, replace(problem.refinement, scheme=word, steps=steps))
    point = carried(problem, np.array(problem.start), own)
    own = begun_at(own, point) if problem.start_overrides else own.with_starts(point)
    return collocated_problem(own, scheme)[0] if scheme in SCHEMES else own


def _tried(problem: Problem, why: str) -> Treatment:
    from ilvren.dynamics.schemes import DEFAULT_SCHEME

    try:
        return _collocated(problem, DEFAULT_SCHEME, why)
    except InputError as error:  # what only the equations on a grid show
        return Treatment(problem, f"simulation: {error.message.removeprefix('collocation is not possible: ')}")


def refuse_scheme(method: str, scheme: str) -> None:
    """Refuse a method that does not take the equations of a grid. Raises RequestError."""
    if method not in COLLOCATING:
        names = ", ".join(sorted(COLLOCATING - {"automatic"}))
        raise RequestError(
            f"--scheme {scheme}: {method} does not take the many equations of a grid",
            advice=f"methods that do: {names}; or leave --scheme out and simulate",
        )


def _obstacle(problem: Problem) -> str:
    """Return why a problem is better simulated, "" where nothing says so."""
    for axis in problem.template.built_axes:
        found = axis.obstacle()
        if found:
            return str(found)
    if problem.sources:
        return "models are called"
    if problem.residuals:
        return "a fit has few parameters"
    if len(problem.objectives) > 1:
        return "several objectives are traded off"
    state = kinked_rate(problem)
    return f'the rate of "{state}" has a corner or a jump that states decide' if state else ""


def _collocated(problem: Problem, scheme: str, why: str) -> Treatment:
    from ilvren.dynamics.schemes import SCHEMES

    made, is_simulated = collocated_problem(problem, scheme, dict(problem.refinement.grids))
    guess = "begun along a simulation" if is_simulated else "begun at the states' starts"
    order = SCHEMES[scheme].order
    return Treatment(made, f"collocation ({scheme}, order {order}): {why}; {guess}")


def _can_be_simulated(problem: Problem) -> bool:
    own = simulated_problem(problem)
    with np.errstate(all="ignore"):
        return all(
            simulation.time_error(inputs) is not None
            for simulation, inputs in zip(own.bound_simulations(), own.simulation_inputs(own.start), strict=True)
        )


def recalled(problem: Problem, unknowns: Mapping[str, Any]) -> Problem:
    """Return a recorded run's problem with the unknowns that it began with, and the sizes of its limits."""
    if not unknowns or not problem.is_collocated:
        return problem
    return begun(problem, np.array(unknowns["start"]), unknowns.get("sizes"))

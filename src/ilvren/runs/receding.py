"""Receding horizon: a window of the time is solved, the beginning of its control goes to a plant, the window moves on.

At t_k, with the plant's states measured as x_k, the problem of the file is solved from t_k to t_k + window; its control
is applied until t_{k+1} = t_k + advance, by integrating the plant with an integrator of its own; then again from there.
Each window begins where the last one ended: its control and course, moved on by what has passed, and its multipliers.
What the plant is may differ from what the file says (`plant`), and what is measured from what is (`noise`).

Source: C. García, D. Prett, M. Morari, "Model predictive control: theory and practice", Automatica 25, 1989.
"""

from __future__ import annotations

import math
import re
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.schemes import DEFAULT_SCHEME
from ilvren.errors import RequestError
from ilvren.methods import method_named, options_from
from ilvren.problem import (
    SIMULATED,
    EntryDeclaration,
    Problem,
    VariableBlock,
    begun,
    bind,
    built,
    carried_along,
    courses_of,
    formula_text,
)
from ilvren.records import dataclass
from ilvren.runs.quick import QuickAnswer, QuickScales, quickly_solved

if TYPE_CHECKING:
    from ilvren.dynamics import GriddedCourse
    from ilvren.runs.settings import Settings

__all__ = ["ClosedLoop", "Receding", "RecedingStep", "receded"]

FloatArray = NDArray[np.float64]

# The parameter that says when a window begins: no file's own.
BEGINS = "window_begin"
# The plant's integrator, over the states' sizes; moments of a step that are kept for the figure.
RELATIVE, ABSOLUTE, KEPT = 1e-8, 1e-9, 9
# Where limits cannot all be met, the design that misses them by least is applied, if by no more than this of their
# size; else the last plan goes on.
MISSED_LITTLE = 0.05
# How far another design lies at which integrals must be worth the same in the objective, over sizes.
SHIFT = 1e-2
# Steps that a closed loop may have.
MOST_STEPS = 100_000


@dataclass(frozen=True)
class Receding:
    """How the horizon recedes: how long a `window` is, how far it moves (`advance`), `until` when; the parameters of
    the `plant` that differ from the file's; standard deviations of the `noise` of measured states."""

    window: float
    advance: float
    until: float
    plant: Mapping[str, Any] = field(default_factory=dict)
    noise: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class RecedingStep:
    """One window: when it began, how its search ended, iterations and seconds of the search, the objective that was
    expected of the window, and the controls applied at its beginning {name: value}."""

    begin: float
    outcome: str
    iterations: int
    seconds: float
    objective: float | None
    controls: Mapping[str, Any]


@dataclass(frozen=True)
class ClosedLoop:
    """What came of it: the steps; `times` (k,), the plant's states {name: (k, *shape)} and the controls applied;
    `integrals` {entry: what it came to} along the plant; `failed` steps, in which the last plan was followed on."""

    problem: Problem
    asked: Receding
    steps: tuple[RecedingStep, ...]
    times: FloatArray
    states: Mapping[str, FloatArray]
    controls: Mapping[str, FloatArray]
    objective: float | None
    failed: int
    is_interrupted: bool = False


Listener = Callable[[int, int, RecedingStep], None]


def receded(problem: Problem, asked: Receding, settings: Settings, listener: Listener | None = None) -> ClosedLoop:
    """Run a problem over time in a receding horizon. Raises RequestError for one that cannot be."""
    return _Loop(problem, asked, settings, listener).run()


class _Loop:
    def __init__(self, problem: Problem, asked: Receding, settings: Settings, listener: Listener | None) -> None:
        self.asked, self.settings, self._listener = asked, settings, listener
        self._refuse(problem)
        self._file = problem
        axis = problem.template.built_axes[0]
        self.begin = float(axis.horizon.begin_value)
        self._whole = float(axis.horizon.duration_value)
        self._method = method_named("interior-point")
        self._options = options_from(self._method, {})
        if problem.refinement.scheme == SIMULATED:
            raise RequestError("--receding solves its windows on a grid: --scheme names a collocation scheme")
        scheme = problem.refinement.scheme or DEFAULT_SCHEME
        self._first = self._window_template(problem, scheme, remembers=False)
        self._later = (
            self._window_template(problem, scheme, remembers=True) if self._has_moves(problem) else self._first
        )
        self._scales: dict[int, QuickScales] = {}
        self._known_worth: FloatArray | None = None
        self._rng = np.random.default_rng(settings.seed)

    def _refuse(self, problem: Problem) -> None:
        asked = self.asked
        if not problem.is_over_time:
            raise RequestError("--receding is for problems over time, and this file has no [time]")
        axes = problem.template.built_axes
        if len(axes) > 1:
            raise RequestError("--receding: what evolves differs from case to case, and a plant is one of them")
        axis = axes[0]
        obstacle = axis.obstacle()
        if obstacle or axis.lag_nodes:
            raise RequestError(f"--receding is not possible: {obstacle or 'delays reach back beyond a window'}")
        if axis.horizon.is_free_end:
            raise RequestError("--receding needs a fixed end of the time, and here the design gives it")
        if not axis.control_declarations:
            raise RequestError("--receding chooses controls over time, and this file has no [controls]")
        if problem.template.declarations.time.at is not None:
            raise RequestError(
                '--receding: the moments that "at" gives do not move with a window', advice="write steps"
            )
        for name, value in (("window", asked.window), ("advance", asked.advance)):
            if not 0.0 < value < math.inf:
                raise RequestError(f"--receding: {name} must be a time above 0, not {value:g}")
        if asked.advance > asked.window:
            raise RequestError("--receding: a window cannot advance by more than its length")
        if not asked.until > float(axis.horizon.begin_value):
            raise RequestError(
                f"--receding: until={asked.until:g} lies before the beginning, {axis.horizon.begin_value:g}"
            )
        if (asked.until - axis.horizon.begin_value) / asked.advance > MOST_STEPS:
            raise RequestError(f"--receding: more than {MOST_STEPS} steps")
        known = {state.name: state for state in axis.states if state.name in axis.state_names}
        for name in asked.noise:
            if name not in known:
                raise RequestError(f'--noise {name}: no state is named "{name}"', advice="states: " + ", ".join(known))
        for name in asked.plant:
            if name not in problem.template.parameter_index:
                names = ", ".join(list(problem.template.parameter_index)[:12])
                raise RequestError(f'--plant {name}: no parameter is named "{name}"', advice=f"parameters: {names}")

    @classmethod
    def _has_moves(cls, problem: Problem) -> bool:
        """Return whether changes of controls are limited or cost something, so that the last one must be known."""
        return cls._speaks_of(problem, "moves", problem.template.declarations.constraints)

    @staticmethod
    def _speaks_of(problem: Problem, function: str, limits: Sequence[EntryDeclaration] = ()) -> bool:
        """Return whether a function is called in an objective, in what is derived, or in limits."""
        declared = problem.template.declarations
        texts = [formula_text(entry.formula) for entry in (*declared.objectives, *declared.derived, *limits)]
        return any(re.search(rf"\b{function}\s*\(", text) for text in texts)

    # ---- windows ----------------------------------------------------------------------------------

    def _window_template(self, problem: Problem, scheme: str, *, remembers: bool) -> Problem:
        """Return the problem of a window, which begins where a parameter says; controls begin from what was applied
        before, where that matters."""
        declared = problem.template.declarations
        share = self.asked.window / self._whole
        parameters = list(declared.parameters)
        parameters.append(EntryDeclaration("parameters", BEGINS, self.begin))
        steps = declared.time.steps
        controls = []
        for control in declared.controls:
            own = control
            if control.form != "pointwise":
                block = next(item for item in problem.blocks if item.name == control.name)
                pieces = block.shape[0] - (control.form == "linear")
                own = replace(own, pieces=float(max(1, round(pieces * share))))
            if remembers and control.form != "pointwise":
                shape = problem.template.shapes[control.name][1:]
                before = np.zeros(shape).tolist()
                parameters.append(EntryDeclaration("parameters", _before(control.name), _tupled(before)))
                own = replace(own, before=_before(control.name))
            controls.append(own)
        axis = problem.template.built_axes[0]
        count = max(4, round((len(axis.taus) - 1) * share)) if steps is not None else None
        moment = replace(
            declared.time,
            begin=BEGINS,
            end=f"{BEGINS} + {self.asked.window!r}",
            steps=None if count is None else float(count),
            grid=(),
            more=(),
        )
        made = replace(
            declared,
            parameters=tuple(parameters),
            controls=tuple(controls),
            time=moment,
            time_scheme=scheme,
            whole=None,
        )
        overrides = dict(problem.overrides)
        found = bind(built(made, overrides), parameters=overrides, starts={})
        return replace(found, refinement=replace(problem.refinement, scheme=scheme))

    def _window(self, base: Problem, begin: float, states: FloatArray, before: Mapping[str, Any]) -> Problem:
        """Return the problem of the window that begins now, with its first states as they are measured."""
        values: dict[str, Any] = {**self._file.overrides, BEGINS: begin}
        for name, value in before.items():
            if _before(name) in base.template.parameter_index:
                values[_before(name)] = value
        found = bind(base.template, parameters=values, starts={})
        axis = found.template.built_axes[0]
        first, blocks = 0, []
        by_name = {unknown.name: unknown for unknown in axis.unknowns}
        firsts = {f"{unknown.state.name}.first": unknown for unknown in axis.unknowns if not unknown.is_held}
        at: dict[str, FloatArray] = {}
        for unknown in axis.unknowns:
            size = math.prod(unknown.shape[1:])
            at[unknown.name] = states[first : first + size]
            first += size
        for block in found.blocks:
            if block.name in by_name and by_name[block.name].is_held:
                # A state is taken to be within its bounds, however it was measured.
                own = np.clip(at[block.name], block.lower[_next(block)], block.upper[_next(block)])
                low, high, start = block.lower.copy(), block.upper.copy(), block.start.copy()
                low[: len(own)] = high[: len(own)] = start[: len(own)] = own
                block = replace(block, lower=low, upper=high, start=start)
            elif block.name in firsts:
                own = at[firsts[block.name].name]
                block = replace(block, lower=own, upper=own, start=own)
            blocks.append(block)
        return replace(found, blocks=tuple(blocks), refinement=base.refinement)

    # ---- the loop ---------------------------------------------------------------------------------

    def run(self) -> ClosedLoop:
        """Go through all windows."""
        asked = self.asked
        count = math.ceil((asked.until - self.begin) / asked.advance - 1e-9)
        axis = self._first.template.built_axes[0]
        states = self._first_states()
        path = _Path(np.array([self.begin]), states)
        before: dict[str, Any] = {}
        last: tuple[Problem, FloatArray, tuple[FloatArray, FloatArray] | None] | None = None
        is_interrupted = False
        for k in range(count):
            begin = self.begin + k * asked.advance
            base = self._first if k == 0 else self._later
            began = time.perf_counter()
            try:
                problem, found = self._solved(base, begin, self._measured(states, axis), before, last)
            except KeyboardInterrupt:
                is_interrupted = True
                break
            seconds = time.perf_counter() - began
            course = courses_of(problem, found.point)[0]
            length = min(asked.advance, asked.until - begin)
            moments, followed, controls, gained = self._plant(problem, course, found.point, states, length)
            states = followed[-1]
            if not np.isfinite(states).all():
                raise RequestError(f"--receding: the plant has no course from t = {begin:g} on: its states run away")
            path.add(begin + moments[1:], followed[1:], controls, gained)
            before = {name: value[-1] for name, value in controls.items()}
            step = _step(problem, found, begin, seconds, controls)
            path.steps.append(step)
            if self._listener is not None:
                self._listener(k + 1, count, step)
            last = problem, found.point, found.multipliers
        return path.closed(self._file, asked, axis, is_interrupted=is_interrupted)

    def _first_states(self) -> FloatArray:
        """Return the plant's states at the beginning (n,)."""
        axis = self._first.template.built_axes[0]
        first = self._first.entry_values(axis.first_nodes, self._first.start).values
        shapes = [state.shape for state in axis.states]
        parts = [np.ravel(np.broadcast_to(value, shape)) for value, shape in zip(first, shapes, strict=True)]
        return np.concatenate(parts).astype(float)

    def _measured(self, states: FloatArray, axis: Any) -> FloatArray:
        """Return the states as they are measured."""
        found, place = states.copy(), 0
        for state in axis.states:
            size = math.prod(state.shape)
            deviation = self.asked.noise.get(state.name, 0.0)
            if deviation:
                found[place : place + size] += self._rng.normal(0.0, deviation, size)
            place += size
        return found

    def _solved(
        self,
        base: Problem,
        begin: float,
        measured: FloatArray,
        before: Mapping[str, Any],
        last: tuple[Problem, FloatArray, tuple[FloatArray, FloatArray] | None] | None,
    ) -> tuple[Problem, QuickAnswer]:
        problem = self._window(base, begin, measured, before)
        multipliers = None
        if last is not None:
            point = carried_along(last[0], last[1], problem, self.asked.advance / self.asked.window)
            problem = begun(problem, point)
            if last[2] is not None and len(last[2][0]) == problem.row_count and len(last[2][1]) == problem.size:
                multipliers = last[2]
        else:
            problem = begun(problem, np.array(problem.start))
        given = self._method, self._options, self.settings
        found = quickly_solved(problem, *given, multipliers, self._scales.get(id(base)))
        if found.outcome != "converged" and multipliers is not None:  # what was known may mislead: once more without
            again = quickly_solved(problem, *given)
            found = again if again.outcome == "converged" else found
        self._scales.setdefault(id(base), found.scales)
        misses_little = found.violation <= MISSED_LITTLE
        if found.outcome != "converged" and last is not None and not misses_little:  # the last plan goes on
            return problem, replace(found, point=np.array(problem.start), multipliers=None)
        return problem, found

    def _plant(
        self, problem: Problem, course: GriddedCourse, point: FloatArray, states: FloatArray, length: float
    ) -> tuple[FloatArray, FloatArray, dict[str, FloatArray], float | None]:
        """Return moments from the window's beginning on, the plant's states there, the controls applied, and what the
        integrals in the objective gained."""
        from scipy.integrate import solve_ivp  # heavy, and seldom needed

        plant = course if not self.asked.plant else self._other(problem, course)
        window = self.asked.window
        share = length / window
        ends = np.unique(np.concatenate([course.taus[(course.taus > 1e-12) & (course.taus < share - 1e-12)], [share]]))
        kept = np.unique(np.concatenate([np.linspace(0.0, share, KEPT), ends]))
        code = plant.integrand_code
        weights = self._worth(problem, course, point)
        x = np.concatenate([states, [0.0]])
        low, rows, moments = 0.0, [states], [0.0]
        scale = np.append(np.maximum(np.abs(states), plant.sizes), 1.0)
        for high in ends.tolist():

            def rates(tau: float, y: FloatArray, low: float = low, high: float = high) -> FloatArray:
                at = np.array([min(max(tau, low), high)])
                inputs = plant.inputs(at, np.array([at[0] > 0.5 * (low + high)]), y[np.newaxis, :-1])
                gain = 0.0
                if code is not None and weights is not None:
                    gain = float(weights @ code.values(inputs)[0])
                return np.append(plant.code.values(inputs)[0], gain)

            wanted = kept[(kept > low + 1e-12) & (kept <= high + 1e-12)]
            found = solve_ivp(
                rates,
                (low, high),
                x,
                method="LSODA",
                rtol=RELATIVE,
                atol=ABSOLUTE * scale,
                t_eval=np.minimum(wanted, high),
            )
            if not found.success or found.y.shape[1] != len(wanted):
                return np.array([0.0]), np.full((1, len(states)), np.nan), {}, None
            rows += list(found.y[:-1].T)
            moments += wanted.tolist()
            x, low = found.y[:, -1], high
        at = np.array(moments)
        is_left = at > 0.0
        controls = {}
        for control, own in zip(problem.template.built_axes[0].controls, course.controls, strict=True):
            first, second, theta = own.at(at, is_left)
            if own.scheme is None and own.is_linear:
                part = theta.reshape(-1, *(1,) * (first.ndim - 1))
                first = first + part * (second - first)
            controls[control.name] = np.asarray(first)
        return at * window, np.array(rows), controls, None if weights is None else float(x[-1])

    def _other(self, problem: Problem, course: GriddedCourse) -> GriddedCourse:
        """Return a course with the numbers of the plant."""
        values: dict[str, Any] = {**dict(problem.overrides), **self.asked.plant}
        other = bind(problem.template, parameters=values, starts={})
        if other.template is not problem.template:
            raise RequestError("--plant changes what the grid depends on, such as a table's moments")
        from ilvren.formula import interpret

        axis = problem.template.built_axes[0]
        numbers = other.parameter_values
        still = [interpret(problem.graph, [node], (), numbers).values[0] for node in axis.still_nodes]
        return replace(course, still=tuple(still))

    def _worth(self, problem: Problem, course: GriddedCourse, point: FloatArray) -> FloatArray | None:
        """Return what the integrals are worth in the objective, None where windows cannot be added up: it has no
        integrals, or averages, or what they are worth is not the same at another design."""
        from ilvren.runs.courses_told import worth_in_objective

        if course.integrand_code is None or problem.objective is None or self._speaks_of(problem, "average"):
            return None
        if self._known_worth is None:
            other = point + SHIFT * (1.0 + np.abs(point)) * np.cos(np.arange(len(point)))
            here = worth_in_objective(problem, course, point)
            there = worth_in_objective(problem, courses_of(problem, other)[0], other)
            is_same = np.allclose(here, there, rtol=1e-4, atol=1e-6 * float(np.abs(here).max(initial=0.0)))
            self._known_worth = here if is_same and here.any() else np.full(len(here), np.nan)
        return self._known_worth if np.isfinite(self._known_worth).all() else None


class _Path:
    """What came of the plant so far."""

    def __init__(self, times: FloatArray, states: FloatArray) -> None:
        self.steps: list[RecedingStep] = []
        self._times, self._states = [times], [states[np.newaxis]]
        self._controls: list[dict[str, FloatArray]] = []
        self._objective: float | None = 0.0

    def add(self, times: FloatArray, states: FloatArray, controls: dict[str, FloatArray], gained: float | None) -> None:
        """Add what a window's beginning led to."""
        self._times.append(times)
        self._states.append(states)
        self._controls.append(controls)
        self._objective = None if self._objective is None or gained is None else self._objective + gained

    def closed(self, problem: Problem, asked: Receding, axis: Any, *, is_interrupted: bool) -> ClosedLoop:
        """Return all of it."""
        whole, told, place = np.concatenate(self._states), dict[str, FloatArray](), 0
        for state in axis.states:
            size = math.prod(state.shape)
            told[state.name] = whole[:, place : place + size].reshape(len(whole), *state.shape)
            place += size
        return ClosedLoop(
            problem,
            asked,
            tuple(self.steps),
            np.concatenate(self._times),
            told,
            _joined(self._controls),
            self._objective if self.steps else None,
            sum(step.outcome != "converged" for step in self.steps),
            is_interrupted,
        )


def _step(
    problem: Problem, found: QuickAnswer, begin: float, seconds: float, controls: Mapping[str, FloatArray]
) -> RecedingStep:
    sign = 1 if problem.objective is None else problem.objective.sign
    expected = sign * found.objective if math.isfinite(found.objective) else None
    now = {name: value[0] for name, value in controls.items()}
    return RecedingStep(begin, found.outcome, found.iterations, seconds, expected, now)


def _next(block: VariableBlock) -> slice:
    """Return where the second value of each unknown stands: the first is held."""
    each = math.prod(block.shape[1:])
    return slice(each, 2 * each)


def _before(name: str) -> str:
    return f"{name}_applied_before"


def _tupled(value: Any) -> Any:
    return tuple(_tupled(item) for item in value) if isinstance(value, list) else value


def _joined(applied: list[dict[str, FloatArray]]) -> dict[str, FloatArray]:
    """Return controls over all moments; the first of each step but the first one is the last of the one before."""
    found: dict[str, FloatArray] = {}
    for name in applied[0] if applied else ():
        parts = [applied[0][name][:1], *(own[name][1:] for own in applied)]
        found[name] = np.concatenate(parts)
    return found

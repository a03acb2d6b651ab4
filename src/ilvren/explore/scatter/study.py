"""How a design fares when it is not made exactly, in the ways asked for, side by side."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.explore.scatter.case import Output, ScatterCase, Seen, scatter_case
from ilvren.explore.scatter.drivers import Drivers, by_fit, by_formulas
from ilvren.explore.scatter.linear import Linear, linear
from ilvren.explore.scatter.rare import DEFAULT_EVALUATIONS, rare_miss, sides_of
from ilvren.explore.scatter.result import LEVELS, OutputScatter, RareMiss, ScatterResult, WorstScenario
from ilvren.problem import Problem, element_name
from ilvren.scatter import Interval, mean_interval, parted, scenario_normals, share_interval

if TYPE_CHECKING:
    from ilvren.ledger import Ledger

__all__ = ["DEFAULT_SCENARIOS", "WAYS", "scatter"]

FloatArray = NDArray[np.float64]

WAYS = ("sampling", "linear", "reliability")
DEFAULT_SCENARIOS, MOST_SCENARIOS = 1_000, 10_000_000
# Worst scenarios told, and sides of limits whose design points are looked for, of formulas and of models.
MOST_WORST, MOST_SIDES, MOST_SIDES_OF_MODELS = 5, 40, 8
# Scenarios that tell a plane, and independent numbers that one is fitted to.
ENOUGH, MOST_FITTED = 2_000, 60
# Beyond so many deviations (by slopes) a limit is not looked at.
FAR = 9.0


def scatter(
    problem: Problem,
    point: Sequence[float] | FloatArray,
    *,
    design: str = "",
    scenarios: int = DEFAULT_SCENARIOS,
    seed: int = 0,
    ways: Sequence[str] = ("sampling",),
    evaluations: int = DEFAULT_EVALUATIONS,
    of: Sequence[str] = (),
    feasibility: float = 1e-6,
    ledger: Ledger | None = None,
    label: str | None = None,
    workers: int | str | None = None,
    listener: Callable[[Any], None] | None = None,
    errors: Mapping[str, float] | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> ScatterResult:
    """Return how a design (n,) fares under what [scatter] says, `ways` being of `WAYS`: `scenarios` of it by sampling
    (made a multiple of ten), `evaluations` around each limit's design point. `errors` {entry: deviation of what an
    approximation gets wrong} widen intervals; `progress` hears how many scenarios are simulated. Raises RequestError
    and ProblemError."""
    _check(ways, scenarios, evaluations)
    case = scatter_case(problem, point, feasibility=feasibility, of=of)
    given = {
        "ledger": ledger,
        "label": label,
        "workers": workers,
        "listener": listener,
        "seed": seed,
        "progress": progress,
    }
    runs: list[str] = []

    def seen(own: FloatArray) -> Seen:
        found = case.seen(own, **given)  # type: ignore[arg-type]
        if found.run is not None:
            runs.append(found.run)
        return found

    nominal = case.gate.evaluate(case.nominal)
    if not nominal.is_finite:
        raise RequestError("the design as it is meant has no finite values", advice="another design, --at")
    values = _nominal_values(case)
    notes: list[str] = []
    own = scenario_normals(case.scattered.dependence.dimension, scenarios, seed)
    sampled = seen(own) if "sampling" in ways else None
    slopes = linear(case) if "linear" in ways else None
    rare = _rare(case, seen, own, sampled, evaluations, seed, notes) if "reliability" in ways else {}
    told = [
        _output(case, k, output, float(values[k]), sampled, slopes, rare.get(k))
        for k, output in enumerate(case.outputs)
    ]
    works = None
    worst: tuple[WorstScenario, ...] = ()
    if sampled is not None:
        works = share_interval(parted(sampled.misses <= feasibility)) if case.wide.row_count else None
        if errors:
            told = [_with_error(case, k, item, sampled, errors) for k, item in enumerate(told)]
            works = None if works is None else _works_with_errors(case, sampled, works, errors)
        worst = _worst(case, own, sampled)
    drivers, more = _drivers(case, own, sampled, slopes, seed)
    notes += more
    notes += _remarks(case, told, sampled)
    count = 0 if sampled is None else len(own)
    return ScatterResult(
        design=design,
        scenarios=count,
        ways=tuple(way for way in WAYS if way in ways),
        of=tuple(told),
        works=works,
        drivers=drivers,
        worst=worst,
        notes=tuple(notes),
        scattered=tuple(case.scattered.rows({block.name: block.unit for block in case.wide.blocks})),
        run=runs[0] if runs else None,
        evaluations=count + sum(item.evaluations for item in rare.values()),
        values={} if sampled is None else {o.name: sampled.values[:, k] for k, o in enumerate(case.outputs)},
        inputs={} if sampled is None else _inputs(case, own),
        left_out=case.left_out,
    )


def _drivers(
    case: ScatterCase, own: FloatArray, sampled: Seen | None, slopes: Linear | None, seed: int
) -> tuple[Drivers, list[str]]:
    """Return what drives what, and what is to be said of it."""
    if sampled is None:
        return ({} if slopes is None else slopes.drivers(case)), []
    return (by_formulas(case, seed), []) if case.is_cheap else by_fit(case, own, sampled.values)


def _check(ways: Sequence[str], scenarios: int, evaluations: int) -> None:
    for way in ways:
        if way not in WAYS:
            close = nearest(way, WAYS)
            advice = f'did you mean "{close}"?' if close else "ways: " + ", ".join(WAYS)
            raise RequestError(f'--way {way}: no way "{way}"', advice=advice)
    if not 10 <= scenarios <= MOST_SCENARIOS:
        raise RequestError(f"--scenarios lies between 10 and {MOST_SCENARIOS:,}, not {scenarios:,}")
    if evaluations < 0:
        raise RequestError(f"--evaluations must be at least 0, not {evaluations}")


def _nominal_values(case: ScatterCase) -> FloatArray:
    gate = case.gate
    values = gate.written.values(case.nominal)
    rows = gate.evaluate(case.nominal).rows
    return np.array(
        [
            rows[output.place]
            if output.kind == "constraint"
            else np.ravel(np.asarray(values[output.entry], dtype=float))[output.place]
            for output in case.outputs
        ]
    )


def _output(
    case: ScatterCase,
    k: int,
    output: Output,
    nominal: float,
    sampled: Seen | None,
    slopes: Linear | None,
    rare: RareMiss | None,
) -> OutputScatter:
    mean = deviation = misses = None
    quantiles: dict[str, float] = {}
    invalid = 0
    if sampled is not None:
        column = sampled.values[:, k]
        whole = np.isfinite(column)
        invalid = int((~whole).sum())
        parts = [part[np.isfinite(part)] for part in parted(column)]
        parts = [part for part in parts if len(part) > 1]
        if len(parts) > 1:
            mean = mean_interval(np.array([part.mean() for part in parts]))
            pooled = column[whole]
            spread = mean_interval(np.array([part.std(ddof=1) for part in parts]))
            own = float(pooled.std(ddof=1))
            deviation = Interval(own, own - (spread.value - spread.low), own + (spread.high - spread.value))
            mean = Interval(float(pooled.mean()), mean.low, mean.high)
            if not np.ptp(pooled) > 1e-12 * np.abs(pooled).max():  # nothing moves it
                mean, deviation = Interval(nominal, nominal, nominal), Interval(0.0, 0.0, 0.0)
            quantiles = dict(zip(map(str, LEVELS), np.quantile(pooled, LEVELS).tolist(), strict=True))
        if output.kind == "constraint":
            misses = share_interval(parted(_is_missed(case, output, column)))
    by_slopes: dict[str, float] = {}
    if slopes is not None:
        by_slopes = {"mean": float(slopes.mean[k]), "deviation": float(slopes.deviation[k])}
        if output.kind == "constraint":
            by_slopes["misses"] = float(slopes.misses[k])
    middle = mean.value if mean is not None else by_slopes.get("mean", nominal)
    width = deviation.value if deviation is not None else by_slopes.get("deviation", math.nan)
    return OutputScatter(
        output=output,
        nominal=nominal,
        mean=mean,
        deviation=deviation,
        quantiles=quantiles,
        misses=misses,
        reserve=_reserve(output, middle, width),
        linear=by_slopes,
        rare=rare,
        invalid=invalid,
    )


def _with_error(
    case: ScatterCase, k: int, item: OutputScatter, sampled: Seen, errors: Mapping[str, float]
) -> OutputScatter:
    """Return a quantity with its intervals as wide as two deviations of its error make them."""
    away = 2.0 * errors.get(item.output.entry, 0.0)
    if not away > 0.0 or item.mean is None:
        return item
    mean = Interval(item.mean.value, item.mean.low - away, item.mean.high + away)
    misses = item.misses
    if misses is not None:
        column = sampled.values[:, k]
        sides = [share_interval(parted(_is_missed(case, item.output, column, room))) for room in (-away, away)]
        misses = Interval(misses.value, min(s.low for s in sides), max(s.high for s in sides))
    return replace(item, mean=mean, misses=misses)


def _works_with_errors(case: ScatterCase, sampled: Seen, works: Interval, errors: Mapping[str, float]) -> Interval:
    ends = []
    for sign in (-2.0, 2.0):
        misses = sampled.misses > case.feasibility if case.left_out else np.zeros(len(sampled.misses), dtype=bool)
        for k, output in enumerate(case.outputs):
            if output.kind == "constraint":
                room = sign * errors.get(output.entry, 0.0)
                misses = misses | _is_missed(case, output, sampled.values[:, k], room)
        ends.append(share_interval(parted(~misses)))
    return Interval(works.value, min(end.low for end in ends), max(end.high for end in ends))


def _is_missed(case: ScatterCase, output: Output, column: FloatArray, more: float = 0.0) -> NDArray[np.bool_]:
    room = case.feasibility * output.size + more
    return ~((column >= output.lower - room) & (column <= output.upper + room))


def _reserve(output: Output, mean: float, deviation: float) -> float | None:
    """Return how many deviations a limit's mean lies within it; None of what has no limit or does not scatter."""
    if output.kind != "constraint" or not deviation > 1e-12 * output.size:
        return None
    return min(output.upper - mean, mean - output.lower) / deviation


def _rare(
    case: ScatterCase,
    seen: Callable[[FloatArray], Seen],
    own: FloatArray,
    sampled: Seen | None,
    evaluations: int,
    seed: int,
    notes: list[str],
) -> dict[int, RareMiss]:
    """Return the reliability of the sides of limits that can be missed at all, the likelier side of each."""
    slopes = linear(case)
    sides = []
    for k, output in enumerate(case.outputs):
        if output.kind != "constraint":
            continue
        for side in sides_of(output):
            room = side[2] * (side[1] - slopes.mean[k])
            if slopes.deviation[k] > 0.0:
                sides.append((room / slopes.deviation[k], k, side))
            elif not math.isfinite(slopes.deviation[k]):
                notes.append(f"{output.name} has no slopes at the design: no design point is looked for")
    sides.sort(key=lambda item: item[0])
    most = MOST_SIDES if case.is_cheap else MOST_SIDES_OF_MODELS
    chosen = [item for item in sides if item[0] <= FAR][:most]
    if len(chosen) < len(sides):
        notes.append(
            f"{len(sides) - len(chosen)} sides of limits lie farther away by their slopes, and were not looked at"
        )
    found: dict[int, RareMiss] = {}
    if sampled is None and chosen and case.is_cheap:
        sampled = case.seen(own)  # formulas tell at once where to look from, too
    for _, k, side in chosen:
        others = []
        if sampled is not None and np.isfinite(sampled.values[:, k]).any():
            rooms = side[2] * (side[1] - sampled.values[:, k])
            others = [own[int(np.nanargmin(rooms))]]
        told = rare_miss(case, k, side, evaluations, seed, lambda u: seen(u).values, others)
        before = found.get(k)
        if before is None or (told.is_found and (not before.is_found or told.index < before.index)):
            found[k] = told
    return found


def _worst(case: ScatterCase, own: FloatArray, sampled: Seen) -> tuple[WorstScenario, ...]:
    """Return the scenarios that miss a limit by most, with what moved it there."""
    most = min(MOST_WORST, len(sampled.misses))
    largest = np.argpartition(-sampled.misses, most - 1)[:most]
    order = largest[np.lexsort((largest, -sampled.misses[largest]))]
    at_row = {output.place: k for k, output in enumerate(case.outputs) if output.kind == "constraint"}
    found = []
    for number in order.tolist():
        miss, row = float(sampled.misses[number]), int(sampled.rows[number])
        if not miss > case.feasibility or row < 0:
            break
        k = at_row.get(row)
        value = math.nan if k is None else float(sampled.values[number, k])
        causes = () if k is None else _causes(case, own, sampled, number, k)
        found.append(WorstScenario(case.wide.rows[row].name, value, miss, causes))
    return tuple(found)


def _causes(
    case: ScatterCase, own: FloatArray, sampled: Seen, number: int, k: int
) -> tuple[tuple[str, float, float, float], ...]:
    """Return (name, value, deviations from its mean, share of the departure), by a plane fitted to all scenarios; of
    more independent numbers than that takes, and for places of vectors, by the slopes of formulas there."""
    output, column = case.outputs[k], sampled.values[:, k]
    dependence = case.scattered.dependence
    values = case.scattered.scenarios(own[number : number + 1])
    sign = 1.0 if column[number] > output.upper else -1.0
    by_place = _moved_by_place(case, values, own[number], k)
    moved: dict[str, float] = {name: sign * float(parts.sum()) for name, parts in by_place.items()}
    places = np.flatnonzero(np.isfinite(column))[: max(ENOUGH, 4 * own.shape[1])]
    can_fit = own.shape[1] <= MOST_FITTED and len(places) > 2 * own.shape[1]
    if can_fit and math.isfinite(column[number]):
        design = np.column_stack([np.ones(len(places)), own[places]])
        slopes = np.linalg.lstsq(design, column[places], rcond=None)[0][1:]
        moved = {name: sign * float(slopes[place] @ own[number, place]) for name, place in dependence.slices.items()}
    towards = {name: max(part, 0.0) for name, part in moved.items()}
    total = sum(towards.values())
    found = []
    for item in case.scattered.quantities:
        there = values[item.name][0]
        with np.errstate(all="ignore"):
            far = np.where(item.deviation > 0.0, (there - item.mean) / item.deviation, 0.0)
        weights = sign * by_place[item.name] if item.name in by_place else np.abs(far)
        place = int(np.argmax(weights)) if item.shape else 0
        share = towards.get(item.name, 0.0) / total if total > 0.0 else math.nan
        name = element_name(item.name, item.shape, place)
        found.append((name, float(there.ravel()[place]), float(far.ravel()[place]), share))
    found.sort(key=lambda told: -told[3] if math.isfinite(told[3]) else -abs(told[2]))
    return tuple(found)


def _moved_by_place(case: ScatterCase, values: dict[str, FloatArray], own: FloatArray, k: int) -> dict[str, FloatArray]:
    """Return {name: (size,)}: by how much each place of what scatters moves an output, to first order; nothing of
    numbers alone, nor of models."""
    if not case.is_cheap or not any(item.shape for item in case.scattered.quantities):
        return {}
    slopes = case.slopes_by_name(own, k)
    found = {}
    for item in case.scattered.quantities:
        parts = slopes[item.name] * (values[item.name][0] - item.mean).ravel()
        if np.isfinite(parts).all():
            found[item.name] = parts
    return found


def _inputs(case: ScatterCase, own: FloatArray) -> dict[str, FloatArray]:
    """Return {element: (k,)} of what scatters."""
    found = {}
    for name, values in case.scattered.scenarios(own).items():
        flat = values.reshape(len(own), -1)
        for place in range(flat.shape[1]):
            found[element_name(name, values.shape[1:], place)] = flat[:, place]
    return found


def _remarks(case: ScatterCase, told: Sequence[OutputScatter], sampled: Seen | None) -> list[str]:
    """Return what is to be said: what has no value, and where ways disagree."""
    notes = []
    if sampled is not None:
        bad = int((~np.isfinite(sampled.values)).any(axis=1).sum())
        if bad:
            notes.append(f"{bad:,} of {len(sampled.misses):,} scenarios have values missing: they count as misses")
    equal = [
        item.output.name
        for item in told
        if item.output.lower == item.output.upper and item.deviation is not None and item.deviation.value > 0.0
    ]
    if equal:
        few = ", ".join(equal[:4]) + (f" and {len(equal) - 4} more" if len(equal) > 4 else "")
        notes.append(f"{few}: an equality that scatters is never met exactly; a band of two limits has a chance")
    for item in told:
        name = item.output.name
        counted, slopes, rare = item.misses, item.linear.get("misses"), item.rare
        if counted is not None and slopes is not None and math.isfinite(slopes) and _apart(slopes, counted):
            why = _why_not_linear(item)
            notes.append(
                f"{name}: by slopes {100.0 * slopes:.2g} % miss, counted {100.0 * counted.low:.2g} .."
                f" {100.0 * counted.high:.2g} %: {why}"
            )
        if rare is None:
            continue
        if not rare.is_found:
            notes.append(f"{name}: no design point was found, so nothing is said of its rare misses")
            continue
        if rare.sampled is not None and _apart(rare.share, rare.sampled):
            notes.append(
                f"{name}: the plane at its design point tells {rare.share:.2g}, sampling around it"
                f" {rare.sampled.value:.2g}: the limit bends there; take the latter"
            )
        best = rare.sampled
        if best is not None and counted is not None and counted.low > best.high:
            notes.append(
                f"{name}: {100.0 * counted.low:.2g} % or more are counted, but {100.0 * best.high:.2g} % at most lie"
                " beyond its design point: it is missed elsewhere, too; take what is counted"
            )
    return notes


def _apart(share: float, interval: Interval) -> bool:
    """Return whether a share lies outside an interval by more than a fifth of what it is."""
    return share < 0.8 * interval.low or share > 1.25 * interval.high


def _why_not_linear(item: OutputScatter) -> str:
    if item.mean is None or item.deviation is None:
        return "the limit is not linear over the scatter"
    shift = abs(item.mean.value - item.linear["mean"]) / max(item.deviation.value, 1e-300)
    ratio = item.deviation.value / max(item.linear["deviation"], 1e-300)
    if shift > 0.1:
        return f"over the scatter it bends, which moves its mean by {shift:.2g} deviations"
    if not 0.9 < ratio < 1.1:
        return f"over the scatter it bends, and scatters {ratio:.2g} times as much"
    return "its tail is not that of a normal law"

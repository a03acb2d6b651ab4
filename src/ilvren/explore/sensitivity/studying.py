"""Sensitivities of a problem: designs evaluated as a run where they are needed, values read off it, and estimated."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.evaluate import Gate
from ilvren.explore.designs import DesignTable, designs_of
from ilvren.explore.proposing import told_names
from ilvren.explore.sampling import Planned, full_designs, sample, space_of
from ilvren.explore.sensitivity.correlation import WAYS, correlations
from ilvren.explore.sensitivity.effects import elementary_effects, paths
from ilvren.explore.sensitivity.shares import pair_designs, variance_shares
from ilvren.notebooks import InNotebooks
from ilvren.problem import with_limits
from ilvren.records import dataclass
from ilvren.runs import problem_of

if TYPE_CHECKING:
    from ilvren.ledger import ApproximationRecord, Ledger, RunRecord
    from ilvren.problem import Problem

__all__ = [
    "KINDS",
    "STUDIES",
    "Driver",
    "Sensitivity",
    "elasticities_at",
    "of_designs",
    "study",
    "study_on_record",
    "with_errors",
]

FloatArray = NDArray[np.float64]

STUDIES = ("elementary-effects", "variance")
KINDS = ("elasticities", "elementary-effects", "variance", "correlation")
# Evaluations without a word: paths of elementary effects, and base designs of variance shares.
DEFAULT_PATHS, DEFAULT_SHARES = 10, 20_000
DEFAULT_SHARES_OF_MODELS = 1_000
# Outputs looked at, at most, elements of vectors each for itself.
MOST_OUTPUTS = 200


@dataclass(frozen=True)
class Driver:
    """What one variable does to one output: numbers by name (see the kinds), NaN where nothing can be said; `size` is
    the one that says how much it matters, of 1 at most where it is a share."""

    variable: str
    numbers: Mapping[str, float]
    size: float


@dataclass(frozen=True)
class Sensitivity(InNotebooks):
    """Of every output its drivers, in the order of the variables; `notes` are to be told; `run` is where the designs
    are, None where none were needed; `skipped` outputs were left out, being too many; `by` says whether inputs are
    uniform between "bounds" or as they "scatter"."""

    kind: str
    of: Mapping[str, tuple[Driver, ...]]
    units: Mapping[str, str]
    notes: tuple[str, ...]
    run: str | None = None
    evaluations: int = 0
    skipped: int = 0
    by: str = "bounds"

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""

        def plain(value: float) -> float | None:
            return value if math.isfinite(value) else None

        return {
            "kind": self.kind,
            "by": self.by,
            "run": self.run,
            "evaluations": self.evaluations,
            "notes": list(self.notes),
            "of": {
                name: {driver.variable: {k: plain(v) for k, v in driver.numbers.items()} for driver in drivers}
                for name, drivers in self.of.items()
            },
        }

    def negligible(self, share: float) -> list[str]:
        """Return the variables whose size is below a share (of the largest, where sizes are no shares) for every
        output that anything moves; those with an interval only where its upper end is below, too."""
        names = [driver.variable for driver in next(iter(self.of.values()), ())]
        found = []
        for place, name in enumerate(names):
            largest = 0.0
            for drivers in self.of.values():
                most = max((d.size for d in drivers if math.isfinite(d.size)), default=0.0)
                own = drivers[place]
                upper = own.numbers.get("total_high", own.numbers.get("high", own.size))
                size = max(own.size, abs(upper)) if math.isfinite(upper) else own.size
                unit = 1.0 if self.kind in ("variance", "correlation") else most
                if unit > 0.0:
                    largest = max(largest, size / unit) if math.isfinite(size) else math.inf
            if largest < share:
                found.append(name)
        return found


def with_errors(found: Sensitivity, record: ApproximationRecord) -> Sensitivity:
    """Return sensitivities on an approximation with its errors carried into them: a share e² of a value's variance is
    not told by its surface, and may belong to any variable, so that a share between l and h lies between l (1 − e²) and
    h (1 − e²) + e². Of formulas of approximated values e is the largest of all."""
    errors = {name: float(told["error"]) for name, told in record.facts["told"]["of"].items()}
    short = {name.partition(".")[2] or name: error for name, error in errors.items()}
    worst = max(errors.values(), default=0.0)
    of = {
        name: tuple(_widened(driver, min(errors.get(name, short.get(name, worst)) ** 2, 1.0)) for driver in drivers)
        for name, drivers in found.of.items()
    }
    told = f"intervals hold the error of {record.id}, up to {100.0 * worst:.3g} % of a value's deviation"
    return replace(found, of=of, notes=(*found.notes, told if found.kind == "variance" else f"as {record.id} has them"))


def _widened(driver: Driver, unknown: float) -> Driver:
    numbers = dict(driver.numbers)
    for name in ("first", "total"):
        for side, more in (("low", 0.0), ("high", unknown)):
            if f"{name}_{side}" in numbers:
                numbers[f"{name}_{side}"] = min(numbers[f"{name}_{side}"] * (1.0 - unknown) + more, 1.0)
    return replace(driver, numbers=numbers)


def study(
    problem: Problem,
    kind: str,
    *,
    evaluations: int | None = None,
    seed: int = 0,
    of: Sequence[str] = (),
    ledger: Ledger | None = None,
    label: str | None = None,
    workers: int | str | None = None,
    listener: Callable[[Any], None] | None = None,
) -> Sensitivity:
    """Return the sensitivities of a problem by designs that are evaluated for them, recorded as a run: "variance" or
    "elementary-effects". Raises RequestError."""
    if kind not in STUDIES:
        raise RequestError(f'"{kind}" needs no designs of its own')
    _chosen(_quantity_names(problem), of)  # before anything is evaluated
    rng, space = np.random.default_rng(seed), space_of(problem)
    usual = DEFAULT_SHARES_OF_MODELS if problem.sources or problem.simulations else DEFAULT_SHARES
    usual = usual if kind == "variance" else DEFAULT_PATHS * (space.size + 1)
    shares = _design_shares(kind, space.size, evaluations or usual, rng)
    designs = full_designs(problem, space.designs(shares.reshape(-1, space.size)))
    facts = {"seed": seed, "options": {}, "points": len(designs)}
    made = Planned(problem, kind, designs, (), space, None, facts)
    result = sample(made, ledger=ledger, label=label, workers=workers, listener=listener)
    assert ledger is not None
    assert result.id is not None
    ledger.flush()
    return _studied(problem, kind, ledger, result.id, shares, rng, of)


def _design_shares(kind: str, n: int, evaluations: int, rng: np.random.Generator) -> FloatArray:
    """Return where in the box the designs of a study lie: (paths, n + 1, n), or (designs, n) for shares of variance."""
    if kind == "variance":
        return pair_designs(n, evaluations, rng)
    return paths(n, max(2, evaluations // (n + 1)), rng)


def study_on_record(ledger: Ledger, record: RunRecord) -> Sensitivity:
    """Return the sensitivities of a recorded run of `study`, by the designs that it holds. Raises RequestError for any
    other run, and where designs are missing."""
    facts = record.overrides.get("sample", {})
    kind, problem = str(facts.get("plan", "")), problem_of(record)
    if kind not in STUDIES or "points" not in facts:
        raise RequestError(f"{record.id} holds no designs of a sensitivity")
    rng = np.random.default_rng(facts.get("seed", 0))
    shares = _design_shares(kind, space_of(problem).size, int(facts["points"]), rng)
    return _studied(problem, kind, ledger, record.id, shares, rng, ())


def _studied(
    problem: Problem,
    kind: str,
    ledger: Ledger,
    run: str,
    shares: FloatArray,
    rng: np.random.Generator,
    of: Sequence[str],
) -> Sensitivity:
    """Return what the designs at `shares` of the box tell, as a run has evaluated them. Raises RequestError."""
    space = space_of(problem)
    designs = full_designs(problem, space.designs(shares.reshape(-1, space.size)))
    table = designs_of(ledger, [run])
    values, units, skipped = _outputs(table, of)
    at = {bytes(np.array(design.point).tobytes()): k for k, design in enumerate(table.designs)}
    rows = np.array([at.get(point.tobytes(), -1) for point in designs])
    if (rows < 0).any():
        raise RequestError(
            f"{run}: {int((rows < 0).sum())} of {len(rows)} designs are missing",
            advice=f"`ilvren resume {run}` goes on; then the same command again",
        )
    found, failed, still = {}, 0, list[str]()
    for name, column in values.items():
        own = column[rows]
        seen = own[np.isfinite(own)]
        if len(seen) > 1 and not np.ptp(seen) > 1e-12 * np.abs(seen).max():
            still.append(name)
            continue
        failed = max(failed, int((~np.isfinite(own)).sum()))
        found[name] = _effects(space.names, shares, own, rng) if kind == "elementary-effects" else (
            _shares(space.names, own, rng)
        )  # fmt: skip
    notes = [f"{failed:,} of {len(rows):,} designs have no values and are left out"] if failed else []
    if still:
        notes.append(f"nothing moves {', '.join(still[:8])}")
    if kind == "variance":
        notes += _interactions(found)
    return Sensitivity(kind, found, units, tuple(notes), run, len(table.designs), skipped)


def _effects(
    names: Sequence[str], shares: FloatArray, values: FloatArray, rng: np.random.Generator
) -> tuple[Driver, ...]:
    own = elementary_effects(shares, values.reshape(shares.shape[:2]), rng)
    return tuple(
        Driver(
            name,
            {
                "mean": float(own.mean[k]),
                "mean_absolute": float(own.mean_absolute[k]),
                "deviation": float(own.deviation[k]),
                "low": float(own.low[k]),
                "high": float(own.high[k]),
            },
            float(own.mean_absolute[k]),
        )
        for k, name in enumerate(names)
    )


def _shares(names: Sequence[str], values: FloatArray, rng: np.random.Generator) -> tuple[Driver, ...]:
    own = variance_shares(values, len(names), rng)
    return tuple(
        Driver(
            name,
            {
                "first": float(own.first[k]),
                "first_low": float(own.first_low[k]),
                "first_high": float(own.first_high[k]),
                "total": float(own.total[k]),
                "total_low": float(own.total_low[k]),
                "total_high": float(own.total_high[k]),
            },
            float(own.total[k]),
        )
        for k, name in enumerate(names)
    )


def _interactions(found: Mapping[str, tuple[Driver, ...]]) -> list[str]:
    """Return a sentence on every output whose variance interactions bring about in part."""
    notes = []
    for name, drivers in found.items():
        alone = sum(driver.numbers["first"] for driver in drivers)
        wide = sum(driver.numbers["first_high"] - driver.numbers["first_low"] for driver in drivers)
        if math.isfinite(alone) and 1.0 - alone > max(0.05, 0.5 * wide):
            gaps = sorted(drivers, key=lambda d: d.numbers["first"] - d.numbers["total"])[:2]
            both = " and ".join(driver.variable for driver in gaps)
            notes.append(
                f"{name}: {100.0 * (1.0 - alone):.0f} % of the variance comes from interactions, most of {both}"
            )
    return notes


def of_designs(
    ledger: Ledger, references: Sequence[str], *, way: str = "ranks", of: Sequence[str] = (), keep: Sequence[str] = ()
) -> Sensitivity:
    """Return the correlations over the designs of runs. Raises RequestError."""
    if way not in WAYS:
        raise RequestError(f'correlation "{way}" is none of {", ".join(WAYS)}')
    table = designs_of(ledger, references, keep=keep)
    problem = table.problem
    places = list(problem.free)
    names = [problem.variables[place].name for place in places]
    x = np.array([design.point for design in table.designs]).reshape(-1, problem.size)[:, places]
    values, units, skipped = _outputs(table, of)
    if len(table.designs) < 4:
        raise RequestError(
            f"{len(table.designs)} designs tell nothing of correlations", advice="`ilvren sample` makes more"
        )
    found = {}
    for name, column in values.items():
        r, low, high = correlations(x, column, way)
        found[name] = tuple(
            Driver(own, {"value": float(r[k]), "low": float(low[k]), "high": float(high[k])}, abs(float(r[k])))
            for k, own in enumerate(names)
        )
    notes = []
    if any(ledger.run(reference).overrides.get("sample") is None for reference in table.runs):
        notes.append(
            "designs of a search gather where it went: what they correlate with is true of them, not of the box"
        )
    return Sensitivity("correlation", found, units, tuple(notes), ", ".join(table.runs), len(table.designs), skipped)


def elasticities_at(problem: Problem, point: Sequence[float] | FloatArray, *, of: Sequence[str] = ()) -> Sensitivity:
    """Return what a change of a variable does at a design, by exact derivatives: dy/dx (`per_unit`), and (x/y) dy/dx
    (`value`), per cent for per cent. Raises RequestError without derivatives."""
    at = np.array(point, dtype=float)
    names = told_names(problem)
    rows = [block.name for block in problem.row_blocks]
    own = with_limits(problem, [f"{name} <= 1e300" for name in names]).with_starts(at)
    gate = Gate(own)
    found = gate.evaluate(at, derivatives=True)
    if not found.is_finite or not found.has_finite_derivatives:
        raise RequestError("the design has no finite values and derivatives", advice="another design, --at")
    jacobian = found.jacobian
    dense = np.asarray(jacobian if isinstance(jacobian, np.ndarray) else jacobian.toarray()).reshape(-1, own.size)
    values = found.rows
    places = problem.continuous_places.tolist()
    blocks = list(own.row_blocks)
    units = {name: _unit(problem, name) for name in [*names, *rows]}
    wanted: dict[str, int] = {}
    if problem.residuals and problem.objective is not None:  # the sum of a [fit], which no formula can name
        wanted[problem.objective.name] = len(dense)
        assert found.gradient is not None
        dense, values = np.vstack([dense, found.gradient]), np.append(values, found.objective)
    for name, block in [*zip(names, blocks[len(problem.row_blocks) :], strict=True), *zip(rows, blocks, strict=False)]:
        for k in range(block.size):
            wanted.setdefault(name if block.size == 1 else f"{name}[{k}]", block.first + k)
    chosen = _chosen(list(wanted), of)
    drivers = {}
    for name in chosen[:MOST_OUTPUTS]:
        row, value = dense[wanted[name]], float(values[wanted[name]])
        own_drivers = []
        for place in places:
            slope = float(row[place])
            share = slope * at[place] / value if value != 0.0 else math.nan
            own_drivers.append(
                Driver(problem.variables[place].name, {"value": share, "per_unit": slope}, abs(share))
            )  # fmt: skip
        drivers[name] = tuple(own_drivers)
    fixed = [problem.variables[place].name for place in problem.free if place not in set(places)]
    notes = [f"not moved, having members only: {', '.join(fixed[:8])}"] if fixed else []
    told = {name: units.get(name.partition("[")[0], "") for name in drivers}
    return Sensitivity("elasticities", drivers, told, tuple(notes), None, 1, max(len(chosen) - MOST_OUTPUTS, 0))


def _unit(problem: Problem, name: str) -> str:
    for items in (problem.derived, problem.row_blocks, problem.objectives):
        for item in items:
            if item.name == name:
                return str(item.unit)
    return ""


def _quantity_names(problem: Problem) -> list[str]:
    """Return the names that `_outputs` will have, elements of vectors by theirs."""
    shapes = {item.name: problem.graph.shape(item.node) for item in problem.derived}
    shapes |= {name: problem.graph.shape(node) for name, node in problem.outputs}
    shapes |= {block.entry: () for block in problem.row_blocks if block.measure is not None}
    shapes |= {block.name: block.shape for block in problem.row_blocks}
    shapes |= {item.name: () for item in problem.objectives}
    found: list[str] = []
    for name, shape in shapes.items():
        found += [f"{name}[{k}]" for k in range(math.prod(shape))] if shape else [name]
    return found


def _chosen(names: Sequence[str], of: Sequence[str]) -> list[str]:
    """Return the outputs asked for, or all. Raises RequestError."""
    if not of:
        return list(names)
    found = []
    for wanted in of:
        own = [name for name in names if name == wanted or name.partition("[")[0] == wanted]
        if not own:
            close = nearest(wanted, list(names))
            advice = f'did you mean "{close}"?' if close else "known: " + ", ".join(names[:12])
            raise RequestError(f'--of {wanted}: no quantity "{wanted}"', advice=advice)
        found += own
    return list(dict.fromkeys(found))


def _outputs(table: DesignTable, of: Sequence[str]) -> tuple[dict[str, FloatArray], dict[str, str], int]:
    """Return {output: (k,)}, units, and how many outputs are left out as too many: what is to be small first."""
    problem = table.problem
    first = [] if problem.objective is None else [problem.objective.name]
    columns: dict[str, FloatArray] = {}
    for name in [*first, *(name for name in table.values if name not in first)]:
        value = table.values[name]
        if value.ndim == 1:
            columns[name] = value
        else:
            columns |= {f"{name}[{k}]": value[:, k] for k in range(value.shape[1])}
    chosen = _chosen(list(columns), of)
    units = {name: table.units.get(name.partition("[")[0], "") for name in chosen}
    return {name: columns[name] for name in chosen[:MOST_OUTPUTS]}, units, max(len(chosen) - MOST_OUTPUTS, 0)

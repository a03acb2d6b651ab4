"""Approximations of what runs evaluated: which values, over which inputs, and how wrong they are, as one document.

Of problems with models the models' outputs are approximated, over what the models take; formulas of them stay exact. Of
other problems objectives, derived values and limits are, over the variables. A point whose values are missing is left
out, and said.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.approximate import (
    KINDS,
    LEAST_POINTS,
    Approximated,
    approximated,
    fitted_failing,
)
from ilvren.errors import RequestError, nearest
from ilvren.explore.designs import DesignTable, designs_of, node_values
from ilvren.explore.learned_surfaces import Learned, LearnedGroup, LearnedOutput, Tested
from ilvren.explore.model_slopes import model_slopes
from ilvren.explore.sensitivity.shares import pair_designs, variance_shares
from ilvren.models.approximation import LearntInput
from ilvren.problem import Problem, element_name
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.ledger import ApproximationRecord, Ledger
    from ilvren.runs import Truly

__all__ = ["learned", "relearner"]

FloatArray = NDArray[np.float64]

# No more outputs than this, elements of vectors each for itself.
MOST_OUTPUTS = 60
# Designs by which the shares of the inputs are found, on the surface.
SHARE_DESIGNS = 4000
# An input of fewer different values than this was not spread: nothing lies beyond them.
LEAST_SPREAD = 8
# An input that varies by less than this share of its size is held.
NO_RANGE = 1e-12
# On the way nobody is told how wrong each surface is: the choice is made again without so few groups of points.
GROUPS_ON_THE_WAY = 3


def learned(
    ledger: Ledger,
    references: Sequence[str],
    *,
    of: Sequence[str] = (),
    kind: str = "automatic",
    test_points: int = 0,
    seed: int = 0,
    more: Sequence[Truly] = (),
    groups: int | None = None,
    progress: Callable[[str, float], None] | None = None,
) -> Learned:
    """Return approximations of what runs evaluated. `of` names outputs, derived values, objectives and limits; without
    any, those that a search needs. `test_points` designs drawn at random are kept for a test; `more` are designs that
    are on no record yet; `groups` as in `approximated`. `progress` is told the
    output and the share done. Raises RequestError."""
    if kind not in KINDS:
        close = nearest(kind, KINDS)
        advice = f'did you mean "{close}"?' if close else ", ".join(KINDS)
        raise RequestError(f'--kind: no kind "{kind}"', advice=advice)
    table = designs_of(ledger, references)
    _refuse(ledger, table, test_points)
    problem, notes = table.problem, list[str]()
    wanted = _wanted(table, of, notes)
    generator = np.random.default_rng([seed, 99])
    chosen = set(generator.permutation(len(table.designs))[:test_points].tolist())
    is_test = np.array([place in chosen for place in range(len(table.designs))])
    made = []
    for model, names in wanted.items():
        points = _Points.joined(
            [_points(ledger, table, own, names, more) for own in (_sources(problem, model) if model else [""])]
        )
        made.append(_group(table, model, points, is_test, len(more), (kind, seed, groups), notes, progress))
    facts = {"kind": kind, "seed": seed, "of": list(of), "test_points": test_points}
    return Learned(problem, table.runs, tuple(made), tuple(notes), _deviations(table), facts)


def _deviations(table: DesignTable) -> dict[str, float]:
    """Return {name: standard deviation} of every value that is one number, where it varies."""
    found = {}
    for name, values in table.values.items():
        own = values[np.isfinite(values)] if values.ndim == 1 else np.zeros(0)
        if len(own) > 1 and own.std() > 0.0:
            found[name] = float(own.std())
    return found


def _refuse(ledger: Ledger, table: DesignTable, test_points: int) -> None:
    """Raise RequestError for designs that no approximation can be made of."""
    for run in table.runs:
        if ledger.run(run).overrides.get("aim", {}).get("on"):
            raise RequestError(
                f"the values of {run} are predicted: an approximation of them would learn nothing new",
                advice="approximate the runs that its approximation was made of",
            )
    if table.is_mixed:
        raise RequestError(
            f"{', '.join(table.runs)} had different parameters: their values belong to different problems",
            advice="approximate the runs of one problem",
        )
    if test_points < 0 or len(table.designs) - test_points < LEAST_POINTS:
        kept = f", {test_points} of them kept for a test" if test_points else ""
        raise RequestError(
            f"{len(table.designs)} designs{kept}: at least {LEAST_POINTS} are needed to fit anything",
            advice=f"`ilvren sample {table.runs[0]} --more N` adds some",
        )


def _wanted(table: DesignTable, of: Sequence[str], notes: list[str]) -> dict[str, list[str]]:
    """Return {model, "" for formulas: names} of what is to be approximated, elements of vectors by their names."""
    problem = table.problem
    full = {name: _apart(name) for name, _ in problem.outputs}
    short = {output: name for name, (_, output) in full.items()}
    formulas = _formula_names(table)
    if of:
        found: dict[str, list[str]] = {}
        for name in of:
            name = name if name in full or name in formulas else short.get(name, name)
            if name in full:
                model, output = full[name]
            elif name in formulas:
                model, output = "", name
            else:
                known = [*full, *formulas]
                close = nearest(name, known)
                advice = f'did you mean "{close}"?' if close else "known: " + ", ".join(known[:12])
                raise RequestError(f'--of {name}: no output, derived value, objective or limit "{name}"', advice=advice)
            found.setdefault(model, [])
            if output not in found[model]:
                found[model].append(output)
    elif full:
        found = {}
        for model, output in dict.fromkeys(full.values()):
            found.setdefault(model, []).append(output)
    else:
        found = {"": [name for name in formulas if name not in {item.name for item in problem.derived}]}
    for model, names in found.items():
        elements = []
        for name in names:
            whole = f"{_sources(problem, model)[0]}.{name}" if model else name
            elements += [name] if table.values[whole].ndim == 1 else _elements(table, whole, name)
        if len(elements) > MOST_OUTPUTS:
            notes.append(f"of {len(elements)} outputs the first {MOST_OUTPUTS} are approximated; --of NAME chooses")
        found[model] = elements[:MOST_OUTPUTS]
    return found


def _apart(name: str) -> tuple[str, str]:
    """Return the model and the output of a full name; of a model that is there for each case, the one of all cases."""
    model, _, output = name.partition(".")
    return model.partition("@")[0], output


def _sources(problem: Problem, model: str) -> list[str]:
    """Return the names that a model has in the cases of a problem, its own where there are none."""
    return [source.name for source in problem.sources if source.name.partition("@")[0] == model]


def _elements(table: DesignTable, full: str, name: str) -> list[str]:
    node = dict(table.problem.outputs).get(full)
    if node is None:
        node = next(item.node for item in table.problem.derived if item.name == full)
    shape = table.problem.graph.shape(node)
    return [element_name(name, shape, place) for place in range(math.prod(shape))]


def _formula_names(table: DesignTable) -> list[str]:
    """Return the objectives, the derived values that variables move, and the limits that are one number."""
    problem = table.problem
    names = [item.name for item in problem.objectives]
    names += [item.name for item in problem.derived if problem.graph.variables_of([item.node])]
    names = [name for name in names if "@" not in name]
    return names + [block.name for block in problem.row_blocks if not block.shape and block.name == block.entry]


def _inputs(ledger: Ledger, table: DesignTable, model: str) -> tuple[dict[str, FloatArray], dict[str, str]]:
    """Return {element: values (k,)} of what a model takes, or of the free variables, and their units."""
    problem = table.problem
    units = {variable.name: variable.unit for variable in problem.variables if variable.unit}
    if not model:
        points = np.array([design.point for design in table.designs])
        return _by_word(problem, {problem.variables[place].name: points[:, place] for place in problem.free}), units
    number = next(k for k, source in enumerate(problem.sources) if source.name == model)
    call = next(node for node in problem.graph.nodes if node.operation == "call" and node.index == number)
    named = [
        (name, shape, node) for (name, shape), node in zip(problem.sources[number].inputs, call.operands, strict=True)
    ]
    columns = node_values(ledger, table, [node for _, _, node in named])
    found: dict[str, FloatArray] = {}
    for (name, shape, _), values in zip(named, columns, strict=True):
        flat = values.reshape(len(values), -1)
        for place in range(flat.shape[1]):
            found[element_name(name, shape, place)] = flat[:, place]
    return _by_word(problem, found), units


def _by_word(problem: Problem, columns: Mapping[str, Any]) -> dict[str, Any]:
    """Return columns with a choice's numbers, which have no order, as one column for each of its words: 1 where it is
    that word."""
    choices = {block.name: block for block in problem.blocks if block.words}
    found: dict[str, Any] = {}
    for name, values in columns.items():
        block = choices.get(name.partition("[")[0])
        if block is None:
            found[name] = values
            continue
        for member in block.catalogue or ():
            found[f"{name}={block.words[round(member) - 1]}"] = (np.asarray(values) == member) * 1.0
    return found


@dataclass(frozen=True)
class _Points:
    """What a model took and gave at designs, in each case one after the other: {element: (k,)}; `slopes` {output's
    element: its derivatives (k, inputs), rows of NaN where they are not on record}; `units` of inputs; `cases` is how
    often each design is there."""

    inputs: Mapping[str, FloatArray]
    outputs: Mapping[str, FloatArray]
    units: Mapping[str, str]
    slopes: Mapping[str, FloatArray] = field(default_factory=dict)
    cases: int = 1

    @classmethod
    def joined(cls, parts: Sequence[_Points]) -> _Points:
        """Return the points of all cases."""

        def whole(which: str) -> dict[str, FloatArray]:
            return {
                name: np.concatenate([getattr(part, which)[name] for part in parts])
                for name in getattr(parts[0], which)
            }

        slopes = whole("slopes") if all(part.slopes for part in parts) else {}
        return cls(whole("inputs"), whole("outputs"), parts[0].units, slopes, len(parts))


def _points(ledger: Ledger, table: DesignTable, source: str, names: Sequence[str], more: Sequence[Truly]) -> _Points:
    """Return the points of one source, or of formulas (""), those of designs on no record last."""
    inputs, units = _inputs(ledger, table, source)
    own = [{name: _value(item, source, name) for name in names} for item in more]
    slopes = model_slopes(ledger, table, source, inputs) if source else {}
    unknown = np.full((len(more), len(inputs)), np.nan)
    return _Points(
        _with_more(inputs, [_taken(table.problem, item, source) for item in more]),
        _with_more({name: _column(table, source, name) for name in names}, own),
        units,
        {name: np.vstack([slopes[name], unknown]) for name in names if name in slopes},
    )


def _group(
    table: DesignTable,
    model: str,
    points: _Points,
    is_test: NDArray[np.bool_],
    added: int,
    how: tuple[str, int, int | None],
    notes: list[str],
    progress: Callable[[str, float], None] | None,
) -> LearnedGroup:
    columns, units, values = points.inputs, points.units, points.outputs
    told = f'model "{model}"' if model else "the problem"
    matrix = np.array(list(columns.values())).T
    is_test = np.tile(np.concatenate([is_test, np.zeros(added, dtype=bool)]), points.cases)
    valid = np.isfinite(matrix).all(axis=1)
    for column in values.values():
        valid &= np.isfinite(column)
    if not valid.any():
        raise RequestError(f"no design has values of {told}", advice="`ilvren designs` shows what became of them")
    failed = int((~valid).sum())
    if failed:
        notes.append(
            f"{failed} of {len(valid)} designs gave no values of {told}: where is learnt as a chance of failure"
        )
    # Designs that are the same to the model are one point.
    _, first = np.unique(matrix, axis=0, return_index=True)
    is_first = np.isin(np.arange(len(matrix)), first)
    use, test = valid & is_first & ~is_test, valid & is_test
    if use.sum() < LEAST_POINTS:
        raise RequestError(f"{int(use.sum())} points of {told} are too few: at least {LEAST_POINTS} are needed")
    varying = [name for name, column in columns.items() if _varies(column[use])]
    held = tuple(
        LearntInput(name, float(column[use][0]), float(column[use][0]), units.get(name, ""))
        for name, column in columns.items()
        if name not in varying
    )
    if is_test.any() and test.sum() < is_test.sum():
        notes.append(f"of {int(is_test.sum())} designs kept for the test {int(test.sum())} gave values of {told}")
    if not varying:
        raise RequestError(f"nothing that {told} takes varies over these designs")
    bounds = {v.name: (v.lower, v.upper) for v in table.problem.variables}
    learnt = tuple(_region(name, columns[name][use], bounds.get(name), units.get(name, "")) for name in varying)
    x = matrix[:, [list(columns).index(name) for name in varying]]
    named = [*(design.address for design in table.designs), *(f"new {k}" for k in range(1, added + 1))] * points.cases
    addresses = tuple(address for address, own in zip(named, use, strict=True) if own)
    outputs = []
    places = [list(columns).index(name) for name in varying]
    steep = {name: own[use][:, places] for name, own in points.slopes.items()}
    if steep:
        known_slopes = int(np.isfinite(next(iter(steep.values()))).all(axis=1).sum())
        if known_slopes:
            notes.append(f"derivatives of {told} are on record at {known_slopes} of {int(use.sum())} points, and used")
    for name, column in values.items():
        full = f"{model}.{name}" if model else name
        said = None if progress is None else (lambda share, full=full: progress(full, share))
        made = approximated(
            x[use], column[use], how[0], slopes=steep.get(name), seed=how[1], groups=how[2], progress=said
        )
        output = LearnedOutput(
            name,
            _unit(table, model, name),
            made,
            x[use],
            column[use],
            addresses,
            _matters(made, learnt),
            _tested(made, x[test], column[test], float(column[use].std())) if test.any() else None,
            _limits(table, name) if not model else None,
        )
        outputs.append(output)
    known = np.isfinite(x).all(axis=1) & is_first & ~is_test
    failing = None
    if (~valid & known).any():
        surface = outputs[0].approximated.surface
        failing = fitted_failing(x[known], ~valid[known], surface.centre, surface.half)
    return LearnedGroup(model, learnt, held, tuple(outputs), failed, failing)


def _with_more(columns: Mapping[str, FloatArray], rows: Sequence[Mapping[str, float]]) -> dict[str, FloatArray]:
    return {name: np.append(column, [row[name] for row in rows]) for name, column in columns.items()}


def _taken(problem: Problem, item: Truly, model: str) -> Mapping[str, float]:
    """Return what a model took, or the values of the free variables, at a design on no record yet."""
    if model:
        return _by_word(problem, item.taken[model])
    return _by_word(problem, {problem.variables[place].name: float(item.point[place]) for place in problem.free})


def _value(item: Truly, model: str, name: str) -> float:
    full = f"{model}.{name}" if model else name
    if full in item.values:
        return float(item.values[full])
    base, _, places = full.partition("[")
    found = np.asarray(item.values[base], dtype=float)
    return float(found[tuple(int(place) for place in places[:-1].split(","))])


def relearner(ledger: Ledger, record: ApproximationRecord) -> Callable[[Sequence[Truly]], str]:
    """Return what learns an approximation again, as it was learnt, with designs that were evaluated since."""

    def learn_again(more: Sequence[Truly]) -> str:
        facts = record.facts
        of, seed = facts.get("of", ()), facts.get("seed", 0)
        found = learned(ledger, record.runs, of=of, kind=facts["kind"], seed=seed, more=more, groups=GROUPS_ON_THE_WAY)
        return found.document(record.id)

    return learn_again


def _varies(values: FloatArray) -> bool:
    return bool(np.ptp(values) > NO_RANGE * max(float(np.abs(values).max()), 1e-300))


def _column(table: DesignTable, model: str, name: str) -> FloatArray:
    """Return the values (k,) of an output, by its full or its element's name."""
    full = f"{model}.{name}" if model else name
    if full in table.values and table.values[full].ndim == 1:
        return table.values[full]
    base = full.partition("[")[0]
    elements = _elements(table, base, base)
    return np.asarray(table.values[base].reshape(len(table.designs), -1)[:, elements.index(full)])


def _unit(table: DesignTable, model: str, name: str) -> str:
    base = name.partition("[")[0]
    full = f"{_sources(table.problem, model)[0]}.{base}" if model else base
    return table.problem.quantity_units.get(full, "") or table.units.get(full, "")


def _limits(table: DesignTable, name: str) -> tuple[float, float] | None:
    for block in table.problem.row_blocks:
        if block.name == name:
            return float(block.lower[0]), float(block.upper[0])
    return None


def _region(name: str, values: FloatArray, bounds: tuple[float, float] | None, unit: str) -> LearntInput:
    """Return between what values an input was learnt: as far as the points go and their mean distance beyond, within
    its bounds."""
    low, high = float(values.min()), float(values.max())
    different = len(np.unique(values))
    beyond = (high - low) / (different - 1) if different >= LEAST_SPREAD else 0.0  # two settings say nothing of others
    lower, upper = bounds or (-math.inf, math.inf)
    lower, upper = min(lower, low), max(upper, high)  # points may lie outside bounds that were changed
    return LearntInput(name, max(low - beyond, lower), min(high + beyond, upper), unit)


def _matters(made: Approximated, inputs: Sequence[LearntInput]) -> dict[str, float]:
    """Return the share of each input in the variance over the region, with all interactions, on the surface."""
    low = np.array([item.lower for item in inputs])
    high = np.array([item.upper for item in inputs])
    shares = pair_designs(len(inputs), SHARE_DESIGNS, np.random.default_rng(5))
    values = made.surface.at(low + (high - low) * shares)
    if not np.ptp(values) > 0.0:
        return {item.name: 0.0 for item in inputs}
    found = variance_shares(values, len(inputs), np.random.default_rng(6))
    return {item.name: float(min(max(own, 0.0), 1.0)) for item, own in zip(inputs, found.total, strict=True)}


def _tested(made: Approximated, x: FloatArray, y: FloatArray, deviation: float) -> Tested:
    """Return how it fares at points never fitted; errors over the deviation of the values that were."""
    predicted = made.surface.at(x)
    errors = predicted - y
    size = float(np.sqrt(np.mean(errors**2)))
    share = size / deviation if deviation > 0.0 else (0.0 if size == 0.0 else math.inf)
    within = np.abs(errors) <= made.half_width(x)
    return Tested(predicted, y, share, 1.0 - share**2, float(np.abs(errors).max()), float(within.mean()))

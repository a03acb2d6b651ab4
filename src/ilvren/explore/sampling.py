"""Samples: the designs of a plan, or of one's own, evaluated and recorded as a run."""

from __future__ import annotations

import csv
import io
import itertools
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.evaluate import Gate
from ilvren.models import is_differenced
from ilvren.plans import Plan, PlanError, Quality, Sampled, Space, farthest, plan_named, plan_options, quality
from ilvren.printable import unmarked_cell
from ilvren.problem import Problem, allowed_values_of, element_name
from ilvren.records import dataclass
from ilvren.regular import regular_text
from ilvren.runs import DEFAULT_EVALUATIONS, RunResult, Settings, addressed, begun_at, problem_of, resume, run

if TYPE_CHECKING:
    from ilvren.ledger import Ledger

__all__ = [
    "Planned",
    "full_designs",
    "grown",
    "more",
    "planned",
    "planned_again",
    "planned_from",
    "read_designs",
    "sample",
    "space_of",
]

FloatArray = NDArray[np.float64]

# A variable of more members than this is sampled between them, and put on the nearest.
MOST_LISTED = 10_000
# Candidates for designs within cheap limits: so many for each design, at least and at most.
CANDIDATES_EACH, LEAST_CANDIDATES, MOST_CANDIDATES = 60, 4000, 60_000


@dataclass(frozen=True)
class Planned:
    """A plan that has been made: full `designs` (k, n), what made them, what is to be said, the `space` they lie in,
    and all designs of the free variables that there are with them (None where there is no box to be covered)."""

    problem: Problem
    name: str
    designs: FloatArray
    notes: tuple[str, ...]
    space: Space
    covering: FloatArray | None
    facts: Mapping[str, Any]

    @cached_property
    def quality(self) -> Quality | None:
        """Return how well the designs cover the box, None where that says nothing."""
        return None if self.covering is None else quality(self.space, self.covering)

    def record(self) -> dict[str, Any]:
        """Return what is recorded of it."""
        return {**self.facts, "plan": self.name, "designs": self.designs.tolist(), "parts": []}


def space_of(problem: Problem) -> Space:
    """Return what a plan samples of a problem: its free variables between their bounds. Raises RequestError."""
    places = list(problem.free)
    if not places:
        raise RequestError("no variable is free: there is nothing to sample")
    listed: FloatArray | None
    grids = {place: allowed_values_of(variable) for place, variable in problem.grid}
    names: list[str] = []
    members: list[FloatArray | None] = []
    lower, upper = problem.joined("lower")[places].copy(), problem.joined("upper")[places].copy()
    for k, place in enumerate(places):
        variable = problem.variables[place]
        names.append(variable.name)
        own = grids.get(place)
        listed = None
        if own is not None and own.count <= MOST_LISTED:
            listed = own.all()
            lower[k], upper[k] = listed[0], listed[-1]
        members.append(listed)
        for side, value in (("lower", lower[k]), ("upper", upper[k])):
            if not math.isfinite(value):
                raise RequestError(
                    f'"{variable.name}" has no {side} bound: a plan needs to know how far to go',
                    advice=f"{side} = … in the file; or designs of your own, --csv FILE",
                )
    unordered = frozenset(block.name for block in problem.blocks if block.words)
    return Space(tuple(names), lower, upper, tuple(members), np.array(problem.start)[places], unordered)


def planned(
    problem: Problem,
    plan: str,
    points: int | None,
    *,
    seed: int = 0,
    options: Mapping[str, str] | None = None,
    is_feasible: bool = False,
) -> Planned:
    """Return a plan for a problem. `is_feasible` keeps to the limits that need no model. Raises RequestError."""
    space = space_of(problem)
    if points is not None and points < 1:
        raise RequestError(f"--points must be at least 1, not {points}")
    try:
        chosen = plan_named(plan)
        own = plan_options(chosen, options or {})
        rng = np.random.default_rng(seed)
        found = chosen.make(space, points, rng, own)
        notes = list(found.notes)
        if is_feasible:
            found, told = _feasible(problem, space, chosen, found, rng)
            notes += told
    except PlanError as error:
        raise RequestError(str(error), advice=error.advice) from None
    facts = {"seed": seed, "options": dict(options or {}), "points": points, "feasible": is_feasible}
    designs = full_designs(problem, found.designs)
    return Planned(problem, plan, designs, tuple(notes), space, found.designs, facts)


def full_designs(problem: Problem, designs: FloatArray) -> FloatArray:
    """Return full designs (k, n) of those of the free variables; members that were sampled between on the nearest."""
    found = np.repeat(np.array(problem.start)[None], len(designs), axis=0)
    found[:, list(problem.free)] = designs
    for place, variable in problem.grid:
        if place in set(problem.free):
            found[:, place] = allowed_values_of(variable).nearest(found[:, place])
    return found


def _cheap(problem: Problem) -> Problem | None:
    """Return the problem with the limits alone that formulas tell without a model or a simulation; None without any."""
    graph = problem.graph
    outputs = {node for _, node in problem.outputs}
    kept, first = [], 0
    for block in problem.row_blocks:
        reached = graph.reachable([block.node])
        if outputs & set(reached) or any(graph.nodes[number].operation == "call" for number in reached):
            continue
        kept.append(replace(block, first=first))
        first += block.size
    if not kept:
        return None
    return replace(problem, row_blocks=tuple(kept), objective=None, derived=(), residuals=())


def _within(problem: Problem, cheap: Problem, designs: FloatArray) -> NDArray[np.bool_]:
    """Return which designs of the free variables (k, n) meet the cheap limits."""
    from ilvren.evaluate import measured

    gate = Gate(cheap)
    measures = measured(cheap, gate)
    full = full_designs(problem, designs)
    rows = gate.written.batch(full).rows
    return np.array([measures.violation(point, own) <= 1e-9 for point, own in zip(full, rows, strict=True)])


def _feasible(
    problem: Problem,
    space: Space,
    plan: Plan,
    found: Sampled,
    rng: np.random.Generator,
    existing: FloatArray | None = None,
) -> tuple[Sampled, list[str]]:
    """Return the plan within the cheap limits: spread anew among feasible designs where the plan is a random one, far
    from those that are there (k, n), else without those that miss a limit."""
    cheap = _cheap(problem)
    if cheap is None:
        return found, ["--feasible: every limit needs a model: none could be kept to"]
    left_out = len(problem.row_blocks) - len(cheap.row_blocks)
    notes = [f"{left_out} limits need a model and were not kept to"] if left_out else []
    wanted = len(found.designs)
    if not plan.is_random or plan.name == "d-optimal":
        kept = _within(problem, cheap, found.designs)
        if not kept.any():
            raise PlanError("no design of this plan meets the limits", "latin-hypercube --feasible looks for some")
        if not kept.all():
            notes.append(f"{int((~kept).sum())} of {wanted} designs miss a limit and are left out")
        return replace(found, designs=found.designs[kept]), notes
    count = int(min(max(CANDIDATES_EACH * wanted, LEAST_CANDIDATES), MOST_CANDIDATES))
    candidates = np.vstack([found.designs, space.designs(rng.random((count, space.size)))])
    kept = _within(problem, cheap, candidates)
    share = float(kept[wanted:].mean())
    if not kept.any():
        raise PlanError(
            f"none of {count:,} random designs meets the limits", "`ilvren run` finds one, `--start` begins at it"
        )
    inside = candidates[kept]
    notes.append(f"{share:.2g} of the box meets the limits that need no model")
    if len(inside) < wanted:
        notes.append(f"only {len(inside)} designs were found that do")
    if plan.name in ("sobol", "random"):
        return replace(found, designs=inside[:wanted]), notes
    there = np.zeros((0, space.size)) if existing is None else space.shares(existing)
    chosen = farthest(space.shares(inside), there, wanted)
    return replace(found, designs=inside[chosen]), notes


def read_designs(problem: Problem, path: str, *, is_measured: bool = False) -> Planned:
    """Return the designs of a CSV file, whose columns are matched by the names of variables; with `is_measured` those
    of models' outputs hold what they gave, which is taken as it is. Raises RequestError."""
    try:
        text = regular_text(path, "utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is no text in UTF-8"
        raise RequestError(f"{path}: cannot be read: {reason}") from None
    lines = [[unmarked_cell(cell) for cell in line] for line in csv.reader(io.StringIO(text))]
    if not lines or len(lines) < 2:
        raise RequestError(f"{path}: no designs: a first line of names and a line for each design are expected")
    names = [name.strip() for name in lines[0]]
    variables = {variable.name: place for place, variable in enumerate(problem.variables)}
    # As files of histories and of designs have them, where another column has the name of a variable.
    marked = {name.removeprefix("variable:") for name in names if name.startswith("variable:")}
    own = ["" if name in marked else name.removeprefix("variable:") for name in names]
    columns = {name: k for k, name in enumerate(own) if name in variables}
    if not columns:
        close = next((found for name in names if (found := nearest(name, list(variables)))), None)
        advice = f'did you mean "{close}"?' if close else "variables: " + ", ".join(list(variables)[:12])
        raise RequestError(f"{path}:1: no column has the name of a variable", advice=advice)
    repeated = [name for name in columns if own.count(name) > 1]
    if repeated:
        raise RequestError(f'{path}:1: "{repeated[0]}" stands there twice')
    rows = []
    for number, line in enumerate(lines[1:], start=2):
        if not any(cell.strip() for cell in line):
            continue
        if len(line) != len(names):
            raise RequestError(f"{path}:{number}: {len(line)} values, where the first line has {len(names)} names")
        design = np.array(problem.start, dtype=float)
        for name, k in columns.items():
            design[variables[name]] = _cell(problem, path, number, name, line[k])
        rows.append(design)
    if not rows:
        raise RequestError(f"{path}: no designs")
    notes = []
    facts: dict[str, Any] = {"file": path}
    taken: dict[str, int] = _measured_columns(problem, names, path) if is_measured else {}
    used = {*columns.values(), *taken.values()}
    others = [name for k, name in enumerate(names) if name and k not in used]
    if others:
        notes.append(f"columns left out, no variables having their names: {', '.join(others[:8])}")
    free = {problem.variables[place].name for place in problem.free}
    held = sorted(free - set(columns))
    if held:
        notes.append(f"not in the file, and held at the start: {', '.join(held[:8])}")
    designs = np.array(rows)
    if is_measured:
        filled = [(n, line) for n, line in enumerate(lines[1:], start=2) if any(cell.strip() for cell in line)]
        values = {name: [_reading(path, n, line[k]) for n, line in filled] for name, k in taken.items()}
        designs, values, repeated_count = _averaged(designs, values)
        facts["measured"] = {"designs": designs.tolist(), "values": values}
        if repeated_count:
            notes.append(f"{repeated_count} lines have designs that others have, too: their values are averaged")
    return _given(problem, "own-designs", designs, notes, facts)


def _measured_columns(problem: Problem, names: Sequence[str], path: str) -> dict[str, int]:
    """Return {full name of an output's element: column}. Raises RequestError where no column is one."""
    full: dict[str, str] = {}
    for name, node in problem.outputs:
        shape = problem.graph.shape(node)
        for place in range(math.prod(shape)):
            element = element_name(name, shape, place)
            full[element] = element
            full.setdefault(element.partition(".")[2], element)
    found = {full[name]: k for k, name in enumerate(names) if name in full}
    if not found:
        outputs = ", ".join(list(dict.fromkeys(full.values()))[:12])
        raise RequestError(
            f"{path}:1: --measured: no column has the name of a model's output",
            advice=f"outputs: {outputs}" if outputs else "the problem has no models; what is a formula is not measured",
        )
    return found


def _reading(path: str, number: int, text: str) -> float | None:
    """Return what was measured, None for an empty cell."""
    if not text.strip():
        return None
    try:
        value = float(text)
    except ValueError:
        told = f'{path}:{number}: "{text.strip()}" is no number'
        raise RequestError(told, advice="an empty cell is a value that is missing") from None
    return value if math.isfinite(value) else None


def _averaged(
    designs: FloatArray, values: Mapping[str, Sequence[float | None]]
) -> tuple[FloatArray, dict[str, list[float | None]], int]:
    """Return the designs, each once, in their order, with the means of what was measured at each, and how many lines
    were others' again."""
    kept, inverse = np.unique(designs, axis=0, return_inverse=True)
    inverse = np.asarray(inverse).ravel()
    first = np.array([int(np.flatnonzero(inverse == group)[0]) for group in range(len(kept))])
    order = np.argsort(first)
    found: dict[str, list[float | None]] = {}
    for name, column in values.items():
        own = np.array([math.nan if value is None else value for value in column])
        means = []
        for group in order:
            there = own[(inverse == group) & np.isfinite(own)]
            means.append(float(there.mean()) if len(there) else None)
        found[name] = means
    return kept[order], found, len(designs) - len(kept)


def _cell(problem: Problem, path: str, number: int, name: str, text: str) -> float:
    block = next(block for block in problem.blocks if block.name == name.partition("[")[0])
    try:
        value = float(text)
    except ValueError:
        if text.strip() in block.words:
            return float(block.words.index(text.strip()) + 1)
        wanted = f"none of {', '.join(block.words)}" if block.words else "no number"
        raise RequestError(f'{path}:{number}: {name}: "{text.strip()}" is {wanted}') from None
    variable = next(variable for variable in problem.variables if variable.name == name)
    slack = 1e-9 * max(abs(value), 1.0)
    if not variable.lower - slack <= value <= variable.upper + slack:
        raise RequestError(
            f"{path}:{number}: {name} = {value:g} lies outside its bounds {variable.lower:g} .. {variable.upper:g}"
        )
    if variable.catalogue is not None or variable.spacing is not None:
        member = float(allowed_values_of(variable).nearest(np.array([value]))[0])
        if abs(member - value) > 1e-9 * max(abs(value), 1.0):
            raise RequestError(f"{path}:{number}: {name} = {value:g} is no member; the nearest is {member:g}")
        return member
    return min(max(value, variable.lower), variable.upper)


def planned_from(problem: Problem, ledger: Ledger, references: Sequence[str], between: int = 0) -> Planned:
    """Return designs of runs on record ("r9:17") as a sample of a problem, variables matched by name; with `between` so
    many more on the straight way from each to the next one, members of spaced and catalogue variables being the nearest
    ones. Raises RequestError."""
    designs, notes = [], list[str]()
    places = {variable.name: place for place, variable in enumerate(problem.variables)}
    for reference in references:
        found = addressed(ledger, reference)
        own = problem_of(found.record)
        design = np.array(problem.start, dtype=float)
        matched = [(places[v.name], found.point[k]) for k, v in enumerate(own.variables) if v.name in places]
        if not matched:
            raise RequestError(f"{reference}: none of its variables is one of this problem")
        for place, value in matched:
            design[place] = value
        missing = [name for name in places if name not in {v.name for v in own.variables}]
        if missing:
            notes.append(f"not in {reference}, and held at the start: {', '.join(missing[:8])}")
        designs.append(design)
    if between:
        shares = np.arange(between + 1) / (between + 1)
        ways = [one + share * (other - one) for one, other in itertools.pairwise(designs) for share in shares]
        designs = [np.array(problem.with_starts(point).start) for point in (*ways, designs[-1])]
    facts = {"of": list(references), **({"between": between} if between else {})}
    return _given(problem, "own-designs", np.array(designs), notes, facts)


def _given(problem: Problem, name: str, designs: FloatArray, notes: Sequence[str], facts: Mapping[str, Any]) -> Planned:
    try:
        space = space_of(problem)
        own = designs[:, list(problem.free)]
    except RequestError:  # no box to be covered
        free = list(problem.free)
        lower, upper = designs[:, free].min(axis=0), designs[:, free].max(axis=0)
        names = tuple(problem.variables[place].name for place in free)
        space = Space(names, lower, upper, (None,) * len(free), np.array(problem.start)[free])
        own = None
    return Planned(problem, name, designs, tuple(dict.fromkeys(notes)), space, own, facts)


def planned_again(problem: Problem, facts: Mapping[str, Any]) -> Planned:
    """Return the plan of a sample on record, by what `Planned.record` kept of it."""
    return _given(problem, str(facts["plan"]), np.array(facts["designs"], dtype=float), (), facts)


def grown(ledger: Ledger, reference: str, points: int) -> tuple[dict[str, Any], Planned]:
    """Return the record of a sample with `points` more designs, and these. Raises RequestError where the plan does not
    grow."""
    record = ledger.run(reference)
    known = record.overrides.get("sample")
    if known is None:
        raise RequestError(f"{record.id} is no sample", advice="`ilvren sample FILE` makes one")
    if points < 1:
        raise RequestError(f"--more must be at least 1, not {points}")
    problem = problem_of(record)
    name = str(known["plan"])
    existing = np.array(known["designs"], dtype=float)
    growing = "latin-hypercube" if name in ("own-designs", "infill") else name
    chosen = plan_named(growing)
    if chosen.make_more is None:
        raise RequestError(
            f"{record.id} is a {name}: more designs would be another plan",
            advice=f"`ilvren sample {record.problem_file}` with a plan of more points",
        )
    space = space_of(problem)
    try:
        own = plan_options(chosen, known.get("options", {}))
        rng = np.random.default_rng(known.get("seed", 0))
        if chosen.name not in ("sobol", "random") or (chosen.name == "random" and known.get("feasible")):
            rng = np.random.default_rng([known.get("seed", 0), len(existing)])
        free = existing[:, list(problem.free)]
        found = chosen.make_more(space, free, points, rng, own)
        notes = list(found.notes)
        if known.get("feasible"):
            anew = np.random.default_rng([known.get("seed", 0), len(existing), 1])  # none of those drawn before
            found, told = _feasible(problem, space, chosen, found, anew, free)
            notes += told
    except PlanError as error:
        raise RequestError(str(error), advice=error.advice) from None
    more = full_designs(problem, found.designs)
    designs = np.vstack([existing, more])
    parts = [*known.get("parts", []), len(existing) - sum(known.get("parts", []))]
    whole = {**known, "designs": designs.tolist(), "parts": parts}
    free_all = designs[:, list(problem.free)]
    return whole, Planned(problem, name, more, tuple(notes), space, free_all, known)


def sample(
    made: Planned,
    *,
    ledger: Ledger | None = None,
    label: str | None = None,
    workers: int | str | None = None,
    is_fresh: bool = False,
    with_slopes: bool = False,
    listener: Callable[[Any], None] | None = None,
) -> RunResult:
    """Evaluate the designs of a plan and return the run that they are; `with_slopes` asks models for their own first
    derivatives, too. Raises RequestError, MachineError."""
    if with_slopes:
        _check_slopes(made.problem)
    count = len(made.designs)
    settings = Settings(
        method=made.name,
        label=label,
        scaling=False,
        second_look=0.0,
        evaluations=max(DEFAULT_EVALUATIONS, count + 1),
        fresh=is_fresh,
        seed=int(made.facts.get("seed", 0)),
    )
    begun = begun_at(made.problem, made.designs[0])
    kept = {**made.record(), **({"slopes": True} if with_slopes else {})}
    return run(begun, settings, ledger=ledger, listener=listener, workers=workers, sample=kept)


def _check_slopes(problem: Problem) -> None:
    """Raise RequestError where no model has derivatives that a sample could ask for."""
    if not problem.sources:
        raise RequestError("--slopes is for models: derivatives of formulas are exact and cost nothing")
    for source in problem.sources:
        if is_differenced(source.derivatives):
            raise RequestError(
                f'--slopes: derivatives of model "{source.name}" are made of many calls ({source.derivatives})',
                advice="more designs tell more for as many calls: leave --slopes out",
            )


def more(
    ledger: Ledger, reference: str, whole: Mapping[str, Any], *, workers: int | str | None = None,
    listener: Callable[[Any], None] | None = None,
) -> RunResult:  # fmt: skip
    """Evaluate the designs that a sample has gained (see `grown`)."""
    return resume(reference, ledger, sample=whole, workers=workers, listener=listener)

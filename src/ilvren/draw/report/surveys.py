"""Reports on samples and approximations: what was asked, what came of it, what matters, how far to believe it.

Sections of sentences, tables and pictures, which the page and the text version both write.
"""

from __future__ import annotations

import datetime
import math
import shlex
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import field
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.draw.designs import draw_effects, draw_parallel, effects_of
from ilvren.draw.plan import draw_plan
from ilvren.draw.report.numbers import number
from ilvren.draw.report.picture import Picture, pictured
from ilvren.draw.report.section import Section, sentence
from ilvren.errors import RequestError
from ilvren.explore import DesignTable, designs_of, planned_again
from ilvren.problem import Problem, on_document
from ilvren.records import dataclass
from ilvren.runs import GIVEN_PLANS, problem_of, sample_again

if TYPE_CHECKING:
    from ilvren.ledger import ApproximationRecord, Ledger, RunRecord

__all__ = ["Survey", "is_survey", "survey"]

# Designs, quantities and variables told; inputs named for an output, and the least share worth naming.
MOST_BEST, MOST_QUANTITIES, MOST_VARIABLES, MOST_INPUTS, LEAST_SHARE = 10, 30, 10, 5, 0.005
# Variables through which slices are drawn.
MOST_SLICED = 8
# What samples of designs of one's own, and of those that an approximation asked for, are called.


@dataclass(frozen=True)
class Survey:
    """Everything a report on samples and approximations tells."""

    title: str
    subtitle: str
    problem: Problem
    summary: tuple[str, ...]
    sections: tuple[Section, ...]
    commands: tuple[str, ...]
    text: str


@dataclass
class _Pages:
    """What is gathered, part by part."""

    summary: list[str] = field(default_factory=list)
    sections: list[Section] = field(default_factory=list)
    commands: list[str] = field(default_factory=list)


def is_survey(references: Sequence[str], ledger: Ledger) -> bool:
    """Return whether a report is on samples and approximations alone. Raises RequestError where approximations stand
    beside runs that are no samples."""
    kinds = []
    for name in references:
        if ledger.is_approximation(name):
            kinds.append("approximation")
        elif ledger.is_group(name):
            kinds.append("run")
        else:
            kinds.append("sample" if "sample" in ledger.run(name).overrides else "run")
    if "run" in kinds and "approximation" in kinds:
        raise RequestError(
            "a report is on runs, or on samples and approximations: not both",
            advice="make one for each; a run on an approximation tells itself what was predicted",
        )
    return "run" not in kinds


def survey(references: Sequence[str], ledger: Ledger) -> Survey:
    """Gather the report on samples and approximations of one problem. Raises RequestError."""
    pages = _Pages()
    firsts = _firsts_of(references, ledger)
    problems = [problem_of(first) for first in firsts.values()]
    several = len(references) > 1
    for name, first, problem in zip(references, firsts.values(), problems, strict=True):
        if ledger.is_approximation(name):
            _approximation(pages, ledger.approximation(name), problem, several=several)
        else:
            _sample(pages, first, ledger, several=several)
    problem = problems[0]
    made = datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%d %H:%M UTC")
    subtitle = f"{', '.join(firsts)} · {problem.source.file} · made {made}"
    title = problem.title or problem.source.file
    text = next(iter(firsts.values())).problem_text
    return Survey(title, subtitle, problem, tuple(pages.summary), tuple(pages.sections), tuple(pages.commands), text)


def _firsts_of(references: Sequence[str], ledger: Ledger) -> dict[str, RunRecord]:
    """Return by the ids of what is named its run, of an approximation the first it has learnt from. Raises RequestError
    where they do not go together, before anything is drawn."""
    found: dict[str, RunRecord] = {}
    for name in references:
        kept = ledger.approximation(name) if ledger.is_approximation(name) else None
        first = ledger.run(kept.runs[0] if kept else name)
        identity = kept.id if kept else first.id
        if identity in found:
            raise RequestError(f"{identity} is named twice")
        if found and first.problem_text != next(iter(found.values())).problem_text:
            raise RequestError(
                f"{references[0]} and {name} are of different problems; a report is on one",
                advice="make a report for each",
            )
        found[identity] = first
    return found


def _sample(pages: _Pages, record: RunRecord, ledger: Ledger, *, several: bool) -> None:
    table = designs_of(ledger, [record.id])
    problem, facts = table.problem, record.overrides["sample"]
    prefix = f"{record.id}: " if several else ""
    name = f"{record.id} ({record.label})" if record.label else record.id
    failed = [design for design in table.designs if not math.isfinite(design.violation)]
    word = "predicted" if problem.aim.on else "evaluated"
    told = f"{name}, {record.method}: {len(table.designs):,} designs {word}"
    told += f", {table.counts['feasible']:,} meet the limits" if problem.row_blocks else ""
    told += f", {len(failed):,} have no values" if failed else ""
    if record.outcome not in ("settled", "no-feasible"):
        told += f"; {record.outcome or 'running'}"
    pages.summary.append(told)
    if problem.aim.on:
        pages.summary.append("Its values are predicted by an approximation: nothing here was evaluated.")
    if table.is_mixed:
        pages.summary.append("These designs had different parameters: each is told under its own.")
    _plan_section(pages, table, facts, prefix)
    rows = []
    for quantity in _quantities(table):
        values = table.column(quantity)
        values = values[np.isfinite(values)]
        if len(values):
            own = (values.min(), np.median(values), values.mean(), values.max(), values.std())
            rows.append((quantity, table.units.get(quantity, ""), *(number(float(v)) for v in own)))
    heads = ("quantity", "unit", ">lowest", ">median", ">mean", ">highest", ">deviation")
    pages.sections.append(Section(f"{prefix}What came of it", heads=heads, rows=tuple(rows)))
    _drivers_section(pages, record, ledger, prefix)
    _effects_section(pages, table, prefix)
    _best_section(pages, table, prefix)
    if failed:
        reasons = Counter(design.trouble for design in failed).most_common(8)
        pages.sections.append(
            Section(
                f"{prefix}Designs without values",
                (f"`ilvren diagnose {record.id}` looks for a bound beyond which designs fail.",),
                ("what was wrong", ">designs"),
                tuple((reason, str(count)) for reason, count in reasons),
            )
        )
    if facts["plan"] in GIVEN_PLANS and "file" not in facts:
        pages.commands.append(f"ilvren designs {record.id} --output {record.id}.csv")
    pages.commands.append(sample_again(record))


def _plan_section(pages: _Pages, table: DesignTable, facts: Mapping[str, Any], prefix: str) -> None:
    sentences = []
    options = facts.get("options") or {}
    if "file" in facts:
        sentences.append(f"Designs of {facts['file']}.")
    elif facts["plan"] in GIVEN_PLANS:
        sentences.append("Designs that were picked one by one.")
    else:
        own = ", ".join(f"{name} {value}" for name, value in options.items())
        sentences.append(f"Plan {facts['plan']}{f', {own}' if own else ''}, seed {facts.get('seed', 0)}.")
    if facts.get("parts"):
        sentences.append(f"It has been added to {len(facts['parts'])} times.")
    made = planned_again(table.problem, facts)
    found, rows = made.quality, list[tuple[str, ...]]()
    if found is not None:
        pair = f" ({' and '.join(found.pair)})" if found.pair else ""
        rows = [
            ("least distance", number(found.least, 3), "between two designs, in lengths of an edge of the box"),
            ("largest hole", number(found.hole, 3), "radius of the largest ball without a design"),
            ("largest correlation", number(found.correlation, 2), f"between two variables{pair}"),
            ("unevenness", number(found.uneven, 2), "discrepancy over that of as many random designs"),
        ]
    pictures = (pictured(lambda path: draw_plan(made, path), "how the designs cover the box"),)
    pages.sections.append(
        Section(
            f"{prefix}The plan",
            tuple(sentences),
            ("coverage", ">value", "what it is") if rows else (),
            tuple(rows),
            pictures,
        )
    )


def _drivers_section(pages: _Pages, record: RunRecord, ledger: Ledger, prefix: str) -> None:
    """Add what drives what, where the designs were made to tell that."""
    from ilvren.draw.sensitivity import draw_sensitivity
    from ilvren.explore.sensitivity import STUDIES, study_on_record

    if record.overrides["sample"]["plan"] not in STUDIES:
        return
    try:
        found = study_on_record(ledger, record)
    except RequestError as error:  # designs are missing, which it says
        pages.sections.append(Section(f"{prefix}What drives what", (sentence(str(error)),)))
        return
    rows = []
    for output, drivers in list(found.of.items())[:MOST_QUANTITIES]:
        told = sorted(drivers, key=lambda own: -own.size if math.isfinite(own.size) else math.inf)[:MOST_INPUTS]
        for driver in told:
            numbers = driver.numbers
            if found.kind == "variance":
                cells = (_percent(numbers["first"]), _percent(numbers["total"]))
                span = f"{_percent(numbers['total_low'])} … {_percent(numbers['total_high'])}"
            else:
                cells = (number(numbers["mean"], 3), number(numbers["mean_absolute"], 3))
                span = f"{number(numbers['low'], 3)} … {number(numbers['high'], 3)}"
            rows.append((output, driver.variable, *cells, span))
    heads = ("output", "by", ">alone", ">in all", ">95 % interval")
    if found.kind != "variance":
        heads = ("output", "by", ">mean effect", ">mean |effect|", ">95 % interval")
    picture = pictured(lambda path: draw_sensitivity(found, path), "what drives each output")
    sentences = [sentence(note) for note in found.notes]
    if len(found.of) > MOST_QUANTITIES:
        sentences.append(f"The first {MOST_QUANTITIES} of {len(found.of)} outputs.")
    if any(len(drivers) > MOST_INPUTS for drivers in found.of.values()):
        sentences.append(f"Of each output the {MOST_INPUTS} strongest; `sensitivity --json` has all.")
    pages.sections.append(Section(f"{prefix}What drives what", tuple(sentences), heads, tuple(rows), (picture,)))


def _effects_section(pages: _Pages, table: DesignTable, prefix: str) -> None:
    effects = effects_of(table, table.names)
    if not effects:
        return
    rows = []
    for quantity, own in effects.items():
        shares = [(key, one.share) for key, one in own.items() if math.isfinite(one.share)]
        ranked = sorted(shares, key=lambda pair: -pair[1])
        told = [f"{key} {_percent(share)}" for key, share in ranked[:MOST_INPUTS] if share >= LEAST_SHARE]
        rows.append((quantity, ", ".join(told) or "no variable by itself"))
    picture = pictured(
        lambda path: draw_effects(table, table.names, path), "averages of quantities along each variable"
    )
    sentence = (
        "The share of a quantity's variance that its averages along one variable explain, less what chance would give."
        " What variables do together is in none of them."
    )
    pages.sections.append(
        Section(f"{prefix}Main effects", (sentence,), ("quantity", "variables"), tuple(rows), (picture,))
    )


def _best_section(pages: _Pages, table: DesignTable, prefix: str) -> None:
    problem = table.problem
    best = [design for design in table.designs if math.isfinite(design.violation)][:MOST_BEST]
    if not best or problem.objective is None:
        return
    free = [problem.variables[place].name for place in problem.free][:MOST_VARIABLES]
    names = [problem.objective.name, *free]
    columns = {name: table.column(name) for name in names}
    places = {design.address: place for place, design in enumerate(table.designs)}
    rows = []
    for design in best:
        cells = [table.told(name, float(columns[name][places[design.address]])) for name in names]
        told = [number(cell) for cell in cells]
        rows.append((design.address, *told, number(design.violation, 2), design.trouble))
    units = table.units
    heads = [f">{name} [{units[name]}]" if units.get(name) else f">{name}" for name in names]
    picture = pictured(lambda path: draw_parallel(table, table.names, path), "all designs, a line each")
    pages.sections.append(
        Section(
            f"{prefix}The best designs",
            heads=("design", *heads, ">violation", "note"),
            rows=tuple(rows),
            pictures=(picture,),
        )
    )


def _approximation(pages: _Pages, record: ApproximationRecord, problem: Problem, *, several: bool) -> None:
    from ilvren.draw.approximation.predicted import draw_predicted
    from ilvren.explore import Agreement

    prefix = f"{record.id}: " if several else ""
    name = f"{record.id} ({record.label})" if record.label else record.id
    of = record.facts["told"]["of"]
    worst = max(of, key=lambda key: float(of[key]["error"]))
    pages.summary.append(
        f"{name}, an approximation from {', '.join(record.runs)}: {len(of)} outputs; the least sure is {worst}, error"
        f" {_percent(of[worst]['error'])}"
    )
    rows = []
    for full, own in of.items():
        tested = own["tested"]
        rows.append(
            (
                full,
                own["kind"],
                str(own["points"]),
                _percent(own["error"]),
                _percent(own["explained"]),
                f"{number(own['largest'], 3)} {own['unit']}".strip(),
                own["largest_at"],
                _percent(own["covered"]["0.9"]),
                "–" if tested is None else _percent(tested["error"]),
            )
        )
    heads = ("output", "kind", ">points", ">error", ">explained", ">largest", "at", ">90 % holds", ">tested")
    sentence = (
        "Error: of points left out of the whole choice, over the deviation of the values; 90 % holds: the share of such"
        " points within 90 % intervals; tested: the error at points never fitted."
    )
    kept = record.facts.get("agreement")
    pictures = []
    if kept:
        agreements = {full: Agreement.from_dict(own) for full, own in kept.items()}
        pictures.append(
            pictured(
                lambda path: draw_predicted(agreements, record.id, path),
                "what is predicted of points that had no share, against what they are",
            )
        )
    pages.sections.append(Section(f"{prefix}How far to believe it", (sentence,), heads, tuple(rows), tuple(pictures)))
    matters = []
    for full, own in of.items():
        ranked = sorted(own["matters"].items(), key=lambda pair: -pair[1])
        first = [f"{key} {_percent(share)}" for key, share in ranked[:MOST_INPUTS] if share >= LEAST_SHARE]
        matters.append((full, ", ".join(first), ", ".join(key for key, share in ranked if share < LEAST_SHARE)))
    pages.sections.append(
        Section(
            f"{prefix}What matters",
            ("The share of each input in an output's variance, with all that it does together with others.",),
            ("output", "its variance comes from", "hardly anything"),
            tuple(matters),
            _slices(record, problem),
        )
    )
    notes = tuple(str(note) for note in record.facts["told"].get("notes", ()))
    region = record.facts["told"]["region"]
    pages.sections.append(
        Section(
            f"{prefix}Where it holds",
            ("Outside this region it says nothing.", *notes),
            ("input", ">from", ">to"),
            tuple((key, number(low), number(high)) for key, (low, high) in region.items()),
        )
    )
    words = ["ilvren", "approximate", *record.runs]
    for flag, key, usual in (
        ("--kind", "kind", "automatic"),
        ("--test-points", "test_points", 0),
        ("--seed", "seed", 0),
    ):
        if record.facts.get(key, usual) != usual:
            words += [flag, str(record.facts[key])]
    for full in record.facts.get("of", ()):
        words += ["--of", full]
    pages.commands.append(shlex.join(words))


def _slices(record: ApproximationRecord, problem: Problem) -> tuple[Picture, ...]:
    """Return slices with their bands through the start, of what is minimized or else of the first limit."""
    from ilvren.draw.slices import draw_slices
    from ilvren.draw.view import subject_of
    from ilvren.evaluate import Gate

    single = problem.one_objective() if len(problem.objectives) <= 1 else problem
    try:
        predicted = on_document(single, record.document)
        name = None if predicted.objective is not None else next(b.name for b in predicted.row_blocks if not b.shape)
        subject = subject_of(predicted, Gate(predicted), name)
        names = [predicted.variables[place].name for place in predicted.free][:MOST_SLICED]
        shows = f"predicted, with 90 % bands: {subject.name} along each variable through the start"
        return (pictured(lambda path: draw_slices(subject, names, np.array(predicted.start), path), shows),)
    except (RequestError, StopIteration):
        return ()  # nothing that is one number can be drawn: the tables tell


def _quantities(table: DesignTable) -> list[str]:
    variables = {variable.name for variable in table.problem.variables}
    return [name for name in table.names if name not in variables][:MOST_QUANTITIES]


def _percent(share: float) -> str:
    return f"{100.0 * share:.3g} %" if math.isfinite(share) else "–"

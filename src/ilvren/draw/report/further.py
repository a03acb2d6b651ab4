"""What some kinds of runs have beside a design: courses over time, fits, stages, what was asked of the design alone,
and moves that were proposed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.draw.fit import MOST_ENTRIES, draw_fit
from ilvren.draw.report.numbers import number
from ilvren.draw.report.picture import Picture, pictured
from ilvren.draw.report.section import Section, sentence
from ilvren.draw.responses import draw_responses
from ilvren.errors import IlvrenError
from ilvren.evaluate import Gate
from ilvren.judge import course_names, recorded_responses, signal_names
from ilvren.runs import estimates_of, fitted_entries, problem_of, recorded_calls, told_lines

if TYPE_CHECKING:
    from ilvren.judge import Response
    from ilvren.ledger import Ledger, RunRecord

__all__ = ["further_sections"]

# Runs drawn into one picture, signals of it, values told of a move.
MOST_DRAWN, MOST_SIGNALS, MOST_TOLD = 4, 4, 30
# Elements of a vector told in a cell.
MOST_LISTED = 4


def further_sections(records: Sequence[RunRecord], ledger: Ledger) -> tuple[Section, ...]:
    """Return the sections that these runs need; none for an ordinary one."""
    found: list[Section] = [*_over_time(records, ledger)]
    for record in records:
        name = record.label or record.id
        for made in (
            _fit(record, ledger, name),
            _stages(record, name),
            _asked(record, name),
            _moved(record, name),
        ):
            found += [made] if made is not None else []
    return tuple(found)


# ---- over time ------------------------------------------------------------------------------------


def _over_time(records: Sequence[RunRecord], ledger: Ledger) -> Iterator[Section]:
    drawn: list[Response] = []
    sentences = []
    over_time = [record for record in records if record.result is not None and problem_of(record).is_over_time]
    if len(over_time) > MOST_DRAWN:
        sentences.append(f"The first {MOST_DRAWN} of {len(over_time)} designs over time.")
    for record in over_time[:MOST_DRAWN]:
        try:
            drawn += recorded_responses(ledger, record.id, None)
        except IlvrenError as error:  # a model that has gone, say
            sentences.append(sentence(f"{record.id} cannot be followed over time: {error}"))
            continue
        told: Any = (record.result or {}).get("time_error")
        if isinstance(told, Mapping) and told.get("estimate") is not None:
            estimate, limit = (float(told[key]) for key in ("estimate", "limit"))
            grid = f"{told.get('scheme') or 'simulated'}, {told.get('steps')} steps"
            sentences.append(f"{record.id}: error over time {estimate:.1e} of {limit:.1e} allowed ({grid}).")
    if not drawn:
        if sentences:
            yield Section("Over time", tuple(sentences))
        return
    last = drawn[-1]
    names = course_names(last) if last.problem.is_collocated else signal_names(last.problem, None)
    if len(names) > MOST_SIGNALS:
        told = ", ".join(names[:MOST_SIGNALS])
        sentences.append(f"{told} are drawn; `ilvren draw {last.label} --signals NAMES` draws others.")
        names = names[:MOST_SIGNALS]
    rows = [
        (
            mark.entry,
            f"{mark.function} of {mark.signal}",
            item.label,
            number(mark.value),
            ", ".join(map(number, mark.times)),
        )
        for item in drawn
        for mark in item.marks
    ]
    title = f"{last.problem.title or last.problem.source.file}: {', '.join(item.label for item in drawn)}"
    picture = pictured(lambda path: draw_responses(drawn, names, path, title=title), f"{', '.join(names)} over time")
    yield Section(
        "Over time",
        tuple(sentences),
        ("entry", "measures", "design", ">value", ">at") if rows else (),
        tuple(rows),
        (picture,),
    )


# ---- fits -----------------------------------------------------------------------------------------


def _fit(record: RunRecord, ledger: Ledger, name: str) -> Section | None:
    result = record.result or {}
    told: Any = result.get("estimates")
    if not told:
        return None
    problem = problem_of(record)
    point = np.array([float(value) for value in _flat(result["variables"])])
    values = dict(zip((variable.name for variable in problem.variables), point.tolist(), strict=False))
    units = {variable.name: variable.unit for variable in problem.variables}
    rows = []
    for parameter, error in told["standard_errors"].items():
        note = "held by a bound" if parameter in told.get("held", ()) else "" if error is not None else "not determined"
        deviation = number(None if error is None else float(error), 3)
        rows.append((parameter, units.get(parameter, ""), number(values.get(parameter)), deviation, note))
    sentences = [f"{told['residuals']:,} residuals, {told['degrees_of_freedom']:,} degrees of freedom"]
    sentences[0] += f", spread {number(told['spread'], 4)}." if told.get("spread") is not None else "."
    if problem.aim.lines:
        sentences.append(f"Fitted on {told_lines(problem.aim.lines)} alone.")
    pictures: tuple[Picture, ...] = ()
    try:
        gate = Gate(problem, calls=recorded_calls(problem, ledger, record, only=False))
        estimates = estimates_of(problem, gate, point)
        if estimates is not None:
            entries = fitted_entries(problem, point, estimates, gate.calls)[:MOST_ENTRIES]
            shows = "readings, model and the band of a further reading; what is left over"
            pictures = (pictured(lambda path: draw_fit(entries, path, title=f"{name}: the fit"), shows),)
    except IlvrenError as error:
        sentences.append(sentence(f"The picture of the fit cannot be drawn: {error}"))
    heads = ("parameter", "unit", ">estimate", ">standard error", "note")
    return Section(f"The fit of {name}", tuple(sentences), heads, tuple(rows), pictures)


def _flat(variables: Any) -> list[float]:
    parts = [np.ravel(np.array(value, dtype=float)) for value in variables.values()]
    return [float(value) for value in np.concatenate(parts)] if parts else []


# ---- how a run went -------------------------------------------------------------------------------


def _stages(record: RunRecord, name: str) -> Section | None:
    stages: Any = (record.result or {}).get("stages")
    if not stages:
        return None
    rows = []
    for place, stage in enumerate(stages, start=1):
        asked = ", ".join(f"{key} = {value}" for key, value in stage["set"].items())
        told = [_told(stage[key]) for key in ("outcome", "objective", "violation", "evaluations")]
        rows.append((str(place), asked, *told, str(stage.get("finer", ""))))
    heads = (">stage", "with", "outcome", ">objective", ">violation", ">evaluations", "then")
    return Section(f"Stages before the last of {name}", (), heads, tuple(rows))


def _told(value: Any) -> str:
    if isinstance(value, bool) or value is None:
        return {True: "yes", False: "no", None: "–"}[value]
    return number(value) if isinstance(value, (int, float)) else str(value)


def _asked(record: RunRecord, name: str) -> Section | None:
    told: Any = (record.result or {}).get("confirmation")
    if not told:
        return None
    keys = ("value", "lower", "upper", "violation")
    rows = [(key, *(_listed(state[own]) for own in keys)) for key, state in told["limits"].items()]
    rows += [(key, _listed(value), "", "", "") for key, value in told["values"].items()]
    sentences = [f"[confirm]: {told['confirmed']}.", *([sentence(told["trouble"])] if told.get("trouble") else [])]
    heads = ("limit or value", ">value", ">lower", ">upper", ">violation")
    return Section(f"Asked of the design of {name} alone", tuple(sentences), heads if rows else (), tuple(rows))


def _listed(value: Any) -> str:
    parts = np.ravel(np.array(value, dtype=object)).tolist()
    return (
        _told(parts[0])
        if len(parts) == 1
        else ", ".join(map(_told, parts[:MOST_LISTED])) + " …" * (len(parts) > MOST_LISTED)
    )


def _moved(record: RunRecord, name: str) -> Section | None:
    """Return what a move was to bring and what it brought."""
    proposal: Any = record.overrides.get("proposal")
    result = record.result
    if not proposal or result is None:
        return None
    told: Any = result
    found: dict[str, Any] = {**told.get("derived", {}), **told.get("objectives", {})}
    found |= {key: state["value"] for key, state in told.get("constraints", {}).items()}
    rows = []
    for key, predicted in proposal["predicted"].items():
        if len(predicted) == 1 and isinstance(found.get(key), (int, float)):
            rows.append((key, number(float(predicted[0])), number(float(found[key]))))
    changed = ", ".join(proposal["changes"])
    said = [f"Proposed from {proposal['from']} for {changed}; the designs were evaluated after it."]
    if len(rows) > MOST_TOLD:
        said.append(f"The first {MOST_TOLD} of {len(rows)} quantities.")
    heads = ("quantity", ">predicted", ">came out")
    return Section(f"The move of {name}", tuple(said), heads, tuple(rows[:MOST_TOLD]))

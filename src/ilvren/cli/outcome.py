"""The final tables of a run: what came out, what it means, what to do next."""

from __future__ import annotations

import math
import shlex
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
from rich.table import Table
from rich.text import Text

from ilvren.cli.tables.blocks import MOST_ELEMENTS, Line, bound_lines, row_lines, tallied, tally, value_text
from ilvren.cli.tables.table import (
    MOST_ROWS,
    change_percent,
    count,
    limits_text,
    number,
    row_cells,
    seconds_text,
    small,
    table,
    with_unit,
)
from ilvren.runs import OUTCOMES, SUMMARY_ROWS, LimitStates, RunResult, told_set

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.problem import RowBlock, VariableBlock
    from ilvren.runs import Confirmation, LimitState, Prediction

__all__ = ["price_sentence", "show_confirmation", "show_result"]

# A price is told for moving the limit by this share of its size.
PRICE_STEP = 0.01
# So many prices are told of in sentences.
MOST_PRICES = 5

# Distinct optima shown, and variables of each.
MOST_OPTIMA, MOST_OPTIMUM_COLUMNS = 12, 4
# A table of more lines than this is more than anyone reads: the worst rows are shown, unless all are asked for.
MOST_LINES = 60

# Derived values and outputs shown without --full.
MOST_QUANTITIES = 20

_DESIGNS = {
    "final": "",
    "best-feasible": "shown: the best feasible design evaluated",
    "least-violation": "shown: the design with the least violation, nothing being feasible",
}
# Of an outcome that limits prove, wherever the run was.
PROVED = "no design within the bounds meets all limits"
_NEXT = {
    "converged": "ilvren verify {run}",
    "settled": "ilvren verify {run}",
    "target": "ilvren verify {run}",
    "exhausted": "ilvren resume {run}",
    "interrupted": "ilvren resume {run}",
    **dict.fromkeys(("infeasible", "no-feasible", "unbounded", "stalled", "invalid"), "ilvren diagnose {run}"),
}


def show_result(result: RunResult, terminal: Terminal, *, ledger: str | None = None, full: bool = True) -> None:
    """Print the result of a run; `ledger` is the one named on the command line, for the command to paste."""
    title = result.problem.title or result.problem.source.file
    name = f"{result.id}  " if result.id else ""
    terminal.show(Text(f"{name}{result.method} on {title}", style="bold"), "")
    style = "green bold" if result.holds else "red bold"
    terminal.show(Text.assemble((result.outcome, style), f"  {PROVED if result.conflict else _meaning(result)}"))
    terminal.show_sentence(f"{result.reason[:1].upper()}{result.reason[1:]}.")
    if result.second_look is not None:
        terminal.show_sentence(f"Second look: {result.second_look['told']}.")
    if result.outcome == "invalid":
        terminal.show("  Shown: the start.")
    elif _DESIGNS.get(result.design):
        terminal.show(f"  {_DESIGNS[result.design][:1].upper()}{_DESIGNS[result.design][1:]}.")
    if result.front is not None:
        from ilvren.cli.tables.front import show_front  # few problems have several objectives

        show_front(result, terminal, full=full)
        _show_counts(result, terminal)
        _show_next(result, terminal, ledger)
        return
    _show_objective(result, terminal)
    if result.prediction is not None:
        _show_prediction(result.prediction, result, terminal)
    elif result.stages:
        terminal.show(_stages_table(result))
    terminal.show(_variables_table(result, full=full))
    if result.constraints:
        lines = row_lines(result.problem.row_blocks, result.constraints)
        if full:
            terminal.show(_constraints_table(result, result.constraints))
        elif len(lines) > MOST_LINES:
            worst = result.worst_constraints(SUMMARY_ROWS)
            terminal.show(_constraints_table(result, worst))
            terminal.show(f"the worst {len(worst)} of {len(result.constraints)} rows; --full shows all")
        else:
            terminal.show(_summary_table(result, lines))
            _show_worst(result, terminal)
    _show_quantities(result, terminal, full=full)
    if result.confirmation is not None:
        show_confirmation(result.confirmation, terminal)
    if result.estimates is not None and result.holds:
        _show_estimates(result, terminal)
        _show_forecast(result, terminal)
    elif result.problem.aim.lines:
        _show_lines(result, terminal)
    if result.scatter is not None:
        from ilvren.cli.tables.scatter import show_counted  # few runs are about scatter

        show_counted(result, terminal)
    if result.courses:
        from ilvren.cli.tables.course import show_courses  # few problems have unknowns on a grid

        show_courses(result, terminal)
    for sentence in _price_sentences(result):
        terminal.show(sentence)
    if result.bound is not None:
        word = "no feasible design is better, to within the tolerance" if result.bound_is_proved else "not proved"
        terminal.show(f"\nbound {number(result.bound)} ({word}), gap {_percent(result.gap)}")
    if len(result.optima) > 1:
        _show_optima(result, terminal)
    scaling = "" if result.prediction is not None else _scaling_line(result.settings.get("scaling"))
    if scaling:
        terminal.show(scaling)
    _show_counts(result, terminal)
    _show_next(result, terminal, ledger)


def _meaning(result: RunResult) -> str:
    """Return what the outcome means."""
    if result.outcome == "settled" and result.front is not None and result.prediction is not None:
        return "what was predicted is evaluated truly, which is no proof; `verify` measures every design of the front"
    if result.outcome == "settled" and result.front is not None:
        return "the method's own criterion is met; `verify` measures every design of the front"
    return OUTCOMES[result.outcome]


def _show_counts(result: RunResult, terminal: Terminal) -> None:
    counts, look = result.counts, result.second_look
    again = f" ({look['evaluations']} looking again)" if look and look["evaluations"] else ""
    stationarity = "not measured" if result.stationarity is None else small(result.stationarity)
    measured = "" if result.front is not None else f"violation {small(result.violation)}, stationarity {stationarity}; "
    terminal.show(
        f"{measured}{count(counts['iterations'], 'iteration')}, {count(counts['evaluations'], 'evaluation')}{again},"
        f" {count(counts['gradients'], 'gradient')},"
        f"{_hessians(counts['hessians'])} {seconds_text(result.seconds)}"
    )


def _show_next(result: RunResult, terminal: Terminal, ledger: str | None) -> None:
    command = _NEXT.get(result.outcome)
    if result.id and command:
        flag = f" --ledger {shlex.quote(ledger)}" if ledger else ""
        terminal.show(f"next: {command.format(run=result.id)}{flag}")


def _show_prediction(found: Prediction, result: RunResult, terminal: Terminal) -> None:
    """What was predicted of the design, beside what is so."""
    units = result.problem.quantity_units
    if result.problem.objective is not None:
        units = {**units, result.problem.objective.name: result.problem.objective.unit}
    units = {**units, **{block.name: block.unit for block in result.problem.row_blocks}}
    rows = []
    for name, said in found.predicted.items():
        actual, off = found.actual[name], found.deviation.get(name)
        told = "" if off is None else f"{100.0 * off:+.2g} %"
        rows.append((name, number(said), number(actual), units.get(name, ""), told))
    terminal.show(table(("at the design", ">predicted", ">actual", "unit", ">off, of the data's deviation"), rows))
    if len(found.rounds) > 1:
        own = [(str(k), number(a), number(b), _missed(result, v)) for k, (a, b, v) in enumerate(found.rounds, start=1)]
        terminal.show(table((">round", ">predicted", ">actual", "note"), own))
    for text in found.outside:
        terminal.show_sentence(f"Outside what {found.on} has learnt: {text}; what it said there is a guess.")


def _missed(result: RunResult, violation: float) -> str:
    if not math.isfinite(violation):
        return "no values"
    return "misses a limit" if violation > float(str(result.settings["feasibility"])) else ""


def show_confirmation(found: Confirmation, terminal: Terminal) -> None:
    """Show what [confirm] found at a design."""
    style = "green bold" if found.word == "confirmed" else "red bold"
    terminal.show("", Text.assemble((found.word, style), f"  {found.sentence}"))
    rows = [
        (state.name, number(state.value), state.unit, limits_text(state.lower, state.upper), _confirm_note(state))
        for state in found.limits
    ]
    rows += [(name, value_text(value), found.units.get(name, ""), "", "shown") for name, value in found.values.items()]
    if rows:
        terminal.show(table(("of the chosen design", ">value", "unit", "limit", "note"), rows))


def _confirm_note(state: LimitState) -> str:
    if math.isnan(state.value):
        return "no value"
    return "missed" if state.violation > 0.0 else "met"


def _show_quantities(result: RunResult, terminal: Terminal, *, full: bool) -> None:
    """The derived values and models' outputs at the design; of vectors how many elements, and between what."""
    units = result.problem.quantity_units
    items = list(result.derived.items())
    shown = items if full else items[:MOST_QUANTITIES]
    if not items:
        return
    rows = [(name, value_text(value), units.get(name, "")) for name, value in shown]
    terminal.show(table(("at the design", ">value", "unit"), rows))
    if len(shown) < len(items):
        terminal.show(f"and {len(items) - len(shown)} more: --full, or `ilvren show {result.id or 'FILE'}`")


def _percent(share: float | None) -> str:
    return "unknown" if share is None else f"{100.0 * share:.2g} %"


def _show_optima(result: RunResult, terminal: Terminal) -> None:
    """The distinct optima found, best first: objective, a few variables, how often, from where."""
    objective = result.problem.objective
    names = [variable.name for variable in result.problem.variables][:MOST_OPTIMUM_COLUMNS]
    rows = []
    for item in result.optima[:MOST_OPTIMA]:
        starts = ", ".join(map(str, item.from_starts[:6])) + (" …" if len(item.from_starts) > 6 else "")
        rows.append(
            (number(item.objective), *(number(value) for value in item.point[: len(names)]), str(item.often), starts)
        )
    heads = (
        f">{objective.name if objective else 'objective'}",
        *(f">{name}" for name in names),
        ">reached",
        "from starts",
    )
    terminal.show(table(heads, rows, title="distinct optima"))
    if len(result.optima) > MOST_OPTIMA:
        terminal.show(f"and {len(result.optima) - MOST_OPTIMA} more; --json lists all")


def _show_estimates(result: RunResult, terminal: Terminal) -> None:
    """Standard errors of a fit, and the strongest correlation of each parameter."""
    found = result.estimates
    assert found is not None
    values = {variable.name: value for variable, value in zip(result.problem.variables, result.point, strict=True)}
    rows = []
    for place, (name, error) in enumerate(zip(found.names, found.errors, strict=True)):
        value = values[name]
        others = [(abs(r), r, found.names[k]) for k, r in enumerate(found.correlations[place]) if k != place]
        strongest = max(others, default=None)
        share = f"{100.0 * error / abs(value):.2g} %" if value and math.isfinite(error) else ""
        told = f"{strongest[1]:+.2f} with {strongest[2]}" if strongest else ""
        rows.append((name, number(value), number(error, 3) if math.isfinite(error) else "not determined", share, told))
    heads = ("estimate", ">value", ">standard error", ">of the value", "strongest correlation")
    if rows:
        terminal.show(table(heads, rows[:MOST_LINES]))
    for item in found.undetermined:
        told = ", ".join(f"{name} by {100.0 * share:+.0f} %" for name, share in item.items())
        what = "is not determined" if len(item) == 1 else "are not determined apart"
        terminal.show(f"{', '.join(item)} {what}: {told} changes nothing that could be told from the readings' spread")
    freedom = found.residuals - len(found.names)
    line = f"{count(found.residuals, 'residual')}, {count(freedom, 'degree')} of freedom"
    if math.isfinite(found.spread):
        line += f", spread of residual/sigma {found.spread:.3g}"
        if found.robust_spread is not None:
            line += f" ({found.robust_spread:.3g} by the robust losses)"
    else:
        line += ": as many parameters as residuals, so that nothing tells their spread"
    held = f"; held by a bound, without an error: {', '.join(found.held)}" if found.held else ""
    terminal.show(line + held)


def _show_lines(result: RunResult, terminal: Terminal) -> None:
    """Which lines were used, where nothing is forecast."""
    from ilvren.runs import told_lines

    why = "" if result.holds else ": the run did not end well"
    why = why if result.problem.residuals else ": that needs [fit]"
    terminal.show(f"used: {told_lines(result.problem.aim.lines)} alone; nothing is forecast{why}")


def _show_forecast(result: RunResult, terminal: Terminal) -> None:
    """How a fit does on the lines that were left out."""
    from ilvren.runs import told_lines

    lines = result.problem.aim.lines
    if not lines:
        return
    rows, notes = [], []
    for item in result.forecast:
        if item.trouble:
            notes.append(item.trouble)
            continue
        within = f"{item.within} of {item.banded}, about {item.expected:.0f} expected" if item.banded else "no band"
        if item.banded < item.beyond:
            what = count(item.beyond - item.banded, "line")
            notes.append(f"{item.name}: no band for {what}, whose model moves with what the lines fitted do not tell")
        rows.append(
            (
                item.name,
                count(item.used, "line"),
                number(item.error_used, 3),
                count(item.beyond, "line"),
                number(item.error_beyond, 3),
                number(item.largest, 3),
                within,
            )
        )
        if item.carries_over is False:
            notes.append(f"{item.name}: the fit does not carry over to the lines left out, or sigma is too small")
    heads = ("residual", ">fitted", ">error", ">forecast", ">error", ">largest", "within the 95 % band")
    if rows:
        terminal.show(table(heads, rows[:MOST_LINES], title=f"fitted on {told_lines(lines)}, forecast on the rest"))
        if len(rows) > MOST_LINES:
            terminal.show(f"and {len(rows) - MOST_LINES} more; --json lists all")
    elif not notes:
        notes.append("no line was left out")
    for note in notes:
        terminal.show(note)


def _scaling_line(facts: object) -> str:
    """Return by what the method's numbers were divided, in a line."""
    if not isinstance(facts, dict):
        return "" if facts is None else "\nscaling was off: the method had the numbers as written"
    parts = [f"{what} by {_range(facts.get(what, {}))}" for what in ("variables", "constraints") if facts.get(what)]
    parts.append(f"objective by {number(facts.get('objective'), 3)}")
    return f"\nscaled: {', '.join(parts)} (--no-scaling switches it off)"


def _range(factors: Mapping[str, float]) -> str:
    low, high = min(factors.values()), max(factors.values())
    return number(low, 3) if low == high else f"{number(low, 3)} .. {number(high, 3)}"


def _hessians(amount: int) -> str:
    return f" {count(amount, 'Hessian')}," if amount else ""


def _show_worst(result: RunResult, terminal: Terminal) -> None:
    """Where long constraints are summed up and some row is missed: the worst rows by name."""
    is_summed = any(block.size > MOST_ELEMENTS for block in result.problem.row_blocks)
    tolerance = result.settings["feasibility"]
    assert isinstance(tolerance, float)
    missed = list(result.constraints.missed(tolerance))
    if is_summed and missed:
        worst = result.worst_constraints(min(SUMMARY_ROWS, len(missed)))
        terminal.show(f"the worst {len(worst)} of {count(len(missed), 'missed row')}; --full shows all rows")
        terminal.show(_constraints_table(result, worst))


def _show_objective(result: RunResult, terminal: Terminal) -> None:
    objective = result.problem.objective
    if objective is None:
        terminal.show("\nno objective: any feasible design is an answer")
        return
    word = "minimize" if objective.sign > 0 else "maximize"
    baseline = with_unit(result.baseline_objective, objective.unit)
    if result.baseline_violation > float(str(result.settings["feasibility"])):
        baseline += " (which misses a limit)"
    change = change_percent(result.objective, result.baseline_objective)
    line = Text.assemble(f"\n{word} {objective.name} = ", (with_unit(result.objective, objective.unit), "bold"))
    if result.baseline_objective is not None or result.prediction is None:
        line += Text(f"   baseline {baseline}")
    terminal.show(line + Text(f"   {change}" if change else ""))


def _stages_table(result: RunResult) -> Table:
    """Return the stages before the last one, with their objectives, which are those of other problems."""
    rows = [
        (str(place), told_set(stage.set), stage.outcome, number(stage.objective), str(stage.evaluations))
        for place, stage in enumerate(result.stages, start=1)
    ]
    return table((">stage", "set", "outcome", ">objective there", ">evaluations"), rows)


def _variables_table(result: RunResult, *, full: bool) -> Table:
    rows = []
    blocks = {block.name: block for block in result.problem.blocks}
    for line in bound_lines(result.problem.blocks, result.bounds):
        block = blocks[line.cells[0].partition("[")[0].strip()]
        if isinstance(line.states, LimitStates) and line.is_summary:
            notable = np.flatnonzero((block.lower == block.upper) | ~block.is_used | (line.states.sides != 0))
            notable = np.union1d(notable, np.flatnonzero(line.states.violation > 0.0))
            note = tally([_bound_note(block, place, line.states[place]) for place in notable.tolist()])
            rows.append((*line.cells, "", note))
        else:
            state = line.states[0]
            rows.append((*line.cells, _price(state, result), _bound_note(block, line.place, state)))
    heads = ("variable", ">value", "unit", ">lower", ">upper", ">price", "note")
    return table(heads, rows, most=None if full else MOST_ROWS)


def _bound_note(block: VariableBlock, place: int, state: LimitState) -> str:
    if block.lower[place] == block.upper[place]:
        return "fixed"
    if not block.is_used[place]:
        return "nothing depends on it: left out"
    if state.violation > 0.0:
        return f"missed: its {'lower' if state.value < state.lower else 'upper'} bound"
    return f"at its {state.side} bound" if state.side else ""


def _summary_table(result: RunResult, lines: Sequence[tuple[RowBlock, Line]]) -> Table:
    tolerance = result.settings["feasibility"]
    assert isinstance(tolerance, float)
    rows = []
    for _, line in lines:
        if isinstance(line.states, LimitStates) and line.is_summary:
            rows.append((*line.cells, "", tallied(line.states.standing(tolerance))))
        else:
            state = line.states[0]
            rows.append((*line.cells, _price(state, result), state.word(tolerance)))
    return table(("constraint", ">value", "unit", "limit", ">margin", ">price", "note"), rows)


def _constraints_table(result: RunResult, shown: Iterable[LimitState]) -> Table:
    tolerance = result.settings["feasibility"]
    assert isinstance(tolerance, float)
    rows = [(*row_cells(state), _price(state, result), state.word(tolerance)) for state in shown]
    return table(("constraint", ">value", "unit", "limit", ">margin", ">price", "note"), rows)


def _price(state: LimitState, result: RunResult) -> str:
    if state.price is None or result.problem.objective is None:
        return ""
    unit = result.problem.objective.unit
    per = f"{unit or '1'}/{state.unit}" if state.unit else unit
    mark = "" if state.is_unique else " *"
    return f"{with_unit(state.price, per, 4)}{mark}"


def _price_sentences(result: RunResult) -> list[str]:
    """Return a sentence for each priced limit, the dearest first, at most five."""
    if result.problem.objective is None:
        return []
    told = []
    most = len(result.constraints) + 1 if result.courses else MOST_PRICES
    rows = [(state, True) for state in result.constraints.dearest(most, PRICE_STEP)]
    rows = [(state, is_row) for state, is_row in rows if not (result.courses and "@" in state.name)]
    bounds = [(state, False) for state in result.bounds.dearest(most, PRICE_STEP) if state.lower != state.upper]
    for state, is_row in (*rows, *bounds):
        assert state.price is not None
        told.append((abs(state.price) * _price_step(state), state, is_row))
    told.sort(key=lambda found: -found[0])
    sentences = [
        price_sentence(state, result, is_row=is_row) for effect, state, is_row in told[:MOST_PRICES] if effect > 0.0
    ]
    if any(not state.is_unique for _, state, _ in told):
        sentences.append("* not unique: the gradients of the active limits depend on each other")
    return sentences


def _price_step(state: LimitState) -> float:
    value = state.lower if state.side == "lower" else state.upper
    step = PRICE_STEP * (abs(value) or state.size)
    return float(f"{step:.1g}")


def price_sentence(state: LimitState, result: RunResult, *, is_row: bool) -> str:
    """Return for example "raising stress's upper limit by 0.07 MPa lowers cost by 212 EUR"."""
    objective = result.problem.objective
    assert objective is not None
    assert state.price is not None
    step = _price_step(state)
    effect = state.price * step
    verb = "raises" if effect > 0.0 else "lowers"
    what = "limit" if state.side == "equality" else f"{state.side} {'limit' if is_row else 'bound'}"
    return (
        f"raising {state.name}'s {what} by {with_unit(step, state.unit)}"
        f" {verb} {objective.name} by {with_unit(abs(effect), objective.unit, 3)}"
    )

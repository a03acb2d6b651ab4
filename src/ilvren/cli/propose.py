"""`ilvren propose`: the smallest move that derivatives say gives a change, and what stands in the way."""

from __future__ import annotations

import argparse
import math
import re
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path, numbers, values_by_name
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.explore import Change, Proposal
    from ilvren.ledger import Ledger
    from ilvren.problem import Problem
    from ilvren.runs import RunResult

EXAMPLES = """examples:
  ilvren propose rising-main.toml --change cost=-5%
  ilvren propose r3 --change cost=-2% --change hoop=-0.5 --hold duty --accept
"""

_AMOUNT = re.compile(r"([+-](?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)(%?)")
MOST_MOVES = 25


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("design", metavar="FILE|RUN[:N]", help="a problem file (its start), or a design on record")
    parser.add_argument(
        "--set", metavar="NAME=VALUE", action="append", default=[], help="of a file: replace a parameter (repeatable)"
    )
    parser.add_argument(
        "--change",
        metavar="NAME=±X",
        action="append",
        default=[],
        help="the change wanted, -10%% or +0.5, of an objective, constraint or formula (repeatable)",
    )
    parser.add_argument(
        "--weight", metavar="NAME=W", action="append", default=[], help="of a change, when not all can be had (1)"
    )
    parser.add_argument(
        "--hold", metavar="NAME", action="append", default=[], help="a variable or quantity that stays (repeatable)"
    )
    parser.add_argument("--most", type=float, default=0.25, metavar="SHARE", help="largest move over a size (0.25)")
    parser.add_argument(
        "--smooth", metavar="NAME", action="append", default=[], help="a vector that moves smoothly (repeatable)"
    )
    parser.add_argument("--accept", action="store_true", help="evaluate the design proposed, and record it")
    parser.add_argument("--label", metavar="TEXT", help="with --accept: a name for the run")
    parser.add_argument("--output", metavar="FILE", help="draw the vectors that move, before and after: .png or .svg")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix
    from ilvren.explore import proposal_at

    if arguments.output:
        check_suffix(arguments.output, (".png", ".svg"))
    if not 0.0 < arguments.most <= 10.0:
        raise RequestError(f"--most must lie between 0 and 10, not {arguments.most:g}")
    changes = _changes(arguments)
    with _opened(arguments) as ledger:
        problem, point, address, calls = _design(arguments, ledger)
        found = proposal_at(
            problem,
            point,
            changes,
            hold=arguments.hold,
            most=arguments.most,
            smooth=arguments.smooth,
            calls=calls,
        )
    accepted = _accepted(arguments, problem, found, address) if arguments.accept else None
    if arguments.output:
        _draw(problem, found, arguments.output)
    if arguments.json:
        terminal.document(_document(problem, found, address, accepted))
    else:
        _show(terminal, found, address, accepted)
    return status.HOLDS if found.is_whole else status.DOES_NOT_HOLD


def _changes(arguments: argparse.Namespace) -> list[Change]:
    from ilvren.explore import Change

    if not arguments.change:
        raise RequestError("say what is to change: --change NAME=-10%", advice="or NAME=+0.5, an amount")
    weights = numbers("--weight", arguments.weight)
    found = []
    for word in arguments.change:
        name, sign, text = word.rpartition("=")
        match = _AMOUNT.fullmatch(text.strip())
        if not sign or not name.strip() or match is None:
            raise RequestError(
                f"--change {word}: a name and a change with its sign are expected", advice="--change cost=-10%"
            )
        amount = float(match[1]) / (100.0 if match[2] else 1.0)
        weight = weights.pop(name.strip(), 1.0)
        if amount == 0.0 or not weight > 0.0:
            raise RequestError(f"--change {word}: a change of nothing, or a weight of nothing")
        found.append(Change(name.strip(), amount, bool(match[2]), weight))
    if weights:
        raise RequestError(f"--weight {next(iter(weights))}: no change of that name is asked for")
    return found


def _opened(arguments: argparse.Namespace) -> Any:
    import contextlib

    from ilvren.cli.files import read_ledger

    if arguments.design.endswith(".toml"):
        return contextlib.nullcontext(None)
    return read_ledger(ledger_path(arguments.ledger))


def _design(arguments: argparse.Namespace, ledger: Ledger | None) -> tuple[Problem, Any, str, Any]:
    """Return the problem, the design, its address and the calls that answer for models."""
    import numpy as np

    from ilvren.problem import load
    from ilvren.runs import RecordedShelf, addressed, problem_of

    if ledger is None:
        problem = load(arguments.design, set=values_by_name("--set", arguments.set))
        return problem, problem.start, arguments.design, ()
    if arguments.set:
        raise RequestError("--set is for a problem file; a design on record has its own parameters")
    found = addressed(ledger, arguments.design)
    problem, point = problem_of(found.record), found.point
    if problem.is_collocated:  # a design that is moved by hand is simulated: its states follow
        from ilvren.problem import carried, simulated_problem

        own = simulated_problem(problem)
        problem, point = own, tuple(carried(problem, np.array(point), own).tolist())
    calls = problem.calls()
    for call in calls:
        call.shelf = RecordedShelf(ledger, found.record.number, problem)
    return problem, point, found.address, calls


def _accepted(arguments: argparse.Namespace, problem: Problem, found: Proposal, address: str) -> RunResult:
    """Evaluate the design proposed and record it as a run of its own, with what was predicted."""
    from ilvren.runs import Settings, begun_at, run

    settings = Settings(method="mesh-adaptive-search", evaluations=1, second_look=0.0, label=arguments.label)
    predicted = {item.name: item.predicted.tolist() for item in found.quantities}
    asked = [change.text for change in found.changes]
    proposal = {"from": address, "changes": asked, "predicted": predicted}
    return run(begun_at(problem, found.point), settings, ledger=ledger_path(arguments.ledger), proposal=proposal)


def _actual(result: RunResult, name: str) -> Any:
    """Return a quantity of the design accepted, as an array, None where it has none."""
    import numpy as np

    values: dict[str, Any] = dict(result.derived) | dict(result.objectives)
    for block in result.problem.row_blocks:
        values.setdefault(block.name, result.constraints.value[block.first : block.first + block.size])
    value = values.get(name)
    return None if value is None else np.ravel(np.asarray(value, dtype=float))


def _document(problem: Problem, found: Proposal, address: str, accepted: RunResult | None) -> dict[str, object]:
    from ilvren.runs import told_by_block

    def told(values: Any) -> Any:
        own = [float(value) for value in values]
        return own[0] if len(own) == 1 else own

    document: dict[str, object] = {
        "from": address,
        "changes": [
            {"name": change.name, "asked": item, "given": share}
            for change, item, share in zip(found.changes, _asked(found), found.shares, strict=True)
        ],
        "variables": told_by_block(problem.blocks, found.point.tolist()),
        "size": found.size,
        "quantities": {
            item.name: {"now": told(item.now), "predicted": told(item.predicted)} for item in found.quantities
        },
        "in_the_way": [{"name": name, "pressure": share} for name, share in found.in_the_way],
        "conflicts": [list(pair) for pair in found.conflicts],
        "held_by_members": list(found.fixed),
    }
    if accepted is not None:
        actual = {item.name: _actual(accepted, item.name) for item in found.quantities}
        document["accepted"] = {
            "run": accepted.id,
            "violation": accepted.violation if math.isfinite(accepted.violation) else None,
            "actual": {name: None if value is None else told(value) for name, value in actual.items()},
            "trusted": _trusted(found, accepted),
        }
    return document


def _asked(found: Proposal) -> list[float]:
    asked = {item.name: item.asked for item in found.quantities}
    return [float(asked.get(change.name) or 0.0) for change in found.changes]


def _trusted(found: Proposal, accepted: RunResult) -> float:
    """Return how far linear models can be trusted next, in moves like this one."""
    from ilvren.explore import trusted_share

    shares = []
    for item in found.quantities:
        actual = _actual(accepted, item.name)
        if item.asked is not None and actual is not None:
            shares.append(trusted_share(float(item.predicted[0] - item.now[0]), float(actual[0] - item.now[0])))
    return min(shares, default=0.5)


def _show(terminal: Terminal, found: Proposal, address: str, accepted: RunResult | None) -> None:
    from rich.text import Text

    from ilvren.cli.tables.table import number, table

    wishes = ", ".join(change.text for change in found.changes)
    word = "given" if found.is_whole else f"given to {min(found.shares):.0%}"
    style = "green bold" if found.is_whole else "red bold"
    terminal.show(Text(f"from {address}: {wishes}", style="bold"), "")
    terminal.show(
        Text.assemble((word, style), f"  as first derivatives tell; the largest move is {found.size:.2g} of a size")
    )
    if not found.is_whole and len(found.changes) > 1:
        given = zip(found.changes, found.shares, strict=True)
        terminal.show("  " + ", ".join(f"{change.text}: {share:.0%}" for change, share in given))
    for one, other in found.conflicts:
        terminal.show(f"  {one} and {other} exclude each other: each could be had more of alone")
    moves = sorted(found.moves, key=lambda move: -abs(move.share))
    rows = [
        (move.name, number(move.before, 7), number(move.after, 7), move.unit, f"{move.share:+.2g}")
        for move in moves[:MOST_MOVES]
    ]
    if rows:
        terminal.show(table(("variable", ">now", ">proposed", "unit", ">of its size"), rows))
    if len(moves) > MOST_MOVES:
        terminal.show(f"and {len(moves) - MOST_MOVES} more move less (--json lists all, --output draws vectors)")
    if found.fixed:
        terminal.show(f"not moved, having members only: {', '.join(found.fixed[:8])}")
    _show_quantities(terminal, found, accepted)
    if found.in_the_way:
        what = "in the way" if not found.is_whole else "met on the way: without them the move would be smaller"
        told = ", ".join(f"{name} ({share:.2g})" for name, share in found.in_the_way)
        terminal.show(f"{what} (how hard it presses): {told}")
    if accepted is None:
        terminal.show("a prediction: nothing was evaluated at it; --accept does")
    else:
        _show_accepted(terminal, found, accepted)


def _show_quantities(terminal: Terminal, found: Proposal, accepted: RunResult | None) -> None:
    from ilvren.cli.tables.blocks import value_text
    from ilvren.cli.tables.table import table

    rows = []
    for item in found.quantities:
        single = len(item.now) == 1
        now, predicted = (float(v[0]) if single else v for v in (item.now, item.predicted))
        change = _change(float(item.now[0]), float(item.predicted[0])) if single else ""
        actual: tuple[str, ...] = ()
        if accepted is not None:
            own = _actual(accepted, item.name)
            text = "–" if own is None else value_text(float(own[0]) if len(own) == 1 else own)
            actual = (text, _change(float(item.now[0]), float(own[0])) if own is not None and single else "")
        wish = "" if item.asked is None else f"{item.asked:+.4g} asked"
        rows.append((item.name, value_text(now), value_text(predicted), change, *actual, item.unit, wish))
    more = (">actual", ">") if accepted is not None else ()
    terminal.show(table(("quantity", ">now", ">predicted", ">change", *more, "unit", "note"), rows))


def _change(now: float, then: float) -> str:
    from ilvren.cli.tables.table import change_percent

    if then == now:
        return "0"
    return change_percent(then, now) or f"{then - now:+.3g}"


def _show_accepted(terminal: Terminal, found: Proposal, accepted: RunResult) -> None:
    from ilvren.cli.tables.table import small

    feasible = "meets all limits" if accepted.violation <= 1e-6 else f"violation {small(accepted.violation)}"
    trusted = _trusted(found, accepted)
    terminal.show(f"accepted as {accepted.id}: evaluated, {feasible}")
    terminal.show(
        f"linear models can be trusted for about {trusted:.2g} times this move next:"
        f" --most {max(min(trusted * max(found.size, 1e-6), 0.5), 1e-6):.2g}"
    )
    terminal.show(f"next: ilvren propose {accepted.id} --change …; ilvren run FILE --from {accepted.id}")


def _draw(problem: Problem, found: Proposal, path: str) -> None:
    """Draw the vector that moves most, before and after."""
    from ilvren.draw import Line, draw_vector

    vectors = [block for block in problem.blocks if block.size > 1]
    if not vectors:
        raise RequestError(f"--output {path}: no vector variable to draw")

    def part(block: Any, point: Any) -> Any:
        return point[block.first : block.first + block.size]

    block = max(vectors, key=lambda own: float(abs(part(own, found.point) - part(own, found.start)).max()))
    lines = [
        Line("now", part(block, found.start), None, is_past=True),
        Line("proposed", part(block, found.point)),
    ]
    title = f"{problem.title or problem.source.file}: {block.name} as proposed"
    unit = f"{block.name} [{block.unit}]" if block.unit else block.name
    draw_vector(lines, path, title=title, of=unit, against="index", limits=(block.lower, block.upper))

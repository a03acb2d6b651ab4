"""`ilvren run --receding`: a window solved, its beginning applied to a plant, the window moved on."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import values_by_name

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.problem import Problem
    from ilvren.runs import ClosedLoop, Receding, RecedingStep, Settings

__all__ = ["add_receding", "run_receding"]

KEYS = ("window", "advance", "until")
# Steps shown in the table, and controls and states in it.
MOST_SHOWN, MOST_NAMES = 24, 6


def add_receding(parser: argparse.ArgumentParser) -> None:
    """Declare the flags of a receding horizon."""
    parser.add_argument(
        "--receding",
        metavar="TIMES",
        help='solve a window of the time, apply its beginning, move on: "window=12, advance=1, until=48"',
    )
    parser.add_argument(
        "--plant",
        metavar="NAME=VALUE",
        action="append",
        help="with --receding: a parameter of the plant that is not as the file says (repeatable)",
    )
    parser.add_argument(
        "--noise",
        metavar="STATE=DEVIATION",
        action="append",
        help="with --receding: the standard deviation with which a state is measured (repeatable)",
    )


def run_receding(problem: Problem, settings: Settings, arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the closed loop and show it."""
    from ilvren.runs import receded

    asked = _asked(arguments)

    def told(number: int, count: int, step: RecedingStep) -> None:
        if number in (1, count) or number % max(count // 10, 1) == 0:
            terminal.note(f"step {number} of {count}: t = {step.begin:g}, {step.outcome}, {1e3 * step.seconds:.0f} ms")

    loop = receded(problem, asked, settings, told)
    if arguments.output is not None:
        _write(loop, arguments.output)
    if arguments.json:
        terminal.document(_document(loop, arguments.output))
    else:
        _show(loop, terminal)
    if arguments.output is not None:
        terminal.note(f"{arguments.output}: the closed loop")
    return status.HOLDS if loop.steps and not loop.failed and not loop.is_interrupted else status.DOES_NOT_HOLD


def _asked(arguments: argparse.Namespace) -> Receding:
    from ilvren.errors import RequestError
    from ilvren.runs import Receding

    found: dict[str, float] = {}
    example = '"window=12, advance=1, until=48"'
    for part in re.split(r"\s*,\s*", arguments.receding.strip()):
        name, equals, text = (word.strip() for word in part.partition("="))
        if not equals or name not in KEYS:
            raise RequestError(f'--receding: "{part}" is none of {", ".join(KEYS)}', advice=f"for example {example}")
        try:
            found[name] = float(text)
        except ValueError:
            raise RequestError(f"--receding {part}: a number is expected", advice=f"for example {example}") from None
    missing = [name for name in KEYS if name not in found]
    if missing:
        raise RequestError(f"--receding: {', '.join(missing)} is missing", advice=f"for example {example}")
    noise = values_by_name("--noise", arguments.noise or [])
    for name, value in noise.items():
        if not isinstance(value, (int, float)) or not value >= 0.0:
            raise RequestError(f"--noise {name}={value}: a deviation of at least 0 is expected")
    return Receding(
        found["window"],
        found["advance"],
        found["until"],
        values_by_name("--plant", arguments.plant or []),
        {name: float(value) for name, value in noise.items()},
    )


def _show(loop: ClosedLoop, terminal: Terminal) -> None:
    import numpy as np
    from rich.text import Text

    from ilvren.cli.tables.table import count, number, table, with_unit

    problem = loop.problem
    axis = problem.template.built_axes[0]
    unit = axis.time.unit
    title = problem.title or problem.source.file
    asked = loop.asked
    span = f"a window of {with_unit(asked.window, unit)}, moved on by {with_unit(asked.advance, unit)}"
    terminal.show(Text(f"receding horizon on {title}", style="bold"), f"{span}, until {with_unit(asked.until, unit)}")
    if asked.plant:
        terminal.show("the plant: " + ", ".join(f"{name} = {value}" for name, value in asked.plant.items()))
    if asked.noise:
        terminal.show("measured with deviations: " + ", ".join(f"{n} {number(v)}" for n, v in asked.noise.items()))
    if not loop.steps:
        terminal.show("stopped before the first window was solved")
        return
    units = {name: own for told in problem.template.told_over_time for name, own, _ in told}
    states = [name for name, value in loop.states.items() if value.ndim == 1 and name in axis.state_names]
    controls = [name for name, value in loop.controls.items() if value.ndim == 1]
    names = [*states, *controls][:MOST_NAMES]
    heads = [f">t{f' [{unit}]' if unit else ''}"]
    heads += [f">{name}{f' [{units[name]}]' if units.get(name) else ''}" for name in names]
    heads += [">expected", ">iterations", ">ms", "outcome"]
    shown = np.unique(np.round(np.linspace(0, len(loop.steps) - 1, min(len(loop.steps), MOST_SHOWN))).astype(int))
    rows = []
    for k in shown.tolist():
        step = loop.steps[k]
        place = int(np.searchsorted(loop.times, step.begin - 1e-9))
        values = [number(float(loop.states[name][place])) for name in names if name in loop.states]
        values += [number(float(step.controls[name])) for name in names if name in loop.controls]
        expected = "" if step.objective is None else number(step.objective)
        rows.append(
            (number(step.begin), *values, expected, str(step.iterations), f"{1e3 * step.seconds:.0f}", step.outcome)
        )
    terminal.show(table(heads, rows))
    if len(shown) < len(loop.steps):
        terminal.show(f"{len(shown)} of {len(loop.steps)} steps; --output FILE.csv has every moment")
    objective = problem.objective
    if objective is not None and loop.objective is not None:
        what = with_unit(loop.objective, objective.unit)
        terminal.show(f"what came of it: the integrals in {objective.name} add up to {what} along the plant")
    elif objective is not None:
        terminal.show(f"{objective.name} is no sum of integrals over time: what came of it along the plant is not told")
    times = np.array([step.seconds for step in loop.steps])
    later = times[1:] if len(times) > 1 else times
    terminal.show(
        f"{count(len(times), 'step')}, median {1e3 * float(np.median(later)):.0f} ms after the first,"
        f" which took {1e3 * times[0]:.0f} ms"
    )
    for sentence in _bounds_left(loop):
        terminal.show(sentence)
    if loop.failed:
        what = "the limits could not all be met: what misses them least was applied, or the last plan followed on"
        terminal.show(f"in {count(loop.failed, 'step')} {what}")
    if loop.is_interrupted:
        terminal.show("stopped by the user: shown is what was run until then")
    terminal.show("nothing of a receding horizon is recorded")


def _bounds_left(loop: ClosedLoop) -> list[str]:
    """Return by how much each state left bounds that are numbers along the plant."""
    import numpy as np

    from ilvren.cli.tables.table import with_unit

    found = []
    axis = loop.problem.template.built_axes[0]
    for declared in axis.state_declarations:
        values = loop.states[declared.name]
        for key, sign in (("lower", 1.0), ("upper", -1.0)):
            given = getattr(declared, key)
            if given is None or isinstance(given, tuple):
                continue
            try:
                limit = float(given)
            except ValueError:
                continue  # one that moves with the time
            miss = float(np.max(sign * (limit - values)))
            if miss > 1e-6 * max(abs(limit), 1.0):
                found.append(f"{declared.name} left its {key} bound by up to {with_unit(miss, declared.unit, 3)}")
    return found


def _document(loop: ClosedLoop, output: str | None) -> dict[str, Any]:
    from ilvren.runs import plain_values

    problem = loop.problem
    return {
        "problem": problem.title or problem.source.file,
        "window": loop.asked.window,
        "advance": loop.asked.advance,
        "until": loop.asked.until,
        "plant": dict(loop.asked.plant),
        "noise": dict(loop.asked.noise),
        "steps": [
            {
                "begin": step.begin,
                "outcome": step.outcome,
                "iterations": step.iterations,
                "seconds": round(step.seconds, 6),
                "expected": step.objective,
                "controls": {name: plain_values(value) for name, value in step.controls.items()},
            }
            for step in loop.steps
        ],
        "failed": loop.failed,
        "objective": loop.objective,
        "signals": {
            "t": plain_values(loop.times),
            **{name: plain_values(value) for name, value in {**loop.states, **loop.controls}.items()},
        },
        "output": output,
    }


def _write(loop: ClosedLoop, path: str) -> None:
    if path.endswith(".csv"):
        _write_csv(loop, path)
        return
    from ilvren.draw import draw_closed_loop

    draw_closed_loop(loop, path)


def _write_csv(loop: ClosedLoop, path: str) -> None:
    from ilvren.printable import CellWriter

    columns = [("t", loop.times)]
    for name, value in {**loop.states, **loop.controls}.items():
        flat = value.reshape(len(value), -1)
        if value.ndim == 1:
            columns.append((name, value))
            continue
        columns += [(f"{name}[{k}]", flat[:, k]) for k in range(flat.shape[1])]
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        writer = CellWriter(file, lineterminator="\n")
        writer.writerow([name for name, _ in columns])
        for row in zip(*(values.tolist() for _, values in columns), strict=True):
            writer.writerow(map(repr, row))

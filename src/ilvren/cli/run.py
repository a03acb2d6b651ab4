"""`ilvren run`: run a method on a problem."""

from __future__ import annotations

import argparse
import math
import re
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import (
    add_add,
    add_aim,
    add_ledger,
    add_output_flags,
    add_problem,
    aim_of,
    ledger_path,
    values_by_name,
    words_by_name,
)
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.ledger import Ledger
    from ilvren.problem import Problem
    from ilvren.runs import Event, On, RunResult, Settings

EXAMPLES = """examples:
  ilvren run rising-main.toml
  ilvren run rising-main.toml --sweep "tariff=evenly(0.1, 0.4, 7)" --output sweep.png
  ilvren run rising-main.toml --method nelder-mead --set tariff=0.30 --start bore=0.15 --evaluations 500
"""

LIMITS = (
    "tolerance",
    "feasibility",
    "target",
    "evaluations",
    "iterations",
    "seconds",
    "patience",
    "second_look",
    "points",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    add_problem(parser)
    add_aim(parser)
    add_add(parser)
    parser.add_argument(
        "--method",
        metavar="NAME",
        help="the method (`ilvren methods` lists them); `global`: a search of the whole box; left out: the one that"
        " suits the problem",
    )
    parser.add_argument(
        "--option", metavar="NAME=VALUE", action="append", default=[], help="an option of the method (repeatable)"
    )
    parser.add_argument(
        "--start", metavar="NAME=VALUE", action="append", default=[], help="start a variable elsewhere (repeatable)"
    )
    parser.add_argument("--tolerance", type=float, metavar="SHARE", help="relative accuracy asked for (1e-6)")
    parser.add_argument(
        "--feasibility", type=float, metavar="SHARE", help="miss allowed, relative to a row's size (1e-6)"
    )
    parser.add_argument("--target", type=float, metavar="VALUE", help="stop when the objective reaches this value")
    parser.add_argument(
        "--points",
        type=int,
        metavar="N",
        help="of several objectives: designs of the front (60; three and more: 150)",
    )
    parser.add_argument(
        "--reference-point",
        metavar="NAME=VALUE,…",
        help="of several objectives: where hypervolumes are measured from (the nadir and a tenth of the range)",
    )
    parser.add_argument(
        "--from-ends", action="store_true", help="of several objectives: the best of each alone comes first"
    )
    add_limits(parser)
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="seed of what is drawn at random (0)")
    parser.add_argument("--repeats", type=int, metavar="N", help="run N seeds, from --seed on, and sum them up")
    parser.add_argument("--label", metavar="NAME", help="a name for the run, usable instead of its id")
    parser.add_argument(
        "--derivatives",
        metavar="SOURCE",
        default="automatic",
        help="automatic, or of models: supplied, complex-step, differences; of formulas: differences",
    )
    parser.add_argument(
        "--fresh", action="store_true", help="call models anew, also where other runs of the ledger have their answers"
    )
    parser.add_argument("--no-scaling", action="store_true", help="give the method the numbers as written")
    parser.add_argument(
        "--from", dest="origin", metavar="RUN", help="start from another run's design, multipliers and active limits"
    )
    parser.add_argument(
        "--on",
        metavar="APPROXIMATION",
        help="search on an approximation (a1); its best design, or some along its front, are evaluated truly",
    )
    parser.add_argument(
        "--rounds",
        type=int,
        metavar="N",
        help="with --on: search, evaluate truly and learn again, up to N times (1)",
    )
    parser.add_argument(
        "--known",
        metavar="RUN",
        action="append",
        help="a run on the same problem on whose designs a population or multistart builds (repeatable)",
    )
    parser.add_argument(
        "--stage",
        metavar="NAME=VALUE,…",
        action="append",
        help="a stage of the run with these parameter values, from where the last one ended (repeatable): a hard"
        " problem by way of easier ones",
    )
    parser.add_argument(
        "--sweep",
        metavar="NAME[=VALUES]",
        help="a run for each value of a parameter, or of a variable that is fixed at it, each from its neighbour:"
        ' "flow=evenly(0.01, 0.04, 13)", "pipe=[oak, larch]"; a name alone: all members of a variable that has them',
    )
    parser.add_argument("--step-log", action="store_true", help="print every iteration, in full words")
    parser.add_argument(
        "--draw-every", type=int, metavar="N", help="draw every Nth design of vector variables as profiles"
    )
    parser.add_argument(
        "--output",
        metavar="FILE",
        help="the figure of --sweep, --draw-every or --receding (.png, .svg), or the table of a sweep or closed loop"
        " (.csv)",
    )
    parser.add_argument(
        "--time-tolerance", metavar="X", type=float, help="error of what evolves over time, over its size (1e-4)"
    )
    parser.add_argument(
        "--scheme",
        metavar="NAME",
        help="states over time as unknowns on a grid, by a collocation scheme: radau, gauss-legendre, hermite-simpson,"
        " trapezoid; or `simulation` (chosen by the problem)",
    )
    parser.add_argument(
        "--steps", type=int, metavar="N", help="intervals of the time to begin with, in place of the file's"
    )
    parser.add_argument(
        "--scenarios", type=int, metavar="N", help="of a problem about scatter: how many are searched (default 1000)"
    )
    from ilvren.cli.receding import add_receding

    add_receding(parser)
    parser.add_argument(
        "--second-look",
        type=float,
        metavar="NUMBER",
        help="how long to look for better designs elsewhere once one is found, as a multiple of the usual second or so"
        " (1; with --method, --repeats or --sweep 0; 0: not at all)",
    )
    add_full(parser)
    add_ledger(parser)
    add_output_flags(parser)


def add_full(parser: argparse.ArgumentParser) -> None:
    """Declare --full."""
    parser.add_argument("--full", action="store_true", help="all rows, also when there are very many")


def add_limits(parser: argparse.ArgumentParser) -> None:
    """Declare the limits of a run."""
    parser.add_argument("--evaluations", type=int, metavar="N", help="most distinct designs to evaluate (100000)")
    parser.add_argument("--iterations", type=int, metavar="N", help="most iterations (no limit)")
    parser.add_argument("--seconds", type=float, metavar="S", help="most seconds (no limit)")
    parser.add_argument("--patience", type=int, metavar="N", help="most evaluations without progress (no limit)")
    parser.add_argument(
        "--workers",
        metavar="N",
        help="processes that evaluate models at the same time (1), or a cluster: dask://HOST:PORT",
    )


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.errors import RequestError
    from ilvren.methods import method_named
    from ilvren.problem import Refinement, checked_scenarios, checked_scheme, checked_steps, load
    from ilvren.runs import AUTOMATIC, GLOBAL, Settings

    problem = load(
        arguments.file,
        set=values_by_name("--set", arguments.set),
        start=values_by_name("--start", arguments.start),
        aim=aim_of(arguments),
        refinement=Refinement(
            tolerance=arguments.time_tolerance,
            scheme=checked_scheme(arguments.scheme),
            steps=checked_steps("--steps", arguments.steps),
            scatter=checked_scenarios(arguments.scenarios),
        ),
    )
    if arguments.scenarios is not None and not problem.is_about_scatter:
        raise RequestError(
            f"--scenarios: no formula of {arguments.file} is about scatter",
            advice="expected(…), quantile(…, 0.99) or chance(…) in an objective or a limit; `ilvren scatter` tells how"
            " a design fares",
        )
    if arguments.method not in (None, AUTOMATIC, GLOBAL):
        method_named(arguments.method, also=(GLOBAL,))
    given = {name: getattr(arguments, name) for name in LIMITS if getattr(arguments, name) is not None}
    settings = Settings(
        method=arguments.method or AUTOMATIC,
        options=words_by_name("--option", arguments.option),
        seed=arguments.seed,
        scaling=not arguments.no_scaling,
        derivatives=arguments.derivatives,
        fresh=arguments.fresh,
        label=arguments.label,
        reference_point=_reference(arguments.reference_point),
        ends_first=arguments.from_ends,
        **given,
    )
    extras = Extras(
        arguments.origin,
        arguments.step_log,
        arguments.draw_every,
        arguments.output,
        arguments.workers,
        tuple(arguments.known or ()),
        _stages(arguments.stage or ()),
        arguments.on,
        1 if arguments.rounds is None else arguments.rounds,
    )
    _check_extras(problem, arguments)
    if arguments.receding is not None:
        from ilvren.cli.receding import run_receding

        return run_receding(problem, settings, arguments, terminal)
    if arguments.repeats is not None:
        from ilvren.cli.repeating import run_repeats
        from ilvren.ledger import Ledger

        with Ledger(ledger_path(arguments.ledger)) as opened:
            return run_repeats(
                problem,
                arguments.repeats,
                settings,
                terminal,
                ledger=opened,
                as_json=arguments.json,
                full=arguments.full,
                workers=arguments.workers,
            )
    if arguments.sweep is not None:
        from ilvren.cli.sweeping import run_sweep, swept
        from ilvren.ledger import Ledger

        name, values = swept(arguments.sweep)
        with Ledger(ledger_path(arguments.ledger)) as opened:
            return run_sweep(
                problem,
                name,
                values,
                settings,
                terminal,
                ledger=opened,
                as_json=arguments.json,
                full=arguments.full,
                output=arguments.output,
                workers=arguments.workers,
            )
    return run_and_show(
        problem, settings, arguments.ledger, terminal, as_json=arguments.json, full=arguments.full, extras=extras
    )


@dataclass(frozen=True)
class Extras:
    """What one run may be asked beside its settings: a run to start from, a log, a figure of designs."""

    origin: str | None = None
    step_log: bool = False
    draw_every: int | None = None
    output: str | None = None
    workers: str | None = None
    known: tuple[str, ...] = ()
    stages: tuple[dict[str, object], ...] = ()
    on: str | None = None
    rounds: int = 1


def _reference(text: str | None) -> dict[str, float] | None:
    """Return {objective: value} of --reference-point. Raises RequestError."""
    from ilvren.errors import RequestError

    if text is None:
        return None
    found: dict[str, float] = {}
    for name, value in values_by_name("--reference-point", text.split(",")).items():
        if not isinstance(value, (int, float)) or not math.isfinite(value):
            raise RequestError(f"--reference-point {name}={value}: a number is expected")
        found[name] = float(value)
    return found


def _stages(texts: Iterable[str]) -> tuple[dict[str, object], ...]:
    """Return the parameters of each stage. Raises RequestError."""
    return tuple(dict(values_by_name("--stage", re.split(r",(?=\s*[A-Za-z_]\w*\s*=)", text))) for text in texts)


def _check_extras(problem: Problem, arguments: argparse.Namespace) -> None:
    """Raise RequestError for flags that do not go together or ask for nothing."""
    from ilvren.cli.files import check_suffix
    from ilvren.errors import RequestError

    if arguments.output is not None:
        if arguments.sweep is None and arguments.draw_every is None and arguments.receding is None:
            raise RequestError(
                "--output needs --sweep, --draw-every or --receding", advice="`ilvren export` writes a run to a file"
            )
        has_table = arguments.sweep or arguments.receding
        check_suffix(arguments.output, (".png", ".svg", ".csv") if has_table else (".png", ".svg"))
    for flag, given in (("--plant", arguments.plant), ("--noise", arguments.noise)):
        if given and arguments.receding is None:
            raise RequestError(f"{flag} goes with --receding: it says how the plant differs from the file")
    several_runs = (("--sweep", arguments.sweep), ("--repeats", arguments.repeats), ("--receding", arguments.receding))
    for several, is_given in several_runs:
        if is_given is None:
            continue
        for flag, given in (
            ("--from", arguments.origin),
            ("--known", arguments.known),
            ("--stage", arguments.stage),
            ("--on", arguments.on),
            ("--step-log", arguments.step_log),
            ("--draw-every", arguments.draw_every),
            ("--repeats", arguments.repeats if several != "--repeats" else None),
            ("--sweep", arguments.sweep if several == "--receding" else None),
        ):
            if given:
                raise RequestError(f"{flag} is for one run, {several} makes several", advice="leave one of them out")
    if arguments.rounds is not None:
        if arguments.on is None:
            raise RequestError("--rounds goes with --on: it says how often an approximation is learnt again")
        if arguments.rounds < 1:
            raise RequestError(f"--rounds must be at least 1, not {arguments.rounds}")
    if arguments.draw_every is not None:
        if arguments.draw_every < 1:
            raise RequestError(f"--draw-every must be at least 1, not {arguments.draw_every}")
        if all(block.size == 1 for block in problem.blocks):
            raise RequestError(
                "--draw-every draws variables over a line or grid, and this problem has scalars only",
                advice="`ilvren draw FILE --run RUN` draws the path of a run over two variables",
            )


def _limits_of(settings: Settings) -> tuple[int | None, float | None]:
    """Return the evaluations and seconds that were asked for, None for the usual limit, which is far away."""
    from ilvren.runs import DEFAULT_EVALUATIONS

    asked = settings.evaluations if settings.evaluations != DEFAULT_EVALUATIONS else None
    return asked, settings.seconds


def run_and_show(
    problem: Problem,
    settings: Settings,
    ledger: str | None,
    terminal: Terminal,
    *,
    as_json: bool,
    full: bool,
    extras: Extras | None = None,
) -> int:
    """Run with progress, print the result and return the exit status."""
    from ilvren.cli.progress import progress_of
    from ilvren.ledger import Ledger
    from ilvren.runs import check_workers, run

    extras = extras or Extras()
    progress = progress_of(problem, terminal, is_quiet=extras.step_log, limits=_limits_of(settings))
    listener: Callable[[Event], None] = progress
    if extras.step_log:
        from ilvren.cli.step_log import StepLog

        log = StepLog(terminal, to_error=as_json)

        def listener(event: Event) -> None:
            progress(event)
            log(event)

    if problem.seeks_feasible:
        what = "no objective" if problem.objective is None else "a constant objective"
        terminal.note(f"{what}: this run looks for any feasible design")
    if settings.second_look:
        from ilvren.runs import no_second_look

        why_not = no_second_look(problem, settings)
        if why_not:
            terminal.note(f"--second-look: none is taken: {why_not}")
    if extras.workers is not None:
        check_workers(extras.workers)
        if not problem.sources:
            terminal.note("--workers: a problem of formulas is evaluated in batches in this process; it needs none")
    with Ledger(ledger_path(ledger)) as opened:
        for note in opened.notes:
            terminal.note(note)
        try:
            result = run(
                problem,
                settings,
                ledger=opened,
                listener=listener,
                origin=extras.origin,
                known=extras.known,
                stages=extras.stages,
                workers=extras.workers,
                on=_on(opened, extras, problem, terminal),
            )
        finally:
            progress.close()
    for note in result.notes:
        terminal.note(note)
    if extras.draw_every is not None:
        _draw_designs(result, extras, terminal, ledger)
    return finish(result, terminal, ledger=ledger, as_json=as_json, full=full)


def _on(ledger: Ledger, extras: Extras, problem: Problem, terminal: Terminal) -> On | None:
    """Return the approximation that is to be searched on, None for none. Raises RequestError."""
    if extras.on is None:
        return None
    from ilvren.cli.sample import what_is_called
    from ilvren.explore import relearner
    from ilvren.problem import on_document
    from ilvren.runs import On

    record = ledger.approximation(extras.on)
    called = what_is_called(on_document(problem, record.document))
    if called:
        terminal.note(f"{record.id}{called}")
    again = relearner(ledger, record) if extras.rounds > 1 else None
    return On(record.id, (record.document,), extras.rounds, relearn=again)


def _draw_courses(result: RunResult, extras: Extras, every: int, terminal: Terminal, ledger: str | None) -> None:
    """Draw the courses on the way to the last one, of all stages, and what states are worth along that."""
    from ilvren.cli.files import read_ledger
    from ilvren.draw import draw_responses
    from ilvren.judge import course_names, recorded_responses

    with read_ledger(ledger_path(ledger)) as opened:
        found = recorded_responses(opened, result.id, every)
    path = extras.output or f"{result.id}-courses.png"
    title = f"{result.problem.title or result.problem.source.file}: every {every}. course of {result.method}"
    draw_responses(found, course_names(found[-1]), path, title=title)
    terminal.note(f"{path}: {len(found)} courses")


def _draw_designs(result: RunResult, extras: Extras, terminal: Terminal, ledger: str | None) -> None:
    import numpy as np

    from ilvren.draw import draw_profiles

    every = extras.draw_every or 1
    if result.whole is not None and result.id:
        _draw_courses(result, extras, every, terminal, ledger)
        return
    kept = [item for item in result.iterations if item.point]
    designs = [(item.number, np.frombuffer(item.point)) for item in kept if item.number % every == 0]
    if kept and kept[-1].number % every:
        designs.append((kept[-1].number, np.frombuffer(kept[-1].point)))
    if not designs:
        terminal.note("no iteration was made: nothing to draw")
        return
    path = extras.output or f"{result.id or result.method}-designs.png"
    title = f"{result.problem.title or result.problem.source.file}: every {every}. design of {result.method}"
    if every == 1:
        title = f"{result.problem.title or result.problem.source.file}: the designs of {result.method}"
    draw_profiles(result.problem, designs, path, title=title)
    terminal.note(f"{path}: {len(designs)} designs")


def finish(result: RunResult, terminal: Terminal, *, ledger: str | None, as_json: bool, full: bool) -> int:
    """Print a result and return the exit status."""
    if as_json:
        terminal.document(result.to_dict(full=full))
    else:
        from ilvren.cli.outcome import show_result

        show_result(result, terminal, ledger=ledger, full=full)
    stopped = status.of_stopped([result], terminal)
    if stopped is not None:
        return stopped
    return status.HOLDS if result.holds else status.DOES_NOT_HOLD

"""Groups and runs summed up by method, as tables, JSON and figures."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING

from rich.text import Text

from ilvren.cli import status
from ilvren.cli.arguments import ledger_path, numbers
from ilvren.cli.tables.table import count, number, seconds_text, small, table, with_unit

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ilvren.cli.terminal import Terminal
    from ilvren.judge import Comparison, ContestSummary, Fixing, MethodSummary
    from ilvren.problem import Problem

__all__ = ["FIGURES", "check_figure", "distances_of", "draw_summary", "reference_of", "show_optima", "summarize"]

FIGURES = ("histories", "profiles", "paths", "designs", "basins", "predictions", "fronts", "attainment")
# Distinct optima and pairs of methods listed at most.
MOST_OPTIMA, MOST_PAIRS = 8, 15


def check_figure(arguments: argparse.Namespace) -> None:
    """Raise RequestError for a figure that does not exist, or numbers without meaning, before anything is run."""
    from ilvren.cli.files import check_suffix
    from ilvren.errors import RequestError, nearest
    from ilvren.judge import ALONG

    if arguments.along not in ALONG:
        close = nearest(arguments.along, ALONG)
        raise RequestError(
            f"--along {arguments.along}: histories run along {', '.join(ALONG)}",
            advice=f'did you mean "{close}"?' if close else None,
        )
    if arguments.figure is not None and arguments.figure not in FIGURES:
        close = nearest(arguments.figure, FIGURES)
        raise RequestError(
            f"--figure {arguments.figure}: there is no such figure",
            advice=f'did you mean "{close}"?' if close else "one of " + ", ".join(FIGURES),
        )
    if arguments.figure is not None and not arguments.output:
        raise RequestError("--figure needs --output FILE", advice="--output figure.png")
    if arguments.output:
        check_suffix(arguments.output, (".png", ".svg"))
    within, worth = arguments.solved_within, arguments.gradient_worth
    if within is not None and not 0.0 < within < math.inf:
        raise RequestError(f"--solved-within must be a number above 0, not {within:g}")
    if worth is not None and not 0.0 <= worth < math.inf:
        raise RequestError(f"--gradient-worth must be a number from 0, not {worth:g}")


def distances_of(text: str | None) -> tuple[float, ...]:
    """Return the distances of --within. Raises RequestError."""
    from ilvren.errors import RequestError
    from ilvren.judge import DISTANCES

    if text is None:
        return DISTANCES
    try:
        found = tuple(float(part) for part in text.split(","))
    except ValueError:
        found = ()
    if not found or not all(0.0 < value < math.inf for value in found) or len(set(found)) < len(found):
        raise RequestError(f"--within {text}: distances are numbers above 0", advice="for example --within 1e-3,1e-6")
    return found


def reference_of(arguments: argparse.Namespace, problem: Problem) -> float | None:
    """Return the value of --reference. Raises RequestError when it is not that of the objective."""
    from ilvren.errors import RequestError

    if not arguments.reference:
        return None
    objective = problem.objective
    given = numbers("--reference", [arguments.reference])
    if objective is None or objective.name not in given:
        known = f'the objective is "{objective.name}"' if objective else "the runs have no objective"
        raise RequestError(f"--reference {arguments.reference}: {known}")
    return given[objective.name]


def summarize(
    references: Sequence[str], arguments: argparse.Namespace, terminal: Terminal, *, interrupted: bool = False
) -> int:
    """Sum up groups and runs, print or draw it, and return the exit status."""
    from ilvren.judge import GRADIENT_WORTH, SOLVED, contest_summary

    options = {
        "gradient_worth": GRADIENT_WORTH if arguments.gradient_worth is None else arguments.gradient_worth,
        "solved_within": SOLVED if arguments.solved_within is None else arguments.solved_within,
        "distances": distances_of(getattr(arguments, "within", None)),
        "along": arguments.along,
    }
    path = ledger_path(arguments.ledger)
    if interrupted:
        from ilvren.ledger import Ledger

        with Ledger(path, read_only=True) as ledger:
            if not any(ledger.group(name).runs for name in references):
                return status.INTERRUPTED
    if _are_fronts(references, path):
        from ilvren.cli.files import read_ledger
        from ilvren.cli.front_compare import compare_recorded_fronts

        with read_ledger(path) as ledger:
            found = compare_recorded_fronts(references, arguments, ledger, terminal)
        return status.INTERRUPTED if interrupted else found
    summary = contest_summary(references, path, **options)
    reference = reference_of(arguments, summary.comparisons[0].tracks[0].problem)
    if reference is not None:
        summary = contest_summary(references, path, reference=reference, **options)
    if arguments.json:
        terminal.document(summary.to_dict())
    else:
        show_summary(summary, terminal)
    if arguments.output:
        draw_summary(summary, arguments, terminal)
    if interrupted:
        return status.INTERRUPTED
    return status.HOLDS if summary.holds else status.DOES_NOT_HOLD


def _are_fronts(references: Sequence[str], path: str) -> bool:
    from ilvren.cli.files import read_ledger
    from ilvren.cli.front_compare import have_several

    with read_ledger(path) as ledger:
        return have_several(ledger, references)


def show_summary(summary: ContestSummary, terminal: Terminal) -> None:
    """Print the summary."""
    total = sum(len(comparison.tracks) for comparison in summary.comparisons)
    names = [comparison.problem_name for comparison in summary.comparisons]
    what = names[0] if len(names) == 1 else count(len(names), "problem")
    terminal.show(Text(f"{summary.name}  {count(total, 'run')} on {what}", style="bold"))
    if summary.missing:
        terminal.show(
            f"{count(summary.missing, 'run')} of the plan are missing: `ilvren resume {summary.name}` goes on"
        )
    unit = {"evaluations": "evaluations", "iterations": "iterations", "seconds": "s"}[summary.along]
    heads = ["method", ">runs", ">solved", ">share", f">{unit}: quarter", ">half", ">three quarters"]
    heads += [">gap, median", ">time, median", "unsolved ended"]
    terminal.show(table(heads, [_row(item) for item in summary.methods]))
    terminal.show(f"solved: a feasible design within {number(summary.solved_within)} of the best known, relative")
    rate = f"; a gradient counts as {number(summary.gradient_worth)}" if summary.along == "evaluations" else ""
    terminal.show(
        f"quarter, half, three quarters: by so many {summary.along} that share of all runs had solved it{rate}"
    )
    distances = list(summary.methods[0].arrivals) if summary.methods else []
    if distances:
        from ilvren.judge import distance_text

        heads = ["first arrival, median (runs)", *(f">to {distance_text(distance)}" for distance in distances)]
        terminal.show(table(heads, [_arrival_row(item) for item in summary.methods]))
    for comparison in summary.comparisons:
        show_optima(comparison, terminal, is_named=len(summary.comparisons) > 1)
        if comparison.allowance:
            terminal.show_sentence(comparison.allowance, indent="")
    for item in summary.fixings:
        terminal.show_sentence(_fixing_told(item, summary), indent="")
    for test in summary.tests[:MOST_PAIRS]:
        terminal.show(f"- {test.sentence}")
    if len(summary.tests) > MOST_PAIRS:
        terminal.show(f"- {len(summary.tests) - MOST_PAIRS} more pairs of methods: --json has all")
    if summary.performance:
        rows = [
            (one.method, *(_percent(one.at(ratio)) for ratio in (1.0, 2.0, 5.0, 10.0)), _percent(one.solved))
            for one in summary.performance
        ]
        heads = ["share solved at", ">least cost", ">2 times", ">5 times", ">10 times", ">any cost"]
        terminal.show(table(heads, rows))


def _fixing_told(item: Fixing, summary: ContestSummary) -> str:
    """Say what it costs that one problem has variables fixed which another leaves free."""
    objective = summary.comparisons[0].tracks[0].problem.objective
    unit = objective.unit if objective is not None else ""
    names = ", ".join(item.fixed[:6]) + (" and more" if len(item.fixed) > 6 else "")
    share = f" ({100.0 * item.share:.2g} %)" if math.isfinite(item.share) else ""
    if item.cost <= 0.0:
        return f"{item.file} fixes {names} of {item.of}: it costs nothing, by what these runs found"
    told = with_unit(item.cost, unit, 4)
    return f"{item.file} fixes {names} of {item.of}: it costs {told}{share}, by the best that was found of each"


def _arrival_row(item: MethodSummary) -> tuple[str, ...]:
    cells = [
        f"{'never' if math.isinf(median) else number(median, 4)} ({runs})" for runs, median in item.arrivals.values()
    ]
    return (item.series, *cells)


def _percent(share: float) -> str:
    return f"{100.0 * share:.0f} %"


def _row(item: MethodSummary) -> tuple[str, ...]:
    def cost(value: float) -> str:
        return "never" if math.isinf(value) else number(value, 4)

    failures = ", ".join(f"{n} {word}" for word, n in sorted(item.failures.items(), key=lambda pair: -pair[1]))
    gap = "-" if math.isinf(item.gaps.median) else small(item.gaps.median)
    return (
        item.series,
        str(item.runs),
        str(item.solved),
        _percent(item.share),
        cost(item.costs.lower),
        cost(item.costs.median),
        cost(item.costs.upper),
        gap,
        seconds_text(item.seconds.median),
        failures,
    )


def show_optima(comparison: Comparison, terminal: Terminal, *, is_named: bool = False) -> None:
    """Print the best known, and which distinct designs the runs ended at."""
    from ilvren.judge import final_optima

    objective = comparison.tracks[0].problem.objective
    name, unit = (objective.name, objective.unit) if objective is not None else ("objective", "")
    head = f"{comparison.problem_name}: " if is_named else ""
    source = "given" if comparison.is_reference else "the best feasible of these runs"
    if objective is None:
        terminal.show(f"{head}nothing is minimized: a run has solved it with its first feasible design")
        return
    if comparison.best is None:
        terminal.show(f"{head}no run found a feasible design")
        return
    terminal.show(f"{head}best {name}: {with_unit(comparison.best, unit, 8)} ({source})")
    optima = final_optima(comparison.tracks)
    if len(optima) < 2:
        return
    rows = []
    for item in optima[:MOST_OPTIMA]:
        ids = [comparison.tracks[place].id for place in item.places]
        told = ", ".join(ids[:8]) + (f" and {len(ids) - 8} more" if len(ids) > 8 else "")
        note = f"same objective as {item.twin_of}, another design" if item.twin_of else ""
        rows.append((item.letter, number(item.objective, 8), str(len(ids)), told, note))
    terminal.show(table(("end", f">{name}", ">runs", "which", "note"), rows))
    if len(optima) > MOST_OPTIMA:
        terminal.show(f"and {len(optima) - MOST_OPTIMA} more distinct designs")


def draw_summary(summary: ContestSummary, arguments: argparse.Namespace, terminal: Terminal) -> None:
    """Write the figure asked for. Raises RequestError where these runs do not make one."""
    from ilvren.draw import draw_basins, draw_designs, draw_paths, draw_series, draw_shares
    from ilvren.errors import RequestError

    several = len(summary.comparisons) > 1
    kind = arguments.figure or ("profiles" if several else "histories")
    if several and kind != "profiles":
        raise RequestError(f"--figure {kind}: shows one problem, and these are several", advice="--figure profiles")
    if kind == "predictions":
        from ilvren.draw import draw_foretold

        draw_foretold(summary.comparisons[0], arguments.output)
        terminal.note(f"{arguments.output}: what surfaces predicted along the runs, and what came of it")
        return
    drawing = {
        "histories": draw_series,
        "profiles": draw_shares,
        "paths": draw_paths,
        "designs": draw_designs,
        "basins": draw_basins,
    }[kind]
    drawing(summary, arguments.output)
    terminal.note(f"{arguments.output}: {kind} of {summary.name}")

"""`ilvren approximate`: surfaces in place of models, with what they get wrong."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from collections.abc import Callable

    from ilvren.cli.terminal import Terminal
    from ilvren.explore import Learned
    from ilvren.ledger import Ledger

EXAMPLES = """examples:
  ilvren sample pipe.toml --points 40 --label first-look
  ilvren approximate first-look
  ilvren approximate first-look --of friction --test-points 8 --output friction.png
  ilvren approximate first-look --infill 20 --error 0.02
  ilvren run pipe.toml --on a1
"""

KINDS = ("automatic", "polynomial", "gaussian-process", "radial-basis")
SUFFIXES = (".png", ".svg", ".html", ".json")
# Inputs named for each output, and the least share worth naming.
MOST_INPUTS, LEAST_SHARE = 4, 0.005
# An error, over the deviation of the values, that a search can build on; one that it cannot.
GOOD, POOR = 0.1, 0.5


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("runs", metavar="RUN", nargs="+", help="samples and other runs of one problem: ids or labels")
    parser.add_argument(
        "--of",
        metavar="NAME[,NAME]",
        action="append",
        default=[],
        help="what is approximated (default: the outputs of models; without any, objectives and limits)",
    )
    parser.add_argument("--kind", choices=KINDS, default="automatic", help="one kind of surface alone")
    parser.add_argument(
        "--test-points", type=int, default=0, metavar="N", help="keep N designs, drawn at random, for a test"
    )
    parser.add_argument(
        "--infill", type=int, metavar="N", help="evaluate up to N more designs, in rounds, where it knows least"
    )
    parser.add_argument(
        "--error",
        type=float,
        metavar="SHARE",
        help="with --infill: enough when every error is at most this share of the values' deviation",
    )
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="of what is drawn at random (default 0)")
    parser.add_argument(
        "--output",
        metavar="FILE",
        help="predicted against actual (.png, .svg), a page with sliders (.html), or the approximation itself (.json)",
    )
    parser.add_argument("--workers", metavar="N", help="with --infill: evaluate models in so many processes")
    parser.add_argument("--label", metavar="WORD", help="a name for the approximation, beside its id")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix, recorded_ledger
    from ilvren.ledger import Ledger
    from ilvren.runs import check_label

    if arguments.output:
        check_suffix(arguments.output, SUFFIXES)
    check_label(arguments.label)
    of = [name.strip() for text in arguments.of for name in text.split(",") if name.strip()]
    with Ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
        learned = _learned(arguments, ledger, of, terminal)
        name = ledger.next_approximation()
        agreement = {full: output.agreement.to_dict() for full, output in learned.outputs.items()}
        facts = {**learned.facts, "told": {**learned.summary(name), "considered": None}, "agreement": agreement}
        record = ledger.add_approximation(learned.runs, facts, learned.document(name), label=arguments.label)
        if arguments.output:
            write(learned, record.id, arguments.output, terminal)
        if arguments.json:
            terminal.document(learned.summary(record.id))
        else:
            show(learned, record.id, record.label, terminal)
    return status.HOLDS


def _learned(arguments: argparse.Namespace, ledger: Ledger, of: list[str], terminal: Terminal) -> Learned:
    from ilvren.explore import Round, infilled, learned
    from ilvren.runs import check_workers

    how: dict[str, Any] = {
        "of": of,
        "kind": arguments.kind,
        "test_points": arguments.test_points,
        "seed": arguments.seed,
        "progress": progress_on(terminal),
    }
    if arguments.infill is None:
        for flag, given in (("--error", arguments.error), ("--workers", arguments.workers)):
            if given is not None:
                raise RequestError(f"{flag} goes with --infill: without it nothing is evaluated")
        found = learned(ledger, arguments.runs, **how)
        terminal.progress("")
        return found
    if arguments.workers is not None:
        check_workers(arguments.workers)

    def told(item: Round) -> None:
        terminal.progress("")
        more = f"{item.designs} more designs" if item.designs else "as it is"
        terminal.note(f"{more}: the largest error is {_percent(item.error)}, of {item.name}")

    return infilled(
        ledger, arguments.runs, arguments.infill, error=arguments.error, workers=arguments.workers, told=told, **how
    )


def progress_on(terminal: Terminal) -> Callable[[str, float], None]:
    """Return what tells how far the fitting is."""

    def told(name: str, share: float) -> None:
        terminal.progress("" if share >= 1.0 else f"fitting {name}: {100.0 * share:.0f} %")

    return told


def show(learned: Learned, name: str, label: str | None, terminal: Terminal) -> None:
    """Tell how good an approximation is."""
    from rich.text import Text

    from ilvren.cli.tables.table import number, table as framed

    title = learned.problem.title or learned.problem.source.file
    word = f" ({label})" if label else ""
    terminal.show(Text(f"{name}{word}  approximation of {title}, from {', '.join(learned.runs)}", style="bold"), "")
    has_test = any(output.tested is not None for output in learned.outputs.values())
    rows = []
    for full, output in learned.outputs.items():
        told = output.approximated.told
        rows.append(
            (
                full,
                output.approximated.surface.kind,
                f"{output.approximated.surface.terms:,}",
                f"{len(output.y):,}",
                _percent(told.error),
                _percent(told.explained),
                number(told.largest, 3) + (f" {output.unit}" if output.unit else ""),
                output.addresses[told.where],
                _percent(told.covered[0.9]),
                *((_percent(output.tested.error) if output.tested else "",) if has_test else ()),
            )
        )
    heads = ("output", "kind", ">terms", ">points", ">error", ">explained", ">largest", "at", ">90 % holds")
    terminal.show(framed((*heads, *((">tested",) if has_test else ())), rows))
    terminal.show(
        "error: of points left out of the whole choice, over the deviation of the values; 90 % holds: the share of such"
        " points within 90 % intervals"
    )
    rows = []
    for full, output in learned.outputs.items():
        ranked = sorted(output.matters.items(), key=lambda pair: -pair[1])
        first = [f"{key} {_percent(share)}" for key, share in ranked[:MOST_INPUTS] if share >= LEAST_SHARE]
        rows.append((full, ", ".join(first), ", ".join(key for key, share in ranked if share < LEAST_SHARE)))
    terminal.show(framed(("output", "what its variance comes from", "hardly anything"), rows))
    for note in learned.notes:
        terminal.note(note)
    for sentence in advice(learned):
        terminal.show_sentence(sentence, indent="")
    file = learned.problem.source.file
    terminal.show(f"next: ilvren run {file} --on {name}; ilvren draw {file} --on {name}")


def _percent(share: float) -> str:
    if not math.isfinite(share):
        return "-"
    return f"{100.0 * share:.3g} %" if abs(share) >= 1e-4 or share == 0.0 else f"{100.0 * share:.0e} %"


def advice(learned: Learned) -> list[str]:
    """Return what the errors mean, in sentences."""
    worst = max(learned.outputs.items(), key=lambda pair: pair[1].approximated.told.error)
    name, output = worst
    error = output.approximated.told.error
    few = len(output.y) < 4 * len(output.matters)
    more = f"`ilvren sample {learned.runs[0]} --more N`, or --infill N"
    if error > POOR:
        return [
            f"{name} is hardly told by these points (error {_percent(error)}): a search on it is a guess; {more}"
            + (", and fewer variables" if few else "")
        ]
    if error > GOOD:
        return [
            f"{name} is the least sure (error {_percent(error)}): good for finding where to look; {more} sharpens it"
        ]
    return []


def write(learned: Learned, name: str, path: str, terminal: Terminal) -> None:
    """Write a figure, a page or the document."""
    from pathlib import Path

    suffix = Path(path).suffix.lower()
    if suffix == ".json":
        Path(path).write_text(learned.document(name), encoding="utf-8")
        terminal.note(f'{path}: {name}, to be read as a model: approximation = "{Path(path).name}"')
    elif suffix == ".html":
        from ilvren.draw.approximation import write_sliders

        write_sliders(learned.problem, name, learned.document(name), path)
        terminal.note(f"{path}: {', '.join(learned.outputs)} with a slider for every input")
    else:
        from ilvren.draw.approximation import draw_predicted

        title = f"{name} of {learned.problem.title or learned.problem.source.file}"
        draw_predicted({full: output.agreement for full, output in learned.outputs.items()}, title, path)
        terminal.note(f"{path}: predicted against actual, of points left out")

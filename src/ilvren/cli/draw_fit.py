"""`ilvren draw DESIGN --fit`: a fit beside its readings."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import ledger_path

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal

__all__ = ["draw_fit_of"]


def draw_fit_of(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Draw the readings, the model and what is left over, of a design on record. Raises RequestError."""
    import numpy as np

    from ilvren.cli.files import note_changed_file, note_changed_models, read_ledger, recorded_ledger
    from ilvren.draw import draw_fit
    from ilvren.errors import RequestError
    from ilvren.evaluate import Gate
    from ilvren.runs import addressed, estimates_of, fitted_entries, problem_of, recorded_calls, told_lines

    if arguments.file.endswith(".toml"):
        raise RequestError(
            f"--fit draws a design on record, not a file such as {arguments.file}",
            advice="name a run: ilvren draw last --fit --output fit.png",
        )
    for flag, given in (("--of", arguments.of), ("--variables", arguments.variables), ("--run", arguments.run)):
        if given:
            raise RequestError(f"{flag} does not go with --fit", advice="leave one of them out")
    with read_ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
        found = addressed(ledger, arguments.file)
        problem = problem_of(found.record)
        note_changed_models(found.record, problem, terminal)
        point = np.array(found.point)
        gate = Gate(problem, calls=recorded_calls(problem, ledger, found.record, only=False))
        estimates = estimates_of(problem, gate, point)
        if estimates is None:
            why = "its problem has no [fit]"
            if problem.residuals:
                why = "no derivatives that are finite here, or more parameters than errors are worked out for"
            raise RequestError(f"{found.address}: {why}")
        entries = fitted_entries(problem, point, estimates, gate.calls)
    note_changed_file(found.record, terminal)
    lines = problem.aim.lines
    told = f", fitted on {told_lines(lines)}" if lines else ""
    draw_fit(
        entries,
        arguments.output,
        title=f"{problem.title or problem.source.file}: {found.address}{told}",
    )
    if arguments.json:
        document = {"kind": "fit", "output": arguments.output, "design": found.address}
        terminal.document(document | {"entries": [entry.to_dict() for entry in entries]})
    names = ", ".join(entry.name for entry in entries)
    terminal.note(f"{arguments.output}: {names} of {found.address}")
    return status.HOLDS

"""A constraint as written → rows, of single values or of what changes over time."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ilvren.errors import FormulaError
from ilvren.formula import parse_limits
from ilvren.problem.compared_rows import compared
from ilvren.problem.entries import EntryDeclaration, formula_text

if TYPE_CHECKING:
    from ilvren.problem.template import Template
    from ilvren.problem.template_parts import RowTemplate

__all__ = ["row_templates"]


def row_templates(template: Template, entry: EntryDeclaration) -> list[RowTemplate]:
    """Return the row templates of a constraint: two for a chain with a side that varies. Raises ProblemError."""
    text = formula_text(entry.formula)
    try:
        limits = parse_limits(text)
    except FormulaError as error:
        template.fail_at(entry, error)
    if template.axes:
        from ilvren.problem.time_rows import rows_over_time  # few files have things that evolve

        found = rows_over_time(template, entry, limits)
        if found is not None:
            return found
    return compared(template, entry, limits, lambda side: template.lower_entry(entry, side))

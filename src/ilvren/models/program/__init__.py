"""Values that other programs compute: numbers written into their decks, and read from what they leave.

Knows texts, files, numbers and processes; never formulas, problems or methods.
"""

from ilvren.models.program.decks import Deck, argument_names, names_in_template, template_trouble
from ilvren.models.program.reading import TAKES, Found, Missing, Reading, read_values
from ilvren.models.program.source import KEEPS, ProgramCall, ProgramSource
from ilvren.models.program.writing import CannotWrite, Put, placed_at, replaced

__all__ = [
    "KEEPS",
    "TAKES",
    "CannotWrite",
    "Deck",
    "Found",
    "Missing",
    "ProgramCall",
    "ProgramSource",
    "Put",
    "Reading",
    "argument_names",
    "names_in_template",
    "placed_at",
    "read_values",
    "replaced",
    "template_trouble",
]

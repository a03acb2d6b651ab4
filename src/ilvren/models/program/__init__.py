"""Values that other programs compute: numbers written into their decks, and read from what they leave.

Knows texts, files and numbers; never formulas, problems or methods.
"""

from ilvren.models.program.reading import Found, Missing, Reading, read_values
from ilvren.models.program.writing import CannotWrite, Put, replaced

__all__ = ["CannotWrite", "Found", "Missing", "Put", "Reading", "read_values", "replaced"]

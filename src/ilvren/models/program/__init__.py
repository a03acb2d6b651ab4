"""Values that other programs compute: numbers written into their decks, and read from what they leave.

Knows texts, files, numbers and processes; never formulas, problems or methods.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.models.program.decks import (
        Deck as Deck,
        argument_names as argument_names,
        names_in_template as names_in_template,
        template_trouble as template_trouble,
    )
    from ilvren.models.program.locating import (
        Located as Located,
        entry_text as entry_text,
        in_order as in_order,
        located as located,
        nearest_numbers as nearest_numbers,
    )
    from ilvren.models.program.numbers import as_number as as_number
    from ilvren.models.program.reading import (
        TAKES as TAKES,
        Found as Found,
        Missing as Missing,
        Reading as Reading,
        nearest_lines as nearest_lines,
        read_values as read_values,
    )
    from ilvren.models.program.running import inside as inside
    from ilvren.models.program.source import KEEPS as KEEPS, ProgramCall as ProgramCall
    from ilvren.models.program.wardens import warden as warden
    from ilvren.models.program.writing import (
        CannotWrite as CannotWrite,
        Put as Put,
        placed_at as placed_at,
        replaced as replaced,
    )

__getattr__, __all__ = door(
    __name__,
    {
        "decks": "Deck argument_names names_in_template template_trouble",
        "locating": "Located entry_text in_order located nearest_numbers",
        "numbers": "as_number",
        "reading": "Found Missing Reading TAKES nearest_lines read_values",
        "running": "inside",
        "source": "KEEPS ProgramCall",
        "wardens": "warden",
        "writing": "CannotWrite Put placed_at replaced",
    },
)

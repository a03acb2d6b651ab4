"""What deserves a look before any run: derivatives, scaling, conflicts between limits, domains, units."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.judge.checking.finding import Finding as Finding
    from ilvren.judge.checking.programs import (
        InputLine as InputLine,
        ProgramCheck as ProgramCheck,
        ValueLine as ValueLine,
    )
    from ilvren.judge.checking.report import CHECKS as CHECKS, CheckReport as CheckReport, check as check

__getattr__, __all__ = door(
    __name__,
    {
        "finding": "Finding",
        "programs": "InputLine ProgramCheck ValueLine",
        "report": "CHECKS CheckReport check",
    },
)

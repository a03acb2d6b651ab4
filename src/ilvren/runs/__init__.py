"""The loop that pairs a problem with a method: limits, stops, replay, events, and what is recorded.

Never asks which method it holds, only what the method declared. Knows nothing of terminals.
"""

from ilvren.runs.choice import AUTOMATIC, GLOBAL, Choice, choose
from ilvren.runs.conditions import Conditions, first_order_conditions
from ilvren.runs.events import Ended, Event, Finer, Iterated, LookedOn, Sampled, StageBegun, Started
from ilvren.runs.incumbents import Incumbent
from ilvren.runs.loop import is_large
from ilvren.runs.pool import check_workers
from ilvren.runs.predicted import On
from ilvren.runs.repeats import Quartiles, Repeats, repeat
from ilvren.runs.result import RunResult
from ilvren.runs.second_look import no_second_look
from ilvren.runs.settings import Settings
from ilvren.runs.start import resume, run
from ilvren.runs.sweep import Member, Sweep, resume_sweep, sweep

__all__ = [
    "AUTOMATIC",
    "GLOBAL",
    "Choice",
    "Conditions",
    "Ended",
    "Event",
    "Finer",
    "Incumbent",
    "Iterated",
    "LookedOn",
    "Member",
    "On",
    "Quartiles",
    "Repeats",
    "RunResult",
    "Sampled",
    "Settings",
    "StageBegun",
    "Started",
    "Sweep",
    "check_workers",
    "choose",
    "first_order_conditions",
    "is_large",
    "no_second_look",
    "repeat",
    "resume",
    "resume_sweep",
    "run",
    "sweep",
]

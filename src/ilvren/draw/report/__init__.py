"""The report: runs, groups and verdicts, or samples and approximations, as one page that needs no network, or as text.

`content` and `survey` gather what is told, `page` and `text` write it.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.draw.report.content import gather as gather
    from ilvren.draw.report.fronts import front_survey as front_survey, has_fronts as has_fronts
    from ilvren.draw.report.page import write_page as write_page
    from ilvren.draw.report.survey_files import write_survey as write_survey
    from ilvren.draw.report.surveys import is_survey as is_survey, survey as survey
    from ilvren.draw.report.sweeps import is_sweep as is_sweep, sweep_survey as sweep_survey
    from ilvren.draw.report.text import write_text as write_text

__getattr__, __all__ = door(
    __name__,
    {
        "content": "gather",
        "fronts": "front_survey has_fronts",
        "page": "write_page",
        "survey_files": "write_survey",
        "surveys": "is_survey survey",
        "sweeps": "is_sweep sweep_survey",
        "text": "write_text",
    },
)

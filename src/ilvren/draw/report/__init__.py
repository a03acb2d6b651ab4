"""The report: runs, groups and verdicts, or samples and approximations, as one page that needs no network, or as text.

`content` and `survey` gather what is told, `page` and `text` write it.
"""

from ilvren.draw.report.content import Report, gather
from ilvren.draw.report.fronts import front_survey, has_fronts
from ilvren.draw.report.page import write_page
from ilvren.draw.report.survey_files import write_survey
from ilvren.draw.report.text import write_text

__all__ = ["Report", "front_survey", "gather", "has_fronts", "write_page", "write_survey", "write_text"]

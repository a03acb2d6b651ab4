"""The report: runs, groups and verdicts as one page that needs no network, or as text.

`content` gathers what is told, `page` and `text` write it.
"""

from ilvren.draw.report.content import Report, gather
from ilvren.draw.report.page import write_page
from ilvren.draw.report.text import write_text

__all__ = ["Report", "gather", "write_page", "write_text"]

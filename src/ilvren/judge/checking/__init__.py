"""What deserves a look before any run: derivatives, scaling, conflicts between limits, domains, units."""

from ilvren.judge.checking.report import CheckReport, Finding, check

__all__ = ["CheckReport", "Finding", "check"]

"""Judgement: how a design stands, how runs compare, whether a design is an optimum.

Knows problems, runs and the ledger; never terminals.
"""

from ilvren.judge.comparison import Comparison, compare
from ilvren.judge.design_report import DesignReport, design_report_at
from ilvren.judge.verdict import Check, Verdict
from ilvren.judge.verification import VerifyOptions, verify

__all__ = ["Check", "Comparison", "DesignReport", "Verdict", "VerifyOptions", "compare", "design_report_at", "verify"]

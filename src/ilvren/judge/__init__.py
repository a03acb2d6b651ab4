"""Judgement: how a design stands, how runs compare, whether a design is an optimum.

Knows problems, runs and the ledger; never terminals.
"""

from ilvren.judge.comparison import Comparison, compare
from ilvren.judge.standing import Standing, standing_at
from ilvren.judge.verdict import Check, Verdict
from ilvren.judge.verification import Wishes, verify

__all__ = ["Check", "Comparison", "Standing", "Verdict", "Wishes", "compare", "standing_at", "verify"]

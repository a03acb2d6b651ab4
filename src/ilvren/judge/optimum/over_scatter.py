"""What a run about scatter found, on scenarios that it has not seen."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from ilvren.runs import FRESH_SETS, fresh_values

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign

__all__ = ["check_fresh_scenarios"]


def check_fresh_scenarios(case: JudgedDesign) -> str | None:
    """Count objective and constraints on fresh scenarios; return which limit is broken there, None for none. A limit
    that is missed by less than sets as large as the run's differ by is not called broken: the run could not know."""
    fresh = fresh_values(case.problem, case.point)
    count = case.problem.template.scatter_functions.plan.scenarios
    sets = f"{FRESH_SETS} fresh sets of {count:,} scenarios"
    worst, result, details, broken = 0.0, "pass", list[str](), None
    for row in case.problem.rows:
        told = fresh.get(row.name)
        if told is None or not told.high > told.low:
            continue
        room = case.feasibility * max(abs(told.value), 1e-300)
        outside = max(row.lower - told.high, told.low - row.upper)
        inside = min(told.low - row.lower, row.upper - told.high)
        limit = row.lower if math.isfinite(row.lower) and told.value - row.lower < row.upper - told.value else row.upper
        one_set = (told.high - told.value) * math.sqrt(FRESH_SETS)  # within which a set as large as the run's lies
        words = f"{row.name} {told.value:.5g} ({told.low:.5g} .. {told.high:.5g}) for {limit:g}"
        worst = max(worst, outside / max(abs(limit), 1e-300))
        miss = max(row.lower - told.value, told.value - row.upper)
        if outside > room and miss > one_set:
            result = "fail"
            details.insert(0, words)
            broken = broken or f"on {sets} {row.name} is {told.low:.5g} .. {told.high:.5g}, and its limit {limit:g}"
        elif inside < -room:
            result = "unknown" if result == "pass" else result
            if outside > room:
                words += f", missed by no more than {count:,} scenarios may err"
            details.append(words)
    objective = case.problem.objective
    if objective is not None and objective.name in fresh:
        told, here = fresh[objective.name], case.evaluation.objective * objective.sign
        if told.high > told.low and abs(told.value - here) > 1e-9 * abs(here):
            details.append(_looked_better(objective.name, here, told.value, objective.sign))
    text = f"{sets}: " + ("; ".join(details[:3]) if details else "every limit holds, with its interval")
    case.add("fresh-scenarios", result, max(worst, 0.0), case.feasibility, text)
    return broken


def _looked_better(name: str, here: float, there: float, sign: int) -> str:
    share = 100.0 * sign * (there - here) / max(abs(here), 1e-300)
    word = "better" if share > 0.0 else "worse"
    return f"on its own scenarios {name} looked {abs(share):.2g} % {word}"

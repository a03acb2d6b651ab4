"""All checks of a problem before any run, in one report."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.errors import RequestError
from ilvren.evaluate import Gate
from ilvren.judge.checking.conflicts import check_conflicts, check_domains
from ilvren.judge.checking.derivatives import DerivativeCheck, check_derivatives
from ilvren.judge.checking.evolving import check_first_values, check_simulated
from ilvren.judge.checking.finding import Finding
from ilvren.judge.checking.programs import ProgramCheck, check_programs, expected_findings, programs_of
from ilvren.judge.checking.scaling import ScalingCheck, SizeLine, check_scaling
from ilvren.notebooks import InNotebooks
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["CHECKS", "CheckReport", "Finding", "check"]

CHECKS = ("programs", "derivatives", "scaling", "conflicts", "domain")


# Differences of values that few digits show cannot be held against differences; what is read is compared apart.
_NOT_COMPARED = (
    "derivatives are not compared with finer differences: those through programs are differences themselves, or were"
    " compared where they are read; those of formulas are exact"
)


@dataclass(frozen=True)
class CheckReport(InNotebooks):
    """What was checked and found. `holds` when no derivative is wrong, no limits conflict and no units clash, and when
    derivatives that were to be compared could be."""

    problem: Problem
    derivatives: DerivativeCheck | None
    scaling: ScalingCheck | None
    findings: tuple[Finding, ...]
    checks: tuple[str, ...]
    units: dict[str, object] | None = None
    programs: tuple[ProgramCheck, ...] = ()

    @property
    def holds(self) -> bool:
        """Return whether nothing found makes the check fail."""
        return not self.compared_nothing and not any(finding.fails for finding in self.findings)

    @property
    def compared_nothing(self) -> bool:
        """Return whether derivatives were to be compared, and no design with finite values was found for it."""
        found = self.derivatives
        return found is not None and not found.points and len(self.problem.continuous_places) > 0

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document of `check`."""
        derivatives, scaling = self.derivatives, self.scaling
        return {
            "problem": self.problem.title or self.problem.source.file,
            "holds": self.holds,
            "checks": list(self.checks),
            "derivatives": None
            if derivatives is None
            else {
                "compared": derivatives.compared,
                "agreed": derivatives.agreed,
                "designs": derivatives.points,
                "designs_without_values": derivatives.skipped,
                "largest_disagreement": derivatives.worst,
                "sampled": derivatives.sampled or None,
            },
            "scaling": None
            if scaling is None
            else {
                "variables": [_size(line) for line in scaling.variables],
                "rows": [_size(line) for line in scaling.rows],
                "variable_ratio": _finite(scaling.variable_ratio),
                "row_ratio": _finite(scaling.row_ratio),
            },
            "units": self.units,
            "programs": [program.to_dict() for program in self.programs],
            "findings": [finding.to_dict() for finding in self.findings],
        }


def check(
    problem: Problem,
    *,
    checks: tuple[str, ...] = CHECKS,
    units: bool = False,
    expect: Mapping[str, Any] | None = None,
    seed: int = 0,
    progress: Callable[[str], None] | None = None,
) -> CheckReport:
    """Check a problem before any run: derivatives against differences, scaling, conflicts between limits, domains, and
    with `units` whether the units go together, with `expect` {name: text of a number, or a list of such} whether values
    at the start are those expected. Raises RequestError for an unknown check or name, ProblemError for a program whose
    values at the start cannot be read."""
    for name in checks:
        if name not in CHECKS:
            raise RequestError(f'no check "{name}"', advice="checks: " + ", ".join(CHECKS))
    gate = Gate(problem)
    findings: list[Finding] = []
    derivatives = scaling = None
    told = progress or (lambda _: None)
    programs: list[ProgramCheck] = []
    if "programs" in checks and programs_of(problem):
        told("programs at the start")
        programs, findings = check_programs(problem, gate)
    findings += expected_findings(problem, gate, expect or {})
    with np.errstate(all="ignore"):
        if "conflicts" in checks:
            told("limits within the bounds")
            findings += check_conflicts(problem) + check_first_values(problem, gate)
        if "domain" in checks:
            told("domains of the formulas")
            findings += check_simulated(problem, gate) + check_domains(problem, gate, seed=seed)
        if "derivatives" in checks and programs_of(problem):
            findings.append(Finding("note", (), _NOT_COMPARED))
        elif "derivatives" in checks:
            derivatives = check_derivatives(problem, gate, seed=seed, progress=progress)
            findings = [*derivatives.findings, *findings]
            if not derivatives.points:
                findings.append(Finding("note", (), "no design with finite values was found to compare derivatives at"))
        if "scaling" in checks:
            told("scaling")
            scaling = check_scaling(problem, gate)
            findings += scaling.findings
    unit_facts = None
    if units:
        told("units")
        found, unit_facts = _units(problem)
        findings += found
    findings += [Finding("note", (calls.source.name,), note) for calls in gate.calls for note in calls.notes]
    return CheckReport(
        problem,
        derivatives,
        scaling,
        tuple(findings),
        (*checks, *(["units"] if units else [])),
        unit_facts,
        tuple(programs),
    )


def _units(problem: Problem) -> tuple[list[Finding], dict[str, object]]:
    from ilvren.problem import check_units

    report = check_units(problem)
    found = []
    for trouble in report.troubles:
        piece = "" if trouble.span is None else f' in "{" ".join(trouble.text[slice(*trouble.span)].split())}"'
        advice = f"; {trouble.advice}" if trouble.advice else ""
        text = f"{trouble.where}{piece}: {trouble.message}{advice}"
        place = {"formula": trouble.text, "span": list(trouble.span) if trouble.span else None}
        found.append(Finding("units", (trouble.where,), text, trouble.line, place))
    if report.invented:
        names = ", ".join(f'"{name}"' for name in report.invented)
        found.append(Finding("note", (), f"not physical units, taken as kinds of their own: {names}"))
    return found, {"formulas": report.checked, "open": report.open, "troubles": len(report.troubles)}


def _size(line: SizeLine) -> dict[str, object]:
    return {
        "name": line.name,
        "size": line.size,
        "source": line.source,
        "effect": _finite(line.effect),
        "suggested": line.suggested,
    }


def _finite(value: float) -> float | None:
    return value if np.isfinite(value) else None

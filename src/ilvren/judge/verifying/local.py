"""The verdict on a design by what its surroundings show: smooth, at a kink, or without usable derivatives."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import kinks_near
from ilvren.judge.optimum.first_order import check_first_order, prices_of
from ilvren.judge.optimum.judged import JudgedDesign
from ilvren.judge.optimum.search_around import check_neighbourhood, search_downhill, search_without_slopes
from ilvren.judge.optimum.smoothness import doubt_in_formulas, doubt_in_models
from ilvren.judge.proof.region import region_of
from ilvren.judge.verifying.kinked import pieces_at
from ilvren.problem import lifted_of
from ilvren.proofs import is_convex

if TYPE_CHECKING:
    from ilvren.judge.optimum.probe import Better
    from ilvren.judge.standing.verdict import Verdict
    from ilvren.problem import Problem

__all__ = ["better_reason", "judged_locally"]

FloatArray = NDArray[np.float64]

# A formula that changes its branch this near the design (a share of the sizes) has no usable derivatives there.
KINK_RADIUS = 1e-5
# How far and how often designs are probed: where derivatives decide, where curvature does not, where none exist.
NEAR_RADII = (1e-3, 1e-4)
WIDE_RADII = (1e-1, 1e-2, 1e-3)
BLIND_RADII = (1e-1, 1e-2, 1e-3, 1e-4, 1e-5)
# The box on which an interval bound may settle what the curvature leaves open, in sizes, and the seconds for it.
SMALL_BOX, SMALL_BOX_SECONDS, SMALL_BOX_VARIABLES = 1e-1, 0.5, 6
# Convexity makes an optimum of a stationary design, not of one that is stationary to within the tolerance only: over a
# wide box the slope that is left would add up.
EXACTLY = 1e-3
CONVEX = "objective and limits are convex within the bounds, as rules and intervals of second derivatives prove"


def judged_locally(case: JudgedDesign) -> Verdict:
    """Return the verdict by derivatives as far as they are to be trusted, by trying where they are not."""
    judged = {"smooth": _judged_smooth, "kinked": _judged_kinked, "blind": _probed_blind}
    return judged[_check_derivatives(case)](case)


def _check_derivatives(case: JudgedDesign) -> str:
    """Return "smooth", "kinked" or "blind"."""
    radii = np.zeros(len(case.point))
    free = list(case.problem.continuous_places)
    radii[free] = KINK_RADIUS * case.sizes[free]
    kinks = kinks_near(case.gate.written, case.point, radii)
    if kinks:
        origin = kinks[0].origin
        part = f' at "{" ".join(origin.text[slice(*origin.span)].split())}" in {origin.entry}' if origin else ""
        detail = f"a kink or jump within {KINK_RADIUS:g} of the sizes{part}"
        case.kinks, case.kink_radii = kinks, radii
        case.add("derivatives", "unknown", float(len(kinks)), 0.0, detail)
        return "kinked"
    if not case.evaluation.has_finite_derivatives:
        case.add("derivatives", "unknown", None, None, "a derivative is not finite at this design")
        return "blind"
    doubt = _coarse(case) or _doubt(case)
    if doubt is not None:
        case.add("derivatives", "unknown", None, None, doubt)
        return "blind"
    more = "" if case.problem.sources else "; no formula changes its branch nearby"
    case.add("derivatives", "pass", 0.0, 0.0, f"all are finite and agree with differences{more}")
    return "smooth"


def _doubt(case: JudgedDesign) -> str | None:
    prices_of(case)
    rows = np.flatnonzero(case.conditions.row_sides) if case.conditions is not None else np.zeros(0, dtype=np.int64)
    examine = doubt_in_models if case.problem.sources else doubt_in_formulas
    return examine(case.gate, case.measures, case.point, case.evaluation, case.sizes, rows)


def better_reason(case: JudgedDesign, better: Better, who: str) -> str:
    """Return in words by how much a design that was found is better."""
    objective = case.problem.objective
    assert objective is not None
    unit = f" {objective.unit}" if objective.unit else ""
    return (
        f"{who} a feasible design with {objective.name} = {case.sized(better.objective):.8g}{unit},"
        f" against {case.sized(case.evaluation.objective):.8g}{unit} here"
    )


# ---- by what the derivatives allow ---------------------------------------------------------------


def _judged_smooth(case: JudgedDesign) -> Verdict:
    first_order = check_first_order(case)
    if first_order == "holds":
        return _second_order(case)
    return _descended(case)


def _judged_kinked(case: JudgedDesign) -> Verdict:
    """Judge the problem with its kinks lifted, where it has such a form; else every smooth piece that meets the others
    here."""
    return _judged_lifted(case) or _judged_pieces(case)


def _judged_lifted(case: JudgedDesign) -> Verdict | None:
    """Return the verdict where the design, with every kink's unknown at its value, is an optimum of the lifted problem:
    then it is one of the problem itself."""
    lifted = lifted_of(case.problem)
    if lifted is None or not lifted.is_smooth:
        return None
    own = JudgedDesign(
        problem=lifted.problem,
        point=lifted.point_at(case.point),
        tolerance=case.tolerance,
        feasibility=case.feasibility,
    )
    own.size = case.size
    if not own.evaluation.has_finite_derivatives or check_first_order(own) != "holds":
        return None
    is_strict = _is_strict(own)
    if not is_strict and not _is_convex_and_exact(own, case.problem):
        return None
    case.checks += own.checks
    unknowns = lifted.problem.size - case.problem.size
    told = f"at a kink: with {unknowns} unknown{'s' * (unknowns > 1)} in place of the kinks, under smooth limits"
    if own.curvature is not None and is_strict:
        least = None if math.isinf(own.curvature.least) else own.curvature.least
        case.add("curvature", "pass", least, own.curvature.noise, own.curvature.detail)
    probe = check_neighbourhood(case, NEAR_RADII, [])
    if probe.better is not None:
        return case.verdict(
            "improvable", better_reason(case, probe.better, "the neighbourhood probe found"), probe.better
        )
    if is_strict:
        assert own.curvature is not None
        return case.verdict("local-strict", f"{told}, first-order conditions hold, and {own.curvature.detail}")
    case.add("convexity", "pass", None, None, CONVEX)
    return case.verdict("local-weak", f"{told}, first-order conditions hold; {CONVEX}, so nothing is better")


def _judged_pieces(case: JudgedDesign) -> Verdict:
    pieces = pieces_at(case, case.kinks, case.kink_radii)
    if not pieces.is_complete or pieces.lower:
        return _probed_blind(case)
    failed = unknown = 0
    least = math.inf
    for piece in pieces.cases:
        if not piece.evaluation.has_finite_derivatives:
            unknown += 1
            continue
        first_order = check_first_order(piece)
        if first_order == "fails":
            failed += 1
        elif first_order == "unknown" or not _is_strict(piece):
            unknown += 1
        elif piece.curvature is not None:
            least = min(least, piece.curvature.least)
    count = len(pieces.cases)
    total = f"{count} smooth pieces meet here" + (f", {pieces.beside} more lie higher" if pieces.beside else "")
    if failed:
        detail = f"{total}; along {failed} of them the objective improves to first order"
        case.add("pieces", "fail", float(failed), 0.0, detail)
        return _descended(case)
    if unknown:
        case.add("pieces", "unknown", float(unknown), 0.0, f"{total}; {unknown} of them could not be settled")
        return _probed_blind(case)
    case.add("pieces", "pass", 0.0, 0.0, f"{total}; the design is a strict local optimum of each")
    probe = check_neighbourhood(case, NEAR_RADII, [])
    if probe.better is not None:
        return case.verdict(
            "improvable", better_reason(case, probe.better, "the neighbourhood probe found"), probe.better
        )
    return case.verdict(
        "local-strict",
        f"at a kink: {total}, the design is a strict local optimum of each, so that every feasible direction leads up",
    )


def _is_strict(piece: JudgedDesign) -> bool:
    curvature = piece.curvature
    if curvature is None or curvature.kind != "strict" or curvature.moved > math.sqrt(piece.tolerance):
        return False
    return region_of(piece).holds


def _coarse(case: JudgedDesign) -> str | None:
    """Return which model's derivatives are too coarse to judge by, or None: differences of numbers with few digits."""
    for calls in case.gate.calls:
        accuracy = getattr(calls.steps, "accuracy", 0.0)
        if calls.source.is_apart and accuracy > case.tolerance:
            return (
                f'derivatives through model "{calls.source.name}" are differences of numbers with few digits, good to'
                f" about {accuracy:.0e}: too coarse to judge by"
            )
    return None


def _probed_blind(case: JudgedDesign) -> Verdict:
    why = next((check.detail for check in case.checks if check.name == "derivatives"), "no derivatives")
    probe = check_neighbourhood(case, BLIND_RADII, [])
    better, who = probe.better, "the neighbourhood probe found"
    if better is None and len(case.problem.continuous_places):
        better, who = search_without_slopes(case), "a search without derivatives found"
    if better is not None:
        return case.verdict("improvable", better_reason(case, better, who), better)
    bounded = _bounded_nearby(case)
    if bounded is not None:
        return bounded
    if probe.tried == 0:
        return case.verdict("unverified", f"{why}, and no feasible design was found nearby to compare with")
    return case.verdict(
        "probe-only",
        f"{why}; {probe.tried} feasible designs within {probe.radius:g} of the variables' sizes were tried,"
        " none is better",
    )


def _descended(case: JudgedDesign) -> Verdict:
    """First-order conditions fail: search downhill from here, so that the failure is shown and not only claimed."""
    better = search_downhill(case)
    if better is None:
        better = check_neighbourhood(case, WIDE_RADII, []).better
    if better is None:
        better = search_without_slopes(case)
    if better is not None:
        return case.verdict("improvable", better_reason(case, better, "a search from this design found"), better)
    if case.qualification in ("fails", "unknown"):
        bounded = _bounded_nearby(case)
        if bounded is not None:
            return bounded
    failed = next((check for check in case.checks if check.result == "fail" and check.name != "qualification"), None)
    failed = failed or next(check for check in case.checks if check.name == "stationarity")
    return case.verdict("unverified", f"{failed.detail}, yet no better feasible design was found")


def _second_order(case: JudgedDesign) -> Verdict:
    curvature = case.curvature
    if curvature is None:
        case.add("curvature", "unknown", None, None, "derivatives near this design are not finite")
        return _left_open(case, "the curvature cannot be measured here", [])
    if curvature.kind == "strict" and curvature.moved > math.sqrt(case.tolerance):
        away = f"{curvature.moved:.1e} of a variable's size away" if math.isfinite(curvature.moved) else "anywhere"
        detail = f"the curvature is so slight that the optimum may lie {away}"
        curvature = case.curvature = replace(curvature, kind="unknown", detail=detail)
    words = {"strict": "pass", "saddle": "fail", "unknown": "unknown"}
    least = None if math.isinf(curvature.least) else curvature.least
    case.add("curvature", words[curvature.kind], least, curvature.noise, curvature.detail)
    if curvature.kind == "saddle":
        return case.verdict("saddle", curvature.detail)
    direction = curvature.direction / case.sizes
    largest = float(np.abs(direction).max(initial=0.0))
    directions = [direction / largest] if largest > 0.0 else []
    if curvature.kind != "strict":
        return _left_open(case, f"first-order conditions hold, but {curvature.detail}", directions)
    probe = check_neighbourhood(case, NEAR_RADII, directions)
    if probe.better is not None:
        return case.verdict(
            "improvable", better_reason(case, probe.better, "the neighbourhood probe found"), probe.better
        )
    region = region_of(case)
    reason = f"first-order conditions hold, and {curvature.detail}"
    if not region.holds:
        return _left_open(case, f"{reason}, but {region.clause}", directions)
    return case.verdict("local-strict", f"{reason}; {region.clause}")


def _left_open(case: JudgedDesign, reason: str, directions: list[FloatArray]) -> Verdict:
    """The curvature does not decide: look around, then for a reason of another kind why nothing near can be better."""
    probe = check_neighbourhood(case, WIDE_RADII, directions)
    if probe.better is not None:
        return case.verdict(
            "improvable", better_reason(case, probe.better, "the neighbourhood probe found"), probe.better
        )
    if _is_convex_and_exact(case, case.problem):
        case.add("convexity", "pass", None, None, CONVEX)
        return case.verdict("local-weak", f"{CONVEX}: first-order conditions make an optimum, though not a strict one")
    return _bounded_nearby(case) or case.verdict("first-order-only", reason)


def _is_convex_and_exact(case: JudgedDesign, problem: Problem) -> bool:
    """Return whether the case meets its conditions to more than the tolerance, and the problem is convex."""
    conditions = case.conditions
    is_exact = conditions is not None and conditions.stationarity <= EXACTLY * case.tolerance
    return case.curvature is not None and is_exact and is_convex(problem)


def _bounded_nearby(case: JudgedDesign) -> Verdict | None:
    """Return the verdict where intervals show that no feasible design in the box around is better, else None."""
    if len(case.problem.continuous_places) > SMALL_BOX_VARIABLES or case.problem.grid:
        return None
    from ilvren.judge.proof.bound import bound_on_box

    bound = bound_on_box(case, SMALL_BOX, SMALL_BOX_SECONDS)
    if bound is None:
        return None
    detail = f"intervals prove that no feasible design within {SMALL_BOX:g} of the variables' sizes is better"
    case.add("box", "pass", bound, case.tolerance, detail)
    return case.verdict("local-weak", detail)

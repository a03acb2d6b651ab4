"""Judgement: how a design stands, how runs compare, whether a design is an optimum.

Knows problems, runs and the ledger; never terminals.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.judge.comparing.comparison import (
        ALONG as ALONG,
        DISTANCES as DISTANCES,
        GRADIENT_WORTH as GRADIENT_WORTH,
        Comparison as Comparison,
        compare as compare,
        compared as compared,
        distance_text as distance_text,
        tracks_of as tracks_of,
    )
    from ilvren.judge.comparing.contest import (
        SOLVED as SOLVED,
        ContestRun as ContestRun,
        ContestSummary as ContestSummary,
        Fixing as Fixing,
        MethodSummary as MethodSummary,
        contest_summary as contest_summary,
    )
    from ilvren.judge.comparing.final_designs import (
        DesignDifference as DesignDifference,
        FinalOptimum as FinalOptimum,
        final_optima as final_optima,
        sorted_differences as sorted_differences,
    )
    from ilvren.judge.comparing.generations import (
        Generation as Generation,
        Generations as Generations,
        generations_of as generations_of,
    )
    from ilvren.judge.comparing.history import (
        group_table as group_table,
        history_table as history_table,
        write_history as write_history,
        write_rows as write_rows,
    )
    from ilvren.judge.comparing.profiles import ShareCurve as ShareCurve
    from ilvren.judge.comparing.sweep_curve import (
        SweepCurve as SweepCurve,
        curve_of_group as curve_of_group,
        curve_of_sweep as curve_of_sweep,
    )
    from ilvren.judge.comparing.track import Track as Track, track_of_record as track_of_record
    from ilvren.judge.diagnosing.diagnosis import Diagnosis as Diagnosis, diagnose as diagnose
    from ilvren.judge.optimum.judged import case_of_record as case_of_record
    from ilvren.judge.standing.design_report import (
        DesignReport as DesignReport,
        design_report_at as design_report_at,
        point_at as point_at,
    )
    from ilvren.judge.standing.findings import (
        LimitWorth as LimitWorth,
        MemberWorth as MemberWorth,
        ParameterResponse as ParameterResponse,
        Rounding as Rounding,
        ScatterWorth as ScatterWorth,
        Tolerance as Tolerance,
        Worth as Worth,
    )
    from ilvren.judge.standing.pattern import Pattern as Pattern
    from ilvren.judge.standing.recorded_responses import (
        COSTATE as COSTATE,
        course_names as course_names,
        recorded_responses as recorded_responses,
    )
    from ilvren.judge.standing.reference import (
        TOLERANCE as TOLERANCE,
        Reference as Reference,
        read_cells as read_cells,
        read_reference as read_reference,
    )
    from ilvren.judge.standing.responses import (
        LimitCurve as LimitCurve,
        Mark as Mark,
        Response as Response,
        limit_curves as limit_curves,
        response_at as response_at,
        signal_names as signal_names,
        tightest as tightest,
    )
    from ilvren.judge.standing.verdict import MEANINGS as MEANINGS, Verdict as Verdict
    from ilvren.judge.verifying.recording import ASKED_FOR as ASKED_FOR, record_better as record_better
    from ilvren.judge.verifying.verification import VerifyOptions as VerifyOptions, verify as verify
    from ilvren.judge.worth.rounding import rounding_near as rounding_near

__getattr__, __all__ = door(
    __name__,
    {
        "comparing.comparison": "ALONG Comparison DISTANCES GRADIENT_WORTH compare compared distance_text tracks_of",
        "comparing.contest": "ContestRun ContestSummary Fixing MethodSummary SOLVED contest_summary",
        "comparing.final_designs": "DesignDifference FinalOptimum final_optima sorted_differences",
        "comparing.generations": "Generation Generations generations_of",
        "comparing.history": "group_table history_table write_history write_rows",
        "comparing.profiles": "ShareCurve",
        "comparing.sweep_curve": "SweepCurve curve_of_group curve_of_sweep",
        "comparing.track": "Track track_of_record",
        "diagnosing.diagnosis": "Diagnosis diagnose",
        "optimum.judged": "case_of_record",
        "standing.design_report": "DesignReport design_report_at point_at",
        "standing.findings": "LimitWorth MemberWorth ParameterResponse Rounding ScatterWorth Tolerance Worth",
        "standing.pattern": "Pattern",
        "standing.recorded_responses": "COSTATE course_names recorded_responses",
        "standing.reference": "Reference TOLERANCE read_cells read_reference",
        "standing.responses": "LimitCurve Mark Response limit_curves response_at signal_names tightest",
        "standing.verdict": "MEANINGS Verdict",
        "verifying.recording": "ASKED_FOR record_better",
        "verifying.verification": "VerifyOptions verify",
        "worth.rounding": "rounding_near",
    },
)

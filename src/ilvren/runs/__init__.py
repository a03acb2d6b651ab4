"""The loop that pairs a problem with a method: limits, stops, replay, events, and what is recorded.

Never asks which method it holds, only what the method declared. Knows nothing of terminals.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.runs.addresses import (
        Addressed as Addressed,
        addressed as addressed,
        design_document as design_document,
        split_address as split_address,
    )
    from ilvren.runs.applying import (
        ReturnedValue as ReturnedValue,
        WrittenFile as WrittenFile,
        copy_along as copy_along,
        decks_at as decks_at,
        fixed_at as fixed_at,
        parameters_at as parameters_at,
        recorded_calls as recorded_calls,
        recorded_quantities as recorded_quantities,
        returned_values as returned_values,
        starts_at as starts_at,
        write_files as write_files,
    )
    from ilvren.runs.choice import (
        can_be_enumerated as can_be_enumerated,
        choose as choose,
        design_count as design_count,
    )
    from ilvren.runs.conditions import Conditions as Conditions, first_order_conditions as first_order_conditions
    from ilvren.runs.confirming import confirmed as confirmed
    from ilvren.runs.contest import (
        Finished as Finished,
        contender_of as contender_of,
        hold_contest as hold_contest,
        plan_contest as plan_contest,
        read_problems as read_problems,
        resume_contest as resume_contest,
    )
    from ilvren.runs.courses_told import remarks_on as remarks_on
    from ilvren.runs.estimates import estimates_of as estimates_of
    from ilvren.runs.events import (
        Ended as Ended,
        Event as Event,
        Finer as Finer,
        Iterated as Iterated,
        LookedOn as LookedOn,
        Sampled as Sampled,
        StageBegun as StageBegun,
        Started as Started,
    )
    from ilvren.runs.fitted import Fitted as Fitted, fitted_entries as fitted_entries, told_lines as told_lines
    from ilvren.runs.front import (
        Front as Front,
        FrontDesign as FrontDesign,
        objective_sizes as objective_sizes,
        reference_from as reference_from,
        refuse_reference as refuse_reference,
    )
    from ilvren.runs.handling import refuse_unhandled as refuse_unhandled
    from ilvren.runs.incumbents import Incumbent as Incumbent
    from ilvren.runs.limits import (
        LimitState as LimitState,
        LimitStates as LimitStates,
        by_block as by_block,
        plain as plain,
        plain_values as plain_values,
        told_by_block as told_by_block,
    )
    from ilvren.runs.loop import is_large as is_large
    from ilvren.runs.on_approximation import On as On, Truly as Truly
    from ilvren.runs.planning import check_label as check_label
    from ilvren.runs.pool import check_workers as check_workers
    from ilvren.runs.receding import (
        ClosedLoop as ClosedLoop,
        Receding as Receding,
        RecedingStep as RecedingStep,
        receded as receded,
    )
    from ilvren.runs.refining import (
        TimeReport as TimeReport,
        finely_measured as finely_measured,
        missed_between as missed_between,
        time_report as time_report,
        tolerance_of as tolerance_of,
    )
    from ilvren.runs.repeats import Quartiles as Quartiles, Repeats as Repeats, repeat as repeat
    from ilvren.runs.replay import unpacked as unpacked
    from ilvren.runs.report import PRICED_STATIONARITY as PRICED_STATIONARITY, limit_states as limit_states
    from ilvren.runs.result import (
        HOLDS as HOLDS,
        OUTCOMES as OUTCOMES,
        SUMMARY_ROWS as SUMMARY_ROWS,
        RunResult as RunResult,
    )
    from ilvren.runs.same_again import (
        GIVEN_PLANS as GIVEN_PLANS,
        command_again as command_again,
        on_file_again as on_file_again,
        sample_again as sample_again,
        sweep_again as sweep_again,
    )
    from ilvren.runs.scaling import Scaling as Scaling
    from ilvren.runs.scatter_stages import (
        FRESH_SETS as FRESH_SETS,
        SMOOTH as SMOOTH,
        counted_problem as counted_problem,
        fresh_values as fresh_values,
        functions_of as functions_of,
        smooth_at as smooth_at,
    )
    from ilvren.runs.second_look import no_second_look as no_second_look
    from ilvren.runs.settings import (
        AUTOMATIC as AUTOMATIC,
        DEFAULT_EVALUATIONS as DEFAULT_EVALUATIONS,
        GLOBAL as GLOBAL,
        Settings as Settings,
    )
    from ilvren.runs.shelf import RecordedShelf as RecordedShelf, RunShelf as RunShelf
    from ilvren.runs.stages import told_set as told_set
    from ilvren.runs.start import (
        resume as resume,
        run as run,
        run_as_it_stands as run_as_it_stands,
    )
    from ilvren.runs.start_troubles import mending as mending, trouble_clause as trouble_clause
    from ilvren.runs.stored import (
        changed_files as changed_files,
        flat_design as flat_design,
        problem_of as problem_of,
        problem_of_stage as problem_of_stage,
        refuse_changed as refuse_changed,
    )
    from ilvren.runs.sweeping import (
        Sweep as Sweep,
        SweptRun as SweptRun,
        resume_sweep as resume_sweep,
        sweep as sweep,
        swept_unit as swept_unit,
    )
    from ilvren.runs.told import (
        BROKEN as BROKEN,
        CONFIRMED as CONFIRMED,
        FAILED as FAILED,
        Confirmation as Confirmation,
        CourseTold as CourseTold,
        Prediction as Prediction,
    )
    from ilvren.runs.warm import begun_at as begun_at

__getattr__, __all__ = door(
    __name__,
    {
        "addresses": "Addressed addressed design_document split_address",
        "applying": (
            "ReturnedValue WrittenFile copy_along decks_at fixed_at parameters_at recorded_calls "
            "recorded_quantities returned_values starts_at write_files"
        ),
        "choice": "can_be_enumerated choose design_count",
        "start_troubles": "mending trouble_clause",
        "handling": "refuse_unhandled",
        "conditions": "Conditions first_order_conditions",
        "confirming": "confirmed",
        "contest": "Finished contender_of hold_contest plan_contest read_problems resume_contest",
        "courses_told": "remarks_on",
        "estimates": "estimates_of",
        "events": "Ended Event Finer Iterated LookedOn Sampled StageBegun Started",
        "fitted": "Fitted fitted_entries told_lines",
        "front": "Front FrontDesign objective_sizes reference_from refuse_reference",
        "incumbents": "Incumbent",
        "limits": "LimitState LimitStates by_block plain plain_values told_by_block",
        "loop": "is_large",
        "pool": "check_workers",
        "planning": "check_label",
        "on_approximation": "On Truly",
        "receding": "ClosedLoop Receding RecedingStep receded",
        "refining": "TimeReport finely_measured missed_between time_report tolerance_of",
        "repeats": "Quartiles Repeats repeat",
        "replay": "unpacked",
        "report": "PRICED_STATIONARITY limit_states",
        "result": "HOLDS OUTCOMES RunResult SUMMARY_ROWS",
        "same_again": "GIVEN_PLANS command_again on_file_again sample_again sweep_again",
        "scaling": "Scaling",
        "scatter_stages": "FRESH_SETS SMOOTH counted_problem fresh_values functions_of smooth_at",
        "second_look": "no_second_look",
        "settings": "AUTOMATIC DEFAULT_EVALUATIONS GLOBAL Settings",
        "shelf": "RecordedShelf RunShelf",
        "stages": "told_set",
        "start": "resume run run_as_it_stands",
        "stored": "changed_files flat_design problem_of problem_of_stage refuse_changed",
        "sweeping": "SweptRun Sweep resume_sweep sweep swept_unit",
        "told": "BROKEN CONFIRMED Confirmation CourseTold FAILED Prediction",
        "warm": "begun_at",
    },
)

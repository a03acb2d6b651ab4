"""What is asked: variables, parameters, objectives, constraints, with units, sizes and where each name
came from. Knows formulas and models; never methods, runs or terminals."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.problem.aims import Aim as Aim
    from ilvren.problem.approximations import (
        Band as Band,
        band_of as band_of,
        deviations_in as deviations_in,
        name_in as name_in,
        outside_of as outside_of,
        taken_by_models as taken_by_models,
    )
    from ilvren.problem.asked import Condition as Condition, condition_of as condition_of, node_of as node_of
    from ilvren.problem.between import Between as Between, limits_between as limits_between
    from ilvren.problem.binding import bind as bind
    from ilvren.problem.building import built as built
    from ilvren.problem.collocated import CollocatedAxis as CollocatedAxis
    from ilvren.problem.courses import courses_of as courses_of
    from ilvren.problem.entries import (
        Declarations as Declarations,
        EntryDeclaration as EntryDeclaration,
        formula_text as formula_text,
    )
    from ilvren.problem.fixing import word_number as word_number
    from ilvren.problem.fronts import (
        Sense as Sense,
        constant_objectives as constant_objectives,
        fronted as fronted,
        sense_of as sense_of,
        unfronted as unfronted,
    )
    from ilvren.problem.grid import (
        ValueGrid as ValueGrid,
        allowed_values_of as allowed_values_of,
        looked_up as looked_up,
    )
    from ilvren.problem.lifted import Lifted as Lifted, has_kinks as has_kinks, lifted_of as lifted_of
    from ilvren.problem.loading import (
        fixed_problem as fixed_problem,
        load as load,
        loads as loads,
        on_document as on_document,
        refined_problem as refined_problem,
        scalarized as scalarized,
        unfixed_problem as unfixed_problem,
        widened_problem as widened_problem,
        with_limits as with_limits,
        with_lines as with_lines,
    )
    from ilvren.problem.measure import Measures as Measures, objective_size as objective_size
    from ilvren.problem.model import (
        NamedValue as NamedValue,
        Objective as Objective,
        Problem as Problem,
        Row as Row,
        RowBlock as RowBlock,
    )
    from ilvren.problem.ordering import decides_more as decides_more
    from ilvren.problem.over_time import Axis as Axis
    from ilvren.problem.peaks import highest_near as highest_near
    from ilvren.problem.refinement import (
        SIMULATED as SIMULATED,
        Refinement as Refinement,
        checked_scheme as checked_scheme,
        checked_steps as checked_steps,
    )
    from ilvren.problem.regridding import (
        begun as begun,
        carried as carried,
        carried_along as carried_along,
        carried_multipliers as carried_multipliers,
        collocated_problem as collocated_problem,
        control_count as control_count,
        control_shares as control_shares,
        kinked_rate as kinked_rate,
        limit_sizes as limit_sizes,
        read_control as read_control,
        simulated_problem as simulated_problem,
    )
    from ilvren.problem.scalars import scalar_problem as scalar_problem
    from ilvren.problem.scatter_plan import (
        AS_USUAL as AS_USUAL,
        ScatterPlan as ScatterPlan,
        checked_scenarios as checked_scenarios,
    )
    from ilvren.problem.scattering import (
        Scattered as Scattered,
        scatter_of as scatter_of,
        wide_designs as wide_designs,
        wide_nominal as wide_nominal,
    )
    from ilvren.problem.squares import residual_problem as residual_problem, sum_of_squares as sum_of_squares
    from ilvren.problem.template import Template as Template
    from ilvren.problem.texts import speaks_of_scatter as speaks_of_scatter
    from ilvren.problem.time_declarations import TimeDeclaration as TimeDeclaration
    from ilvren.problem.told_over_time import (
        names_told as names_told,
        operations_over_time as operations_over_time,
        time_facts as time_facts,
    )
    from ilvren.problem.units import check_units as check_units
    from ilvren.problem.variables import (
        Variable as Variable,
        VariableBlock as VariableBlock,
        element_name as element_name,
    )

__getattr__, __all__ = door(
    __name__,
    {
        "aims": "Aim",
        "approximations": "Band band_of deviations_in name_in outside_of taken_by_models",
        "asked": "Condition condition_of node_of",
        "between": "Between limits_between",
        "binding": "bind",
        "building": "built",
        "collocated": "CollocatedAxis",
        "courses": "courses_of",
        "entries": "Declarations EntryDeclaration formula_text",
        "fronts": "Sense constant_objectives fronted sense_of unfronted",
        "grid": "ValueGrid allowed_values_of looked_up",
        "lifted": "Lifted has_kinks lifted_of",
        "fixing": "word_number",
        "loading": (
            "fixed_problem load loads on_document refined_problem scalarized unfixed_problem "
            "widened_problem with_limits with_lines"
        ),
        "measure": "Measures objective_size",
        "model": "NamedValue Objective Problem Row RowBlock",
        "variables": "Variable VariableBlock element_name",
        "ordering": "decides_more",
        "over_time": "Axis",
        "refinement": "Refinement SIMULATED checked_scheme checked_steps",
        "peaks": "highest_near",
        "regridding": (
            "begun carried carried_along carried_multipliers collocated_problem control_count "
            "control_shares kinked_rate limit_sizes read_control simulated_problem"
        ),
        "scalars": "scalar_problem",
        "texts": "speaks_of_scatter",
        "scatter_plan": "AS_USUAL ScatterPlan checked_scenarios",
        "scattering": "Scattered scatter_of wide_designs wide_nominal",
        "squares": "residual_problem sum_of_squares",
        "template": "Template",
        "time_declarations": "TimeDeclaration",
        "told_over_time": "names_told operations_over_time time_facts",
        "units": "check_units",
    },
)

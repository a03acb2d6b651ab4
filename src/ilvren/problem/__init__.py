"""What is asked: variables, parameters, objectives, constraints, with units, sizes and where each name
came from. Knows formulas and models; never methods, runs or terminals."""

from ilvren.dynamics.schemes import DEFAULT_SCHEME, SCHEMES
from ilvren.problem.aims import NO_AIM, Aim
from ilvren.problem.binding import bind
from ilvren.problem.entries import EntryDeclaration
from ilvren.problem.fronts import Sense, constant_objectives, fronted, sense_of, unfronted
from ilvren.problem.grid import MemberGrid, Members, members_of
from ilvren.problem.lifted import KINKED, Lifted, has_kinks
from ilvren.problem.loading import load, loads, on_document, refined_problem, scalarized, with_lines
from ilvren.problem.measure import Measures, objective_size
from ilvren.problem.model import (
    GRID_TOLERANCE,
    Given,
    NamedValue,
    Objective,
    Parameter,
    Problem,
    Residual,
    Row,
    RowBlock,
    Variable,
    VariableBlock,
    element_name,
)
from ilvren.problem.reader import read_file, read_text
from ilvren.problem.refinement import AS_DECLARED, SIMULATED, Refinement, checked_scheme, checked_steps
from ilvren.problem.scalars import scalar_problem
from ilvren.problem.scatter_plan import checked_scenarios
from ilvren.problem.squares import residual_problem, sum_of_squares
from ilvren.problem.template import Template

__all__ = [
    "AS_DECLARED",
    "DEFAULT_SCHEME",
    "GRID_TOLERANCE",
    "KINKED",
    "NO_AIM",
    "SCHEMES",
    "SIMULATED",
    "Aim",
    "EntryDeclaration",
    "Given",
    "Lifted",
    "Measures",
    "MemberGrid",
    "Members",
    "NamedValue",
    "Objective",
    "Parameter",
    "Problem",
    "Refinement",
    "Residual",
    "Row",
    "RowBlock",
    "Sense",
    "Template",
    "Variable",
    "VariableBlock",
    "bind",
    "checked_scenarios",
    "checked_scheme",
    "checked_steps",
    "constant_objectives",
    "element_name",
    "fronted",
    "has_kinks",
    "load",
    "loads",
    "members_of",
    "objective_size",
    "on_document",
    "read_file",
    "read_text",
    "refined_problem",
    "residual_problem",
    "scalar_problem",
    "scalarized",
    "sense_of",
    "sum_of_squares",
    "unfronted",
    "with_lines",
]

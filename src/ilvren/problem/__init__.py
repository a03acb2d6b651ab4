"""What is asked: variables, parameters, objectives, constraints, with units, sizes and where each name
came from. Knows formulas; never methods, runs or terminals."""

from ilvren.problem.binding import bind
from ilvren.problem.loading import load, loads
from ilvren.problem.measure import Measures, objective_size
from ilvren.problem.model import NamedValue, Objective, Parameter, Problem, Row, Variable
from ilvren.problem.reader import read_file, read_text
from ilvren.problem.template import Template

__all__ = [
    "Measures",
    "NamedValue",
    "Objective",
    "Parameter",
    "Problem",
    "Row",
    "Template",
    "Variable",
    "bind",
    "load",
    "loads",
    "objective_size",
    "read_file",
    "read_text",
]

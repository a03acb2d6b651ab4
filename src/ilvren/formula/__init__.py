"""Formulas: text → tokens → syntax tree → expression graph → compiled code, and exact derivatives.

Knows numbers and names; never files, problems or methods.
"""

from ilvren.formula.compile import ScalarCode, compile_scalar, is_scalar_work
from ilvren.formula.graph import Graph, GraphNode, Origin, Shape
from ilvren.formula.interpret import walk
from ilvren.formula.lower import lower, shape_text, top_terms
from ilvren.formula.parser import RESERVED_NAMES, SCATTER_FUNCTIONS, TIME_FUNCTIONS, Limits, parse_formula, parse_limits
from ilvren.formula.reverse import gradient, weighted_gradient
from ilvren.formula.syntax import Name, Node, names_in
from ilvren.formula.walked import Kink, Trouble, Walk

__all__ = [
    "RESERVED_NAMES",
    "SCATTER_FUNCTIONS",
    "TIME_FUNCTIONS",
    "Graph",
    "GraphNode",
    "Kink",
    "Limits",
    "Name",
    "Node",
    "Origin",
    "ScalarCode",
    "Shape",
    "Trouble",
    "Walk",
    "compile_scalar",
    "gradient",
    "is_scalar_work",
    "lower",
    "names_in",
    "parse_formula",
    "parse_limits",
    "shape_text",
    "top_terms",
    "walk",
    "weighted_gradient",
]

"""Formulas: text → tokens → syntax tree → expression graph → compiled code, and exact derivatives.

Knows numbers and names; never files, problems or methods.
"""

from ilvren.formula.compile import ScalarCode, compile_scalar
from ilvren.formula.graph import Graph, GraphNode, Origin
from ilvren.formula.interpret import Kink, Trouble, Walk, walk
from ilvren.formula.lower import lower, top_terms
from ilvren.formula.parser import RESERVED_NAMES, Limits, parse_formula, parse_limits
from ilvren.formula.reverse import gradient
from ilvren.formula.syntax import Name, Node, names_in

__all__ = [
    "RESERVED_NAMES",
    "Graph",
    "GraphNode",
    "Kink",
    "Limits",
    "Name",
    "Node",
    "Origin",
    "ScalarCode",
    "Trouble",
    "Walk",
    "compile_scalar",
    "gradient",
    "lower",
    "names_in",
    "parse_formula",
    "parse_limits",
    "top_terms",
    "walk",
]

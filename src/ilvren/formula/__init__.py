"""Formulas: text → tokens → syntax tree → expression graph → compiled code, and exact derivatives.

Knows numbers and names; never files, problems or methods.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.formula.array_code import batched_nodes as batched_nodes, compile_arrays as compile_arrays
    from ilvren.formula.array_interpreter import interpret_arrays as interpret_arrays
    from ilvren.formula.colouring import (
        column_colours as column_colours,
        split_rows as split_rows,
        star_colours as star_colours,
        star_places as star_places,
    )
    from ilvren.formula.compile import (
        compile_scalar as compile_scalar,
        fixed_nodes as fixed_nodes,
        is_scalar_work as is_scalar_work,
    )
    from ilvren.formula.composition import curvatures as curvatures
    from ilvren.formula.forward import tangents as tangents
    from ilvren.formula.graph import (
        Graph as Graph,
        Shape as Shape,
        ShapeMismatch as ShapeMismatch,
        joint_shape as joint_shape,
    )
    from ilvren.formula.interpretation import Kink as Kink, Trouble as Trouble
    from ilvren.formula.interpreter import interpret as interpret
    from ilvren.formula.interval_arithmetic import Box as Box
    from ilvren.formula.interval_batch import BatchIntervals as BatchIntervals, BatchValues as BatchValues
    from ilvren.formula.intervals import (
        MOST_LOOKED_AT as MOST_LOOKED_AT,
        Intervals as Intervals,
        PossibleFault as PossibleFault,
    )
    from ilvren.formula.levels import level as level
    from ilvren.formula.lifting import Entry as Entry, LiftedKink as LiftedKink, lift as lift
    from ilvren.formula.lowering import lower as lower, shape_text as shape_text, top_terms as top_terms
    from ilvren.formula.operators import KINKED as KINKED, OPERATIONS as OPERATIONS
    from ilvren.formula.parser import (
        RESERVED_NAMES as RESERVED_NAMES,
        SCATTER_FUNCTIONS as SCATTER_FUNCTIONS,
        TIME_FUNCTIONS as TIME_FUNCTIONS,
        Limits as Limits,
        parse_formula as parse_formula,
        parse_limits as parse_limits,
    )
    from ilvren.formula.pieces import SPLIT as SPLIT, smooth_piece as smooth_piece
    from ilvren.formula.reverse import gradient as gradient, weighted_gradient as weighted_gradient
    from ilvren.formula.shaping import total as total
    from ilvren.formula.sparsity import (
        PatternTooLarge as PatternTooLarge,
        depends_on as depends_on,
        patterns as patterns,
    )
    from ilvren.formula.syntax import (
        Call as Call,
        Comparison as Comparison,
        Condition as Condition,
        Index as Index,
        Name as Name,
        Negative as Negative,
        Node as Node,
        Number as Number,
        Power as Power,
        Product as Product,
        Slice as Slice,
        Sum as Sum,
        children as children,
        names_in as names_in,
        rebuilt as rebuilt,
    )
    from ilvren.formula.tokens import Token as Token, tokenize as tokenize
    from ilvren.formula.unroll import TooLong as TooLong, unrolled as unrolled

__getattr__, __all__ = door(
    __name__,
    {
        "array_code": "batched_nodes compile_arrays",
        "colouring": "column_colours split_rows star_colours star_places",
        "compile": "compile_scalar fixed_nodes is_scalar_work",
        "composition": "curvatures",
        "forward": "tangents",
        "graph": "Graph Shape ShapeMismatch joint_shape",
        "interpreter": "interpret",
        "array_interpreter": "interpret_arrays",
        "interval_arithmetic": "Box",
        "interval_batch": "BatchIntervals BatchValues",
        "intervals": "Intervals MOST_LOOKED_AT PossibleFault",
        "levels": "level",
        "lifting": "Entry LiftedKink lift",
        "lowering": "lower shape_text top_terms",
        "operators": "KINKED OPERATIONS",
        "parser": "Limits RESERVED_NAMES SCATTER_FUNCTIONS TIME_FUNCTIONS parse_formula parse_limits",
        "pieces": "SPLIT smooth_piece",
        "reverse": "gradient weighted_gradient",
        "shaping": "total",
        "sparsity": "PatternTooLarge depends_on patterns",
        "syntax": (
            "Call Comparison Condition Index Name Negative Node Number Power Product Slice Sum children "
            "names_in rebuilt"
        ),
        "tokens": "Token tokenize",
        "unroll": "TooLong unrolled",
        "interpretation": "Kink Trouble",
    },
)

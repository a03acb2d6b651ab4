"""Functions of what scatters, written out over scenarios: `expected`, `deviation`, `quantile`, `worst`, `chance`.

Every scattered name is written as its law of fixed normal numbers, one for each scenario, and the formula with it (see
`spreading`). Means and deviations are those of the scenarios; the others are made smooth, by widths that are a part
(`sharpness`) of the deviation σ of what they are of, so that they have derivatives of all orders:

    quantile   the level of its share, worst that of 1 (see `formula.levels`), with the width h = sharpness · σ
    chance     Σ s(m/h)/n of the margins m of its condition,
               s(t) = 1 − (1 − t + sqrt((1 − t)² + ¼))/2                  at first, with slopes everywhere      (1)
               s(t) = ( S(t − 3) − S(−3) )/( 1 − S(−3) )                  afterwards, S the logistic function   (2)

Both (1) and (2) are at most 1 where a condition holds and at most 0 where it does not: a smooth chance is never above
the counted one. Several conditions have the margin of the worst (`and`) or best (`or`), each over its own deviation,
made smooth from below. Counted, the widths are 0, and a chance is the share of scenarios.

Sources: A. Nemirovski, A. Shapiro, "Convex approximations of chance constrained programs", 2006 (1); R. T. Rockafellar,
S. Uryasev, "Optimization of conditional value-at-risk", 2000; A. Geletu, A. Hoffmann, M. Klöppel, P. Li, "A tractable
approximation of non-convex chance constrained optimization with non-Gaussian uncertainties", 2015 (from inside).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.errors import FormulaError
from ilvren.formula import Name, Shape, lower, parse_formula, shaping
from ilvren.formula.levels import level
from ilvren.formula.parser import SCATTER_FUNCTIONS
from ilvren.formula.syntax import Call, Comparison, Condition, Node, children, rebuilt
from ilvren.problem.entries import EntryDeclaration, ScatterDeclaration, formula_text
from ilvren.problem.spreading import Spread
from ilvren.scatter import dependence, scenario_normals
from ilvren.scatter.laws import EULER, GUMBEL

if TYPE_CHECKING:
    from ilvren.problem.template import Template

__all__ = ["ScatterFunctions", "Written", "calls_of_scatter", "speaks_of_scatter", "without_scatter"]

# (2) begins this many widths within the condition; (1) is rounded over half a width.
WITHIN = 3.0
ROUNDED = 0.25
# A deviation is at least this part of what it is of: what does not scatter has a width, too.
LEAST = 1e-9


def calls_of_scatter(tree: Node) -> list[Call]:
    """Return the outermost calls of functions of what scatters in a tree."""
    if isinstance(tree, Call) and tree.function in SCATTER_FUNCTIONS:
        return [tree]
    return [call for child in children(tree) for call in calls_of_scatter(child)]


def speaks_of_scatter(entry: EntryDeclaration) -> bool:
    """Return whether an entry's formula, which can be read, has functions of what scatters."""
    return not isinstance(entry.formula, tuple) and bool(calls_of_scatter(parse_formula(formula_text(entry.formula))))


@dataclass(frozen=True)
class Written:
    """A function as it was written out: where, its text, and the node of its value."""

    function: str
    entry: str
    text: str
    node: int


class _Scenarios(Spread):
    """Nodes of a template's graph over scenarios, in the same graph."""

    def __init__(self, template: Template, functions: ScatterFunctions, count: int) -> None:
        super().__init__(template.graph, template.graph, count, lambda _: (0, False), {})
        self._template, self._functions = template, functions

    def _made(self, number: int) -> tuple[int, bool]:
        node = self.graph.nodes[number]
        if node.operation in ("variable", "parameter"):
            own = self._functions.scattered(node.operation, node.index)
            return (number, False) if own is None else own
        if node.operation == "output" and not self._known[node.operands[0]][1]:
            return number, False
        if not any(self._known[operand][1] for operand in node.operands):
            return number, False
        return super()._made(number)


class ScatterFunctions:
    """What a template has of functions of what scatters. Raises ProblemError and FormulaError."""

    def __init__(self, template: Template) -> None:
        self.template = template
        self.plan = template.declarations.scatter_plan
        self.graph = template.graph
        self.written: dict[str, Written] = {}
        self._declared = {item.name: item for item in template.declarations.scatter}
        self._values: dict[str, int] = {}
        self._spread: _Scenarios | None = None
        self._dependents: dict[str, int] | None = None

    # ---- scattered names ------------------------------------------------------------------------

    def scattered(self, operation: str, index: int) -> tuple[int, bool] | None:
        """Return the node over scenarios of a variable or a parameter, None for one that does not scatter."""
        template = self.template
        known = template.variable_index if operation == "variable" else template.parameter_index
        name = next((own for own, place in known.items() if place == index), "")
        if name in self._declared:
            if name not in self._values:
                self._values[name] = self._law(self._declared[name])
            return self._values[name], True
        if operation == "parameter" and name in self.dependents:
            return self.spread.either(self.dependents[name])
        return None

    @property
    def dependents(self) -> dict[str, int]:
        """Return {parameter: the node of its formula} of those made of scattered parameters, and not set otherwise."""
        if self._dependents is None:
            from ilvren.problem.scattering import dependents_of

            template = self.template
            moved = {name for name in self._declared if name in template.parameter_index}
            entries = [e for e in template.declarations.parameters if e.name not in template.overridden]
            self._dependents = {}
            for name in dependents_of(entries, moved) - moved:
                entry = next(item for item in entries if item.name == name)
                if isinstance(entry.formula, tuple):
                    template.fail(entry, f"{name}, a list, is made of what scatters", advice="write it as a formula")
                self._dependents[name] = template.lower_entry(entry, template.parse(entry))
        return self._dependents

    @property
    def spread(self) -> _Scenarios:
        """Return the nodes over scenarios."""
        if self._spread is None:
            self._spread = _Scenarios(self.template, self, self.plan.count)
        return self._spread

    @cached_property
    def normals(self) -> dict[str, np.ndarray[Any, Any]]:
        """Return {name: normal numbers (count, size)}: fixed numbers, the same for all designs."""
        from ilvren.problem.scattering import place_factors

        template = self.template
        sizes = {}
        for name, item in self._declared.items():
            sizes[name] = 1 if item.is_common else math.prod(template.shapes[name])
        told = dependence(sizes, template.declarations.together, place_factors(template))
        if isinstance(told, str):
            raise FormulaError(f"[scatter] together: {told}")
        own = scenario_normals(told.dimension, self.plan.count, self.plan.seed)
        return told.normals(own)

    def _law(self, item: ScatterDeclaration) -> int:
        """Return the node (count, *shape) of a scattered name."""
        template, graph, n = self.template, self.graph, self.plan.count
        shape = template.shapes[item.name]
        z = self.normals[item.name]
        z = np.broadcast_to(z.reshape(n, *((1,) * len(shape) if item.is_common else shape)), (n, *shape))
        value = template.nodes[item.name]
        widths = template.scatter_nodes[item.name]

        def data(word: str, numbers: Any) -> int:
            return template.data(f"[scatter] {item.name} {word} {n} {self.plan.seed}", np.ascontiguousarray(numbers))

        def over(node: int) -> int:
            """Return a node of the value's shape, or one number, for all scenarios."""
            own = graph.stretched(node, shape) if graph.shape(node) != shape else node
            return shaping.reshaped(graph, own, (1, *shape)) if shape else own

        def width(key: str) -> int:
            node = widths[key]
            return graph.apply("mul", node, graph.apply("abs", value)) if item.is_relative else node

        both = graph.apply
        if item.law == "data":
            from ilvren.scatter import law_named

            cells = np.asarray(template.number_of(widths["values"]))
            return data("cells", law_named("data").values(z, np.zeros(shape), {"values": cells}))
        if item.law == "triangular":
            return self._triangular(item, over(value), over(width("low")), over(width("high")), data, z)
        if item.law in ("lognormal", "weibull"):
            share = both("div", width("deviation"), value)
            if item.law == "weibull" and not template.depends(share) and not graph.shape(share):
                return both("mul", over(value), data("standard", self._weibull(share, z)))
            return self._positive(item.law, over(value), over(graph.stretched(share, shape)), data, z)
        key = "half_width" if item.law == "uniform" else "deviation"
        standard = z if item.law == "normal" else _uniform(z) if item.law == "uniform" else _gumbel(z)
        return both("add", over(value), both("mul", over(width(key)), data("standard", standard)))

    def _weibull(self, share: int, z: Any) -> Any:
        """Return Weibull's law over its mean, for a share that no design changes: where a parameter changes it, the
        graph is another one."""
        from scipy.special import gamma, log_ndtr

        from ilvren.scatter.laws import weibull_exponent

        value = float(self.template.number_of(share))
        self.template.sizes[share] = value
        exponent = float(weibull_exponent(np.array(value)))
        return (-log_ndtr(-z)) ** exponent / gamma(1.0 + exponent)

    def _triangular(self, item: ScatterDeclaration, value: int, low: int, high: int, data: Any, z: Any) -> int:
        from scipy.special import ndtr

        both, graph = self.graph.apply, self.graph
        below, above = data("share", ndtr(z)), data("rest", ndtr(-z))
        whole = both("sub", high, low)
        part = both("neg", low)
        left = both("add", low, both("sqrt", both("mul", both("mul", below, whole), part)))
        right = both("sub", high, both("sqrt", both("mul", both("mul", above, whole), high)))
        is_left = both("<=", both("mul", below, whole), part)
        return graph.apply("add", value, both("where", is_left, left, right))

    def _positive(self, law: str, value: int, share: int, data: Any, z: Any) -> int:
        both, graph = self.graph.apply, self.graph
        one = graph.constant(1.0)
        if law == "lognormal":
            squared = both("log", both("add", one, both("square", share)))
            power = both("sub", both("mul", both("sqrt", squared), data("standard", z)),
                         both("mul", graph.constant(0.5), squared))  # fmt: skip
            return both("mul", value, both("exp", power))
        from scipy.special import log_ndtr

        exponent, log_mean = _weibull_nodes(graph, share)
        hazard = data("log hazard", np.log(-log_ndtr(-z)))
        return both("mul", value, both("exp", both("sub", both("mul", exponent, hazard), log_mean)))

    # ---- functions ------------------------------------------------------------------------------

    def worked_out(self, entry: EntryDeclaration, call: Call, lowered: Any) -> int:
        """Return the node of a function; `lowered` gives the node of a part of its formula."""
        text = formula_text(entry.formula)
        told = " ".join(text[call.span[0] : call.span[1]].split())
        if told in self.written:
            return self.written[told].node
        inner = call.arguments[0]
        for part in call.arguments:
            for other in calls_of_scatter(part):
                raise FormulaError(
                    f'"{other.function}" within "{call.function}"', text=text, span=other.span,
                    advice="functions of what scatters stand side by side",
                )  # fmt: skip
        if call.function in ("chance", "reliability_index"):
            margin = self._margin(entry, call, inner, lowered)
            node = self._chance(margin)
        else:
            values = self._over(lowered(inner))
            node = self._reduced(entry, call, told, values, lowered)
        self.written[told] = Written(call.function, entry.name, told, node)
        return node

    def _over(self, node: int) -> int:
        """Return a node over scenarios; what no scenario changes is the same in all."""
        return self.spread.node(node)

    def _reduced(self, entry: EntryDeclaration, call: Call, told: str, values: int, lowered: Any) -> int:
        graph, name = self.graph, call.function
        if name == "expected":
            return self._mean(values)
        if name == "deviation":
            return self._deviation(values)
        share = 1.0
        if name == "quantile":
            share = self._share(entry, call, lowered(call.arguments[1]))
        width = self._width(values)
        node = level(graph, values, width, share)
        shift = self.plan.shifts.get(told)
        if shift is None:
            return node
        return graph.apply("add", node, self._constant(f"[scatter] shift {told}", shift, graph.shape(node)))

    def _share(self, entry: EntryDeclaration, call: Call, node: int) -> float:
        template = self.template
        text = formula_text(entry.formula)
        if template.depends(node) or self.graph.shape(node):
            raise FormulaError("a share is one number, known before any run", text=text, span=call.arguments[1].span)
        share = float(template.number_of(node))
        if not 0.0 < share < 1.0:
            raise FormulaError(
                f"a share lies between 0 and 1, not {share:g}", text=text, span=call.arguments[1].span,
                advice="worst(x) is the largest of all scenarios",
            )  # fmt: skip
        return share

    def _constant(self, name: str, value: Any, shape: Shape) -> int:
        array = np.asarray(value, dtype=float)
        if not shape:
            return self.graph.constant(float(array))
        return self.template.data(name, np.broadcast_to(array, shape))

    def _mean(self, values: int) -> int:
        count = self.graph.constant(float(self.plan.count))
        return self.graph.apply("div", shaping.total(self.graph, values, 0), count)

    def _deviation(self, values: int) -> int:
        graph = self.graph
        shape = graph.shape(values)
        rest = graph.apply("sub", values, shaping.expand(graph, self._mean(values), 0, shape))
        root = graph.constant(math.sqrt(self.plan.count - 1.0))
        return graph.apply("div", shaping.norm(graph, rest, 0), root)

    def _width(self, values: int) -> int:
        """Return the width of what is made smooth; 0 where it is counted."""
        graph = self.graph
        if self.plan.is_counted:
            shape = graph.shape(values)[1:]
            return self._constant(f"[scatter] no width {shape}", 0.0, shape)
        return graph.apply("mul", graph.constant(self.plan.sharpness), self._size(values))

    def _size(self, values: int) -> int:
        """Return the deviation of values, not less than a trace of what they are."""
        graph, both = self.graph, self.graph.apply
        small = both("mul", graph.constant(LEAST), both("hypot", self._mean(values), graph.constant(1e-30)))
        return both("hypot", self._deviation(values), small)

    # ---- chances --------------------------------------------------------------------------------

    def _margin(self, entry: EntryDeclaration, call: Call, condition: Node, lowered: Any) -> int:
        """Return the margin (count,) of a condition over its deviation: above 0 where it holds."""
        graph = self.graph
        found = self._margins(entry, condition, lowered, is_denied=False)
        if call.function == "reliability_index" and not isinstance(condition, Comparison):
            raise FormulaError(
                "a reliability index is of one comparison", text=formula_text(entry.formula), span=condition.span
            )
        return found if graph.shape(found) else self._over(found)

    def _margins(self, entry: EntryDeclaration, condition: Node, lowered: Any, *, is_denied: bool) -> int:
        if isinstance(condition, Condition):
            if condition.word == "not":
                return self._margins(entry, condition.parts[0], lowered, is_denied=not is_denied)
            parts = [self._margins(entry, part, lowered, is_denied=is_denied) for part in condition.parts]
            is_least = (condition.word == "and") != is_denied
            found = parts[0]
            for part in parts[1:]:
                found = self._met(found, part, is_least=is_least)
            return found
        assert isinstance(condition, Comparison)
        if condition.operator in ("==", "!="):
            raise FormulaError(
                f'the chance of "{condition.operator}" says nothing where values scatter',
                text=formula_text(entry.formula),
                span=condition.span,
                advice="a chain such as 3.9 <= x <= 4.1 has a chance",
            )
        graph = self.graph
        is_upper = condition.operator in ("<", "<=")
        left, right = lowered(condition.left), lowered(condition.right)
        low, high = (left, right) if is_upper != is_denied else (right, left)
        margin = self._over(graph.apply("sub", high, low))
        over = graph.apply("div", margin, shaping.expand(graph, self._size(margin), 0, graph.shape(margin)))
        shape = graph.shape(over)
        if len(shape) == 1:
            return over
        flat = shaping.reshaped(graph, over, (shape[0], math.prod(shape[1:])))
        while graph.shape(flat)[1] > 1:  # all elements together
            width = graph.shape(flat)[1]
            half = width // 2
            rows = (0, shape[0], 1)
            one = shaping.index(graph, flat, (rows, (0, half, 1)))
            other = shaping.index(graph, flat, (rows, (half, 2 * half, 1)))
            met = self._met(one, other, is_least=not is_denied)
            if width % 2:
                last = shaping.index(graph, flat, (rows, (width - 1, width, 1)))
                parts = [shaping.transpose(graph, part) for part in (met, last)]
                met = shaping.transpose(graph, shaping.join(graph, tuple(parts)))
            flat = met
        return shaping.reshaped(graph, flat, (shape[0],))

    def _met(self, one: int, other: int, *, is_least: bool) -> int:
        """Return the smaller or the larger of two margins, made smooth from below."""
        graph, both = self.graph, self.graph.apply
        if self.plan.is_counted:
            return both("min" if is_least else "max", one, other)
        width = self.plan.sharpness
        apart = both("sqrt", both("add", both("square", both("sub", one, other)), graph.constant(width * width)))
        total = both("add", one, other)
        if is_least:
            return both("mul", graph.constant(0.5), both("sub", total, apart))
        whole = both("sub", both("add", total, apart), graph.constant(width))
        return both("mul", graph.constant(0.5), whole)

    def _chance(self, margin: int) -> int:
        both, constant = self.graph.apply, self.graph.constant
        if self.plan.is_counted:
            holds = both(">=", margin, constant(0.0))
            return self._mean(both("where", holds, constant(1.0), constant(0.0)))
        t = both("div", margin, constant(self.plan.sharpness))
        if self.plan.is_early:
            rest = both("sub", constant(1.0), t)
            rounded = both("sqrt", both("add", both("square", rest), constant(ROUNDED)))
            return both("sub", constant(1.0), both("mul", constant(0.5), self._mean(both("add", rest, rounded))))
        at_limit = 1.0 / (1.0 + math.exp(WITHIN))
        half = both("tanh", both("mul", constant(0.5), both("sub", t, constant(WITHIN))))
        logistic = both("add", constant(0.5), both("mul", constant(0.5), self._mean(half)))
        return both("div", both("sub", logistic, constant(at_limit)), constant(1.0 - at_limit))


def _uniform(z: Any) -> Any:
    from scipy.special import ndtr

    return 2.0 * ndtr(z) - 1.0


def _gumbel(z: Any) -> Any:
    from scipy.special import log_ndtr

    return GUMBEL * (-EULER - np.log(-log_ndtr(z)))


def _weibull_nodes(graph: Any, share: int) -> tuple[int, int]:
    """Return the nodes of κ and log Γ(1 + κ) of Weibull's law for a deviation that is `share` of the mean: polynomials
    of log share, added up as T. J. Rivlin, "The Chebyshev polynomials", 1974, does."""
    from ilvren.scatter.laws import WEIBULL_SPAN, weibull_series

    low, high = WEIBULL_SPAN
    both, constant = graph.apply, graph.constant
    scale = 2.0 / (high - low)
    x = both("sub", both("mul", both("log", share), constant(scale)), constant(1.0 + low * scale))
    found = []
    for series in weibull_series():
        after = last = None
        for value in series[:0:-1]:
            term = constant(float(value))
            if last is not None:
                term = both("add", term, both("mul", both("mul", constant(2.0), x), last))
            if after is not None:
                term = both("sub", term, after)
            after, last = last, term
        assert last is not None
        total = both("add", constant(float(series[0])), both("mul", x, last))
        found.append(total if after is None else both("sub", total, after))
    return both("exp", found[0]), found[1]


def without_scatter(template: Template, entry: EntryDeclaration, tree: Node, resolve: Any) -> tuple[Node, Any]:
    """Return a formula with the functions of what scatters worked out, and what resolves the names put in place."""
    functions = template.scatter_functions
    text = formula_text(entry.formula)
    extra: dict[str, int] = {}

    def lowered(part: Node) -> int:
        own, own_resolve = part, resolve
        if template.axes:
            own, own_resolve = template.without_time(entry, part, resolve)
        return lower(own, template.graph, own_resolve, entry=entry.path, text=text, whole=template.whole)

    def replaced(node: Node) -> Node | None:
        if not (isinstance(node, Call) and node.function in SCATTER_FUNCTIONS):
            return None
        name = f"#s{len(extra)}"
        extra[name] = functions.worked_out(entry, node, lowered)
        return Name(name, node.span)

    own = rebuilt(tree, replaced)
    return own, lambda word: extra[word.name] if word.name in extra else resolve(word)

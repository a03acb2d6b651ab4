"""Functions of what scatters, written out over scenarios: `expected`, `deviation`, `quantile`, `worst`, `chance`.

Every scattered name is written as its law of fixed normal numbers, one for each scenario, and the formula with it (see
`spreading`). Means and deviations are those of the scenarios; the others are made smooth, by widths that are a part
(`sharpness`) of the deviation σ of what they are of, so that they have derivatives of all orders:

    quantile   the level of its share, worst that of 1 (see `formula.levels`), with the width h = sharpness · σ
    chance     Σ s(m/h)/n of the margins m of its condition,
               s(t) = 1 − (1 − t + sqrt((1 − t)² + ¼))/2                  at first, with slopes everywhere      (1)
               s(t) = ( S(t − 3) − S(−3) )/( 1 − S(−3) )                  afterwards, S the logistic function   (2)

    reliability_index   what lies below, to first order at the likeliest scenario that misses a limit

Both (1) and (2) are at most 1 where a condition holds and at most 0 where it does not: a smooth chance is never above
the counted one. Several conditions have the margin of the worst (`and`) or best (`or`), each over its own deviation,
made smooth from below. Counted, the widths are 0, and a chance is the share of scenarios.

Sources: A. Nemirovski, A. Shapiro, "Convex approximations of chance constrained programs", 2006 (1); R. T. Rockafellar,
S. Uryasev, "Optimization of conditional value-at-risk", 2000; A. Geletu, A. Hoffmann, M. Klöppel, P. Li, "A tractable
approximation of non-convex chance constrained optimization with non-Gaussian uncertainties", 2015 (from inside).
"""

from __future__ import annotations

import math
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.errors import FormulaError
from ilvren.formula import (
    SCATTER_FUNCTIONS,
    Call,
    Comparison,
    Condition,
    Name,
    Node,
    Shape,
    level,
    lower,
    rebuilt,
    shaping,
)
from ilvren.problem.entries import EntryDeclaration, formula_text
from ilvren.problem.scenario_nodes import ScenarioNodes
from ilvren.problem.texts import calls_of_scatter
from ilvren.records import dataclass
from ilvren.scatter import Dependence, dependence, scenario_normals

if TYPE_CHECKING:
    from ilvren.problem.template import Template

__all__ = ["ScatterFunctions", "Written", "without_scatter"]

# (2) begins this many widths within the condition; (1) is rounded over half a width.
WITHIN = 3.0
ROUNDED = 0.25
# Of normal numbers, for slopes of what a reliability index is of.
DIFFERENCE = 1e-4
# A deviation is at least this part of what it is of: what does not scatter has a width, too.
LEAST = 1e-9


@dataclass(frozen=True)
class Written:
    """A function as it was written out: where, its text, and the node of its value."""

    function: str
    entry: str
    text: str
    node: int


class ScatterFunctions:
    """What a template has of functions of what scatters. Raises ProblemError and FormulaError."""

    def __init__(self, template: Template) -> None:
        self.template = template
        self.plan = template.declarations.scatter_plan
        self.graph = template.graph
        self.written: dict[str, Written] = {}

    @property
    def ends(self) -> set[int]:
        """Return the nodes of the functions written out so far: no scenario changes them."""
        return {item.node for item in self.written.values()}

    @cached_property
    def dependence(self) -> Dependence:
        """Return how what scatters hangs together. Raises FormulaError for correlations that contradict each other."""
        from ilvren.problem.scattering import place_factors

        template = self.template
        sizes = {}
        for item in template.declarations.scatter:
            sizes[item.name] = 1 if item.is_common else math.prod(template.shapes[item.name])
        told = dependence(sizes, template.declarations.together, place_factors(template))
        if isinstance(told, str):
            raise FormulaError(f"[scatter] together: {told}")
        return told

    @cached_property
    def scenarios(self) -> ScenarioNodes:
        """Return the nodes over the plan's scenarios: fixed normal numbers, the same for all designs."""
        plan = self.plan
        own = scenario_normals(self.dependence.dimension, plan.count, plan.seed)
        return ScenarioNodes(self.template, self.dependence.normals(own), plan.count, f"{plan.count} {plan.seed}")

    # ---- functions ------------------------------------------------------------------------------

    def worked_out(self, entry: EntryDeclaration, call: Call, lowered: Any) -> int:
        """Return the node of a function; `lowered` gives the node of a part of its formula. Raises FormulaError."""
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
        if call.function == "reliability_index":
            node = self._index(entry, told, inner, lowered)
        elif call.function == "chance":
            node = self._shifted(told, self._chance(self._margin(entry, inner, lowered)))
        else:
            values = self._over(lowered(inner))
            node = self._reduced(entry, call, told, values, lowered)
        self.written[told] = Written(call.function, entry.name, told, node)
        return node

    def _over(self, node: int) -> int:
        """Return a node over scenarios; what no scenario changes is the same in all."""
        return self.scenarios.spread.node(node)

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
        return self._shifted(told, level(graph, values, width, share))

    def _shifted(self, told: str, node: int) -> int:
        """Return a smooth value with what the plan adds to it."""
        shift = self.plan.shifts.get(told)
        if shift is None:
            return node
        graph = self.graph
        return graph.apply("add", node, self._constant(f"[scatter] shift {told}", shift, graph.shape(node)))

    def _share(self, entry: EntryDeclaration, call: Call, node: int) -> float:
        template = self.template
        text = formula_text(entry.formula)
        if template.depends(node) or self.graph.shape(node):
            raise FormulaError("a share is one number, known before any run", text=text, span=call.arguments[1].span)
        share = float(template.number_of(node))
        if self.graph.nodes[node].operation != "constant":
            template.sizes[node] = share  # another share, another graph
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

    def _margin(self, entry: EntryDeclaration, condition: Node, lowered: Any) -> int:
        """Return the margin (count,) of a condition over its deviation: above 0 where it holds."""
        found = self._margins(entry, condition, lowered, is_denied=False)
        return found if self.graph.shape(found) else self._over(found)

    def _index(self, entry: EntryDeclaration, told: str, condition: Node, lowered: Any) -> int:
        """Return the reliability index of a comparison to first order at its design point u, as it was last found (the
        origin before that): (g(u) − ∇g·u)/|∇g|, which has the value and the slopes of the index there. ∇g is made of
        differences in u, each as good as rounding allows."""
        graph, both, text = self.graph, self.graph.apply, formula_text(entry.formula)
        if not isinstance(condition, Comparison) or condition.operator in ("==", "!="):
            raise FormulaError("a reliability index is of one comparison with <= or >=", text=text, span=condition.span)
        for item in self.template.declarations.scatter:
            if item.law == "data":
                raise FormulaError(
                    f"{item.name} is drawn from data, cell by cell: no scenario is nearest to missing a limit",
                    text=text, span=condition.span, advice="chance(…) counts",
                )  # fmt: skip
        n = self.dependence.dimension
        u = np.asarray(self.plan.points.get(told, np.zeros(n)), dtype=float)
        step = DIFFERENCE * np.eye(n)
        own = np.concatenate([u[np.newaxis], u + step, u - step])
        where = ScenarioNodes(self.template, self.dependence.normals(own), len(own), f"at {told} {u.tolist()}")
        left, right = lowered(condition.left), lowered(condition.right)
        low, high = (left, right) if condition.operator in ("<", "<=") else (right, left)
        values = where.spread.node(graph.apply("sub", high, low))
        if graph.shape(values) != (2 * n + 1,):
            raise FormulaError("a reliability index is of one comparison of numbers", text=text, span=condition.span)
        here = shaping.index(graph, values, (0,))
        ahead = shaping.index(graph, values, ((1, n + 1, 1),))
        behind = shaping.index(graph, values, ((n + 1, 2 * n + 1, 1),))
        slope = both("mul", graph.constant(0.5 / DIFFERENCE), both("sub", ahead, behind))
        along = shaping.total(graph, both("mul", slope, self._constant(f"[scatter] u {told} {u.tolist()}", u, (n,))))
        node = both("div", both("sub", here, along), shaping.norm(graph, slope, None))
        shift = self.plan.shifts.get(told)
        return node if shift is None else both("add", node, graph.constant(float(shift)))

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


def without_scatter(template: Template, entry: EntryDeclaration, tree: Node, resolve: Any) -> tuple[Node, Any]:
    """Return a formula with the functions of what scatters worked out, and what resolves the names put in place."""
    functions = template.scatter_functions
    text = formula_text(entry.formula)
    extra: dict[str, int] = {}

    def lowered(part: Node) -> int:
        own, own_resolve = part, resolve
        if template.axes:
            from ilvren.problem.time_functions import without_time  # few files have both

            own, own_resolve = without_time(template, entry, part, resolve)
        return lower(own, template.graph, own_resolve, entry=entry.path, text=text, whole=template.whole)

    def replaced(node: Node) -> Node | None:
        if not (isinstance(node, Call) and node.function in SCATTER_FUNCTIONS):
            return None
        name = f"#s{len(extra)}"
        extra[name] = functions.worked_out(entry, node, lowered)
        return Name(name, node.span)

    own = rebuilt(tree, replaced)
    return own, lambda word: extra[word.name] if word.name in extra else resolve(word)

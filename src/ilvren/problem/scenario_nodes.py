"""What scatters as nodes of the graph: every scattered name as its law of fixed normal numbers, one for each scenario,
and formulas with it (see `spreading`)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.formula import shaping
from ilvren.problem.spreading import Spread
from ilvren.problem.texts import dependents_of
from ilvren.scatter import EULER, GUMBEL

if TYPE_CHECKING:
    from ilvren.problem.entries import ScatterDeclaration
    from ilvren.problem.template import Template

__all__ = ["ScenarioNodes"]


class _Scenarios(Spread):
    """Nodes of a template's graph over scenarios, in the same graph."""

    def __init__(self, template: Template, nodes: ScenarioNodes, count: int) -> None:
        super().__init__(template.graph, template.graph, count, lambda _: (0, False), {})
        self._template, self._nodes = template, nodes

    def _order(self, number: int) -> Sequence[int]:
        """Return what a node is made of, itself last; what has been made of all scenarios is one number in each."""
        found: list[int] = []
        waiting = [(number, False)]
        seen = set()
        ends = self._template.scatter_functions.ends
        while waiting:
            k, is_left = waiting.pop()
            if is_left:
                found.append(k)
            elif k not in seen:
                seen.add(k)
                if k in ends:
                    self._known[k] = k, False
                elif k not in self._known:
                    waiting.append((k, True))
                    waiting += [(operand, False) for operand in self.graph.nodes[k].operands]
        return found

    def _made(self, number: int) -> tuple[int, bool]:
        node = self.graph.nodes[number]
        if node.operation in ("variable", "parameter"):
            own = self._nodes.scattered(node.operation, node.index)
            return (number, False) if own is None else own
        if node.operation == "output" and not self._known[node.operands[0]][1]:
            return number, False
        if not any(self._known[operand][1] for operand in node.operands):
            return number, False
        return super()._made(number)


class ScenarioNodes:
    """The nodes of a template over `count` scenarios, whose `normals` are {name: (count, size)}; `label` tells them
    from others. Raises ProblemError."""

    def __init__(self, template: Template, normals: Mapping[str, Any], count: int, label: str) -> None:
        self.template, self.graph = template, template.graph
        self.normals, self.count, self.label = normals, count, label
        self._declared = {item.name: item for item in template.declarations.scatter}
        self._values: dict[str, int] = {}
        self._spread: _Scenarios | None = None
        self._dependents: dict[str, int] | None = None

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
            self._spread = _Scenarios(self.template, self, self.count)
        return self._spread

    def _law(self, item: ScatterDeclaration) -> int:
        """Return the node (count, *shape) of a scattered name."""
        template, graph, n = self.template, self.graph, self.count
        shape = template.shapes[item.name]
        z = self.normals[item.name]
        z = np.broadcast_to(z.reshape(n, *((1,) * len(shape) if item.is_common else shape)), (n, *shape))
        value = template.nodes[item.name]
        widths = template.scatter_nodes[item.name]

        def data(word: str, numbers: Any) -> int:
            return template.data(f"[scatter] {item.name} {word} {self.label}", np.ascontiguousarray(numbers))

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

        from ilvren.scatter import weibull_exponent

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


def _uniform(z: Any) -> Any:
    from scipy.special import ndtr

    return 2.0 * ndtr(z) - 1.0


def _gumbel(z: Any) -> Any:
    from scipy.special import log_ndtr

    return GUMBEL * (-EULER - np.log(-log_ndtr(z)))


def _weibull_nodes(graph: Any, share: int) -> tuple[int, int]:
    """Return the nodes of κ and log Γ(1 + κ) of Weibull's law for a deviation that is `share` of the mean: polynomials
    of log share, added up as T. J. Rivlin, "The Chebyshev polynomials", 1974, does."""
    from ilvren.scatter import WEIBULL_SPAN, weibull_series

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

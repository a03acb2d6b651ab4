"""Approximations in problems: every output is a formula of the inputs like any other.

Derivatives of every order, intervals, batches and proofs come from the graph that its surfaces are written out in.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.approximate import KERNELS, KNOWING_NOTHING, SMOOTH, Expansion, Failing, Part, Surface
from ilvren.errors import ProblemError
from ilvren.formula import Graph, Shape, shape_text, shaping
from ilvren.models.approximation import Group, document_from, group_for
from ilvren.problem.declared_values import refuse
from ilvren.problem.template_parts import Learnt
from ilvren.problem.variables import element_name
from ilvren.records import dataclass
from ilvren.regular import regular_text

if TYPE_CHECKING:
    from ilvren.models import Calls
    from ilvren.problem.entries import Declarations, EntryDeclaration
    from ilvren.problem.model import Problem
    from ilvren.problem.model_declarations import ModelDeclaration
    from ilvren.problem.template import Template

__all__ = [
    "Band",
    "add_outputs",
    "band_of",
    "deviations_in",
    "outside_of",
    "surface_node",
    "taken_by_models",
    "with_approximations",
    "with_groups",
]

FloatArray = NDArray[np.float64]

ROOT5 = 5.0**0.5
# The chance of failure of a model, as formulas may name it, and how large a search lets it be.
CHANCE, MOST_CHANCE = "chance_of_failure", 0.5


def name_in(document: str) -> str:
    """Return the name of the approximation that a document is."""
    return str(json.loads(document)["approximation"])


def deviations_in(document: str) -> dict[str, float]:
    """Return {name: standard deviation} of the data that a document was made of."""
    found = json.loads(document).get("deviations", {})
    return {str(name): float(value) for name, value in found.items()} if isinstance(found, Mapping) else {}


def outside_of(problem: Problem, point: Sequence[float] | FloatArray) -> list[str]:
    """Return what lies outside the regions that a problem's approximations were learnt in, at a full design, in
    words."""
    found = []
    for item in problem.template.learnt if problem.template is not None else ():
        values = np.array([float(v) for v in problem.entry_values(item.nodes, point).values])
        for place, value in item.group.outside(values):
            told = f"{place.name} = {value:g}" + (f" {place.unit}" if place.unit else "")
            region = f"{place.lower:g} .. {place.upper:g}" if place.lower < place.upper else f"{place.lower:g} alone"
            found.append(f"{told} (learnt: {region})")
    return found


@dataclass(frozen=True)
class Band:
    """How far an approximated value may be off: the `nodes` of its surface's inputs, and how many `spreads` to both
    sides of it hold a `share` of points."""

    surface: Surface
    nodes: tuple[int, ...]
    spreads: float
    share: str

    def half_width(self, inputs: FloatArray) -> FloatArray:
        """Return the half width (k,) at the inputs' values (k, n)."""
        return np.asarray(self.spreads * self.surface.spread_at(inputs))


def band_of(problem: Problem, node: int, share: str = "0.9") -> Band | None:
    """Return the band of an approximated output by its node, None where the node is none, or it has no intervals."""
    for item in problem.template.learnt if problem.template is not None else ():
        for name, surface in item.group.outputs.items():
            own = problem.template.nodes.get(f"{item.name}.{name}")
            if own == node and share in item.group.intervals.get(name, {}):
                inputs = item.nodes[: len(item.group.inputs)]
                return Band(surface, inputs, item.group.intervals[name][share], share)
    return None


def taken_by_models(
    problem: Problem, point: Sequence[float] | FloatArray, calls: Sequence[Calls]
) -> dict[str, dict[str, float]]:
    """Return {model: {input element: value}} at a full design."""
    found = {}
    for number, source in enumerate(problem.sources):
        call = next((n for n in problem.graph.nodes if n.operation == "call" and n.index == number), None)
        if call is None:
            continue  # called in rates
        values = problem.entry_values(call.operands, point, calls).values
        found[source.name] = {
            element_name(name, shape, place): float(value)
            for (name, shape), own in zip(source.inputs, values, strict=True)
            for place, value in enumerate(np.ravel(own))
        }
    return found


def with_groups(declarations: Declarations, texts: dict[str, str]) -> Declarations:
    """Return the declarations with what the files of approximations hold, whose `texts` are kept by their names. Raises
    ProblemError."""
    from ilvren.problem.entries import EntryDeclaration

    models = []
    for model in declarations.models:
        if model.approximation:
            file = model.approximation
            where = EntryDeclaration("models", model.name, file)
            try:
                if file not in texts:
                    texts[file] = _text_of(declarations, file)
                group = group_for(document_from(texts[file], file)[1], model.name.partition("@")[0], file)
            except ProblemError as error:
                refuse(declarations, where, f"{file} {error.message}", advice=error.advice)
            outputs = {name: _shape_of(declarations, where, group, name) for name in _bases(group.outputs)}
            model = replace(model, group=group, outputs=outputs, units=group.units)
        models.append(model)
    return replace(declarations, models=tuple(models))


def _text_of(declarations: Declarations, file: str) -> str:
    source = declarations.source
    if file in source.files:
        return source.files[file]
    try:
        return regular_text(source.beside(file))
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is no text in UTF-8"
        raise ProblemError(f"cannot be read: {reason}") from None


def _bases(names: Iterable[str]) -> list[str]:
    """Return the names without places, each once."""
    return list(dict.fromkeys(name.partition("[")[0] for name in names))


def _shape_of(declarations: Declarations, where: Any, group: Group, name: str) -> tuple[float, ...] | None:
    """Return the shape of an output, from the places of its elements; None for one number."""
    places = [
        [int(part) for part in element[len(name) + 1 : -1].split(",")]
        for element in group.outputs
        if element.startswith(f"{name}[")
    ]
    if not places:
        return None
    shape = tuple(1.0 + max(place[axis] for place in places) for axis in range(len(places[0])))
    if len(places) != math.prod(shape):
        refuse(declarations, where, f'the approximation has some elements of "{name}" alone')
    return shape


def add_outputs(
    template: Template, model: ModelDeclaration, inputs: Mapping[str, int], outputs: Sequence[tuple[str, Shape]]
) -> list[str]:
    """Add the outputs of a model that its approximation has, as formulas of its `inputs` {name: node}, and return the
    names of the others. Raises ProblemError."""
    from ilvren.problem.entries import EntryDeclaration

    graph, group = template.graph, model.group
    assert group is not None
    where = EntryDeclaration("models", model.name, model.told)
    nodes = []
    for item in (*group.inputs, *group.held):
        if item.base not in inputs and item in group.held:
            nodes.append(graph.constant(item.lower))
            continue
        if item.base not in inputs:
            template.fail(where, f'the approximation has an input "{item.name}", which the model has not')
        node = inputs[item.base]
        if item.word is not None:
            nodes.append(_word_node(template, where, node, item.word))
            continue
        shape = graph.shape(node)
        key = tuple(int(part) for part in item.name[len(item.base) + 1 : -1].split(",")) if "[" in item.name else ()
        if len(key) != len(shape) or any(place >= length for place, length in zip(key, shape, strict=True)):
            template.fail(
                where, f'the input "{item.base}" has {shape_text(shape)}; the approximation takes "{item.name}"'
            )
        nodes.append(shaping.index(graph, node, key) if key else node)
    left, number = [], len(template.learnt)
    for name, shape in outputs:
        elements = [element_name(name, shape, place) for place in range(math.prod(shape))]
        if not all(element in group.outputs for element in elements):
            left.append(name)
            continue
        own = nodes[: len(group.inputs)]
        parts = [
            surface_node(template, f"approximation {number}.{element}", group.outputs[element], own)
            for element in elements
        ]
        joined = shaping.join(graph, tuple(parts)) if shape else parts[0]
        template.nodes[f"{model.name}.{name}"] = shaping.reshaped(graph, joined, shape) if len(shape) > 1 else joined
    if group.failing is not None:
        node = _failing_node(template, f"approximation {number}.failing", group.failing, nodes[: len(group.inputs)])
        template.nodes[f"{model.name}.{CHANCE}"] = node
    template.learnt.append(Learnt(model.name, group, tuple(nodes)))
    return left


def _word_node(template: Template, where: EntryDeclaration, node: int, word: str) -> int:
    """Return the node that is 1 where a choice is a word, else 0."""
    words = template.declarations.words
    if word not in words:
        template.fail(where, f'the approximation knows a word "{word}", which no choice of this file has')
    keys = template.data("approximation words", np.arange(1.0, len(words) + 1.0))
    own = template.data(f"approximation word {word}", [float(other == word) for other in words])
    return template.graph.arrange("lookup", (node, keys, own), (), (0,))


def surface_node(template: Template, key: str, surface: Surface, inputs: list[int]) -> int:
    """Return the node of a surface of some nodes, each one number. `key` names its numbers."""
    graph = template.graph
    scaled = [
        graph.apply("div", graph.apply("sub", node, graph.constant(float(c))), graph.constant(float(h)))
        for node, c, h in zip(inputs, surface.centre, surface.half, strict=True)
    ]
    total: int | None = None
    for number, part in enumerate(surface.parts):
        own = _part_node(template, f"{key}.{number}", part, scaled)
        if part.weight != 1.0:
            own = graph.apply("mul", graph.constant(part.weight), own)
        total = own if total is None else graph.apply("add", total, own)
    assert total is not None
    return total


def _failing_node(template: Template, key: str, failing: Failing, inputs: list[int]) -> int:
    """Return the node of a chance of failure: Σ f_i k_i + A m over Σ k_i + A."""
    graph = template.graph
    z = [
        graph.apply("div", graph.apply("sub", node, graph.constant(float(c))), graph.constant(float(h)))
        for node, c, h in zip(inputs, failing.centre, failing.half, strict=True)
    ]
    sums = []
    for name, weights in (("failed", failing.failed), ("all", np.ones(len(failing.failed)))):
        expansion = Expansion("squared-exponential", failing.lengths, failing.centres, weights)
        sums.append(_expansion_node(template, key, expansion, z, name))
    above = graph.apply("add", sums[0], graph.constant(KNOWING_NOTHING * failing.share))
    return graph.apply("div", above, graph.apply("add", sums[1], graph.constant(KNOWING_NOTHING)))


def _part_node(template: Template, key: str, part: Part, z: list[int]) -> int:
    graph = template.graph
    found = _trend_node(graph, part, z)
    if part.expansion is not None:
        found = graph.apply("add", found, _expansion_node(template, key, part.expansion, z))
    found = graph.apply("mul", graph.constant(part.deviation), found)
    found = graph.apply("add", graph.constant(part.middle), found)
    return graph.apply("exp", found) if part.transform == "log" else found


def _trend_node(graph: Graph, part: Part, z: list[int]) -> int:
    found = graph.constant(0.0)
    for powers, coefficient in zip(part.trend.powers.tolist(), part.trend.coefficients.tolist(), strict=True):
        term = graph.constant(coefficient)
        for node, exponent in zip(z, powers, strict=True):
            if exponent:
                term = graph.apply("mul", term, graph.apply("pow", node, graph.constant(float(exponent))))
        found = graph.apply("add", found, term)
    return found


def _expansion_node(template: Template, key: str, expansion: Expansion, z: list[int], name: str = "weights") -> int:
    """Return Σ_i w_i k(s_i), s_i = Σ_j ((z_j − Z_ij)/l_j)², as vectors over the centres."""
    graph = template.graph
    s: int | None = None
    for j, node in enumerate(z):
        length = float(expansion.lengths[j])
        centres = template.data(f"{key}.centres.{j}", expansion.centres[:, j] / length)
        apart = graph.apply("sub", graph.apply("div", node, graph.constant(length)), centres)
        square = graph.apply("square", apart)
        s = square if s is None else graph.apply("add", s, square)
    assert s is not None
    weights = template.data(f"{key}.{name}", expansion.weights)
    return shaping.dot(graph, weights, _kernel_node(graph, expansion.kernel, s))


def _kernel_node(graph: Graph, name: str, s: int) -> int:
    """Return the kernel of squared distances, as `approximate.kernels` has it."""

    def times(factor: float, node: int) -> int:
        return graph.apply("mul", graph.constant(factor), node)

    def root(node: int, more: float) -> int:
        return graph.apply("sqrt", graph.apply("add", node, graph.constant(more)))

    match name:
        case "squared-exponential":
            return graph.apply("exp", times(-0.5, s))
        case "matern-5/2":
            r = times(ROOT5, root(s, SMOOTH**2))
            polynomial = graph.apply("add", graph.constant(1.0), r)
            polynomial = graph.apply("add", polynomial, times(1.0 / 3.0, graph.apply("square", r)))
            return graph.apply("mul", polynomial, graph.apply("exp", times(-1.0, r)))
        case "cubic":
            r = root(s, SMOOTH**2)
            return graph.apply("mul", r, graph.apply("square", r))
        case "multiquadric":
            return times(-1.0, root(s, 1.0))
    raise AssertionError(f"{name} is none of {', '.join(KERNELS)}")


# ---- problems on approximations -------------------------------------------------------------------


def with_approximations(declarations: Declarations, text: str) -> Declarations:
    """Return the declarations with approximated outputs of models, and formulas, in place of their own. Raises
    ProblemError where the document speaks of what is not there."""
    from ilvren.problem.model_declarations import ModelDeclaration

    name, groups = document_from(text, "the approximation")
    models = {model.name: model for model in declarations.models}
    entries = {entry.name: entry for entry in (*declarations.derived, *declarations.objectives)}
    rows = {entry.name: entry for entry in declarations.constraints}
    taken = {*models, *entries, *rows}
    taken |= {item.name for item in declarations.variables} | {item.name for item in declarations.parameters}
    for group in groups:
        if group.model:
            if group.model not in models:
                raise ProblemError(f'{name} approximates a model "{group.model}", which this file has not')
            models[group.model] = replace(models[group.model], group=group)
            if group.failing is not None:
                _add_works(rows, taken, group.model)
            continue
        own = name or "approximation"
        while own in taken:
            own += "_"
        if group.failing is not None:
            _add_works(rows, taken, own)
        outputs: dict[str, Any] = dict.fromkeys(_bases(group.outputs))
        models[own] = ModelDeclaration(
            name=own, python="", inputs={}, outputs=outputs, bands={}, group=group, units=group.units
        )
        for output in outputs:
            if output in entries:
                entries[output] = replace(entries[output], formula=f"{own}.{output}")
            elif output in rows and output in group.limits:
                rows[output] = replace(rows[output], formula=_limited(f"{own}.{output}", *group.limits[output]))
            else:
                raise ProblemError(f'{name} approximates "{output}", which this file has not')
    return replace(
        declarations,
        models=tuple(models.values()),
        derived=tuple(entries[entry.name] for entry in declarations.derived),
        objectives=tuple(entries[entry.name] for entry in declarations.objectives),
        constraints=tuple(rows.values()),
    )


def _add_works(rows: dict[str, EntryDeclaration], taken: set[str], model: str) -> None:
    """Add the limit that a model is likely to work."""
    from ilvren.problem.entries import EntryDeclaration

    name = f"{model.partition('@')[0]}_works"
    while name in taken:
        name += "_"
    taken.add(name)
    about = f"the chance that {model} gives no values, by the points that gave none"
    rows[name] = EntryDeclaration("constraints", name, f"{model}.{CHANCE} <= {MOST_CHANCE}", about=about)


def _limited(name: str, lower: float, upper: float) -> str:
    """Return a limit as it is written."""
    if lower == upper:
        return f"{name} == {lower!r}"
    left = f"{lower!r} <= " if math.isfinite(lower) else ""
    right = f" <= {upper!r}" if math.isfinite(upper) else ""
    return f"{left}{name}{right}"

"""What must be built before what: the order in which a file's entries become nodes of the graph."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable
from graphlib import CycleError, TopologicalSorter
from typing import TYPE_CHECKING, NoReturn

from ilvren.formula import TIME_FUNCTIONS, Call, Name, Node, children, names_in, parse_formula
from ilvren.problem.declared_shapes import piece_texts
from ilvren.problem.declared_values import flat, formulas_in, texts_in
from ilvren.problem.entries import EntryDeclaration, VariableDeclaration
from ilvren.problem.texts import calls_of_scatter, calls_of_time

if TYPE_CHECKING:
    from ilvren.problem.template import Template

__all__ = ["decides_more", "needs_of", "ordered"]


def needs_of(template: Template) -> dict[str, list[str]]:
    """Return {name: what must be built before it} of all entries, variables, models and tables."""
    found = _needs(template)
    if template.declarations.scatter:
        more = _needed_to_scatter(template)
        for name, tree in template.trees.items():
            if calls_of_scatter(tree):
                found[name] = [*found[name], *more]
    return found


def ordered(template: Template) -> list[str]:
    """Return the names so that each comes after those it is made of, entries as far as that allows in the order of the
    file. Raises ProblemError for a cycle."""
    needs = needs_of(template)
    sorter: TopologicalSorter[str] = TopologicalSorter()
    for name, others in needs.items():
        sorter.add(name, *others)
    try:
        sorter.prepare()
    except CycleError as error:
        _refuse_cycle(template, needs, error.args[1])
    # Variables, models and tables come as soon as they can.
    place_of = {name: (name in template.entries, place) for place, name in enumerate(needs)}
    order: list[str] = []
    ready: list[tuple[tuple[bool, int], str]] = []
    while sorter.is_active():
        for name in sorter.get_ready():
            heapq.heappush(ready, (place_of[name], name))
        _, name = heapq.heappop(ready)
        order.append(name)
        sorter.done(name)
    return order


def _refuse_cycle(template: Template, needs: dict[str, list[str]], found: list[str]) -> NoReturn:
    """Refuse names that need each other, `found` in a ring that ends where it begins."""
    ring = found[:0:-1]  # each is made of the next
    first = min(range(len(ring)), key=lambda place: list(needs).index(ring[place]))
    ring = [*ring[first:], *ring[: first + 1]]
    template.fail(_some_entry(template, ring[0]), "the value needs itself: " + " -> ".join(ring))


def decides_more(template: Template, names: Iterable[str]) -> bool:
    """Return whether other parameters are formulas of these, or the size of something depends on them."""
    given = set(names)
    needs = needs_of(template)
    others = [name for name in template.parameter_index if name not in given]
    if any(given & set(needs[name]) for name in others):
        return True
    indices = {template.parameter_index[name] for name in given}
    nodes = template.graph.nodes
    return any(
        nodes[number].operation == "parameter" and nodes[number].index in indices
        for number in template.graph.reachable(list(template.sizes))
    )


def _needs(template: Template) -> dict[str, list[str]]:

    def used(tree: Node) -> list[str]:
        return [key for word in names_in(tree) if (key := template.key_of(word.name)) is not None]

    needs: dict[str, list[str]] = {}
    if template.axes:
        return _needs_over_time(template)
    for name, entry in template.entries.items():
        trees = [template.trees[name]] if name in template.trees else [template.parse(e) for e in formulas_in(entry)]
        needs[name] = [key for tree in trees for key in used(tree)]
    return needs | _needs_of_others(template, used)


def _needs_of_others(template: Template, used: Callable[[Node], list[str]]) -> dict[str, list[str]]:
    needs: dict[str, list[str]] = {}
    for variable in template.declarations.variables:
        texts = flat(variable.shape) if variable.shape is not None else []
        if texts == ["pieces"]:  # of a control: as many as it says
            texts = piece_texts(template, variable.name)
        needs[variable.name] = [
            key for text in texts if isinstance(text, str) for key in used(_parse_number(template, variable, text))
        ]
    for model in template.declarations.models:
        if model.name in template.models_over_time:
            continue
        trees = [template.parse(entry) for entry in template.inputs[model.name].values()]
        for shape in model.outputs.values():
            trees += [template.parse(EntryDeclaration("models", model.name, text)) for text in texts_in(shape)]
        needs[model.name] = [key for tree in trees for key in used(tree)]
    for table in template.declarations.tables:
        trees = [template.parse(EntryDeclaration("tables", table.name, text)) for text in texts_in(table.lines)]
        needs[table.name] = [key for tree in trees for key in used(tree)]
    return needs


def _needs_over_time(template: Template) -> dict[str, list[str]]:
    """Return `needs` of a problem with things over time: what evolves needs all that its formulas, its integrals
    and its moments use; whoever asks for a function of it needs it."""

    def deep(tree: Node, seen: set[str]) -> list[str]:
        """Return the keys a formula of a moment is made of, through signals and derived values over time."""
        found: list[str] = []
        for word in names_in(tree):
            name = word.name
            axis = template.axis_of(name)
            if axis is None:
                key = template.key_of(name)
                found += [key] if key is not None else []
            elif name not in seen:
                seen.add(name)
                own = axis.trees.get(name) or template.trees.get(name)
                found += deep(own, seen) if own is not None else []
                for entry in template.inputs.get(template.model_of(name), {}).values():
                    found += deep(template.parse(entry), seen)
        return found

    def used(tree: Node) -> list[str]:
        found = [key for name in _outside(tree) if (key := template.key_of(name)) is not None]
        for call in calls_of_time(tree):
            for name in names_in(call.arguments[0]):
                axis = template.axis_of(name.name)
                if axis is not None:
                    found.append(axis.key)
            found += deep(call, set())
        return found

    def _outside(tree: Node) -> list[str]:
        found, waiting = [], [tree]
        while waiting:
            node = waiting.pop()
            if isinstance(node, Name):
                found.append(node.name)
            elif not (isinstance(node, Call) and node.function in TIME_FUNCTIONS):
                waiting.extend(children(node))
        return found

    needs: dict[str, list[str]] = {}
    for axis in template.axes:
        needs[axis.key] = [key for tree in axis.own_trees() for key in deep(tree, set()) if key != axis.key]
        for state in axis.state_declarations:
            if f"{state.name}.first" in template.declared_variables:
                needs[axis.key].append(f"{state.name}.first")
        needs[axis.key] += list(axis.control_declarations)
    for entry, tree in template.all_trees():
        for call in calls_of_time(tree):
            takers = [axis for axis in template.axes if axis.takes(call)]
            for axis in takers:
                if call.function in ("integral", "average", "delayed"):
                    needs[axis.key] += [key for key in deep(call, set()) if key != axis.key]
                elif call.function == "at":
                    needs[axis.key] += [k for k in deep(call.arguments[1], set()) if k != axis.key]
        del entry
    for name, entry in template.entries.items():
        if name in template.along:
            continue
        trees = [template.trees[name]] if name in template.trees else [template.parse(e) for e in formulas_in(entry)]
        needs[name] = [key for tree in trees for key in used(tree)]
    return needs | _needs_of_others(template, used)


def _parse_number(template: Template, variable: VariableDeclaration, text: str) -> Node:
    return template.parse(EntryDeclaration("variables", f"{variable.name}.shape", text))


def _some_entry(template: Template, name: str) -> EntryDeclaration:
    if name in template.entries:
        return template.entries[name]
    if name in template.declared_models:
        return EntryDeclaration("models", name, template.declared_models[name].told)
    if name.startswith("[time]"):
        return EntryDeclaration("time", "to", "")
    section = "variables" if name in template.declared_variables else "tables"
    return EntryDeclaration(section, name, "")


def _needed_to_scatter(template: Template) -> list[str]:
    """Return what must be built before a function of what scatters can be: all that scatters, and its widths."""
    found = []
    for item in template.declarations.scatter:
        texts = [
            value for value in (*item.widths.values(), item.reach, item.column) if isinstance(value, str) and value
        ]
        words = [word.name for text in texts for word in names_in(parse_formula(text))]
        found += [key for name in (item.name, *words) if (key := template.key_of(name)) is not None]
    return list(dict.fromkeys(found))

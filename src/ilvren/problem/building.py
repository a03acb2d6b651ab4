"""Declarations → a template: names found, put in order, and built one after the other. Made once per file and per set
of sizes."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import TYPE_CHECKING, Any

from ilvren.errors import ProblemError
from ilvren.formula import shape_text
from ilvren.problem.declared_shapes import variable_shape
from ilvren.problem.declared_values import flat
from ilvren.problem.entries import Declarations, EntryDeclaration, TableDeclaration, Value
from ilvren.problem.fitting import fit_objective, fit_template
from ilvren.problem.ordering import ordered
from ilvren.problem.rows import row_templates
from ilvren.problem.template import Template

if TYPE_CHECKING:
    from ilvren.problem.over_time import Axis

__all__ = ["built"]


def built(declarations: Declarations, overrides: Mapping[str, Any] | None = None) -> Template:
    """Return all formulas of a file as one graph. Raises ProblemError or FormulaError, RequestError for an override."""
    texts: dict[str, str] = {}
    if any(model.approximation for model in declarations.models):
        from ilvren.problem.approximations import with_groups  # few files have approximations

        declarations = with_groups(declarations, texts)
    template = Template(declarations, overrides, texts)
    if declarations.scatter:
        from ilvren.problem.scatter_functions import ScatterFunctions, without_scatter
        from ilvren.problem.scattering import scatter_nodes  # few files say how things scatter

        template.scatter_functions = ScatterFunctions(template)
        template.scatter_nodes_of = scatter_nodes
        template.rewriters.append(partial(without_scatter, template))
    if declarations.time is not None:
        from ilvren.problem.time_functions import without_time, worked_out  # few files have things that evolve

        _add_axes(template)
        template.measure = partial(worked_out, template)
        template.rewriters.append(partial(without_time, template))
    _check_model_names(template)
    _find_over_time(template)
    template.order = ordered(template)
    for name in template.order:
        _build(template, name)
    template.fit = [fit_template(template, entry) for entry in declarations.fit]
    template.fit_node = fit_objective(template) if template.fit else None
    template.rows = [
        row
        for entry in declarations.constraints
        if not _is_bound_of_unknowns(template, entry)
        for row in row_templates(template, entry)
    ]
    template.rows += template.grid_rows
    _lower_numbers(template)
    template.told_over_time = [axis.told() for axis in template.built_axes]
    assert len(template.scatter_nodes) == len(declarations.scatter)  # what scatters impossibly is refused here
    _check_choices(template)
    if any(model.program is not None for model in declarations.models) and not declarations.part:
        from ilvren.problem.program_entries import refuse_unused

        refuse_unused(template)
    return template


def _check_model_names(template: Template) -> None:
    """Find which bare names are outputs of a model, and which inputs each model needs."""
    for model in template.declarations.models:
        for output in model.outputs:
            if output in template.model_outputs:
                template.model_outputs[output] = ("", output)  # of several models: only the full name works
            elif output not in template.entries and output not in template.declared_variables:
                template.model_outputs[output] = (model.name, output)
        from ilvren.problem.model_entries import inputs_of  # few files have models

        template.inputs[model.name] = inputs_of(template, model)


def _build(template: Template, name: str) -> None:
    axis = next((item for item in template.axes if item.key == name), None)
    if axis is not None:
        axis.build(list(template.all_trees()))
        template.built_axes.append(axis)
    elif name in template.along:
        pass  # written out where it is used
    elif name in template.parameter_index:
        template.add_parameter(template.entries[name])
    elif name in template.declared_variables and any(name in axis.pointwise for axis in template.axes):
        pass  # its axis knows at how many moments
    elif name in template.declared_variables:
        variable = template.declared_variables[name]
        template.shapes[name] = variable_shape(template, variable)
        template.nodes[name] = template.graph.variable(template.variable_index[name], template.shapes[name])
    elif name in template.models_over_time:
        pass  # called at every moment
    elif name in template.declared_models:
        from ilvren.problem.model_entries import add_model

        add_model(template, template.declared_models[name])
    elif name in template.declared_tables:
        from ilvren.problem.tables import read_table

        table = template.declared_tables[name]
        template.tables[name] = read_table(
            template.declarations.source, table, _lines(template, table), template.declarations.words
        )
        template.texts[table.file] = template.tables[name].text
    else:
        entry = template.entries[name]
        template.nodes[name] = node = template.lower_entry(entry, template.trees[name])
        shape = template.graph.shape(node)
        if entry.section in ("minimize", "maximize") and shape:
            template.fail(
                entry,
                f"an objective is one number; this formula has {shape_text(shape)}",
                advice="reduce it, for example with sum(...), max(...) or norm(...)",
            )


def _lines(template: Template, table: TableDeclaration) -> tuple[int, int] | None:
    if table.lines is None:
        return None
    ends = []
    for item in table.lines:
        own = EntryDeclaration("tables", f"{table.name}.lines", item)
        end = template.whole(template.lower_entry(own, template.parse(own)))
        if end is None:
            template.fail(own, "a line number must be whole, known before any run")
        ends.append(end)
    return ends[0], ends[1]


def _add_axes(template: Template) -> None:
    declared = template.declarations
    assert declared.time is not None
    if declared.time_cases:
        for case in declared.time_cases:
            own = [state for state in declared.states if state.name.endswith(f"@{case.case}")]
            signals = [entry for entry in declared.signals if entry.name.endswith(f"@{case.case}")]
            template.axes.append(_axis(template, case.time, own, declared.controls, signals, case.case))
        return
    template.axes.append(_axis(template, declared.time, declared.states, declared.controls, declared.signals))


def _axis(template: Template, *given: Any) -> Axis:
    if template.declarations.time_scheme:
        if template.asks_for_scenarios:
            raise ProblemError(
                "collocation is not possible: what evolves is simulated in every scenario of what scatters",
                file=template.declarations.source.file,
                where="scatter",
                line=template.declarations.source.line("scatter"),
            )
        from ilvren.problem.collocated import CollocatedAxis

        return CollocatedAxis(template, *given, scheme=template.declarations.time_scheme)
    from ilvren.problem.over_time import Axis

    return Axis(template, *given)


def _is_bound_of_unknowns(template: Template, entry: EntryDeclaration) -> bool:
    """Return whether a constraint is the bounds of a state whose unknowns have these as bounds."""
    if entry.written_in != "states":
        return False
    for axis in template.axes:
        for state in axis.state_declarations:
            if state.name == entry.name:
                return axis.bounds_of(state)
    return False


def _find_over_time(template: Template) -> None:
    """Find which derived values change over time: those that use something that does, outside functions of time."""
    names = [entry.name for entry in template.declarations.derived]
    for _ in range(len(names) + len(template.declared_models) + 1 if template.axes else 0):
        found = False
        for name, inputs in template.inputs.items():
            for axis in template.axes:
                trees = [template.parse(entry) for entry in inputs.values()]
                words = [word for tree in trees for word in axis.free_names(tree)]
                if name not in template.models_over_time and axis in template.axes_of(words):
                    template.models_over_time[name] = axis
                    found = True
        for name in names:
            if name in template.along or name not in template.trees:
                continue
            for axis in template.axes:
                if axis in template.axes_of(axis.free_names(template.trees[name])):
                    template.along[name] = axis
                    found = True
                    break
        if not found:
            return


def _lower_numbers(template: Template) -> None:
    for variable in template.declarations.variables:
        for key in ("start", "lower", "upper", "magnitude", "spacing", "catalogue"):
            _lower_number(template, ("variables", variable.name, key), getattr(variable, key))
    for entry in (*template.declarations.objectives, *template.declarations.constraints):
        _lower_number(template, (entry.section, entry.name, "magnitude"), entry.magnitude)
    for entry in template.declarations.objectives:
        _lower_number(template, (entry.section, entry.name, "goal"), entry.goal)


def _lower_number(template: Template, path: tuple[str, ...], value: Value | None) -> None:
    if isinstance(value, tuple):
        for place, item in enumerate(flat(value)):
            _lower_number(template, (*path, str(place)), item)
        return
    if not isinstance(value, str):
        return
    section, name = ".".join(path[:-1]).split(".", 1)
    entry = EntryDeclaration(section, f"{name}.{path[-1]}", value)
    node = template.lower_entry(entry, template.parse(entry))
    if template.depends(node):
        template.fail(entry, f'"{path[-1]}" may not depend on a variable')
    template.numbers[path] = node


def _check_choices(template: Template) -> None:
    """Refuse a choice where its number would be used: it stands as the value of a lookup, or in decks."""
    choices = {template.variable_index[item.name]: item for item in template.declarations.variables if item.choices}
    if not choices:
        return
    nodes = {k: node.index for k, node in enumerate(template.graph.nodes) if node.operation == "variable"}
    programs = {place for place, source in enumerate(template.sources) if source.is_apart}
    for node in template.graph.nodes:
        for place, operand in enumerate(node.operands):
            index = nodes.get(operand)
            if index not in choices:
                continue
            is_right = node.operation == "lookup" and place == 0
            if is_right or (node.operation == "call" and node.index in programs):
                continue
            name = choices[index].name
            template.fail(
                EntryDeclaration("variables", name, ""),
                f'"{name}" is a choice among words, which have no number to compute with',
                text=None,
                advice=f"lookup({name}, words, numbers) gives each word a number; decks take the word",
            )

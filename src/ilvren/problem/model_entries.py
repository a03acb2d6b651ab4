"""[models.*]: arguments matched by name with formulas, and the nodes of a call and its outputs. Nothing is run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from ilvren.errors import ProblemError, nearest
from ilvren.models import ModelSource, PythonSource, arguments_of
from ilvren.problem.declared_shapes import shape_of
from ilvren.problem.entries import EntryDeclaration
from ilvren.problem.model_declarations import ModelDeclaration

if TYPE_CHECKING:
    from ilvren.formula import Shape
    from ilvren.problem.template import Template

__all__ = ["add_model", "inputs_of", "model_source"]


def inputs_of(template: Template, model: ModelDeclaration) -> dict[str, EntryDeclaration]:
    """Return {argument: formula}: what the entry gives, else the value of the same name."""
    if model.program is not None:
        from ilvren.problem.program_entries import program_inputs  # few files have programs

        return program_inputs(template, model)
    if not model.python:
        return _learnt_inputs(template, model)
    where = EntryDeclaration("models", f"{model.name}.python", model.python)
    file, function = model.python.split(":")
    try:
        arguments = arguments_of(template.declarations.source.beside(file), function, text=template.stored(file))
    except ProblemError as error:
        template.fail(where, error.message, advice=error.advice)
    given = dict(model.inputs)
    if arguments.needed is not None and arguments.optional is not None:
        known = (*arguments.needed, *arguments.optional)
        for name in given:
            if name not in known and not arguments.takes_any:
                close = nearest(name, known)
                advice = f'did you mean "{close}"?' if close else "its arguments: " + (", ".join(known) or "none")
                own = EntryDeclaration("models", f"{model.name}.inputs", given[name])
                template.fail(own, f'"{function}" has no argument "{name}"', advice=advice)
        for name in arguments.needed:
            if name not in given:
                if template.key_of(name) is None:
                    template.fail(
                        where,
                        f'the argument "{name}" of "{function}" is the name of nothing in this file',
                        advice=f'give it a formula: inputs = {{ {name} = "…" }}',
                    )
                given[name] = name
        for name in arguments.optional:
            if name not in given and template.key_of(name) is not None:
                given[name] = name
    return {name: EntryDeclaration("models", f"{model.name}.inputs.{name}", text) for name, text in given.items()}


def _learnt_inputs(template: Template, model: ModelDeclaration) -> dict[str, EntryDeclaration]:
    """Return {input: formula} of what an approximation takes."""
    assert model.group is not None
    where = EntryDeclaration("models", model.name, model.told)
    needed = dict.fromkeys(item.base for item in model.group.inputs)
    names = needed | dict.fromkeys(item.base for item in model.group.held)
    for name in model.inputs:
        if name not in names:
            close = nearest(name, names)
            advice = f'did you mean "{close}"?' if close else "its inputs: " + ", ".join(names)
            own = EntryDeclaration("models", f"{model.name}.inputs", model.inputs[name])
            template.fail(own, f'the approximation has no input "{name}"', advice=advice)
    for name in needed:
        if name not in model.inputs and template.key_of(name) is None:
            template.fail(
                where,
                f'the input "{name}" of the approximation is the name of nothing in this file',
                advice=f'give it a formula: inputs = {{ {name} = "…" }}',
            )
    # What had one value alone when it was learnt has that one, where the file says nothing of it.
    given = {
        name: model.inputs.get(name, name)
        for name in names
        if name in needed or name in model.inputs or template.key_of(name) is not None
    }
    return {name: EntryDeclaration("models", f"{model.name}.inputs.{name}", text) for name, text in given.items()}


def add_model(template: Template, model: ModelDeclaration) -> None:
    """Add a model's call and outputs to the template's graph, and its source. Raises ProblemError."""
    graph = template.graph
    where = EntryDeclaration("models", model.name, model.told)
    nodes, inputs, still = [], [], set()
    for name, entry in template.inputs[model.name].items():
        node = template.lower_entry(entry, template.parse(entry))
        nodes.append(node)
        inputs.append((name, graph.shape(node)))
        if not template.depends(node):
            still.add(name)
    outputs = _outputs(template, model, where)
    if model.group is not None:
        from ilvren.problem.approximations import add_outputs

        named = dict(zip((name for name, _ in inputs), nodes, strict=True))
        left = add_outputs(template, model, named, outputs)
        if not left:
            return
    else:
        left = [name for name, _ in outputs]
    own = (
        _python_source(template, model, tuple(inputs), tuple(outputs))
        if model.program is None
        else _program_source(
            template, model, tuple(inputs), tuple(outputs), frozenset(still), _words(template, nodes, inputs)
        )
    )
    call = graph.arrange("call", tuple(nodes), (), None, len(template.sources))
    template.sources.append(own)
    for place, (name, shape) in enumerate(outputs):
        if name not in left:
            continue
        template.nodes[f"{model.name}.{name}"] = graph.arrange("output", (call,), shape, (place,))


def _outputs(template: Template, model: ModelDeclaration, where: EntryDeclaration) -> list[tuple[str, Shape]]:
    return [
        (name, () if shape is None else shape_of(template, where, f"{model.name}.outputs.{name}", shape))
        for name, shape in model.outputs.items()
    ]


def model_source(
    template: Template, name: str, inputs: tuple[tuple[str, Shape], ...]
) -> tuple[int, list[tuple[str, Shape]]]:
    """Return the number of the source of a model that is called at every moment, and its outputs. Raises ProblemError
    for a program: it would be started thousands of times."""
    model = next(item for item in template.declarations.models if item.name == name)
    where = EntryDeclaration("models", model.name, model.told)
    if model.program is not None:
        template.fail(
            where,
            "a program would be started at every moment of every simulation",
            advice="rates call Python functions; a program may simulate by itself, outside [states]",
        )
    outputs = _outputs(template, model, where)
    for number, source in enumerate(template.sources):
        if source.name == name:
            return number, outputs
    template.sources.append(_python_source(template, model, inputs, tuple(outputs)))
    return len(template.sources) - 1, outputs


def _words(template: Template, nodes: Sequence[int], inputs: Sequence[tuple[str, Shape]]) -> dict[str, tuple[str, ...]]:
    """Return {input: all words} of the inputs that are choices."""
    declared = template.declarations
    choices = {template.nodes[item.name] for item in declared.variables if item.choices and item.name in template.nodes}
    return {name: declared.words for (name, _), node in zip(inputs, nodes, strict=True) if node in choices}


def _program_source(template: Template, model: ModelDeclaration, *facts: Any) -> ModelSource:
    from ilvren.problem.program_entries import program_source

    return program_source(template, model, *facts)


def _python_source(
    template: Template,
    model: ModelDeclaration,
    inputs: tuple[tuple[str, Shape], ...],
    outputs: tuple[tuple[str, Shape], ...],
) -> PythonSource:
    source = template.declarations.source
    where = EntryDeclaration("models", model.name, model.python)
    file, function = model.python.split(":")
    slopes_file, _, slopes = model.slopes.partition(":")
    if slopes_file:
        try:
            arguments_of(source.beside(slopes_file), slopes, text=template.stored(slopes_file))
        except ProblemError as error:
            own = EntryDeclaration("models", f"{model.name}.slopes", model.slopes)
            template.fail(own, error.message, advice=error.advice)
    made = PythonSource(
        name=model.name,
        path=source.beside(file).resolve(),
        function=function,
        inputs=inputs,
        outputs=outputs,
        derivatives=model.derivatives or "automatic",
        slopes_path=source.beside(slopes_file).resolve() if slopes_file else None,
        slopes=slopes,
        bands=model.bands,
        timeout=model.timeout,
        depends=tuple(source.beside(name).resolve() for name in model.depends),
        place=(source.file, template.line(where)),
        is_strict=bool(model.derivatives),
        retries=model.retries,
        is_repeatable=model.repeatable,
    )
    for path in made.depends:
        if not source.files and not path.exists():
            own = EntryDeclaration("models", f"{model.name}.depends", "")
            template.fail(own, f"depends on a file that is not there: {path}", text=None)
    return made

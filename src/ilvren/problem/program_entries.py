"""A model that is a program: its inputs by name from decks and arguments, and its source. Nothing is run."""

from __future__ import annotations

import math
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from ilvren.errors import ProblemError, nearest
from ilvren.models import ProgramSource
from ilvren.models.program import (
    CannotWrite,
    Deck,
    Put,
    Reading,
    argument_names,
    names_in_template,
    placed_at,
    template_trouble,
)
from ilvren.problem.entries import EntryDeclaration
from ilvren.problem.model_declarations import DeckDeclaration, ModelDeclaration, ProgramDeclaration
from ilvren.regular import regular_bytes

if TYPE_CHECKING:
    from ilvren.formula import Shape
    from ilvren.problem.template import Template

# The key of what uses a name, its file and line (0: not in a file).
_Use = tuple[tuple[str, ...], str, int]

__all__ = ["program_inputs", "program_source", "refuse_unused"]

# Larger decks are read at each load; beyond this it is no deck.
MOST_BYTES = 100_000_000


def _fail(template: Template, path: tuple[str, ...], message: str, *, advice: str | None = None) -> NoReturn:
    """Raise ProblemError about a key path; names of decks may have points in them."""
    source = template.declarations.source
    line = next((found for k in range(len(path), 0, -1) if (found := source.line(*path[:k])) is not None), None)
    raise ProblemError(message, file=source.file, line=line, where=".".join(path), advice=advice)


def program_inputs(template: Template, model: ModelDeclaration) -> dict[str, EntryDeclaration]:
    """Return {name: formula} of what decks and arguments use: what the entry gives, else the value of that name."""
    assert model.program is not None
    found: dict[str, EntryDeclaration] = {}
    used = _uses(template, model, model.program)
    for name in model.inputs:
        if name not in used:
            close = nearest(name, used)
            advice = f'did you mean "{close}"?' if close else "used there: " + (", ".join(used) or "nothing")
            path = ("models", model.name, "inputs", name)
            _fail(template, path, f'"{name}" is used in no deck and no argument of this model', advice=advice)
    for name, (key, file, line) in used.items():
        if name in model.inputs:
            formula = model.inputs[name]
        elif template.key_of(name) is not None or _is_column(template, name):
            formula = name
        else:
            _unknown(template, model, name, key, file, line)
        found[name] = EntryDeclaration("models", f"{model.name}.inputs.{name}", formula)
    return found


def _is_column(template: Template, name: str) -> bool:
    first, dot, _ = name.partition(".")
    return bool(dot) and template.key_of(name) == first


def _unknown(
    template: Template, model: ModelDeclaration, name: str, key: tuple[str, ...], file: str, line: int
) -> NoReturn:
    known = [*template.known_keys(), *model.inputs]
    close = nearest(name, known)
    place = f"{file}:{line}" if line else file
    advice = f'did you mean "{close}"?' if close else f'give it a formula: inputs = {{ {name} = "…" }}'
    path = ("models", model.name, *key)
    _fail(template, path, f'{place} uses "{name}", which is the name of nothing in this file', advice=advice)


def _uses(template: Template, model: ModelDeclaration, program: ProgramDeclaration) -> dict[str, _Use]:
    """Return {name: (key, file, line)} of its first use."""
    spaces = [table.name for table in template.declarations.tables]
    spaces += [other.name for other in template.declarations.models]
    used: dict[str, _Use] = {}
    for name in (name for command in program.commands for name in argument_names(command)):
        used.setdefault(name, (("command",), "the command", 0))
    for deck in program.decks:
        key = ("write", deck.target)
        text = _deck_text(template, model, deck)
        if not deck.is_template:
            for name in deck.puts:
                used.setdefault(name, ((*key, "put", name), '"put"', 0))
            continue
        trouble = template_trouble(text)
        if trouble is not None:
            path = ("models", model.name, *key)
            _fail(template, path, f"{deck.file}:{trouble[1]} is no template: {trouble[0]}")
        for name, line in names_in_template(text, spaces).items():
            used.setdefault(name, (key, deck.file, line))
    return used


def _deck_text(template: Template, model: ModelDeclaration, deck: DeckDeclaration) -> str:
    """Return the text of a template or base, stored or on disk."""
    source = template.declarations.source
    if deck.file not in template.texts:
        path = source.beside(deck.file)
        key = ("models", model.name, "write", deck.target)
        try:
            if deck.file in source.files:
                template.texts[deck.file] = source.files[deck.file]
            elif path.stat().st_size > MOST_BYTES:
                _fail(template, key, f"{path} is too large for a deck")
            else:  # line ends stay as they are
                template.texts[deck.file] = regular_bytes(path).decode("utf-8")
        except UnicodeDecodeError as error:
            _fail(template, key, f"{path} is not UTF-8 text (byte {error.start})")
        except OSError as error:
            told = "is not there" if isinstance(error, FileNotFoundError) else f"cannot be read: {error.strerror}"
            _fail(template, key, f"{path} {told}")
    return template.texts[deck.file]


def program_source(
    template: Template,
    model: ModelDeclaration,
    inputs: tuple[tuple[str, Shape], ...],
    outputs: tuple[tuple[str, Shape], ...],
    still: frozenset[str],
    words: Mapping[str, tuple[str, ...]],
) -> ProgramSource:
    """Return the source of a program, with its decks read and its places in them found. Raises ProblemError."""
    program, source = model.program, template.declarations.source
    assert program is not None
    shapes = dict(inputs)
    base = source.beside("").resolve()
    if not source.files:
        for name in (*program.files, *program.links):
            if not (base / name).exists():
                path = ("models", model.name, "files")
                _fail(template, path, f"needs a file that is not there: {source.beside(name)}")
    file = Path(source.file)
    store = base / f"{'ilvren' if source.file.startswith('<') else file.stem}.calls"
    return ProgramSource(
        name=model.name,
        base=base,
        commands=program.commands,
        inputs=inputs,
        outputs=outputs,
        decks=tuple(_deck(template, model, deck, shapes) for deck in program.decks),
        readings=tuple(
            Reading(name=name, file=read.file, shape=dict(outputs)[name], **read.place)
            for name, read in program.reads.items()
        ),
        slopes=_slopes(template, model, program, shapes, dict(outputs), still),
        files=program.files,
        links=program.links,
        environment=program.environment,
        failures=program.failures,
        success=program.success,
        timeout=model.timeout,
        retries=model.retries,
        parallel=program.parallel,
        keep=program.keep,
        is_repeatable=model.repeatable,
        still=still,
        words=words,
        store=store,
        place=(source.file, source.line("models", model.name)),
        derivatives=model.derivatives,
    )


def _deck(template: Template, model: ModelDeclaration, deck: DeckDeclaration, shapes: Mapping[str, Shape]) -> Deck:
    text = template.texts[deck.file]
    if deck.is_template:
        return Deck(deck.target, deck.file, text)
    puts = tuple(Put(name, **place) for name, place in deck.puts.items())
    for put in puts:
        try:
            placed_at(text, put, math.prod(shapes[put.name]))
        except CannotWrite as error:
            path = ("models", model.name, "write", deck.target, "put", put.name)
            _fail(template, path, f"{deck.file}: {error}", advice=_nearest_lines(put, text))
    return Deck(deck.target, deck.file, text, puts)


def _nearest_lines(put: Put, text: str) -> str | None:
    from ilvren.models.program import nearest_lines

    near = nearest_lines(put.after or put.pattern, text.splitlines()) if put.after or put.pattern else []
    return "nearest lines: " + " | ".join(near) if near else None


def _slopes(
    template: Template,
    model: ModelDeclaration,
    program: ProgramDeclaration,
    inputs: Mapping[str, Shape],
    outputs: Mapping[str, Shape],
    still: frozenset[str],
) -> dict[tuple[str, str], Reading | float]:
    """Return where derivatives are read: for all outputs by all inputs that variables move, or for none."""
    found: dict[tuple[str, str], Reading | float] = {}
    for (output, name), read in program.slopes.items():
        path = ("models", model.name, "slopes", output, name)
        if name not in inputs:
            close = nearest(name, inputs)
            advice = f'did you mean "{close}"?' if close else "its inputs: " + ", ".join(inputs)
            _fail(template, path, f'the model has no input "{name}"', advice=advice)
        if isinstance(read, float):
            found[output, name] = read
        else:
            shape = (*outputs[output], *inputs[name])
            found[output, name] = Reading(name=f"{output} by {name}", file=read.file, shape=shape, **read.place)
    if found:
        for output in outputs:
            for name in inputs:
                if name not in still and (output, name) not in found:
                    _fail(
                        template,
                        ("models", model.name, "slopes"),
                        f'the slope of "{output}" by "{name}" is not given',
                        advice=f"say where it is read, or {name} = 0 where there is none; without any slopes they are"
                        " differences",
                    )
    return found


def refuse_unused(template: Template) -> None:
    """Refuse a variable that nothing uses where a deck could. Raises ProblemError."""
    programs = [model for model in template.declarations.models if model.program is not None]
    if not programs:
        return
    graph = template.graph
    calls = [number for number, node in enumerate(graph.nodes) if node.operation == "call"]
    rows = [row.node for row in template.rows]
    entries = [
        template.nodes[entry.name] for entry in (*template.declarations.derived, *template.declarations.objectives)
    ]
    fit = [] if template.fit_node is None else [template.fit_node]
    used = graph.variables_of([*calls, *rows, *entries, *fit])
    decks = [deck for model in programs for deck in model.program.decks if model.program is not None]  # type: ignore[union-attr]
    for variable in template.declarations.variables:
        if template.variable_index[variable.name] not in used:
            templates = [deck.file for deck in decks if deck.is_template]
            could = (
                f"{templates[0]} could write it: {{{{ {variable.name} }}}}" if templates else 'a "put" could write it'
            )
            path = ("variables", variable.name)
            _fail(template, path, f'"{variable.name}" is used by no formula and stands in no deck', advice=could)

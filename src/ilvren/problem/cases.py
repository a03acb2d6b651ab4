"""[cases.NAME]: the same formulas under other parameters and tables; variables are shared.

What depends on something that a case changes is there once for each case, as `name@case`: parameters, tables, models,
derived values and constraints, so that every constraint holds in each. What does not depend on it stays as it is. Bare
names in an entry mean those of its own case; `worst(x)` is the largest and `average(x)` the mean over all cases.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from ilvren.errors import FormulaError, ProblemError, RequestError, nearest
from ilvren.formula import Token, tokenize
from ilvren.problem.building import built
from ilvren.problem.entries import Declarations, EntryDeclaration, FitDeclaration, TableDeclaration, Value, formula_text
from ilvren.problem.model_declarations import ModelDeclaration
from ilvren.problem.ordering import needs_of
from ilvren.problem.time_declarations import TimeCase, TransferDeclaration
from ilvren.problem.time_reader import first_variable, is_free

__all__ = ["expanded"]

# What a state says in formulas.
_STATE_TEXTS = ("rate", "next", "every", "initial", "start", "lower", "upper", "magnitude", "shape")
# Over all cases: the largest, and the mean.
_OVER = ("worst", "average")


def expanded(declarations: Declarations, overrides: Mapping[str, Any]) -> tuple[Declarations, dict[str, Any]]:
    """Return the declarations with what depends on cases there once for each, and the values given to parameters by the
    names that these have then. Raises ProblemError, FormulaError."""
    base = {name: value for name, value in overrides.items() if "@" not in name}
    expansion = _Expansion(declarations, base)
    return expansion.declarations(), expansion.settings(overrides)


class _Expansion:
    def __init__(self, declarations: Declarations, overrides: Mapping[str, Any]) -> None:
        self.given = declarations
        self.cases = {case.name: case for case in declarations.cases}
        self.base_has_time = declarations.time is not None
        self.free = {f"{state.name}.first" for state in declarations.states if is_free(state)}
        self.dependent: set[str] = set()
        self.controls = frozenset(item.name for item in declarations.controls)
        self.over_time: frozenset[str] = frozenset(
            [
                "t",
                *(item.name for item in declarations.states),
                *(item.name for item in declarations.controls),
                *(item.name for item in declarations.signals),
            ]
            if declarations.time is not None
            else ()
        )
        self._check_changes()
        # As if there were no cases: which models and tables need what, and what each name means.
        self.base = built(replace(self._mapped(self._plain), confirm=(), cases=(), part="cases"), overrides)
        self.dependent = self._closure()

    def fail(self, path: tuple[str, ...], message: str, advice: str | None = None) -> ProblemError:
        source = self.given.source
        line = next((found for k in range(len(path), 0, -1) if (found := source.line(*path[:k])) is not None), None)
        return ProblemError(message, file=source.file, line=line, where=".".join(path), advice=advice)

    def _check_changes(self) -> None:
        parameters = [entry.name for entry in self.given.parameters]
        tables = [table.name for table in self.given.tables]
        for case in self.given.cases:
            for key, names, known in (("set", case.set, parameters), ("tables", case.tables, tables)):
                for name in names:
                    if name not in known:
                        close = nearest(name, known)
                        kind = "parameter" if key == "set" else "table"
                        advice = (
                            f'did you mean "{close}"?' if close else f"its {kind}s: " + (", ".join(known) or "none")
                        )
                        raise self.fail(("cases", case.name, key, name), f'the file has no {kind} "{name}"', advice)

    # ---- what depends on a case -------------------------------------------------------------------

    def _closure(self) -> set[str]:
        """Return the names that are there once for each case."""
        found = {name for case in self.given.cases for name in (*case.set, *case.tables)}
        needs = {name: set(keys) for name, keys in needs_of(self.base).items()}
        entries = (*self.given.parameters, *self.given.derived, *self.given.objectives)
        for entry in entries:  # without what they take of a case by its name
            needs[entry.name] = set(self._bare_keys(entry.formula))
        while True:
            more = {name for name, keys in needs.items() if name not in found and keys & found}
            if not more:
                return found
            found |= more

    def _bare_keys(self, value: Value) -> Iterable[str]:
        """Return the names that a formula uses without a case."""
        for text in _texts(value):
            for token in self._bare(text):
                key = self._key_of(token.text)
                if key is not None:
                    yield key

    def _key_of(self, name: str) -> str | None:
        """Return what must be built before a name; a control is a variable, which cases share."""
        return name if name in self.controls else self.base.key_of(name)

    def _bare(self, text: str) -> list[Token]:
        tokens, found, skip = _tokens(text), list[Token](), 0
        for place, token in enumerate(tokens):
            if skip:
                skip -= 1
            elif self._is_over(tokens, place):
                skip = 3
            elif token.kind == "name" and "@" not in token.text:
                found.append(token)
        return found

    @property
    def varies_over_time(self) -> bool:
        """Return whether what evolves depends on a case: then all of it is there once for each."""
        return "[time]" in self.dependent

    def _is_over(self, tokens: Sequence[Token], place: int) -> bool:
        """Return whether worst(name) or average(name), over cases, stands at a place; average of what changes over time
        is over the time."""
        if not _is_over(tokens, place):
            return False
        name = tokens[place + 2].text
        return not (tokens[place].text == "average" and (name in self.over_time or self._changes(name)))

    def _changes(self, name: str) -> bool:
        base = self.__dict__.get("base")
        return base is not None and base.axis_of(name) is not None

    # ---- texts ------------------------------------------------------------------------------------

    def _plain(self, text: str) -> str:
        """Return a formula as if there were no cases."""
        return self._rewritten(text, lambda name: name, lambda _, name: name, lambda name, _: name)

    def _in_case(self, case: str | None) -> Callable[[str], str]:
        """Return what rewrites a formula for an entry of a case, or of none."""

        def bare(name: str) -> str:
            return name if case is None else self._named(name, case)

        def over(word: str, name: str) -> str:
            each = [self._named(name, one) for one in self.cases]
            if word == "worst":
                return each[0] if len(each) == 1 else f"max({', '.join(each)})"
            return f"(({' + '.join(each)}) / {len(each)})"

        return lambda text: self._rewritten(text, bare, over, self._named)

    def _named(self, name: str, case: str) -> str:
        """Return a name in a case: the same where it does not depend on it."""
        if case not in self.cases:
            close = nearest(case, self.cases)
            advice = f'did you mean "{close}"?' if close else "its cases: " + ", ".join(self.cases)
            raise FormulaError(f'"{name}@{case}": there is no case "{case}"', advice=advice)
        state, _, last = name.rpartition(".")
        if last == "first" and f"{state}.first" in self.free and self.varies_over_time:
            return f"{state}@{case}.first"
        key = self._key_of(name)
        if key is None or key not in self.dependent:
            return name
        if key.startswith("[time]"):
            return f"{name}@{case}"
        first, dot, rest = name.partition(".")
        if dot:
            return f"{first}@{case}.{rest}"
        return f"{key}@{case}.{name}" if key != name else f"{name}@{case}"  # an output of a model by its bare name

    def _rewritten(
        self,
        text: str,
        bare: Callable[[str], str],
        over: Callable[[str, str], str],
        named: Callable[[str, str], str],
    ) -> str:
        pieces, at, skip = [], 0, 0
        tokens = _tokens(text)
        for place, token in enumerate(tokens):
            if skip:
                skip -= 1
                continue
            new = None
            if token.kind == "name" and token.text in _OVER and tokens[place + 1].text == "(":
                if not self._is_over(tokens, place):
                    if token.text == "average" and self.base_has_time:
                        continue  # over time: its argument is rewritten by itself
                    raise FormulaError(
                        f"{token.text}(…) takes one name",
                        text=text,
                        span=(token.start, token.end),
                        advice="give the value a name in [derived], and use that",
                    )
                new, skip = over(token.text, tokens[place + 2].text), 3
                end = tokens[place + 3].end
            elif token.kind == "name":
                whole, _, case = _split(token.text)
                new = named(whole, case) if case else bare(whole)
                end = token.end
            if new is not None:
                pieces += [text[at : token.start], new]
                at = end
        return "".join(pieces) + text[at:]

    # ---- declarations -----------------------------------------------------------------------------

    def declarations(self) -> Declarations:
        """Return all declarations, those that depend on cases once for each."""
        given = self.given
        for entry in given.objectives:
            if entry.name in self.dependent:
                raise self.fail(
                    (entry.section, entry.name),
                    "the objective varies from case to case, and does not say which it is",
                    f"worst(x) or average(x) of a derived value, or x@{next(iter(self.cases))}",
                )
        for variable in given.variables:
            for key in ("start", "lower", "upper", "magnitude", "spacing", "catalogue", "shape"):
                if set(self._bare_keys(getattr(variable, key) or 0.0)) & self.dependent:
                    raise self.fail(("variables", variable.name, key), f'"{key}" may not depend on a case')
        given = self._evolving(given) if self.varies_over_time else given
        return replace(
            given,
            parameters=self._entries(given.parameters),
            derived=self._entries(given.derived),
            objectives=self._entries(given.objectives),
            constraints=self._limits(given.constraints),
            confirm=self._limits(given.confirm),
            tables=tuple(one for table in given.tables for one in self._tables(table)),
            models=tuple(one for model in given.models for one in self._models(model)),
            fit=tuple(one for entry in given.fit for one in self._fits(entry)),
            cases=(),
        )

    def _evolving(self, given: Declarations) -> Declarations:
        """Return the declarations with what evolves once for each case; controls are variables, and shared."""
        assert given.time is not None
        states, signals, variables, times = [], [], [], []
        for control in given.controls:
            for key in ("start", "lower", "upper", "magnitude", "pieces", "before", "shape"):
                if set(self._bare_keys(getattr(control, key) or 0.0)) & self.dependent:
                    raise self.fail(("controls", control.name, key), f'"{key}" may not depend on a case')
        for case in self.cases:
            rewrite = self._in_case(case)

            def own(value: Any) -> Any:
                return None if value is None else _each(value, rewrite)  # noqa: B023

            for state in given.states:
                transfer = state.transfer
                if transfer is not None:
                    sides = own(transfer.numerator), own(transfer.denominator)
                    transfer = TransferDeclaration(own(transfer.of), *sides)
                changed = {key: own(getattr(state, key)) for key in _STATE_TEXTS}
                states.append(replace(state, name=f"{state.name}@{case}", transfer=transfer, **changed))
                if is_free(state):
                    first = first_variable(state, given.time)
                    texts = {key: own(getattr(first, key)) for key in ("start", "lower", "upper", "magnitude", "shape")}
                    variables.append(replace(first, name=f"{state.name}@{case}.first", **texts))
            for entry in given.signals:
                signals.append(replace(self._written(entry, case), name=f"{entry.name}@{case}"))
            time = given.time
            ends = {key: own(getattr(time, key)) for key in ("begin", "end", "steps", "at")}
            times.append(TimeCase(case, replace(time, **ends)))
        kept = tuple(variable for variable in given.variables if variable.name not in self.free)
        controls = {control.name for control in given.controls}
        plain = tuple(variable for variable in kept if variable.name not in controls)
        chosen = tuple(variable for variable in kept if variable.name in controls)
        return replace(
            given,
            variables=(*plain, *variables, *chosen),
            states=tuple(states),
            signals=tuple(signals),
            time_cases=tuple(times),
        )

    def _entries(self, entries: Sequence[EntryDeclaration]) -> tuple[EntryDeclaration, ...]:
        found = []
        for entry in entries:
            if entry.name not in self.dependent:
                found.append(self._written(entry, None))
                continue
            for case in self.given.cases:
                own = entry if entry.name not in case.set else replace(entry, formula=case.set[entry.name])
                found.append(replace(self._written(own, case.name), name=f"{entry.name}@{case.name}"))
        return tuple(found)

    def _limits(self, entries: Sequence[EntryDeclaration]) -> tuple[EntryDeclaration, ...]:
        found = []
        for entry in entries:
            if not set(self._bare_keys(entry.formula)) & self.dependent:
                found.append(self._written(entry, None))
                continue
            found += [replace(self._written(entry, case), name=f"{entry.name}@{case}") for case in self.cases]
        return tuple(found)

    def _written(self, entry: EntryDeclaration, case: str | None) -> EntryDeclaration:
        rewrite = self._in_case(case)
        try:
            magnitude = None if entry.magnitude is None else _each(entry.magnitude, rewrite)
            goal = None if entry.goal is None else _each(entry.goal, rewrite)
            return replace(entry, formula=_each(entry.formula, rewrite), magnitude=magnitude, goal=goal)
        except FormulaError as error:
            self.base.fail_at(entry, error)

    def _tried(self, entry: EntryDeclaration, rewrite: Callable[[str], str]) -> Value:
        """Return an entry's formula rewritten. Raises ProblemError with its place."""
        try:
            return _each(entry.formula, rewrite)
        except FormulaError as error:
            raise self.fail((entry.written_in or entry.section, entry.name), error.message, error.advice) from None

    def settings(self, overrides: Mapping[str, Any]) -> dict[str, Any]:
        """Return values of parameters as they are given by name: of one that cases change, for each case that does not
        say so itself."""
        found: dict[str, Any] = {}
        for name, value in overrides.items():
            if name not in self.dependent:
                found[name] = value
                continue
            open_ = [case.name for case in self.given.cases if name not in case.set]
            if not open_:
                raise RequestError(
                    f"--set {name}: every case has a value of its own for it",
                    advice=f"--set {name}@{next(iter(self.cases))}=… changes it in one",
                )
            found |= {f"{name}@{case}": value for case in open_}
        return found

    def _tables(self, table: TableDeclaration) -> list[TableDeclaration]:
        if table.name not in self.dependent:
            return [table]
        lines = table.lines
        found = []
        for case in self.given.cases:
            own = None if lines is None else tuple(_each(line, self._in_case(case.name)) for line in lines)
            file = case.tables.get(table.name, table.file)
            found.append(replace(table, name=f"{table.name}@{case.name}", file=file, lines=own))
        return found

    def _models(self, model: ModelDeclaration) -> list[ModelDeclaration]:
        """Return a model for each case, its inputs written out: what a deck or function takes is that of the case."""
        names = [None] if model.name not in self.dependent else list(self.cases)
        found = []
        for case in names:
            rewrite = self._in_case(case)
            inputs = {key: _each(entry.formula, rewrite) for key, entry in self.base.inputs[model.name].items()}
            outputs = {key: None if shape is None else _each(shape, rewrite) for key, shape in model.outputs.items()}
            name = model.name if case is None else f"{model.name}@{case}"
            found.append(replace(model, name=name, inputs=inputs, outputs=outputs))
        return found

    def _fits(self, entry: FitDeclaration) -> list[FitDeclaration]:
        values = (entry.residual, entry.sigma)
        is_dependent = any(set(self._bare_keys(value)) & self.dependent for value in values)
        found = []
        for case in self.cases if is_dependent else (None,):
            rewrite = self._in_case(case)
            name = entry.name if case is None else f"{entry.name}@{case}"
            residual = _each(entry.residual, rewrite)
            assert isinstance(residual, str)
            found.append(replace(entry, name=name, residual=residual, sigma=_each(entry.sigma, rewrite)))
        return found

    def _mapped(self, rewrite: Callable[[str], str]) -> Declarations:
        """Return the declarations with every formula rewritten."""
        given = self.given

        def entries(items: Sequence[EntryDeclaration]) -> tuple[EntryDeclaration, ...]:
            return tuple(replace(item, formula=self._tried(item, rewrite)) for item in items)

        return replace(
            given,
            parameters=entries(given.parameters),
            derived=entries(given.derived),
            objectives=entries(given.objectives),
            constraints=entries(given.constraints),
            models=tuple(
                replace(model, inputs={key: _each(value, rewrite) for key, value in model.inputs.items()})
                for model in given.models
            ),
            fit=tuple(replace(item, residual=str(_each(item.residual, rewrite))) for item in given.fit),
            signals=entries(given.signals),
        )


def _tokens(text: str) -> list[Token]:
    return tokenize(text)


def _is_over(tokens: Sequence[Token], place: int) -> bool:
    """Return whether worst(name) or average(name) stands at a place."""
    words = tokens[place : place + 4]
    return (
        len(words) == 4
        and words[0].text in _OVER
        and words[1].text == "("
        and words[2].kind == "name"
        and "@" not in words[2].text
        and words[3].text == ")"
    )


def _split(name: str) -> tuple[str, str, str]:
    """Return (name, "@", case) of "x@storm", "net@storm.friction" and "net.friction@storm"."""
    match = re.fullmatch(r"([^@.]+)(?:@([^@.]+))?(\.[^@]+)?(?:@([^@.]+))?", name)
    assert match is not None, name
    return match[1] + (match[3] or ""), "@", match[2] or match[4] or ""


def _each(value: Value, rewrite: Callable[[str], str]) -> Value:
    if isinstance(value, tuple):
        return tuple(_each(item, rewrite) for item in value)
    return rewrite(value) if isinstance(value, str) else value


def _texts(value: Value) -> Iterable[str]:
    if isinstance(value, tuple):
        for item in value:
            yield from _texts(item)
    elif isinstance(value, str):
        yield formula_text(value)

"""[time], [states], [controls], [signals]: keys, types and names checked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

from ilvren.formula import TIME_FUNCTIONS
from ilvren.problem.entries import Declarations, EntryDeclaration, Value, VariableDeclaration
from ilvren.problem.time_declarations import ControlDeclaration, StateDeclaration, TimeDeclaration, TransferDeclaration
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.document import Document

__all__ = ["OverTime", "first_variable", "is_free", "read_time"]

TIME_KEYS = ("from", "to", "unit", "steps", "at", "treatment", "about")
STATE_KEYS = (
    "rate",
    "transfer",
    "every",
    "next",
    "initial",
    "start",
    "lower",
    "upper",
    "magnitude",
    "shape",
    "unit",
    "about",
)
CONTROL_KEYS = ("start", "lower", "upper", "magnitude", "pieces", "form", "before", "shape", "unit", "about")
SIGNAL_KEYS = ("formula", "unit", "about")
TRANSFER_KEYS = ("of", "numerator", "denominator")
FORMS = ("constant", "linear", "pointwise")
TREATMENTS = ("collocation", "simulation")


@dataclass(frozen=True)
class OverTime:
    """What these sections declare."""

    time: TimeDeclaration
    states: tuple[StateDeclaration, ...]
    controls: tuple[ControlDeclaration, ...]
    signals: tuple[EntryDeclaration, ...]

    @property
    def has_variables(self) -> bool:
        """Return whether there is something to choose: a control, or a state with a free beginning."""
        return bool(self.controls) or any(is_free(state) for state in self.states)

    @property
    def has_limits(self) -> bool:
        """Return whether a state is bounded."""
        return any(state.lower is not None or state.upper is not None for state in self.states)

    def added(self, declarations: Declarations) -> Declarations:
        """Return the declarations with these: first values and controls are variables of the design, bounds of states
        constraints."""
        return replace(
            declarations,
            time=self.time,
            states=self.states,
            controls=self.controls,
            signals=self.signals,
            variables=(
                *declarations.variables,
                *(first_variable(state, self.time) for state in self.states if is_free(state)),
                *(_control_variable(control) for control in self.controls),
            ),
            constraints=(*declarations.constraints, *(_bounds(state) for state in self.states if _is_bounded(state))),
        )


def is_free(state: StateDeclaration) -> bool:
    """Return whether a state's first value is for the design to choose."""
    return state.initial is None and state.transfer is None


def _is_bounded(state: StateDeclaration) -> bool:
    return state.lower is not None or state.upper is not None


def _bounds(state: StateDeclaration) -> EntryDeclaration:
    low = "" if state.lower is None else f"{_side(state.lower)} <= "
    high = "" if state.upper is None else f" <= {_side(state.upper)}"
    return EntryDeclaration(
        "constraints", state.name, f"{low}{state.name}{high}", state.unit, state.about, state.magnitude, "states"
    )


def _side(value: Value) -> str:
    return f"({value})" if isinstance(value, str) else repr(value).removesuffix(".0")


def first_variable(state: StateDeclaration, time: TimeDeclaration) -> VariableDeclaration:
    """Return the variable that a state's free first value is. Bounds that depend on the time are left to the limit that
    holds at every moment."""
    from ilvren.formula import tokenize

    def at_begin(value: Value | None) -> Value | None:
        if not isinstance(value, str):
            return value
        begin = "0" if time.begin is None else _side(time.begin)
        pieces, at = [], 0
        for token in tokenize(value):
            if token.kind == "name" and token.text == "t":
                pieces += [value[at : token.start], f"({begin})"]
                at = token.end
        return "".join(pieces) + value[at:]

    fixed = {
        key: value
        for key in ("lower", "upper")
        if (value := getattr(state, key)) is not None and not isinstance(value, str)
    }
    return VariableDeclaration(
        name=f"{state.name}.first",
        start=at_begin(state.start),
        magnitude=state.magnitude,
        shape=state.shape,
        unit=state.unit,
        about=f"{state.name} at the beginning" if not state.about else f"{state.about}, at the beginning",
        **fixed,
    )


def _control_variable(control: ControlDeclaration) -> VariableDeclaration:
    """Return the variable that a control's pieces are; its shape is known when the moments are."""
    return VariableDeclaration(
        name=control.name,
        start=control.start,
        lower=control.lower,
        upper=control.upper,
        magnitude=control.magnitude,
        shape=("pieces",),
        unit=control.unit,
        about=control.about,
    )


def read_time(reader: Document) -> OverTime:
    """Return what the sections declare. Raises ProblemError."""
    reader.reserved |= frozenset(TIME_FUNCTIONS) | {"t"}
    if not reader.section("states"):
        section = next(name for name in ("time", "controls", "signals") if name in reader.document)
        reader.fail(
            (section,),
            f"[{section}] without [states]: nothing evolves",
            'a state: level = { rate = "inflow - draw", initial = 2.4 }',
        )
    if "time" not in reader.document:
        reader.fail(
            ("states",), "[states] without [time]: when it begins and ends is not said", "[time]  from = 0  to = 24"
        )
    return OverTime(
        _time(reader),
        tuple(_state(reader, name, content) for name, content in reader.section("states").items()),
        tuple(_control(reader, name, content) for name, content in reader.section("controls").items()),
        tuple(_signal(reader, name, content) for name, content in reader.section("signals").items()),
    )


def _time(reader: Document) -> TimeDeclaration:
    content = reader.checked_keys(("time",), reader.section("time"), TIME_KEYS)
    given = {key: _one(reader, ("time", key), content[key]) for key in ("from", "to", "steps", "at") if key in content}
    if "at" in given and not isinstance(given["at"], str):
        reader.fail(("time", "at"), '"at" names moments: a column such as "demand.hour", or a vector')
    if "at" in given and "steps" in given:
        reader.fail(("time", "steps"), '"steps" beside "at", which gives the moments itself')
    if "at" not in given and "to" not in given:
        reader.fail(("time",), 'needs "to": when it ends')
    treatment = reader.word(("time",), content, "treatment")
    if treatment and treatment not in TREATMENTS:
        reader.unknown_key(("time", "treatment"), treatment, TREATMENTS, "treatment")
    return TimeDeclaration(
        given.get("from"),
        given.get("to"),
        reader.word(("time",), content, "unit"),
        given.get("steps"),
        given.get("at"),
        treatment,
    )


def _one(reader: Document, path: tuple[str, ...], content: object) -> Value:
    value = reader.value(path, content)
    if isinstance(value, tuple):
        reader.fail(path, "a number or a formula is expected, not a list", "a list stands in [parameters], by its name")
    return value


def _text(reader: Document, path: tuple[str, ...], content: object) -> str:
    value = _one(reader, path, content)
    return value if isinstance(value, str) else repr(value)


def _state(reader: Document, name: str, content: object) -> StateDeclaration:
    reader.check_name("states", name)
    path = ("states", name)
    if isinstance(content, str):
        content = {"rate": content}
    content = reader.checked_keys(path, content, STATE_KEYS)
    kinds = [key for key in ("rate", "transfer", "next") if key in content]
    if len(kinds) != 1:
        what = " and ".join(f'"{key}"' for key in kinds)
        reader.fail(
            path,
            f"has {what}: one of them says how it evolves" if kinds else "does not say how it evolves",
            'rate = "…", transfer = { … }, or every = 2 with next = "…"',
        )
    if ("every" in content) != (kinds[0] == "next"):
        reader.fail(path, '"every" and "next" go together: at which samples it changes, and to what')
    transfer = None
    if kinds[0] == "transfer":
        transfer = _transfer(reader, (*path, "transfer"), content["transfer"])
        if "shape" in content:
            reader.fail((*path, "shape"), "a linear block is one number at every moment")
    given = {
        key: reader.value((*path, key), content[key])
        for key in ("every", "initial", "start", "lower", "upper", "magnitude", "shape")
        if key in content
    }
    for key in ("every", "lower", "upper"):
        if isinstance(given.get(key), tuple):
            reader.fail((*path, key), "a number or a formula is expected, not a list")
    return StateDeclaration(
        name=name,
        rate=_text(reader, (*path, "rate"), content["rate"]) if "rate" in content else None,
        transfer=transfer,
        next=_text(reader, (*path, "next"), content["next"]) if "next" in content else None,
        unit=reader.word(path, content, "unit"),
        about=reader.word(path, content, "about"),
        **given,
    )


def _transfer(reader: Document, path: tuple[str, ...], content: object) -> TransferDeclaration:
    content = reader.checked_keys(path, content, TRANSFER_KEYS)
    for key in TRANSFER_KEYS:
        if key not in content:
            reader.fail(
                path, f'needs "{key}"', 'transfer = { of = "torque", numerator = [1], denominator = [1, 0.8, 4] }'
            )
    sides: dict[str, tuple[Value, ...]] = {}
    for key in ("numerator", "denominator"):
        value = reader.value((*path, key), content[key])
        items = value if isinstance(value, tuple) else (value,)
        if not items or any(isinstance(item, tuple) for item in items):
            reader.fail((*path, key), f'"{key}" lists coefficients, the highest power first')
        sides[key] = items
    if len(sides["denominator"]) < 2:
        reader.fail((*path, "denominator"), "a denominator without a power is a factor, not a linear block")
    if len(sides["numerator"]) > len(sides["denominator"]):
        reader.fail((*path, "numerator"), "the numerator has a higher degree than the denominator")
    return TransferDeclaration(_text(reader, (*path, "of"), content["of"]), sides["numerator"], sides["denominator"])


def _control(reader: Document, name: str, content: object) -> ControlDeclaration:
    reader.check_name("controls", name)
    path = ("controls", name)
    if isinstance(content, (int, float)) and not isinstance(content, bool):
        content = {"start": content}
    content = reader.checked_keys(path, content, CONTROL_KEYS)
    form = reader.word(path, content, "form") or "constant"
    if form not in FORMS:
        reader.unknown_key((*path, "form"), form, FORMS, "form")
    if form == "pointwise" and "pieces" in content:
        reader.fail((*path, "pieces"), "a pointwise control has a value at every moment of the grid, and no pieces")
    given = {
        key: reader.value((*path, key), content[key])
        for key in ("start", "lower", "upper", "magnitude", "pieces", "before", "shape")
        if key in content
    }
    if "before" in given and form == "pointwise":
        reader.fail((*path, "before"), '"before" is for moves, which a pointwise control has not')
    return ControlDeclaration(
        name=name,
        form=form,
        unit=reader.word(path, content, "unit"),
        about=reader.word(path, content, "about"),
        **given,
    )


def _signal(reader: Document, name: str, content: object) -> EntryDeclaration:
    reader.check_name("signals", name)
    path = ("signals", name)
    content = {"formula": content} if not isinstance(content, Mapping) else content
    content = reader.checked_keys(path, content, SIGNAL_KEYS)
    if "formula" not in content:
        reader.fail(path, "needs a formula")
    return EntryDeclaration(
        "signals",
        name,
        _text(reader, (*path, "formula"), content["formula"]),
        reader.word(path, content, "unit"),
        reader.word(path, content, "about"),
    )

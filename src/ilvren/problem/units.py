"""Do the units go together? Each formula's unit is worked out from those of its names, and compared where it counts:
in sums, comparisons, branches, arguments of functions, and with the unit declared for the entry.

The physics is Pint's. What a bare number stands for cannot be known: in a sum or comparison it takes the unit
beside it; as a factor, a whole number up to 12, a simple fraction or pi is a pure number, a power of ten or a factor
of time (60, 3600 …) may be a conversion, which leaves the kind of quantity but not its scale, and any other number
may carry any unit. So what is reported is certain; what cannot be told is left alone.
"""

from __future__ import annotations

import contextlib
import math
from dataclasses import field
from functools import cache
from typing import TYPE_CHECKING, Any

from ilvren.formula import (
    SCATTER_FUNCTIONS,
    TIME_FUNCTIONS,
    Call,
    Comparison,
    Condition,
    Index,
    Name,
    Negative,
    Node,
    Number,
    Power,
    Product,
    Sum,
    parse_formula,
    parse_limits,
)
from ilvren.problem.entries import EntryDeclaration, formula_text
from ilvren.problem.unit_text import UnitTextError, unit_factors
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.model import Problem

__all__ = ["UnitReport", "UnitTrouble", "check_units"]

_CONVERSIONS = (60.0, 3600.0, 24.0, 86400.0, 365.0, 8760.0, 180.0, 360.0)
_SAME = ("abs", "min", "max", "sum", "mean", "norm", "diff", "cumsum", "transpose")
_JOINED = ("min", "max", "join", "hypot", "evenly")
# Signs for names, and two units in one word, which the library takes for others.
SIGNS = {"€": "EUR", "$": "USD", "£": "GBP", "%": "percent", "‰": "permille", "°": "degree", "°C": "degC", "°F": "degF"}
GLUED = {"Nm": ("N", "m"), "kNm": ("kN", "m"), "MNm": ("MN", "m"), "Ncm": ("N", "cm"), "Nmm": ("N", "mm")}
_PURE_RESULT = ("sin", "cos", "tan", "exp", "log", "log10", "sinh", "cosh", "tanh", "asin", "acos", "atan", "erf")
_PURE_ARGUMENT = ("exp", "log", "log10", "sinh", "cosh", "tanh", "asin", "acos", "erf")


@dataclass(frozen=True)
class UnitTrouble:
    """Two units that do not go together: `where` the entry, `text` its formula, `span` the sub-expression."""

    where: str
    line: int | None
    message: str
    text: str
    span: tuple[int, int] | None
    advice: str = ""


@dataclass
class UnitReport:
    """What was found: `checked` formulas followed, `open_` those in which some number or name could carry any unit."""

    troubles: list[UnitTrouble] = field(default_factory=list)
    checked: int = 0
    open: int = 0
    invented: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class _Unit:
    """A unit of Pint's, its scale being certain or not; `unit` None when nothing is known."""

    unit: Any
    is_exact: bool = True
    is_literal: bool = False


_OPEN = _Unit(None)


class _Mismatch(Exception):
    def __init__(self, message: str, span: tuple[int, int], advice: str = "") -> None:
        super().__init__(message)
        self.span = span
        self.advice = advice


def check_units(problem: Problem) -> UnitReport:
    """Check every formula of a problem whose names have units. Nothing is ever converted."""
    return _Checker(problem).report()


@cache
def _registry() -> Any:
    """Return what knows the units. It takes about a third of a second: only this check needs it."""
    import pint

    return pint.UnitRegistry(autoconvert_offset_to_baseunit=False, cache_folder=None)


class _Checker:
    def __init__(self, problem: Problem) -> None:
        import pint

        self.pint = pint
        self.registry = _registry()
        self.problem = problem
        self.found = UnitReport()
        self.known: dict[str, _Unit] = {}
        self.units: dict[str, _Unit] = {"pi": self._pure()}
        time = problem.template.declarations.time
        self.time = None if time is None else self.parsed(time.unit, "time")

    def _pure(self, *, exact: bool = True) -> _Unit:
        return _Unit(self.registry.dimensionless, exact)

    def report(self) -> UnitReport:
        problem, declarations = self.problem, self.problem.template.declarations
        for block in problem.blocks:
            self.units[block.name] = self.parsed(block.unit, f"variables.{block.name}")
        for source in problem.sources:
            for name, _ in source.outputs:
                self.units[f"{source.name}.{name}"] = _OPEN
        if self.time is not None:
            self.over_time(self.time)
        entries = {e.name: e for e in (*declarations.parameters, *declarations.derived, *declarations.objectives)}
        for name in problem.order:
            if name in entries:
                self.units[name] = self.entry(entries[name])
        if self.time is not None:
            self.evolving(self.time)
        for entry in declarations.constraints:
            self.constraint(entry)
        return self.found

    # ---- what changes over time -----------------------------------------------------------------

    def over_time(self, time: _Unit) -> None:
        """Take in the units of what changes over time; of signals without one, what their formulas give."""
        declarations = self.problem.template.declarations
        self.of_all_cases("t", time)
        for state in declarations.states:
            self.of_all_cases(state.name, self.parsed(state.unit, f"states.{state.name}"))
        for control in declarations.controls:
            self.of_all_cases(control.name, self.parsed(control.unit, f"controls.{control.name}"))
        open_ = [entry for entry in (*declarations.parameters, *declarations.derived) if entry.name not in self.units]
        for entry in open_:
            self.units[entry.name] = self.parsed(entry.unit, entry.path)
        for _ in declarations.signals:  # some are made of others
            for entry in declarations.signals:
                own = self.parsed(entry.unit, entry.path)
                if own.unit is None and isinstance(entry.formula, str):
                    with contextlib.suppress(_Mismatch):  # told later
                        own = self.of(parse_formula(entry.formula))
                self.of_all_cases(entry.name, own)

    def of_all_cases(self, name: str, unit: _Unit) -> None:
        for axis in self.problem.template.built_axes:
            self.units[name + axis.suffix] = unit
        self.units[name] = unit

    def evolving(self, time: _Unit) -> None:
        """Check rates, samples, first values and signals against the units of what they make."""
        declarations = self.problem.template.declarations
        for state in declarations.states:
            unit = self.units[state.name].unit
            for key, formula in (
                ("rate", state.rate), ("next", state.next), ("initial", state.initial), ("start", state.start)
            ):  # fmt: skip
                if not isinstance(formula, str):
                    continue
                entry = EntryDeclaration("states", state.name, formula)
                made = self.worked_out(entry, formula, lambda text=formula: self.of(parse_formula(text)))
                if made is None or made.unit is None or made.is_literal or unit is None:
                    continue
                if key == "rate" and time.unit is None:
                    continue
                wanted = _Unit(unit / time.unit if key == "rate" else unit)
                try:
                    self.same(wanted, made, (0, len(formula)), f"the {key} must be", "where the formula gives")
                except _Mismatch as error:
                    self.trouble(entry, formula, error)
        for entry in declarations.signals:
            self.entry(entry)

    def of_time_call(self, call: Call, time: _Unit) -> _Unit:
        arguments = call.arguments
        match call.function:
            case "integral":
                own = self.of(arguments[0])
                return _OPEN if own.unit is None or time.unit is None else _Unit(own.unit * time.unit, own.is_exact)
            case "at" | "delayed":
                self.same(time, self.of(arguments[1]), arguments[1].span, "the time is in", "and this in")
                return self.of(arguments[0])
            case "rise_time" | "settling_time":
                self.all_same(list(arguments))
                return time
            case "overshoot":
                self.all_same(list(arguments))
                return self._pure()
        return self.of(arguments[0])  # first, last, average, highest, lowest, moves

    def parsed(self, text: str, where: str) -> _Unit:
        """Return a declared unit; open where there is none, or none that can be read, which is told."""
        if not text.strip() or text.strip() == "-":
            return _OPEN
        if text not in self.known:
            try:
                result = self.registry.dimensionless
                for name, power in unit_factors(text).items():
                    own = self.named(name)
                    result = result * (own ** int(power) if power.denominator == 1 else own ** float(power))
                self.known[text] = _Unit(result)
            except UnitTextError as error:
                line = self.problem.source.line(*where.split("."))
                message = f'"{text}" cannot be read as a unit: {error}'
                self.found.troubles.append(UnitTrouble(where, line, message, text, None))
                self.known[text] = _OPEN
        return self.known[text]

    def named(self, name: str) -> Any:
        """Return the unit of one name; a name nobody knows is a kind of its own, and told."""
        if name in GLUED:
            first, second = GLUED[name]
            return self.registry.parse_units(first) * self.registry.parse_units(second)
        name = SIGNS.get(name, name)
        try:
            return self.registry.parse_units(name)
        except self.pint.errors.UndefinedUnitError:
            if name not in self.found.invented:
                self.found.invented.append(name)
                self.registry.define(f"{name} = [{name}]")
                _registry.cache_clear()  # what this file invents no other knows
            return self.registry.parse_units(name)

    def entry(self, entry: EntryDeclaration) -> _Unit:
        declared = self.parsed(entry.unit, entry.path)
        if isinstance(entry.formula, (tuple, float, int)):
            return declared
        text = formula_text(entry.formula)
        own = self.worked_out(entry, text, lambda: self.of(parse_formula(text)))
        if own is None or own.unit is None or own.is_literal:
            return declared
        if declared.unit is None:
            return own
        try:
            self.same(declared, own, (0, len(text)), "declared is", "where the formula gives")
        except _Mismatch as error:
            self.trouble(entry, text, error)
        return declared

    def constraint(self, entry: EntryDeclaration) -> None:
        text = formula_text(entry.formula)
        declared = self.parsed(entry.unit, entry.path)

        def compared() -> _Unit:
            limits = parse_limits(text)
            result = declared
            for side in limits.sides:
                result = self.same(result, self.of(side), side.span, "one side is", "the other")
            return result

        self.worked_out(entry, text, compared)

    def worked_out(self, entry: EntryDeclaration, text: str, work: Any) -> _Unit | None:
        self.found.checked += 1
        try:
            unit: _Unit = work()
        except _Mismatch as error:
            self.trouble(entry, text, error)
            return None
        if unit.unit is None:
            self.found.open += 1
        return unit

    def trouble(self, entry: EntryDeclaration, text: str, error: _Mismatch) -> None:
        line = self.problem.template.line(entry)
        self.found.troubles.append(UnitTrouble(entry.path, line, str(error), text, error.span, error.advice))

    # ---- units of trees -----------------------------------------------------------------------

    def of(self, node: Node) -> _Unit:
        match node:
            case Number(value=value):
                return self.of_number(value)
            case Name(name=name):
                return self.units.get(name) or self.units.get(self.output_of(name), _OPEN)
            case Negative(operand=operand):
                return self.of(operand)
            case Sum(terms=terms):
                return self.of_sum(terms)
            case Product(factors=factors):
                return self.of_product(factors)
            case Power():
                return self.of_power(node)
            case Index(base=base):
                return self.of(base)
            case Call():
                return self.of_call(node)
            case Comparison(left=left, right=right):
                self.all_same([left, right])
                return self._pure()
            case Condition(parts=parts):
                for part in parts:
                    self.of(part)
                return self._pure()

    def output_of(self, name: str) -> str:
        model, output = self.problem.template.model_outputs.get(name, ("", ""))
        return f"{model}.{output}" if model else name

    def of_number(self, value: float) -> _Unit:
        size = abs(value)
        is_simple = size <= 12.0 and (4.0 * size).is_integer()
        if is_simple or size == 0.0:
            return _Unit(self.registry.dimensionless, True, True)
        is_power = size > 0.0 and abs(math.log10(size) - round(math.log10(size))) < 1e-12
        if is_power or size in _CONVERSIONS or 1.0 / size in _CONVERSIONS:
            return _Unit(self.registry.dimensionless, False, True)
        return _Unit(None, True, True)

    def has_offset(self, unit: _Unit) -> bool:
        """Return whether a unit counts from a zero of its own, as degC does."""
        known = self.registry._units
        names = () if unit.unit is None else tuple(unit.unit._units)
        return len(names) == 1 and "degree_" in names[0] and not known[names[0]].is_multiplicative

    def refuse_offset(self, unit: _Unit, span: tuple[int, int]) -> None:
        if self.has_offset(unit):
            name = _named(unit.unit)
            raise _Mismatch(f"{name} counts from a zero of its own: in a product or a power that is another number",
                            span, "use K; for a difference of temperatures, K or delta_degC")  # fmt: skip

    def of_sum(self, terms: tuple[tuple[bool, Node], ...]) -> _Unit:
        """Return the unit of a sum: temperatures in degC differ by delta_degC, and one of them at most may be left."""
        units = [(is_added, self.of(term), term) for is_added, term in terms]
        count = sum((1 if is_added else -1) for is_added, unit, _ in units if self.has_offset(unit))
        if not any(self.has_offset(unit) for _, unit, _ in units):
            return self.all_same([term for _, term in terms])
        known = [unit for _, unit, _ in units if unit.unit is not None and not unit.is_literal]
        result = next(unit for unit in known if self.has_offset(unit))
        span = (terms[0][1].span[0], terms[-1][1].span[1])
        for unit in known:
            if unit.unit.dimensionality != result.unit.dimensionality:
                self.same(result, unit, span, "", "and")
        if count not in (0, 1):
            raise _Mismatch(f"{count} temperatures in {_named(result.unit)} are left: their zeros count as often", span,
                            "add differences, in K or delta_degC, to one of them")  # fmt: skip
        name = next(iter(result.unit._units))
        return result if count else _Unit(self.registry.parse_units(f"delta_{name}"))

    def of_product(self, factors: tuple[tuple[bool, Node], ...]) -> _Unit:
        result = self._pure()
        is_literal = True
        for is_multiplied, factor in factors:
            own = self.of(factor)
            if len(factors) > 1:
                self.refuse_offset(own, factor.span)
            is_literal &= own.is_literal
            if own.unit is None or result.unit is None:
                result = _OPEN
                continue
            unit = result.unit * own.unit if is_multiplied else result.unit / own.unit
            result = _Unit(unit, result.is_exact and own.is_exact)
        return _Unit(result.unit, result.is_exact, is_literal)

    def of_power(self, node: Power) -> _Unit:
        base, exponent = self.of(node.base), self.of(node.exponent)
        if exponent.unit is not None and not exponent.is_literal:
            self.pure(exponent, node.exponent.span, "an exponent")
        if base.unit is None:
            return _OPEN
        self.refuse_offset(base, node.base.span)
        if base.unit.dimensionless:
            return base
        number = _literal(node.exponent)
        if number is None:
            return _OPEN
        return _Unit(base.unit**number, base.is_exact)

    def of_call(self, call: Call) -> _Unit:
        name, arguments = call.function, call.arguments
        if self.time is not None and name in TIME_FUNCTIONS:
            return self.of_time_call(call, self.time)
        if name in SCATTER_FUNCTIONS:
            own = self.of(arguments[0])
            return self._pure() if name in ("chance", "reliability_index") else own
        if name in _JOINED:
            parts = list(arguments[:2] if name == "evenly" else arguments)
            return self.all_same(parts)
        if name == "where":
            self.of(arguments[0])
            return self.all_same(list(arguments[1:]))
        if name in ("interp", "lookup"):
            self.all_same(list(arguments[:2]))
            return self.of(arguments[2])
        if name == "dot":
            return self.of_product(((True, arguments[0]), (True, arguments[1])))
        if name == "atan2":
            self.all_same(list(arguments))
            return self._pure()
        own = self.of(arguments[0])
        if name in _SAME:
            return own
        if name == "sqrt":
            return own if own.unit is None else _Unit(own.unit**0.5, own.is_exact, own.is_literal)
        if name in _PURE_ARGUMENT and not own.is_literal:
            self.pure(own, arguments[0].span, f"the argument of {name}")
        return self._pure() if name in _PURE_RESULT else _OPEN

    def all_same(self, nodes: list[Node]) -> _Unit:
        result = _OPEN
        first = nodes[0].span[0]
        for node in nodes:
            result = self.same(result, self.of(node), (first, node.span[1]), "", "and")
        return result

    def same(self, one: _Unit, other: _Unit, span: tuple[int, int], before: str, between: str) -> _Unit:
        """Return the unit of two values that are added or compared; a bare number takes the other's unit."""
        if one.unit is None or (one.is_literal and not other.is_literal):
            return other if other.unit is not None else one
        if other.unit is None or other.is_literal:
            return one
        if one.unit.dimensionality != other.unit.dimensionality:
            words = " ".join(part for part in (before, _named(one.unit), between, _named(other.unit)) if part)
            raise _Mismatch(f"units of different kinds: {words}", span)
        if one.is_exact and other.is_exact:
            factor = self.factor(other.unit, one.unit)
            if factor is not None and abs(factor - 1.0) > 1e-12:
                words = " ".join(part for part in (before, _named(one.unit), between, _named(other.unit)) if part)
                raise _Mismatch(
                    f"units of one kind but different scale: {words}",
                    span,
                    f"write the conversion: 1 {_named(other.unit)} is {factor:g} {_named(one.unit)}",
                )
        return one if one.is_exact else other

    def factor(self, unit: Any, to: Any) -> float | None:
        try:
            return float((1.0 * unit).to(to).magnitude)
        except Exception:  # offset units such as degrees Celsius have no factor
            return None

    def pure(self, unit: _Unit, span: tuple[int, int], what: str) -> None:
        if unit.unit is not None and not unit.unit.dimensionless:
            raise _Mismatch(f"{what} must be a pure number, and has the unit {_named(unit.unit)}", span)


def _named(unit: Any) -> str:
    return f"{unit:~}".replace("**", "^").replace(" ", "") or "no unit"


def _literal(node: Node) -> float | None:
    if isinstance(node, Number):
        return node.value
    if isinstance(node, Negative):
        inner = _literal(node.operand)
        return None if inner is None else -inner
    if isinstance(node, Product) and len(node.factors) == 2 and not node.factors[1][0]:
        top, bottom = _literal(node.factors[0][1]), _literal(node.factors[1][1])
        return top / bottom if top is not None and bottom else None
    return None

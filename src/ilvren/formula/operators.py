"""The elementary operations of the graph: value, code and partial derivatives of each, in one table.

Every operation has an IEEE function (`value`: floats in, a float out, infinities and NaN instead of
exceptions) and a `code` template for the fast path, which may raise where IEEE gives a non-finite
number; both use the same primitive, so that they agree to the last bit wherever both are finite.

Some operations exist for derivatives alone:

    heaviside(a, b)       1 where a > b, 0 where a < b, 1/2 at a tie: the part of max(a, b) that follows a
    pow_slope(x, c)   c · x^(c−1), and 0 where c = 0
    pow_log(x, c)     x^c · log x, and 0 where x = 0 < c
    unit(a, r)        a / r, and 0 where r = 0: the average slope at the tip of a cone
    mul_live(a, b)    a · b, and 0 where a = 0, for what no chosen branch of an array uses; div_live(a, b) likewise
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from ilvren.records import dataclass

__all__ = ["CODE_NAMES", "KINKED", "MATH_FUNCTIONS", "OPERATIONS", "Operation", "why_not_finite"]

# Operations whose derivatives jump.
KINKED = frozenset({"abs", "min", "max", "where", "<=", ">=", "<", ">", "interp"})
# Functions of one argument that are those of the `math` module.
MATH_FUNCTIONS = (
    "sqrt",
    "exp",
    "log",
    "log10",
    "sin",
    "cos",
    "tan",
    "asin",
    "acos",
    "atan",
    "sinh",
    "cosh",
    "tanh",
    "erf",
)
INF = math.inf
NAN = math.nan


@dataclass(frozen=True)
class Operation:
    """One elementary operation.

    `code` is a format string over the operands' code. `absorbs` lists the operands whose infinity or
    NaN may vanish from the result (1/inf is 0): the compiled code must look at those itself.
    `may_overflow` says that finite operands can give a non-finite result without an exception.
    """

    name: str
    value: Callable[..., float]
    code: str
    absorbs: tuple[int, ...] = ()
    may_overflow: bool = False
    passes: bool = False
    is_condition: bool = False


def _ieee(function: Callable[[float], float], outside: Callable[[float], float]) -> Callable[[float], float]:
    """Guard a function of `math`: `outside` gives the IEEE value where the original raises."""

    def guarded(a: float) -> float:
        try:
            return function(a)
        except (ValueError, OverflowError):
            return NAN if a != a else outside(a)

    return guarded


def _nan(_: float) -> float:
    return NAN


def divide(a: float, b: float) -> float:
    """Return a / b by IEEE 754."""
    try:
        return a / b
    except ZeroDivisionError:
        if a == 0.0 or a != a:
            return NAN
        return math.copysign(INF, a) * math.copysign(1.0, b)


def power(a: float, b: float) -> float:
    """Return a^b by IEEE 754; NaN for a negative base with a broken exponent."""
    try:
        return math.pow(a, b)
    except OverflowError:
        return -INF if a < 0.0 and b % 2.0 == 1.0 else INF
    except ValueError:
        if a == 0.0 and b < 0.0:
            return math.copysign(INF, a) if b % 2.0 == 1.0 else INF
        return NAN


def power_slope(x: float, c: float) -> float:
    """Return c · x^(c−1), the derivative of x^c by x."""
    return 0.0 if c == 0.0 else c * power(x, c - 1.0)


def power_log(x: float, c: float) -> float:
    """Return x^c · log x, the derivative of x^c by c."""
    if x == 0.0 and c > 0.0:
        return 0.0
    return power(x, c) * _OPERATION_LOG(x)


def heaviside(a: float, b: float) -> float:
    """Return 1, 0 or 1/2: how much of max(a, b) follows a."""
    if a > b:
        return 1.0
    if a < b:
        return 0.0
    return 0.5 if a == b else NAN


def unit(a: float, length: float) -> float:
    """Return a / length, and 0 where the length is 0."""
    return 0.0 if length == 0.0 else a / length


def mul_live(a: float, factor: float) -> float:
    """Return a · factor, and 0 where a = 0."""
    return 0.0 if a == 0.0 else a * factor


def div_live(a: float, divisor: float) -> float:
    """Return a / divisor, and 0 where a = 0."""
    return 0.0 if a == 0.0 else divide(a, divisor)


def minimum(a: float, b: float) -> float:
    """Return the smaller, or NaN when either is NaN."""
    return a if a <= b else (b if b < a else NAN)


def maximum(a: float, b: float) -> float:
    """Return the larger, or NaN when either is NaN."""
    return a if a >= b else (b if b > a else NAN)


def sign(a: float) -> float:
    """Return −1, 0 or 1: the derivative of |a|, averaged at 0."""
    return heaviside(a, 0.0) * 2.0 - 1.0


def _hypot(a: float, b: float) -> float:
    return NAN if a != a or b != b else math.hypot(a, b)


_OPERATION_LOG = _ieee(math.log, lambda a: -INF if a == 0.0 else NAN)


def _function(name: str, outside: Callable[[float], float], **facts: object) -> Operation:
    return Operation(name, _ieee(getattr(math, name), outside), name + "({0})", **facts)  # type: ignore[arg-type]


def _comparison(name: str, value: Callable[[float, float], bool]) -> Operation:
    return Operation(name, value, f"({{0}} {name} {{1}})", absorbs=(0, 1), is_condition=True)


OPERATIONS: dict[str, Operation] = {
    operation.name: operation
    for operation in (
        Operation("neg", lambda a: -a, "(-{0})", passes=True),
        Operation("add", lambda a, b: a + b, "({0} + {1})", may_overflow=True),
        Operation("sub", lambda a, b: a - b, "({0} - {1})", may_overflow=True),
        Operation("mul", lambda a, b: a * b, "({0} * {1})", may_overflow=True),
        Operation("div", divide, "({0} / {1})", absorbs=(1,), may_overflow=True),
        Operation("square", lambda a: a * a, "({0} * {0})", may_overflow=True),
        Operation(
            "pow",
            power,
            "pow({0}, {1})",
            absorbs=(0, 1),
        ),
        Operation("pow_slope", power_slope, "pow_slope({0}, {1})", absorbs=(0, 1), may_overflow=True),
        Operation("pow_log", power_log, "pow_log({0}, {1})", absorbs=(0, 1), may_overflow=True),
        Operation("unit", unit, "unit({0}, {1})", absorbs=(0, 1), may_overflow=True),
        Operation("mul_live", mul_live, "mul_live({0}, {1})", absorbs=(0, 1), may_overflow=True),
        Operation("div_live", div_live, "div_live({0}, {1})", absorbs=(0, 1), may_overflow=True),
        Operation("abs", abs, "abs({0})", passes=True),
        Operation("sign", sign, "sign({0})", absorbs=(0,)),
        Operation("heaviside", heaviside, "heaviside({0}, {1})", absorbs=(0, 1)),
        Operation("min", minimum, "minimum({0}, {1})", absorbs=(0, 1)),
        Operation("max", maximum, "maximum({0}, {1})", absorbs=(0, 1)),
        _function("sqrt", _nan, passes=True),
        _function("exp", lambda a: INF, absorbs=(0,)),
        _function("log", lambda a: -INF if a == 0.0 else NAN, passes=True),
        _function("log10", lambda a: -INF if a == 0.0 else NAN, passes=True),
        _function("sin", _nan),
        _function("cos", _nan),
        _function("tan", _nan),
        _function("asin", _nan),
        _function("acos", _nan),
        _function("atan", _nan, absorbs=(0,)),
        _function("sinh", lambda a: math.copysign(INF, a)),
        _function("cosh", lambda a: INF),
        _function("tanh", _nan, absorbs=(0,)),
        _function("erf", _nan, absorbs=(0,)),
        Operation("atan2", math.atan2, "atan2({0}, {1})", absorbs=(0, 1)),
        Operation("hypot", _hypot, "hypot({0}, {1})", absorbs=(0, 1), may_overflow=True),
        _comparison("<=", lambda a, b: a <= b),
        _comparison("<", lambda a, b: a < b),
        _comparison(">=", lambda a, b: a >= b),
        _comparison(">", lambda a, b: a > b),
        _comparison("==", lambda a, b: a == b),
        _comparison("!=", lambda a, b: a != b),
        Operation("and", lambda a, b: a and b, "({0} and {1})", is_condition=True),
        Operation("or", lambda a, b: a or b, "({0} or {1})", is_condition=True),
        Operation("not", lambda a: not a, "(not {0})", is_condition=True),
        Operation("where", lambda c, a, b: a if c else b, "({1} if {0} else {2})"),
    )
}

_OUTSIDE = {
    "sqrt": "a square root needs an argument of at least 0",
    "log": "a logarithm needs a positive argument",
    "log10": "a logarithm needs a positive argument",
    "asin": "the argument must lie in [-1, 1]",
    "acos": "the argument must lie in [-1, 1]",
}


def why_not_finite(operation: str, arguments: Sequence[float], value: float) -> str:
    """Return why an operation gave no finite `value` for these arguments, "" where they are to blame themselves."""
    if not all(math.isfinite(argument) for argument in arguments):
        return ""
    if operation in _OUTSIDE:
        return _OUTSIDE[operation]
    if operation in ("div", "div_live", "unit") and arguments[1] == 0.0:
        return "division by zero"
    if operation in ("pow", "pow_slope", "pow_log"):
        base, exponent = arguments
        if base < 0.0 and exponent != round(exponent):
            return "a negative base needs a whole exponent"
        if base == 0.0 and operation == "pow" and exponent < 0.0:
            return "a zero base needs an exponent of at least 0"
        if base == 0.0:
            return "the derivative of this power is not finite where its base is 0"
        if base < 0.0 and operation == "pow_log":
            return "the derivative by an exponent needs a positive base"
        return "the power overflows" if operation == "pow" else "the derivative of the power overflows"
    if operation == "exp":
        return "the exponential overflows"
    return "the result overflows" if math.isinf(value) else "the result is not defined here"


# The names that generated code may call, and nothing else.
CODE_NAMES: dict[str, Callable[..., float]] = {
    "abs": abs,
    "pow": math.pow,
    "pow_slope": power_slope,
    "pow_log": power_log,
    "sign": sign,
    "heaviside": heaviside,
    "unit": unit,
    "mul_live": mul_live,
    "div_live": div_live,
    "minimum": minimum,
    "maximum": maximum,
    "atan2": math.atan2,
    "hypot": math.hypot,
    **{name: getattr(math, name) for name in MATH_FUNCTIONS},
}

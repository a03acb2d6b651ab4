"""Tokens → syntax tree, by one `_Parser` method per level of precedence.

limits     = sum (("<=" | ">=" | "==") sum)*                   only in constraints
condition  = both ("or" both)*                                 only in where(condition, a, b)
both       = denied ("and" denied)*
denied     = "not" denied | "(" condition ")" | sum compare sum
sum        = product (("+" | "-") product)*
product    = sign (("*" | "/") sign)*
sign       = ("-" | "+") sign | power
power      = primary ("^" sign)?                               so -x^2 is -(x^2) and 2^3^2 is 512
primary    = (number | name | name "(" sum ("," sum)* ("," "axis" "=" sum)? ")" | "(" sum ")") index*
index      = "[" subscript ("," subscript)* "]"
subscript  = sum | sum? ":" sum? (":" sum?)?
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import NoReturn

from ilvren.errors import FormulaError, nearest
from ilvren.formula.operators import MATH_FUNCTIONS
from ilvren.formula.syntax import (
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
    Slice,
    Sum,
)
from ilvren.formula.tokens import Token, tokenize
from ilvren.records import dataclass

__all__ = ["RESERVED_NAMES", "SCATTER_FUNCTIONS", "TIME_FUNCTIONS", "Limits", "parse_formula", "parse_limits"]

# Each level of nesting costs the parser up to seven Python frames of the thousand it has.
MOST_NESTING = 60

# name → (least, most) number of arguments; most None means any number.
FUNCTIONS: dict[str, tuple[int, int | None]] = {
    **dict.fromkeys(("abs", *MATH_FUNCTIONS), (1, 1)),
    **dict.fromkeys(["atan2", "hypot"], (2, 2)),
    **dict.fromkeys(["min", "max", "join"], (1, None)),
    **dict.fromkeys(["sum", "prod", "mean", "norm", "diff", "cumsum"], (1, 2)),
    "where": (3, 3),
    "dot": (2, 2),
    "transpose": (1, 1),
    "evenly": (3, 3),
    "interp": (3, 3),
    "lookup": (3, 3),
}
# What becomes of something that evolves, in files with [time]: names that files without may give to other things.
TIME_FUNCTIONS: dict[str, tuple[int, int | None]] = {
    **dict.fromkeys(["first", "last", "integral", "average", "highest", "lowest", "moves"], (1, 1)),
    **dict.fromkeys(["at", "overshoot", "delayed"], (2, 2)),
    **dict.fromkeys(["rise_time", "settling_time"], (3, 3)),
}
# What becomes of something that scatters, in files with [scatter]; the argument of the last two is a condition.
SCATTER_FUNCTIONS: dict[str, tuple[int, int | None]] = {
    **dict.fromkeys(["expected", "deviation", "worst"], (1, 1)),
    "quantile": (2, 2),
    **dict.fromkeys(["chance", "reliability_index"], (1, 1)),
}
OF_CONDITIONS = frozenset(["where", "chance", "reliability_index"])
# Functions that work along an axis: the second argument of all but min and max, or `axis = …`.
AXIS_FUNCTIONS = frozenset(["sum", "prod", "mean", "norm", "diff", "cumsum", "min", "max"])
RESERVED_NAMES = frozenset(FUNCTIONS) | {"pi"}

_COMPARISONS = ("<=", ">=", "==", "!=", "<", ">")


@dataclass(frozen=True)
class Limits:
    """A constraint as written: `sides` joined by `operators` ("<=", ">=" or "=="), one fewer."""

    sides: tuple[Node, ...]
    operators: tuple[str, ...]
    span: tuple[int, int]


def parse_formula(text: str) -> Node:
    """Return the tree of a formula that gives a value. Raises FormulaError with text and span."""
    parser = _Parser(text)
    tree = parser.sum()
    if parser.next.text in _COMPARISONS:
        parser.fail(
            f"a comparison ({parser.next.describe()}) where a value is expected",
            advice="comparisons belong in [constraints] and in the first argument of where(...)",
        )
    parser.expect_end()
    return tree


def parse_limits(text: str) -> Limits:
    """Return the sides and comparisons of a constraint. Raises FormulaError with text and span."""
    parser = _Parser(text)
    sides = [parser.sum()]
    operators: list[Token] = []
    while parser.next.text in _COMPARISONS or parser.next.text in ("<", ">"):
        operators.append(parser.take())
        sides.append(parser.sum())
    parser.expect_end()
    for operator in operators:
        if operator.text in ("<", ">", "!="):
            advice = None if operator.text == "!=" else f'write "{operator.text}="; a limit includes its value'
            raise FormulaError(
                f'"{operator.text}" cannot limit a constraint',
                text=text,
                span=(operator.start, operator.end),
                advice=advice,
            )
    words = tuple(operator.text for operator in operators)
    if not words:
        raise FormulaError("a constraint needs a comparison", text=text, advice='write for example "… <= 2.5"')
    if len(words) > 2 or (len(words) == 2 and (words[0] != words[1] or "==" in words)):
        raise FormulaError(
            "comparisons chained in a way that has no meaning as limits",
            text=text,
            span=(operators[0].start, operators[-1].end),
            advice='a chain is "low <= formula <= high" or "high >= formula >= low"; "==" stands alone',
        )
    return Limits(tuple(sides), words, (0, len(text)))


# What functions are called elsewhere.
SLIPS = {
    "ln": "log", "lg": "log10", "log2": "log(x) / log(2)", "sqr": "x^2", "square": "x^2", "pow": "x^y", "power": "x^y",
    "arcsin": "asin", "arccos": "acos", "arctan": "atan", "arctan2": "atan2", "average": "mean", "fabs": "abs",
    "if": "where", "iif": "where", "concat": "join", "hstack": "join", "linspace": "evenly", "product": "prod",
    "cbrt": "x^(1/3)", "tg": "tan", "ctg": "1 / tan(x)", "sh": "sinh", "ch": "cosh", "th": "tanh", "sign": "where",
}  # fmt: skip


class _Parser:
    def __init__(self, text: str) -> None:
        self.text = text
        self.tokens = tokenize(text)
        self.at = 0
        self.next = self.tokens[0]
        self.depth = 0
        self.chains = False  # whether comparisons may be chained here: a <= b <= c

    def take(self) -> Token:
        token = self.next
        if token.kind != "end":
            self.at += 1
            self.next = self.tokens[self.at]
        return token

    def fail(self, message: str, *, token: Token | None = None, advice: str | None = None) -> NoReturn:
        token = token or self.next
        end = max(token.end, token.start + 1)
        raise FormulaError(message, text=self.text, span=(token.start, end), advice=advice)

    def expect(self, text: str) -> Token:
        if self.next.text != text or self.next.kind != "sign":
            self.fail(f'expected "{text}", found {self.next.describe()}')
        return self.take()

    def expect_end(self) -> None:
        if self.next.kind == "end":
            return
        advice = 'write "==" for an equality' if self.next.text == "=" else None
        if self.next.kind in ("name", "number") or self.next.text == "(":
            advice = 'a product is written with "*"'
        self.fail(f"{self.next.describe()} does not continue the formula", advice=advice)

    def enter(self, levels: int = 1) -> None:
        self.depth += levels
        if self.depth > MOST_NESTING:
            self.fail(
                f"nested more than {MOST_NESTING} levels deep",
                advice="name an inner part as an entry of [derived]",
            )

    def sum(self) -> Node:
        first = self.product()
        terms = [(True, first)]
        while self.next.text in ("+", "-") and self.next.kind == "sign":
            is_added = self.take().text == "+"
            terms.append((is_added, self.product()))
        if len(terms) == 1:
            return first
        return Sum(tuple(terms), (first.span[0], terms[-1][1].span[1]))

    def product(self) -> Node:
        first = self.sign()
        factors = [(True, first)]
        while self.next.text in ("*", "/"):
            is_multiplied = self.take().text == "*"
            factors.append((is_multiplied, self.sign()))
        if len(factors) == 1:
            return first
        return Product(tuple(factors), (first.span[0], factors[-1][1].span[1]))

    def sign(self) -> Node:
        start = self.next.start
        is_negative = False
        while self.next.text in ("+", "-") and self.next.kind == "sign":
            is_negative ^= self.take().text == "-"
        operand = self.power()
        return Negative(operand, (start, operand.span[1])) if is_negative else operand

    def power(self) -> Node:
        base = self.primary()
        if self.next.text != "^":
            return base
        self.take()
        self.enter()
        exponent = self.sign()
        self.depth -= 1
        return Power(base, exponent, (base.span[0], exponent.span[1]))

    def primary(self) -> Node:
        node = self.atom()
        while self.next.text == "[":
            node = self.index(node)
        return node

    def index(self, base: Node) -> Node:
        self.take()
        self.enter()
        subscripts = [self.subscript()]
        while self.next.text == ",":
            self.take()
            subscripts.append(self.subscript())
        end = self.expect("]")
        self.depth -= 1
        return Index(base, tuple(subscripts), (base.span[0], end.end))

    def subscript(self) -> Node | Slice:
        start = self.next.start
        parts: list[Node | None] = [None if self.next.text in (":", "]", ",") else self.sum()]
        while self.next.text == ":" and len(parts) < 3:
            self.take()
            parts.append(None if self.next.text in (":", "]", ",") else self.sum())
        if len(parts) == 1:
            if parts[0] is None:
                self.fail(f"expected an index, found {self.next.describe()}")
            return parts[0]
        end = self.tokens[self.at - 1].end
        return Slice(parts[0], parts[1], parts[2] if len(parts) == 3 else None, (start, end))

    def atom(self) -> Node:
        token = self.take()
        if token.kind == "number":
            value = float(token.text)
            if value == float("inf"):
                self.fail("a number too large for double precision", token=token)
            return Number(value, (token.start, token.end))
        if token.kind == "name":
            if self.next.text == "(":
                return self.call(token)
            if token.text in RESERVED_NAMES and token.text != "pi":
                self.fail(f'the function "{token.text}" without its arguments', token=token)
            return Name(token.text, (token.start, token.end))
        if token.text == "(":
            self.enter()
            inner = self.sum()
            end = self.expect(")")
            self.depth -= 1
            return replace(inner, span=(token.start, end.end))
        advice = "a list stands in [parameters]; join(1, 2, 3) makes one in a formula" if token.text == "[" else None
        self.fail(f"expected a value, found {token.describe()}", token=token, advice=advice)

    def call(self, function: Token) -> Node:
        name = function.text
        if name not in FUNCTIONS and name not in TIME_FUNCTIONS and name not in SCATTER_FUNCTIONS:
            close = SLIPS.get(name.lower()) or nearest(name, FUNCTIONS)
            advice = f'did you mean "{close}"?' if close else "known: " + ", ".join(sorted(FUNCTIONS))
            self.fail(f'unknown function "{name}"', token=function, advice=advice)
        levels = 2 if name in OF_CONDITIONS else 1  # conditions take twice the frames
        self.enter(levels)
        self.take()
        arguments: list[Node] = []
        axis: Node | None = None
        if self.next.text != ")":
            chains, self.chains = self.chains, name in OF_CONDITIONS and name != "where"
            arguments.append(self.condition() if name in OF_CONDITIONS else self.sum())
            self.chains = chains
            while self.next.text == ",":
                self.take()
                if self.next.text == "axis" and self.tokens[self.at + 1].text == "=":
                    axis = self.axis(name)
                    break
                arguments.append(self.sum())
        if self.next.text in _COMPARISONS:
            self.fail(
                "a comparison inside a call",
                advice="only the first argument of where(condition, a, b) is a condition",
            )
        end = self.expect(")")
        self.depth -= levels
        least, most = next(known[name] for known in (FUNCTIONS, TIME_FUNCTIONS, SCATTER_FUNCTIONS) if name in known)
        if len(arguments) < least or (most is not None and len(arguments) > most):
            wanted = f"{least}" if least == most else f"at least {least}" if most is None else f"{least} or {most}"
            self.fail(f'"{name}" takes {wanted} argument(s), not {len(arguments)}', token=function)
        if name in AXIS_FUNCTIONS and name not in ("min", "max") and len(arguments) == 2:
            if axis is not None:
                self.fail(f'"{name}" is given two axes', token=function)
            arguments, axis = arguments[:1], arguments[1]
        if axis is not None and len(arguments) > 1:
            self.fail(f'"{name}" of several arguments has no axis', token=function)
        return Call(name, tuple(arguments), (function.start, end.end), axis)

    def axis(self, name: str) -> Node:
        if name not in AXIS_FUNCTIONS:
            self.fail(f'"{name}" has no axis', advice="these have one: " + ", ".join(sorted(AXIS_FUNCTIONS)))
        self.take()
        self.take()
        return self.sum()

    def condition(self) -> Node:
        return self.joined("or", lambda: self.joined("and", self.denied))

    def joined(self, word: str, part: Callable[[], Node]) -> Node:
        parts = [part()]
        while self.next.text == word:
            self.take()
            parts.append(part())
        if len(parts) == 1:
            return parts[0]
        return Condition(word, tuple(parts), (parts[0].span[0], parts[-1].span[1]))

    def denied(self) -> Node:
        if self.next.text == "not" and self.starts_operand(self.tokens[self.at + 1]):
            start = self.take().start
            self.enter()
            inner = self.denied()
            self.depth -= 1
            return Condition("not", (inner,), (start, inner.span[1]))
        if self.next.text == "(":
            # A parenthesis here opens a condition or a value: try the condition, else read a value.
            mark, depth = self.at, self.depth
            try:
                self.take()
                self.enter()
                inner = self.condition()
                self.expect(")")
                self.depth -= 1
            except FormulaError:
                self.at, self.depth, self.next = mark, depth, self.tokens[mark]
            else:
                if self.next.text in (",", ")", "and", "or"):
                    return inner
                self.at, self.depth, self.next = mark, depth, self.tokens[mark]
        return self.comparison()

    def comparison(self) -> Node:
        left = self.sum()
        if self.next.text not in _COMPARISONS:
            self.fail(
                f"expected a comparison, found {self.next.describe()}",
                advice="conditions compare two values, as in where(a <= b, …) and chance(a <= b)",
            )
        operator = self.take().text
        right = self.sum()
        found: Node = Comparison(operator, left, right, (left.span[0], right.span[1]))
        while self.chains and self.next.text in _COMPARISONS:
            operator, middle = self.take().text, right
            right = self.sum()
            other = Comparison(operator, middle, right, (middle.span[0], right.span[1]))
            found = Condition("and", (found, other), (left.span[0], right.span[1]))
        return found

    @staticmethod
    def starts_operand(token: Token) -> bool:
        return token.kind in ("name", "number") or token.text in ("(", "-", "+")

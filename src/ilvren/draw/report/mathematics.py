"""Formulas as MathML: fractions, powers and roots as they are written by hand."""

from __future__ import annotations

from html import escape

from ilvren.errors import FormulaError
from ilvren.formula import (
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
    parse_formula,
    parse_limits,
)

__all__ = ["formula_markup", "limits_markup"]

_SIGNS = {"<=": "≤", ">=": "≥", "==": "=", "!=": "≠", "<": "<", ">": ">"}
_GREEK = {"pi": "π"}
# How tightly a node holds its parts: what is looser inside is put in brackets.
_SUM, _PRODUCT, _UNARY, _POWER, _ATOM = range(5)


def formula_markup(text: str) -> str:
    """Return a formula's text as MathML; as plain code where it cannot be read."""
    try:
        return _math(_markup(parse_formula(text)))
    except FormulaError:
        return f"<code>{escape(text)}</code>"


def limits_markup(text: str) -> str:
    """Return a constraint's text as MathML."""
    try:
        found = parse_limits(text)
    except FormulaError:
        return f"<code>{escape(text)}</code>"
    parts = [_markup(found.sides[0])]
    for operator, side in zip(found.operators, found.sides[1:], strict=True):
        parts += [_sign(_SIGNS[operator]), _markup(side)]
    return _math("".join(parts))


def _math(inside: str) -> str:
    return f'<math displaystyle="true"><mrow>{inside}</mrow></math>'


def _sign(text: str) -> str:
    return f"<mo>{escape(text)}</mo>"


def _markup(node: Node, outer: int = _SUM) -> str:
    own, inside = _written(node)
    if own < outer:
        return f"<mrow>{_sign('(')}{inside}{_sign(')')}</mrow>"
    return f"<mrow>{inside}</mrow>"


def _written(node: Node) -> tuple[int, str]:
    match node:
        case Number(value=value):
            return (_ATOM if value >= 0 else _UNARY), _number(value)
        case Name(name=name):
            return _ATOM, _name(name)
        case Negative(operand=operand):
            return _UNARY, _sign("−") + _markup(operand, _PRODUCT)
        case Sum(terms=terms):
            parts = []
            for place, (is_added, term) in enumerate(terms):
                if place or not is_added:
                    parts.append(_sign("+" if is_added else "−"))
                parts.append(_markup(term, _PRODUCT))
            return _SUM, "".join(parts)
        case Product(factors=factors):
            return _PRODUCT, _product(factors)
        case Power(base=base, exponent=exponent):
            return _POWER, f"<msup>{_markup(base, _ATOM)}{_markup(exponent)}</msup>"
        case Call(function=function, arguments=arguments):
            return _ATOM, _call(function, arguments)
        case Index(base=base, subscripts=subscripts):
            inside = _sign(",").join(_subscript(part) for part in subscripts)
            return _ATOM, f"<msub>{_markup(base, _ATOM)}<mrow>{inside}</mrow></msub>"
        case Comparison(operator=operator, left=left, right=right):
            return _SUM, _markup(left) + _sign(_SIGNS[operator]) + _markup(right)
        case Condition(word=word, parts=parts):
            if word == "not":
                return _UNARY, f"<mtext>not </mtext>{_markup(parts[0], _UNARY)}"
            return _SUM, f"<mtext> {word} </mtext>".join(_markup(part) for part in parts)


def _number(value: float) -> str:
    if value == 0.0 or 1e-4 <= abs(value) < 1e6:
        return f"<mn>{value:.10g}</mn>"
    mantissa, exponent = f"{value:e}".split("e")
    power = f"<msup><mn>10</mn><mn>{int(exponent)}</mn></msup>"
    mantissa = mantissa.rstrip("0").rstrip(".")
    return power if mantissa == "1" else f"<mrow><mn>{mantissa}</mn>{_sign('·')}{power}</mrow>"


def _product(factors: tuple[tuple[bool, Node], ...]) -> str:
    above = [node for is_multiplied, node in factors if is_multiplied]
    below = [node for is_multiplied, node in factors if not is_multiplied]
    if not below:
        return _row(above)
    return f"<mfrac><mrow>{_row(above)}</mrow><mrow>{_row(below)}</mrow></mfrac>"


def _row(nodes: list[Node]) -> str:
    # A fraction or a bracket stands by itself; only sums need brackets among several factors.
    alone = len(nodes) == 1
    return _sign("·").join(_markup(node, _SUM if alone else _PRODUCT) for node in nodes) or "<mn>1</mn>"


def _call(function: str, arguments: tuple[Node, ...]) -> str:
    if function == "sqrt" and len(arguments) == 1:
        return f"<msqrt>{_markup(arguments[0])}</msqrt>"
    if function == "abs" and len(arguments) == 1:
        return _sign("|") + _markup(arguments[0]) + _sign("|")
    inside = _sign(",").join(_markup(argument) for argument in arguments)
    return f"<mi>{escape(function)}</mi>{_sign('(')}{inside}{_sign(')')}"


def _name(name: str) -> str:
    if name in _GREEK:
        return f"<mi>{_GREEK[name]}</mi>"
    return f'<mi mathvariant="{"italic" if len(name) == 1 else "normal"}">{escape(name)}</mi>'


def _subscript(part: Node | Slice) -> str:
    if not isinstance(part, Slice):
        return _markup(part)
    ends = [part.start, part.stop] if part.step is None else [part.start, part.stop, part.step]
    return _sign(":").join("" if end is None else _markup(end) for end in ends)

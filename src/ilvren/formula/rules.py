"""What every pass over the graph needs to know of an operation, declared in one place, an entry each.

    uses       how an element of the result looks at each operand (the last word holds for all further operands):
               own      at the element of its own place, stretched where needed
               moved    at one element, found by moving element numbers as the operation moves values
               placed   the elements at the key at one each, the others at none
               piece    at one element of the operand whose turn it is
               reduced, given, shrunk, running, product   at those that are added up, multiplied
               all      at all
               model    as the model's pattern says
    sloped     whether the result's derivative depends on each operand (what is only compared or looked up has none)
    linear     the change of the result is the operation itself on the change of its operand
    interval   rule: ends from ends; moved: the operation on both ends; open: nothing is known, −∞ to ∞
    written    how it is written out element by element: each, moved, own (a rule of its own), not at all

An operation without an entry is an error wherever it is met: there is no default that could be wrong silently.
Partial derivatives stand in `partials` and `reverse`, which raise for what they do not know.
"""

from __future__ import annotations

from ilvren.formula.arrays import STRUCTURAL
from ilvren.formula.operators import OPERATIONS
from ilvren.formula.places import PLACES
from ilvren.records import dataclass

__all__ = ["MODEL_NODES", "RULES", "Rule"]

MODEL_NODES = ("call", "output", "model_vjp", "model_jvp", "model_hvp")


@dataclass(frozen=True)
class Rule:
    """See the head of this file."""

    uses: tuple[str, ...]
    sloped: tuple[bool, ...]
    interval: str
    written: str
    linear: bool = False

    def use(self, place: int) -> str:
        """Return how the result looks at operand `place`."""
        return self.uses[min(place, len(self.uses) - 1)]

    def is_sloped(self, place: int) -> bool:
        """Return whether the derivative of the result depends on operand `place`."""
        return self.sloped[min(place, len(self.sloped) - 1)]


def _element(*, sloped: tuple[bool, ...] = (True,), interval: str = "rule") -> Rule:
    return Rule(("own",), sloped, interval, "each")


_SMOOTH = (
    "neg add sub mul div square pow abs min max sqrt exp log log10 sin cos tan asin acos atan sinh cosh tanh erf atan2"
    " hypot"
)
_DECIDING = "sign <= < >= > == != and or not"
_MOVING = "index take expand broadcast reshape transpose"

RULES: dict[str, Rule] = {
    **{name: _element() for name in _SMOOTH.split()},
    **{name: _element(sloped=(False,)) for name in _DECIDING.split()},
    "where": _element(sloped=(False, True, True)),
    # Of derivatives alone.
    "heaviside": _element(sloped=(False,)),
    **{name: _element() for name in ("pow_slope", "pow_log", "unit", "mul_live", "div_live")},
    # Of arrays.
    **{name: Rule(("moved",), (True,), "moved", "moved", linear=True) for name in _MOVING.split()},
    "join": Rule(("piece",), (True,), "moved", "moved"),
    "scatter": Rule(("placed",), (True,), "moved", "not", linear=True),
    "give_back": Rule(("given",), (True,), "moved", "not", linear=True),
    "sum": Rule(("reduced",), (True,), "moved", "own", linear=True),
    "shrink": Rule(("shrunk",), (True,), "moved", "not", linear=True),
    "cumsum": Rule(("running",), (True,), "moved", "own", linear=True),
    "norm": Rule(("reduced",), (True,), "rule", "own"),
    "level": Rule(("reduced", "own"), (True,), "open", "not"),
    "dot": Rule(("product",), (True,), "rule", "own"),
    "ramp": Rule(("own",), (True,), "moved", "own"),
    "interp": Rule(("own", "all"), (True, False, True), "rule", "own"),
    "lookup": Rule(("own", "all"), (False, False, True), "rule", "own"),
    "interp_slope": Rule(("own", "all"), (True, False, True), "open", "not"),
    **{name: Rule(("all",), (True, True, False), "open", "not") for name in ("interp_vjp", "interp_slope_vjp")},
    "lookup_vjp": Rule(("all",), (True, False, False), "open", "not"),
    # Of things over time: places, which leap.
    **{name: Rule(("all",), (False,), "open", "not") for name in PLACES},
    # Of models.
    "call": Rule(("all",), (True,), "open", "not"),
    **{name: Rule(("model",), (True,), "open", "not") for name in MODEL_NODES[1:]},
}

assert set(RULES) == {*OPERATIONS, *STRUCTURAL, *MODEL_NODES}, "an operation without rules, or rules without one"

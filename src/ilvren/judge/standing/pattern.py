"""Which rows depend on which variables: counts and patterns of the Jacobian and of the Lagrangian's Hessian."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ilvren.errors import RequestError
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate import Gate

__all__ = ["Pattern", "pattern_of"]


@dataclass(frozen=True)
class Pattern:
    """`jacobian` and `hessian` are CSR arrays of ones, None where too large to be formed; `colours` how many
    directions give the Jacobian, `reversed_rows` how many rows are taken in reverse, `hessian_colours` likewise."""

    jacobian: Any
    hessian: Any
    colours: int = 0
    reversed_rows: int = 0
    hessian_colours: int = 0

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "jacobian": None
            if self.jacobian is None
            else {
                "rows": int(self.jacobian.shape[0]),
                "variables": int(self.jacobian.shape[1]),
                "nonzeros": int(self.jacobian.nnz),
                "directions": self.colours,
                "reversed_rows": self.reversed_rows,
            },
            "hessian": None
            if self.hessian is None
            else {
                "variables": int(self.hessian.shape[0]),
                "nonzeros": int(self.hessian.nnz),
                "directions": self.hessian_colours,
            },
        }


def pattern_of(gate: Gate) -> Pattern:
    """Return the patterns of a problem's derivatives: read off the formulas, nothing being evaluated."""
    try:
        jacobian = gate.written.jacobian_plan()
    except RequestError:
        jacobian = None
    try:
        hessian = gate.written.hessian_plan()
    except RequestError:
        hessian = None
    return Pattern(
        None if jacobian is None else jacobian.pattern,
        None if hessian is None else hessian.pattern,
        0 if jacobian is None else jacobian.colour_count,
        0 if jacobian is None else len(jacobian.reverse_rows),
        0 if hessian is None else hessian.colour_count,
    )

"""Designs that are given, evaluated one after the other: what a sample is to the loop that runs methods."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import SLOPES, VALUES, Ending, Method, Protocol, Request, Task
from ilvren.records import dataclass

__all__ = ["SAMPLE", "evaluating"]

# The kind that such a method declares: nothing is searched, so nothing ends it but its own end or a limit.
SAMPLE = "sample"
# Designs asked for at once: enough for workers and for batches of formulas, few enough for a history on the way.
CHUNK = 1000


@dataclass(frozen=True)
class NoOptions:
    """The plan has had its options already."""


def evaluating(
    name: str, designs: NDArray[np.float64], parts: Sequence[int] = (), *, with_slopes: bool = False
) -> Method:
    """Return a method that evaluates designs (k, n) of the free variables, not scaled, in their order. `parts` are how
    many were added at a time: what was asked for before is asked for alike. `with_slopes`: first derivatives, too."""
    wants = SLOPES if with_slopes else VALUES

    def run(task: Task, options: NoOptions) -> Protocol:
        ends = np.cumsum([*parts, len(designs) - sum(parts)]).tolist()
        for begin, end in zip([0, *ends], ends, strict=False):
            for first in range(begin, end, CHUNK):
                yield Request(designs[first : min(first + CHUNK, end)], wants)
        return Ending("settled", f"all {len(designs):,} designs are evaluated")

    return Method(
        name=name,
        about="designs that are given, in their order",
        kind=SAMPLE,
        needs="gradients" if with_slopes else "values",
        handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
        options=NoOptions,
        run=run,
    )

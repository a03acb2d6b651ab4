"""When what evolves over time begins and ends, and the moments it is asked at."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from ilvren.formula import shape_text, shaping
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.moment_graph import MomentGraph

__all__ = ["Horizon", "horizon_of"]


@dataclass(frozen=True)
class Horizon:
    """From when and for how long: the problem's nodes `begin` and `duration`, and of the moments `at` where the file
    lists them; the numbers of both, `duration_value` NaN where the design decides the end."""

    begin: int
    duration: int
    at: int | None
    begin_value: float
    duration_value: float

    @property
    def is_free_end(self) -> bool:
        """Return whether the design decides when it ends."""
        return math.isnan(self.duration_value)


def horizon_of(moment: MomentGraph) -> Horizon:
    """Return the horizon that the file gives. Raises ProblemError where a time is no time, or ends before it begins."""
    template, graph, time = moment.template, moment.template.graph, moment.time
    at = _listed_moments(moment)
    ends = []
    for key, value, place in (("from", time.begin, 0), ("to", time.end, -1)):
        if value is None and key == "from" and at is None:
            value = 0.0
        if value is None:
            assert at is not None
            node = shaping.index(graph, at, (place % graph.shape(at)[0],))
        else:
            node = moment.main("time", key, value)
        if graph.shape(node):
            moment.fail("time", key, f"a time is one number, not {shape_text(graph.shape(node))}", value)
        ends.append(node)
    begin, end = ends
    if template.depends(begin):
        moment.fail("time", "from", "when it begins may not depend on a variable", time.begin)
    first, length = float(template.number(moment.entry, begin, template.values, '"from"')), math.nan
    if not template.depends(end):
        length = float(template.number(moment.entry, end, template.values, '"to"')) - first
        if not length > 0.0:
            moment.fail("time", "to", f"the time ends before it begins: it lasts {length:g}", time.end)
    return Horizon(begin, graph.apply("sub", end, begin), at, first, length)


def _listed_moments(moment: MomentGraph) -> int | None:
    """Return the problem's node of the moments of `at`, None where there are none."""
    template, graph, time = moment.template, moment.template.graph, moment.time
    if time.at is None:
        return None
    node = moment.main("time", "at", time.at)
    if len(graph.shape(node)) != 1 or graph.shape(node)[0] < 2:
        given = shape_text(graph.shape(node))
        moment.fail("time", "at", f'"at" takes a vector of two moments or more, not {given}', time.at)
    if template.depends(node):
        moment.fail("time", "at", "the moments may not depend on a variable", time.at)
    moments = np.asarray(template.number(moment.entry, node, template.values, '"at"'))
    if not (np.diff(moments) > 0.0).all():
        moment.fail("time", "at", "the moments must grow from one to the next", time.at)
    moment.structural.append(node)
    return node

"""One objective minimized under limits on the others, box by box: fronts of any shape, and of whole numbers whole.

Between the points of the front that are known, boxes are left in which others can lie: below a corner u, whose element
u_i is the value of a known point, and above l,

    u' = u with z_i for u_i, for each i, where a new point z lies below u                                          (1)
    l_i = the largest z_i of the points that the other elements of u come from, the ideal where there are none    (2)

The box of the largest volume (over the ranges) comes first. In it, with k its shortest side,

    minimize F_k    subject to    the limits,   F_i <= ε_i for i ≠ k                                               (3)
    minimize Σ F_i  subject to    the limits,   F_i <= z_i                                                         (4)

continuous variables   ε_i = (l_i + u_i) / 2: boxes are halved, so that points spread; where (3) leads out of the box,
                       its lower half holds nothing (a hole or a dent), and the other half is looked at
whole numbers          ε_i = u_i − δ_i: (3) gives the next point, or shows that the box holds none                 (5)

With whole numbers alone and a method that finds the best of (3), all points of the front are found.

Needs     what its local method needs.   Handles   what that handles.
Cost      one search of one objective for each point, and one to make sure of it, (4); searches of a wave run together.
Stops     when there are as many points as asked for, or no box is left.
Weak      three and more objectives: many boxes share a point; local searches find local fronts.
Source    Y. Haimes, L. Lasdon, D. Wismer, "On a bicriterion formulation of the problems of integrated system
          identification and system optimization", 1971; (1), (2): K. Klamroth, R. Lacour, D. Vanderpooten, "On the
          representation of the search region in multi-objective optimization", 2015; the order: M. Laumanns, L. Thiele,
          E. Zitzler, "An efficient, adaptive parameter variation scheme for metaheuristics based on the epsilon-
          constraint method", 2006.
Departs   by minimizing along the shortest side of a box.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import FRONT, Ending, Iterate, Method, Protocol, Task
from ilvren.methods.pieces.ends import Ends, Starts, found_ends, search_all
from ilvren.methods.pieces.inner import AUTOMATIC, inner_method
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.scalarizing import Scalar, Solved
from ilvren.methods.pieces.trade_offs import Known, compromise
from ilvren.records import dataclass

__all__ = ["METHOD", "EpsilonLimitsOptions"]

FloatArray = NDArray[np.float64]

# Searches that run together: those of boxes of at least this share of the largest volume.
AT_ONCE, VOLUME_SHARE = 12, 0.3
# (5): δ over the range, and over the feasibility allowed. Nothing is new that is nearer to what is known.
STEP, STEPS_OF_FEASIBILITY = 1e-7, 4.0
# A point fills a box unless it is nearer to a known one than this share of what an even front leaves between points.
NEAR = 0.2
# A box whose longest side is below this share of what an even front leaves is closed; else its lower half alone.
LEAST_SIDE = 0.5
# Boxes kept; searches in vain, and in a row, over the points asked for, after which the rest is left.
MOST_BOXES, MOST_VAIN, IN_A_ROW = 20_000, 1.0, 0.3


@dataclass(frozen=True)
class EpsilonLimitsOptions:
    """Options of `epsilon-limits`."""

    local: str = option(
        AUTOMATIC, names_method=True, help="the method that finds each point; automatic: what suits the problem"
    )
    points: int = option(0, low=0, high=100_000, help="points of the front; 0: as many as the run is asked for")


def epsilon_limits(task: Task, options: EpsilonLimitsOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    count = options.points or task.points
    method = inner_method(options.local, task)
    ends = yield from found_ends(task, method)
    if isinstance(ends, Ending):
        return ends
    if ends.is_one_point or count <= len(ends.low):
        told = "the objectives have their best at one design" if ends.is_one_point else "the ends are found"
        return ends.ending(told)
    is_whole = bool((task.is_discrete | (task.upper <= task.lower)).all())
    boxes = _Boxes(
        ends,
        is_whole=is_whole,
        step=max(STEP, STEPS_OF_FEASIBILITY * task.feasibility),
        count=count,
        is_discrete=bool(task.is_discrete.any()),
    )
    vain = in_a_row = 0
    while len(ends.front.x) < count and vain <= MOST_VAIN * count + 10 and in_a_row <= 10 + IN_A_ROW * count:
        boxes.take(ends.front.values)
        wave = boxes.largest(min(AT_ONCE, max(count - len(ends.front.x), 1)))
        if not wave:
            break
        jobs = [boxes.job(corner, ends.front) for corner in wave]
        found = yield from search_all(task, method, jobs, ends.known)
        new = [own for own, corner in zip(found, wave, strict=True) if boxes.is_new(own, corner)]
        sure = yield from search_all(task, method, [_made_sure(own, ends) for own in new], ends.known)
        for own, corner in zip(found, wave, strict=True):
            if not boxes.is_new(own, corner):
                boxes.close(corner)
                vain += 1
        in_a_row = 0 if new else in_a_row + len(wave)
        ends.take([own if own.is_met else new[place] for place, own in enumerate(sure)], needs_met=not is_whole)
        front = ends.front.values
        yield Iterate(ends.front.x[compromise(front)], note=f"{len(front)} points, {len(boxes.open)} boxes left")
    boxes.take(ends.front.values)
    return ends.ending(f"{len(ends.front.x)} points{boxes.told()}")


METHOD = Method(
    name="epsilon-limits",
    about="one objective under limits on the others, box by box: any shape, whole numbers exactly",
    kind=FRONT,
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=EpsilonLimitsOptions,
    run=epsilon_limits,
    cost="two short local searches for each point",
    weak="three and more objectives; many local fronts",
    inner="local",
    takes_known=True,
)


def _made_sure(own: Solved, ends: Ends) -> tuple[Scalar, Starts]:
    """Return (4) at what a search found."""
    assert own.x is not None
    assert own.values is not None
    p = len(ends.low)
    ceiling = own.values + STEP * ends.extent
    return Scalar(1.0 / ends.extent, ceiling, np.zeros(p), ends.extent), [(own.x, own.values)]


@dataclass
class _Boxes:
    """The corners u (p,) below which points can lie, those that were searched in vain apart."""

    ends: Ends
    is_whole: bool
    step: float
    count: int
    is_discrete: bool

    def __post_init__(self) -> None:
        self.high = self.ends.low + self.ends.extent * (1.0 + 10.0 * self.step)
        self.open: list[FloatArray] = [self.high.copy()]
        self.closed: list[FloatArray] = []
        self.floors: dict[bytes, FloatArray] = {}
        self._known: set[bytes] = set()
        self.points = np.zeros((0, len(self.high)))

    def take(self, values: FloatArray) -> None:
        """Cut the boxes (1) at the points of a front (k, p) that are new."""
        for z in values:
            if z.tobytes() in self._known:
                continue
            self._known.add(z.tobytes())
            self.points = np.vstack([self.points, z])
            self.open = self._cut(self.open, z)
            self.closed = [u for u in self.closed if not (z < u).all()]
        if len(self.open) > MOST_BOXES:
            self.open = self.largest(MOST_BOXES, share=0.0)

    def _cut(self, corners: Sequence[FloatArray], z: FloatArray) -> list[FloatArray]:
        below = [u for u in corners if (z < u).all()]
        kept = [u for u in corners if not (z < u).all()]
        made = []
        for u in below:
            for i in range(len(z)):
                own = u.copy()
                own[i] = z[i]
                made.append(own)
        for own in made:  # a corner below another one says nothing of its own
            others = [u for u in (*kept, *made) if u is not own]
            if not any((own <= u).all() and ((own < u).any() or id(u) < id(own)) for u in others):
                kept.append(own)
        return kept

    def lower(self, corner: FloatArray) -> FloatArray:
        """Return l of (2)."""
        p, low = len(corner), self.ends.low
        found = low.copy()
        for j in range(p):
            others = np.arange(p) != j
            at = (self.points[:, j] == corner[j]) & (self.points[:, others] < corner[others]).all(axis=1)
            if at.any():
                own = self.points[np.flatnonzero(at)[0]]
                found[others] = np.maximum(found[others], own[others])
        return np.minimum(np.maximum(found, self.floors.get(corner.tobytes(), found)), corner)

    def largest(self, most: int, share: float = VOLUME_SHARE) -> list[FloatArray]:
        """Return the corners of the largest boxes, those much smaller left out."""
        sides = [(corner - self.lower(corner)) / self.ends.extent for corner in self.open]
        least = 10.0 * self.step
        usable = [(float(np.prod(np.maximum(s, 1e-3))), place) for place, s in enumerate(sides) if (s > least).all()]
        usable.sort(key=lambda item: (-item[0], item[1]))
        return [self.open[place] for volume, place in usable[:most] if volume >= share * usable[0][0]]

    def job(self, corner: FloatArray, front: Known) -> tuple[Scalar, Starts]:
        """Return (3) for a box, from the points nearest to it."""
        low, extent = self.lower(corner), self.ends.extent
        k = int(np.argmin((corner - low) / extent))
        ceiling = corner - self.step * extent if self.is_whole else 0.5 * (low + corner)
        ceiling[k] = np.inf
        scalar = Scalar(np.eye(len(corner))[k] / extent[k], ceiling, np.zeros(len(corner)), extent)
        misses = np.maximum((front.values - ceiling) / extent, 0.0).max(axis=1)
        order = np.lexsort((np.linalg.norm((front.values - corner) / extent, axis=1), misses))[:2]
        starts = [(front.x[place], front.values[place]) for place in order]
        if not self.is_discrete and len(order) == 2:  # half way, where the front is smooth, is nearer than either
            (x, values), (other, theirs) = starts
            starts.insert(0, (0.5 * (x + other), np.maximum(values, theirs)))
        return scalar, starts

    def is_new(self, own: Solved, corner: FloatArray) -> bool:
        """Return whether a search found something inside a box."""
        if own.values is None or not (own.is_met or self.is_whole):
            return False
        if not (own.values < corner).all():
            return False
        near = np.linalg.norm((self.points - own.values) / self.ends.extent, axis=1).min()
        return bool(near > (self.step if self.is_whole else NEAR / self.count))

    def close(self, corner: FloatArray) -> None:
        """Leave a box in which nothing was found, or, of continuous variables, its lower part along its longest side:
        only there nothing was found."""
        low, extent = self.lower(corner), self.ends.extent
        sides = (corner - low) / extent
        longest = int(np.argmax(sides))
        if not self.is_whole and sides[longest] > LEAST_SIDE / self.count:
            low[longest] = 0.5 * (low[longest] + corner[longest])
            self.floors[corner.tobytes()] = low
            return
        self.open = [u for u in self.open if u is not corner]
        self.closed.append(corner)

    def told(self) -> str:
        """Return what is to be said of the boxes that are left."""
        if self.is_whole and not self.largest(1):
            return ": as far as each search found its best, these are all"
        if self.closed and not self.is_whole:
            return f"; {len(self.closed)} boxes without points"
        return ""

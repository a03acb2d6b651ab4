"""What a method is, in six steps for whoever adds one.

1. Make a file here, named as the method with "-" written "_". Nothing else needs to change: the command
   line, the help, the docs table and the conformance tests read the declaration at its end.
2. The docstring gives the formulas with numbers, what the method needs and handles, its cost per
   iteration, its stopping rule, where it fails, the source, and where the code departs from it.
3. Options are a frozen dataclass made with `option(default, help=…)`: few, in plain words.
4. The method is a generator function of (task, options). It yields a `Request` and is sent a `Reply`;
   it yields a `HessianRequest` where `task.has_curvature` and is sent second derivatives (where `task.has_secants`,
   estimates);
   (of `task.lifted` and `Tight` only `methods.pieces.lifting` needs to know);
   it yields an `Iterate` once per iteration and is sent an `Assessment`; it returns an `Ending`.
   One whose inner work is costly yields a `Checkpoint` now and then, from which a replay may begin.
   Every value may be NaN or infinite: write comparisons so that NaN takes the cautious branch.
   What several methods share stands in `methods.pieces`.
5. It must be a function of the task, its options and the replies alone: no clock, no global random
   numbers, no set whose order matters. A run is resumed by replaying the replies.
6. It ends with `METHOD = Method(…)`, which says what it needs and handles.

The task a method sees is scaled by whoever drives it: variables near one, first derivatives near one.
"""

from __future__ import annotations

import importlib
import math
import pkgutil
from collections.abc import Callable, Generator, Mapping, Sequence
from enum import Enum
from functools import cache, cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import misses
from ilvren.errors import RequestError, nearest
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.algebra import AllowedValues

__all__ = [
    "COSTLY_SECONDS",
    "FRONT",
    "LOW_AS_WRITTEN",
    "SLOPES",
    "VALUES",
    "Arrived",
    "Assessment",
    "Checkpoint",
    "Ending",
    "Foretold",
    "HessianRequest",
    "Iterate",
    "Known",
    "Looked",
    "Matrix",
    "Method",
    "Optimum",
    "Protocol",
    "Reply",
    "Request",
    "Task",
    "Tight",
    "Want",
    "method_named",
    "method_names",
]

FloatArray = NDArray[np.float64]

# A design that takes about this long (costs are told as powers of ten: more than 3 s) takes long.
COSTLY_SECONDS = 10.0
# Where the objective as written is above minus this, nothing falls without end, however flat the start may be.
LOW_AS_WRITTEN = 1e6
# The kind of methods that find fronts of several objectives.
FRONT = "front"
# A dense array, or a SciPy CSR array where the task says `is_sparse`.
Matrix = Any


@dataclass(frozen=True, eq=False)
class Known:
    """Designs evaluated elsewhere: `points` (k, n), their `objective` (k,) and `rows` (k, m), all finite. They are
    hints: a design counts, and can be reported, only when it is asked for."""

    points: FloatArray
    objective: FloatArray
    rows: FloatArray


@dataclass(frozen=True, eq=False, kw_only=True)
class Task:
    """The problem as a method sees it: minimize f subject to lower <= x <= upper, row_lower <= c <= row_upper.

    `start`, `lower`, `upper` (n,); `row_lower`, `row_upper`, `row_sizes` (m,). A row is met when it misses
    its limit by at most `feasibility` times its size. `tolerance` is the relative accuracy asked for.
    `is_sparse`: Jacobians and Hessians come as SciPy CSR arrays; `has_curvature`: a `HessianRequest` may be asked for;
    `has_secants`: it may, but what is sent is exact for formulas only, and an estimate of what models add.
    `row_multipliers` (m,) and `bound_multipliers` (n,) are known from an earlier run, None for a cold start: positive
    at a lower limit, negative at an upper one. `losses` (p,) has an entry for each residual where f is
    `residual_weight` · Σ of losses of residuals (and a constant): 0 for half the square, else the number of a robust
    loss (`algebra.robust`). `grids` has an entry for each variable where any is spaced or from a catalogue, None for
    the continuous ones. Points off the grids may be asked for, but are never a result. `is_convex`: the task
    without its grids is known to be convex. `lifted` is the same task with its kinks lifted, where there are any: the
    unknowns of the kinks follow the variables, and their limits the rows; that one says of itself that it `is_lifted`.
    `unit` is the objective as written for each of f, whose scale may come from a start where all is flat: see `low`.
    `seconds` is about what one design of a model takes, None for formulas: measured once, and read on replay.
    `known` are designs that earlier runs or samples evaluated, for methods that declare `takes_known`; `checkpoint` is
    the state of a method that `keeps_checkpoints`, from which it goes on; `takes_checkpoints`: new ones are of use.
    Of several objectives f is 0, and `objectives` are the rows (p,) that they are, each to be minimized times its entry
    of `signs`, better than its entry of `goals` (−inf for none) counting for nothing; `levels` are their places by
    priority, of which those of the last one trade off; a front of `points` designs is looked for, with `ends_first`
    from the best of each objective alone. `is_on_grid`: most rows are equations that chain unknowns along a grid.
    """

    start: FloatArray
    lower: FloatArray
    upper: FloatArray
    row_lower: FloatArray
    row_upper: FloatArray
    row_sizes: FloatArray
    feasibility: float = 1e-6
    tolerance: float = 1e-6
    seed: int = 0
    is_sparse: bool = False
    has_curvature: bool = False
    has_secants: bool = False
    row_multipliers: FloatArray | None = None
    bound_multipliers: FloatArray | None = None
    losses: NDArray[np.int64] | None = None
    residual_weight: float = 1.0
    grids: tuple[AllowedValues | None, ...] = ()
    is_convex: bool = False
    lifted: Task | None = None
    is_lifted: bool = False
    unit: float = 1.0
    seconds: float | None = None
    known: Known | None = None
    checkpoint: Mapping[str, NDArray[Any]] | None = None
    takes_checkpoints: bool = False
    objectives: tuple[int, ...] = ()
    signs: tuple[float, ...] = ()
    goals: tuple[float, ...] = ()
    levels: tuple[tuple[int, ...], ...] = ()
    points: int = 0
    ends_first: bool = False
    is_on_grid: bool = False

    @property
    def low(self) -> float:
        """Return the f above which no value is so low that it could speak of a fall without end."""
        return -LOW_AS_WRITTEN / self.unit

    @cached_property
    def is_discrete(self) -> NDArray[np.bool_]:
        """Return (n,): which variables are spaced or from a catalogue."""
        if not self.grids:
            return np.zeros(len(self.start), dtype=bool)
        return np.array([grid is not None for grid in self.grids])

    def allowed(self, points: FloatArray) -> FloatArray:
        """Return points (…, n) moved to the nearest ones within the bounds and on the grids."""
        moved = np.clip(points, self.lower, self.upper)
        for place, grid in enumerate(self.grids):
            if grid is not None:
                moved[..., place] = grid.values(grid.indices(moved[..., place]))
        return moved

    @cached_property
    def has_bounds(self) -> bool:
        """Return whether any variable has a finite bound."""
        return bool(np.isfinite(self.lower).any() or np.isfinite(self.upper).any())

    def misses(self, rows: FloatArray) -> FloatArray:
        """Return (m,): by how much each row misses its nearer limit; infinite for NaN."""
        return misses(rows, self.row_lower, self.row_upper)

    def violation(self, rows: FloatArray) -> float:
        """Return the largest miss over its size. `rows` are (m,)."""
        return float(np.maximum.reduce(self.misses(rows) / self.row_sizes, initial=0.0))

    def violations(self, rows: FloatArray) -> FloatArray:
        """Return `violation` (k,) of many designs' rows (k, m)."""
        return np.asarray((self.misses(rows) / self.row_sizes).max(axis=1, initial=0.0), dtype=np.float64)


class Want(Enum):
    """What may be asked for at designs, beside objective and rows: their first derivatives, and the residuals, where
    the task has `losses` (with their derivatives, where both are wanted)."""

    SLOPES = "derivatives"
    RESIDUALS = "residuals"


VALUES: frozenset[Want] = frozenset()
SLOPES = frozenset({Want.SLOPES})


@dataclass(frozen=True, eq=False)
class Request:
    """Evaluate `points` (k, n), in this order, and tell what it `wants` there. `beyond`: the method has converged and
    only looks on; a limit that ends this leaves it converged. `scan`: values at very many designs, none of which
    another scan asks for: all are counted, but only the best of them is recorded. `lifted`: the points are those of
    `task.lifted`, and so is what is sent. `in_arrival_order` (values only): the points are put under way beside those
    of earlier such requests that are not back yet, and an `Arrived` is sent as soon as any of all these is there;
    without points it only waits. Other requests may come only when nothing is under way."""

    points: FloatArray
    wants: frozenset[Want] = VALUES
    beyond: bool = False
    scan: bool = False
    lifted: bool = False
    in_arrival_order: bool = False

    @property
    def derivatives(self) -> bool:
        """Return whether first derivatives are wanted."""
        return Want.SLOPES in self.wants

    @property
    def residuals(self) -> bool:
        """Return whether residuals are wanted."""
        return Want.RESIDUALS in self.wants


@dataclass(frozen=True, eq=False)
class HessianRequest:
    """Ask for the Hessian (n, n) of weight · f − multipliers'c at `point` (n,), or for its product (n,) with
    `direction` (n,). What is sent is symmetric, with NaN where something is invalid. `lifted` as in a request."""

    point: FloatArray
    multipliers: FloatArray
    weight: float = 1.0
    direction: FloatArray | None = None
    lifted: bool = False


@dataclass(frozen=True, eq=False)
class Tight:
    """Ask for the design (n + k,) of `task.lifted` that belongs to `point`, of which the first n count: each kink's
    unknown at its value."""

    point: FloatArray


@dataclass(frozen=True, eq=False)
class Checkpoint:
    """All that a method needs to go on from here, plain arrays by name; nothing is sent. A run that is resumed may give
    it back as `task.checkpoint`: the method then goes on as if it had never stopped."""

    state: Mapping[str, NDArray[Any]]


@dataclass(frozen=True, eq=False)
class Reply:
    """Answers in the order of the request: `objective` (k,), `rows` (k, m), and with derivatives
    `gradient` (k, n) and `jacobian`, k matrices (m, n). Where residuals were asked for, `residuals` (k, p) and, with
    derivatives, `residual_jacobian`, k matrices (p, n). NaN where something is invalid."""

    objective: FloatArray
    rows: FloatArray
    gradient: FloatArray | None = None
    jacobian: Sequence[Matrix] | None = None
    residuals: FloatArray | None = None
    residual_jacobian: Sequence[Matrix] | None = None


@dataclass(frozen=True)
class Arrived:
    """What came back of all points under way: their `tickets` (k,), counted from 0 over all points that were asked for
    in arrival order, and the `reply` to them. The order is recorded, so that a replay is told the same."""

    tickets: tuple[int, ...]
    reply: Reply


@dataclass(frozen=True)
class Foretold:
    """What a `surface`, in words, `said` of f at a design before it was evaluated, about how wrong that may be, and
    what is so."""

    said: float
    spread: float
    actual: float
    surface: str


@dataclass(frozen=True, eq=False)
class Iterate:
    """What a history shows of one iteration: the current `point` (n,), which must have been requested,
    the length of the last `step` in scaled variables, and a short sentence on it.

    `gain_ratio` is the share of the predicted improvement that came true, NaN where nothing was predicted;
    `multipliers` (m,) the method's estimate, which large problems are measured with until they end; `path` names the
    part of a composed method that this comes from; `population` (k, n) are the designs of a generation, which must
    have been requested.
    `lifted` (n + k,) is the point of `task.lifted` that this one is taken from, the multipliers being those there.
    `foretold` is what a surface said of a design that was evaluated for this iteration."""

    point: FloatArray
    step: float = math.nan
    note: str = ""
    gain_ratio: float = math.nan
    multipliers: FloatArray | None = None
    path: str = ""
    population: FloatArray | None = None
    lifted: FloatArray | None = None
    foretold: Foretold | None = None


@dataclass(frozen=True)
class Assessment:
    """How an iterate measures up on the unscaled problem. `meets_conditions`: feasible, and first-order
    conditions within the tolerance. `stationarity` is None when derivatives were not asked for there."""

    violation: float
    stationarity: float | None
    meets_conditions: bool


@dataclass(frozen=True, eq=False)
class Optimum:
    """One of several local optima found: its `point` (n,), f there, how `often` it was reached, and the places of the
    starts it was reached `from_starts`."""

    point: FloatArray
    f: float
    often: int
    from_starts: tuple[int, ...] = ()


@dataclass(frozen=True)
class Looked:
    """What a second look came to: other `starts`, of which so many ended at the `same` optimum, at `worse` ones, or at
    none (`failed`); designs `sampled` and tried by a population (`populated`); whether a better one was `found`. Or
    there was no need to: `is_convex`. `is_proved`: intervals show that no feasible design is better than the best."""

    starts: int = 0
    same: int = 0
    worse: int = 0
    failed: int = 0
    sampled: int = 0
    populated: int = 0
    found: bool = False
    is_convex: bool = False
    is_proved: bool = False

    @property
    def better(self) -> int:
        """Return how many of the starts ended at better designs."""
        return self.starts - self.same - self.worse - self.failed


@dataclass(frozen=True, eq=False)
class Ending:
    """What a method claims at its end: "converged", "settled", "stalled", "infeasible", "unbounded" or
    "invalid"; the driver checks the claim before a user sees it. `reason` is one sentence; `method` the name of the
    method that came to it, where several are composed. `optima` are the distinct ones found, best first; `bound` is a
    lower bound on f over all feasible designs, where the method gives one, and `bound_is_proved` whether that is a
    mathematical statement; `looked` is what a second look came to; `front` (k, n) are the designs that a method stands
    for as trade-offs of several objectives, which must have been requested."""

    claim: str
    reason: str
    method: str = ""
    optima: tuple[Optimum, ...] = ()
    bound: float = math.nan
    bound_is_proved: bool = False
    looked: Looked | None = None
    front: FloatArray | None = None


Protocol = Generator[Request | HessianRequest | Tight | Iterate | Checkpoint, Any, Ending]


@dataclass(frozen=True, kw_only=True)
class Method:
    """The declaration of a method. `needs` is "values", "gradients" or "residuals" (and their gradients); `handles`
    lists from "bounds", "inequalities", "equalities", "spaced", "catalogue" (a method of the kind FRONT handles several
    objectives, all others one); `most_variables` is about what its dense
    matrices allow, None where it has none; `takes_sparse`: Jacobians and Hessians may come as sparse matrices;
    `inner`: the option that names a method it works with, whose needs and limits it shares; `is_random`: another seed
    gives another path; `relaxes`: it asks for points between the members of grids; `only_members`: it handles no
    continuous variables; `takes_known`: it builds on `task.known`;
    `keeps_checkpoints`: it yields a `Checkpoint` now and then, and begins at `task.checkpoint` (for methods that need
    values alone, and not where they are a part of another); `costly` takes its place where a design takes long, and its
    derivatives many designs, if any."""

    name: str
    about: str
    kind: str
    needs: str
    handles: frozenset[str]
    options: type
    run: Callable[[Task, Any], Protocol]
    cost: str = ""
    weak: str = ""
    most_variables: int | None = None
    takes_sparse: bool = False
    inner: str = ""
    is_random: bool = False
    relaxes: bool = False
    only_members: bool = False
    takes_known: bool = False
    keeps_checkpoints: bool = False
    costly: Method | None = None

    @property
    def finds_fronts(self) -> bool:
        """Return whether it is for several objectives, and for nothing else."""
        return self.kind == FRONT

    @property
    def needs_derivatives(self) -> bool:
        """Return whether it asks for first derivatives."""
        return self.needs != "values"


@cache
def method_names() -> tuple[str, ...]:
    """Return the names of all methods, from their file names: nothing is imported."""
    import ilvren.methods as package

    found = (module.name for module in pkgutil.iter_modules(package.__path__) if not module.ispkg)
    return tuple(sorted(name.replace("_", "-") for name in found if name != "base"))


def method_named(name: str, *, also: Sequence[str] = ()) -> Method:
    """Import and return a method. Raises RequestError, naming the nearest, when there is none; `also` are words that
    could have been meant."""
    if name not in method_names():
        close = nearest(name, (*method_names(), *also))
        advice = f'did you mean "{close}"?' if close else "methods: " + ", ".join(method_names())
        raise RequestError(f'unknown method "{name}"', advice=advice)
    module = importlib.import_module("ilvren.methods." + name.replace("-", "_"))
    method: Method = module.METHOD
    return method

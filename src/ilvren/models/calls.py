"""The calls that one run makes of a source: what is kept, counted, noted, tried again, recorded."""

from __future__ import annotations

import math
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError, RequestError
from ilvren.models.call import Call, Point
from ilvren.models.failures import CannotFollow, ModelFailure
from ilvren.models.hessians import LEAST_APART, LEAST_APART_DIFFERENCED, Secants
from ilvren.models.places import ASIDE, HERE, Place
from ilvren.models.source import (
    AUTOMATIC,
    DIFFERENCES,
    LEAST_SPARSE,
    SUPPLIED,
    ModelSource,
    Outcome,
    Question,
    is_banded,
    is_differenced,
    sizes_of,
)

__all__ = ["Calls", "NotOnRecord", "Shelf"]

Array = NDArray[Any]
Shape = tuple[int, ...]

# Points whose outputs are kept: gradients, rows and the next request come back to the same few.
MOST_KEPT = 512
# So many different troubles are told.
MOST_NOTES = 5


class Shelf(Protocol):
    """What was asked and answered before, in this run or in others."""

    def find(self, source: ModelSource, question: Question) -> Outcome | None:
        """Return the outcome on record, or None."""

    def add(self, source: ModelSource, question: Question, outcome: Outcome) -> None:
        """Record an outcome."""


class NotOnRecord(Exception):
    """What was asked is neither kept nor on record, and nothing was to be asked anew."""


class Calls:
    """One run's calls of a source. `notes` collects what a user should know; `calls` counts the questions that were
    really put to it, `difference_calls` the values that differences asked for, whoever answered."""

    def __init__(
        self, source: ModelSource, *, place: Place = ASIDE, shelf: Shelf | None = None, retries: int | None = None
    ) -> None:
        self.source = source
        self.retries = source.retries if retries is None else retries
        self.place = HERE if source.is_apart else place
        self.shelf = shelf
        self.notes: list[str] = []
        self.calls = 0
        self.difference_calls = 0
        self.seconds = 0.0
        self.quickest = math.inf  # seconds of the quickest call so far
        self.steps: Any = None  # of differences, chosen at their first use
        self.is_followed = False  # whether derivatives were found by following the function
        self.pattern: Any = None  # CSR (outputs, inputs) of ones: which derivatives were seen not to be zero
        self.pattern_version = 0
        self.failures = 0
        self.first_failure = ""
        self.slow_trouble = ""  # of the last call that was beyond its timeout
        # Puts many questions elsewhere, at the same time.
        self.elsewhere: Callable[[Sequence[Question]], list[Outcome]] | None = None
        self.made: list[tuple[Question, Outcome]] | None = None  # kept for whoever records elsewhere
        self.differentiated: list[
            tuple[tuple[Array, ...], Any]
        ] = []  # Jacobians found, with their inputs, for the same
        # What second derivatives are estimated from; without it they are differences of the first, of such steps.
        self.secants: Secants | None = None
        self.visited = Secants(LEAST_APART_DIFFERENCED if is_differenced(source.derivatives) else LEAST_APART)
        self.hessian_step = 1.0
        self.is_closed = False  # whether nothing may be asked anew
        # Whether values that are not where they should be at the first call are a mistake of the problem's.
        self.refuses_unread = True
        self.is_stopped = False  # whether the run was interrupted: then nothing is waited for any more
        self.refusal = ""  # why nothing may be asked anew: the models are somebody else's
        self._stamps: dict[str, int] = {}
        self._kept: OrderedDict[bytes, Point] = OrderedDict()
        self._ahead: dict[bytes, Outcome] = {}
        self._offsets = sizes_of(source.inputs), sizes_of(source.outputs)

    # ---- where derivatives come from --------------------------------------------------------------

    @property
    def is_differenced(self) -> bool:
        """Return whether its derivatives are made of many calls."""
        return is_differenced(self.source.derivatives)

    @property
    def is_decided(self) -> bool:
        """Return whether it is known where derivatives come from, and with what steps."""
        if self.is_differenced:
            return self.steps is not None
        return self.source.derivatives != AUTOMATIC or self.source.is_strict or self.is_followed

    def fall_back(self, why: str = "") -> None:
        """Take derivatives by differences from now on, since they cannot be had as hoped: `why`, for a note."""
        self.source = self.source.with_derivatives(DIFFERENCES)
        self.visited = Secants(LEAST_APART_DIFFERENCED)
        if why:
            self.add_note(f'model "{self.source.name}" {why}: its derivatives are differences')

    # ---- what is told -----------------------------------------------------------------------------

    def forget(self) -> None:
        """Drop all outputs that are kept."""
        self._kept.clear()

    def count_failures(self, count: int, first: str) -> None:
        """Count points at which the model gave nothing, and keep what was said of the first."""
        if self.is_stopped:
            return
        self.failures += count
        self.first_failure = self.first_failure or first

    def add_note(self, note: str) -> None:
        """Keep a note for the user, among the first few."""
        if note not in self.notes and len(self.notes) < MOST_NOTES:
            self.notes.append(note)

    def at(self, inputs: Sequence[Array]) -> str:
        """Return the inputs as messages name them; programs say so themselves. They have the shapes of the inputs."""
        if self.source.is_apart:
            return ""
        told = [
            f"{name} = {float(value):.6g}" if not shape else f"{name} = [{float(np.ravel(value)[0]):.4g}, …]"
            for (name, shape), value in zip(self.source.inputs, inputs, strict=True)
            if value.size
        ]
        return " at " + ", ".join(told[:6]) if told else ""

    # ---- questions --------------------------------------------------------------------------------

    def ready(self) -> None:
        """Find out whether the source can be asked at all. Raises ProblemError."""
        outcome = self._put([Question("ready")])[0]
        self._checked(outcome if outcome.is_done else replace(outcome, status="broken"))

    def values(self, inputs: Sequence[Any], *, kind: type = float) -> list[Array]:
        """Return the outputs, arrays of `kind`, at inputs. Raises ModelFailure. All have the shapes that are
        declared."""
        question = _question(inputs, kind)
        kept = self._kept.get(self.source.key(question.inputs)) if kind is float else None
        if kept is not None and not kept.reason and self.source.is_repeatable:
            return kept.outputs
        outcome = self._ahead.pop(question.key, None)
        found: list[Array] = self._checked(outcome or self._put([question])[0])
        return found[: len(self.source.outputs)]

    def slopes(self, inputs: Sequence[Array]) -> Any:
        """Return the source's own Jacobian, dense or CSR. Raises ModelFailure, CannotFollow. It is (all outputs, all
        inputs), elements in order."""
        kind = "followed" if self.source.derivatives == AUTOMATIC else "supplied"
        return self._checked(self._put([Question(kind, tuple(np.array(value) for value in inputs))])[0])

    def ahead(self, many: Sequence[list[Array]]) -> None:
        """Ask now, all at once, what `values` will be asked for next. Each of `many` is a point's inputs, with their
        shapes."""
        self._ahead.clear()
        if len(many) > 1:
            kind = complex if any(np.iscomplexobj(value) for value in many[0]) else float
            questions = [_question(inputs, kind) for inputs in many]
            for question, outcome in zip(questions, self._put(questions), strict=True):
                self._ahead[question.key] = outcome

    def _checked(self, outcome: Outcome) -> Any:
        if outcome.is_done:
            return outcome.answer
        is_mistaken = outcome.status == "unread" and self.refuses_unread and self.quickest == math.inf
        if outcome.status == "broken" or is_mistaken:
            file, line = self.source.place
            raise ProblemError(outcome.trouble, file=file, line=line, where=f"models.{self.source.name}")
        if outcome.status == "unfollowable":
            raise CannotFollow(outcome.trouble)
        if outcome.status == "slow":
            self.slow_trouble = outcome.trouble
        raise ModelFailure(outcome.trouble)

    def _put(self, questions: Sequence[Question]) -> list[Outcome]:
        """Return what comes of questions: what is on record, the others from the source."""
        found: list[Outcome | None] = [None] * len(questions)
        if self.shelf is not None:
            found = [self.shelf.find(self.source, question) for question in questions]
        open_ = [place for place, outcome in enumerate(found) if outcome is None]
        asked = [questions[place] for place in open_]
        if asked:
            if self.is_closed:
                if self.made is not None:
                    self.made += [(q, o) for q, o in zip(questions, found, strict=True) if o is not None]
                raise NotOnRecord
            outcomes = self._asked(asked)
            for place, question, outcome in zip(open_, asked, outcomes, strict=True):
                found[place] = outcome
                self._note(question, outcome)
        self._note_reads(found)
        done = [outcome.seconds for outcome in found if outcome is not None and outcome.is_done]
        self.quickest = min(self.quickest, *done, math.inf)
        if self.made is not None:
            self.made += [(q, o) for q, o in zip(questions, found, strict=True) if o is not None and q.kind != "ready"]
        return [outcome for outcome in found if outcome is not None]

    def _note_reads(self, outcomes: Sequence[Outcome | None]) -> None:
        read = next((outcome.read for outcome in outcomes if outcome is not None and outcome.read), "")
        if read:
            self.add_note(
                f'model "{self.source.name}" read {read}, which its entry does not name: other runs call it anew;'
                f' depends = ["{read}"] makes the file a part of it'
            )

    def _asked(self, questions: Sequence[Question]) -> list[Outcome]:
        """Ask the source, once more where it was slow or lost, as often as it says."""
        if self.elsewhere is not None and questions[0].kind in ("values", "complex"):
            return self.elsewhere(questions)
        if self.refusal:
            raise RequestError(self.refusal, advice="look at what it is, and add --trust to run it")
        if self.is_stopped:
            return [Outcome("failed", None, "the run was stopped before its model had answered") for _ in questions]
        self._notice_changes()
        outcomes = self.place.asked(self.source, questions)
        for tried in range(2, self.retries + 2):
            again = [k for k, outcome in enumerate(outcomes) if outcome.status in self.source.tried_again]
            for place in again:
                outcome = self.place.asked(self.source, [questions[place]])[0]
                if not outcome.is_done and outcome.status == outcomes[place].status:
                    told, folder, kept_at = outcome.trouble.partition("; folder")
                    often = "twice" if tried == 2 else f"in try {tried} as well"
                    outcome = replace(outcome, trouble=f"{told}, {often}{folder}{kept_at}")
                outcomes[place] = outcome
                self.calls += 1
        return outcomes

    def _notice_changes(self) -> None:
        """Note when a program's files are others than at the first call."""
        if self.source.is_apart:
            stamps = self.source.stamps()
            changed = [path for path, stamp in stamps.items() if self._stamps.setdefault(path, stamp) != stamp]
            for path in changed:
                self.add_note(f"{path} changed while the run went on: earlier values came from what it was before")

    def _note(self, question: Question, outcome: Outcome) -> None:
        if question.kind == "ready" or outcome.status == "broken" or self.is_stopped:
            return
        self.calls += 1
        self.seconds += outcome.seconds
        if self.shelf is not None:
            self.shelf.add(self.source, question, outcome)

    # ---- what formulas see ------------------------------------------------------------------------

    def __call__(self, guard: Any, flags: Sequence[bool], inputs: Sequence[Any]) -> Call:
        """Return the call for these inputs, those with a flag having a batch axis; nothing runs where `guard` is
        false."""
        arrays = [np.asarray(value, dtype=float) for value in inputs]
        batch = next((len(value) for value, flag in zip(arrays, flags, strict=True) if flag), None)
        if batch is None:
            return Call(self, self._points([(arrays, guard is None or bool(np.any(guard)))]), is_batch=False)
        asked = []
        for place in range(batch):
            own = [value[place] if flag else value for value, flag in zip(arrays, flags, strict=True)]
            wanted = guard is None or bool(guard if np.ndim(guard) == 0 else guard[place])
            asked.append((own, wanted))
        return Call(self, self._points(asked), is_batch=True)

    def _points(self, asked: Sequence[tuple[list[Array], bool]]) -> list[Point]:
        """Return the points of inputs and whether they are wanted; those that are not kept are called together."""
        source = self.source
        found: list[Point | None] = []
        keys: list[bytes] = []
        missing: dict[bytes, list[Array]] = {}
        for inputs, is_wanted in asked:
            shaped = [np.broadcast_to(value, shape) for value, (_, shape) in zip(inputs, source.inputs, strict=True)]
            if not is_wanted or not all(np.isfinite(value).all() for value in shaped):
                empty = [np.full(shape, np.nan) for _, shape in source.outputs]
                found.append(Point(shaped, empty, "", is_spoilt=True))
                keys.append(b"")
                continue
            key = source.key(shaped)
            kept = self._kept.get(key)
            if kept is not None and not kept.reason and self.made is not None and self.is_closed:
                self.made.append((_question(shaped, float), Outcome("done", kept.outputs)))
            if kept is None and key not in missing:
                missing[key] = shaped
            found.append(kept)
            keys.append(key)
        if missing:
            questions = [_question(shaped, float) for shaped in missing.values()]
            outcomes = self._put(questions)
            for (key, shaped), outcome in zip(missing.items(), outcomes, strict=True):
                self._kept[key] = self._pointed(shaped, outcome)
        points = [kept or self._kept[key] for kept, key in zip(found, keys, strict=True)]
        while len(self._kept) > MOST_KEPT:
            self._kept.popitem(last=False)
        return points

    def learn(self, question: Question, outcome: Outcome) -> None:
        """Take a call that was made elsewhere as one of these."""
        self.calls += 1
        self.seconds += outcome.seconds
        if outcome.is_done:
            self.quickest = min(self.quickest, outcome.seconds)
        if self.shelf is not None:
            self.shelf.add(self.source, question, outcome)
        if question.kind == "values":
            key = self.source.key(question.inputs)
            failures, first = self.failures, self.first_failure  # counted by whoever tells of the call
            self._kept[key] = self._pointed(list(question.inputs), outcome)
            self.failures, self.first_failure = failures, first

    def learn_slopes(self, inputs: Sequence[Array], jacobian: Any) -> None:
        """Take a Jacobian that was found elsewhere as found here. It is (all outputs, all inputs)."""
        point = self._kept.get(self.source.key(inputs))
        if point is not None:
            point.jacobian = jacobian
            self.widen(jacobian)

    def jacobian_at(self, flat: Array) -> Any:
        """Return the Jacobian at inputs (q,) in one row, NaN where there is none."""
        inputs = [
            flat[first : first + math.prod(shape)].reshape(shape)
            for first, (_, shape) in zip(self._offsets[0], self.source.inputs, strict=False)
        ]
        return self.jacobian(self._points([(inputs, True)])[0])

    def jacobian(self, point: Point) -> Any:
        """Return the Jacobian (output size, input size) at a point, computed when first asked for: dense or CSR, NaN
        where there is none."""
        if point.jacobian is None:
            nothing = np.full((self.source.output_size, self.source.input_size), np.nan)
            if point.is_spoilt or point.reason:
                point.jacobian = nothing
            else:
                from ilvren.models.slopes import jacobian  # most problems have no models

                try:
                    point.jacobian = jacobian(self, point.inputs, point.outputs)
                except ModelFailure as failure:
                    point.reason = f"{failure}, asked for its derivatives ({self.source.derivatives})"
                    self.add_note(point.reason)
                    point.jacobian = nothing
                self.widen(point.jacobian)
                if self.made is not None:
                    self.differentiated.append((tuple(point.inputs), point.jacobian))
        return point.jacobian

    def _pointed(self, inputs: list[Array], outcome: Outcome) -> Point:
        try:
            outputs = self._checked(outcome)
        except ModelFailure as failure:
            empty = [np.full(shape, np.nan) for _, shape in self.source.outputs]
            self.count_failures(1, f"{failure}{self.at(inputs)}")
            return Point(inputs, empty, f"{failure}{self.at(inputs)}")
        reason, jacobian = "", None
        if len(outputs) > len(self.source.outputs):
            *outputs, jacobian = outputs
        for (name, _), value in zip(self.source.outputs, outputs, strict=True):
            if not np.isfinite(value).all():
                reason = f'model "{self.source.name}" returned {_first_bad(value)} as "{name}"{self.at(inputs)}'
                break
        point = Point(inputs, outputs, reason)
        if jacobian is not None and not reason:
            point.jacobian = jacobian
        return point

    # ---- patterns ---------------------------------------------------------------------------------

    @property
    def is_sparse(self) -> bool:
        """Return whether the pattern of the derivatives is worth knowing."""
        is_known = self.source.derivatives in (AUTOMATIC, SUPPLIED) or is_banded(self.source)
        return is_known and self.source.input_size * self.source.output_size > LEAST_SPARSE

    @property
    def offsets(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Return where each input and each output begins in flat rows of all."""
        return self._offsets

    def widen(self, matrix: Any) -> None:
        """Take what derivatives at a new point show into the pattern."""
        if not self.is_sparse or isinstance(matrix, np.ndarray):
            return
        own = matrix.copy()
        own.data = np.ones(own.nnz, dtype=np.int8)
        joined = own if self.pattern is None else own + self.pattern
        joined.data = np.ones(joined.nnz, dtype=np.int8)
        if self.pattern is None or joined.nnz > self.pattern.nnz:
            self.pattern = joined
            self.pattern_version += 1


def _question(inputs: Sequence[Any], kind: type) -> Question:
    return Question("complex" if kind is complex else "values", tuple(np.array(value) for value in inputs))


def _first_bad(value: Array) -> str:
    flat = np.ravel(value)
    return str(flat[~np.isfinite(flat)][0])

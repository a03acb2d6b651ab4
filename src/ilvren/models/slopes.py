"""Derivatives of a model's outputs by its inputs, by the source its entry names; (outputs, inputs), flat.

    automatic             the function run on our own array type: exact, sparse
    supplied              a second function: {(output, input): partial derivatives} or {output: {input: …}}
    complex-step          Im f(x + ih) / h                                                    (1)
    differences           (f(x + h) − f(x − h)) / 2h                                          (2)
    forward-differences   (f(x + h) − f(x)) / h                                               (3)

The noise ε of the function is read off a difference table, and the curvature μ₂ by each group of inputs measured.
Then h = L·(3ε)^(1/3) for (2), L the shorter of |x| and (|f|/μ₂)^(1/2), and h = 2·(ε|f|/μ₂)^(1/2) for (3). Where
outputs declare a band, inputs far enough apart are moved together. Programs show few digits: see `models.shown_steps`.

Sources: J. Lyness, C. Moler, "Numerical differentiation of analytic functions", 1967; J. Moré, S. Wild,
"Estimating computational noise", 2011, and "Estimating derivatives of noisy simulations", 2012.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError
from ilvren.models.failures import CannotFollow, ModelFailure
from ilvren.models.shown_steps import LEAST_IN_DECK, LEAST_IN_LISTING, LONGEST, listing_noise, moving_places
from ilvren.models.source import (
    AUTOMATIC,
    COMPLEX_STEP,
    FORWARD_DIFFERENCES,
    LEAST_SPARSE,
    SUPPLIED,
    ModelSource,
    is_banded,
)
from ilvren.records import dataclass

__all__ = ["Steps", "choose_steps", "jacobian"]

Array = NDArray[Any]

IMAGINARY_STEP = 1e-40
EPSILON = float(np.finfo(float).eps)
# The difference table: so many points, so far apart relative to the inputs.
TABLE_POINTS, TABLE_STEP = 8, 1e-7
# In a deck they are apart by so many of its last places.
TABLE_PLACES = 10.0
# An input keeps at least this share of the size it had when the steps were chosen: nearly 0, steps relative to itself
# would drown in rounding.
LEAST_SHARE = 1e-2
# Inputs smaller than TINY are tried at sizes growing by GROWTH until a trial step clearly changes an output.
TINY, GROWTH = 1e-3, 1e3
# Steps keep within these shares of an input's size.
LEAST_STEP, MOST_STEP = 1e-9, 1e-2
# Complex steps are compared once with differences; more than this apart they have met an operation they cannot follow.
COMPLEX_DOUBT = 1e-3


class Differentiated(Protocol):
    """What derivatives are taken of: the calls of a source, counted and remembered. `steps` are those of differences,
    None until they are chosen."""

    source: ModelSource
    steps: Any
    is_followed: bool
    difference_calls: int

    def values(self, inputs: Sequence[Any], *, kind: type = float) -> list[Array]:
        """Return the outputs, arrays of `kind`, at inputs. Raises ModelFailure. All have the shapes that are
        declared."""

    def slopes(self, inputs: Sequence[Array]) -> Any:
        """Return the source's own Jacobian. Raises ModelFailure, CannotFollow. It is (all outputs, all inputs)."""

    def ahead(self, many: Sequence[list[Array]]) -> None:
        """Ask now, all at once, what `values` will be asked for next. Each of `many` is a point's inputs, with their
        shapes."""

    def fall_back(self, why: str = "") -> None:
        """Take derivatives by differences from now on."""

    def add_note(self, note: str) -> None:
        """Keep a note for the user."""


def jacobian(calls: Differentiated, inputs: Sequence[Array], outputs: Sequence[Array]) -> Any:
    """Return the Jacobian of a model at `inputs`, where it gave `outputs`; dense, or CSR where it is sparse. It is (all
    outputs, all inputs)."""
    word = calls.source.derivatives
    if word == AUTOMATIC:
        found = _automatic(calls, inputs)
        return _differences(calls, inputs, outputs) if found is None else found
    if word == SUPPLIED:
        return calls.slopes(inputs)
    if word == COMPLEX_STEP:
        return _complex(calls, inputs, outputs)
    return _differences(calls, inputs, outputs)


def choose_steps(calls: Differentiated, inputs: Sequence[Array], outputs: Sequence[Array]) -> Steps:
    """Return the steps of differences, chosen at these inputs where none were chosen before. They have the shapes of
    inputs and outputs."""
    if calls.steps is None:
        calls.steps = _chosen_steps(calls, _flat(inputs), _flat(outputs))
    found: Steps = calls.steps
    return found


def _flat(values: Sequence[Array]) -> Array:
    return np.concatenate([np.ravel(value) for value in values]) if values else np.zeros(0)


def _parts(source: ModelSource, flat: Array) -> list[Array]:
    found, at = [], 0
    for _, shape in source.inputs:
        size = math.prod(shape)
        found.append(flat[at : at + size].reshape(shape))
        at += size
    return found


def _automatic(calls: Differentiated, inputs: Sequence[Array]) -> Any:
    """Return the Jacobian by following the function; None where it cannot be followed and differences may take its
    place: the plain function has just given values for the same inputs, so that any failure here is the following's."""
    try:
        found = calls.slopes(inputs)
    except (CannotFollow, ModelFailure) as error:
        if not calls.source.is_strict and not calls.is_followed:
            told = str(error).removeprefix(f'model "{calls.source.name}" ')
            calls.fall_back(
                f"cannot be followed ({told})" if isinstance(error, CannotFollow) else f"{told} when followed"
            )
            return None
        if isinstance(error, ModelFailure):
            raise
        file, line = calls.source.place
        file_told = calls.source.told.partition(":")[0]
        raise ProblemError(
            f'model "{calls.source.name}" ({file_told}) cannot be differentiated automatically: {error}',
            file=file,
            line=line,
            where=f"models.{calls.source.name}",
            advice='write it with NumPy functions, or choose derivatives = "differences", which needs plain numbers',
        ) from None
    calls.is_followed = True
    return found


def _complex(calls: Differentiated, inputs: Sequence[Array], outputs: Sequence[Array]) -> Any:
    source, flat = calls.source, _flat(inputs)
    found = np.zeros((source.output_size, len(flat)))
    groups = _groups(source)
    points = np.repeat(flat[np.newaxis].astype(complex), len(groups), axis=0)
    for moved, group in zip(points, groups, strict=True):
        moved[group] += 1j * IMAGINARY_STEP
    calls.ahead([_parts(source, moved) for moved in points])
    for moved, group in zip(points, groups, strict=True):
        calls.difference_calls += 1
        change = _flat(calls.values(_parts(source, moved), kind=complex)).imag
        _fill(found, source, group, change, np.full(len(flat), IMAGINARY_STEP))  # (1)
    if calls.steps is None:
        calls.steps = "compared"
        _compare(
            calls,
            flat,
            found,
            outputs,
            "complex steps and differences disagree; functions such as abs() lose complex steps, and too narrow a"
            ' band loses derivatives. Try derivatives = "automatic" or "differences", and `ilvren check`',
        )
    return _sparse_where_worth(source, found, groups)


def _compare(calls: Differentiated, flat: Array, found: Array, outputs: Sequence[Array], doubt: str) -> None:
    """Once: the derivatives found, all inputs moved at once, against a difference; note `doubt` when they disagree."""
    direction = np.where(np.arange(len(flat)) % 2, -1.0, 1.0) * np.maximum(np.abs(flat), 1e-3) * EPSILON ** (1.0 / 3.0)
    try:
        ahead = _flat(calls.values(_parts(calls.source, flat + direction)))
        behind = _flat(calls.values(_parts(calls.source, flat - direction)))
    except ModelFailure:
        return
    calls.difference_calls += 2
    there, here = (ahead - behind) / 2.0, found @ direction
    size = np.abs(found) @ np.abs(direction) + np.abs(there)
    noise = 1e3 * EPSILON * np.abs(_flat(outputs))
    if bool((np.abs(there - here) > COMPLEX_DOUBT * size + noise).any()):
        calls.add_note(f'model "{calls.source.name}": {doubt}')


# ---- differences --------------------------------------------------------------------------------


@dataclass
class Steps:
    """Step lengths relative to an input's size, the sizes where they were chosen, both (input size,), and the groups
    of inputs moved together."""

    shares: Array
    sizes: Array
    groups: list[NDArray[np.int64]]
    least: Array | None = None  # (input size,) lengths that no step goes below, for what shows few digits
    accuracy: float = 0.0  # about what share of a derivative its last places leave open
    noise: float = EPSILON  # of the outputs, relative
    resolution: Array | None = None  # (input size,) of the inputs as they are given

    def lengths(self, flat: Array) -> Array:
        """Return the step of each input at inputs (input size,). Both are (input size,)."""
        h = self.shares * np.maximum(np.abs(flat), LEAST_SHARE * self.sizes)
        return h if self.least is None else np.maximum(h, self.least)


def _sizes(flat: Array) -> Array:
    return np.where(flat != 0.0, np.abs(flat), 1.0)


def _moved(
    calls: Differentiated, flat: Array, here: Array, group: NDArray[np.int64], trial: float, sizes: Array, seen: Array
) -> tuple[Array, Array]:
    """Return the outputs at a trial step of a group, ahead and behind, raising `sizes` of inputs too small to
    change an output by what is `seen`."""
    while True:
        unit = np.zeros(len(flat))
        unit[group] = trial * sizes[group]
        ahead, behind = _values_at(calls, flat + unit), _values_at(calls, flat - unit)
        largest = float(sizes[group].max())
        if largest >= TINY or bool((np.fmax(np.abs(ahead - here), np.abs(here - behind)) > seen).any()):
            return ahead, behind
        sizes[group] = np.maximum(sizes[group], min(largest * GROWTH, 1.0))


def _values_at(calls: Differentiated, flat: Array) -> Array:
    calls.difference_calls += 1
    try:
        return _flat(calls.values(_parts(calls.source, flat)))
    except ModelFailure:
        return np.full(calls.source.output_size, np.nan)


def _noise(calls: Differentiated, flat: Array, resolution: Array) -> float:
    """Return the relative noise of the outputs, from the difference table along one direction."""
    move = np.maximum(TABLE_STEP * _sizes(flat), TABLE_PLACES * resolution)
    move *= np.where(np.arange(len(flat)) % 2, -1.0, 1.0)
    table = np.array([_values_at(calls, flat + k * move) for k in range(TABLE_POINTS)])
    size = np.abs(table).max(axis=0)
    found = EPSILON
    if calls.source.is_apart:
        found = max(found, float(listing_noise(list(table)).max(initial=0.0)))
    for output in range(table.shape[1]):
        column, levels = table[:, output], []
        if not np.isfinite(column).all() or size[output] == 0.0:
            continue
        for order in range(1, TABLE_POINTS - 1):
            column = np.diff(column)
            gamma = math.factorial(order) ** 2 / math.factorial(2 * order)
            level = math.sqrt(gamma * float(np.mean(column**2)))
            changes = bool((np.sign(column[1:]) != np.sign(column[:-1])).any())
            levels.append((level, changes))
        for first, second in itertools.pairwise(levels[1:]):
            # Noise shows as levels that no longer fall from order to order, with changing signs.
            if second[0] > 0.0 and first[0] <= 4.0 * second[0] and first[1]:
                found = max(found, first[0] / size[output])
                break
    return min(found, 1e-2)


def _chosen_steps(calls: Differentiated, flat: Array, here: Array) -> Steps:
    """Choose the step of each group of inputs from the noise ε and the curvature μ₂.

    The curvature is measured with a step of ε^(1/4) of the inputs' sizes.
    (|f|/μ₂)^(1/2) is a length over which the output changes by its own size: where that is shorter than the input
    itself it takes the input's place in (2), whose step is (3ε)^(1/3) of it.
    """
    source = calls.source
    resolution = _resolution(source, flat)
    noise = _noise(calls, flat, np.where(np.isfinite(resolution), resolution, 0.0))
    sizes = _sizes(flat)
    shares, groups = np.full(len(flat), (3.0 * noise) ** (1.0 / 3.0)), _groups(source)
    level = noise * np.abs(here)
    for group in groups:
        if np.isinf(resolution[group]).all():
            continue
        trial = max(noise**0.25, float((LEAST_IN_DECK * resolution[group] / sizes[group]).max()))
        ahead, behind = _moved(calls, flat, here, group, trial, sizes, math.sqrt(noise) * np.abs(here))
        bend = np.abs(ahead - 2.0 * here + behind) / trial**2
        is_seen = np.isfinite(bend) & (bend > 4.0 * level / trial**2)
        if not is_seen.any():
            if source.derivatives == FORWARD_DIFFERENCES:
                shares[group] = 2.0 * math.sqrt(noise)
            continue
        if source.derivatives == FORWARD_DIFFERENCES:
            shares[group] = float(np.min(2.0 * np.sqrt(level[is_seen] / bend[is_seen])))  # (3)
        else:
            length = float(np.min(np.sqrt(np.abs(here[is_seen]) / bend[is_seen])))
            shares[group] *= min(max(length, trial), 1.0)  # (2)
    if not source.is_apart:
        return Steps(np.clip(shares, LEAST_STEP, MOST_STEP), sizes, groups)
    return _steps_as_shown(calls, flat, Steps(shares, sizes, groups, noise=noise, resolution=resolution))


def _steps_as_shown(calls: Differentiated, flat: Array, chosen: Steps) -> Steps:
    """Return steps of a program, no shorter than decks and listings show, and note where that makes them long."""
    source, noise, sizes, resolution = calls.source, chosen.noise, chosen.sizes, chosen.resolution
    assert resolution is not None
    longest = min(max(MOST_STEP, (3.0 * noise) ** (1.0 / 3.0)), LONGEST)
    shares = np.maximum(np.clip(chosen.shares, LEAST_STEP, longest), min(LEAST_IN_LISTING * noise, LONGEST))
    least = np.where(np.isfinite(resolution), LEAST_IN_DECK * resolution, 0.0)
    if LEAST_IN_LISTING * noise > LONGEST:
        calls.add_note(
            f'model "{source.name}" shows about {max(-math.log10(2.0 * noise), 1.0):.0f} digits: its derivatives are'
            f" differences over {LONGEST:.0%} of a size, and good to about {min(noise / LONGEST / 2.0, 1.0):.0e}"
        )
    coarse = [k for k in moving_places(source.inputs, source.still) if least[k] > LONGEST * sizes[k]]
    if coarse:
        calls.add_note(
            f'the decks of model "{source.name}" show {_input_name(source, coarse[0])} to {resolution[coarse[0]]:.1g}:'
            f" its differences are over {least[coarse[0]]:.2g}; more digits in the deck make better derivatives"
        )
    steps = Steps(shares, sizes, chosen.groups, least, noise=noise, resolution=resolution)
    lengths = steps.lengths(flat)
    blurred = np.where(np.isfinite(resolution), resolution, 0.0) / lengths
    moved = [k for k in moving_places(source.inputs, source.still) if np.isfinite(resolution[k])]
    steps.accuracy = float(np.max(noise * sizes[moved] / lengths[moved] + blurred[moved], initial=0.0))
    return steps


def _input_name(source: ModelSource, place: int) -> str:
    at = 0
    for name, shape in source.inputs:
        size = math.prod(shape)
        if place < at + size:
            return name if not shape else f"{name}[{place - at}]"
        at += size
    return ""


def _resolution(source: ModelSource, flat: Array) -> Array:
    """Return (input size,): the resolution that decks have for each input, 0 for what is given with all digits,
    infinite for what is not given or does not move."""
    if not source.is_apart:
        return np.zeros(len(flat))
    found, places = np.full(len(flat), math.inf), moving_places(source.inputs, source.still)
    if places:
        found[places] = source.shown(_parts(source, flat), places)[:, 1]
    return found


def _groups(source: ModelSource) -> list[NDArray[np.int64]]:
    """Return which inputs are moved together: alone, or where all outputs declare a band, those out of its reach."""
    groups: list[NDArray[np.int64]] = []
    has_bands = is_banded(source)
    reach = 2 * max(source.bands.values(), default=0) + 1
    at = 0
    for name, shape in source.inputs:
        size = math.prod(shape)
        if has_bands and len(shape) == 1 and all(shape == out for _, out in source.outputs):
            groups += [np.arange(at + first, at + size, reach) for first in range(min(reach, size))]
        elif name not in source.still:
            groups += [np.array([place]) for place in range(at, at + size)]
        at += size
    return groups


def _differences(calls: Differentiated, inputs: Sequence[Array], outputs: Sequence[Array]) -> Any:
    source, flat, here = calls.source, _flat(inputs), _flat(outputs)
    is_first = calls.steps is None
    steps = choose_steps(calls, inputs, outputs)
    h = steps.lengths(flat)
    h = (flat + h) - flat  # a step that the numbers can hold
    found = np.zeros((source.output_size, len(flat)))
    moves = np.zeros((len(steps.groups), len(flat)))
    for move, group in zip(moves, steps.groups, strict=True):
        move[group] = h[group]
    sides = moves if source.derivatives == FORWARD_DIFFERENCES else np.vstack([moves, -moves])
    calls.ahead([_parts(source, flat + move) for move in sides])
    for move, group in zip(moves, steps.groups, strict=True):
        ahead = _values_at(calls, flat + move)
        if source.derivatives == FORWARD_DIFFERENCES and np.isfinite(ahead).all():
            change, length = ahead - here, np.ones(1)  # (3)
            if source.is_apart:
                length = _as_written(source, flat, move, (np.ones(1, dtype=bool), np.zeros(1, dtype=bool))) / h[group]
        else:
            behind = _values_at(calls, flat - move)
            ahead, one = np.where(np.isfinite(ahead), ahead, here), np.isfinite(ahead)
            behind, other = np.where(np.isfinite(behind), behind, here), np.isfinite(behind)
            count = one.astype(float) + other.astype(float)
            change, length = ahead - behind, np.where(count > 0.0, count, np.nan)  # (2), one-sided at an edge
            if source.is_apart:
                length = _as_written(source, flat, move, (one, other)) / h[group[0]]
        _fill(found, source, group, change / length, h)
    if is_first and len(steps.groups) < len(flat) and np.isfinite(found).all():
        _compare(
            calls,
            flat,
            found,
            outputs,
            "its derivatives within the declared band do not explain how it changes; a band that is too narrow loses"
            " derivatives. Widen it or leave it out, and `ilvren check`",
        )
    return _sparse_where_worth(source, found, steps.groups)


def _as_written(source: ModelSource, flat: Array, move: Array, sides: tuple[Array, Array]) -> Array:
    """Return (outputs,): how far the input that moves is written apart in the decks, ahead (where there is a value),
    else here, and behind; NaN where both are written alike, infinite where the input is not written at all."""
    place = int(np.flatnonzero(move)[0])
    at = [source.shown(_parts(source, flat + side * move), [place])[0] for side in (1.0, 0.0, -1.0)]
    if all(width == math.inf for _, width in at):
        return np.full(len(sides[0]), math.inf)
    length = np.where(sides[0], at[0][0], at[1][0]) - np.where(sides[1], at[2][0], at[1][0])
    return np.where(np.abs(length) > 0.0, length, np.nan)


def _sparse_where_worth(source: ModelSource, found: Array, groups: Sequence[NDArray[np.int64]]) -> Any:
    """Return the Jacobian in CSR form where inputs were moved together; the declared band is its pattern."""
    if len(groups) == found.shape[1] or found.size <= LEAST_SPARSE:
        return found
    from scipy.sparse import csr_array

    mask = np.zeros(found.shape)
    for group in groups:
        _fill(mask, source, group, np.ones(len(found)), np.ones(found.shape[1]))
    rows, columns = np.nonzero(mask)
    return csr_array((found[rows, columns], (rows, columns)), shape=found.shape)


def _fill(found: Array, source: ModelSource, group: NDArray[np.int64], change: Array, h: Array) -> None:
    if len(group) == 1:
        found[:, group[0]] = change / h[group[0]]
        return
    first = 0
    for name, shape in source.outputs:
        n, band = shape[0], source.bands[name]
        offset = next(at for at, size in _input_places(source) if at <= group[0] < at + size)
        for place in group:
            own = int(place) - offset
            low, high = max(own - band, 0), min(own + band + 1, n)
            found[first + low : first + high, place] = change[first + low : first + high] / h[place]
        first += n


def _input_places(source: ModelSource) -> list[tuple[int, int]]:
    places, at = [], 0
    for _, shape in source.inputs:
        places.append((at, math.prod(shape)))
        at += math.prod(shape)
    return places

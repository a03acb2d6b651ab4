"""How bounds and rows stand at a design: arrays, of which a single state is made when it is looked at."""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, overload

import numpy as np
from numpy.typing import NDArray

from ilvren.problem import RowBlock, VariableBlock
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula import Shape

__all__ = ["LimitState", "LimitStates", "by_block", "nested", "plain", "plain_values", "told_by_block"]

FloatArray = NDArray[np.float64]

_SIDES = {0: "", -1: "lower", 1: "upper", 2: "equality"}
# What the document says of a bound or a row.
_KEYS = ("value", "lower", "upper", "margin", "violation", "price", "active")


@dataclass(frozen=True, kw_only=True)
class LimitState:
    """A variable's bounds or a constraint row at a design. `price` None when not active or not known;
    `side` is "", "lower", "upper" or "equality"; `margin` is negative when missed; `size` is what misses are measured
    against."""

    name: str
    value: float
    lower: float
    upper: float
    margin: float
    violation: float
    price: float | None
    is_active: bool
    side: str
    unit: str = ""
    is_unique: bool = True
    size: float = 1.0

    def word(self, feasibility: float) -> str:
        """Return how the row stands in a word or two: invalid, missed, met, active, or nothing."""
        if math.isnan(self.value):
            return "invalid: no finite value"
        if self.violation > feasibility:
            if self.lower == self.upper:
                return "missed"
            return "missed: lower limit" if self.value < self.lower else "missed: upper limit"
        if self.side == "equality":
            return "met"
        return f"active: {self.side} limit" if self.side else ""

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "value": plain(self.value),
            "lower": _limit(self.lower),
            "upper": _limit(self.upper),
            "margin": plain(self.margin),
            "violation": plain(self.violation),
            "price": None if self.price is None else plain(self.price),
            "active": self.is_active,
            **({} if self.is_unique else {"price_unique": False}),
        }


class LimitStates(Sequence[LimitState]):
    """The states of all elements of `blocks` in order. `value`, `lower`, `upper`, `sizes` (k,); `sides` (k,) as in
    `_SIDES`; `prices` (k,), NaN where there is none; prices that there are may be not unique."""

    def __init__(
        self,
        blocks: Sequence[VariableBlock | RowBlock],
        value: FloatArray,
        limits: tuple[FloatArray, FloatArray],
        *,
        sizes: FloatArray,
        sides: NDArray[Any],
        prices: FloatArray | None,
        are_unique: bool,
    ) -> None:
        self.blocks = tuple(blocks)
        self._firsts: list[int] = []
        self.value = value
        self.lower, self.upper = limits
        self.sizes = sizes
        self.sides = np.asarray(sides, dtype=np.int8)
        self.prices = prices
        self.are_unique = are_unique

    @property
    def margin(self) -> FloatArray:
        """Return (k,): the room to the nearer limit, NaN for NaN."""
        return np.minimum(self.value - self.lower, self.upper - self.value)

    @property
    def violation(self) -> FloatArray:
        """Return (k,): the misses over their sizes, infinite for NaN."""
        margin = self.margin
        return np.where(np.isnan(margin), np.inf, np.maximum(-margin, 0.0) / self.sizes)

    def __len__(self) -> int:
        return len(self.value)

    @overload
    def __getitem__(self, place: int) -> LimitState: ...

    @overload
    def __getitem__(self, place: slice) -> tuple[LimitState, ...]: ...

    def __getitem__(self, place: int | slice) -> LimitState | tuple[LimitState, ...]:
        if isinstance(place, slice):
            return tuple(self[one] for one in range(*place.indices(len(self))))
        if not -len(self) <= place < len(self):
            raise IndexError(place)
        place %= len(self)
        if not self._firsts:
            self._firsts = [block.first for block in self.blocks]
        return self._state(self.blocks[bisect_right(self._firsts, place) - 1], place)

    def __iter__(self) -> Iterator[LimitState]:
        for block in self.blocks:
            for place in range(block.first, block.first + block.size):
                yield self._state(block, place)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, LimitStates) and tuple(self) == tuple(other)

    __hash__ = None  # type: ignore[assignment]

    def _state(self, block: VariableBlock | RowBlock, place: int) -> LimitState:
        value, low, high = float(self.value[place]), float(self.lower[place]), float(self.upper[place])
        side, margin = int(self.sides[place]), min(value - low, high - value)
        price = None if self.prices is None or math.isnan(self.prices[place]) else float(self.prices[place])
        return LimitState(
            name=block.row_name(place - block.first)
            if isinstance(block, RowBlock)
            else block.element_name(place - block.first),
            value=value,
            lower=low,
            upper=high,
            margin=margin,
            violation=max(-margin, 0.0) / float(self.sizes[place]) if not math.isnan(margin) else math.inf,
            price=price,
            is_active=bool(side),
            side=_SIDES[side],
            unit=block.unit,
            is_unique=price is None or self.are_unique,
            size=float(self.sizes[place]),
        )

    def of_block(self, block: VariableBlock | RowBlock) -> LimitStates:
        """Return the states of one block."""
        own = slice(block.first, block.first + block.size)
        return LimitStates(
            [replace(block, first=0)],
            self.value[own],
            (self.lower[own], self.upper[own]),
            sizes=self.sizes[own],
            sides=self.sides[own],
            prices=None if self.prices is None else self.prices[own],
            are_unique=self.are_unique,
        )

    def standing(self, feasibility: float) -> dict[str, int]:
        """Return how many stand how, in the words that `LimitState.word` begins with, those met first coming first."""
        kinds = np.select(
            [np.isnan(self.value), self.violation > feasibility, self.sides == 2, self.sides != 0], [0, 1, 2, 3], 4
        )
        found, first, counts = np.unique(kinds, return_index=True, return_counts=True)
        words = ("invalid", "missed", "met", "active")
        return {words[found[i]]: int(counts[i]) for i in np.argsort(first).tolist() if found[i] < len(words)}

    def priced_places(self) -> NDArray[np.int64]:
        """Return the places of the states that have a price. They are (count,)."""
        return np.zeros(0, dtype=np.int64) if self.prices is None else np.flatnonzero(~np.isnan(self.prices))

    def priced(self) -> Iterator[LimitState]:
        """Yield the states that have a price."""
        for place in self.priced_places().tolist():
            yield self[place]

    def dearest(self, most: int, share: float) -> list[LimitState]:
        """Return the states that have a price and the most to gain of moving a limit by a share of its value, or of the
        size where that is 0: so many, and all that have a third of what the last of them has."""
        places = self.priced_places()
        if not len(places):
            return []
        assert self.prices is not None
        limit = np.abs(np.where(self.sides == -1, self.lower, self.upper)[places])
        gain = np.abs(self.prices[places]) * share * np.where(limit > 0.0, limit, self.sizes[places])
        least = np.partition(gain, -most)[-most] if len(gain) > most else 0.0
        return [self[place] for place in places[gain >= least / 3.0].tolist()]

    def missed(self, tolerance: float) -> Iterator[LimitState]:
        """Yield the states that miss a limit by more than a tolerance."""
        for place in np.flatnonzero(self.violation > tolerance).tolist():
            yield self[place]

    def worst(self, most: int) -> tuple[LimitState, ...]:
        """Return the states with the largest violation, then with the least room, in their order."""
        finite = np.stack([np.where(np.isfinite(part), np.abs(part), 0.0) for part in self._parts()])
        largest = finite.max(axis=0)
        room = self.margin / np.where(largest > 0.0, largest, 1.0)
        order = np.lexsort((np.where(np.isnan(room), -np.inf, room), -self.violation))[:most]
        return tuple(self[place] for place in sorted(order.tolist()))

    def _parts(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        return self.value, self.lower, self.upper

    def priced_document(self) -> dict[str, object]:
        """Return {name: {"price": values}}: what does not follow from a design."""
        return {
            block.name: {"price": nested(_plain_list(self.prices[block.first : block.first + block.size]), block.shape)}
            for block in self.blocks
            if self.prices is not None
        }

    def document(self) -> dict[str, object]:
        """Return {name: {key: value}} of all, each value nested lists for vectors and matrices."""
        document: dict[str, object] = {}
        for block in self.blocks:
            if isinstance(block, VariableBlock) and block.words:  # words have no bounds
                continue
            if not block.shape:
                document[block.name] = self._state(block, block.first).to_dict()
                continue
            own = slice(block.first, block.first + block.size)
            price = np.full(block.size, math.nan) if self.prices is None else self.prices[own]
            columns: list[list[Any]] = [
                _plain_list(self.value[own]),
                _plain_list(self.lower[own], endless=None),
                _plain_list(self.upper[own], endless=None),
                _plain_list(self.margin[own]),
                _plain_list(self.violation[own]),
                _plain_list(price),
                (self.sides[own] != 0).tolist(),
            ]
            entry = {key: nested(column, block.shape) for key, column in zip(_KEYS, columns, strict=True)}
            if not self.are_unique and not np.isnan(price).all():
                unique = [None if math.isnan(one) else False for one in price.tolist()]
                entry["price_unique"] = nested(unique, block.shape)
            if isinstance(block, RowBlock) and block.times is not None:
                entry["times"] = list(block.times)
            document[block.name] = entry
        return document


def _plain_list(values: FloatArray, *, endless: str | None = "inf") -> list[Any]:
    """Return numbers as the JSON documents write them; infinities as None where `endless` is None."""
    found: list[Any] = (values + 0.0).tolist()
    for place in np.flatnonzero(~np.isfinite(values)).tolist():
        found[place] = None if endless is None else plain(found[place])
    return found


def by_block(blocks: Sequence[VariableBlock | RowBlock], values: Sequence[Any]) -> dict[str, Any]:
    """Return {name: value} from one value per element: nested lists for vectors and matrices."""
    return {block.name: nested(values[block.first : block.first + block.size], block.shape) for block in blocks}


def told_by_block(blocks: Sequence[VariableBlock], values: Sequence[Any]) -> dict[str, Any]:
    """Return {name: value} like `by_block`, the words of choices in place of their numbers."""
    found = by_block(blocks, values)
    return found | {block.name: block.shown(found[block.name]) for block in blocks if block.words}


def nested(values: Sequence[Any], shape: Shape) -> Any:
    """Return a flat sequence as nested lists of a shape; the value itself for a scalar."""
    if not shape:
        return values[0]
    if len(shape) == 1:
        return list(values)
    size = math.prod(shape[1:])
    return [nested(values[row * size : (row + 1) * size], shape[1:]) for row in range(shape[0])]


def plain_values(value: Any) -> Any:
    """Return a number or an array as the JSON documents write it."""
    array = np.asarray(value, dtype=float)
    return nested([plain(item) for item in array.ravel().tolist()], array.shape)


def plain(value: float) -> float | str | None:
    """Return a number as the JSON documents write it: None for NaN, "inf" and "-inf" for infinities."""
    if math.isnan(value):
        return None
    if math.isinf(value):
        return "inf" if value > 0 else "-inf"
    return float(value)


def _limit(value: float) -> float | None:
    """Return a limit as the JSON documents write it: None where there is none."""
    return float(value) if math.isfinite(value) else None

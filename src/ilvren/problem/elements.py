"""The elements of blocks as a sequence, each made when it is looked at."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence
from itertools import accumulate
from typing import Protocol, TypeVar, overload

__all__ = ["MOST_ELEMENTS", "Block", "Elements"]

# Up to so many are made once and kept.
MOST_ELEMENTS = 10_000

T_co = TypeVar("T_co", covariant=True)


class Block(Protocol[T_co]):
    """What has elements."""

    @property
    def size(self) -> int:
        """Return how many."""

    def element(self, place: int) -> T_co:
        """Return one of them."""


class Elements(Sequence[T_co]):
    """All elements of some blocks, in order."""

    def __init__(self, blocks: Sequence[Block[T_co]]) -> None:
        self._blocks = tuple(blocks)
        self._ends = tuple(accumulate(block.size for block in blocks))

    def __len__(self) -> int:
        return self._ends[-1] if self._ends else 0

    @overload
    def __getitem__(self, place: int) -> T_co: ...

    @overload
    def __getitem__(self, place: slice) -> tuple[T_co, ...]: ...

    def __getitem__(self, place: int | slice) -> T_co | tuple[T_co, ...]:
        if isinstance(place, slice):
            return tuple(self[one] for one in range(*place.indices(len(self))))
        if not -len(self) <= place < len(self):
            raise IndexError(place)
        place %= len(self)
        number = bisect_right(self._ends, place)
        return self._blocks[number].element(place - (self._ends[number - 1] if number else 0))

    def __iter__(self) -> Iterator[T_co]:
        for block in self._blocks:
            for place in range(block.size):
                yield block.element(place)

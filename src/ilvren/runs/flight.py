"""Designs under way: asked for one after the other, answered as they come, the order being on record."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from ilvren.evaluate import Arrival, Gate

__all__ = ["Flight"]

FloatArray = NDArray[np.float64]


class Flight:
    """The designs of all requests in arrival order; their tickets are their places. With workers those that are sent
    off are computed at the same time; without, the oldest is computed when something is waited for."""

    def __init__(self, gate: Gate) -> None:
        self._gate = gate
        self.points: list[FloatArray] = []
        self.open: dict[int, None] = {}  # tickets that are not back, the oldest first
        self._sent: list[FloatArray] = []  # to the workers since they were last idle, and whose tickets these are
        self._tickets: list[int] = []
        self._answers: Iterator[tuple[int, Arrival]] | None = None

    def add(self, points: FloatArray) -> None:
        """Put designs (k, n) under way."""
        for point in points:
            self.open[len(self.points)] = None
            self.points.append(point)

    @property
    def under_way(self) -> frozenset[int]:
        """Return the open tickets that the workers have."""
        return frozenset(self._tickets) & self.open.keys()

    @property
    def sent(self) -> int:
        """Return how many designs the workers are at, or have waiting."""
        return len(self.under_way)

    def send(self, tickets: list[int]) -> None:
        """Give open designs to the workers."""
        for ticket in tickets:
            if ticket not in self._tickets:
                self._sent.append(self.points[ticket])
                self._tickets.append(ticket)

    def arrived(self) -> tuple[int, Arrival] | None:
        """Wait for the workers; return a ticket and what came of it, or None where they have nothing to do."""
        while self._tickets:
            if self._answers is None:
                self._answers = self._gate.as_they_come(self._sent)
            for place, arrival in self._answers:
                if self._tickets[place] in self.open:  # else its design was known from another ticket meanwhile
                    return self._tickets[place], arrival
            self._answers, self._sent, self._tickets = None, [], []
        return None

    def end(self) -> None:
        """Let the workers drop what they are at."""
        if isinstance(self._answers, Generator):
            self._answers.close()
        self._answers = None

    def close(self, ticket: int) -> None:
        """Take a ticket as answered."""
        del self.open[ticket]

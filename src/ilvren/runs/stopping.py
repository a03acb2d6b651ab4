"""What ends a stage from outside its method, and the seconds that a run has taken."""

from __future__ import annotations

import time
from collections.abc import Callable

__all__ = ["Clock", "ProtocolBroken", "Stop"]


class Stop(Exception):
    """A limit is used up, or what was asked for is reached: the stage ends with this outcome, for this reason."""

    def __init__(self, outcome: str, reason: str) -> None:
        super().__init__(reason)
        self.outcome = outcome
        self.reason = reason


class ProtocolBroken(Exception):
    """A method broke the protocol of `methods.base`."""


class Clock:
    """The seconds of a run: those on record of earlier parts, and those since."""

    def __init__(self, earlier: float = 0.0, now: Callable[[], float] = time.monotonic) -> None:
        self.now = now
        self._earlier = earlier
        self._began = now()

    @property
    def seconds(self) -> float:
        """Return the seconds so far."""
        return self._earlier + self.now() - self._began

    def follow(self, recorded: float) -> None:
        """Go on from what is on record of an evaluation that is replayed."""
        self._earlier, self._began = max(self._earlier, recorded), self.now()

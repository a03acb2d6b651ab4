"""What is asked of a problem's objectives, as the commands say it and the ledger keeps it."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import field
from typing import Any

from ilvren.records import dataclass

__all__ = ["NO_AIM", "Aim", "lines_text"]


@dataclass(frozen=True)
class Aim:
    """What is to be made of a problem's objectives: `weigh` {objective: weight}, `only` one of them, or `near`
    {objective: value hoped for} with `weigh` as the weights of the distances (1 where left out); `hold` are further
    limits, such as "loss <= 3", `add` limits of [confirm] that are searched; `lines` {table: (first, end)} the
    half-open range of its lines that are used, to the last one where `end` is None; `fix` {variable, or one element:
    value} what may not change. `on` is an approximation that
    stands for what it approximates; with `widened` values (of `fixed_values`; None: not asked) what scatters are
    variables."""

    weigh: Mapping[str, float] = field(default_factory=dict)
    only: str = ""
    near: Mapping[str, float] = field(default_factory=dict)
    hold: tuple[str, ...] = ()
    add: tuple[str, ...] = ()
    lines: Mapping[str, tuple[int, int | None]] = field(default_factory=dict)
    on: str = field(default="", repr=False)
    fix: Mapping[str, Any] = field(default_factory=dict)
    widened: Mapping[str, Any] | None = field(default=None, repr=False)

    def __bool__(self) -> bool:
        asked = (self.weigh, self.only, self.near, self.hold, self.add, self.lines, self.on, self.fix)
        return any(asked) or self.widened is not None

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; nothing for what is not asked."""
        found = {
            "weigh": dict(self.weigh),
            "only": self.only,
            "near": dict(self.near),
            "hold": list(self.hold),
            "add": list(self.add),
            "lines": {name: list(chosen) for name, chosen in self.lines.items()},
            "on": self.on,
            "fix": dict(self.fix),
        }
        found = {name: value for name, value in found.items() if value}
        return found if self.widened is None else {**found, "widened": dict(self.widened)}

    def flags(self, *, with_only: bool = True) -> list[str]:
        """Return the words of a command line that ask for the same; where --only means something else, by weights."""
        weights = {self.only: 1.0} if self.only and not with_only else self.weigh
        words = ["--only", self.only] if self.only and with_only else []
        told = ",".join(f"{name}={repr(float(weight)).removesuffix('.0')}" for name, weight in weights.items())
        words += ["--weigh", told] if told and not self.near else []
        words += [word for text in self.hold for word in ("--hold", text)]
        words += [word for name in self.add for word in ("--add", name)]
        words += [word for name, value in self.fix.items() for word in ("--fix", f"{name}={_told(value)}")]
        return words + [word for told in map(lines_text, self.lines.items()) for word in ("--lines", told)]

    @classmethod
    def from_dict(cls, given: Mapping[str, Any]) -> Aim:
        """Return the aim of `to_dict`."""
        return cls(
            dict(given.get("weigh", {})),
            given.get("only", ""),
            dict(given.get("near", {})),
            tuple(given.get("hold", ())),
            tuple(given.get("add", ())),
            {name: (first, end) for name, (first, end) in given.get("lines", {}).items()},
            given.get("on", ""),
            dict(given.get("fix", {})),
            dict(given["widened"]) if "widened" in given else None,
        )


NO_AIM = Aim()


def _told(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value)


def lines_text(chosen: tuple[str, tuple[int, int | None]]) -> str:
    """Return a choice of lines as it is asked for: "readings=0:200"."""
    name, (first, end) = chosen
    return f"{name}={first}:{'' if end is None else end}"

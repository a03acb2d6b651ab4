"""What a check found, as plain values."""

from __future__ import annotations

from dataclasses import field
from typing import Any

from ilvren.records import dataclass

__all__ = ["KINDS", "Finding", "listed"]

# Kind → what it means; "wrong", "conflict", "units", "unexpected" and "slopes" make a check fail.
KINDS = {
    "wrong": "a derivative disagrees with differences by far more than their own error",
    "conflict": "limits that no design within the bounds can meet",
    "doubtful": "cannot be told apart from noise, or sits at a kink",
    "domain": "a formula that can become invalid within the bounds",
    "scaling": "sizes that differ so much that methods work badly",
    "redundant": "limits that always hold within the bounds",
    "forced": "variables that the limits leave one value",
    "units": "units that do not go together",
    "unexpected": "a value that is not the one expected",
    "slopes": "a derivative that is read, and differences do not confirm",
    "note": "worth knowing",
}


@dataclass(frozen=True)
class Finding:
    """One thing found: `kind` from KINDS, `about` the entries concerned, `text` one sentence, `line` in the file,
    `facts` the numbers behind it."""

    kind: str
    about: tuple[str, ...]
    text: str
    line: int | None = None
    facts: dict[str, Any] = field(default_factory=dict)

    @property
    def fails(self) -> bool:
        """Return whether it makes the check fail."""
        return self.kind in ("wrong", "conflict", "units", "unexpected", "slopes")

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {"kind": self.kind, "about": list(self.about), "text": self.text, "line": self.line, **self.facts}


def listed(findings: list[Finding], most: int) -> list[Finding]:
    """Return the first `most` findings, and how many more there are, as a note."""
    more = len(findings) - most
    if more <= 0:
        return findings
    kinds = ", ".join(sorted({finding.kind for finding in findings[most:]}))
    return [*findings[:most], Finding("note", (), f"{more} more findings like these are not listed ({kinds})")]

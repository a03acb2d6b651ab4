"""Groups of runs in the ledger: what was planned, and which runs are whose."""

from __future__ import annotations

import contextlib
import json
import re
import sqlite3
from abc import abstractmethod
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ilvren.errors import RequestError, nearest
from ilvren.ledger.opening import now
from ilvren.ledger.records import GroupRecord, RunRecord

__all__ = ["GroupShelf"]

_ID = re.compile("g[0-9]{1,15}")


class GroupShelf:
    """The part of a ledger that knows groups."""

    path: Path
    _db: sqlite3.Connection

    @abstractmethod
    def _guard(self) -> contextlib.AbstractContextManager[None]: ...

    @abstractmethod
    def _transaction(self) -> contextlib.AbstractContextManager[None]: ...

    @abstractmethod
    def _select(self, clause: str, values: tuple[object, ...]) -> list[RunRecord]: ...

    def begin_group(self, plan: Mapping[str, Any], *, label: str | None = None) -> GroupRecord:
        """Record a plan of runs and return the group. Raises RequestError for a label in use."""
        with self._transaction():
            if label is not None and self.has_label(label):
                raise RequestError(f'the label "{label}" is in use in {self.path}', advice="choose another --label")
            cursor = self._db.execute(
                "INSERT INTO groups (label, plan, created) VALUES (?, ?, ?)", (label, json.dumps(plan), now())
            )
        assert cursor.lastrowid is not None
        return self.group(f"g{cursor.lastrowid}")

    def has_label(self, label: str) -> bool:
        """Return whether a run, a group or an approximation has this label."""
        tables = ("runs", "groups", "approximations")
        taken = " UNION ".join(f"SELECT 1 FROM {table} WHERE label = ?" for table in tables)
        return self._db.execute(taken, (label,) * len(tables)).fetchone() is not None

    def groups(self) -> list[GroupRecord]:
        """Return all groups, oldest first."""
        with self._guard():
            numbers = self._db.execute("SELECT number FROM groups ORDER BY number").fetchall()
        return [self.group(f"g{number}") for (number,) in numbers]

    def is_group(self, reference: str) -> bool:
        """Return whether a reference names a group, by its id or label."""
        if _ID.fullmatch(reference):
            return True
        with self._guard():
            return bool(self._db.execute("SELECT 1 FROM groups WHERE label = ?", (reference,)).fetchone())

    def group(self, reference: str) -> GroupRecord:
        """Return a group by id ("g3") or label. Raises RequestError, naming what is near."""
        where, value = ("number", reference[1:]) if _ID.fullmatch(reference) else ("label", reference)
        with self._guard():
            row = self._db.execute(
                f"SELECT number, label, plan, created FROM groups WHERE {where} = ?", (value,)
            ).fetchone()
            known = self._db.execute("SELECT number, label FROM groups ORDER BY number DESC").fetchall()
        if row is None:
            names = [f"g{number}" for number, _ in known] + [label for _, label in known if label]
            close = nearest(reference, names)
            advice = f'did you mean "{close}"?' if close else "groups: " + (", ".join(names[:5]) or "none")
            raise RequestError(f'{self.path} holds no group "{reference}"', advice=advice)
        with self._guard():
            places = dict(
                self._db.execute(
                    'SELECT place, run FROM group_runs WHERE "group" = ? ORDER BY place', row[:1]
                ).fetchall()
            )
            plan = json.loads(row[2])
        return GroupRecord(row[0], row[1], plan, row[3], places)

    def group_runs(self, group: GroupRecord) -> dict[int, RunRecord]:
        """Return {place in the plan: run} of the runs that were begun."""
        records = {
            record.number: record
            for record in self._select(
                'WHERE runs.number IN (SELECT run FROM group_runs WHERE "group" = ?)', (group.number,)
            )
        }
        return {place: records[number] for place, number in group.runs.items()}

    def best_of(self, group: GroupRecord) -> RunRecord:
        """Return the run with the best feasible design of the group's first problem. Raises RequestError where there is
        none."""
        if group.is_sweep:
            raise RequestError(
                f"{group.id} is a sweep: its runs are optima of different problems", advice="name one of its runs"
            )
        sign = float(group.plan["problems"][0]["sign"])
        found: list[tuple[float, int, RunRecord]] = []
        for place, record in self.group_runs(group).items():
            if group.plan["members"][place]["problem"] != 0 or not record.result:
                continue
            if "front" in record.result:
                raise RequestError(
                    f"{group.id} holds fronts, none of which is the best in all: name one of its runs",
                    advice=f"`ilvren compare {group.id}` tells how far each came",
                )
            objectives, violation = record.result.get("objectives"), record.result.get("violation")
            value = next(iter(objectives.values()), None) if isinstance(objectives, dict) else None
            allowed = record.settings["feasibility"]
            assert isinstance(allowed, float)
            if isinstance(value, float) and isinstance(violation, (int, float)) and violation <= allowed:
                found.append((sign * value, place, record))
        if not found:
            raise RequestError(f"{group.id} holds no run with a feasible design")
        return min(found, key=lambda item: item[:2])[2]

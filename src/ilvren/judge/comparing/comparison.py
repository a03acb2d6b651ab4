"""Runs side by side: how far each came, how fast, and what differed in what was asked."""

from __future__ import annotations

import math
import shlex
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.judge.comparing.final_designs import DesignDifference, final_optima, sorted_differences
from ilvren.judge.comparing.track import Track, track_of_record, track_of_result
from ilvren.ledger import Ledger
from ilvren.notebooks import InNotebooks
from ilvren.records import dataclass
from ilvren.runs import RunResult, plain

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["ALONG", "DISTANCES", "GRADIENT_WORTH", "Comparison", "compare", "compared", "distance_text", "tracks_of"]

FloatArray = NDArray[np.float64]

# The distances to the best objective whose first arrival is reported, relative.
DISTANCES = (1e-3, 1e-6)
# What histories and arrivals are counted in.
ALONG = ("evaluations", "iterations", "seconds")
# Differences in settings are told run by run up to so many.
MOST_TOLD = 12
# What breaks limits by less than this share of the violation allowed keeps them.
KEPT = 1e-3
# Variables listed in the JSON document, those that differ most first.
MOST_DIFFERENCES = 50
# How many evaluations one gradient counts for: reverse accumulation costs a small multiple of a value.
GRADIENT_WORTH = 3.0


@dataclass(frozen=True)
class Comparison(InNotebooks):
    """`best` is f*, as written: the best feasible objective of all runs, or the reference. `scale` turns an
    objective difference into a gap. `arrivals` [run][distance] count evaluations, None if never. `allowance`,
    one of the `notes`, says what of f* is due to the violation allowed; "" where the distances cannot tell."""

    tracks: tuple[Track, ...]
    best: float | None
    is_reference: bool
    scale: float
    gradient_worth: float
    arrivals: tuple[Mapping[float, float | None], ...]
    notes: tuple[str, ...]
    along: str = "evaluations"
    allowance: str = ""

    @property
    def problem_name(self) -> str:
        """Return the problem's title, or its file."""
        problem = self.tracks[0].problem
        return problem.title or problem.source.file

    def gap(self, track: Track) -> float | None:
        """Return the relative distance of a run's reported feasible design from f*."""
        if self.best is None or track.final_objective is None or track.final_violation > track.feasibility:
            return None
        sign = track.problem.objective.sign if track.problem.objective else 1
        return sign * (track.final_objective - self.best) / self.scale

    def _told(self, item: DesignDifference) -> list[float | str | None]:
        """Return a variable's values, the words of a choice instead of their numbers."""
        variables = self.tracks[0].problem.variables
        own = next((variable for variable in variables if variable.name == item.name and variable.words), None)
        return [value if own is None or value is None else own.shown(value) for value in item.values]

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document of `compare`."""
        objective = self.tracks[0].problem.objective
        return {
            "objective": objective.name if objective else None,
            "best": None if self.best is None else plain(self.best),
            "reference": self.is_reference,
            "gradient_worth": self.gradient_worth,
            "along": self.along,
            "runs": [
                {
                    "run": track.id,
                    "label": track.label,
                    "problem": track.problem.title or track.problem.source.file,
                    "method": track.method,
                    "outcome": track.outcome,
                    "objectives": {}
                    if objective is None or track.final_objective is None
                    else {objective.name: plain(track.final_objective)},
                    "gap": None if self.gap(track) is None else plain(self.gap(track) or 0.0),
                    "violation": plain(track.final_violation),
                    "counts": dict(track.counts),
                    "seconds": track.total_seconds,
                    "predictions": None if track.foretold is None else track.foretold.to_dict(),
                    f"{self.along}_to": {distance_text(distance): _whole(n) for distance, n in arrivals.items()},
                }
                for track, arrivals in zip(self.tracks, self.arrivals, strict=True)
            ],
            "optima": [
                {
                    "letter": item.letter,
                    "objective": plain(item.objective),
                    "runs": [self.tracks[place].id for place in item.places],
                    "same_objective_as": item.twin_of or None,
                }
                for item in final_optima(self.tracks)
            ],
            "designs": [
                {"variable": item.name, "spread": plain(item.spread), "values": self._told(item)}
                for item in sorted_differences(self.tracks)[:MOST_DIFFERENCES]
            ],
            "notes": list(self.notes),
        }


def compare(
    *runs: RunResult | str,
    ledger: Ledger | str | Path | None = None,
    reference: float | None = None,
    gradient_worth: float = GRADIENT_WORTH,
    distances: Sequence[float] = DISTANCES,
    along: str = "evaluations",
) -> Comparison:
    """Set runs side by side: results, or ids and labels in `ledger`. Groups are summed up by `judge.contest`.

    `reference` is the best objective known, as written; without it the best feasible one of the runs is
    taken. Arrivals count `along` "evaluations" (plus `gradient_worth` for each gradient), "iterations" or "seconds".
    Raises RequestError.
    """
    tracks = tracks_of(runs, ledger)
    return compared(tracks, reference=reference, gradient_worth=gradient_worth, distances=distances, along=along)


def compared(
    tracks: Sequence[Track],
    *,
    reference: float | None = None,
    gradient_worth: float = GRADIENT_WORTH,
    distances: Sequence[float] = DISTANCES,
    along: str = "evaluations",
) -> Comparison:
    """Compare tracks of one objective. Raises RequestError."""
    if along not in ALONG:
        raise RequestError(f"--along {along}: histories run along {', '.join(ALONG)}")
    if not distances or not all(0.0 < distance < math.inf for distance in distances):
        raise RequestError("--within: distances are numbers above 0, such as 1e-3,1e-6")
    if not tracks:
        raise RequestError("nothing to compare: name at least one run")
    if gradient_worth < 0.0 or not math.isfinite(gradient_worth):
        raise RequestError(f"a gradient cannot be worth {gradient_worth:g} evaluations")
    first = tracks[0].problem.objective
    for track in tracks[1:]:
        other = track.problem.objective
        if (first and (first.name, first.sign)) != (other and (other.name, other.sign)):
            raise RequestError(
                f"{tracks[0].id} and {track.id} do not pursue the same objective",
                advice="compare runs that minimize (or maximize) an objective of the same name",
            )
    sign = first.sign if first else 1
    if not tracks or first is None:
        reference = None
    best = sign * reference if reference is not None else _best(tracks)
    scale = _scale(tracks, best)
    allowance = "" if reference is not None or first is None else _allowance(tracks, scale, distances)
    return Comparison(
        tuple(tracks),
        None if best is None or first is None else sign * best + 0.0,
        reference is not None,
        scale,
        gradient_worth,
        tuple(_arrivals(track, best, scale, track.costs(along, gradient_worth), distances) for track in tracks),
        (*_notes(tracks), *([allowance] if allowance else [])),
        along,
        allowance,
    )


def tracks_of(runs: Sequence[RunResult | str], ledger: Ledger | str | Path | None) -> list[Track]:
    """Return the tracks of runs, each named once. Raises RequestError."""
    opened: Ledger | None = None
    tracks: list[Track] = []
    try:
        for item in runs:
            if isinstance(item, RunResult):
                tracks.append(track_of_result(item))
                continue
            if ledger is None:
                raise RequestError(f'"{item}" is a run of a ledger: say which with ledger=…')
            if opened is None:
                opened = ledger if isinstance(ledger, Ledger) else Ledger(ledger, read_only=True)
            record = opened.run(item)
            if any(track.id == record.id for track in tracks):
                raise RequestError(f"{record.id} is named twice")
            tracks.append(track_of_record(opened, record))
    finally:
        if opened is not None and opened is not ledger:
            opened.close()
    return tracks


def _best(tracks: Sequence[Track]) -> float | None:
    found = [float(track.objective[track.is_feasible].min()) for track in tracks if track.is_feasible.any()]
    return min(found, default=None)


def _allowance(tracks: Sequence[Track], scale: float, distances: Sequence[float]) -> str:
    """Say where the best objective is that of a design which breaks limits, as far as it may, and how much worse the
    best one that keeps them is; "" where the distances cannot tell the two apart."""
    best: tuple[float, float, Track] | None = None
    kept: tuple[float, Track] | None = None
    for track in tracks:
        values = np.where(track.is_feasible, track.objective, np.inf)
        keeping = np.where(track.violation <= KEPT * track.feasibility, values, np.inf)
        place, least = int(np.argmin(values)) if len(values) else 0, float(keeping.min(initial=np.inf))
        if values.min(initial=np.inf) < (best[0] if best else np.inf):
            best = float(values[place]), float(track.violation[place]), track
        if least < (kept[0] if kept else np.inf):
            kept = least, track
    if best is None or kept is None or (kept[0] - best[0]) / scale <= min(distances):
        return ""
    objective = best[2].problem.objective
    sign = objective.sign if objective else 1
    return (
        f"the best objective, {sign * best[0]:.10g} of {best[2].name}, is that of a design that breaks limits by "
        f"{best[1]:.2g} (allowed: {best[2].feasibility:g}); the best that keeps them is {sign * kept[0]:.10g} of "
        f"{kept[1].name}, at a gap of {(kept[0] - best[0]) / scale:.2g}: not to come closer than that is no sign of a "
        "poorer search"
    )


def _scale(tracks: Sequence[Track], best: float | None) -> float:
    """Return max(|f*|, |f₀ − f*|), f₀ the first feasible objective of the run that has the worst."""
    if best is None:
        return 1.0
    firsts = [float(track.objective[np.argmax(track.is_feasible)]) for track in tracks if track.is_feasible.any()]
    return max(abs(best), abs(max(firsts, default=best) - best)) or 1.0


def _arrivals(
    track: Track, best: float | None, scale: float, costs: FloatArray, distances: Sequence[float]
) -> dict[float, float | None]:
    arrivals: dict[float, float | None] = {}
    for distance in distances:
        arrivals[distance] = None
        if best is None:
            continue
        with np.errstate(invalid="ignore"):
            reached = track.is_feasible & (track.objective - best <= distance * scale)
        if reached.any():
            arrivals[distance] = float(costs[int(np.argmax(reached))])
    return arrivals


def _starts_told(problem: Problem) -> dict[str, Any]:
    """Return the starts given, those of choices by their words."""
    found: dict[str, Any] = dict(problem.start_overrides)
    choices = [block for block in problem.blocks if block.words and block.name in found]
    return found | {block.name: block.shown(float(found[block.name])) for block in choices}


def _treated(problem: Problem) -> str:
    """Return how what evolves was treated, and in how many steps."""
    if not problem.is_collocated:
        return "simulated" if problem.is_over_time else "nothing evolves"
    count = sum(len(axis.taus) - 1 for axis in problem.template.built_axes)
    return f"{problem.refinement.scheme}, {count} intervals"


def _variable_names(problem: Problem) -> frozenset[str]:
    """Return the names of a problem's variables; a control, which may stand at other moments in another run, is one."""
    controls = {item.name for item in problem.template.declarations.controls} if problem.is_over_time else set()
    found = {block.name for block in problem.blocks if block.name in controls}
    for block in problem.blocks:
        if not block.is_grid and block.name not in controls:
            found.update(item.name for item in problem.variables[block.first : block.first + block.size])
    return frozenset(found)


def _notes(tracks: Sequence[Track]) -> list[str]:
    """Return what differs in what was asked, in words."""
    if len(tracks) > MOST_TOLD:
        return []
    notes = []
    if len({track.problem.source.text for track in tracks}) > 1:
        notes.append("the problem files differ between the runs")
    asked = [shlex.join(track.problem.aim.flags()) for track in tracks]
    if len(set(asked)) > 1:
        told = "; ".join(f"{track.id}: {words or 'nothing'}" for track, words in zip(tracks, asked, strict=True))
        notes.append(f"asked beside the file: {told}")
    for what, values in (
        ("parameters set", [dict(track.problem.overrides) for track in tracks]),
        ("starts set", [_starts_told(track.problem) for track in tracks]),
    ):
        if any(value != values[0] for value in values):
            told = "; ".join(f"{track.id}: {_assignments(value)}" for track, value in zip(tracks, values, strict=True))
            notes.append(f"{what}: {told}")
    for key in ("tolerance", "feasibility", "seed", "target", "derivatives", "evaluations", "iterations", "seconds"):
        settings = [track.settings.get(key) for track in tracks]
        if any(value != settings[0] for value in settings):
            values_told = (f"{t.id}: {'none' if v is None else v}" for t, v in zip(tracks, settings, strict=True))
            notes.append(f"{key}: " + "; ".join(values_told))
    options = [track.settings.get("options") or {} for track in tracks]
    if any(options):
        values_told = (f"{t.id}: {_options(o)}" for t, o in zip(tracks, options, strict=True) if o)
        notes.append("options: " + "; ".join(values_told))
    names = [_variable_names(track.problem) for track in tracks]
    if len(set(names)) > 1:
        shared = frozenset.intersection(*names)
        values_told = (f"{t.id} alone has {len(known - shared)}" for t, known in zip(tracks, names, strict=True))
        notes.append(f"variables differ: {len(shared)} are shared; " + ", ".join(values_told))
    if any(track.problem.is_collocated for track in tracks):
        notes.append("over time: " + "; ".join(f"{track.id}: {_treated(track.problem)}" for track in tracks))
    if len({bool(track.settings.get("scaling")) for track in tracks}) > 1:
        off = ", ".join(track.id for track in tracks if not track.settings.get("scaling"))
        notes.append(f"without scaling: {off}")
    return notes


def distance_text(distance: float) -> str:
    """Return a distance as it is written in tables and keys: "1e-3"."""
    return (
        f"{distance:.0e}".replace("e-0", "e-")
        if f"{distance:.0e}" == f"{distance:.3e}".replace(".000", "")
        else f"{distance:g}"
    )


def _whole(value: float | None) -> float | int | None:
    return None if value is None else math.ceil(value) if value >= 1.0 or value == int(value) else value


def _options(values: object) -> str:
    return ", ".join(f"{name}={value}" for name, value in dict(values).items())  # type: ignore[call-overload]


def _assignments(values: Mapping[str, Any]) -> str:
    def told(value: Any) -> str:
        if isinstance(value, str):
            return value
        return f"[{len(value)} values]" if isinstance(value, list) else f"{value:g}"

    return ", ".join(f"{name}={told(value)}" for name, value in values.items()) or "none"

"""The command line that makes a run on record again: as it was, by another method, or from where it came to."""

from __future__ import annotations

import json
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ilvren.problem import AS_USUAL, Aim
from ilvren.runs.settings import Settings

if TYPE_CHECKING:
    from ilvren.ledger import RunRecord

__all__ = ["GIVEN_PLANS", "command_again", "on_file_again", "sample_again", "sweep_again"]

# Plans of a sample whose designs `sensitivity` takes.
STUDIES = frozenset({"variance", "elementary-effects"})
# Those that no command makes anew: they were given, or found on the way.
GIVEN_PLANS = frozenset({"own-designs", "infill"})


def command_again(
    record: RunRecord, *, method: str | None = None, begins: str = "as-before", is_bare: bool = False
) -> str:
    """Return the command that makes a run again, of a sample the command that does.

    It begins "as-before", at the design that the run found ("best", its values written out) or where the run ended
    ("from-run", which takes its multipliers, too). With another `method` the options stay out, which are those of the
    run's own; "automatic" lets the problem choose. `is_bare`: nothing that limits or tunes a run is repeated.
    """
    if "sample" in record.overrides and begins == "as-before":
        return sample_again(record)
    settings = Settings.from_dict(record.settings)
    asked = settings.method if "sample" not in record.overrides else "automatic"
    method = asked if method is None else method
    words = ["ilvren", "run", record.problem_file]
    words += [] if method == "automatic" else ["--method", method]
    if method == asked:
        words += [word for name, value in settings.options.items() for word in ("--option", f"{name}={value}")]
    words += _as_asked(record)
    for values in record.overrides.get("stages", {}).values():
        words += ["--stage", ",".join(f"{name}={json.dumps(value)}" for name, value in values.items())]
    if begins != "from-run":
        words += [word for reference in record.overrides.get("known", ()) for word in ("--known", reference)]
    words += [*_looked_at(record), *_on(record)]
    words += ["--from", record.id] if begins == "from-run" else _starts(record, is_best=begins == "best")
    return shlex.join(words if is_bare else [*words, *_tuned(settings)])


def on_file_again(record: RunRecord, command: str, *more: str) -> str:
    """Return another command on a run's problem as the run saw it; `check` at its start."""
    is_check = command == "check"
    words = ["ilvren", command, record.problem_file, *_as_asked(record, with_only=not is_check)]
    return shlex.join([*words, *(_starts(record, is_best=False) if is_check else []), *more])


def sample_again(record: RunRecord) -> str:
    """Return the command that makes a sample again."""
    from ilvren.problem import name_in

    facts = record.overrides["sample"]
    if facts["plan"] in STUDIES:
        words = ["ilvren", "sensitivity", record.problem_file, "--kind", str(facts["plan"])]
        words += ["--evaluations", str(facts["points"])]
        words += ["--seed", str(facts["seed"])] if facts.get("seed") else []
        return shlex.join([*words, *_given("--set", record.overrides.get("set", {}))])
    words = ["ilvren", "sample", record.problem_file]
    if "file" in facts or facts["plan"] in GIVEN_PLANS:
        file = str(facts.get("file", f"{record.id}.csv"))
        words += ["--csv", file, *(["--measured"] if "measured" in facts else [])]
    else:
        words += ["--plan", str(facts["plan"])]
        words += ["--points", str(facts["points"])] if facts.get("points") is not None else []
        words += ["--seed", str(facts["seed"])] if facts.get("seed") else []
        for name, value in (facts.get("options") or {}).items():
            words += ["--option", f"{name}={value}"]
        words += ["--feasible"] if facts.get("feasible") else []
    aim = record.overrides.get("aim", {})
    words += Aim.from_dict(aim).flags()
    words += ["--on", name_in(aim["on"])] if aim.get("on") else []
    words += ["--slopes"] if facts.get("slopes") else []
    return shlex.join([*words, *_given("--set", record.overrides.get("set", {}))])


def sweep_again(plan: Mapping[str, Any], words: Sequence[str] = ()) -> str:
    """Return the command that makes a sweep again, from its group's plan; `words` are those of a choice swept over."""
    settings, stored = Settings.from_dict(plan["settings"]), plan["problems"][0]
    told = ", ".join(words[round(value) - 1] if words else f"{value:.12g}" for value in plan["values"])
    found = ["ilvren", "run", stored["file"], "--sweep", f"{plan['parameter']}=[{told}]"]
    found += [] if settings.method == "automatic" else ["--method", settings.method]
    found += [word for name, value in settings.options.items() for word in ("--option", f"{name}={value}")]
    found += [
        *Aim.from_dict(stored["aim"]).flags(),
        *_given("--set", stored["set"]),
        *_given("--start", stored["start"]),
    ]
    # A sweep looks again nowhere unless it is asked to.
    usual = Settings(method=settings.method).second_look
    return shlex.join([*found, *_tuned(settings if settings.second_look else replace(settings, second_look=usual))])


def _as_asked(record: RunRecord, *, with_only: bool = True) -> list[str]:
    """Return the flags that say what is asked of the file: aims and parameters."""
    aim = Aim.from_dict(record.overrides.get("aim", {}))
    values = record.overrides["before"] if record.overrides.get("stages") else record.overrides.get("set", {})
    return [*aim.flags(with_only=with_only), *_given("--set", values)]


def _starts(record: RunRecord, *, is_best: bool) -> list[str]:
    has_result = is_best and record.result is not None
    values = record.result["variables"] if has_result and record.result else record.overrides.get("start", {})
    assert isinstance(values, Mapping)
    return _given("--start", values)


def _given(flag: str, values: Mapping[str, Any]) -> list[str]:
    return [word for name, value in values.items() for word in (flag, f"{name}={json.dumps(value)}")]


def _on(record: RunRecord) -> list[str]:
    """Return the approximation that was searched, and in how many rounds."""
    told: Mapping[str, Any] = record.overrides.get("on", {})
    if not told:
        return []
    return ["--on", str(told["name"]), *(["--rounds", str(told["rounds"])] if told["rounds"] > 1 else [])]


def _looked_at(record: RunRecord) -> list[str]:
    """Return how what evolves is treated, and how many scenarios are searched."""
    told: Mapping[str, Any] = record.overrides.get("time_first", record.overrides.get("time", {}))
    words = ["--scheme", str(told["scheme"])] if told.get("scheme") else []
    words += ["--steps", str(told["steps"])] if told.get("steps") else []
    words += ["--time-tolerance", f"{told['tolerance']:g}"] if told.get("tolerance") is not None else []
    scenarios = told.get("scatter", {}).get("scenarios", AS_USUAL.scenarios)
    return words + (["--scenarios", str(scenarios)] if scenarios != AS_USUAL.scenarios else [])


def _tuned(settings: Settings) -> list[str]:
    """Return the flags of all settings that are not the usual ones."""
    usual = Settings(method=settings.method)
    words = []
    numbers = ("tolerance", "feasibility", "target", "evaluations", "iterations", "seconds", "patience", "points")
    for name in (*numbers, "seed", "second_look", "derivatives"):
        value = getattr(settings, name)
        if value is not None and value != getattr(usual, name):
            words += [f"--{name.replace('_', '-')}", str(value)]
    if settings.reference_point:
        corner = ",".join(f"{name}={value!r}" for name, value in settings.reference_point.items())
        words += ["--reference-point", corner]
    words += ["--from-ends"] if settings.ends_first else []
    words += [] if settings.scaling else ["--no-scaling"]
    return [*words, *(["--fresh"] if settings.fresh else [])]

"""Whose models a ledger may run: those of runs that this user recorded, and others only when told to.

A ledger can come from anywhere, and its runs name programs and functions. So a run with models is signed with a key
that only its user has; what bears no such signature is shown from the record, but its models are not run. The key lies
beside the user's other settings, readable by nobody else.
"""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import json
import os
import secrets
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.errors import RequestError
from ilvren.models import is_trusting

if TYPE_CHECKING:
    from ilvren.ledger import RunRecord
    from ilvren.problem import Problem

__all__ = ["refusal_of", "refuse_plan", "signature_of"]

KEY_BYTES = 32
MOST_TOLD = 4


def signature_of(problem: Problem, models: dict[str, dict[str, str]]) -> str:
    """Return the signature of a run that is recorded here, "" for one without models or where no key can be kept."""
    if not models:
        return ""
    key = _key(is_new_allowed=True)
    return "" if key is None else _signed(key, problem.source.text, problem.source.file, models)


def refusal_of(record: RunRecord, problem: Problem) -> str:
    """Return why the models of a recorded run may not be run, "" where they may."""
    models = {name: dict(files) for name, files in record.models.items()}
    signature = str(record.overrides.get("signature", {}).get("hmac", ""))
    return _refusal(record.id, record.problem_text, record.problem_file, models, signature, problem)


def refuse_plan(group: str, stored: Mapping[str, Any], problem: Problem) -> None:
    """Raise RequestError where the models of a problem that a group's plan has `stored` may not be run."""
    models = stored.get("models", {})
    refusal = _refusal(group, stored["text"], stored["file"], models, str(stored.get("signature", "")), problem)
    if refusal:
        raise RequestError(refusal, advice="look at what it is, and add --trust to run it")


def _refusal(
    who: str, text: str, file: str, models: dict[str, dict[str, str]], signature: str, problem: Problem
) -> str:
    if not models or is_trusting():
        return ""
    key = _key(is_new_allowed=False)
    if key is not None and signature and hmac.compare_digest(_signed(key, text, file, models), signature):
        return ""
    own = problem.confirmation
    sources = [*problem.sources, *(own.sources if own is not None else ())]
    told = list(dict.fromkeys(source.told for source in sources))
    more = f" and {len(told) - MOST_TOLD} more" if len(told) > MOST_TOLD else ""
    return f"{who} was not recorded by you, and this would run {', '.join(told[:MOST_TOLD])}{more}"


def _signed(key: bytes, text: str, file: str, models: dict[str, dict[str, str]]) -> str:
    said = json.dumps([text, file, models], sort_keys=True).encode()
    return hmac.new(key, said, hashlib.sha256).hexdigest()


def _key(*, is_new_allowed: bool) -> bytes | None:
    """Return the user's key, made when it is first needed; None where it can be neither read nor made."""
    home = os.environ.get("XDG_CONFIG_HOME") or os.path.join(os.path.expanduser("~"), ".config")
    found = _key_in(Path(home) / "ilvren", is_new_allowed=is_new_allowed)
    if found is not None or os.environ.get("XDG_CONFIG_HOME") or not hasattr(os, "getuid"):
        return found
    # A home that cannot be written: one's own folder among those that pass, as long as it lasts.
    return _key_in(Path(tempfile.gettempdir()) / f"ilvren-key-{os.getuid()}", is_new_allowed=is_new_allowed)


def _key_in(folder: Path, *, is_new_allowed: bool) -> bytes | None:
    path = folder / "key"
    try:
        if hasattr(os, "getuid") and path.stat().st_uid != os.getuid():
            return None  # somebody else's
        return path.read_bytes()
    except FileNotFoundError:
        if not is_new_allowed:
            return None
    except OSError:
        return None
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        partial = path.with_name(f"key.{os.getpid()}")
        handle = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as stream:
            stream.write(secrets.token_bytes(KEY_BYTES))
        with contextlib.suppress(FileExistsError):  # whoever is first has made the key
            os.link(partial, path)
        partial.unlink()
        return path.read_bytes()
    except OSError:
        return None

"""Doors of packages: their public names, each fetched from its home when it is first used, so that a command pays only
for what it needs.

A package's `__init__.py` says `__getattr__, __all__ = door(__name__, {"home": "Name …"})`, and imports the same names
for type checkers. Other packages import names from the door alone. No public name may be that of a module beside it:
which of the two it meant would depend on what was imported before.
"""

from __future__ import annotations

TYPE_CHECKING = False  # as type checkers read it; importing typing would double the time of `ilvren --help`
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

__all__ = ["door"]


def door(package: str, homes: Mapping[str, str]) -> tuple[Callable[[str], object], list[str]]:
    """Return a package's `__getattr__` and its public names, where `homes` says which module of it has which names,
    separated by spaces."""
    home_of = {name: home for home, names in homes.items() for name in names.split()}

    def fetched(name: str) -> object:
        home = home_of.get(name)
        if home is None:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        import sys
        from importlib import import_module

        value = getattr(import_module(f"{package}.{home}"), name)
        setattr(sys.modules[package], name, value)  # from now on it is there
        return value

    return fetched, sorted(home_of)

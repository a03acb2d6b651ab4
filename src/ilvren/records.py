"""Dataclasses whose methods are written when they are first needed.

`dataclasses.dataclass` writes and compiles up to six functions for every class when its module is imported. That was
half of the time of a small run, spent mostly on classes that the run never makes one of, and on comparisons that
nobody asks for. The `dataclass` here promises the same, and lets `dataclasses` keep it in two steps, each at its first
use: what makes an instance and knows the fields, then what prints, compares and hashes. Classes with `slots` are made
anew by `dataclasses`, which cannot be put off, and heirs of other dataclasses are few: both are complete at once.
"""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from dataclasses import dataclass as dataclass
else:
    from _thread import RLock

    __all__ = ["dataclass"]

    _completing = RLock()
    _MAKING = ("__init__", "__dataclass_fields__", "__match_args__")
    _COMPARING = ("__repr__", "__eq__", "__hash__", "__lt__", "__le__", "__gt__", "__ge__")

    def dataclass(cls=None, /, **options):
        """Return the class as a dataclass; the options are those of `dataclasses.dataclass`."""
        if cls is None:
            return lambda own: dataclass(own, **options)
        is_heir = any("__dataclass_fields__" in base.__dict__ for base in cls.__mro__[1:])
        if options.get("slots") or options.get("unsafe_hash") or is_heir:
            from dataclasses import dataclass as completed

            return completed(**options)(cls)
        _Deferred(cls, options)
        return cls

    class _Deferred:
        """Stands in for the methods and the fields of a class until they are asked for."""

        def __init__(self, cls, options):
            self.cls, self.options = cls, options
            own = cls.__dict__
            self.given = {name: own[name] for name in own.get("__annotations__", ()) if name in own}
            self.hooks = {}
            asked = {
                "__repr__": options.get("repr", True),
                **dict.fromkeys(("__eq__", "__hash__"), options.get("eq", True)),
            }
            for name in (*_MAKING, *_COMPARING):
                if name in own or not (name in _MAKING or asked.get(name, options.get("order", False))):
                    continue
                self.hooks[name] = _Asked(self, name) if name in _MAKING[1:] else self._calling(name)
                setattr(cls, name, self.hooks[name])

        def _calling(self, name):
            def first(this, *args, **given):
                self.complete(name)
                return getattr(self.cls, name)(this, *args, **given)

            return first

        def complete(self, name):
            """Write what `name` belongs to, and what comes before it."""
            with _completing:
                if self._drop(_MAKING):
                    self._written(repr=False, eq=False, order=False)
                if name in _COMPARING and self._drop(_COMPARING):
                    self._compared()

        def _drop(self, names):
            found = [name for name in names if self.hooks.pop(name, None) is not None]
            for name in found:
                delattr(self.cls, name)
            return bool(found)

        def _written(self, **options):
            from dataclasses import dataclass as completed

            completed(**{**self.options, **options})(self.cls)

        def _compared(self):
            is_frozen = self.options.get("frozen", False)
            parameters = self.cls.__dataclass_params__
            for name, value in self.given.items():
                setattr(self.cls, name, value)  # as it was declared: the first step has left the defaults alone
            has_hash = is_frozen and self.options.get("eq", True) and "__hash__" not in self.cls.__dict__
            self._written(init=False, frozen=False, unsafe_hash=has_hash, match_args=False)
            self.cls.__dataclass_params__ = parameters

    class _Asked:
        """An attribute of a class that is written when it is read."""

        def __init__(self, deferred, name):
            self.deferred, self.name = deferred, name

        def __get__(self, this, owner):
            self.deferred.complete(self.name)
            return getattr(self.deferred.cls, self.name)

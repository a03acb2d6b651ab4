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
        """Stands in for the methods and the fields of a class until they are asked for.

        What `dataclasses` writes is written for a class made for that alone, and put in place name by name: there is no
        moment at which another thread finds neither the stand-in nor the method.
        """

        def __init__(self, cls, options):
            self.cls, self.options, self.is_made, self.is_compared = cls, options, False, False
            own = cls.__dict__
            self.declared = {
                name: own[name] for name in ("__module__", "__qualname__", "__annotations__") if name in own
            }
            self.declared |= {name: own[name] for name in own.get("__annotations__", ()) if name in own}
            asked = {name: options.get("order", False) for name in _COMPARING}
            asked |= {
                "__repr__": options.get("repr", True),
                **dict.fromkeys(("__eq__", "__hash__"), options.get("eq", True)),
            }
            self.compared = [name for name in _COMPARING if asked[name] and name not in own]
            self.has_init = "__init__" in own
            for name in (*(() if self.has_init else ("__init__",)), *self.compared):
                setattr(cls, name, self._calling(name))
            for name in ("__dataclass_fields__", "__match_args__"):
                setattr(cls, name, _Asked(self, name))

        def _calling(self, name):
            def first(this, *args, **given):
                self.complete(name)
                return getattr(self.cls, name)(this, *args, **given)

            return first

        def complete(self, name):
            """Write what `name` belongs to, and what comes before it."""
            with _completing:
                if not self.is_made:
                    self._make()
                    self.is_made = True
                if name in self.compared and not self.is_compared:
                    self._compare()
                    self.is_compared = True

        def _written(self, **options):
            from dataclasses import dataclass as completed

            names = dict(self.declared)
            if hasattr(self.cls, "__post_init__"):
                names["__post_init__"] = self.cls.__post_init__
            return completed(**{**self.options, **options})(type(self.cls.__name__, (), names))

        def _make(self):
            from dataclasses import MISSING, FrozenInstanceError

            def refused(this, name, *value):
                raise FrozenInstanceError(f"cannot {'assign to' if value else 'delete'} field {name!r}")

            cls, made = self.cls, self._written(init=not self.has_init, repr=False, eq=False, order=False)
            for name, own in made.__dataclass_fields__.items():
                if own is self.declared.get(name):
                    delattr(cls, name) if own.default is MISSING else setattr(cls, name, own.default)
            for name in ("__dataclass_params__", "__match_args__", "__dataclass_fields__"):
                setattr(cls, name, getattr(made, name))
            if self.options.get("frozen"):
                cls.__setattr__ = cls.__delattr__ = refused
            if not self.has_init:
                cls.__init__ = made.__init__

        def _compare(self):
            is_frozen = self.options.get("frozen", False)
            made = self._written(init=False, frozen=False, unsafe_hash=is_frozen and "__hash__" in self.compared)
            for name in self.compared:
                setattr(self.cls, name, getattr(made, name))

    class _Asked:
        """An attribute of a class that is written when it is read."""

        def __init__(self, deferred, name):
            self.deferred, self.name = deferred, name

        def __get__(self, this, owner):
            self.deferred.complete(self.name)
            return getattr(self.deferred.cls, self.name)

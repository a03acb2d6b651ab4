"""Dataclasses whose methods are written when they are first needed.

`dataclasses.dataclass` writes and compiles up to six functions for every class when its module is imported. That was
half of the time of a small run, spent mostly on classes that the run never makes one of. The `dataclass` here promises
the same and keeps it at first use: what is asked for first (an instance, a comparison, the fields) completes the class.
Classes with `slots` are made anew by `dataclasses`, which cannot be put off: they are complete at once.
"""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from dataclasses import dataclass as dataclass
else:
    from _thread import RLock

    __all__ = ["dataclass"]

    _completing = RLock()

    def dataclass(cls=None, /, **options):
        """Return the class as a dataclass; the options are those of `dataclasses.dataclass`."""
        if cls is None:
            return lambda own: dataclass(own, **options)
        if options.get("slots"):
            from dataclasses import dataclass as completed

            return completed(**options)(cls)
        _Deferred(cls, options)
        return cls

    class _Deferred:
        """Stands in for the methods and the fields of a class until one of them is asked for."""

        def __init__(self, cls, options):
            self.cls, self.options, self.hooks = cls, options, {}
            names = ["__init__"]
            if options.get("repr", True):
                names.append("__repr__")
            if options.get("eq", True):
                names += ["__eq__", "__hash__"]
            if options.get("order"):
                names += ["__lt__", "__le__", "__gt__", "__ge__"]
            for name in names:
                if name not in cls.__dict__:
                    self.hooks[name] = self._calling(name)
                    setattr(cls, name, self.hooks[name])
            for name in ("__dataclass_fields__", "__match_args__"):
                self.hooks[name] = _Asked(self, name)
                setattr(cls, name, self.hooks[name])

        def _calling(self, name):
            def first(this, *args, **given):
                self.complete()
                return getattr(self.cls, name)(this, *args, **given)

            return first

        def complete(self):
            """Make the class what it was declared as."""
            with _completing:
                if self.hooks:
                    from dataclasses import dataclass as completed

                    for name, hook in self.hooks.items():
                        if self.cls.__dict__.get(name) is hook:
                            delattr(self.cls, name)
                    self.hooks = {}
                    completed(**self.options)(self.cls)

    class _Asked:
        """An attribute of a class that completes it when it is read."""

        def __init__(self, deferred, name):
            self.deferred, self.name = deferred, name

        def __get__(self, this, owner):
            self.deferred.complete()
            return getattr(self.deferred.cls, self.name)

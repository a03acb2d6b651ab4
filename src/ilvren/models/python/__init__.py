"""Models that are Python functions: read without being run, called, and followed for their derivatives."""

from ilvren.models.python.signature import arguments_of, read_python
from ilvren.models.python.source import PythonSource

__all__ = ["PythonSource", "arguments_of", "read_python"]

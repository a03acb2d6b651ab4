"""The version of this program, as runs and reports tell it."""

__all__ = ["__version__"]

__version__ = "0.1.0"

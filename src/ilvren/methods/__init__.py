"""Optimizers, one per file: arrays in, requests and iterates out.

A method knows arrays and its options; never the model, a file, a clock, a budget or a worker.
This file imports nothing, so that the names of methods are known without importing any of them.
"""

__all__: list[str] = []

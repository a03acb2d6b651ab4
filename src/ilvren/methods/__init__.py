"""Optimizers, one per file: arrays in, requests and iterates out.

A method knows arrays and its options; never the model, a file, a clock, a budget or a worker.
This file imports nothing, so that the names of methods are known without importing any of them.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.methods.base import (
        COSTLY_SECONDS as COSTLY_SECONDS,
        FRONT as FRONT,
        LOW_AS_WRITTEN as LOW_AS_WRITTEN,
        SLOPES as SLOPES,
        VALUES as VALUES,
        Arrived as Arrived,
        Assessment as Assessment,
        Checkpoint as Checkpoint,
        Ending as Ending,
        HessianRequest as HessianRequest,
        Iterate as Iterate,
        Known as Known,
        Looked as Looked,
        Method as Method,
        Optimum as Optimum,
        Protocol as Protocol,
        Reply as Reply,
        Request as Request,
        Task as Task,
        Tight as Tight,
        Want as Want,
        method_named as method_named,
        method_names as method_names,
    )
    from ilvren.methods.pieces.options import describe as describe, options_from as options_from

__getattr__, __all__ = door(
    __name__,
    {
        "base": (
            "Arrived Assessment COSTLY_SECONDS Checkpoint Ending FRONT HessianRequest Iterate Known LOW_AS_WRITTEN "
            "Looked Method Optimum Protocol Reply Request SLOPES Task Tight VALUES Want method_named method_names"
        ),
        "pieces.options": "describe options_from",
    },
)

"""Approximations as models: the document that describes one. Their values are formulas, and nothing is ever called."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.models.approximation.document import (
        FORM as FORM,
        Group as Group,
        LearntInput as LearntInput,
        document_from as document_from,
        group_for as group_for,
    )

__getattr__, __all__ = door(
    __name__,
    {
        "document": "FORM Group LearntInput document_from group_for",
    },
)

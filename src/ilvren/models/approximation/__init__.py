"""Approximations as models: the document that describes one. Their values are formulas, and nothing is ever called."""

from ilvren.models.approximation.document import FORM, Group, LearntInput, document_from, group_for

__all__ = ["FORM", "Group", "LearntInput", "document_from", "group_for"]

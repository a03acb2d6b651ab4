"""Runs as sets of designs: tables, ranks and filters. Knows runs and what they may know; prints and plots nothing."""

from ilvren.explore.designs import Design, DesignTable, designs_of, held_by

__all__ = ["Design", "DesignTable", "designs_of", "held_by"]

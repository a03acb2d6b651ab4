"""Whether the trade-offs that a run reports are ones: each member as a problem of its own, and the front as a whole.

Knows fronts on record; never how they were found.
"""

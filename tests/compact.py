"""How much of "everything by everything" a run of the suite tries: a part of it that has each of the one and each of
the other, or all with ILVREN_TESTS=whole (`make test-whole`)."""

import os
import unittest

WHOLE = os.environ.get("ILVREN_TESTS") == "whole"


# Of what another test tries too, in less time.
only_in_whole = unittest.skipUnless(WHOLE, "another of the kind is quicker")


def chosen(first, second, of):
    """Return whether to try the pair of the `first` and the `second` of two lists, of `of` pairs one."""
    return WHOLE or (first + second) % of == 0


def pairs(ones, others, of=2):
    """Return pairs of the two lists: of so many one, or all."""
    return [(a, b) for i, a in enumerate(ones) for j, b in enumerate(others) if chosen(i, j, of)]


def some(items, of=2, first=0):
    """Return of so many items one, from the `first` on, or all."""
    return list(items) if WHOLE else list(items)[first::of]


def tries(count):
    """Return how many of so many random cases are tried: a third of them, or all."""
    return count if WHOLE else (count + 2) // 3


def parted(items, test):
    """Return every third of the items, beginning with one of the first three as the name of the test has it, so that
    all are tried by one test or another; or all."""
    return some(items, 3, len(test) % 3)

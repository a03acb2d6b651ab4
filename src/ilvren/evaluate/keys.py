"""What tells one design from another: its bytes, or a digest of them where vectors are long."""

from __future__ import annotations

import hashlib

import numpy as np
from numpy.typing import NDArray

__all__ = ["LONGEST_KEY", "digest_of", "key_of"]

# Designs of more bytes than this are known by their digests.
LONGEST_KEY = 8_192
# The last design whose digest was made: it is asked for several times, and comparing is quicker.
_last: tuple[bytes, bytes] = (b"", hashlib.blake2b(b"", digest_size=16).digest())


def key_of(point: NDArray[np.float64]) -> bytes:
    """Return the key of a design (n,): equal exactly where all bits are."""
    whole = point.tobytes()
    return whole if len(whole) <= LONGEST_KEY else digest_of(whole)


def digest_of(whole: bytes) -> bytes:
    """Return the digest of a design's bytes."""
    global _last
    before, digest = _last
    if whole != before:
        digest = hashlib.blake2b(whole, digest_size=16).digest()
        _last = whole, digest
    return digest

"""The values of the operation `level`: see `levels`, whose (1) and (2) these are."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["level_value"]

Array = NDArray[Any]

# Steps that bring (1) to its root: Newton's, or halving where these leave the bracket.
MOST_STEPS, CLOSE = 80, 1e-14


def level_value(detail: Any, f: Array, h: Array) -> Array:
    """Return (1) or (2) along the axis `rank` from the end. detail: (rank of f, 0, share). Shapes: f (…, count), h and
    the result without that axis."""
    rank, _, share = detail
    rows = np.moveaxis(f, -rank, -1)
    width = np.broadcast_to(h, rows.shape[:-1])[..., np.newaxis]
    with np.errstate(all="ignore"):
        if share >= 1.0:
            top = rows.max(axis=-1)
            soft = top + width[..., 0] * np.log(np.exp((rows - top[..., np.newaxis]) / width).sum(axis=-1))
            return np.asarray(np.where(width[..., 0] > 0.0, soft, top))
        exact = np.asarray(np.quantile(rows, share, axis=-1))
        if not (width > 0.0).any():
            return exact
        return np.where(width[..., 0] > 0.0, _root(rows, width, share, exact), exact)


def _root(rows: Array, width: Array, share: float, start: Array) -> Array:
    shift = width[..., 0] * np.log(share / (1.0 - share))  # where all are equal, it is this far from them
    low, high = rows.min(axis=-1) + shift, rows.max(axis=-1) + shift
    q = np.clip(start + shift * 0.0, low, high)
    n = rows.shape[-1]
    for _ in range(MOST_STEPS):
        t = np.tanh(0.5 * (q[..., np.newaxis] - rows) / width)
        rest = 0.5 + 0.5 * t.sum(axis=-1) / n - share
        slope = 0.25 * (1.0 - t * t).sum(axis=-1) / n / width[..., 0]
        low, high = np.where(rest < 0.0, q, low), np.where(rest > 0.0, q, high)
        newton = q - rest / slope
        following = np.where((newton > low) & (newton < high), newton, 0.5 * (low + high))
        done = (np.abs(following - q) <= CLOSE * np.maximum(np.abs(q), width[..., 0])) | (rest == 0.0)
        q = np.where(rest == 0.0, q, following)
        if done.all():
            break
    return np.where(np.isfinite(rows).all(axis=-1), q, np.nan)

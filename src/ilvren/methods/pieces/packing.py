"""A method's state as plain arrays: random generators and quadratic models."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.pieces.quadratics import Quadratics

__all__ = ["packed_generator", "packed_models", "unpacked_generator", "unpacked_models"]

_PARTS = ("centre", "radius", "c", "g", "h")
_WORD = 1 << 64


def packed_generator(rng: np.random.Generator) -> NDArray[np.uint64]:
    """Return the state of a generator of the usual kind (PCG64) as six numbers. It is (6,)."""
    state: Any = rng.bit_generator.state
    own = state["state"]
    parts = [divmod(own["state"], _WORD), divmod(own["inc"], _WORD), (state["has_uint32"], state["uinteger"])]
    return np.array([number for pair in parts for number in pair], dtype=np.uint64)


def unpacked_generator(packed: NDArray[np.uint64]) -> np.random.Generator:
    """Return the generator of a state. `packed` is (6,)."""
    high, low, inc_high, inc_low, has, number = (int(value) for value in packed)
    rng = np.random.default_rng(0)
    rng.bit_generator.state = {
        "bit_generator": "PCG64",
        "state": {"state": high * _WORD + low, "inc": inc_high * _WORD + inc_low},
        "has_uint32": has,
        "uinteger": number,
    }
    return rng


def packed_models(models: Quadratics | None) -> dict[str, NDArray[Any]]:
    """Return models as arrays by name; none for None. Arrays have the shapes of the models' own."""
    return {} if models is None else {f"model_{part}": getattr(models, part) for part in _PARTS}


def unpacked_models(state: Mapping[str, NDArray[Any]]) -> Quadratics | None:
    """Return the models among a state's arrays, or None. Arrays have the shapes of the models' own."""
    return Quadratics(*(state[f"model_{part}"] for part in _PARTS)) if "model_c" in state else None

"""How scattered quantities hang together: a Gaussian copula over names, and a reach along the places of a vector.

Every quantity a has as many independent standard normal numbers ε_a as it has places (one, where all places scatter by
the same amount). With Γ the correlations of the names, and L_a a factor of those along a's places,

    z_a = L_a Σ_b (Γ^½)_ab ε_b,        corr(z_a,i , z_a,j) = exp(−(|i − j|/reach)²)                     (1)

so that each ε_a is what is a's own (of all independent numbers those closest to z). A rank correlation ρ of Spearman's
is brought about by the correlation 2 sin(πρ/6) of the normals, whatever the laws are.

Sources: K. Pearson, "On further methods of determining correlation", 1907 (ranks of normals); R. B. Nelsen, "An
introduction to copulas", 2006.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["Dependence", "dependence"]

FloatArray = NDArray[np.float64]

# An eigenvalue below this says that no quantities are correlated so.
LEAST = -1e-9


@dataclass(frozen=True)
class Dependence:
    """`names` of quantities, with `sizes` independent numbers each; `root` (p, p) is Γ^½, and `along` {name: L_a}."""

    names: tuple[str, ...]
    sizes: tuple[int, ...]
    root: FloatArray
    along: Mapping[str, FloatArray]

    @property
    def dimension(self) -> int:
        """Return how many independent numbers there are."""
        return sum(self.sizes)

    @property
    def slices(self) -> dict[str, slice]:
        """Return where each quantity's own numbers stand."""
        found, first = {}, 0
        for name, size in zip(self.names, self.sizes, strict=True):
            found[name] = slice(first, first + size)
            first += size
        return found

    def normals(self, own: FloatArray) -> dict[str, FloatArray]:
        """Return {name: z (k, size)} from independent numbers (k, dimension)."""
        places, found = self.slices, {}
        for a, name in enumerate(self.names):
            z = None
            for b, other in enumerate(self.names):
                if self.root[a, b] != 0.0:
                    part = own[:, places[other]]
                    part = part if self.root[a, b] == 1.0 else self.root[a, b] * part
                    z = part if z is None else z + part
            assert z is not None
            found[name] = z @ self.along[name].T if name in self.along else z
        return found

    def vjp(self, slopes: Mapping[str, FloatArray]) -> FloatArray:
        """Return slopes (k, dimension) by the independent numbers from those {name: (k, size)} by z."""
        places = self.slices
        count = len(next(iter(slopes.values())))
        found = np.zeros((count, self.dimension))
        for a, name in enumerate(self.names):
            own = slopes[name] @ self.along[name] if name in self.along else slopes[name]
            for b, other in enumerate(self.names):
                if self.root[a, b] != 0.0:
                    found[:, places[other]] += self.root[a, b] * own
        return found


def dependence(
    sizes: Mapping[str, int],
    pairs: Sequence[tuple[str, str, float]],
    places: Mapping[str, tuple[FloatArray, float]],
) -> Dependence | str:
    """Return how quantities hang together, or why they cannot: `sizes` {name: places}, `pairs` (name, name, rank
    correlation), `places` {name: (where each place lies (n, d), reach)}."""
    names = tuple(sizes)
    at = {name: k for k, name in enumerate(names)}
    gamma = np.eye(len(names))
    for one, other, rank in pairs:
        if sizes[one] != sizes[other]:
            return (
                f"{one} scatters in {sizes[one]} places, {other} in {sizes[other]}: equally many are correlated, place"
                " by place"
            )
        if (one in places) != (other in places) or (one in places and places[one][1] != places[other][1]):
            return f"{one} and {other} have different reaches along their places"
        gamma[at[one], at[other]] = gamma[at[other], at[one]] = 2.0 * math.sin(math.pi * rank / 6.0)
    values, vectors = np.linalg.eigh(gamma)
    if values[0] < LEAST:
        told = ", ".join(names[k] for k in np.flatnonzero(np.abs(vectors[:, 0]) > 0.05))
        return (
            f"no quantities are correlated so: what is asked of {told} contradicts itself (eigenvalue {values[0]:.2g})"
        )
    root = vectors * np.sqrt(np.maximum(values, 0.0)) @ vectors.T
    root[np.abs(root) < 1e-14] = 0.0
    along = {name: _factor(*given) for name, given in places.items()}
    return Dependence(names, tuple(sizes.values()), root, along)


def _factor(places: FloatArray, reach: float) -> FloatArray:
    """Return the symmetric root of the correlations along places."""
    gaps = ((places[:, np.newaxis] - places[np.newaxis]) ** 2).sum(axis=2)
    values, vectors = np.linalg.eigh(np.exp(-gaps / reach**2))
    return np.asarray(vectors * np.sqrt(np.maximum(values, 0.0)) @ vectors.T)

"""How well a fit determines its parameters: standard errors and correlations from the Jacobian of the residuals.

    C = s² (J'WJ)⁻¹,     s² = 2 Σρ(r) / (N − p) where no sigma is declared, else 1                    (1)

over the p parameters that no bound holds; J the derivatives of residual/sigma, W the curvature of the losses.

Source: D. M. Bates, D. G. Watts, "Nonlinear Regression Analysis and Its Applications", 1988, chapter 2.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import loss_values
from ilvren.problem import Measures, Problem
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate import Gate

__all__ = ["LOSS_NUMBERS", "Estimates", "estimates_of", "loss_numbers"]

FloatArray = NDArray[np.float64]

LOSS_NUMBERS = {"square": 0, "huber": 1, "cauchy": 2}
# Singular values below this share of the largest: the readings do not determine that combination.
RANK_TOLERANCE = 1e-10
# More parameters than this have no table of correlations.
MOST_PARAMETERS = 200
# A combination is not determined where its standard error is so many times the values themselves.
LARGEST_ERROR = 1.0
# Parameters with a smaller part in a combination are not named.
LEAST_PART = 0.05


@dataclass(frozen=True, kw_only=True)
class Estimates:
    """`names` of the p parameters, their `errors` (p,), infinite where the readings do not determine them, and the
    `correlations` (p, p); `residuals` N. `spread` is the root of Σ residual² / (N − p), `robust_spread` that of 2 Σ
    loss / (N − p), which gross errors hardly move, where any loss is robust (else None); both NaN where N <= p. `held`
    names parameters that a bound holds. `undetermined` are combinations that the readings do not tell: {name: how much
    of its own value it changes}, together, without a change of the residuals that could be told from their spread.
    Errors are taken from the declared sigmas where the fit `has_sigma`, else from the spread. `root` (k, p): `unit`²
    root'root is the covariance; `blind` (m, p) are the directions that the readings tell nothing of."""

    names: tuple[str, ...]
    errors: tuple[float, ...]
    correlations: tuple[tuple[float, ...], ...]
    residuals: int
    spread: float
    held: tuple[str, ...]
    robust_spread: float | None = None
    undetermined: tuple[Mapping[str, float], ...] = ()
    has_sigma: bool = True
    root: FloatArray = field(default_factory=lambda: np.zeros((0, 0)), repr=False, compare=False)
    blind: FloatArray = field(default_factory=lambda: np.zeros((0, 0)), repr=False, compare=False)

    @property
    def unit(self) -> float:
        """Return the spread of residual/sigma that the errors are taken from."""
        if self.has_sigma:
            return 1.0
        return self.spread if self.robust_spread is None else self.robust_spread

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        plain = {
            name: (error if math.isfinite(error) else None) for name, error in zip(self.names, self.errors, strict=True)
        }
        return {
            "standard_errors": plain,
            "parameters": list(self.names),
            "correlations": [list(row) for row in self.correlations],
            "residuals": self.residuals,
            "degrees_of_freedom": self.residuals - len(self.names),
            "spread": _plain(self.spread),
            **({} if self.robust_spread is None else {"robust_spread": _plain(self.robust_spread)}),
            "held": list(self.held),
            "undetermined": [dict(item) for item in self.undetermined],
        }

    def error_of(self) -> Mapping[str, float]:
        """Return {name: standard error}."""
        return dict(zip(self.names, self.errors, strict=True))


def loss_numbers(problem: Problem) -> NDArray[np.int64]:
    """Return the number of each residual's loss in [fit] (p,)."""
    graph = problem.graph
    parts = [
        np.full(math.prod(graph.shape(item.node)), LOSS_NUMBERS[item.loss], dtype=np.int64)
        for item in problem.residuals
    ]
    return np.concatenate(parts) if parts else np.zeros(0, dtype=np.int64)


def estimates_of(problem: Problem, gate: Gate, point: FloatArray) -> Estimates | None:
    """Return how well a fit's parameters are determined at a design (n,); None for other problems, without finite
    derivatives, and for very many parameters."""
    if not problem.residuals or len(problem.free) > MOST_PARAMETERS:
        return None
    residuals, jacobian = gate.residuals(point, derivatives=True)
    jacobian = jacobian if isinstance(jacobian, np.ndarray) else jacobian.toarray()
    if not (np.isfinite(residuals).all() and np.isfinite(jacobian).all()):
        return None
    measures = Measures.of(problem)
    near = 1e-9 * measures.bound_sizes(point)
    at_bound = (point <= measures.lower + near) | (point >= measures.upper - near)
    places = [place for place in problem.free if not at_bound[place]]
    names = [variable.name for variable in problem.variables]
    held = tuple(names[place] for place in problem.free if at_bound[place])
    value, _, curvature = loss_values(residuals, loss_numbers(problem))
    freedom = len(residuals) - len(places)
    losses = loss_numbers(problem)
    spread = math.sqrt(float((residuals**2).sum()) / freedom) if freedom > 0 else math.nan
    robust = math.sqrt(2.0 * float(value.sum()) / freedom) if freedom > 0 else math.nan
    own = np.sqrt(np.maximum(curvature, 0.0))[:, np.newaxis] * jacobian[:, places]
    lengths = np.linalg.norm(own, axis=0)
    scale = np.where(lengths > 0.0, lengths, 1.0)
    singular, vectors = _spectrum(own / scale)
    known = singular > RANK_TOLERANCE * max(float(singular.max(initial=0.0)), 1e-300)
    inverse = np.where(known, 1.0 / np.where(known, singular, 1.0), 0.0)
    covariance = (vectors.T * inverse**2) @ vectors
    lost = (vectors[~known] ** 2).sum(axis=0) > RANK_TOLERANCE
    unit = 1.0 if _has_sigma(problem) else robust
    errors = np.where(lost, np.inf, unit * np.sqrt(np.diag(covariance)) / scale)
    errors = np.where(np.isnan(errors), np.inf, errors)  # nothing is left over that would tell the readings' spread
    roots = np.sqrt(np.maximum(np.diag(covariance), 1e-300))
    correlations = np.clip(covariance / np.outer(roots, roots), -1.0, 1.0)
    return Estimates(
        names=tuple(names[place] for place in places),
        errors=tuple(errors.tolist()),
        correlations=tuple(tuple(row) for row in correlations.tolist()),
        residuals=len(residuals),
        spread=spread,
        held=held,
        robust_spread=robust if losses.any() else None,
        undetermined=_undetermined(own, point[places], [names[place] for place in places], unit),
        has_sigma=_has_sigma(problem),
        root=vectors[known] * inverse[known, np.newaxis] / scale,
        blind=vectors[~known] / scale,
    )


def _spectrum(matrix: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return all p singular values of a matrix (N, p), and the right vectors as rows (p, p); nothing is N by N."""
    _, singular, vectors = np.linalg.svd(np.linalg.qr(matrix, mode="r"), full_matrices=True)
    return np.concatenate([singular, np.zeros(matrix.shape[1] - len(singular))]), vectors


def _undetermined(
    jacobian: FloatArray, values: FloatArray, names: Sequence[str], unit: float
) -> tuple[Mapping[str, float], ...]:
    """Return combinations of parameters, each in shares of its own value, whose standard error is larger than all of
    them, by the singular vectors of the Jacobian in these shares."""
    sizes = np.where(values != 0.0, np.abs(values), 1.0)
    if not names or not math.isfinite(unit):
        return ()
    singular, vectors = _spectrum(jacobian * sizes)
    found = []
    for value, vector in zip(singular, vectors, strict=True):
        if value * LARGEST_ERROR > unit:
            continue
        vector = vector * np.sign(vector[np.argmax(np.abs(vector))])
        vector = vector / np.abs(vector).max()
        found.append({n: float(v) for n, v in zip(names, vector.tolist(), strict=True) if abs(v) >= LEAST_PART})
    return tuple(found)


def _plain(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _has_sigma(problem: Problem) -> bool:
    """Return whether every entry of [fit] declares its sigma."""
    return all(item.declaration.has_sigma for item in problem.template.fit)

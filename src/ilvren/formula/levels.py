"""What a share of many numbers stays below, made smooth: the operation `level` and its derivatives.

Of numbers f_1 … f_n along the first axis, with a width h, the level q of a share p < 1 solves

    1/n Σ S((q − f_i)/h) = p,    S(e) = 1/(1 + exp(−e))                                              (1)

and that of p = 1, above the largest of them, is h log Σ exp(f_i/h) (2). With h = 0 both are what they become: the
quantile interpolated between order statistics, and the largest. With e_i = (q − f_i)/h and weights w_i, in all 1,

    dq = Σ w_i (df_i + e_i dh),   w_i ~ 1 − tanh²(e_i/2) of (1),  w_i = exp(−e_i) of (2)             (3)

which is written in the graph's own operations, so that second derivatives follow.

Sources: E. Parzen, "Nonparametric statistical data modeling", 1979 (smoothed quantiles); B. Kort, D. Bertsekas, "A new
penalty function method for constrained minimization", 1972 (2).
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from ilvren.formula import shaping

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph

__all__ = ["level", "level_moved", "level_vjp"]


def level(graph: Graph, f: int, h: int, share: float) -> int:
    """Return the level of `share` of f (n, *own), with the width h (*own)."""
    shape = graph.shape(f)
    return graph.arrange("level", (f, h), shape[1:], (len(shape), 0, share))


def _weights(graph: Graph, number: int) -> tuple[int, int]:
    """Return the nodes of w and e of (3)."""
    node = graph.nodes[number]
    f, h = node.operands
    shape = graph.shape(f)
    share = (node.detail or ())[2]
    q = shaping.expand(graph, number, 0, shape)
    e = graph.apply("div", graph.apply("sub", q, f), shaping.expand(graph, h, 0, shape))
    if isinstance(share, float) and share >= 1.0:
        return graph.apply("exp", graph.apply("neg", e)), e
    half = graph.apply("tanh", graph.apply("mul", graph.constant(0.5), e))
    kernel = graph.apply("sub", graph.constant(1.0), graph.apply("square", half))
    total = shaping.expand(graph, shaping.total(graph, kernel, 0), 0, shape)
    return graph.apply("div_live", kernel, total), e


def level_moved(graph: Graph, number: int, place: int, change: int) -> int:
    """Return what (3) makes of the change of an operand."""
    w, e = _weights(graph, number)
    if place == 0:
        return shaping.total(graph, graph.apply("mul", w, change), 0)
    return graph.apply("mul", shaping.total(graph, graph.apply("mul", w, e), 0), change)


def level_vjp(graph: Graph, number: int, place: int, adjoint: int) -> int:
    """Return what (3) makes of an adjoint for an operand."""
    w, e = _weights(graph, number)
    if place == 0:
        return graph.apply("mul", shaping.expand(graph, adjoint, 0, graph.shape(w)), w)
    return graph.apply("mul", adjoint, shaping.total(graph, graph.apply("mul", w, e), 0))

"""Colouring: groups of columns that one product can serve, and which entry of a product is which of the matrix.

    columns   two columns share no row: each non-zero stands alone in its row of J·S            (Jacobian)
    star      neighbours differ, and no path of four vertices has only two colours:             (Hessian)
              each H[i,j] stands alone in row i of H·S at j's colour, or in row j at i's

S has one column per colour, the sum of the unit vectors of its group. The sets of colours are the bits of
Python integers, so that both run in time linear in the non-zeros.

Source: A. Curtis, M. Powell, J. Reid, "On the estimation of sparse Jacobian matrices", 1974; A. Gebremedhin,
F. Manne, A. Pothen, "What color is your Jacobian?", 2005; A. Gebremedhin, A. Tarafdar, F. Manne, A. Pothen,
"New acyclic and star coloring algorithms with application to computing Hessians", 2007.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["column_colours", "split_rows", "star_colours", "star_places"]

Indices = NDArray[np.int64]

# A row costs about this many times more by reverse accumulation than a colour does by forward accumulation.
REVERSE_COST = 2.0


def column_colours(pattern: Any) -> Indices:
    """Return a colour (from 0) for each column of a CSR pattern; columns without entries have colour 0."""
    rows, columns = pattern.shape
    by_column = pattern.tocsc()
    degrees = np.diff(pattern.indptr)
    if len(degrees) and degrees.max() > columns // 2 and columns > 64:
        return _own_colours(by_column)
    taken = [0] * rows
    colours = np.zeros(columns, dtype=np.int64)
    indices, starts = by_column.indices.tolist(), by_column.indptr.tolist()
    for column in range(columns):
        mine = indices[starts[column] : starts[column + 1]]
        if not mine:
            continue
        forbidden = 0
        for row in mine:
            forbidden |= taken[row]
        free = ~forbidden & (forbidden + 1)  # the lowest bit not set
        colours[column] = free.bit_length() - 1
        for row in mine:
            taken[row] |= free
    return colours


def _own_colours(by_column: Any) -> Indices:
    """Give every used column a colour of its own: a row that is nearly full leaves little else."""
    used = np.diff(by_column.indptr) > 0
    return np.where(used, np.cumsum(used) - 1, 0)


def split_rows(pattern: Any) -> NDArray[np.bool_]:
    """Return which rows are cheaper taken one by one in reverse than with the others in columns: the fullest. Shapes:
    pattern (m, n), result (m,)."""
    degrees = np.diff(pattern.indptr)
    order = np.argsort(-degrees, kind="stable")
    # With the first k rows in reverse, about as many colours are left as the next row has entries.
    left = np.append(degrees[order], 0)
    cost = REVERSE_COST * np.arange(len(order) + 1) + left
    chosen = np.zeros(len(degrees), dtype=bool)
    chosen[order[: int(np.argmin(cost))]] = True
    return chosen


def star_colours(pattern: Any) -> Indices:
    """Return a colour for each vertex of a symmetric CSR pattern (the diagonal is of no account)."""
    n = pattern.shape[0]
    indices, starts = pattern.indices.tolist(), pattern.indptr.tolist()
    degrees = np.diff(pattern.indptr)
    if n > 64 and len(degrees) and np.median(degrees) > n // 2:
        return np.arange(n, dtype=np.int64)
    order = np.argsort(-degrees, kind="stable").tolist()
    colour = [-1] * n
    seen = [0] * n  # colours of the coloured neighbours of a vertex
    spokes = [0] * n  # colours of its neighbours that have another neighbour of its own colour: centres of stars
    single: list[dict[int, int]] = [{} for _ in range(n)]  # colour → the one neighbour of it, −1 for several
    for v in order:
        near = [w for w in indices[starts[v] : starts[v + 1]] if w != v and colour[w] >= 0]
        forbidden, counted, repeated = 0, 0, 0
        for w in near:
            bit = 1 << colour[w]
            repeated |= counted & bit
            counted |= bit
            forbidden |= bit | spokes[w]  # v − w − x − y with x the centre of a star around w
        for w in near:
            if repeated >> colour[w] & 1:
                forbidden |= seen[w]  # w' − v − w − x with w' and w alike
        free = ~forbidden & (forbidden + 1)
        c = free.bit_length() - 1
        colour[v] = c
        for w in near:
            seen[w] |= free
            seen[v] |= 1 << colour[w]
            first = single[w].get(c)
            if first is None:
                single[w][c] = v
            else:  # w is the centre of a star of colour c: all its neighbours of that colour are spokes
                bit = 1 << colour[w]
                if first >= 0:
                    spokes[first] |= bit
                    single[w][c] = -1
                spokes[v] |= bit
            mine = single[v].get(colour[w])
            single[v][colour[w]] = w if mine is None else -1
        for w in near:
            if repeated >> colour[w] & 1:
                spokes[w] |= free
    return np.array(colour, dtype=np.int64)


def star_places(pattern: Any, colours: Indices) -> tuple[Indices, Indices]:
    """Return for each entry of a symmetric CSR pattern the (row, colour) of H·S where it stands alone."""
    count = int(colours.max(initial=0)) + 1
    rows = np.repeat(np.arange(pattern.shape[0]), np.diff(pattern.indptr))
    columns = pattern.indices.astype(np.int64)
    met = rows * count + colours[columns]
    _, which, times = np.unique(met, return_inverse=True, return_counts=True)
    is_alone = times[which] == 1
    return np.where(is_alone, rows, columns), np.where(is_alone, colours[columns], colours[rows])

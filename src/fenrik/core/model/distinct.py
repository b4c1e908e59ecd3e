"""Distinct edges and rows of a mesh. Rows compared as a whole take far longer to sort than numbers."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]


class Edges(NamedTuple):
    """Edges (e, 2) of vertices, the lower one first, in ascending order; the edge (n,) of every side; how
    many sides (e,) are one."""

    ends: Ints
    of_side: Ints
    uses: Ints


def distinct_edges(sides: NDArray[np.integer], count: int) -> Edges:
    """The edges of sides (n, 2) between vertices 0 to `count` - 1, whichever way they run."""
    wide = sides.astype(np.int64)
    key = wide.min(axis=1) * count + wide.max(axis=1)
    found, of_side, uses = np.unique(key, return_inverse=True, return_counts=True)
    return Edges(np.column_stack([found // count, found % count]), of_side.reshape(-1), uses)


def distinct_rows(rows: Ints) -> tuple[Ints, Ints]:
    """The first place of each distinct row of (n, k) whole numbers, in ascending order, and the row's number
    (n,) among them."""
    order = np.lexsort(rows.T[::-1])
    fresh = np.ones(len(rows), dtype=np.bool_)
    fresh[1:] = (rows[order[1:]] != rows[order[:-1]]).any(axis=1)
    number = np.empty(len(rows), dtype=np.int64)
    number[order] = np.cumsum(fresh) - 1
    return order[fresh], number

"""Pieces of stock that a program cuts off from the rest: they are held by nothing and lie where the tool
comes by."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from fenrik.core.proof.finding import Finding
from fenrik.core.stock.dexels import Stock

Floats = NDArray[np.float64]
TOUCH_MM = 1e-3
"""Intervals of neighbouring rays that overlap by less than this do not hold each other."""
LEAST_CELLS = 12.0
"""Volume in cells under which a piece is a splinter at the lattice's own fineness."""
TOLD = 3


@dataclass(frozen=True)
class Piece:
    """A piece of stock: its volume mm³, and lowest and highest corner (3,) mm."""

    volume: float
    low: tuple[float, float, float]
    high: tuple[float, float, float]


def pieces_of(stock: Stock) -> list[Piece]:
    """The pieces that hang together, the largest first: intervals of neighbouring upright rays that overlap
    belong together."""
    ends, _, counts = stock.rays[2].dense()
    nv, nu, width = ends.shape
    most = width // 2
    low, high = ends[:, :, 0::2].astype(np.float64), ends[:, :, 1::2].astype(np.float64)
    there = np.arange(most)[None, None, :] < counts[:, :, None]
    number = np.full((nv, nu, most), -1, dtype=np.int64)
    number[there] = np.arange(int(there.sum()))
    a, b = [], []
    upper, lower, whole = slice(1, None), slice(None, -1), slice(None)
    for (r0, r1), (c0, c1) in (((upper, lower), (whole, whole)), ((whole, whole), (upper, lower))):
        for i in range(most):
            for j in range(most):
                one, other = (r0, c0, i), (r1, c1, j)
                meet = there[one] & there[other]
                meet &= np.minimum(high[one], high[other]) - np.maximum(low[one], low[other]) > TOUCH_MM
                a.append(number[one][meet])
                b.append(number[other][meet])
    count = int(there.sum())
    first, second = np.concatenate(a), np.concatenate(b)
    graph = coo_matrix((np.ones(len(first), dtype=np.int8), (first, second)), shape=(count, count))
    found, label = connected_components(graph, directed=False)
    rows, columns, _ = np.nonzero(there)
    lows, highs = low[there], high[there]
    volume = np.bincount(label, weights=highs - lows, minlength=found) * stock.cell**2
    out = []
    for k in np.argsort(-volume)[: TOLD + 1]:
        mine = label == k
        x, y = (
            stock.origin[n] + stock.cell * np.array([v[mine].min(), v[mine].max() + 1])
            for n, v in ((0, columns), (1, rows))
        )
        corners = ((x[0], y[0], lows[mine].min()), (x[1], y[1], highs[mine].max()))
        below, above = (tuple(float(v) for v in corner) for corner in corners)
        out.append(Piece(float(volume[k]), below, above))  # type: ignore[arg-type]
    return out


def loose_findings(stock: Stock) -> list[Finding]:
    """A *caution* for every piece of a stock that is cut off from the largest one."""
    out = []
    for piece in pieces_of(stock)[1:]:
        if piece.volume < LEAST_CELLS * stock.cell**3:
            continue
        size = " x ".join(f"{h - a:.1f}" for a, h in zip(piece.low, piece.high, strict=True))
        middle = tuple(0.5 * (a + h) for a, h in zip(piece.low, piece.high, strict=True))
        out.append(
            Finding(
                "caution",
                "loose",
                f"A piece of stock of {piece.volume:.0f} mm³, {size} mm, near ({middle[0]:.1f}, "
                f"{middle[1]:.1f}, {middle[2]:.1f}) is cut off from the rest: nothing holds it.",
                "Cut it away whole, or leave it on the part until the end.",
                place=(middle[0], middle[1], middle[2]),
                measure=piece.volume,
            )
        )
    return out

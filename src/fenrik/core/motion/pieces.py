"""Straight pieces of motion: (m, 6) tip to tip with the tool upright, (m, 12) with its axis beside the tip at
both ends."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
UPRIGHT = 1.0 - 1e-14
"""Cosine from which an axis counts as upright."""


def upright_pieces(poses: Floats) -> Floats:
    """The tips (m, 6) of pieces (m, 6) or poses (m, 12)."""
    return poses if poses.shape[1] == 6 else np.hstack([poses[:, :3], poses[:, 6:9]])


def with_axes(pieces: Floats) -> Floats:
    """Pieces (m, 6) with the tool upright as poses (m, 12); poses as they are."""
    if pieces.shape[1] == 12:
        return pieces
    up = np.tile([0.0, 0.0, 1.0], (len(pieces), 1))
    return np.hstack([pieces[:, :3], up, pieces[:, 3:], up])


def is_upright(pieces: Floats) -> NDArray[np.bool_]:
    """Whether the tool stands upright along pieces (m, 6) or poses (m, 12)."""
    if pieces.shape[1] == 6:
        return np.ones(len(pieces), dtype=np.bool_)
    return (pieces[:, 5] > UPRIGHT) & (pieces[:, 11] > UPRIGHT)


def by_axis(pieces: Floats) -> Iterator[tuple[Floats, slice]]:
    """Stretches of pieces with the tool upright (m, 6), which cut faster, and leaning or turning (m, 12)."""
    if pieces.shape[1] == 6:
        yield pieces, slice(0, len(pieces))
        return
    upright = is_upright(pieces)
    borders = [0, *(np.flatnonzero(np.diff(upright)) + 1).tolist(), len(pieces)]
    for a, b in pairwise(borders):
        yield upright_pieces(pieces[a:b]) if upright[a] else pieces[a:b], slice(a, b)

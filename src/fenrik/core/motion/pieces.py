"""Straight pieces of motion: (m, 6) tip to tip with the tool upright, (m, 12) with its axis beside the tip at
both ends."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.motion.table import in_parts

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


def placed_poses(poses: Floats, matrix: Floats) -> Floats:
    """Poses (m, 12) through a rigid transform (4, 4)."""
    ends = [apply(matrix, poses[:, k : k + 3]) for k in (0, 6)]
    axes = [poses[:, k : k + 3] @ matrix[:3, :3].T for k in (3, 9)]
    return np.hstack([ends[0], axes[0], ends[1], axes[1]])


def cut_shorter(poses: Floats, longest: Floats) -> tuple[Floats, NDArray[np.int64]]:
    """Poses (m, 12) in even parts whose tip goes at most `longest` (m,) mm, and the piece of each part. Tip
    and axis go straight within a piece, as they do where stock is cut."""
    way = np.linalg.norm(poses[:, 6:9] - poses[:, :3], axis=1)
    counts = np.maximum(1, np.ceil(way / longest - 1e-9)).astype(np.int64)
    owner, number = in_parts(counts)
    ends = []
    for share in (number / counts[owner], (number + 1) / counts[owner]):
        at = poses[owner, :6] + share[:, None] * (poses[owner, 6:] - poses[owner, :6])
        at[:, 3:] /= np.linalg.norm(at[:, 3:], axis=1, keepdims=True)
        ends.append(at)
    return np.hstack(ends), owner


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

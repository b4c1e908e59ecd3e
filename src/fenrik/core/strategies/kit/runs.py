"""Pieces of a pass that satisfy a condition: what limits of steepness and borders leave of it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def steady_runs(points: Floats, keep: NDArray[np.bool_], least: float) -> list[tuple[Floats, bool]]:
    """Runs of kept points of a closed ring (n, 2 or 3; first = last) longer than `least` mm, gaps up to
    `least` bridged. Each with whether it is the whole ring."""
    if keep.all():
        return [(points, True)]
    if not keep.any():
        return []
    start = int(np.argmin(keep[:-1]))  # begin in a gap, so that no run goes over the end
    ring = np.roll(points[:-1], -start, axis=0)
    good = np.roll(keep[:-1], -start)
    return [(run, False) for run in open_runs(ring, good, least)]


def open_runs(points: Floats, keep: NDArray[np.bool_], least: float) -> list[Floats]:
    """Runs of kept points of an open pass (n, 2 or 3) longer than `least` mm, gaps up to `least` bridged."""
    if len(points) < 2:
        return []
    run = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    return [points[a : b + 1] for a, b in spans(run, keep, least)]


def spans(run: Floats, keep: NDArray[np.bool_], least: float) -> list[tuple[int, int]]:
    """First and last index of the runs of kept points at lengths `run` (n,) along a pass that are longer than
    `least` mm, gaps up to `least` bridged."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], keep, [False]]).astype(np.int8)))
    joined: list[tuple[int, int]] = []
    for a, b in zip(edges[::2].tolist(), (edges[1::2] - 1).tolist(), strict=True):
        if joined and run[a] - run[joined[-1][1]] <= least:
            joined[-1] = (joined[-1][0], b)
        else:
            joined.append((a, b))
    return [(a, b) for a, b in joined if run[b] - run[a] > least]

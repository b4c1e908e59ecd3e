"""Feed adapted along a path to the chips that the stock measured.

The mean chip is the feed per tooth times ae / (R phi) (hm = fz 2 ae / (D phi), handbooks), ae the width and
phi the angle of the cut as measured: beside a wall (1 - cos phi) / phi, more for a strip in the middle of the
cutter. Where it is less than planned the chips get thinner, and the feed may rise until they are as thick as
planned; where it is more, the feed falls. The factor is held between LEAST and MOST, ahead of a heavier cut
it falls before the cut begins, and it moves in steps, so that the program does not change the feed with every
block.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import minimum_filter1d

from fenrik.core.motion import table
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Toolpath, on_rows

Floats = NDArray[np.float64]
LEAST, MOST, STEP = 0.5, 2.0, 0.1
"""Bounds and steps of the factor on the feed (common practice, no source)."""


def side_milling(engagement: float) -> float:
    """The mean chip over the feed per tooth for a cut beside a wall over an angle rad."""
    return (1.0 - math.cos(engagement)) / engagement


def factor(thinning: Floats, planned: float) -> Floats:
    """What the feed may be multiplied with (n,) where the mean chip is `thinning` (n,) of the feed per tooth,
    so that it is that at `planned`."""
    raw = planned / np.maximum(thinning, planned / MOST)
    return np.asarray(np.clip(np.floor(raw / STEP + 1e-9) * STEP, LEAST, MOST))


def divided(path: Toolpath, longest: float) -> tuple[Toolpath, NDArray[np.int64]]:
    """The path with its moves at feed cut into parts of at most `longest` mm, and the row (m,) of the path
    that each came from."""
    counts = np.maximum(1, np.ceil(path.moves.lengths() / longest - 1e-9)).astype(np.int64)
    parts, owner = path.divided(np.where(follows(path, None), counts, 1))
    return replace(parts, cycles=[]), owner


def follows(path: Toolpath, planned: float | None) -> NDArray[np.bool_]:
    """Rows (n,) whose feed may be adapted: cuts, leads and links, no entries; with `planned` mm/min those
    at that feed only."""
    kinds = np.isin(path.kind, (Motion.FEED, Motion.LEAD, Motion.LINK))
    return kinds if planned is None else kinds & (np.abs(path.feed - planned) < 1.0)


def adapted(
    path: Toolpath, owner: NDArray[np.int64], thinning: Floats, wanted: float, planned: float, feed_max: float
) -> Toolpath:
    """A divided path (see `divided`) with what goes at the planned feed mm/min adapted to the thinning (m,)
    of chips measured on its rows, `wanted` being the planned one; parts of one move that keep one feed are
    joined again. No feed rises over `feed_max`."""
    feed = adapted_feed(path.feed, follows(path, planned), thinning, wanted, feed_max)
    last = np.ones(len(path), dtype=np.bool_)
    last[:-1] = (owner[1:] != owner[:-1]) | (feed[1:] != feed[:-1])
    kept = np.cumsum(last)  # how many rows of the joined path end with each row or before it
    corrected = on_rows(path.compensated, np.concatenate([[0], kept[:-1]]), kept - 1)
    return replace(table.rows(path.with_moves(feed=feed), last), compensated=corrected)


def adapted_feed(
    feed: Floats, mine: NDArray[np.bool_], thinning: Floats, wanted: float, feed_max: float
) -> Floats:
    """Feeds (n,) mm/min of moves in the order of cutting, those of `mine` adapted to their `thinning` (n,);
    three neighbours take the least of their factors. None rises over `feed_max`."""
    share = minimum_filter1d(np.where(mine, factor(thinning, wanted), MOST), 3, mode="nearest")
    return np.where(mine, np.minimum(feed * share, np.maximum(feed_max, feed)), feed)


def parts_of_moves(pieces: Floats, move: NDArray[np.int64], longest: float) -> NDArray[np.int64]:
    """The number (n,) of the part of at most `longest` mm of its move (n,) that each piece (n, 6) lies in,
    counted on through all moves: what a divided path can tell apart."""
    share, total = _share_of_move(pieces, move)
    parts = np.maximum(1.0, np.ceil(total / longest - 1e-9))
    place = np.minimum(parts - 1, np.floor(share * parts))
    fresh = (move[1:] != move[:-1]) | (place[1:] != place[:-1])
    return np.concatenate([[0], np.cumsum(fresh)]).astype(np.int64)


def parts_of_rows(pieces: Floats, row: NDArray[np.int64], owner: NDArray[np.int64]) -> NDArray[np.int64]:
    """The part of a divided path, with the rows `owner` (m,), in which each piece (n, 6) of its row (n,)
    lies."""
    share, _ = _share_of_move(pieces, row)
    first, end = np.searchsorted(owner, row), np.searchsorted(owner, row, side="right")
    return np.minimum(end - 1, first + np.floor(share * (end - first)).astype(np.int64))


def _share_of_move(pieces: Floats, move: NDArray[np.int64]) -> tuple[Floats, Floats]:
    """How far along its move (n,) the middle of each piece (n, 6) lies, 0 to 1, and the move's length mm."""
    length = np.linalg.norm(pieces[:, 3:] - pieces[:, :3], axis=1)
    run = np.cumsum(length)
    first, last = np.searchsorted(move, move), np.searchsorted(move, move, side="right") - 1
    before = run[first] - length[first]
    total = np.maximum(run[last] - before, 1e-12)
    return (run - 0.5 * length - before) / total, total


def adapted_pieces(
    feed: Floats,
    mine: NDArray[np.bool_],
    thinning: Floats,
    part: NDArray[np.int64],
    wanted: float,
    feed_max: float,
) -> Floats:
    """As `adapted_feed` for pieces (n,) that lie in parts (n,) of moves: the thickest chip of a part counts
    for it."""
    most = np.zeros(int(part[-1]) + 1)
    np.maximum.at(most, part, thinning)
    first = np.searchsorted(part, np.arange(len(most)))
    return adapted_feed(feed[first], mine[first], most, wanted, feed_max)[part]

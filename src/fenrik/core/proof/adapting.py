"""Feed adapted along a path to the engagement that the stock measured.

The mean chip of a cut over an angle phi is fz (1 - cos phi) / phi times 2 ae-free constants (hm = fz 2 ae / (D phi) with
ae = D (1 - cos phi) / 2; handbooks): where a tool is engaged less than planned its chips get thinner, and the feed may
rise until they are as thick as planned; where it is engaged more, the feed falls. The factor is held between LEAST and
MOST, ahead of a heavier cut it falls before the cut begins, and it moves in steps, so that the program does not
change the feed with every block.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import minimum_filter1d

from fenrik.core.paths.toolpath import Motion, Toolpath

Floats = NDArray[np.float64]
LEAST, MOST, STEP = 0.5, 2.0, 0.1
"""Bounds and steps of the factor on the feed (common practice, no source)."""


def factor(engagement: Floats, wanted: float) -> Floats:
    """What the feed may be multiplied with (n,) at engagements rad so that the mean chip is that at `wanted` rad."""

    def mean(angle: Floats) -> Floats:
        return np.where(angle > 1e-6, (1.0 - np.cos(angle)) / np.maximum(angle, 1e-6), 0.0)

    planned = float(mean(np.array([wanted]))[0])
    raw = planned / np.maximum(mean(engagement), planned / MOST)
    return np.asarray(np.clip(np.floor(raw / STEP + 1e-9) * STEP, LEAST, MOST))


def divided(path: Toolpath, longest: float) -> tuple[Toolpath, NDArray[np.int64]]:
    """The path with its straight moves at feed cut into parts of at most `longest` mm, and the row (m,) of the path that
    each came from."""
    lengths = path.lengths()
    straight = (path.turn == 0) & follows(path, None)
    parts = np.where(straight, np.maximum(1, np.ceil(lengths / longest)), 1).astype(np.int64)
    parts[0] = 1
    owner = np.repeat(np.arange(len(path)), parts)
    first = np.cumsum(parts) - parts
    share = ((np.arange(len(owner)) - first[owner] + 1) / parts[owner])[:, None]
    start = path.tip[np.maximum(owner - 1, 0)]
    tip = np.where(share >= 1.0, path.tip[owner], start + share * (path.tip[owner] - start))
    columns = {c: getattr(path, c)[owner] for c in ("kind", "turn", "centre", "feed", "level", "run")}
    return replace(path, tip=tip, **columns), owner


def follows(path: Toolpath, planned: float | None) -> NDArray[np.bool_]:
    """Rows (n,) whose feed may follow the engagement: cuts, leads and links, no entries; with `planned` mm/min those
    at that feed only."""
    kinds = np.isin(path.kind, (Motion.FEED, Motion.LEAD, Motion.LINK))
    return kinds if planned is None else kinds & (np.abs(path.feed - planned) < 1.0)


def adapted(
    path: Toolpath,
    owner: NDArray[np.int64],
    engagement: Floats,
    wanted: float,
    planned: float,
    feed_max: float,
) -> Toolpath:
    """A divided path (see `divided`) with what goes at the planned feed mm/min adapted to the engagement (m,) rad
    measured on its rows; parts of one move that keep one feed are joined again. No feed rises over `feed_max`."""
    cuts = follows(path, planned)
    share = np.where(cuts, factor(engagement, wanted), MOST)
    share = minimum_filter1d(share, 3, mode="nearest")
    feed = np.where(cuts, np.minimum(path.feed * share, np.maximum(feed_max, path.feed)), path.feed)
    last = np.ones(len(path), dtype=np.bool_)
    last[:-1] = (owner[1:] != owner[:-1]) | (feed[1:] != feed[:-1])
    columns = {c: getattr(path, c)[last] for c in ("tip", "kind", "turn", "centre", "level", "run")}
    return replace(path, feed=feed[last], **columns)


def saving(
    engagement: Floats,
    times: Floats,
    feeding: NDArray[np.bool_],
    feed: Floats,
    wanted: float,
    feed_max: float,
) -> float:
    """Seconds that adapted feeds save, without what speeding up and slowing down costs; columns (n,) of pieces."""
    share = minimum_filter1d(np.where(feeding, factor(engagement, wanted), MOST), 3, mode="nearest")
    share = np.minimum(share, np.maximum(1.0, feed_max / np.maximum(feed, 1e-9)))
    return float((times * (1.0 - 1.0 / share))[feeding].sum())

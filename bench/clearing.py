"""Clearing at a bounded load: a pocket of 200 x 150 mm with 12 islands, an 8 mm tool, 40 % stepover, against
the engagement asked for, the ideal length, and stamping its own path once on the same bitmap.

The engagement is measured a second time, along the finished way and finely, on a bitmap of its own. Stamping
is plain: the whole disc at every cell's length of the passes.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import shapely
from numba import njit
from shapely.geometry import Point, box
from shapely.geometry.base import BaseGeometry

from bench.timing import Row, best
from fenrik.core.strategies.levels import _clearing_kernels as k
from fenrik.core.strategies.levels.bounded_clearing import AIM, BOUND
from fenrik.core.strategies.levels.clearing import CUT, ENTRY, LINK, Clearing, LevelField, Stretch, field_of
from fenrik.core.tooling.cutting_data import engagement_angle

RADIUS, STEPOVER = 4.0, 3.2
WANTED = engagement_angle(STEPOVER, 2 * RADIUS)


@njit(cache=True)
def stamp_all(field, discs):  # type: ignore[no-untyped-def]
    """Baseline: every disc whole."""
    undo = np.empty(0, dtype=np.int64)
    for p in range(len(discs)):
        k.stamp(field, discs[p, 0], discs[p, 1], undo, 0)


def pocket() -> BaseGeometry:
    """The pocket's ground less its islands, round and square."""
    ground = box(0, 0, 200, 150).buffer(-6).buffer(6)
    shift = np.random.default_rng(5)
    islands = []
    for j in range(3):
        for i in range(4):
            x, y = 30 + i * 46 + shift.uniform(-4, 4), 28 + j * 47 + shift.uniform(-4, 4)
            if (i + j) % 2:
                islands.append(Point(x, y).buffer(7 + shift.uniform(0, 3), 64))
            else:
                islands.append(box(x - 8, y - 7, x + 8, y + 7).buffer(-2).buffer(2))
    return ground.difference(shapely.union_all(islands))


AREA = pocket().buffer(-RADIUS, 64).buffer(-0.012)


def ground() -> LevelField:
    """The level's bitmaps, all of it stock."""
    return field_of(AREA, RADIUS, lambda x, y: np.ones(x.shape, dtype=np.bool_))


def planned() -> tuple[LevelField, list[Stretch]]:
    """The whole planning: bitmaps and way."""
    field = ground()
    clearing = Clearing(field, RADIUS, AIM * WANTED, BOUND * WANTED, 1, 0.25 * RADIUS)
    return field, clearing.run(lambda _: None)


def measured(way: list[Stretch]) -> tuple[np.ndarray, np.ndarray]:
    """Engagement over wanted and length of every sample of the passes, on a fresh bitmap."""
    under = ground().under(RADIUS)
    step = 0.05 * RADIUS
    shares, lengths = [], []
    nothing = np.empty(0, dtype=np.int64)
    for stretch in way:
        if stretch.kind == ENTRY:
            (x, y), (end, _) = stretch.points
            for a in np.linspace(0, 2 * np.pi, 65):
                k.stamp(under, x + (end - x) * np.cos(a), y + (end - x) * np.sin(a), nothing, 0)
            k.stamp(under, x, y, nothing, 0)
        elif stretch.kind == LINK:
            k.measure(under, np.ascontiguousarray(stretch.points), step)
        elif stretch.kind == CUT:
            found = k.measure(under, np.ascontiguousarray(stretch.points), step)
            shares.append(found / WANTED)
            lengths.append(np.full(len(found), step))
    return np.concatenate(shares), np.concatenate(lengths)


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    field, way = planned()
    share, length = measured(way)
    cuts = share > 0
    share, length = share[cuts], length[cuts]
    order = np.argsort(share)
    run = np.cumsum(length[order]) / length.sum()
    p95 = float(share[order][np.searchsorted(run, 0.95)])
    what = "clearing, 200 x 150 mm pocket, 12 islands: engagement"
    degrees = np.degrees(WANTED)
    yield Row(
        f"{what}, 95 % of the length", f"{p95 * degrees:.1f}°", f"{degrees:.1f}° asked for", p95, most=1.02
    )
    top = float(share.max())
    yield Row(f"{what}, at most", f"{top * degrees:.1f}°", f"{degrees:.1f}° asked for", top, most=1.10)
    over = 100 * float(length[share > 1.05].sum() / length.sum())
    yield Row(f"{what}, % of the length above 1.05", f"{over:.4f} %", "", over, most=0.1)
    passes = [s.points for s in way if s.kind == CUT]
    cut = sum(float(np.hypot(*np.diff(p, axis=0).T).sum()) for p in passes)
    area = pocket().area
    ideal = area / STEPOVER
    yield Row(
        "the same: length of the passes",
        f"{cut / 1000:.2f} m",
        f"{ideal / 1000:.2f} m area/stepover",
        cut / ideal,
        most=1.35,
    )
    left = 100 * float(field.stock.sum()) * field.h**2 / area
    yield Row("the same: % of the area not reached", f"{left:.3f} %", "", left, most=1.0)

    pitch = field.h
    spots = [
        np.column_stack([np.interp(np.arange(0, s[-1], pitch), s, p[:, i]) for i in range(2)])
        for p in passes
        for s in [np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(p, axis=0).T))])]
    ]
    discs = np.ascontiguousarray(np.concatenate(spots))
    fresh = ground()

    def stamping() -> None:
        stamp_all(replace(fresh, stock=fresh.stock.copy()).under(RADIUS), discs)

    plan, stamp = best(planned), best(stamping)
    yield Row(
        "the same: planning time", f"{plan:.2f} s", f"{stamp:.2f} s stamping it", plan / stamp, most=8.0
    )

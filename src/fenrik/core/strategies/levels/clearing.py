"""Clearing of one level at a bounded load, on bitmaps: passes, links and entries for a disc.

The method: the disc walks along the border of the stock and steers so that the leading half of its circle
stays engaged over the wanted angle; a step that would go over the limit is not taken. Where a pass ends, the
next begins at the nearest place beside stock, reached over cleared ground. Passes that clear too little are
taken back; what they would have cut waits until nothing larger is left. The stock is a bitmap, twenty cells
to a radius; the borders of the area are not: distances to them are exact.
"""

from __future__ import annotations

import math
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from dataclasses import field as default
from itertools import pairwise
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.ndimage import distance_transform_edt
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.levels import polygons
from fenrik.core.strategies.levels import _clearing_kernels as k

Floats = NDArray[np.float64]
CUT, LINK, ENTRY, LIFT = range(4)
"""Kinds of stretches."""
FINENESS = 20
"""Cells in a radius."""
MOST_CELLS = 6_000_000
PHASES = ((20.0, 0.6, 1.0), (3.0, 0.5, 1.0), (0.5, 0.25, 0.7), (0.04, 0.05, 0.3))
"""Least that a pass must clear (radii²), the share of a full pass that each mm of it has to clear, and the
loss against that after which it ends (radii of full pass): first the bulk, then along walls and islands what
the ends of its passes have left."""
FARTHEST = 60
"""Steps of 0.3 radii that a start is moved back along the border of the stock."""
TRIES = 200
"""Places that are looked at for an entry before what is left counts as out of reach."""
MOST_ENTRIES = 40
BESIDE = 0.8
"""Starts so near (radii) to one that led nowhere are not tried before something changes there."""


@dataclass(frozen=True)
class Stretch:
    """A piece of the way: `kind` (CUT, LINK, ENTRY, LIFT of the kernels), points (n, 2), engagement (n,)
    rad."""

    kind: int
    points: Floats
    engaged: Floats


@dataclass
class LevelField:
    """Bitmaps of a level: see `_clearing_kernels`."""

    stock: NDArray[np.uint8]
    room: NDArray[np.float32]
    x0: float
    y0: float
    h: float

    def under(self, radius: float) -> k.Field:
        """The field with a disc of `radius` mm, as the kernels take it."""
        return k.Field(self.stock, self.room, self.x0, self.y0, self.h, radius)


def field_of(
    area: BaseGeometry, radius: float, stock_at: Callable[[Floats, Floats], NDArray[np.bool_]]
) -> LevelField:
    """Bitmaps for the disc's middle in `area` (mm). `stock_at` tells for grids of x and y whether there is
    stock; what no allowed place reaches is left out."""
    low_x, low_y, high_x, high_y = area.bounds
    margin = 1.3 * radius
    size = (high_x - low_x + 2 * margin) * (high_y - low_y + 2 * margin)
    h = max(radius / FINENESS, math.sqrt(size / MOST_CELLS))
    x0, y0 = low_x - margin, low_y - margin
    nx, ny = int((high_x - low_x + 2 * margin) / h) + 1, int((high_y - low_y + 2 * margin) / h) + 1
    segments = np.concatenate([np.hstack([c[:-1], c[1:]]) for c in _rings(area)])
    room = _room(segments, (ny, nx), (x0, y0, h), radius)
    gx, gy = np.meshgrid(x0 + (np.arange(nx) + 0.5) * h, y0 + (np.arange(ny) + 0.5) * h)
    stock = (stock_at(gx, gy) & (room > 1.5 * h - radius)).astype(np.uint8)
    return LevelField(stock, room, x0, y0, h)


def _room(
    segments: Floats, shape: tuple[int, int], frame: tuple[float, float, float], band: float
) -> NDArray[np.float32]:
    """`room_of` for all rows, shared out to the threads."""
    room = np.empty(shape, dtype=np.float32)
    shares = max(1, min(os.cpu_count() or 1, shape[0] // 64))
    borders = np.linspace(0, shape[0], shares + 1).astype(int).tolist()
    with ThreadPoolExecutor(shares) as pool:
        list(pool.map(lambda rows: k.room_of(segments, frame, band, room, *rows), pairwise(borders)))
    return room


def _rings(area: BaseGeometry) -> list[Floats]:
    """Coordinates (n, 2) of every ring of an area, closed."""
    return [shapely.get_coordinates(r) for p in polygons(area) for r in (p.exterior, *p.interiors)]


@dataclass
class Clearing:
    """Walks a field. `target` and `limit` are engagement angles rad; `side` as in the kernels."""

    field: LevelField
    radius: float
    target: float
    limit: float
    side: int
    tightest: float
    gap: float = 0.5
    """Air shorter than this (radii) stays part of a pass."""
    begin: tuple[float, float] | None = None
    way: list[Stretch] = default(default_factory=list)
    slots: list[tuple[float, float]] = default(default_factory=list)

    def run(self, tick: Callable[[float], None]) -> list[Stretch]:
        """The whole way; `tick` hears the share cleared."""
        f = self.field
        ny, nx = f.stock.shape
        self.grid = max(2, round(self.radius / f.h / 4))
        shape = (-(-ny // self.grid), -(-nx // self.grid))
        self.under = f.under(self.radius)
        self.search = k.Search(
            self.grid,
            failed=np.zeros(shape, dtype=np.uint8),
            spent=np.zeros(shape, dtype=np.uint8),
            known=np.zeros(shape, dtype=np.uint8),
            parents=np.empty(shape, dtype=np.int32),
            queue=np.empty(shape[0] * shape[1], dtype=np.int64),
            ends=np.zeros(2, dtype=np.int64),
        )
        self.buffer = np.empty((400_000, 4))
        self.undo = np.empty(f.stock.size, dtype=np.int64)
        self.slide = np.empty((FARTHEST, 2))
        self.deep: Floats | None = None
        self.reach = 1.6 * self.grid * f.h
        self.step = min(0.08 * self.radius, 0.5 * self.tightest)
        self.place = self.begin
        self.left = int(f.stock.sum())
        self.stepover = self.radius * (1.0 - math.cos(self.target))
        total = max(1, self.left)
        phase = 0
        while phase < len(PHASES) and self.left > 0:
            least, share, patience = PHASES[phase]
            self.search.failed[:] = self.search.spent
            self.sliding = phase < len(PHASES) - 1
            found = self.left > 0
            while found:
                found = self._next_pass(least, share, patience, lambda: tick(1.0 - self.left / total))
            if phase == len(PHASES) - 1:
                self.search.spent[:] = self.search.failed
            # from above where there is no free ground yet, and at last into what no pass reaches
            entering = phase == len(PHASES) - 1 or not self.way
            phase = 0 if entering and self._enter() else phase + 1
        return self.way

    def _next_pass(self, least: float, share: float, patience: float, tick: Callable[[], None]) -> bool:
        """The nearest pass that is worth it, over cleared ground if there is one."""
        for everywhere in (False, True):
            if not everywhere and self.place is None:
                continue
            px, py = self.place or (0.0, 0.0)
            k.begin_search(self.under, self.search, px, py, everywhere)
            while True:
                tick()
                found = int(k.next_start(self.under, self.search, everywhere))
                if found < 0:
                    break
                if self._pass(found, not everywhere, least, share, patience):
                    return True
                beside = np.array([self._node(found)])
                k.mark(self.under, self.search, beside, BESIDE * self.radius)
        return False

    def _node(self, number: int) -> tuple[float, float]:
        f = self.field
        j, i = number // self.search.failed.shape[1], number % self.search.failed.shape[1]
        return f.x0 + (i * self.grid + 0.5) * f.h, f.y0 + (j * self.grid + 0.5) * f.h

    def _pass(self, node: int, linked: bool, least: float, share: float, patience: float) -> bool:
        """A pass from a node or from farther back along the border of the stock, where it is longer."""
        f = self.field
        x, y = self._node(node)
        slide = self.slide if self.sliding else self.slide[:1]
        count = k.upstream(self.under, self.reach, x, y, self.side, slide)
        for back in dict.fromkeys((count - 1, (count - 1) // 2, 0)):
            x, y = (float(v) for v in slide[back])
            if back > 0 and self._has_failed(x, y):
                continue
            points, used = self._walk(x, y, share, patience)
            if used * f.h**2 >= least * self.radius**2:
                self._keep(node if linked else None, slide[: back + 1], points, used)
                return True
            k.restore(f.stock, self.undo, 0, used, 1)
        k.mark(self.under, self.search, slide[:count], BESIDE * self.radius)
        return False

    def _walk(self, x: float, y: float, share: float, patience: float) -> tuple[int, int]:
        """A pass from there into the buffer, out of the bitmap: its points and cells."""
        c, s = k.nearest_stock(self.under, self.reach, x, y)
        if c == 0.0 and s == 0.0:
            return 0, 0
        heading = (-s * self.side, c * self.side)  # the stock to the right: turned left from it
        pursuit = k.Pursuit(
            self.side,
            self.target,
            self.limit,
            self.step,
            self.tightest,
            price=share * self.stepover,
            patience=patience * self.radius * self.stepover,
        )
        points, used = k.walk(self.under, (x, y, *heading), pursuit, self.buffer, self.undo)
        return int(points), int(used)

    def _keep(self, node: int | None, slide: Floats, points: int, used: int) -> None:
        """The pass in the buffer into the way: a link or a lift to where it begins to cut, then its
        pieces."""
        f = self.field
        rows = self.buffer[:points].copy()
        air = max(0, int(np.argmax(rows[:, 2] > 0)) - 2)
        lead = np.concatenate([slide, rows[: air + 1, :2]])
        rows = rows[air:]
        link = None
        if node is not None:  # over the ground as it was before the pass
            k.restore(f.stock, self.undo, 0, used, 1)
            link = self._link(node, lead)
            k.restore(f.stock, self.undo, 0, used, 0)
        self.left -= used
        k.reopen(self.under, self.search, rows, 2.3 * self.radius)
        if link is not None:
            self.way.append(Stretch(LINK, link, np.zeros(len(link))))
        else:
            self.way.append(Stretch(LIFT, rows[:1, :2].copy(), np.zeros(1)))
        for piece, cuts in pieces_that_cut(rows[:, :2], rows[:, 2] > 0, self.gap * self.radius):
            part = rows[piece]
            self.way.append(Stretch(CUT if cuts else LINK, part[:, :2].copy(), part[:, 2].copy()))
        self.place = (float(rows[-1, 0]), float(rows[-1, 1]))

    def _has_failed(self, x: float, y: float) -> bool:
        f = self.field
        i, j = (round(((v - v0) / f.h - 0.5) / self.grid) for v, v0 in ((x, f.x0), (y, f.y0)))
        my, mx = self.search.failed.shape
        return 0 <= i < mx and 0 <= j < my and bool(self.search.failed[j, i])

    def _link(self, node: int, lead: Floats) -> Floats | None:
        """The way over cleared ground from the last place to a node and on along `lead`, pulled straight
        where it may be; None where the ground is not clear all the way."""
        assert self.place is not None
        points = [(float(x), float(y)) for x, y in lead[:0:-1]]
        while node >= 0:
            points.append(self._node(node))
            node = int(self.search.parents.flat[node])
        points.append(self.place)
        points.reverse()
        kept, at = [points[0]], 0
        while at < len(points) - 1:
            ahead = len(points) - 1
            while not k.passable(self.under, points[at], points[ahead]):
                if ahead == at + 1:
                    return None  # a tip of stock between two places that are free
                ahead = at + max(1, (ahead - at) // 2) if ahead - at > 8 else ahead - 1
            kept.append(points[ahead])
            at = ahead
        return np.array(kept)

    def _enter(self) -> bool:
        """An entry from above into what is left: a helix where there is most room."""
        f, g = self.field, self.grid
        my, mx = self.search.failed.shape
        # on the nodes: whether any of their cells has stock, and any of them room
        some = _blocks(f.stock, g, my, mx).max(axis=(1, 3)) > 0
        if self.deep is None:
            room = _blocks(f.room, g, my, mx).max(axis=(1, 3))
            # the room is known exactly near the borders and up to a radius; beyond, the farther from them the
            # better
            self.deep = room + 1e-3 * distance_transform_edt(room > 0) * (g * f.h)
        if self.slots:
            some = distance_transform_edt(~some) * (g * f.h) <= 0.5 * self.radius
        inside = np.where(some, self.deep, -1.0)
        # crumbs beside the border lie in open ground and no helix takes them: they must not hide what one
        # would
        for _ in range(TRIES):
            j, i = (int(v) for v in np.unravel_index(int(np.argmax(inside)), inside.shape))
            if inside[j, i] < 0.1 * self.radius or len(self.slots) >= MOST_ENTRIES:
                return False
            if self._helix(j, i):
                return True
            inside[max(0, j - 1) : j + 2, max(0, i - 1) : i + 2] = -1.0
        return False

    def _helix(self, j: int, i: int) -> bool:
        """An entry on a helix where about a node there is most room; False where that is too little or clears
        nothing."""
        f, g = self.field, self.grid
        j, i = j * g, i * g
        near = f.room[j : j + g, i : i + g]
        dj, di = np.unravel_index(int(np.argmax(near)), near.shape)
        helix = min(0.55 * self.radius, float(near[dj, di]))
        if helix < 0.1 * self.radius:
            return False
        x, y = f.x0 + (i + int(di) + 0.5) * f.h, f.y0 + (j + int(dj) + 0.5) * f.h
        before = self.left
        for a in np.linspace(0, 2 * np.pi, 33):
            at = (x + helix * math.cos(a), y + helix * math.sin(a))
            k.stamp(self.under, *at, self.undo, 0)
        k.stamp(self.under, x, y, self.undo, 0)
        self.left = int(f.stock.sum())
        if self.left >= before:
            return False
        self.slots.append((x, y))
        self.way.append(Stretch(ENTRY, np.array([[x, y], [x + helix, y]]), np.zeros(2)))
        self.place = (x + helix, y)
        k.reopen(self.under, self.search, np.array([[x, y]]), helix + 2.3 * self.radius)
        return True


def _blocks(cells: NDArray[Any], g: int, my: int, mx: int) -> NDArray[Any]:
    """Cells as (my, g, mx, g), those beyond the last row and column nought."""
    padded = np.zeros((my * g, mx * g), dtype=cells.dtype)
    padded[: cells.shape[0], : cells.shape[1]] = cells
    return padded.reshape(my, g, mx, g)


def pieces_that_cut(points: Floats, cutting: NDArray[np.bool_], gap: float) -> list[tuple[slice, bool]]:
    """A pass (n, 2) as slices that cut and slices, longer than `gap` mm, that go through air; neighbours
    share a point."""
    cutting = cutting.copy()
    cutting[0] = cutting[min(1, len(cutting) - 1)]
    edges = np.flatnonzero(np.diff(cutting.astype(np.int8))) + 1
    bounds = [0, *edges.tolist(), len(points)]
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
    pieces: list[tuple[int, int, bool]] = []
    for a, b in pairwise(bounds):
        cuts = bool(cutting[a]) or run[b - 1] - run[max(0, a - 1)] < gap
        if pieces and pieces[-1][2] == cuts:
            pieces[-1] = (pieces[-1][0], b, cuts)
        else:
            pieces.append((a, b, cuts))
    return [(slice(max(0, a - 1), b), cuts) for a, b, cuts in pieces if b - max(0, a - 1) >= 2]

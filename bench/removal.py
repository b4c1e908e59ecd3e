"""Removal on interval dexels in three directions with events and tags, one thread, against a plain
height-map kernel of the same paths and cells. Finishing starts, as in a shop, from a roughed stock."""

from __future__ import annotations

import itertools
import time
from collections.abc import Iterator

import numba
import numpy as np

from bench.timing import Row, best_of_each
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.kernels import _height_kernels as h
from fenrik.core.tooling.assembly import Assembly, HolderSegment

LOW, HIGH, CELL = np.zeros(3), np.array([100.0, 100.0, 50.0]), 0.25


def tool(kind: str, diameter: float) -> Assembly:
    """A cutter with a holder far above."""
    return Assembly(
        number=1,
        name=kind,
        kind=kind,
        diameter=diameter,
        corner_radius=diameter / 2 if kind == "ball" else 0.0,
        flute_length=60.0,
        shank_diameter=diameter,
        stick_out=80.0,
        holder=[HolderSegment(length=20, diameter_low=30, diameter_high=30)],
    )


def roughing() -> np.ndarray:
    """4800 level moves of a 10 mm mill, 40 % stepover: 24 levels of 2 mm, 25 lines of 8 moves."""
    x = np.linspace(-6.0, 106.0, 9)
    rows = []
    for z in 48.0 - 2.0 * np.arange(24):
        for y in 4.0 * np.arange(25) + 2.0:
            rows += [(a, y, z, b, y, z) for a, b in itertools.pairwise(x)]
    return np.array(rows)


def shape(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Height of the wavy surface."""
    return 30 + 6 * np.sin(x / 9) * np.cos(y / 11)


def finishing(count: int = 200_000) -> np.ndarray:
    """Short moves of a 6 mm ball over a wavy surface."""
    lines = 200
    x = np.linspace(0, 100, count // lines + 1)
    rows = []
    for y in np.linspace(0, 100, lines):
        points = np.column_stack([x, np.full_like(x, y), shape(x, y)])
        rows.append(np.hstack([points[:-1], points[1:]]))
    return np.concatenate(rows)


def roughed() -> np.ndarray:
    """Passes of a 10 mm ball 0.5 mm over the wavy surface, 2 mm apart: what finishing starts from."""
    x = np.linspace(-6, 106, 225)
    rows = []
    for y in np.arange(-6.0, 107.0, 2.0):
        points = np.column_stack([x, np.full_like(x, y), shape(x, y) + 0.5])
        rows.append(np.hstack([points[:-1], points[1:]]))
    return np.concatenate(rows)


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    threads = numba.get_num_threads()
    for name, cutter, pieces, before in (
        ("roughing, flat 10", tool("flat", 10), roughing(), None),
        ("finishing, ball 6", tool("ball", 6), finishing(), roughed()),
    ):
        bodies, rapid = tool_bodies(cutter), np.zeros(len(pieces), dtype=np.bool_)
        stock, field = Stock.of_box(LOW, HIGH, CELL), np.full((400, 400), 50.0)
        if before is not None:
            stock.cut(before, tool_bodies(tool("ball", 10)), np.zeros(len(before), dtype=np.bool_))
            h.stamp(h.Grid(field, 0.0, 0.0, CELL), before, tool("ball", 10).profile.shape, 0.0)

        def dexels(work: Stock, pieces=pieces, bodies=bodies, rapid=rapid) -> None:
            work.cut(pieces, bodies, rapid)

        def heights(work: np.ndarray, pieces=pieces, cutter=cutter) -> None:
            h.stamp(h.Grid(work, 0.0, 0.0, CELL), pieces, cutter.profile.shape, 0.0)

        def unmeasured(work: Stock, pieces=pieces, bodies=bodies, rapid=rapid) -> None:
            work.cut(pieces, bodies, rapid, measured=False)

        numba.set_num_threads(1)
        cpu, plain, bare = best_of_each(
            [(dexels, stock.copy), (heights, field.copy), (unmeasured, stock.copy)], clock=time.process_time
        )

        def with_threads(count: int, stock: Stock = stock) -> Stock:
            numba.set_num_threads(count)
            return stock.copy()

        one, both = best_of_each([(dexels, lambda: with_threads(1)), (dexels, lambda: with_threads(threads))])
        what = f"removal, {name}, {len(pieces)} moves"
        yield Row(
            f"{what}, 1 thread, CPU", f"{cpu:.2f} s", f"{plain:.2f} s height map", cpu / plain, most=4.0
        )
        yield Row(f"{what}, {threads} threads", f"{both:.2f} s", f"{one:.2f} s one", one / both, least=1.6)
        yield Row(
            "the same with load and events", f"{cpu:.2f} s", f"{bare:.2f} s without", cpu / bare, most=1.2
        )

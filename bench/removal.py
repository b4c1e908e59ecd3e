"""Removal on interval dexels in three directions with events and tags, one thread, against a plain
height-map kernel of the same paths and cells."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import numba
import numpy as np

from bench.timing import best
from fenrik.core.stock import _height_kernels as h
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.tooling.assembly import Assembly, HolderSegment

LOW, HIGH, CELL = np.zeros(3), np.array([100.0, 100.0, 50.0]), 0.25


def tool(kind: str, diameter: float) -> Assembly:
    """A cutter with a holder far above."""
    return Assembly(
        number=1, name=kind, kind=kind, diameter=diameter, corner_radius=diameter / 2 if kind == "ball" else 0.0,
        flute_length=60.0, shank_diameter=diameter, stick_out=80.0,
        holder=[HolderSegment(length=20, diameter_low=30, diameter_high=30)],
    )  # fmt: skip


def roughing(count: int = 4800) -> np.ndarray:
    """Level passes of a 10 mm mill in several depths."""
    levels, lines = 24, count // 48
    rows = []
    for i in range(levels):
        z = 48.0 - 2.0 * (i % 12)
        for j in range(lines):
            y = 100.0 * (j + 0.5) / lines
            ends = (-6.0, 50.0, 106.0)
            rows += [(a, y, z, b, y, z) for a, b in itertools.pairwise(ends)]
    return np.array(rows[:count])


def finishing(count: int = 200_000) -> np.ndarray:
    """Short moves of a 6 mm ball over a wavy surface."""
    lines = 200
    x = np.linspace(0, 100, count // lines + 1)
    rows = []
    for y in np.linspace(0, 100, lines):
        z = 30 + 6 * np.sin(x / 9) * np.cos(y / 11)
        points = np.column_stack([x, np.full_like(x, y), z])
        rows.append(np.hstack([points[:-1], points[1:]]))
    return np.concatenate(rows)


def rows() -> Iterator[tuple[str, str, str, float]]:
    """The rows of this benchmark."""
    threads = numba.get_num_threads()
    for name, cutter, pieces in (
        ("roughing, flat 10", tool("flat", 10), roughing()),
        ("finishing, ball 6", tool("ball", 6), finishing()),
    ):
        bodies, rapid = tool_bodies(cutter), np.zeros(len(pieces), dtype=np.bool_)

        def dexels(pieces=pieces, bodies=bodies, rapid=rapid) -> None:
            Stock.of_box(LOW, HIGH, CELL).cut(pieces, bodies, rapid)

        def heights(pieces=pieces, cutter=cutter) -> None:
            field = np.full((400, 400), 50.0)
            h.stamp(field, 0.0, 0.0, CELL, pieces, cutter.radius, cutter.corner_radius, 0.0)

        numba.set_num_threads(1)
        one, plain = best(dexels), best(heights)
        numba.set_num_threads(threads)
        all_threads = best(dexels)
        yield (
            f"removal, {name}, {len(pieces)} moves, 1 thread",
            f"{one:.2f} s",
            f"{plain:.2f} s height map",
            one / plain,
        )
        yield (
            f"removal, {name}, {threads} threads against one",
            f"{all_threads:.2f} s",
            f"{one:.2f} s",
            one / all_threads,
        )

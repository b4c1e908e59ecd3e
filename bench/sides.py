"""The planning map of a side from the dexels, against cutting the same stock by roughing."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from tests.conftest import make_tool

from bench.timing import Row, best_of_each
from fenrik.core.frames import apply, rotation_up, transform
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.heightmap import projected_map

LOW, HIGH = np.array([0.0, 0.0, 0.0]), np.array([120.0, 80.0, 40.0])
CELL = 120.0 / 400
"""The planning cell of a blank of 120 x 80 x 40 mm."""


def roughing() -> np.ndarray:
    """Level passes of a 12 mm mill, 4.8 mm apart, 4 mm down each, over all but a rim."""
    rows = []
    for z in np.arange(36.0, 7.9, -4.0):
        for n, y in enumerate(np.arange(10.0, 70.1, 4.8)):
            ends = (10.0, 110.0) if n % 2 == 0 else (110.0, 10.0)
            for a, b in zip(np.linspace(*ends, 34)[:-1], np.linspace(*ends, 34)[1:], strict=True):
                rows.append([a, y, z, b, y, z])
    return np.array(rows)


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    pieces, bodies = roughing(), tool_bodies(make_tool("flat", 12))
    rapid, base = np.zeros(len(pieces), dtype=np.bool_), Stock.of_box(LOW, HIGH, CELL)
    cut = base.copy()
    cut.cut(pieces, bodies, rapid)
    corners = np.array([[x, y, z] for x in (0.0, 120.0) for y in (0.0, 80.0) for z in (0.0, 40.0)])
    for lean in (0.0, 30.0, 60.0, 90.0):
        direction = (0.0, -np.sin(np.radians(lean)), np.cos(np.radians(lean)))
        matrix = transform(rotation_up(direction), (0.0, 0.0, 0.0))
        seen = apply(matrix, corners)
        low, high = seen.min(axis=0), seen.max(axis=0)
        ours, theirs = best_of_each(
            [
                (lambda s, m=matrix, a=low, b=high: projected_map(s, a, b, m, CELL), lambda: cut),
                (lambda s: s.cut(pieces, bodies, rapid), base.copy),
            ],
            3,
        )
        what = f"planning map of a side leaning by {lean:.0f}°, 120 x 80 x 40 mm"
        yield Row(what, f"{1000 * ours:.0f} ms", f"{1000 * theirs:.0f} ms roughing", ours / theirs, most=0.5)

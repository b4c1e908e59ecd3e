"""What planning looks at from above: the part's outline against the union of all its triangles, and the
holder over the in-process stock by blocks against looking at every cell."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import shapely
from numba import njit
from shapely.geometry.base import BaseGeometry

from bench.timing import Row, best_of_each
from fenrik.core.job.document.reading import load_job
from fenrik.core.job.opening import open_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.outline import projected
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.stock.kernels import _height_kernels as k
from fenrik.core.tooling.profile import Profile

EXAMPLE = Path(__file__).resolve().parents[1] / "examples" / "drafted_lug.yaml"
OUTLINE_TIMES, HOLDER_TIMES = 4.0, 4.0


def union(mesh: TriangleMesh) -> BaseGeometry:
    """The outline as the union of the upward triangles."""
    corners = mesh.vertices[mesh.triangles][:, :, :2]
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    up = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0] > 1e-9
    return shapely.union_all(shapely.set_precision(shapely.polygons(corners[up]), 1e-7))


@njit(cache=True)
def cell_by_cell(grid, pieces, shape, margin, wide, start):  # type: ignore[no-untyped-def]
    """The baseline: every cell under the holder at every piece."""
    out = np.zeros(len(pieces))
    for m in range(len(pieces)):
        k.stamp(grid, pieces[m : m + 1], shape, margin)
        x, y, z = pieces[m, 3], pieces[m, 4], pieces[m, 5]
        out[m] = max(0.0, k.highest(grid, x, y, x, y, wide) - z - start)
    return out


def zigzag() -> np.ndarray:
    """Pieces of 0.25 mm to and fro over ground of 80 x 60 mm, in six levels 5 mm apart."""
    rows = []
    for level in range(1, 7):
        for n, y in enumerate(np.arange(0.0, 60.0, 4.0)):
            x = np.arange(0.0, 80.0, 0.25)
            x = x if n % 2 == 0 else x[::-1]
            rows.append(np.column_stack([x, np.full(len(x), y), np.full(len(x), -5.0 * level)]))
    tips = np.concatenate(rows)
    return np.hstack([tips[:-1], tips[1:]])


def rows() -> Iterator[Row]:
    """Both, each with its baseline in turns."""
    planner = open_job(load_job(EXAMPLE), EXAMPLE.parent, MemoryStore())
    setup = planner.job.setups[0]
    mesh = planner.workspace.mesh(0.004).moved(planner.setups.clamped(setup).setup_from_part)
    ours, plain = best_of_each([(projected, lambda: mesh), (union, lambda: mesh)], 3)
    yield Row(
        f"outline of {len(mesh.triangles)} triangles, s",
        f"{ours:.2f} s",
        f"union of all {plain:.2f} s",
        plain / ours,
        least=OUTLINE_TIMES,
    )
    pieces, cutter = zigzag(), Profile(6.0, 0.0)
    wide, start = 25.0, 20.0
    low, high = np.array([-10.0, -10, -40]), np.array([90.0, 70, 0])

    def fresh() -> HeightMap:
        return HeightMap.of_box(low, high, 0.25)

    def blocks(stock: HeightMap) -> np.ndarray:
        return stock.lacks(pieces, np.zeros(len(pieces), dtype=np.bool_), cutter, np.array([[wide, start]]))

    def cells(stock: HeightMap) -> np.ndarray:
        return cell_by_cell(stock.grid, pieces, cutter.shape, stock.half_diagonal, wide, start)

    assert np.allclose(blocks(fresh())[:, 0], cells(fresh()))
    ours, plain = best_of_each([(blocks, fresh), (cells, fresh)], 3)
    yield Row(
        f"holder over the stock at {len(pieces)} places, s",
        f"{ours:.2f} s",
        f"cell by cell {plain:.2f} s",
        plain / ours,
        least=HOLDER_TIMES,
    )

"""Dropping a cutter on 100 000 triangles at a 0.2 mm grid, one thread, against plain embree vertical
rays (which find no cutter contact, only the surface) and against all-triangle brute force."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import trimesh
from numba import njit

from bench.timing import Row, best
from fenrik.core.cutting import _kernels as k
from fenrik.core.cutting.drop import FLOOR, DropCutter, Profile
from fenrik.core.cutting.topology import prepare
from fenrik.core.model.part_model import TriangleMesh


def surface(n: int = 225) -> TriangleMesh:
    """A wavy surface of 2 (n - 1)² triangles over 100 x 100 mm."""
    x, y = np.meshgrid(np.linspace(0, 100, n), np.linspace(0, 100, n))
    z = 8 * np.sin(x / 9) * np.cos(y / 11) + 2 * np.sin(x / 3 + y / 4)
    index = np.arange(n * n).reshape(n, n)
    a, b, c, d = (index[s].ravel() for s in (np.s_[:-1, :-1], np.s_[:-1, 1:], np.s_[1:, 1:], np.s_[1:, :-1]))
    triangles = np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])]).astype(np.int32)
    return TriangleMesh(
        np.column_stack([x.ravel(), y.ravel(), z.ravel()]), triangles, np.ones(len(triangles), dtype=np.int32)
    )


@njit(cache=True)
def _brute(points, tree):  # type: ignore[no-untyped-def]
    """Every primitive for every point."""
    _, _, kinds, table, shape = tree
    out = np.empty(len(points))
    for i in range(len(points)):
        best_z = -1e30
        for j in range(len(kinds)):
            best_z = max(
                best_z, k.primitive_tip(kinds[j], table[j], points[i, 0], points[i, 1], shape, -1e30)
            )
        out[i] = best_z
    return out


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    mesh = surface()
    grid = np.arange(0.1, 99.9, 0.2)
    points = np.stack(np.meshgrid(grid, grid), axis=-1).reshape(-1, 2)
    body = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    caster = trimesh.ray.ray_pyembree.RayMeshIntersector(body)
    origins = np.column_stack([points, np.full(len(points), 50.0)])
    directions = np.tile([0.0, 0.0, -1.0], (len(points), 1))
    rays = len(points) / best(lambda: caster.intersects_first(origins, directions))
    topology = prepare(mesh)
    for name, profile, bar in (
        ("ball 6", Profile(3, 3), 0.20),
        ("bull-nose 6 R1", Profile(3, 1), 0.12),
        ("flat 6", Profile(3, 0), None),
    ):
        cutter = DropCutter(topology, profile)
        rate = len(points) / best(lambda c=cutter: k.drop_many_serial(points, FLOOR, c.tree))
        what = f"drop cutter, {name}, {len(mesh.triangles)} triangles, points/s"
        yield Row(what, f"{rate / 1e6:.2f} M", f"{rays / 1e6:.2f} M rays", rate / rays, least=bar)
    cutter = DropCutter(topology, Profile(3, 3))
    few = points[:: len(points) // 60]
    tree = cutter.tree
    wanted = _brute(few, tree)
    off = float(np.abs(k.drop_many_serial(few, FLOOR, tree) - wanted).max())
    slow = best(lambda: _brute(few, tree), 1) / len(few)
    fast = best(lambda: k.drop_many_serial(points, FLOOR, tree)) / len(points)
    what = "the same against testing every primitive, s a point"
    yield Row(what, f"{fast:.2e}", f"{slow:.2e}", slow / fast, least=500.0)
    yield Row("the same: greatest difference", f"{off:.1e} mm", "1e-9 mm", off / 1e-9, most=1.0)

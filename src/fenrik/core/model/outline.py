"""A mesh seen from above: the area that its triangles cover, from their borders alone.

Triangles that lie side by side and face the same way form a sheet. What a sheet covers is bounded by its
border, which has about as many edges as the square root of its triangles; only borders are cut with each
other, never all triangles. So the work grows with the triangles in proportion, also where a face is folded or
stands almost upright.
"""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from shapely.geometry import Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

PRECISION_MM, GAP_MM = 1e-7, 1e-4
"""Grid on which borders are cut with each other, and gaps that are closed."""
SAME_AREA = 1e-9
"""Share of its area by which a sheet may differ from the sum of its triangles and counts as not folded."""
UPRIGHT = 1e-6
"""A triangle whose width seen from above is less than this share of its longest edge stands upright and
covers nothing."""


def section_at(corners: Floats, z: float) -> Floats:
    """Lines (n, 2, 3) in which triangles (m, 3, 3) meet the level plane at a height mm."""
    side = corners[:, :, 2] > z
    crossed = corners[side.any(axis=1) & ~side.all(axis=1)]
    above = crossed[:, :, 2] > z
    # the corner that lies alone on its side of the plane comes first
    alone = np.where(above.sum(axis=1) == 1, above.argmax(axis=1), (~above).argmax(axis=1))
    turned = np.take_along_axis(crossed, ((alone[:, None] + np.arange(3)) % 3)[:, :, None], axis=1)
    share = (z - turned[:, :1, 2]) / (turned[:, 1:, 2] - turned[:, :1, 2])
    return np.asarray(turned[:, :1] + share[:, :, None] * (turned[:, 1:] - turned[:, :1]))


def projected(mesh: TriangleMesh, faces: list[int] | None = None) -> BaseGeometry:
    """The outline of upward triangles (of all triangles of `faces`, if given) in plan view, mm."""
    corners, twice, keep = _seen(mesh)
    keep &= (twice > 0) if faces is None else np.isin(mesh.face_ids, faces)
    if not keep.any():
        return Polygon()
    triangles, sign = mesh.triangles[keep].astype(np.int64), np.sign(twice[keep])
    sheet, border = sheets(triangles, sign, len(mesh.vertices))
    seen, by_sheet = corners[keep], np.argsort(sheet, kind="stable")
    owned = np.split(by_sheet, np.cumsum(np.bincount(sheet, minlength=len(border)))[:-1])
    areas = [
        _covered(seen[own], mesh.vertices[edges][:, :, :2]) for own, edges in zip(owned, border, strict=True)
    ]
    union: BaseGeometry = shapely.union_all(shapely.set_precision(areas, PRECISION_MM))
    return union.buffer(GAP_MM).buffer(-GAP_MM)


def _seen(mesh: TriangleMesh) -> tuple[Floats, Floats, NDArray[np.bool_]]:
    """Corners (n, 3, 2) in plan view, twice the signed area (n,), and which triangles (n,) do not stand
    upright."""
    corners = mesh.vertices[mesh.triangles]
    flat = corners[:, :, :2]
    a, b = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    twice = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    longest = np.square(np.roll(corners, -1, axis=1) - corners).sum(axis=2).max(axis=1)
    return flat, twice, np.abs(twice) > np.maximum(UPRIGHT * longest, 1e-12)


def sheets(triangles: Ints, kind: NDArray[np.float64], count: int) -> tuple[Ints, list[Ints]]:
    """The sheet of every triangle (n,) and the border of every sheet as edges (k, 2) of vertices: triangles
    of one kind (n,) that share edges belong together. `count` is the number of vertices."""
    sides = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    owner = np.tile(np.arange(len(triangles)), 3)
    key = sides.min(axis=1) * count + sides.max(axis=1)
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero(np.diff(key[order]) == 0)
    first, second = owner[order[same]], owner[order[same + 1]]
    alike = kind[first] == kind[second]
    joined = coo_matrix(
        (np.ones(int(alike.sum()), dtype=np.int8), (first[alike], second[alike])), shape=(len(triangles),) * 2
    )
    number, sheet = connected_components(joined, directed=False)
    # an edge is inside its sheet where it is used twice by it
    rank = np.zeros(len(key), dtype=np.int64)
    rank[order] = np.concatenate([[0], np.cumsum(np.diff(key[order]) != 0)])
    own = sheet[owner].astype(np.int64) * (len(key) + 1) + rank
    _, where, times = np.unique(own, return_index=True, return_counts=True)
    once = where[times == 1]
    of = sheet[owner[once]]
    by_sheet = once[np.argsort(of, kind="stable")]
    borders = np.split(sides[by_sheet], np.cumsum(np.bincount(of, minlength=number))[:-1])
    return sheet.astype(np.int64), borders


def _covered(triangles: Floats, border: Floats) -> BaseGeometry:
    """What the triangles (n, 3, 2) of a sheet cover, whose border is the edges (k, 2, 2)."""
    if len(triangles) == 1:
        return Polygon(triangles[0])
    lines = shapely.multilinestrings(np.asarray(shapely.linestrings(border)))
    a, b = triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0]
    total = 0.5 * float(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum())
    rings = shapely.get_parts(shapely.polygonize(shapely.get_parts(lines)))
    if len(rings):
        plain: Polygon = max(rings, key=lambda ring: ring.area)
        if abs(plain.area - total) < SAME_AREA * total and plain.is_valid:
            return plain  # it does not lie over itself
    lines = shapely.set_precision(lines, PRECISION_MM)
    cells = shapely.get_parts(shapely.polygonize(shapely.get_parts(shapely.node(lines))))
    if not len(cells):
        return Polygon()
    # a cell is covered where any triangle is over its inside
    tree = shapely.STRtree(np.asarray(shapely.polygons(triangles)))
    inside = shapely.point_on_surface(cells)
    covered = np.unique(tree.query(inside, predicate="intersects")[0])
    return shapely.coverage_union_all(cells[covered])  # cells of one set of lines lie side by side

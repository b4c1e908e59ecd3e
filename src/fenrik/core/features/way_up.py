"""Which way up a part is clamped best: what a tool from there reaches, what lies on the table, how high it
stands."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.features import _column_kernels as k
from fenrik.core.features.columns import Columns
from fenrik.core.features.feature import Feature
from fenrik.core.features.holes import Hole
from fenrik.core.frames import same_direction
from fenrik.core.model.part_model import PartModel

Floats = NDArray[np.float64]
Direction = tuple[float, float, float]
Spots = tuple[Floats, Floats, NDArray[np.int32]]
"""Points (n, 3) of a surface, their normals, and the face of each."""
AXES = {
    "+z": (0.0, 0.0, 1.0),
    "-z": (0.0, 0.0, -1.0),
    "+y": (0.0, 1.0, 0.0),
    "-y": (0.0, -1.0, 0.0),
    "+x": (1.0, 0.0, 0.0),
    "-x": (-1.0, 0.0, 0.0),
}
"""Where ways are equally good the first one is taken."""
SPOTS = 1500
"""Points of the part's surface that are looked at."""
STEEPEST = -0.01
"""Share of a normal along the tool from which a face is not undercut."""
BESIDE_MM = 0.02
"""How far off the surface a point is looked for from above, so that its own face does not hide it."""
LARGE = 0.04
"""Share of the part's surface from which a leaning flat face is worth being a way up."""
MADE, LIES, HIGH = 0.5, 0.2, 0.5
"""What features made, lying flat and standing high weigh against the share of the surface that is reached
(common practice, no source)."""


@dataclass(frozen=True)
class WayUp:
    """A way up: a principal `axis` of the part or a `face` whose normal points up, shares of the surface and
    of the holes and other features that are reached, of the footprint on which it lies, its height mm, the
    faces reached from there, and all of it in words."""

    axis: str | None
    face: int | None
    surface: float
    holes: int
    features: int
    base: float
    height: float
    faces: list[int]
    words: str
    score: float


def ways_up(part: PartModel, holes: list[Hole], features: list[Feature]) -> list[WayUp]:
    """The part's ways up, the best one first: principal axes and the normals of large flat faces."""
    cut = [f for f in features if f.kind not in ("top", "fillet")]
    spots = spots_of(part)
    ways = [_way(part, spots, holes, cut, up, axis, None) for axis, up in AXES.items()]
    ways += [_way(part, spots, holes, cut, up, None, face) for face, up in _leaning(part)]
    return sorted(ways, key=lambda w: -w.score)


def _way(
    part: PartModel,
    spots: Spots,
    holes: list[Hole],
    features: list[Feature],
    up: Direction,
    axis: str | None,
    face: int | None,
) -> WayUp:
    points, normals, owner = spots
    direction = np.array(up)
    reached = reached_from(part, points, normals, direction)
    surface = float(reached.mean())
    drilled = sum(any(same_direction(e, direction) for e in h.entries) for h in holes)
    made = sum(made_from(f, direction) for f in features)
    along = part.mesh.vertices @ direction
    height, base = float(np.ptp(along)), _base(part, direction)
    share = (drilled + made) / max(len(holes) + len(features), 1)
    longest = float(np.ptp(part.mesh.vertices, axis=0).max())
    score = surface + MADE * share + LIES * base - HIGH * height / max(longest, 1e-9)
    ids, count = np.unique(owner, return_counts=True)
    hit = np.array([reached[owner == i].sum() for i in ids])
    words = f"{100 * surface:.0f} % of the surface"
    if holes or features:
        words += f", {drilled + made} of {len(holes) + len(features)} holes and features"
    words += f"; {height:.0f} mm high, lies on {100 * base:.0f} % of its footprint"
    mine = [int(i) for i in ids[hit > 0.5 * count]]
    return WayUp(axis, face, surface, drilled, made, base, height, mine, words, score)


def spots_of(part: PartModel) -> Spots:
    """Points spread over the surface by area, their normals, and their faces; the same ones every time."""
    corners = part.mesh.vertices[part.mesh.triangles]
    square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = 0.5 * np.linalg.norm(square, axis=1)
    random = np.random.default_rng(1)
    chosen = random.choice(len(area), SPOTS, p=area / area.sum())
    u, v = random.random((2, SPOTS))
    u, v = np.where(u + v > 1, 1 - u, u), np.where(u + v > 1, 1 - v, v)
    a, b, c = (corners[chosen, i] for i in range(3))
    points = a + u[:, None] * (b - a) + v[:, None] * (c - a)
    normals = square[chosen] / np.maximum(2 * area[chosen, None], 1e-15)
    return points, normals, part.mesh.face_ids[chosen]


def reached_from(part: PartModel, points: Floats, normals: Floats, up: Floats) -> NDArray[np.bool_]:
    """Which points a thin tool along `up` touches: not undercut, and nothing above them."""
    view = Columns(part.mesh, up)
    seen = view.seen(points + BESIDE_MM * normals)
    line, height = k.cross(view.corners, view.area, view.low, view.high, np.ascontiguousarray(seen[:, :2]))
    covered = np.zeros(len(points), dtype=bool)
    np.logical_or.at(covered, line, height > seen[line, 2] + 1e-6)
    return (normals @ up >= STEEPEST) & ~covered


def made_from(feature: Feature, up: Floats) -> bool:
    """Whether a tool along `up` makes a feature."""
    both = feature.kind in ("through pocket", "outside")
    return same_direction(feature.axis, up) or (both and same_direction(feature.axis, -up))


def _base(part: PartModel, up: Floats) -> float:
    """Share of the part's footprint (the box around it, seen along `up`) that lies flat on the table."""
    along = part.mesh.vertices @ up
    lowest = float(along.min())
    corners = part.mesh.vertices[part.mesh.triangles]
    square = 0.5 * np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    low = (corners @ up).max(axis=1) < lowest + 1e-3
    seen = Columns(part.mesh, up).seen(part.mesh.vertices)[:, :2]
    footprint = float(np.prod(np.maximum(np.ptp(seen, axis=0), 1e-9)))
    return min(1.0, float(np.clip(-(square[low] @ up), 0, None).sum()) / footprint)


def _leaning(part: PartModel) -> list[tuple[int, tuple[float, float, float]]]:
    """Large flat faces that no principal axis is square to, one of each direction."""
    whole = sum(f.area for f in part.faces)
    out: list[tuple[int, tuple[float, float, float]]] = []
    for face in sorted(part.faces, key=lambda f: -f.area):
        if face.normal is None or face.area < LARGE * whole:
            continue
        normal = np.array(face.normal)
        known = [np.array(up) for up in (*AXES.values(), *(u for _, u in out))]
        if not any(same_direction(normal, up) for up in known):
            out.append((face.id, (float(normal[0]), float(normal[1]), float(normal[2]))))
    return out

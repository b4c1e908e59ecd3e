"""What of a part is seen along the tool: floors, walls, leaning and curved faces, and what something stands
over."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting.drop import DropCutter
from fenrik.core.cutting.topology import Topology
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
LEVEL, UPRIGHT = 0.9999, 0.01
"""Z shares of a normal: over the first a face is level, under the second it stands upright."""
PROBE_MM = 0.02
"""Radius of the needle that is let down, and how far off a face it is let down beside it."""
SPOTS = 60
"""Triangles of a face that are looked at."""
MOST = 0.5
"""A face counts as seen from this share of its looked-at area."""


@dataclass(frozen=True)
class Face:
    """A face in the setup frame: its id, area, lowest and highest point, mm."""

    id: int
    area: float
    low: float
    high: float


@dataclass
class Seen:
    """Faces by what they are to a tool from above; `hidden` ones cannot be reached from here, `under` look
    down."""

    floors: list[Face] = field(default_factory=list)
    walls: list[Face] = field(default_factory=list)
    leaning: list[Face] = field(default_factory=list)
    hidden: list[Face] = field(default_factory=list)
    under: list[Face] = field(default_factory=list)


def seen_from_above(part: PartModel, mesh: TriangleMesh, topology: Topology) -> Seen:
    """The part's faces by what a tool along Z meets. `mesh` and `topology` in the setup frame."""
    needle = DropCutter(topology, Profile(PROBE_MM, 0.0))
    corners = mesh.vertices[mesh.triangles]
    square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = 0.5 * np.linalg.norm(square, axis=1)
    normal = square / np.maximum(2.0 * area[:, None], 1e-15)
    out = Seen()
    for face in part.faces:
        mine = np.flatnonzero((mesh.face_ids == face.id) & (area > 1e-9))
        if not len(mine):
            continue
        up = float(np.average(normal[mine, 2], weights=area[mine]))
        steep = float(np.average(np.abs(normal[mine, 2]), weights=area[mine]))
        heights = corners[mine][:, :, 2]
        found = Face(face.id, face.area, float(heights.min()), float(heights.max()))
        if up < -0.02:
            out.under.append(found)
        elif _share_seen(needle, corners[mine], normal[mine], area[mine]) < MOST:
            out.hidden.append(found)
        elif up > LEVEL:
            out.floors.append(found)
        elif steep < UPRIGHT:
            out.walls.append(found)
        else:
            out.leaning.append(found)
    return out


def _share_seen(needle: DropCutter, corners: Floats, normal: Floats, area: Floats) -> float:
    """Share of a face's area beside whose middles a needle comes down to the face."""
    largest = np.argsort(-area)[:SPOTS]
    middle = corners[largest].mean(axis=1)
    level = np.hypot(normal[largest, 0], normal[largest, 1])
    aside = normal[largest, :2] / np.maximum(level, 1e-9)[:, None] * (level > 0.02)[:, None]
    spots = middle[:, :2] + 2.0 * PROBE_MM * aside
    rise = 3.0 * PROBE_MM * level / np.maximum(np.abs(normal[largest, 2]), 0.05)
    free = needle.tip(spots) <= middle[:, 2] + 0.01 + rise
    return float(area[largest][free].sum() / area[largest].sum())


def inner_radius(part: PartModel, walls: list[Face], but: set[int]) -> float:
    """The smallest radius of the hollow upright walls, other than faces `but`; infinite where there is
    none."""
    ids = {w.id for w in walls} - but
    radii = [
        f.radius
        for f in part.faces
        if f.id in ids and f.kind == "cylinder" and f.hollow and f.radius is not None
    ]
    return min(radii, default=float("inf"))

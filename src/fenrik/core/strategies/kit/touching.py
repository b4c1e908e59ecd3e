"""Where a tool that follows the part's surface touches chosen faces."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d
from shapely.geometry import MultiPoint
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.drop import DropCutter, contact
from fenrik.core.model.distance import DistanceField
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.strategies.kit.runs import spans

Floats = NDArray[np.float64]
Mask = NDArray[np.bool_]
UPRIGHT = 0.02
"""Z share of the normals of triangles that stand upright, at most."""
MESH_MM = 0.01
"""What contact points may lie off the faces' triangles."""
REST_MM, REST_BESIDE_MM = 0.01, 0.6
"""What a ball may have left to count as having reached a spot, and how far a rest is cut beyond its ends."""
SPACING_MM = 0.25
"""Spacing along a track at which contact is looked up, at most."""


class Contact(NamedTuple):
    """How chosen faces are to be touched: by which cutter, how far beside them mm, and which ball went over
    them before (None: all of them is to be cut)."""

    cutter: DropCutter
    overlap: float
    before: DropCutter | None = None


@dataclass(frozen=True)
class ChosenFaces:
    """Faces that a surface operation finishes: their triangles and their outline seen from above."""

    mesh: TriangleMesh
    outline: BaseGeometry

    @cached_property
    def low(self) -> float:
        """Lowest point of the faces mm."""
        return float(self._corners[:, :, 2].min())

    @cached_property
    def high(self) -> float:
        """Highest point of the faces mm."""
        return float(self._corners[:, :, 2].max())

    @cached_property
    def _corners(self) -> Floats:
        return np.asarray(self.mesh.vertices[self.mesh.triangles])

    @cached_property
    def _field(self) -> DistanceField:
        return DistanceField(self.mesh)

    def room(self, cutter: DropCutter, overlap: float) -> BaseGeometry:
        """Where the tool's middle is at most while it touches the faces, in plan view. An upright face has no
        outline: its hull stands for it."""
        square = np.cross(
            self._corners[:, 1] - self._corners[:, 0], self._corners[:, 2] - self._corners[:, 0]
        )
        steep = np.abs(square[:, 2]) < UPRIGHT * np.linalg.norm(square, axis=1)
        hulls = [
            MultiPoint(
                self._corners[steep & (self.mesh.face_ids == face)][:, :, :2].reshape(-1, 2)
            ).convex_hull
            for face in np.unique(self.mesh.face_ids[steep])
        ]
        return shapely.union_all([self.outline, *hulls]).buffer(cutter.radius + overlap + MESH_MM)

    def wanted(self, how: Contact, tips: Floats, heading: Floats | None = None, closed: bool = False) -> Mask:
        """Where along a track (n, 3) of tips the faces are touched and, if a ball went over them before,
        where that did not reach, with a little beside it. A `closed` track ends where it begins."""
        keep = self.touched(how.cutter, tips, how.overlap, heading)
        if how.before is None or not keep.any():
            return keep
        missed = np.zeros(len(tips), dtype=np.bool_)
        some = None if heading is None else heading[keep]
        missed[keep] = self.missed(how.cutter, tips[keep], how.before, some)
        spacing = float(np.median(np.linalg.norm(np.diff(tips, axis=0), axis=1))) if len(tips) > 1 else 1.0
        size = 2 * min(200, int(np.ceil(REST_BESIDE_MM / max(spacing, 1e-3)))) + 1
        mode = "wrap" if closed else "nearest"
        beside = maximum_filter1d(missed.astype(np.int8), size, mode=mode) > 0
        return np.asarray(keep & beside)

    def missed(
        self, cutter: DropCutter, tips: Floats, before: DropCutter, heading: Floats | None = None
    ) -> Mask:
        """Whether a ball that went over the part before could not touch it where the tool with its tip at
        (n, 3) does."""
        middle = tips + np.array([0.0, 0.0, cutter.corner - cutter.lift])
        if cutter.grown.flat > 1e-9:
            middle[:, :2] += cutter.grown.flat * (_rise(cutter, tips) if heading is None else heading)
        distance, _, normal = self._field.signed(middle)
        spots = middle - distance[:, None] * normal
        over = spots + (before.corner + 0.5 * REST_MM) * normal
        short = before.tip(over[:, :2]) > over[:, 2] - before.corner + before.lift + REST_MM
        # a tool that rolls over the faces' outer edge has no spot on them: every ball gets there
        return np.asarray(short & (self._distance(spots) <= MESH_MM))

    def touched(
        self, cutter: DropCutter, tips: Floats, overlap: float, heading: Floats | None = None
    ) -> Mask:
        """Whether the tool with its tip at (n, 3), which lies on the part, touches the faces or the part
        within `overlap` mm beside them. `heading` (n, 2) points in plan view to where it touches, of unit
        length; open: along the steepest rise of the tip's own surface."""
        profile, near = cutter.grown, overlap + MESH_MM
        if profile.tapered or cutter.grown.flat > 1e-9:
            heading = _rise(cutter, tips) if heading is None else heading
        if profile.tapered:
            assert heading is not None
            away, up = contact(profile, cutter.slope(tips[:, :2]))
            points = np.column_stack([tips[:, :2] + away[:, None] * heading, tips[:, 2] - cutter.lift + up])
            return np.asarray(self._distance(points) <= near)
        middle = tips + np.array([0.0, 0.0, cutter.corner - cutter.lift])
        limit = np.full(len(tips), np.hypot(cutter.corner, near))
        if heading is not None and profile.flat > 1e-9:
            middle[:, :2] += profile.flat * heading
            level = np.hypot(*heading.T) < 0.5  # the whole flat end lies on level ground
            limit[level] = np.hypot(cutter.corner, near + profile.flat)
        return np.asarray(self._distance(middle) <= limit)

    def _distance(self, points: Floats) -> Floats:
        return np.abs(self._field.signed(points)[0])

    def pieces(self, how: Contact, track: Floats, least: float) -> list[Floats]:
        """The pieces of a track (n, 3) of tips on which the faces are touched, those up to `least` mm left
        out and gaps up to it driven through."""
        dense = dense_track(track, SPACING_MM)
        return cut_out(track, dense, self.wanted(how, dense), least)


def _rise(cutter: DropCutter, tips: Floats, reach: float = 0.02) -> Floats:
    """Direction (n, 2) in which the tip's surface rises most, of unit length; 0 on level ground."""
    steps = np.array([[reach, 0.0], [-reach, 0.0], [0.0, reach], [0.0, -reach]])
    around = cutter.tip((tips[:, None, :2] + steps[None]).reshape(-1, 2)).reshape(-1, 4)
    around = np.maximum(around, cutter.low[2] - 1.0)
    rise = np.column_stack([around[:, 0] - around[:, 1], around[:, 2] - around[:, 3]])
    size = np.hypot(*rise.T)
    out = np.zeros_like(rise)
    np.divide(rise, size[:, None], out=out, where=size[:, None] > 2e-4 * reach)
    return out


def dense_track(track: Floats, spacing: float) -> Floats:
    """A track (n, 3) with points at most `spacing` mm apart, its own among them. (A geometry package's would
    drop the ends of upright moves, which lie over each other in plan view.)"""
    steps = np.diff(track, axis=0)
    counts = np.maximum(1, np.ceil(np.linalg.norm(steps, axis=1) / spacing)).astype(np.int64)
    owner = np.repeat(np.arange(len(steps)), counts)
    number = np.arange(len(owner)) - np.repeat(np.cumsum(counts) - counts, counts)
    share = ((number + 1) / counts[owner])[:, None]
    inner = track[owner] + share * steps[owner]
    last = number + 1 == counts[owner]
    inner[last] = track[1:][owner[last]]
    return np.vstack([track[:1], inner])


def cut_out(track: Floats, dense: Floats, keep: Mask, least: float) -> list[Floats]:
    """The pieces of a track (n, 3) between the ends of the runs of kept points of `dense` (m, 3), which lie
    on it: the track's own points between these ends and no others."""
    along = _length_along(dense)
    own = _length_along(track)
    out = []
    for first, last in spans(along, keep, least):
        inner = track[(own > along[first] + 1e-9) & (own < along[last] - 1e-9)]
        out.append(np.vstack([dense[first], inner, dense[last]]))
    return out


def _length_along(points: Floats) -> Floats:
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])

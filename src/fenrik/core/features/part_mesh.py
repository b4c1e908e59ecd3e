"""A part's triangles with what lies beyond every edge: borders of faces, neighbours, what is open to the
outside."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from shapely.geometry import Polygon

from fenrik.core.features.columns import Columns
from fenrik.core.model.part_model import FaceFacts, PartModel

Floats = NDArray[np.float64]
SAME_MM, LEVEL = 1e-3, 1e-6
RAYS = 3
"""Rays that tell whether a face is open."""


@dataclass
class Loop:
    """A border of a planar face: its polygon in the plane, and per neighbour how long it meets it rising and
    falling."""

    polygon: Polygon
    rising: dict[int, float] = field(default_factory=dict)
    falling: dict[int, float] = field(default_factory=dict)

    @property
    def share(self) -> float:
        """How much of it has walls."""
        up, down = sum(self.rising.values()), sum(self.falling.values())
        return up / max(up + down, 1e-12)


@dataclass(frozen=True)
class Border:
    """The directed edges that end a planar face: where they begin in its plane (n, 2), how high the triangle
    beyond rises (n,), how long they are (n,) and which face lies beyond (n,)."""

    plane: Floats
    up: Floats
    long: Floats
    beside: NDArray[np.int32]

    def loop(self, chain: list[int]) -> Loop:
        """The closed border of some edges in their order."""
        out = Loop(Polygon(self.plane[chain]))
        for up, long, face in zip(
            self.up[chain].tolist(), self.long[chain].tolist(), self.beside[chain].tolist(), strict=True
        ):
            if abs(up) > LEVEL:
                to = out.rising if up > 0 else out.falling
                to[face] = to.get(face, 0.0) + long
        return out


class PartMesh:
    """The part's triangles with what lies on the other side of every edge."""

    def __init__(self, part: PartModel) -> None:
        self.part = part
        self._views: dict[tuple[float, ...], Columns] = {}
        self.vertices, self.triangles = part.mesh.vertices, part.mesh.triangles.astype(np.int64)
        self.owner = part.mesh.face_ids
        tri = self.triangles
        starts = np.concatenate([tri[:, 0], tri[:, 1], tri[:, 2]])
        ends = np.concatenate([tri[:, 1], tri[:, 2], tri[:, 0]])
        self.third = np.concatenate([tri[:, 2], tri[:, 0], tri[:, 1]])
        self.of = np.tile(np.arange(len(tri)), 3)
        key = starts * len(self.vertices) + ends
        back = ends * len(self.vertices) + starts
        order = np.argsort(key)
        at = np.searchsorted(key[order], back)
        at = np.minimum(at, len(key) - 1)
        self.other = np.where(key[order][at] == back, order[at], -1)
        self.starts, self.ends = starts, ends
        same = self.owner[self.of] == self.owner[self.of[np.maximum(self.other, 0)]]
        border = np.flatnonzero((self.other >= 0) & ~same)
        face = self.owner[self.of[border]]
        rank = np.argsort(face, kind="stable")
        self._borders = border[rank]
        self._first = np.searchsorted(face[rank], np.arange(1, len(part.faces) + 2))

    def border(self, face: int) -> NDArray[np.int64]:
        """Directed edges of a face's triangles that end it."""
        return self._borders[self._first[face - 1] : self._first[face]]

    def loops(self, face: FaceFacts) -> list[Loop]:
        """The borders of a planar face, the outer one first."""
        edges = self.border(face.id)
        normal = np.array(face.normal)
        x = np.cross(normal, [1.0, 0.0, 0.0] if abs(normal[0]) < 0.9 else [0.0, 1.0, 0.0])
        x /= np.linalg.norm(x)
        first, last = self.vertices[self.starts[edges]], self.vertices[self.ends[edges]]
        level = float(np.dot(normal, face.origin or [0, 0, 0]))
        plane = np.column_stack([first @ x, first @ np.cross(normal, x)])
        up = self.vertices[self.third[self.other[edges]]] @ normal - level
        long = np.linalg.norm(last - first, axis=1)
        beside = self.owner[self.of[self.other[edges]]]
        table = Border(plane, up, long, beside)
        following: dict[int, list[int]] = defaultdict(list)
        for row, vertex in enumerate(self.starts[edges].tolist()):
            following[vertex].append(row)
        out: list[Loop] = []
        while following:
            start = next(iter(following))
            chain: list[int] = []
            at = start
            while following.get(at):
                row = following[at].pop()
                if not following[at]:
                    del following[at]
                chain.append(row)
                at = int(self.ends[edges[row]])
            if len(chain) > 2:
                out.append(table.loop(chain))
            following.pop(at, None)
        return sorted(out, key=lambda loop: -loop.polygon.area)

    @cached_property
    def spans(self) -> dict[int, Floats]:
        """All corners of every face's triangles (n, 3)."""
        order = np.argsort(self.owner, kind="stable")
        ids, first = np.unique(self.owner[order], return_index=True)
        parts = np.split(self.vertices[self.triangles[order]].reshape(-1, 3), 3 * first[1:])
        return {int(i): p for i, p in zip(ids, parts, strict=True)}

    @cached_property
    def squares(self) -> dict[int, Floats]:
        """Vectors (n, 3) square to every face's triangles, twice as long as their area."""
        out = {}
        for face, points in self.spans.items():
            a, b = points[1::3] - points[::3], points[2::3] - points[::3]
            out[face] = np.column_stack(
                [
                    a[:, 1] * b[:, 2] - a[:, 2] * b[:, 1],
                    a[:, 2] * b[:, 0] - a[:, 0] * b[:, 2],
                    a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0],
                ]
            )
        return out

    def sees(self, face: FaceFacts) -> bool:
        """Whether a planar face is open along its normal: rays from its largest triangles meet nothing."""
        corners, square = self.spans[face.id].reshape(-1, 3, 3), self.squares[face.id]
        area = np.einsum("ij,ij->i", square, square)
        spots = corners[np.argsort(-area)[:RAYS]].mean(axis=1)
        view = self._along(tuple(round(v, 9) for v in face.normal or []))
        places = view.seen(spots)
        free = [
            not any((z > p[2] + 10 * SAME_MM).any() for z in view.crossings(p[:2], [0.0], 1)) for p in places
        ]
        return sum(free) * 2 >= len(free)

    def _along(self, direction: tuple[float, ...]) -> Columns:
        """The part seen along a direction, prepared once."""
        if direction not in self._views:
            self._views[direction] = Columns(self.part.mesh, np.array(direction))
        return self._views[direction]

    def outermost(self, face: int, up: Floats) -> bool:
        """Whether a ray from the middle of an upright face straight out leaves the part."""
        corners = self.spans[face].reshape(-1, 3, 3)
        square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        area = np.linalg.norm(square, axis=1)
        largest = np.argsort(-area)[:RAYS]
        out = [
            not self._met(corners[i].mean(axis=0), square[i] / area[i]) for i in largest if area[i] > 1e-12
        ]
        return sum(out) * 2 >= len(out)

    def _met(self, spot: Floats, along: Floats) -> bool:
        """Whether a ray meets a triangle beyond a thousandth of a millimetre (Möller and Trumbore 1997)."""
        a, e1, e2 = self._sides
        p = np.cross(along, e2)
        det = np.einsum("ij,ij->i", e1, p)
        safe = np.where(np.abs(det) < 1e-12, 1.0, det)
        to = spot - a
        u = np.einsum("ij,ij->i", to, p) / safe
        q = np.cross(to, e1)
        v, t = q @ along / safe, np.einsum("ij,ij->i", e2, q) / safe
        return bool(((np.abs(det) >= 1e-12) & (u >= 0) & (v >= 0) & (u + v <= 1) & (t > 10 * SAME_MM)).any())

    @cached_property
    def _sides(self) -> tuple[Floats, Floats, Floats]:
        corners = self.vertices[self.triangles]
        return corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]

    def neighbours(self, face: int) -> set[int]:
        """Faces that meet one."""
        return {int(self.owner[self.of[o]]) for o in self.other[self.border(face)]}


def upright(mesh: PartMesh, face: int, normal: Floats) -> bool:
    """Whether all of a face stands along a direction."""
    square = mesh.squares[face]
    longest = float(np.einsum("ij,ij->i", square, square).max(initial=1.0)) ** 0.5
    return bool(np.abs(square @ normal).max(initial=0.0) <= 1e-3 * longest)


def axis_of(face: FaceFacts) -> list[float]:
    """The normal of a planar face, as a feature holds it."""
    assert face.normal is not None
    return [round(v, 12) + 0.0 for v in face.normal]

"""Pockets, slots, bosses, tops and broken edges of a part, found on its planar faces and what meets them.

A planar face is a floor or a top by what stands at its border: where the neighbour rises it is a wall, where it falls
the face ends in the open. So every feature knows the direction from which it is cut, and none needs a setup.
"""

from __future__ import annotations

import json
import math
from collections import defaultdict
from dataclasses import asdict, dataclass, field
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from shapely.geometry import MultiPoint, Polygon

from fenrik.core.features.columns import Columns
from fenrik.core.features.holes import Hole
from fenrik.core.model.part_model import FaceFacts, PartModel

Floats = NDArray[np.float64]
Kind = Literal[
    "top", "pocket", "open pocket", "slot", "open slot", "through pocket", "boss", "outside", "chamfer", "fillet"
]  # fmt: skip
SAME_MM, LEVEL = 1e-3, 1e-6
CLOSED, OPEN = 0.99, 0.01
"""Share of a border with walls over which a floor is closed, and under which it is a top."""
LONG = 1.8
"""Length over width from which a pocket between two parallel walls is a slot."""
RAYS = 3
"""Rays that tell whether a face is open."""
BROKEN_MM = 3.0
"""Wider chamfers and fillets than this are faces of their own, not broken edges (common practice, no source)."""


@dataclass(frozen=True)
class Feature:
    """A feature in the part frame. `axis` (3,) points to where a tool comes from; `faces` are all its own, `floor` is its
    floor or top (0: none), `walls` those that bound it, `islands` the walls of what stands in it. `depth` mm from the
    highest wall's end to the floor; `length` and `width` mm of the smallest rectangle around it, `radius` the smallest
    of its inner corners or that of a round boss (0: none)."""

    kind: Kind
    axis: list[float]
    floor: int
    walls: list[int]
    islands: list[list[int]]
    depth: float
    length: float
    width: float
    radius: float

    @property
    def faces(self) -> list[int]:
        """Ids of all its faces."""
        inside = [f for island in self.islands for f in island]
        return sorted({*([self.floor] if self.floor else []), *self.walls, *inside})

    def words(self) -> str:
        """The feature in a few words."""
        size = f"{_mm(self.length)} x {_mm(self.width)}"
        deep = f", {_mm(self.depth)} deep"
        corner = f", corners R{_mm(self.radius)}" if self.radius else ""
        within = f", {len(self.islands)} island{'s' if len(self.islands) > 1 else ''}" if self.islands else ""
        if self.kind == "boss":
            shape = f"Ø{_mm(2 * self.radius)}" if self.radius else size
            return f"boss {shape}, {_mm(self.depth)} high"
        if self.kind == "chamfer":
            return f"chamfer {_mm(self.width)} wide"
        if self.kind == "fillet":
            return f"fillet R{_mm(self.radius)}"
        if self.kind == "top":
            return f"top face {size}"
        if self.kind == "outside":
            return f"outside {size}, {_mm(self.depth)} high{corner}"
        if self.kind == "through pocket":
            return f"pocket {size}, through{corner}"
        return f"{self.kind} {size}{deep}{corner}{within}"

    def facts(self) -> dict[str, Any]:
        """As plain data."""
        return asdict(self) | {"faces": self.faces, "words": self.words()}

    @property
    def likeness(self) -> tuple[Any, ...]:
        """Equal for features that are made alike."""
        sizes = (self.depth, self.length, self.width, self.radius)
        return (
            self.kind,
            *(round(a, 5) for a in self.axis),
            *(round(s, 1) for s in sizes),
            len(self.islands),
        )


@dataclass
class _Loop:
    """A border of a planar face: its polygon in the plane, and per neighbour how long it meets it rising and falling."""

    polygon: Polygon
    rising: dict[int, float] = field(default_factory=dict)
    falling: dict[int, float] = field(default_factory=dict)

    @property
    def share(self) -> float:
        """How much of it has walls."""
        up, down = sum(self.rising.values()), sum(self.falling.values())
        return up / max(up + down, 1e-12)


@dataclass(frozen=True)
class _Border:
    """The directed edges that end a planar face: where they begin in its plane (n, 2), how high the triangle beyond rises
    (n,), how long they are (n,) and which face lies beyond (n,)."""

    plane: Floats
    up: Floats
    long: Floats
    beside: NDArray[np.int32]

    def loop(self, chain: list[int]) -> _Loop:
        """The closed border of some edges in their order."""
        out = _Loop(Polygon(self.plane[chain]))
        for up, long, face in zip(
            self.up[chain].tolist(), self.long[chain].tolist(), self.beside[chain].tolist(), strict=True
        ):
            if abs(up) > LEVEL:
                to = out.rising if up > 0 else out.falling
                to[face] = to.get(face, 0.0) + long
        return out


class _Mesh:
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

    def loops(self, face: FaceFacts) -> list[_Loop]:
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
        table = _Border(plane, up, long, beside)
        following: dict[int, list[int]] = defaultdict(list)
        for row, vertex in enumerate(self.starts[edges].tolist()):
            following[vertex].append(row)
        out: list[_Loop] = []
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
            out[face] = np.column_stack([
                a[:, 1] * b[:, 2] - a[:, 2] * b[:, 1],
                a[:, 2] * b[:, 0] - a[:, 0] * b[:, 2],
                a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0],
            ])  # fmt: skip
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


def find_features(part: PartModel, holes: list[Hole]) -> list[Feature]:
    """The part's features but for round holes, which are given."""
    mesh = _Mesh(part)
    drilled = {f for h in holes for f in h.faces}
    facts = {f.id: f for f in part.faces}
    out: list[Feature] = []
    for face in part.faces:
        if face.kind != "plane" or face.normal is None or face.id in drilled:
            continue
        loops = mesh.loops(face)
        if not loops:
            continue
        outer, inner = loops[0], loops[1:]
        islands = [sorted(_up_from(mesh, loop.rising, face)) for loop in inner if loop.share > 0.5]
        islands = [i for i in islands if not set(i) <= drilled]
        if outer.share > OPEN:
            pocket = _pocket(mesh, facts, face, outer, islands)
            if not set(pocket.walls) <= drilled and mesh.sees(face):
                out.append(pocket)
        elif outer.falling:
            length, width = _extent(outer.polygon)
            out.append(Feature("top", _axis(face), face.id, [], [], 0.0, length, width, 0.0))
            out += _through(mesh, facts, face, inner, drilled)
        out += [_boss(mesh, facts, face, island) for island in islands]
    out = _one_role_each(out)
    out += _broken(mesh, facts, drilled)
    out += _outsides(mesh, facts, out, drilled)
    return sorted(_once(out), key=lambda f: (f.kind != "top", f.kind, -f.length * f.width, f.floor))


def features_to_bytes(features: list[Feature]) -> bytes:
    """As JSON."""
    return json.dumps([asdict(f) for f in features]).encode()


def features_from_bytes(blob: bytes) -> list[Feature]:
    """The inverse of `features_to_bytes`."""
    return [Feature(**f) for f in json.loads(blob)]


def features_alike(features: list[Feature]) -> list[list[Feature]]:
    """Features in groups that are made alike, in their order."""
    groups: dict[tuple[Any, ...], list[Feature]] = {}
    for feature in features:
        groups.setdefault(feature.likeness, []).append(feature)
    return list(groups.values())


def _one_role_each(features: list[Feature]) -> list[Feature]:
    """A face is the floor of one feature or a wall of others: the walls of what is closed, of bosses and of what leads
    through are no floors; of two open ones that are each other's wall the shallower stays."""
    closed = ("pocket", "slot", "boss", "through pocket")
    walls = {
        w
        for f in features
        if f.kind in closed
        for w in (*f.walls, *(i for island in f.islands for i in island))
    }
    kept = [f for f in features if f.kind not in ("open pocket", "open slot") or f.floor not in walls]
    by_floor = {f.floor: f for f in kept if f.kind in ("open pocket", "open slot")}
    out = []
    for f in kept:
        rivals = (
            [by_floor[w] for w in f.walls if w in by_floor and f.floor in by_floor[w].walls]
            if f.floor in by_floor
            else []
        )
        if all(
            (f.depth, -f.length * f.width, f.floor) <= (r.depth, -r.length * r.width, r.floor) for r in rivals
        ):
            out.append(f)
    return out


def _outsides(
    mesh: _Mesh, facts: dict[int, FaceFacts], features: list[Feature], drilled: set[int]
) -> list[Feature]:
    """What bounds the part seen along the normal of its largest top: the upright faces that belong to nothing else."""
    tops = [f for f in features if f.kind == "top"]
    if not tops:
        return []
    largest = max(tops, key=lambda f: facts[f.floor].area)
    normal = np.array(largest.axis)
    inner = {
        w for f in features if f.kind not in ("top", "open pocket", "open slot") for w in f.faces
    } | drilled
    walls = [f for f in facts if f not in inner and f in mesh.spans and _upright(mesh, f, normal)]
    walls = [w for w in walls if mesh.outermost(w, normal)]
    if not walls:
        return []
    points = np.vstack([mesh.spans[w] for w in walls])
    length, width = _extent_of(points, normal)
    height = float(np.ptp(points @ normal))
    return [Feature("outside", largest.axis, 0, walls, [], height, length, width, _corner(facts, walls))]


def _axis(face: FaceFacts) -> list[float]:
    assert face.normal is not None
    return [round(v, 12) + 0.0 for v in face.normal]


def _up_from(mesh: _Mesh, rising: dict[int, float], floor: FaceFacts) -> set[int]:
    """The walls that rise from a floor: what meets it, and over a rounding at its foot what goes on upward."""
    walls = set(rising)
    normal = np.array(floor.normal)
    for face in list(walls):
        leans = mesh.spans[face] @ normal
        if _upright(mesh, face, normal):
            continue
        top = leans.max()
        for other in mesh.neighbours(face) - {floor.id}:
            span = mesh.spans[other] @ normal
            if (
                _upright(mesh, other, normal)
                and span.min() > leans.min() - SAME_MM
                and span.max() > top + SAME_MM
            ):
                walls.add(other)
    return walls


def _upright(mesh: _Mesh, face: int, normal: Floats) -> bool:
    """Whether all of a face stands along a direction."""
    square = mesh.squares[face]
    longest = float(np.einsum("ij,ij->i", square, square).max(initial=1.0)) ** 0.5
    return bool(np.abs(square @ normal).max(initial=0.0) <= 1e-3 * longest)


def _pocket(
    mesh: _Mesh, facts: dict[int, FaceFacts], face: FaceFacts, outer: _Loop, islands: list[list[int]]
) -> Feature:
    normal = np.array(face.normal)
    walls = sorted(_up_from(mesh, outer.rising, face))
    level = float(normal @ np.array(face.origin))
    depth = max(float((mesh.spans[w] @ normal).max()) for w in walls) - level
    length, width = _extent(outer.polygon)
    across = _between_walls([facts[w] for w in walls], normal)
    slot = across is not None and length >= LONG * across and abs(across - width) < 0.05 * width + SAME_MM
    kinds: tuple[Kind, Kind] = ("slot", "open slot") if slot else ("pocket", "open pocket")
    kind = kinds[outer.share < CLOSED]
    return Feature(kind, _axis(face), face.id, walls, islands, depth, length, width, _corner(facts, walls))


def _through(
    mesh: _Mesh, facts: dict[int, FaceFacts], face: FaceFacts, inner: list[_Loop], drilled: set[int]
) -> list[Feature]:
    """Openings in a top that upright walls lead through to another face."""
    normal = np.array(face.normal)
    out = []
    for loop in inner:
        walls = sorted(loop.falling)
        if not walls or set(walls) & drilled or loop.share > OPEN:
            continue
        if not all(_upright(mesh, w, normal) for w in walls):
            continue
        ends = {o for w in walls for o in mesh.neighbours(w)} - set(walls) - {face.id}
        down = [facts[o] for o in ends if facts[o].kind == "plane" and facts[o].normal is not None]
        below = [f for f in down if float(np.dot(f.normal or [0, 0, 0], normal)) < -1 + 1e-6]
        floor = any(float(np.dot(f.normal or [0, 0, 0], normal)) > 1 - 1e-6 for f in down)
        if below and not floor:
            depth = max(float(np.ptp(mesh.spans[w] @ normal)) for w in walls)
            length, width = _extent(loop.polygon)
            corner = _corner(facts, walls)
            out.append(Feature("through pocket", _axis(face), 0, walls, [], depth, length, width, corner))
    return out


def _boss(mesh: _Mesh, facts: dict[int, FaceFacts], floor: FaceFacts, walls: list[int]) -> Feature:
    normal = np.array(floor.normal)
    level = float(normal @ np.array(floor.origin))
    own = [facts[w] for w in walls]
    round_ = [f for f in own if f.kind == "cylinder" and not f.hollow and f.radius]
    whole = len(round_) == len(own) and len({round(f.radius or 0.0, 4) for f in round_}) == 1
    tops = {
        o for w in walls for o in mesh.neighbours(w)
        if facts[o].kind == "plane" and facts[o].normal is not None and float(np.dot(facts[o].normal or [0], normal)) > 1 - 1e-6
        and float(np.dot(facts[o].origin or [0], normal)) > level + SAME_MM
    }  # fmt: skip
    height = max(float((mesh.spans[w] @ normal).max()) for w in walls) - level
    points = np.vstack([mesh.spans[w] for w in walls])
    length, width = _extent_of(points, normal)
    radius = float(round_[0].radius or 0.0) if whole else 0.0
    if whole:
        length = width = 2.0 * radius
    top = min(tops) if len(tops) == 1 else 0
    return Feature("boss", _axis(floor), top, walls, [], height, length, width, radius)


def _broken(mesh: _Mesh, facts: dict[int, FaceFacts], drilled: set[int]) -> list[Feature]:
    """Narrow leaning faces between two others (chamfers) and narrow convex roundings (fillets)."""
    out = []
    for face in facts.values():
        if face.id in drilled:
            continue
        points = mesh.spans.get(face.id)
        if points is None:
            continue
        for other in sorted(mesh.neighbours(face.id)):
            top = facts[other]
            if top.kind != "plane" or top.normal is None:
                continue
            normal = np.array(top.normal)
            drop = float(normal @ np.array(top.origin)) - points @ normal
            if drop.min() < -SAME_MM or drop.max() > BROKEN_MM + SAME_MM or drop.max() < 0.05:
                continue
            lean = _leaning(points, normal)
            if face.kind in ("plane", "cone") and 0.3 < lean < 0.95:
                wide = float(drop.max()) / max(math.tan(math.acos(min(1.0, lean))), 1e-6)
                if wide <= BROKEN_MM:
                    out.append(
                        Feature("chamfer", _axis(top), 0, [face.id], [], float(drop.max()), 0.0, wide, 0.0)
                    )
                    break
            small = face.kind in ("cylinder", "torus") and not face.hollow and face.radius
            if small and face.kind == "cylinder" and face.radius and face.radius <= BROKEN_MM:
                along = abs(float(np.dot(face.axis or [0, 0, 0], normal)))
                if along < 1e-6 and abs(drop.max() - face.radius) < 0.02 * face.radius + SAME_MM:
                    out.append(
                        Feature(
                            "fillet", _axis(top), 0, [face.id], [], float(drop.max()), 0.0, 0.0, face.radius
                        )
                    )
                    break
    return out


def _once(features: list[Feature]) -> list[Feature]:
    """Chamfers and fillets once, though two tops meet them, and through openings once, though seen from both sides."""
    seen: set[tuple[Any, ...]] = set()
    out = []
    for f in features:
        key = (
            (f.kind, tuple(f.walls))
            if f.kind in ("chamfer", "fillet", "through pocket")
            else (f.kind, f.floor, tuple(f.walls))
        )
        if key not in seen:
            seen.add(key)
            out.append(f)
    return out


def _leaning(points: Floats, normal: Floats) -> float:
    """The mean share of a face's normal along a direction, by area."""
    corners = points.reshape(-1, 3, 3)
    square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return float((square @ normal).sum() / max(np.linalg.norm(square, axis=1).sum(), 1e-12))


def _between_walls(walls: list[FaceFacts], normal: Floats) -> float | None:
    """The distance of the two longest planar walls that face each other, if there are two."""
    flat = [
        w
        for w in walls
        if w.kind == "plane" and w.normal is not None and abs(np.dot(w.normal, normal)) < 1e-6
    ]
    best: tuple[float, float] | None = None
    for i, a in enumerate(flat):
        for b in flat[i + 1 :]:
            if float(np.dot(a.normal or [0], b.normal or [0])) > -1 + 1e-6:
                continue
            apart = float(np.dot(np.array(b.origin) - np.array(a.origin), a.normal or [0]))
            if apart > SAME_MM and (best is None or min(a.area, b.area) > best[0]):
                best = (min(a.area, b.area), apart)
    return None if best is None else best[1]


def _corner(facts: dict[int, FaceFacts], walls: list[int]) -> float:
    """The smallest radius of the hollow cylinders among walls."""
    radii = [facts[w].radius or 0.0 for w in walls if facts[w].kind == "cylinder" and facts[w].hollow]
    return min((r for r in radii if r > 0), default=0.0)


def _extent(polygon: Polygon) -> tuple[float, float]:
    """Length and width of the smallest rectangle around a polygon."""
    box = polygon.minimum_rotated_rectangle
    if not isinstance(box, Polygon):
        return float(polygon.length) / 2, 0.0
    p = np.array(box.exterior.coords)
    a, b = float(np.linalg.norm(p[1] - p[0])), float(np.linalg.norm(p[2] - p[1]))
    return max(a, b), min(a, b)


def _extent_of(points: Floats, normal: Floats) -> tuple[float, float]:
    """The same of points seen along a direction."""
    x = np.cross(normal, [1.0, 0.0, 0.0] if abs(normal[0]) < 0.9 else [0.0, 1.0, 0.0])
    x /= np.linalg.norm(x)
    flat = np.column_stack([points @ x, points @ np.cross(normal, x)])
    hull = MultiPoint(flat).convex_hull
    return _extent(hull) if isinstance(hull, Polygon) else (float(hull.length), 0.0)


def _mm(value: float) -> str:
    return f"{value:.2f}".rstrip("0").rstrip(".")

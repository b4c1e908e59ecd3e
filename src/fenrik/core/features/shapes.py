"""Pockets, slots, bosses, tops and broken edges of a part, found on its planar faces and what meets them.

A planar face is a floor or a top by what stands at its border: where the neighbour rises it is a wall, where
it falls the face ends in the open. So every feature knows the direction from which it is cut, and none needs
a setup.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from shapely.geometry import MultiPoint, Polygon

from fenrik.core.features.edge_breaks import edge_breaks
from fenrik.core.features.feature import Feature, Kind
from fenrik.core.features.holes import Hole
from fenrik.core.features.part_mesh import SAME_MM, Loop, PartMesh, axis_of, upright
from fenrik.core.model.part_model import FaceFacts, PartModel

Floats = NDArray[np.float64]
CLOSED, OPEN = 0.99, 0.01
"""Share of a border with walls over which a floor is closed, and under which it is a top."""
LONG = 1.8
"""Length over width from which a pocket between two parallel walls is a slot."""


def find_features(part: PartModel, holes: list[Hole]) -> list[Feature]:
    """The part's features but for round holes, which are given."""
    mesh = PartMesh(part)
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
            out.append(Feature("top", axis_of(face), face.id, [], [], 0.0, length, width, 0.0))
            out += _through(mesh, facts, face, inner, drilled)
        out += [_boss(mesh, facts, face, island) for island in islands]
    out = _one_role_each(out)
    out += edge_breaks(mesh, facts, drilled)
    out += _outsides(mesh, facts, out, drilled)
    return sorted(_once(out), key=lambda f: (f.kind != "top", f.kind, -f.length * f.width, f.floor))


def _one_role_each(features: list[Feature]) -> list[Feature]:
    """A face is the floor of one feature or a wall of others: the walls of what is closed, of bosses and of
    what leads through are no floors; of two open ones that are each other's wall the shallower stays."""
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
    mesh: PartMesh, facts: dict[int, FaceFacts], features: list[Feature], drilled: set[int]
) -> list[Feature]:
    """What bounds the part seen along the normal of its largest top: the upright faces that belong to nothing
    else."""
    tops = [f for f in features if f.kind == "top"]
    if not tops:
        return []
    largest = max(tops, key=lambda f: facts[f.floor].area)
    normal = np.array(largest.axis)
    inner = {
        w for f in features if f.kind not in ("top", "open pocket", "open slot") for w in f.faces
    } | drilled
    walls = [f for f in facts if f not in inner and f in mesh.spans and upright(mesh, f, normal)]
    walls = [w for w in walls if mesh.outermost(w, normal)]
    if not walls:
        return []
    points = np.vstack([mesh.spans[w] for w in walls])
    length, width = _extent_of(points, normal)
    height = float(np.ptp(points @ normal))
    return [Feature("outside", largest.axis, 0, walls, [], height, length, width, _corner(facts, walls))]


def _up_from(mesh: PartMesh, rising: dict[int, float], floor: FaceFacts) -> set[int]:
    """The walls that rise from a floor: what meets it, and over a rounding at its foot what goes on
    upward."""
    walls = set(rising)
    normal = np.array(floor.normal)
    for face in list(walls):
        leans = mesh.spans[face] @ normal
        if upright(mesh, face, normal):
            continue
        top = leans.max()
        for other in mesh.neighbours(face) - {floor.id}:
            span = mesh.spans[other] @ normal
            if (
                upright(mesh, other, normal)
                and span.min() > leans.min() - SAME_MM
                and span.max() > top + SAME_MM
            ):
                walls.add(other)
    return walls


def _pocket(
    mesh: PartMesh, facts: dict[int, FaceFacts], face: FaceFacts, outer: Loop, islands: list[list[int]]
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
    return Feature(kind, axis_of(face), face.id, walls, islands, depth, length, width, _corner(facts, walls))


def _through(
    mesh: PartMesh, facts: dict[int, FaceFacts], face: FaceFacts, inner: list[Loop], drilled: set[int]
) -> list[Feature]:
    """Openings in a top that upright walls lead through to another face."""
    normal = np.array(face.normal)
    out = []
    for loop in inner:
        walls = sorted(loop.falling)
        if not walls or set(walls) & drilled or loop.share > OPEN:
            continue
        if not all(upright(mesh, w, normal) for w in walls):
            continue
        ends = {o for w in walls for o in mesh.neighbours(w)} - set(walls) - {face.id}
        down = [facts[o] for o in ends if facts[o].kind == "plane" and facts[o].normal is not None]
        below = [f for f in down if float(np.dot(f.normal or [0, 0, 0], normal)) < -1 + 1e-6]
        floor = any(float(np.dot(f.normal or [0, 0, 0], normal)) > 1 - 1e-6 for f in down)
        if below and not floor:
            depth = max(float(np.ptp(mesh.spans[w] @ normal)) for w in walls)
            length, width = _extent(loop.polygon)
            corner = _corner(facts, walls)
            out.append(Feature("through pocket", axis_of(face), 0, walls, [], depth, length, width, corner))
    return out


def _boss(mesh: PartMesh, facts: dict[int, FaceFacts], floor: FaceFacts, walls: list[int]) -> Feature:
    normal = np.array(floor.normal)
    level = float(normal @ np.array(floor.origin))
    own = [facts[w] for w in walls]
    round_ = [f for f in own if f.kind == "cylinder" and not f.hollow and f.radius]
    whole = len(round_) == len(own) and len({round(f.radius or 0.0, 4) for f in round_}) == 1
    tops = {
        o
        for w in walls
        for o in mesh.neighbours(w)
        if facts[o].kind == "plane"
        and facts[o].normal is not None
        and float(np.dot(facts[o].normal or [0], normal)) > 1 - 1e-6
        and float(np.dot(facts[o].origin or [0], normal)) > level + SAME_MM
    }
    height = max(float((mesh.spans[w] @ normal).max()) for w in walls) - level
    points = np.vstack([mesh.spans[w] for w in walls])
    length, width = _extent_of(points, normal)
    radius = float(round_[0].radius or 0.0) if whole else 0.0
    if whole:
        length = width = 2.0 * radius
    top = min(tops) if len(tops) == 1 else 0
    return Feature("boss", axis_of(floor), top, walls, [], height, length, width, radius)


def _once(features: list[Feature]) -> list[Feature]:
    """Chamfers and fillets once, though two tops meet them, and through openings once, though seen from both
    sides."""
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

"""The bodies of a machine as triangles, in machine coordinates with all joints at zero.

Round bodies are drawn about their circles, never inside them, so that a picture or a proof of motion has no
less than the body.
"""

from __future__ import annotations

import math
from functools import cache, lru_cache

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import Polygon, box
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient
from shapely.ops import unary_union

from fenrik.core.frames import rotation_up, transform
from fenrik.core.machines.bodies import Body, Box, Extruded, FileBody, Plate, Revolved, Round
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.setups.fixture import box_mesh, joined_meshes

Floats = NDArray[np.float64]
ROUND_MM = 0.1
"""How far corners of a round body lie outside its circle at most, within a number of sides."""
FEWEST, MOST = 24, 96


def solid_of(body: Body, files: dict[str, TriangleMesh] | None = None) -> TriangleMesh:
    """A body as triangles, outward. `files` are the meshes of the files that bodies name, by
    `FileBody.key`."""
    return (files or {})[body.key] if isinstance(body, FileBody) else _drawn(body)


@lru_cache(maxsize=1000)
def _drawn(body: Body) -> TriangleMesh:
    if isinstance(body, Plate):
        return _plate(body)
    if isinstance(body, Box):
        return box_mesh(np.array(body.low), np.array(body.high))
    if isinstance(body, Round):
        begin, end = np.array(body.begin), np.array(body.end)
        length = float(np.linalg.norm(end - begin))
        last = body.radius if body.radius_end is None else body.radius_end
        outline = np.array([[0.0, 0.0], [body.radius, 0.0], [last, length], [0.0, length]])
        return revolved(outline).moved(transform(rotation_up((end - begin) / length).T, body.begin))
    if isinstance(body, Revolved):
        ring = orient(Polygon(body.outline)).exterior.coords[:-1]
        return revolved(np.array(ring)).moved(body.frame)
    assert isinstance(body, Extruded)
    return extruded(Polygon(body.outline), body.bottom, body.top).moved(body.frame)


def extruded(shape: BaseGeometry, bottom: float, top: float) -> TriangleMesh:
    """A polygon with its holes drawn out along Z."""
    assert isinstance(shape, Polygon)
    outline: Polygon = orient(shape)
    pieces = shapely.get_parts(shapely.constrained_delaunay_triangles(outline))
    caps = shapely.get_coordinates(pieces).reshape(-1, 4, 2)[:, :3]
    turned = np.cross(caps[:, 1] - caps[:, 0], caps[:, 2] - caps[:, 0]) < 0
    caps[turned] = caps[turned][:, ::-1]
    under = np.concatenate([caps[:, ::-1], np.full((*caps.shape[:2], 1), bottom)], axis=2)
    over = np.concatenate([caps, np.full((*caps.shape[:2], 1), top)], axis=2)
    walls = []
    for ring in (outline.exterior, *outline.interiors):
        a = np.array(ring.coords[:-1])
        b = np.roll(a, -1, axis=0)
        low_a, low_b = (np.column_stack([p, np.full(len(p), bottom)]) for p in (a, b))
        high_a, high_b = (np.column_stack([p, np.full(len(p), top)]) for p in (a, b))
        walls += [np.stack([low_a, low_b, high_b], axis=1), np.stack([low_a, high_b, high_a], axis=1)]
    return _welded(np.concatenate([under, over, *walls]))


def revolved(ring: Floats) -> TriangleMesh:
    """A closed outline (n, 2) of radius and height, counter-clockwise, turned about Z."""
    widest = float(ring[:, 0].max())
    sides = sides_of(widest)
    angle = 2.0 * np.pi * np.arange(sides) / sides
    about = np.column_stack([np.cos(angle), np.sin(angle)]) / math.cos(math.pi / sides)
    places = np.concatenate(
        [about[None] * ring[:, :1, None], np.broadcast_to(ring[:, 1:, None], (len(ring), sides, 1))], axis=2
    )
    out = []
    for i in range(len(ring)):
        low, high = places[i], places[(i + 1) % len(ring)]
        low_next, high_next = np.roll(low, -1, axis=0), np.roll(high, -1, axis=0)
        out += [np.stack([low, low_next, high_next], axis=1), np.stack([low, high_next, high], axis=1)]
    return _welded(np.concatenate(out))


@cache
def sides_of(radius: float) -> int:
    """How many sides a circle gets."""
    if radius <= 0.0:
        return FEWEST
    count = math.pi / math.acos(radius / (radius + ROUND_MM))
    return int(np.clip(4 * math.ceil(count / 4), FEWEST, MOST))


def _plate(body: Plate) -> TriangleMesh:
    """The plate with its slots or bores."""
    low, high = np.array(body.low), np.array(body.high)
    if body.grid == "bores":
        holes = unary_union([Polygon(c) for c in _bores(body, low, high)])
        shape = box(low[0], low[1], high[0], high[1])
        return joined_meshes(
            [
                extruded(shape, low[2], high[2] - body.depth),
                extruded(shape.difference(holes), high[2] - body.depth, high[2]),
            ]
        )
    along = "xy".index(body.grid)
    across = 1 - along
    outline = _slotted(float(low[across]), float(high[across]), float(low[2]), float(high[2]), body)
    if along == 0:  # frame: Z along the machine's X, X along its Y
        frame = np.array([[0.0, 0, 1, 0], [1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 0, 1]])
        return extruded(outline, low[0], high[0]).moved(frame)
    # Z against the machine's Y, X along its X
    frame = np.array([[1.0, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 0], [0, 0, 0, 1]])
    return extruded(outline, -high[1], -low[1]).moved(frame)


def _places(low: float, high: float, pitch: float, width: float) -> Floats:
    """Middles of slots or bores in a row, symmetrical about the middle."""
    count = int((high - low - 2.0 * width) // pitch) + 1
    return np.asarray(0.5 * (low + high) + pitch * (np.arange(count) - 0.5 * (count - 1)))


def _bores(body: Plate, low: Floats, high: Floats) -> list[Floats]:
    angle = 2.0 * np.pi * np.arange(12) / 12
    circle = 0.5 * body.width * np.column_stack([np.cos(angle), np.sin(angle)])
    xs, ys = (_places(low[i], high[i], body.pitch, body.width) for i in (0, 1))
    return [circle + np.array([x, y]) for x in xs for y in ys]


def _slotted(low: float, high: float, bottom: float, top: float, body: Plate) -> Polygon:
    """Section across T-slots, the groove of each 1.7 times as wide as its neck."""
    neck, groove, depth = 0.5 * body.width, 0.85 * body.width, body.depth
    shape = box(low, bottom, high, top)
    cuts = []
    for at in _places(low, high, body.pitch, body.width):
        cuts += [
            box(at - neck, top - depth, at + neck, top),
            box(at - groove, top - depth, at + groove, top - 0.55 * depth),
        ]
    left = shape.difference(unary_union(cuts))
    assert isinstance(left, Polygon)
    return left


def _welded(corners: Floats) -> TriangleMesh:
    """Triangles (n, 3, 3) as a mesh of shared corners, those without area left out."""
    points, index = np.unique(np.round(corners.reshape(-1, 3), 9), axis=0, return_inverse=True)
    triangles = index.reshape(-1, 3)
    a, b, c = triangles.T
    triangles = triangles[(a != b) & (b != c) & (c != a)]
    return TriangleMesh(points, triangles.astype(np.int32), np.ones(len(triangles), dtype=np.int32))

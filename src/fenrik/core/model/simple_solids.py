"""Boxes, plates, extruded and revolved outlines as triangles: what machines and fixtures are drawn of.

Round bodies are drawn about their circles, never inside them, so that a picture or a proof of motion has no
less than the body.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import cache
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import Polygon, box
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient
from shapely.ops import unary_union

from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]
Grid = Literal["x", "y", "bores"]
ROUND_MM = 0.1
"""How far corners of a round body lie outside its circle at most, within a number of sides."""
FEWEST, MOST = 24, 96
MOST_BORES = 2000
CORNERS = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], dtype=np.float64)
SIDES = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
"""Corners round about the sides of a box, seen from outside, by their place in `CORNERS`."""


def box_mesh(low: Floats, high: Floats) -> TriangleMesh:
    """A box as twelve triangles of face 1."""
    triangles = [t for a, b, c, d in SIDES for t in ((a, b, c), (a, c, d))]
    return TriangleMesh(
        low + CORNERS * (high - low), np.array(triangles, dtype=np.int32), np.ones(12, dtype=np.int32)
    )


def joined_meshes(meshes: Sequence[TriangleMesh]) -> TriangleMesh:
    """Several meshes as one; face ids stay what they are."""
    starts = np.cumsum([0, *(len(m.vertices) for m in meshes[:-1])])
    return TriangleMesh(
        np.concatenate([m.vertices for m in meshes]),
        np.concatenate([m.triangles + np.int32(s) for m, s in zip(meshes, starts, strict=True)]).astype(
            np.int32
        ),
        np.concatenate([m.face_ids for m in meshes]),
        max(m.deviation for m in meshes),
    )


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


def grid_fault(size: Sequence[float], pitch: float, width: float, depth: float) -> str | None:
    """Why a plate of a size (X, Y, Z) cannot have slots or bores so far apart, so wide and so deep,
    in words; None where it can."""
    x, y, high = size
    count = max(1.0, x / pitch) * max(1.0, y / pitch)
    if depth >= high:
        return f"slots or bores are {depth:g} deep in a plate of {high:g}; make them less deep"
    if count > MOST_BORES:
        return (
            f"a plate of {x:g} x {y:g} gets {count:.0f} slots or bores {pitch:g} apart; set them wider, "
            f"{MOST_BORES} are the most"
        )
    if pitch < 2.0 * width:
        return f"slots or bores {width:g} wide are {pitch:g} apart; give twice the width at least"
    return None


def plate_mesh(
    low: Floats, high: Floats, grid: Grid, pitch: float, width: float, depth: float
) -> TriangleMesh:
    """A box with T-slots along X or Y in its top, or a grid of bores, `pitch` apart and symmetrical about its
    middle; a slot is `width` wide, or a bore has that diameter, `depth` deep."""
    if grid == "bores":
        holes = unary_union([Polygon(c) for c in _bores(low, high, pitch, width)])
        shape = box(low[0], low[1], high[0], high[1])
        return joined_meshes(
            [
                extruded(shape, low[2], high[2] - depth),
                extruded(shape.difference(holes), high[2] - depth, high[2]),
            ]
        )
    along = "xy".index(grid)
    across = 1 - along
    ends = (float(low[across]), float(high[across]), float(low[2]), float(high[2]))
    outline = _slotted(*ends, pitch, width, depth)
    if along == 0:  # frame: Z along X, X along Y
        frame = np.array([[0.0, 0, 1, 0], [1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 0, 1]])
        return extruded(outline, low[0], high[0]).moved(frame)
    # Z against Y, X along X
    frame = np.array([[1.0, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 0], [0, 0, 0, 1]])
    return extruded(outline, -high[1], -low[1]).moved(frame)


def _places(low: float, high: float, pitch: float, width: float) -> Floats:
    """Middles of slots or bores in a row, symmetrical about the middle."""
    count = int((high - low - 2.0 * width) // pitch) + 1
    return np.asarray(0.5 * (low + high) + pitch * (np.arange(count) - 0.5 * (count - 1)))


def _bores(low: Floats, high: Floats, pitch: float, width: float) -> list[Floats]:
    angle = 2.0 * np.pi * np.arange(12) / 12
    circle = 0.5 * width * np.column_stack([np.cos(angle), np.sin(angle)])
    xs, ys = (_places(low[i], high[i], pitch, width) for i in (0, 1))
    return [circle + np.array([x, y]) for x in xs for y in ys]


def _slotted(
    low: float, high: float, bottom: float, top: float, pitch: float, width: float, depth: float
) -> Polygon:
    """Section across T-slots, the groove of each 1.7 times as wide as its neck."""
    neck, groove = 0.5 * width, 0.85 * width
    shape = box(low, bottom, high, top)
    cuts = []
    for at in _places(low, high, pitch, width):
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

"""Jaws that close on the stock as it stands, alone or on a vice, as meshes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import Polygon, box
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import DocumentError
from fenrik.core.frames import transform
from fenrik.core.model.outline import section_at
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import box_mesh, extruded, revolved
from fenrik.core.setups.pieces import Jaws, Vice

Floats = NDArray[np.float64]
HEIGHTS = (0.1, 0.3, 0.5, 0.7, 0.9)
"""Shares of the grip at which the stock between jaws is looked at."""
SLIDE_SHARE, SCREW_MM = 0.7, 12.0
"""Height of what carries a vice's moving jaw over the jaw's, and the radius of the screw's end: proportions
of our own."""
PRECISION_MM = 1e-6


@dataclass(frozen=True)
class _Pair:
    """Two jaws on the stock: between `faces` across their direction `along` (0: X, 1: Y), about a `middle`
    along it, their tops at a height."""

    piece: Jaws | Vice
    along: int
    middle: float
    faces: tuple[float, float]
    top: float


def gripped(
    piece: Jaws | Vice, stock: TriangleMesh, along: int, middle: float, bottom: float, top: float
) -> tuple[float, float]:
    """Between which coordinates across their direction (`along` 0: X, 1: Y) jaws about a `middle` find
    material, in sections at five heights between `bottom` and `top`. Raises DocumentError for nothing."""
    across = 1 - along
    corners = stock.vertices[stock.triangles]
    found = [np.empty(0)]
    for share in HEIGHTS:
        ends = section_at(corners, bottom + share * (top - bottom))
        # of every line of the section what lies within the jaws' length
        a, b = ends[:, 0, along] - middle, ends[:, 1, along] - middle
        run = np.where(np.abs(b - a) < 1e-12, 1e-12, b - a)
        first, last = ((s * 0.5 * piece.length - a) / run for s in (-1.0, 1.0))
        enter, leave = np.maximum(np.minimum(first, last), 0.0), np.minimum(np.maximum(first, last), 1.0)
        held = enter <= leave
        for t in (enter[held], leave[held]):
            found.append(ends[held, 0, across] + t * (ends[held, 1, across] - ends[held, 0, across]))
    width = np.concatenate(found)
    if not len(width):
        raise DocumentError(
            f"'{piece.name}' grip nothing: the stock as it stands has no material between them up to "
            f"{top - bottom:g} mm over its underside.",
            remedy="Grip higher, use longer jaws, or hold it otherwise.",
        )
    return float(width.min()), float(width.max())


def jaws_meshes(piece: Jaws, stock: TriangleMesh, gap: float) -> list[TriangleMesh]:
    """A pair of jaws on the stock, larger by `gap` mm."""
    low, high = stock.bounds
    along = "xy".index(piece.along)
    middle, bottom = float(0.5 * (low[along] + high[along])), float(low[2])
    faces = gripped(piece, stock, along, middle, bottom, bottom + piece.grip)
    return _jaws(_Pair(piece, along, middle, faces, bottom + piece.grip), stock, gap)


def vice_meshes(piece: Vice, stock: TriangleMesh, gap: float) -> list[TriangleMesh]:
    """A vice with its jaws on the stock, which stands in the vice's fixture, larger by `gap` mm. Raises
    DocumentError where it does not open so far."""
    x, y, z = piece.at
    bottom = float(stock.bounds[0][2])
    far = gripped(piece, stock, 0, x, bottom, piece.top)[1]
    if far - y > piece.opening:
        raise DocumentError(
            f"'{piece.name}' opens {piece.opening:g} mm; the stock is {far - y:.2f} mm wide there.",
            remedy="Turn the part or the fixture, or take a wider vice.",
        )
    half, back, over = 0.5 * piece.length, piece.thickness + piece.heel, z + piece.base_height
    front = max(y + piece.base_length - back, far + piece.thickness + piece.slide)
    slide = SLIDE_SHARE * piece.height
    boxes = [
        ((x - half, y - back, z), (x + half, front, over)),
        (
            (x - 0.8 * half, far + piece.thickness, over),
            (x + 0.8 * half, far + piece.thickness + piece.slide, over + slide),
        ),
    ]
    out = [box_mesh(np.array(a) - gap, np.array(b) + gap) for a, b in boxes]
    if piece.screw > 0.0:  # it looks out of the base along Y
        radius, end = min(SCREW_MM, 0.4 * piece.base_height) + gap, piece.screw + gap
        ring = np.array([[0.0, 0.0], [radius, 0.0], [radius, end], [0.0, end]])
        turned = np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]])
        out.append(revolved(ring).moved(transform(turned, (x, front, z + 0.5 * piece.base_height))))
    return out + _jaws(_Pair(piece, 0, x, (y, far), piece.top), stock, gap)


def _jaws(pair: _Pair, stock: TriangleMesh, gap: float) -> list[TriangleMesh]:
    """Both jaws of a pair."""
    piece, top = pair.piece, pair.top
    ledge = 0.0 if piece.form == "hard" else piece.ledge
    if pair.faces[1] - pair.faces[0] <= 2.0 * ledge and ledge:
        raise DocumentError(
            f"The ledges of '{piece.name}', {ledge:g} mm each, meet under a stock that is "
            f"{pair.faces[1] - pair.faces[0]:.2f} mm wide there.",
            remedy="Make the ledges smaller.",
        )
    floor = top - piece.grip
    nest = _outline(stock, floor, top) if piece.form == "soft" else None
    out: list[TriangleMesh] = []
    for side, face in zip((-1.0, 1.0), pair.faces, strict=True):
        whole = _plan(pair, face - side * ledge, face + side * piece.thickness)
        plain = _plan(pair, face, face + side * piece.thickness)
        layers: list[tuple[float, float, BaseGeometry]] = [(top - piece.height, top, plain)]
        if piece.form != "hard":
            upper = plain if nest is None else whole.difference(nest)
            layers = [(top - piece.height, floor, whole), (floor, top, upper)]
        for bottom, over, shape in layers:
            grown = shape.buffer(gap, join_style="mitre") if gap else shape
            for one in shapely.get_parts(grown):
                if one.area > PRECISION_MM:
                    out.append(extruded(one, bottom - gap, over + gap))
    return out


def _plan(pair: _Pair, inner: float, outer: float) -> Polygon:
    """A jaw from above, between two coordinates across."""
    low, high = sorted((inner, outer))
    half = 0.5 * pair.piece.length
    ends = (pair.middle - half, pair.middle + half)
    return box(ends[0], low, ends[1], high) if pair.along == 0 else box(low, ends[0], high, ends[1])


def _outline(stock: TriangleMesh, bottom: float, top: float) -> BaseGeometry:
    """What the stock covers in plan view between two heights, its hollows filled: the outline to which soft
    jaws are cut."""
    corners, shapes = stock.vertices[stock.triangles], []
    for share in HEIGHTS:
        ends = section_at(corners, bottom + share * (top - bottom))
        lines = shapely.set_precision(shapely.MultiLineString(list(ends[:, :, :2])), PRECISION_MM)
        for ring in shapely.get_parts(shapely.polygonize(shapely.get_parts(shapely.node(lines)))):
            shapes.append(Polygon(ring.exterior))
    return shapely.union_all(shapes)

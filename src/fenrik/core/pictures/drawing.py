"""A shaded picture of bodies with hidden surfaces and lines hidden: parallel view, z-buffer, drawn twice as
large and averaged down."""

from __future__ import annotations

import math
import struct
import zlib
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.pictures._raster_kernels import fill

Floats = NDArray[np.float64]
Colour = tuple[int, int, int]

FINER = 2
"""Pixels a pixel of the picture is averaged from, to each side."""
INK: Colour = (29, 41, 48)
PART: Colour = (176, 188, 194)
FIXTURE: Colour = (148, 143, 166)
STOCK: Colour = (138, 122, 84)
LIGHT = np.array([-0.35, 0.55, 0.76])
"""From where light comes: right, up and towards the eye."""
DARKEST = 0.42
"""Share of its colour that a face has which the light does not reach."""


def of_part(part: PartModel, width: int, height: int) -> bytes:
    """A part as it lies in its file, as PNG."""
    frame = Frame(part.mesh.vertices, width, height, 10)
    return png(picture([Body(part.mesh, PART)], [Lines(list(part.edge_lines))], frame))


@dataclass(frozen=True)
class Body:
    """Triangles in one colour."""

    mesh: TriangleMesh
    colour: Colour


@dataclass(frozen=True)
class Lines:
    """Polylines (n, 3) in one colour, so many pixels wide, drawn through or in dashes."""

    lines: list[Floats]
    colour: Colour = INK
    width: float = 1.0
    dashed: bool = False


def seen_from_corner(points: Floats) -> Floats:
    """Points (n, 3) as seen from front right above: right, up, towards the eye."""
    turn, tilt = math.radians(-30), math.radians(28)
    across = points[:, 0] * math.cos(turn) - points[:, 1] * math.sin(turn)
    away = points[:, 0] * math.sin(turn) + points[:, 1] * math.cos(turn)
    up = points[:, 2] * math.cos(tilt) + away * math.sin(tilt)
    return np.column_stack([across, up, points[:, 2] * math.sin(tilt) - away * math.cos(tilt)])


class Frame:
    """Where points come to lie in a picture of `width` x `height` pixels that shows `around` (n, 3) with a
    margin of so many pixels."""

    def __init__(self, around: Floats, width: int, height: int, margin: float) -> None:
        self.width, self.height = width, height
        flat = seen_from_corner(around)
        low, high = flat.min(axis=0), flat.max(axis=0)
        room = np.array([width, height]) - 2 * margin
        self.scale = float(np.min(room / np.maximum((high - low)[:2], 1e-9)))
        self._middle = (low + high) / 2

    def pixels(self, points: Floats) -> Floats:
        """Points (n, 3) as pixels right, down, and towards the eye in the same measure."""
        at = (seen_from_corner(points) - self._middle) * self.scale
        return np.column_stack([self.width / 2 + at[:, 0], self.height / 2 - at[:, 1], at[:, 2]])


def picture(bodies: list[Body], lines: list[Lines], frame: Frame) -> NDArray[np.uint8]:
    """Bodies and the lines that they do not hide, (height, width, 4): red, green, blue and opacity."""
    size = (frame.height * FINER, frame.width * FINER)
    depth, owner = np.full(size, -np.inf), np.full(size, -1, dtype=np.int32)
    colours = [np.zeros((0, 3))]
    for body in bodies:
        points = frame.pixels(body.mesh.vertices) * FINER
        fill(points, body.mesh.triangles.astype(np.int32), sum(map(len, colours)), depth, owner)
        colours.append(_shaded(points, body))
    out = np.zeros((*size, 4))
    shown = owner >= 0
    out[shown, :3], out[shown, 3] = np.vstack(colours)[owner[shown]], 255.0
    for some in lines:
        for line in some.lines:
            _draw(frame.pixels(line) * FINER, some, depth, out)
    return _averaged(out)


def sharp_edges(mesh: TriangleMesh, angle_deg: float = 30.0) -> list[Floats]:
    """The edges (2, 3) of a mesh in which facets meet at more than an angle, or that only one has."""
    # a corner that several facets have may stand in the mesh several times
    points, same = np.unique(np.round(mesh.vertices, 6), axis=0, return_inverse=True)
    triangles = same.reshape(-1)[mesh.triangles]
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    ends = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    facet = np.tile(np.arange(len(triangles)), 3)
    order = np.lexsort((ends[:, 1], ends[:, 0]))
    ends, facet = ends[order], facet[order]
    twin = np.all(ends[1:] == ends[:-1], axis=1)
    level = np.zeros(len(ends), dtype=bool)
    flat = np.einsum("ij,ij->i", normal[facet[1:]], normal[facet[:-1]]) > math.cos(math.radians(angle_deg))
    level[1:] |= twin & flat
    level[:-1] |= twin & flat
    return [points[pair] for pair in np.unique(ends[~level], axis=0)]


def _shaded(points: Floats, body: Body) -> Floats:
    """The colour (m, 3) of every triangle under the light."""
    a, b, c = (points[body.mesh.triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a) * [1.0, -1.0, 1.0]  # rows run down
    length = np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    normal *= np.sign(np.where(normal[:, 2:] == 0, 1.0, normal[:, 2:])) / length  # towards the eye
    bright = np.clip(normal @ (LIGHT / np.linalg.norm(LIGHT)), 0.0, 1.0)
    share = DARKEST + (1.0 - DARKEST) * bright
    return np.clip(np.outer(share, body.colour) * 1.12, 0, 255)


def _draw(points: Floats, how: Lines, depth: Floats, out: Floats) -> None:
    """Sets the pixels of a line that nothing nearer covers."""
    length = np.linalg.norm(np.diff(points[:, :2], axis=0), axis=1)
    along = np.concatenate([[0.0], np.cumsum(length)])
    if along[-1] < 1e-9:
        return
    at = np.arange(0.0, along[-1], 0.5)
    if how.dashed:
        at = at[(at % (14.0 * FINER)) < 8.0 * FINER]
    spots = np.column_stack([np.interp(at, along, points[:, k]) for k in range(3)])
    reach = max(how.width * FINER / 2 - 0.5, 0.0)
    steps = np.arange(-math.floor(reach), math.ceil(reach) + 1)
    rows, columns = depth.shape
    for right in steps:
        for down in steps:
            x = np.floor(spots[:, 0] + right).astype(int)
            y = np.floor(spots[:, 1] + down).astype(int)
            keep = (x >= 0) & (y >= 0) & (x < columns) & (y < rows)
            x, y, near = x[keep], y[keep], spots[keep, 2]
            free = near >= depth[y, x] - 2.5 * FINER  # an edge lies in the faces that meet in it
            out[y[free], x[free]] = (*how.colour, 255.0)


def _averaged(out: Floats) -> NDArray[np.uint8]:
    rows, columns = out.shape[0] // FINER, out.shape[1] // FINER
    solid = out[..., 3:] / 255.0
    blocks = (out[..., :3] * solid).reshape(rows, FINER, columns, FINER, 3).mean(axis=(1, 3))
    opaque = solid.reshape(rows, FINER, columns, FINER, 1).mean(axis=(1, 3))
    plain = blocks / np.maximum(opaque, 1e-9)
    return np.concatenate([plain, opaque * 255.0], axis=2).round().astype(np.uint8)


def png(pixels: NDArray[np.uint8]) -> bytes:
    """A picture (height, width, 4) as a PNG file (ISO/IEC 15948: one chunk of zlib-packed rows)."""
    height, width, _ = pixels.shape
    rows = np.concatenate([np.zeros((height, 1), np.uint8), pixels.reshape(height, width * 4)], axis=1)

    def chunk(kind: bytes, content: bytes) -> bytes:
        sum_of = zlib.crc32(kind + content)
        return struct.pack(">I", len(content)) + kind + content + struct.pack(">I", sum_of)

    head = struct.pack(">IIBBBBB", width, height, 8, 6, 0, 0, 0)
    packed = zlib.compress(rows.tobytes(), 6)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", packed) + chunk(b"IEND", b"")

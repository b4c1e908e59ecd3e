"""Pictures: what is nearer hides what is behind it, and a file that other readers take."""

from __future__ import annotations

import struct
import zlib

import numpy as np
import pytest
import trimesh

from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.pictures.drawing import (
    FIXTURE,
    PART,
    Body,
    Frame,
    Lines,
    picture,
    png,
    seen_from_corner,
    sharp_edges,
)


def mesh(solid: trimesh.Trimesh) -> TriangleMesh:
    triangles = np.asarray(solid.faces, dtype=np.int32)
    return TriangleMesh(np.asarray(solid.vertices, float), triangles, np.ones(len(triangles), np.int32))


def box(low, high) -> TriangleMesh:
    return mesh(trimesh.creation.box(bounds=[low, high]))


def share(pixels, colour):
    """Which pixels have a colour's tint, whatever light falls on them."""
    solid = pixels[..., 3] == 255
    tint = pixels[..., :3] / np.maximum(pixels[..., :3].max(axis=2, keepdims=True), 1)
    wanted = np.array(colour) / max(colour)
    return solid & (np.abs(tint - wanted).max(axis=2) < 0.02)


def test_a_picture_covers_what_the_outline_of_the_body_covers():
    """The outline is that of the convex hull of the projected corners (shapely)."""
    from shapely import MultiPoint

    body = box([0, 0, 0], [40, 20, 10])
    frame = Frame(body.vertices, 300, 200, 10)
    pixels = picture([Body(body, PART)], [], frame)
    hull = MultiPoint(frame.pixels(body.vertices)[:, :2]).convex_hull
    assert (pixels[..., 3] / 255.0).sum() == pytest.approx(hull.area, rel=0.01)
    left, top, right, low = hull.bounds
    assert min(left, top, 300 - right, 200 - low) >= 10 - 1e-6
    assert min(left, top) == pytest.approx(10)


def test_what_stands_in_front_hides_bodies_and_lines_behind_it():
    behind, before = box([0, 10, 0], [40, 20, 30]), box([0, -20, 0], [40, -10, 30])
    frame = Frame(np.vstack([behind.vertices, before.vertices]), 300, 240, 10)
    line = np.array([[5.0, 15.0, 5.0], [35.0, 15.0, 5.0]])  # inside the one behind
    pixels = picture([Body(behind, PART), Body(before, FIXTURE)], [Lines([line], (255, 0, 0), 2)], frame)
    assert not (pixels[..., 0] > 2 * pixels[..., 1].astype(int) + 40).any()
    alone = picture([Body(before, FIXTURE)], [], frame)
    seen = share(alone, FIXTURE)
    assert (share(pixels, FIXTURE) & seen).sum() == seen.sum()  # nothing of it is covered
    other = picture([Body(before, FIXTURE), Body(behind, PART)], [], frame)
    assert np.array_equal(other, picture([Body(behind, PART), Body(before, FIXTURE)], [], frame))


def test_the_eye_is_in_front_to_the_right_and_above():
    right, front, up = seen_from_corner(np.eye(3))
    assert right[2] > 0 or front[2] < 0  # x towards the eye or y away from it
    assert up[2] > 0
    assert front[2] < 0


def test_edges_of_a_box_and_of_a_round_body():
    """A box has 12; a cylinder the facets of its two rims and none along its wall."""
    assert len(sharp_edges(box([0, 0, 0], [1, 2, 3]))) == 12
    round_body = mesh(trimesh.creation.cylinder(radius=5, height=8, sections=48))
    assert len(sharp_edges(round_body)) == 96


def pixels_of(data: bytes):
    """The pixels of a PNG file (ISO/IEC 15948): signature, chunks with their sums, rows with a filter."""
    assert data[:8] == b"\x89PNG\r\n\x1a\n"
    at, chunks = 8, {}
    while at < len(data):
        (length,), kind = struct.unpack(">I", data[at : at + 4]), data[at + 4 : at + 8]
        content = data[at + 8 : at + 8 + length]
        assert struct.unpack(">I", data[at + 8 + length : at + 12 + length])[0] == zlib.crc32(kind + content)
        chunks[kind], at = content, at + 12 + length
    assert list(chunks) == [b"IHDR", b"IDAT", b"IEND"]
    width, height, *kind = struct.unpack(">IIBBBBB", chunks[b"IHDR"])
    assert kind == [8, 6, 0, 0, 0]
    rows = np.frombuffer(zlib.decompress(chunks[b"IDAT"]), np.uint8).reshape(height, 4 * width + 1)
    assert (rows[:, 0] == 0).all()
    return rows[:, 1:].reshape(height, width, 4)


def test_the_file_is_a_png_as_the_standard_says():
    pixels = np.arange(5 * 7 * 4, dtype=np.uint8).reshape(5, 7, 4)
    assert np.array_equal(pixels_of(png(pixels)), pixels)

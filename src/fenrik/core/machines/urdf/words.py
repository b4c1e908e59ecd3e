"""What writing and reading of URDF share: its units, names, frames and numbers."""

from __future__ import annotations

import io
import math
import struct
import xml.etree.ElementTree as ET
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import InputError
from fenrik.core.frames import transform
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]
BASE, WORK, TOOL = "base", "work_mount", "tool_mount"
"""Links that every machine has."""
OWN = "urn:fenrik:machine"
"""Namespace of what URDF has no words for."""
MM = 0.001
"""A millimetre in metres."""


def put_origin(of: ET.Element, frame: Floats) -> None:
    """An origin element: place and roll, pitch, yaw of a frame (4, 4), mm."""
    r = frame[:3, :3]
    pitch = math.atan2(-r[2, 0], math.hypot(r[0, 0], r[1, 0]))
    if math.hypot(r[0, 0], r[1, 0]) < 1e-9:
        roll, yaw = math.atan2(-r[1, 2], r[1, 1]), 0.0
    else:
        roll, yaw = math.atan2(r[2, 1], r[2, 2]), math.atan2(r[1, 0], r[0, 0])
    ET.SubElement(of, "origin", xyz=words(MM * frame[:3, 3]), rpy=words(np.array([roll, pitch, yaw])))


def origin_of(of: ET.Element) -> Floats:
    """The frame (4, 4) of an origin element, mm; none is the identity."""
    origin = of.find("origin")
    if origin is None:
        return np.eye(4)
    xyz = numbers(origin.get("xyz"), (0.0, 0.0, 0.0), "origin") / MM
    a, b, c = numbers(origin.get("rpy"), (0.0, 0.0, 0.0), "origin")
    (ca, sa), (cb, sb), (cc, sc) = ((math.cos(v), math.sin(v)) for v in (a, b, c))
    turn = (
        np.array([[cc, -sc, 0], [sc, cc, 0], [0, 0, 1]])
        @ np.array([[cb, 0, sb], [0, 1, 0], [-sb, 0, cb]])
        @ np.array([[1, 0, 0], [0, ca, -sa], [0, sa, ca]])
    )
    return transform(turn, xyz)


def numbers(text: str | None, default: tuple[float, ...] | None, what: str) -> Floats:
    """Numbers in a text. Raises InputError for others."""
    if text is None and default is not None:
        return np.array(default)
    try:
        out = np.array([float(v) for v in (text or "").split()])
    except ValueError:
        out = np.zeros(0)
    if not len(out) or not np.isfinite(out).all() or (default is not None and len(out) != len(default)):
        raise InputError(f"'{what[:40]}' has '{(text or '')[:60]}' for its numbers.", remedy="Correct it.")
    return out


def stl(mesh: TriangleMesh) -> bytes:
    """A mesh as binary STL, mm."""
    corners = mesh.vertices[mesh.triangles].astype("<f4")
    out = io.BytesIO()
    out.write(b"\0" * 80 + struct.pack("<I", len(corners)))
    rows = np.zeros(len(corners), dtype=[("n", "<f4", 3), ("v", "<f4", (3, 3)), ("a", "<u2")])
    rows["v"] = corners
    out.write(rows.tobytes())
    return out.getvalue()


def words(values: Floats) -> str:
    """Numbers as text."""
    return " ".join(f"{v + 0.0:.12g}" for v in values.tolist())


def vector(values: Any) -> Any:
    """Numbers as a tuple, rounded to 1e-9."""
    return tuple(rounded(float(v)) for v in values)


def rounded(value: float | None) -> Any:
    """A number rounded to 1e-9, None where there is none."""
    return None if value is None else round(value, 9) + 0.0

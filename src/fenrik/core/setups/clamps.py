"""Strap clamps upon the stock, as meshes."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import DocumentError
from fenrik.core.frames import invert, transform
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import box_mesh, revolved
from fenrik.core.setups.pieces import Clamp

Floats = NDArray[np.float64]
HEEL_MM, STUD_MM, NUT_MM = 20.0, 6.0, 15.0
"""Length of the heel's block, radius of the stud and how far it goes over the bar: proportions of our own."""


def clamp_meshes(piece: Clamp, stock: TriangleMesh, ground: float, gap: float) -> list[TriangleMesh]:
    """A clamp upon the stock, larger by `gap` mm; its heel and stud stand on `ground`. Raises DocumentError
    where nothing of the stock is under it."""
    angle = math.radians(piece.towards_deg)
    # the clamp's own frame: zero under its tip, X along the bar towards the heel
    frame = transform(turn_about_z(angle), (*piece.at, 0.0))
    half = 0.5 * piece.width
    seen = stock.moved(invert(frame))
    top = highest_within(seen.vertices[seen.triangles], (0.0, -half), (piece.reach, half))
    if top is None or top <= ground:
        raise DocumentError(
            f"'{piece.name}' has nothing of the stock under the first {piece.reach:g} mm of its bar at "
            f"({piece.at[0]:g}, {piece.at[1]:g}).",
            remedy="Set its tip upon the stock, or turn it.",
        )
    length, over = piece.length, top + piece.thickness
    stud = max(0.5 * (piece.reach + length - HEEL_MM), piece.reach + STUD_MM)
    if highest_within(seen.vertices[seen.triangles], (stud - STUD_MM, -half), (length, half)) is not None:
        raise DocumentError(
            f"The stud or heel of '{piece.name}' would stand in the stock: {stud - STUD_MM:g} mm from its "
            "tip there has to be none left.",
            remedy="Set its tip nearer to the stock's edge, turn it, or make it longer.",
        )
    boxes = [
        ((0.0, -half, top), (length, half, over)),
        ((length - HEEL_MM, -half, ground), (length, half, top)),
    ]
    out = [box_mesh(np.array(a) - gap, np.array(b) + gap).moved(frame) for a, b in boxes]
    radius = min(STUD_MM, 0.3 * piece.width) + gap
    for bottom, high in ((ground - gap, top), (over, over + NUT_MM + gap)):  # beside the bar, not through it
        ring = np.array([[0.0, bottom], [radius, bottom], [radius, high], [0.0, high]])
        out.append(revolved(ring).moved(frame @ transform(np.eye(3), (stud, 0.0, 0.0))))
    return out


def turn_about_z(angle: float) -> Floats:
    """Rotation (3, 3) about Z by rad, exact at right angles."""
    c, s = round(math.cos(angle), 15), round(math.sin(angle), 15)
    return np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])


def highest_within(corners: Floats, low: tuple[float, float], high: tuple[float, float]) -> float | None:
    """The greatest height of triangles (n, 3, 3) over a rectangle; None where none lies over it."""
    near = (corners[:, :, :2].min(axis=1) <= high).all(axis=1) & (corners[:, :, :2].max(axis=1) >= low).all(
        axis=1
    )
    mine = corners[near]
    found = [np.empty(0)]
    # edges of the triangles within the rectangle: the corners among them too
    a, b = mine.reshape(-1, 3), np.roll(mine, -1, axis=1).reshape(-1, 3)
    enter, leave = np.zeros(len(a)), np.ones(len(a))
    for axis in (0, 1):
        run = b[:, axis] - a[:, axis]
        run = np.where(np.abs(run) < 1e-12, 1e-12, run)
        first, last = (low[axis] - a[:, axis]) / run, (high[axis] - a[:, axis]) / run
        enter, leave = np.maximum(enter, np.minimum(first, last)), np.minimum(leave, np.maximum(first, last))
    held = enter <= leave
    for t in (enter[held], leave[held]):
        found.append(a[held, 2] + t * (b[held, 2] - a[held, 2]))
    # corners of the rectangle within triangles
    u, v = mine[:, 1] - mine[:, 0], mine[:, 2] - mine[:, 0]
    twice = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    level = np.abs(twice) > 1e-12
    for x in (low[0], high[0]):
        for y in (low[1], high[1]):
            way = np.array([x, y]) - mine[level, 0, :2]
            s = (way[:, 0] * v[level, 1] - way[:, 1] * v[level, 0]) / twice[level]
            t = (u[level, 0] * way[:, 1] - u[level, 1] * way[:, 0]) / twice[level]
            over = (s >= 0) & (t >= 0) & (s + t <= 1)
            found.append(mine[level, 0, 2][over] + s[over] * u[level, 2][over] + t[over] * v[level, 2][over])
    heights = np.concatenate(found)
    return float(heights.max()) if len(heights) else None

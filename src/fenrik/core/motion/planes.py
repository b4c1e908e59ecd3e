"""The three planes in which a controller drives arcs (ISO 6983-1: G17, G18, G19), and arcs in them."""

from __future__ import annotations

from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
FULL_TURN_BELOW = 1e-7
"""An arc whose ends lie nearer than this, rad, is a full turn."""


class Plane(IntEnum):
    """Where an arc lies; a helix runs square to it. The value is the row of AXES and 17 less than the G
    code."""

    XY = 0
    ZX = 1
    YZ = 2


AXES = np.array([[0, 1, 2], [2, 0, 1], [1, 2, 0]])
"""Per plane its first, second and square axis; counter-clockwise turns the first towards the second."""
LETTERS = ("IJ", "KI", "JK")
"""Per plane the words of the centre along its first and second axis."""


def in_plane(points: Floats, plane: NDArray[np.int8]) -> Floats:
    """Coordinates (n, 2) of points (n, 3) along the first and second axis of each point's plane (n,)."""
    if not plane.any():  # as nearly all arcs lie
        return points[:, :2]
    return np.asarray(np.take_along_axis(points, AXES[plane][:, :2], axis=1))


def radii(start: Floats, centre: Floats, plane: NDArray[np.int8]) -> Floats:
    """Radius (n,) of arcs from `start` (n, 3) about `centre` (n, 2) of their planes (n,)."""
    return np.asarray(np.hypot(*(in_plane(start, plane) - centre).T))


def sweeps(
    start: Floats, end: Floats, centre: Floats, turn: NDArray[np.int8], plane: NDArray[np.int8]
) -> Floats:
    """Angle rad (n,), over 0, that arcs from start to end (n, 3) turn through; `turn` (n,) +1
    counter-clockwise, -1 clockwise. A closed arc is a full turn."""
    a, b = in_plane(start, plane) - centre, in_plane(end, plane) - centre
    sweep = (np.arctan2(b[:, 1], b[:, 0]) - np.arctan2(a[:, 1], a[:, 0])) * turn
    sweep = np.where(sweep < -np.pi, sweep + 2 * np.pi, sweep)
    return np.where(sweep <= FULL_TURN_BELOW, sweep + 2 * np.pi, sweep)


def on_arcs(
    start: Floats, end: Floats, centre: Floats, angle: Floats, plane: NDArray[np.int8], share: Floats
) -> Floats:
    """Points (n, 3) after turning by `angle` (n,) rad, signed, at a `share` (n,) of the way square to the
    plane."""
    arm = in_plane(start, plane) - centre
    c, s = np.cos(angle), np.sin(angle)
    out = start + share[:, None] * (end - start)
    turned = centre + np.stack([c * arm[:, 0] - s * arm[:, 1], s * arm[:, 0] + c * arm[:, 1]], axis=1)
    if plane.any():
        np.put_along_axis(out, AXES[plane][:, :2], turned, axis=1)
    else:
        out[:, :2] = turned
    return np.asarray(out)


def lengths(
    start: Floats, end: Floats, turn: NDArray[np.int8], plane: NDArray[np.int8], centre: Floats
) -> Floats:
    """Length (n,) of moves from start to end (n, 3) along their line (`turn` 0), arc or helix."""
    step = end - start
    out = np.linalg.norm(step, axis=1)
    arc = np.flatnonzero(turn)
    if len(arc):
        a, b, c, t, p = start[arc], end[arc], centre[arc], turn[arc], plane[arc]
        rise = step[arc, AXES[p, 2]]
        out[arc] = np.hypot(radii(a, c, p) * sweeps(a, b, c, t, p), rise)
    return np.asarray(out)

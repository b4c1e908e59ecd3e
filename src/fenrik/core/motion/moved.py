"""A toolpath in other coordinates."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError
from fenrik.core.frames import apply, transform
from fenrik.core.motion.planes import Plane
from fenrik.core.motion.toolpath import Toolpath

Floats = NDArray[np.float64]
CHORD_MM = 0.001
SAME = 1e-12
UPRIGHT = 1e-4
"""Sine up to which the tool still counts as standing along Z: angles are rounded when they are written."""


def moved_path(path: Toolpath, matrix: Floats) -> Toolpath:
    """The path through a rigid transform (4, 4).

    While Z stays Z, arcs in XY and canned cycles stay what they are, and arcs in the other planes become
    chords; else all of them become plain moves. Raises ComputeError for a path on which the control corrects
    the radius and Z does not stay Z.
    """
    if np.abs(matrix - np.eye(4)).max() < SAME:
        return path
    turned = matrix[:3, :3]
    level = float(np.hypot(turned[0, 2], turned[1, 2])) < UPRIGHT and turned[2, 2] > 0
    if path.compensated and not level:
        raise ComputeError(
            "The control corrects the radius in its own XY plane only, and here the tool leans in it.",
            remedy="Let the computer correct the radius, or use a dialect with a tilted plane.",
        )
    arcs = path.turn != 0
    if (arcs & ((path.plane != Plane.XY) | (not level))).any() or (path.cycles and not level):
        path = _plain(path, level)
    if level:
        matrix = _upright(matrix, path.tip)
        turned = matrix[:3, :3]
    tip = apply(matrix, path.tip)
    centre = path.centre.copy()
    arc = path.turn != 0
    centre[arc] = (
        path.centre[arc] @ turned[:2, :2].T + matrix[:2, 3] + np.outer(path.tip[arc, 2], turned[:2, 2])
    )
    shift = matrix[2, 3]
    cycles = [
        replace(c, retract=c.retract + shift, bottom=c.bottom + shift, back=c.back + shift)
        for c in path.cycles
    ]
    return replace(path.with_moves(tip=tip, centre=centre), cycles=cycles)


def _upright(matrix: Floats, tips: Floats) -> Floats:
    """The transform with Z exactly Z, the same in the middle of tips (n, 3): what goes straight down still
    does."""
    middle = 0.5 * (tips.min(axis=0) + tips.max(axis=0))
    angle = np.arctan2(matrix[1, 0], matrix[0, 0])
    c, s = np.cos(angle), np.sin(angle)
    turned = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
    return transform(turned, apply(matrix, middle[None])[0] - turned @ middle)


def _plain(path: Toolpath, level: bool) -> Toolpath:
    """The path with chords for its arcs, those in XY apart where it is to stay level."""
    arc = (path.turn != 0) & ((path.plane != Plane.XY) | (not level))
    counts = np.where(arc, path.moves.chords(CHORD_MM, least=2), 1)
    parts, owner = path.divided(counts)
    moves = parts.moves.without_arcs(arc[owner])
    return replace(parts, moves=moves, cycles=parts.cycles if level else [])

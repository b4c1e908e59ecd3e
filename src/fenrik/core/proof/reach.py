"""Which spots of the design the tools of a program can touch at all from above.

A spot with outward normal n is touched when the cutter stands so that its underside has that steepness there,
at a distance d from the axis and a height u over the tip: the tip is at p + d h - u z, h the heading of n.
The spot is in reach when the dropped cutter may go as low as that there. Undercuts are out of reach of every
cutter that is dropped.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting.drop import DropCutter, contact
from fenrik.core.cutting.topology import Topology
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
NEEDLE = Profile(0.02, 0.0)
"""A cutter that gets into everything that is seen from above."""
UPRIGHT = 1e-3
"""Normals that rise or fall by no more than this belong to upright walls."""


def reachable(
    points: Floats, normals: Floats, topology: Topology, profiles: set[Profile], tolerance: float
) -> NDArray[np.bool_]:
    """Whether spots (n, 3) of the design with outward normals (n, 3) are in reach of one of the cutters,
    within `tolerance` mm; setup frame."""
    out = np.zeros(len(points), dtype=np.bool_)
    flat = np.hypot(normals[:, 0], normals[:, 1])
    heading = np.divide(
        normals[:, :2], flat[:, None], out=np.zeros((len(points), 2)), where=flat[:, None] > 1e-9
    )
    steep = np.arctan2(flat, np.maximum(normals[:, 2], 0.0))
    for profile in sorted(profiles, key=lambda p: p.shape):
        todo = np.flatnonzero(~out & (normals[:, 2] >= -UPRIGHT))
        if not len(todo):
            break
        cutter = DropCutter(topology, profile)
        p, n, h = points[todo], normals[todo], heading[todo]
        away, up = contact(profile, steep[todo])
        # a hair off the wall, so that rounding does not put the cutter into it
        xy = p[:, :2] + (away + 0.5 * tolerance)[:, None] * h
        tip = p[:, 2] - up
        level = (n[:, 2] > 1.0 - 1e-6) & (profile.flat > 0)  # a floor is touched anywhere under the flat
        got = ~cutter.blocked(xy, tip + tolerance)
        if level.any():
            got[level] |= _under_the_flat(cutter, p[level], profile.flat, tolerance)
        out[todo] = got
    return out


def _under_the_flat(cutter: DropCutter, points: Floats, flat: float, tolerance: float) -> NDArray[np.bool_]:
    """Whether the flat bottom can lie over level spots (n, 3) with its middle up to `flat` mm away."""
    found = np.zeros(len(points), dtype=np.bool_)
    for share in (0.0, 0.35, 0.7, 0.9, 0.99):
        for angle in np.arange(0.0, 2 * np.pi, np.pi / 12) if share else (0.0,):
            todo = np.flatnonzero(~found)
            if not len(todo):
                return found
            at = points[todo, :2] + share * flat * np.array([np.cos(angle), np.sin(angle)])
            found[todo] = ~cutter.blocked(at, points[todo, 2] + tolerance)
    return found

"""How deep a holder goes into stock, worked out from its pose: where stock stands under it before it comes,
and how far down it is. What it takes off ray by ray says that it touches, but of a coarse cell too little,
and of a plunge in steps only each step's share."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.stock.cuts import Cuts
from fenrik.core.stock.dexels import HOLDER, Stock, tool_bodies
from fenrik.core.stock.keeping import Snapshot
from fenrik.core.stock.surface import surface
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
POSES = 400
"""Poses of a contact that are looked at."""


@dataclass(frozen=True)
class Before:
    """The stock before an operation with the cuts that it shows, and what the operation did with each tool
    until the contact: pieces (m, 6) or (m, 12), the first tag, the tool."""

    stock: Snapshot
    cuts: Cuts
    strokes: list[tuple[Floats, int, Assembly]]


def holder_depth(before: Before, flagged: NDArray[np.int64], worst: int) -> float:
    """How deep, mm, the holder of the last stroke's tool goes into stock on the pieces in turn about its
    piece `worst`, all of them `flagged` (k,); 0 where the tool leans."""
    pieces, tag0, tool = before.strokes[-1]
    if pieces.shape[1] != 6:
        return 0.0
    first = worst
    touching = set(flagged.tolist())
    while first - 1 in touching:
        first -= 1
    last = worst
    while last + 1 in touching:
        last += 1
    work = before.stock.stock()
    for own, tag, assembly in before.strokes[:-1]:
        _cut(work, own, tag, assembly)
    _cut(work, pieces[:first], tag0, tool)
    stands = surface(work, before.cuts).vertices
    run = pieces[first : last + 1]
    shares = np.linspace(0.0, 1.0, 3)[:, None, None]
    poses = np.unique(
        (run[None, :, :3] + shares * (run[None, :, 3:] - run[None, :, :3])).reshape(-1, 3), axis=0
    )
    if len(poses) > POSES:
        poses = poses[np.argsort(poses[:, 2], kind="stable")[:POSES]]
    bodies = [b for b in tool_bodies(tool) if int(b[5]) == HOLDER]
    return max((_into(stands, pose, bodies, tool.radius) for pose in poses), default=0.0)


def _cut(work: Stock, pieces: Floats, tag: int, tool: Assembly) -> None:
    if len(pieces):
        work.cut(pieces, tool_bodies(tool), np.zeros(len(pieces), dtype=np.bool_), tag, measured=False)


def _into(stands: Floats, tip: Floats, bodies: list[Floats], cutter: float) -> float:
    """How far points (n, 3) of the stock's surface stand into the bodies over a tip (3,); what stands under
    the cutter itself it takes off on its way."""
    away = np.hypot(stands[:, 0] - tip[0], stands[:, 1] - tip[1])
    deepest = 0.0
    for _, z0, z1, r0, r1, _ in bodies:
        near = (away > cutter) & (away < max(r0, r1))
        if not near.any():
            continue
        rise = np.clip((away[near] - r0) / max(r1 - r0, 1e-9), 0.0, 1.0) * (z1 - z0) if r1 > r0 else 0.0
        deepest = max(deepest, float((stands[near, 2] - tip[2] - z0 - rise).max()))
    return deepest

"""A path in lines as the control of an arm drives them, with the ways of the joints in and out."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError
from fenrik.core.frames import apply
from fenrik.core.machines.arm import JOINTS
from fenrik.core.machines.cell import Cell
from fenrik.core.machines.holding import Holding
from fenrik.core.motion.moves import Motion, turned_evenly
from fenrik.core.motion.table import in_parts
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.posting.arms.moves import ArmMoves, turn_deg, turned_between
from fenrik.core.posting.program import dwells_of
from fenrik.core.tolerances import FOLLOW_RAPID_MM, FOLLOW_SHARE

Floats = NDArray[np.float64]
APPROACH_MM = 100.0
"""How far along its axis the tool stands off a path's first and last pose, where the arm takes over."""
LOOKED_MM = 40.0
"""A straight move is looked at in parts of at most so many mm when the arm's posture is chosen."""
LINE_DEG = 5.0
"""No more does the tool turn from one line of the text to the next."""
ROUNDS, MOST_POSES = 16, 400_000


@dataclass(frozen=True)
class Way:
    """Poses of a path in the setup frame: tips and axes (n, 3), whether the way to each is `rapid` (n,), its
    kind and feed, the seconds after it, and whether a move of the path ends there (n,)."""

    tips: Floats
    axes: Floats
    kind: NDArray[np.int8]
    feed: Floats
    dwell: Floats
    ends: NDArray[np.bool_]

    @property
    def rapid(self) -> NDArray[np.bool_]:
        return np.asarray(self.kind == Motion.RAPID)

    @staticmethod
    def of(path: Toolpath, setup_from_side: Floats, tolerance: float) -> Way:
        moves = path.moves
        chords, row = moves.divided(moves.chords(FOLLOW_SHARE * tolerance))
        counts = np.ceil(chords.lengths() / LOOKED_MM - 1e-9).astype(np.int64)
        fine, owner = chords.divided(counts)
        ends = np.append(owner[1:] != owner[:-1], True)
        axes = fine.axes @ setup_from_side[:3, :3].T
        tips = apply(setup_from_side, fine.tip)
        row = row[owner]
        last = np.append(row[1:] != row[:-1], True)
        dwell = np.where(last, dwells_of(moves, path.cycles)[row], 0.0)
        return Way(tips, axes, fine.kind, fine.feed, dwell, ends)


@dataclass(frozen=True)
class _Lines:
    """Poses between which the control of an arm goes by itself: tips (n, 3), frames (n, 3, 3), axes (n, 3),
    table and spin (n,), and the pose of the way (n,) that each leads to."""

    tips: Floats
    axes: Floats
    table: Floats
    spin: Floats
    owner: NDArray[np.int64]


def lines_of(cell: Cell, way: Way, holding: Holding, reach: float, tolerance: float) -> _Lines:
    """As few poses as keep the control's own way between them, on which the tool turns evenly about one axis,
    within the tolerance over its reach mm of the planned one."""
    changes = np.concatenate([[False], holding.leg[1:] != holding.leg[:-1]])
    kept = way.ends | changes | np.append(changes[1:], False)
    if not holding.constant:
        kept[:] = True
    rows = np.flatnonzero(kept)
    at = _Lines(way.tips[rows], way.axes[rows], holding.table[rows], holding.spin[rows], rows)
    allowed = np.where(way.rapid, FOLLOW_RAPID_MM, FOLLOW_SHARE * tolerance)
    for _ in range(ROUNDS):
        frames = cell.frames(at.axes, at.table, at.spin)
        off = np.zeros(len(at.owner) - 1)
        for share in (0.25, 0.5, 0.75):
            driven = turned_between(frames[:-1], frames[1:], share)[:, :, 2]
            planned = turned_evenly(at.axes[:-1], at.axes[1:], np.full(len(off), share))
            off = np.maximum(off, reach * np.linalg.norm(driven - planned, axis=1))
        counts = np.sqrt(off / allowed[at.owner[1:]])
        counts = np.maximum(counts, turn_deg(frames[:-1], frames[1:]) / LINE_DEG)
        parts = np.ceil(counts - 1e-9).clip(1, 8).astype(np.int64)
        parts[changes[at.owner[1:]]] = 1  # a leap to another posture or value: a move of the joints
        if parts.max(initial=1) == 1:
            return at
        at = _divided(at, parts)
        if len(at.owner) > MOST_POSES:
            break
    raise ComputeError(
        "The tool turns so fast that no number of lines keeps the tolerance.",
        remedy="Hold the spin and the table, or give a coarser tolerance.",
    )


def _divided(at: _Lines, parts: NDArray[np.int64]) -> _Lines:
    """The lines with the ways between them in so many even parts (n - 1,)."""
    row, number = in_parts(parts)
    share = (number + 1) / parts[row]

    def between(a: Floats) -> Floats:
        way = share if a.ndim == 1 else share[:, None]
        return np.concatenate([a[:1], a[row] + way * (a[row + 1] - a[row])])

    axes = turned_evenly(at.axes[row], at.axes[row + 1], share)
    axes[share == 1.0] = at.axes[1:]
    owner = np.concatenate([at.owner[:1], at.owner[1:][row]])
    return _Lines(
        between(at.tips), np.vstack([at.axes[:1], axes]), between(at.table), between(at.spin), owner
    )


def with_ways(cell: Cell, lines: _Lines, way: Way, holding: Holding) -> ArmMoves:
    """The lines with the joint moves in and out: home, the table turned, over the first pose, down; up from
    the last pose, home."""
    frames = cell.frames(lines.axes, lines.table, lines.spin)
    n, k = len(lines.tips), len(cell.on.machine.in_chain)
    by_joints = np.zeros(n, dtype=np.bool_)
    joints = np.full((n, k), np.nan)
    other = np.flatnonzero(np.diff(holding.leg[lines.owner])) + 1
    by_joints[other], joints[other] = True, holding.joints[lines.owner[other]]
    kind, feed = way.kind[lines.owner].copy(), way.feed[lines.owner].copy()
    kind[by_joints] = Motion.RAPID
    dwell = np.where(np.append(lines.owner[1:] != lines.owner[:-1], True), way.dwell[lines.owner], 0.0)
    kind[0], feed[0] = Motion.RAPID, 0.0
    inner = ArmMoves(lines.tips, frames, lines.table, joints, by_joints, kind, feed, dwell)
    begin = _standing_off(cell, inner, 0, holding)
    end = _standing_off(cell, inner, n - 1, holding)
    home = cell.on.machine.at_home
    homes = [_home_at(cell, home, inner.table[0]), _home_at(cell, home, inner.table[-1])]
    first = [_joint_move(inner, 0, homes[0])]
    if begin is not None:
        first.append(begin)
    elif holding.holds[lines.owner[0]]:
        inner.by_joints[0], inner.joints[0] = True, holding.joints[lines.owner[0]]
    last = [_joint_move(inner, n - 1, homes[1])]
    if end is not None:
        up = replace(end, by_joints=np.zeros(1, dtype=np.bool_), joints=np.full((1, k), np.nan))
        last.insert(0, up)
    return ArmMoves.joined([*first, inner, *last])


def _home_at(cell: Cell, home: Floats, table: float) -> Floats:
    out = home.copy()
    if cell.has_table:
        out[0] = table
    return out


def _joint_move(like: ArmMoves, row: int, joints: Floats) -> ArmMoves:
    """One move of all joints; the pose is that of a row, which nobody looks at."""
    one = slice(row, row + 1) if row >= 0 else slice(row, None)
    flag, none = np.ones(1, dtype=np.bool_), np.zeros(1)
    rapid = np.full(1, Motion.RAPID, dtype=np.int8)
    return ArmMoves(like.tips[one], like.frames[one], like.table[one], joints[None], flag, rapid, none, none)


def _standing_off(cell: Cell, moves: ArmMoves, row: int, holding: Holding) -> ArmMoves | None:
    """A joint move to where the tool stands off a pose along its axis, in the posture that it has there; None
    where the arm does not reach that."""
    one = slice(row, row + 1)
    tip = moves.tips[one] + APPROACH_MM * moves.frames[one, :, 2]
    ways = cell.postures(tip, moves.frames[one], moves.table[one])
    joints = holding.joints[0 if row == 0 else -1]
    machine = cell.on.machine
    near = ways.angles[0] - 360.0 * np.round((ways.angles[0] - joints[-JOINTS:]) / 360.0)
    low, high = machine.low[-JOINTS:], machine.high[-JOINTS:]
    able = ways.exists[0] & ((near >= low) & (near <= high)).all(axis=1)
    if not able.any():
        return None
    away = np.where(able, np.abs(near - joints[-JOINTS:]).max(axis=1), np.inf)
    own = near[int(np.argmin(away))]
    whole = np.concatenate([joints[:-JOINTS], own])
    return replace(_joint_move(moves, row, whole), tips=tip)

"""Moves on which rotary joints turn, as a control drives them: from words to joints to poses of the tool.

Without tool-point control all joints go evenly from where they stand to where the block says. With it (G43.4,
common practice, no source) the rotary joints go evenly and the linear ones keep the tip on the straight line
from one programmed place to the next. The feed of a block (ISO 6983-1) is a speed a minute along the line of
the programmed coordinates (G94), or one over the minutes that the block takes (G93).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.table import in_parts

Floats = NDArray[np.float64]
TURN_DEG = 2.0
"""Rotary joints are looked at in parts of at most so many degrees."""
CHORD_MM, RAPID_CHORD_MM = 0.0005, 0.05
"""How far the tip, and a place `LEVER_MM` up the tool, go off the straight pieces that stand for a move at
feed, and at rapid."""
LEVER_MM = 50.0


@dataclass(frozen=True)
class Turned:
    """One move of a text: the place of its setup, the tool's length mm, whether the control keeps the tool's
    point, coordinates (3,) and rotary angles (r,) degrees at both ends, and the `feed` of its block: per
    minute, or with `inverse` one over minutes; 0 at rapid."""

    row: int
    on: OnMachine
    length: float
    point: bool
    words: tuple[Floats, Floats]
    angles: tuple[Floats, Floats]
    feed: float = 0.0
    inverse: bool = False


@dataclass(frozen=True)
class Pieces:
    """What turned moves are made of, in the order of their rows: `poses` (m, 12) in the setup frame, `joints`
    (m, 2k) at both ends, `seconds` (m,), the row (m,) of each; and per move its way of the tip mm (n,) and
    its time s (n,)."""

    poses: Floats
    joints: Floats
    seconds: Floats
    owner: NDArray[np.int32]
    way: Floats
    time: Floats


def pieces_of(turned: Sequence[Turned]) -> Pieces:
    """The pieces of all turned moves of a program."""
    k = len(turned[0].on.machine.chain)
    groups: dict[tuple[int, float, bool], list[int]] = {}
    for n, one in enumerate(turned):
        groups.setdefault((id(one.on), one.length, one.point), []).append(n)
    rows = np.array([one.row for one in turned], dtype=np.int32)
    parts, owners = [], []
    way, time = np.zeros(len(turned)), np.zeros(len(turned))
    for members in groups.values():
        made, owner, tip_way = _group([turned[n] for n in members])
        chosen = np.array(members)
        way[chosen] = tip_way
        time[chosen] = [_seconds(turned[n]) for n in members]
        parts.append(made)
        owners.append(chosen[owner])
    whole, owner = np.concatenate(parts), np.concatenate(owners)
    order = np.argsort(owner, kind="stable")
    whole, owner = whole[order], owner[order]
    poses, joints, share = whole[:, :12], whole[:, 12 : 12 + 2 * k], whole[:, -1]
    return Pieces(poses, joints, share * time[owner], rows[owner], way, time)


def _group(moves: list[Turned]) -> tuple[Floats, NDArray[np.int64], Floats]:
    """Pieces (m, 13 + 2k: pose, joints at both ends, share of the move) of moves of one tool in one mode,
    the move (m,) of each, and the tip's way (n,)."""
    first, last = (np.array([m.words[e] for m in moves]) for e in (0, 1))
    before, after = (np.array([m.angles[e] for m in moves]) for e in (0, 1))
    one = moves[0]
    ends = (first, last, before, after)
    turn = np.abs(after - before).max(axis=1, initial=0.0)
    counts = np.maximum(1, np.ceil(turn / TURN_DEG - 1e-9)).astype(np.int64)
    every = np.arange(len(moves))
    a, middle, b = (_tool(one, _at(ends, every, np.full(len(moves), s))) for s in (0.0, 0.5, 1.0))
    bulge = np.zeros(len(moves))
    for lever in (0.0, LEVER_MM):
        off = middle - 0.5 * (a + b)
        bulge = np.maximum(bulge, np.linalg.norm(off[:, :3] + lever * off[:, 3:6], axis=1))
    chord = np.array([CHORD_MM if m.feed > 0.0 else RAPID_CHORD_MM for m in moves])
    counts = np.maximum(counts, np.ceil(np.sqrt(bulge / chord)).astype(np.int64))
    owner, number = in_parts(counts)
    sides = [_tool(one, _at(ends, owner, (number + e) / counts[owner])) for e in (0, 1)]
    poses = np.hstack([sides[0][:, :6], sides[1][:, :6]])
    joints = np.hstack([sides[0][:, 6:], sides[1][:, 6:]])
    return (
        np.hstack([poses, joints, (1.0 / counts[owner])[:, None]]),
        owner,
        np.linalg.norm(b[:, :3] - a[:, :3], axis=1),
    )


def _at(ends: tuple[Floats, ...], owner: NDArray[np.int64], share: Floats) -> tuple[Floats, Floats]:
    """Coordinates and angles at shares (m,) of moves `owner` (m,)."""
    first, last, before, after = (e[owner] for e in ends)
    way = share[:, None]
    return first + way * (last - first), before + way * (after - before)


def _tool(one: Turned, at: tuple[Floats, Floats]) -> Floats:
    """Tip, axis and joints (m, 6 + k) at coordinates and angles, in the mode of a move."""
    words, angles = at
    on = one.on
    if one.point:
        joints = on.joints_at(words, angles, one.length)
    else:
        joints = on.joints(words, angles, one.length)
    return np.hstack([*on.tips(joints, one.length), joints])


def _seconds(one: Turned) -> float:
    """How long the text asks a move to take; 0 at rapid."""
    if one.feed <= 0.0:
        return 0.0
    if one.inverse:
        return 60.0 / one.feed
    way = float(np.linalg.norm(one.words[1] - one.words[0]))
    if way < 1e-9:  # only joints turn: the feed is in degrees
        way = float(np.abs(one.angles[1] - one.angles[0]).max(initial=0.0))
    return 60.0 * way / one.feed

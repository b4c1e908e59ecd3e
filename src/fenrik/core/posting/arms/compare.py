"""Holds what an arm's text means against what was planned, move by move."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines.arm import JOINTS
from fenrik.core.posting.arms.dialect import ArmDialect
from fenrik.core.posting.arms.driving import rotations
from fenrik.core.posting.arms.moves import POINTED, ArmMoves, tool_frame, turn_deg
from fenrik.core.posting.arms.reader import ArmReader
from fenrik.core.posting.compare import DWELL_S, Comparison, Difference
from fenrik.core.posting.program import Step

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
HALF = 0.51
"""Of the last decimal: what rounding may do."""


def compare_arm(
    steps: Sequence[Step], reader: ArmReader, work_from_setup: Floats, dialect: ArmDialect
) -> Comparison:
    """The step of every move of the text, and where it differs from the plan by more than the text's
    rounding: the first move that does."""
    differences = _frames(steps, reader, work_from_setup, dialect)
    want, told = _Wanted.of(steps, dialect), reader.told
    both = min(len(want.step), len(told))
    step_of = np.full(len(told), want.step[-1] if len(want.step) else 0, dtype=np.int32)
    step_of[:both] = want.step[:both]
    found = _first_off(want, steps, reader, both, dialect) if both else None
    if found is not None:
        row, distance, words = found
        differences.append(Difference(row, told[row].line, distance, words))
    elif len(told) > both:
        words = "the text has moves that were not planned"
        differences.append(Difference(both, told[both].line, np.inf, words))
    elif len(want.step) > both:
        missing = len(want.step) - both
        differences.append(Difference(-1, -1, np.inf, f"{missing} planned moves are missing in the text"))
    return Comparison(step_of, differences)


@dataclass(frozen=True)
class _Wanted:
    """The planned moves that are any, with the step of each: the first way home comes from an unknown place,
    and where all joints stand already nothing moves. `own` (n,) marks moves after the tool of the step was
    taken."""

    moves: ArmMoves
    step: NDArray[np.int32]
    own: Bools

    @staticmethod
    def of(steps: Sequence[Step], dialect: ArmDialect) -> _Wanted:
        parts = [s.arm for s in steps if s.arm is not None]
        moves = ArmMoves.joined(parts)
        step = np.repeat(np.arange(len(parts), dtype=np.int32), [len(p) for p in parts])
        own = np.concatenate([np.arange(len(p)) > 0 for p in parts])
        joints = np.round(moves.joints, dialect.angle_decimals)
        still = moves.by_joints[1:] & moves.by_joints[:-1] & (joints[1:] == joints[:-1]).all(axis=1)
        kept = np.flatnonzero(~np.concatenate([[True], still]))
        return _Wanted(moves.rows(kept), step[kept], own[kept])


def _first_off(
    want: _Wanted, steps: Sequence[Step], reader: ArmReader, both: int, dialect: ArmDialect
) -> tuple[int, float, str] | None:
    """The first move of the text that differs from the planned one: its row, by how much, in words."""
    told, moves = reader.told[:both], want.moves.rows(np.arange(both))
    joint_move = np.array([t.by_joints for t in told])
    straight = ~joint_move
    joints = np.array([t.joints for t in told])
    rapid = np.array([t.rapid for t in told])
    feeds = straight & ~rapid
    tool = np.array([t.tool for t in told])
    planned_tool = np.array([s.tool.number for s in steps])[want.step[:both]]
    speeds = np.array([s.spindle_rpm if s.clockwise else -s.spindle_rpm for s in steps])[want.step[:both]]
    none = np.zeros(both)
    turned, off = none.copy(), none.copy()
    if straight.any():
        read = rotations([t.facing for t in told if not t.by_joints]).as_matrix()
        turned[straight] = turn_deg(read, moves.frames[straight] @ POINTED)
        place = np.array([t.place for t in told])
        off[straight] = np.abs(place - moves.tips)[straight].max(axis=1)
    bent = np.where(joint_move, np.abs(joints - moves.joints).max(axis=1), 0.0)
    table = none.copy()
    if joints.shape[1] > JOINTS:
        table[straight] = np.abs(joints[:, 0] - moves.table)[straight]
    feed = np.abs(np.array([t.feed for t in told]) - moves.feed)
    spindle = np.abs(np.array([t.spindle for t in told]) - speeds)
    dwell = np.abs(np.array([reader.waits.get(i, 0.0) for i in range(both)]) - moves.dwell)
    lean = np.degrees(dialect.resolution_lean)
    checks: list[tuple[Bools, Floats, str]] = [
        (joint_move != moves.by_joints, none, "a joint move and a straight one are exchanged"),
        (want.own[:both] & (tool != planned_tool), tool, "it runs with tool {:.0f}, which was not planned"),
        (bent > HALF * dialect.resolution_deg, bent, "a joint ends {:.4f}° from where it was planned"),
        (off > HALF * dialect.resolution_mm, off, "the end differs from the planned one by {:.4f} mm"),
        (turned > lean, turned, "the tool is turned {:.4f}° off"),
        (table > HALF * dialect.resolution_deg, table, "the table stands {:.4f}° off"),
        (straight & (rapid != moves.rapid), none, "rapid and feed are exchanged"),
        (feeds & (feed > np.maximum(0.13, 5e-4 * moves.feed)), feed, "the feed is {:.1f} mm/min off"),
        (feeds & (spindle > 0.51), spindle, "the spindle's speed is {:.0f} 1/min off"),
        (dwell > DWELL_S, dwell, "the time for which the tool stands is {:.2f} s off"),
    ]
    bad = np.stack([b for b, _, _ in checks])
    rows = np.flatnonzero(bad.any(axis=0))
    if not len(rows):
        return None
    row = int(rows[0])
    _, measure, words = checks[int(np.argmax(bad[:, row]))]
    return row, float(measure[row]), words.format(measure[row])


def _frames(
    steps: Sequence[Step], reader: ArmReader, work_from_setup: Floats, dialect: ArmDialect
) -> list[Difference]:
    """Frames that are not those of the object on its table and of the tools."""
    side = steps[0].side
    assert side is not None
    wanted = [("object frame", work_from_setup, reader.object)]
    for step in steps:
        own = tool_frame(side.on.machine, step.tool.gauge_length)
        read = reader.frames.get(step.tool.number)
        if read is not None:
            wanted.append((f"frame of tool {step.tool.number}", own, read))
    out = []
    for name, want, read in wanted:
        off = float(np.abs(want[:3, 3] - read[:3, 3]).max())
        lean = float(turn_deg(want[None, :3, :3], read[None, :3, :3])[0])
        if off > HALF * dialect.resolution_mm or np.radians(lean) > dialect.resolution_lean:
            words = f"the {name} is {off:.4f} mm and {lean:.4f}° off"
            out.append(Difference(-1, -1, off, words))
    return out

"""What the moves of an arm's text mean: joints and poses all along, as the control of its cell leads them.

On a straight move the tip goes along the line in the object frame, the tool turns evenly about one axis and
the table evenly; for every place between the arm takes its posture nearest to the one before. On a move of
the joints all go evenly.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from fenrik.core.frames import invert
from fenrik.core.machines.arm import JOINTS, nearest_along, postures
from fenrik.core.machines.machine import Machine
from fenrik.core.motion.moves import Motion, Moves
from fenrik.core.motion.program_motion import ProgramMotion, RowFrame, Turning
from fenrik.core.motion.table import in_parts

Floats = NDArray[np.float64]
TURN_DEG, WAY_MM = 1.0, 10.0
"""A move is looked at in parts in which nothing turns farther and the tip goes no farther."""
AT_ONCE = 4000
"""Moves that are worked out together, which bounds the memory that takes."""
ANGLES, QUATERNION = ("A", "B", "C"), ("Q1", "Q2", "Q3", "Q4")
"""About the fixed X, then Y, then Z, degrees (ISO 9787); the scalar first."""
Before = tuple[tuple[float, ...], Floats | None, Floats | None]
"""Joints, tool frame and object frame before a move."""


@dataclass(frozen=True)
class Told:
    """One move as the text gives it: its line, whether `by_joints`, the place of the tip in the object frame
    and the words that say how the tool frame is turned there, the joints at its end (NaN for those of the arm
    on a straight move), rapid, feed mm/min, tool and spindle."""

    line: int
    by_joints: bool
    place: tuple[float, ...]
    facing: tuple[float, ...]
    joints: tuple[float, ...]
    rapid: bool
    feed: float
    tool: int
    spindle: float


def rotations(facing: list[tuple[float, ...]]) -> Rotation:
    """The rotations that words A, B, C or Q1 to Q4 say, all in one way or mixed."""
    if all(len(f) == len(ANGLES) for f in facing):
        return Rotation.from_euler("xyz", facing, degrees=True)
    if all(len(f) == len(QUATERNION) for f in facing):
        return Rotation.from_quat(np.roll(np.array(facing), -1, axis=1))
    return Rotation.concatenate([rotations([f]) for f in facing])


@dataclass
class Driving:
    """The moves that were `told`, what was known before each (`begins`), and the seconds after some
    (`waits`). `motion` fills `out_of_reach`: the moves on which the arm does not get to where it is sent,
    with the first place of each."""

    machine: Machine
    setup_from_work: Floats
    told: list[Told]
    begins: list[Before]
    waits: dict[int, float]
    out_of_reach: dict[int, Floats] = field(default_factory=dict)

    def motion(self) -> ProgramMotion:
        """All moves, one after the other, as the joints drive them."""
        parts: list[tuple[Floats, Floats, Floats]] = []
        here: Floats | None = None  # the joints where the last move ended
        number = 0
        while number < len(self.told):
            one, (known, frame, obj) = self.told[number], self.begins[number]
            before = np.array(known)
            start = here if here is not None and np.isnan(before).any() else before
            if one.by_joints:
                here = np.array(one.joints)
                parts.append(self._by_joints(start, here, frame))
                number += 1
                continue
            last = number
            while last < min(len(self.told), number + AT_ONCE) and not self.told[last].by_joints:
                if self.begins[last][1] is not frame or self.begins[last][2] is not obj:
                    break
                last += 1
            made, here = self._straights(number, last, start)
            parts += made
            number = last
        return self._table(parts)

    def _tips(self, joints: Floats, frame: Floats | None) -> tuple[Floats, Floats]:
        """Place of the tip (m, 3) and tool axis (m, 3) in the setup frame; without a tool those of the
        mount."""
        to_tip = np.eye(4) if frame is None else self._mount_from_tool(frame)
        poses = self.setup_from_work @ self.machine.chain.poses(joints) @ to_tip
        return poses[:, :3, 3], poses[:, :3, 2] * (1.0 if frame is None else -1.0)

    def _mount_from_tool(self, frame: Floats) -> Floats:
        return np.asarray(invert(self.machine.chain.tool) @ self.machine.interface @ frame)

    def _by_joints(self, start: Floats, end: Floats, frame: Floats | None) -> tuple[Floats, Floats, Floats]:
        """Poses (m, 12), joints (m, 2k) and seconds (m,) of a move of all joints."""
        count = max(1, int(np.ceil(np.abs(end - start).max() / TURN_DEG)))
        joints = start + np.linspace(0.0, 1.0, count + 1)[:, None] * (end - start)
        return self._pieces(joints, frame, np.zeros(count))

    def _pieces(self, joints: Floats, frame: Floats | None, seconds: Floats) -> tuple[Floats, Floats, Floats]:
        tips, axes = self._tips(joints, frame)
        # a tool that stands upright but for rounding does so
        upright = np.hypot(axes[:, 0], axes[:, 1]) < 1e-10
        axes[upright & (axes[:, 2] > 0.0)] = (0.0, 0.0, 1.0)
        poses = np.hstack([tips[:-1], axes[:-1], tips[1:], axes[1:]])
        return poses, np.hstack([joints[:-1], joints[1:]]), seconds

    def _straights(
        self, first: int, last: int, start: Floats
    ) -> tuple[list[tuple[Floats, Floats, Floats]], Floats]:
        """The same of straight moves first..last - 1 with one tool, from joints `start` (k,), and where they
        end."""
        own = self.told[first:last]
        _, frame, obj = self.begins[first]
        assert frame is not None and obj is not None
        places, facing, external = self._ends(first, last, start)
        turn = (facing[:-1].inv() * facing[1:]).as_rotvec()
        angle = np.degrees(np.linalg.norm(turn, axis=1))
        way = np.linalg.norm(np.diff(places, axis=0), axis=1)
        most = np.maximum(angle, np.abs(np.diff(external, axis=0)).max(axis=1, initial=0.0))
        counts = np.maximum(1, np.ceil(np.maximum(most / TURN_DEG, way / WAY_MM) - 1e-9)).astype(np.int64)
        owner, number = in_parts(counts)
        share = (number + 1) / counts[owner]
        at = places[owner] + share[:, None] * (places[owner + 1] - places[owner])
        between = facing[owner] * Rotation.from_rotvec(share[:, None] * turn[owner])
        table = external[owner] + share[:, None] * (external[owner + 1] - external[owner])
        poses = np.tile(np.eye(4), (len(at), 1, 1))
        poses[:, :3, :3], poses[:, :3, 3] = between.as_matrix(), at
        mounts = obj @ poses @ invert(self._mount_from_tool(frame))
        ways = postures(self.machine.chain, mounts, table if table.shape[1] else None)
        begins = np.zeros(len(at), dtype=np.bool_)
        begins[0] = True
        arm, reached = nearest_along(
            ways.angles, ways.exists, begins, np.tile(start[-JOINTS:], (len(at), 1)).astype(np.float64)
        )
        joints = np.hstack([table, arm])
        for row in np.unique(owner[~reached]).tolist():
            where = int(np.flatnonzero((owner == row) & ~reached)[0])
            self.out_of_reach[first + row] = at[where]
        whole = np.vstack([start, joints])
        feed = np.array([t.feed for t in own])
        seconds = np.where(feed > 0.0, 60.0 * way / np.where(feed > 0.0, feed, 1.0), 0.0)
        made = self._pieces(whole, frame, (seconds / counts)[owner])
        made = (self._sent(made[0], reached, obj @ poses), *made[1:])
        splits = np.cumsum(counts)[:-1]
        parts = [np.split(m, splits) for m in made]
        return list(zip(*parts, strict=True)), whole[-1]

    def _ends(self, first: int, last: int, start: Floats) -> tuple[Floats, Rotation, Floats]:
        """Where straight moves first..last - 1 begin and end in the object frame: the tip (n + 1, 3), how the
        tool is turned (n + 1), and the table (n + 1, k)."""
        own, (_, frame, obj) = self.told[first:last], self.begins[first]
        assert frame is not None and obj is not None
        before = self.told[first - 1] if first else None
        same = first > 0 and self.begins[first - 1][1] is frame and self.begins[first - 1][2] is obj
        if before is not None and not before.by_joints and same:  # it begins where it was sent before
            tip0, turned0 = np.array(before.place), rotations([before.facing]).as_matrix()[0]
        else:
            tip0, turned0 = self._in_object(start, frame, obj)
        places = np.vstack([tip0[None], np.array([t.place for t in own])])
        told = rotations([t.facing for t in own]).as_matrix()
        external = np.vstack([start[None], np.array([t.joints for t in own])])[:, :-JOINTS]
        return places, Rotation.from_matrix(np.concatenate([turned0[None], told])), external

    def _in_object(self, joints: Floats, frame: Floats, obj: Floats) -> tuple[Floats, Floats]:
        """Where the tip stands (3,) and how the tool is turned (3, 3) in the object frame."""
        pose = invert(obj) @ self.machine.chain.poses(joints[None])[0] @ self._mount_from_tool(frame)
        return pose[:3, 3], pose[:3, :3]

    def _sent(self, poses: Floats, reached: NDArray[np.bool_], in_work: Floats) -> Floats:
        """Poses (m, 12) with those out of reach where the text sends the tool, so that they are seen."""
        if reached.all():
            return poses
        sent = self.setup_from_work @ in_work
        ends = np.hstack([sent[:, :3, 3], -sent[:, :3, 2]])
        poses = poses.copy()
        poses[~reached, 6:] = ends[~reached]
        after = np.flatnonzero(~reached[:-1]) + 1
        poses[after, :6] = ends[after - 1]
        return poses

    def _table(self, parts: list[tuple[Floats, Floats, Floats]]) -> ProgramMotion:
        count = len(parts)
        poses = np.vstack([np.zeros((0, 12)), *(p for p, _, _ in parts)])
        k = 2 * len(self.machine.in_chain)
        joints = np.vstack([np.zeros((0, k)), *(j for _, j, _ in parts)])
        sizes = np.array([len(p) for p, _, _ in parts], dtype=np.int64)
        first = np.cumsum(sizes) - sizes
        ends = first + sizes - 1
        tip = poses[ends, 6:9] if count else np.zeros((0, 3))
        moves = Moves.straight(tip)
        rapid = np.array([t.rapid for t in self.told], dtype=np.bool_)
        moves = replace(
            moves,
            begin=poses[first, :3] if count else np.zeros((0, 3)),
            kind=np.where(rapid, Motion.RAPID, Motion.FEED).astype(np.int8),
            feed=np.array([t.feed for t in self.told]),
            axis=poses[ends, 9:] if count else np.zeros((0, 3)),
            side=np.zeros(count, dtype=np.int32),
        )
        turning = Turning(
            np.zeros(count, dtype=np.int32),
            np.array([t.by_joints for t in self.told], dtype=np.bool_),
            (RowFrame(np.eye(4), np.array([0.0, 0.0, 1.0]), np.zeros(len(self.machine.rotary))),),
            poses,
            joints,
            np.concatenate([np.zeros(0), *(s for _, _, s in parts)]),
            np.repeat(np.arange(count), sizes).astype(np.int32),
        )
        return ProgramMotion(
            moves,
            np.array([t.tool for t in self.told], dtype=np.int32),
            np.array([t.spindle for t in self.told], dtype=np.float64),
            np.array([t.line for t in self.told], dtype=np.int32),
            np.array([self.waits.get(i, 0.0) for i in range(count)]),
            np.full(count, 54, dtype=np.int32),
            turning,
        )

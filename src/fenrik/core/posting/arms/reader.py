"""Reads an arm's program as the control of its cell would and tells the motion it means.

It knows the cell (joints, table, mechanical interface) and the words of the language; nothing of the path
or the writer. On a straight move it leads the tip along the line in the object frame, turns the tool evenly
about one axis and the table evenly, and takes for every place between the arm's posture nearest to the one
before.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from fenrik.core.errors import PostError
from fenrik.core.frames import invert, transform
from fenrik.core.machines.arm import JOINTS, nearest_along, postures
from fenrik.core.machines.machine import Machine
from fenrik.core.motion.moves import Motion, Moves
from fenrik.core.motion.program_motion import ProgramMotion, RowFrame, Turning
from fenrik.core.motion.table import in_parts

Floats = NDArray[np.float64]
TURN_DEG, WAY_MM = 1.0, 10.0
"""A move is looked at in parts in which nothing turns farther and the tip goes no farther."""
DEEPEST = 8
"""Programs that call one another."""
MOST_LINES = 2_000_000
_NUMBER = re.compile(r"[+-]?(?:\d+\.?\d*|\.\d+)")
ANGLES, QUATERNION = ("A", "B", "C"), ("Q1", "Q2", "Q3", "Q4")
"""About the fixed X, then Y, then Z, degrees (ISO 9787); the scalar first."""
NOWHERE, NOT_SAID = (math.nan,) * 3, (math.nan,) * JOINTS
POSE = (*"XYZ", *ANGLES, *QUATERNION)
_WORDS = {
    "PROGRAM",
    "OBJECT",
    "TOOL",
    "SPINDLE",
    "JOINTS",
    "STRAIGHT",
    "CALL",
    "END",
    "COOLANT",
    "PAUSE",
    "WAIT",
}


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


_Before = tuple[tuple[float, ...], Floats | None, Floats | None]
"""Joints, tool frame and object frame before a move."""


@dataclass
class _State:
    object: Floats | None = None
    tool: int = 0
    frame: Floats | None = None
    spindle: float = 0.0
    joints: tuple[float, ...] | None = None


def rotations(facing: list[tuple[float, ...]]) -> Rotation:
    """The rotations that words A, B, C or Q1 to Q4 say, all in one way or mixed."""
    if all(len(f) == len(ANGLES) for f in facing):
        return Rotation.from_euler("xyz", facing, degrees=True)
    if all(len(f) == len(QUATERNION) for f in facing):
        return Rotation.from_quat(np.roll(np.array(facing), -1, axis=1))
    return Rotation.concatenate([rotations([f]) for f in facing])


@dataclass
class ArmReader:
    """Interprets the files of one program. After `read`, `told` are its moves in order, `findings` what a
    control would object to (line, words, remedy), `object` and `frames` the object frame on the table and the
    tool frames by number as they were read, `waits` the seconds after moves, and `out_of_reach` the moves on
    which the arm does not get to where it is sent, with the first place of each."""

    machine: Machine
    setup_from_work: Floats
    told: list[Told] = field(default_factory=list)
    findings: list[tuple[int, str, str]] = field(default_factory=list)
    object: Floats = field(default_factory=lambda: np.eye(4))
    frames: dict[int, Floats] = field(default_factory=dict)
    out_of_reach: dict[int, Floats] = field(default_factory=dict)
    waits: dict[int, float] = field(default_factory=dict)

    def read(self, files: list[tuple[str, str]]) -> ProgramMotion:
        """The motion of the first of the files (name, text) in the setup frame; the others are what it may
        call. Lines count through all of them. Raises PostError naming the line."""
        self._files = {name.rsplit(".", 1)[0]: n for n, (name, _) in enumerate(files)}
        self._texts = [text.splitlines() for _, text in files]
        self._first = np.cumsum([0, *(len(t) for t in self._texts)]).tolist()
        self._state, self._lines = _State(), 0
        self._begins: list[_Before] = []
        self._names = [j.name for j in self.machine.in_chain]
        self._run(0, 1)
        return self._motion()

    def _run(self, number: int, depth: int) -> None:
        if depth > DEEPEST:
            raise self._error(self._first[number] + 1, "is called too deeply, or calls itself")
        first, ended = self._first[number], False
        for at, raw in enumerate(self._texts[number]):
            line = raw.split(";", 1)[0].split()
            if not line:
                continue
            self._lines += 1
            if self._lines > MOST_LINES:
                raise self._error(first + at + 1, "is too much: the program does not end")
            if ended:
                raise self._error(first + at + 1, "stands after END")
            if line[0] not in _WORDS:
                raise self._error(first + at + 1, f"begins with '{line[0]}', which the control does not know")
            if line[0] == "CALL":
                self._call(first + at + 1, line, depth)
            elif line[0] == "END":
                ended = True
            else:
                getattr(self, f"_{line[0].lower()}")(first + at + 1, line[1:])
        if not ended:
            raise self._error(first + len(self._texts[number]), "is the last one, and END is missing")

    def _call(self, line: int, words: list[str], depth: int) -> None:
        if len(words) != 2 or words[1] not in self._files:
            raise self._error(line, f"calls '{' '.join(words[1:])}', which is none of the files")
        self._run(self._files[words[1]], depth + 1)

    def _error(self, line: int, words: str) -> PostError:
        return PostError(f"Line {line} {words}.", remedy="Correct the dialect.")

    def _values(self, line: int, words: list[str], known: list[str]) -> dict[str, float]:
        """Words and their numbers, each once."""
        out: dict[str, float] = {}
        if len(words) % 2:
            raise self._error(line, "has a word without a number")
        for word, number in zip(words[::2], words[1::2], strict=True):
            if word not in known or word in out or not _NUMBER.fullmatch(number):
                raise self._error(line, f"has '{word} {number}', which is not taken there")
            out[word] = float(number)
        return out

    def _pose(self, line: int, values: dict[str, float]) -> tuple[tuple[float, ...], tuple[float, ...]]:
        """The place, and the words that say the directions."""
        if not ("X" in values and "Y" in values and "Z" in values):
            raise self._error(line, "does not say X, Y and Z")
        said = tuple(w for w in (*ANGLES, *QUATERNION) if w in values)
        facing = tuple(values[w] for w in said)
        if said != ANGLES and (said != QUATERNION or abs(math.hypot(*facing) - 1.0) > 1e-2):
            words = "says the directions neither as A, B and C nor as a unit quaternion Q1 to Q4"
            raise self._error(line, words)
        return (values["X"], values["Y"], values["Z"]), facing

    def _frame(self, line: int, values: dict[str, float]) -> Floats:
        place, facing = self._pose(line, values)
        return transform(rotations([facing]).as_matrix()[0], np.array(place))

    def _program(self, line: int, words: list[str]) -> None:
        if len(words) != 1 or words[0] not in self._files:
            raise self._error(line, "names another program than its file")

    def _coolant(self, line: int, words: list[str]) -> None:
        if words not in (["ON"], ["OFF"]):
            raise self._error(line, "says neither COOLANT ON nor COOLANT OFF")

    def _pause(self, line: int, words: list[str]) -> None:
        if words:
            raise self._error(line, "has more than PAUSE")

    def _wait(self, line: int, words: list[str]) -> None:
        if len(words) != 1 or not _NUMBER.fullmatch(words[0]) or not self.told:
            raise self._error(line, "does not say for how many seconds the tool stands")
        self.waits[len(self.told) - 1] = float(words[0])

    def _object(self, line: int, words: list[str]) -> None:
        table = self._names[:-JOINTS]
        if table and words[:2] != ["ON", table[0]]:
            raise self._error(line, f"puts the object elsewhere than on {table[0]}")
        values = self._values(line, words[2:] if table else words, [*POSE])
        self._state.object = self.object = self._frame(line, values)

    def _tool(self, line: int, words: list[str]) -> None:
        if not words or not words[0].isdigit():
            raise self._error(line, "does not say which tool")
        s = self._state
        s.tool = int(words[0])
        values = self._values(line, words[1:], [*POSE])
        s.frame = self.frames[s.tool] = self._frame(line, values)

    def _spindle(self, line: int, words: list[str]) -> None:
        if words == ["OFF"]:
            self._state.spindle = 0.0
            return
        if len(words) != 2 or not _NUMBER.fullmatch(words[0]) or words[1] not in ("RIGHT", "LEFT"):
            raise self._error(line, "says neither SPINDLE OFF nor a speed and RIGHT or LEFT")
        self._state.spindle = float(words[0]) * (1.0 if words[1] == "RIGHT" else -1.0)

    def _joints(self, line: int, words: list[str]) -> None:
        s = self._state
        values = self._values(line, words, self._names)
        if missing := [n for n in self._names if n not in values]:
            raise self._error(line, f"does not say {', '.join(missing)}")
        joints = tuple(values[n] for n in self._names)
        if s.joints is not None and s.joints != joints:
            self._told(line, True, NOWHERE, (0.0, 0.0, 0.0), joints, True, 0.0)
        s.joints = joints

    def _straight(self, line: int, words: list[str]) -> None:
        s = self._state
        if s.joints is None or s.frame is None or s.object is None:
            raise self._error(line, "moves straight before OBJECT, TOOL and JOINTS have been said")
        rapid = bool(words) and words[-1] == "RAPID"
        table = self._names[:-JOINTS]
        known = [*POSE, *table, "F", "V"]
        values = self._values(line, words[:-1] if rapid else words, known)
        if rapid == ("F" in values or "V" in values) or ("F" in values and "V" in values):
            raise self._error(line, "says not one of RAPID, F and V")
        if missing := [n for n in table if n not in values]:
            raise self._error(line, f"does not say {missing[0]}")
        place, facing = self._pose(line, values)
        joints = (*(values[n] for n in table), *NOT_SAID)
        feed = 0.0 if rapid else values.get("F", 60.0 * values.get("V", 0.0))
        if not rapid and feed <= 0.0:
            raise self._error(line, "moves at no feed")
        if not rapid and s.spindle == 0.0:
            self.findings.append((line, "moves at feed with the spindle at rest", "Correct the dialect."))
        self._told(line, False, place, facing, joints, rapid, feed)
        s.joints = joints

    def _told(
        self,
        line: int,
        by_joints: bool,
        place: tuple[float, ...],
        facing: tuple[float, ...],
        joints: tuple[float, ...],
        rapid: bool,
        feed: float,
    ) -> None:
        s = self._state
        assert s.joints is not None
        self._begins.append((s.joints, s.frame, s.object))
        self.told.append(Told(line, by_joints, place, facing, joints, rapid, feed, s.tool, s.spindle))

    # what the moves mean

    def _motion(self) -> ProgramMotion:
        """All moves, one after the other, as the joints drive them."""
        parts: list[tuple[Floats, Floats, Floats]] = []
        here: Floats | None = None  # the joints where the last move ended
        number = 0
        while number < len(self.told):
            one, (known, frame, obj) = self.told[number], self._begins[number]
            before = np.array(known)
            start = here if here is not None and np.isnan(before).any() else before
            if one.by_joints:
                here = np.array(one.joints)
                parts.append(self._by_joints(start, here, frame))
                number += 1
                continue
            last = number
            while last < len(self.told) and not self.told[last].by_joints:
                if self._begins[last][1] is not frame or self._begins[last][2] is not obj:
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
        _, frame, obj = self._begins[first]
        assert frame is not None and obj is not None
        tip0, turned0 = self._in_object(start, frame, obj)
        places = np.vstack([tip0[None], np.array([t.place for t in own])])
        told = rotations([t.facing for t in own]).as_matrix()
        external = np.vstack([start[None], np.array([t.joints for t in own])])[:, :-JOINTS]
        facing = Rotation.from_matrix(np.concatenate([turned0[None], told]))
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
        k = 2 * len(self._names)
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

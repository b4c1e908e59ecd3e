"""Reads an arm's program as the control of its cell would and tells the motion it means.

It knows the cell (joints, table, mechanical interface) and the words of the language; nothing of the path
or the writer.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import PostError
from fenrik.core.frames import transform
from fenrik.core.machines.arm import JOINTS
from fenrik.core.machines.machine import Machine
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.arms.driving import ANGLES, QUATERNION, Before, Driving, Told, rotations

Floats = NDArray[np.float64]
DEEPEST = 8
"""Programs that call one another."""
MOST_LINES = 2_000_000
_NUMBER = re.compile(r"[+-]?(?:\d+\.?\d*|\.\d+)")
NOWHERE, NOT_SAID = (math.nan,) * 3, (math.nan,) * JOINTS
POSE = (*"XYZ", *ANGLES, *QUATERNION)
_WORDS = set(
    ["PROGRAM", "OBJECT", "TOOL", "SPINDLE", "JOINTS", "STRAIGHT", "CALL", "END", "COOLANT", "PAUSE", "WAIT"]
)


@dataclass
class _State:
    object: Floats | None = None
    tool: int = 0
    frame: Floats | None = None
    spindle: float = 0.0
    joints: tuple[float, ...] | None = None


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
        self._begins: list[Before] = []
        self._names = [j.name for j in self.machine.in_chain]
        self._run(0, 1)
        driving = Driving(self.machine, self.setup_from_work, self.told, self._begins, self.waits)
        motion = driving.motion()
        self.out_of_reach = driving.out_of_reach
        return motion

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

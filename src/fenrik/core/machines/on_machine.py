"""A setup on its machine: what the words of a program mean there, and how the joints stand along its
motion."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import DocumentError
from fenrik.core.frames import apply, invert, transform
from fenrik.core.machines.machine import LINEAR, Machine
from fenrik.core.motion.program_motion import ProgramMotion, RowFrame

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class OnMachine:
    """A machine and where the setup stands on it: `work_from_setup` (4, 4) takes the setup frame to the work
    mount's."""

    machine: Machine
    work_from_setup: Floats

    @cached_property
    def setup_from_work(self) -> Floats:
        """`work_from_setup`, inverted."""
        return invert(self.work_from_setup)

    @cached_property
    def zero(self) -> Floats:
        """What the control holds as the work offset: values (n,) of the joints, rotary ones at zero, at which
        the tip of a tool without length stands on program zero."""
        machine = self.machine
        origin, upright = self.work_from_setup[None, :3, 3], np.zeros((1, len(machine.rotary)))
        if machine.is_lathe:  # X counts from the spindle's axis, wherever the setup's zero is
            origin = origin * np.array([0.0, 0.0, 1.0])
        return np.asarray(machine.joint_values(origin, upright, 0.0)[0])

    @cached_property
    def _linear(self) -> list[int]:
        """Places in the chain of the joints X, Y and Z that there are."""
        return [self.machine.place(letter) for letter in self.machine.linear]

    @cached_property
    def _columns(self) -> list[int]:
        """Which of the coordinates X, Y, Z these are."""
        return [LINEAR.index(letter) for letter in self.machine.linear]

    def joints(self, words: Floats, angles: Floats, length: float) -> Floats:
        """Joint values (m, n) for coordinates X, Y, Z (m, 3) of the work offset, the tool's length corrected
        along Z, with the rotary joints at angles (r,) or (m, r) degrees."""
        out = np.tile(self.zero, (len(words), 1))
        out[:, self._linear] += words[:, self._columns]
        out[:, self._linear[-1]] += length
        out[:, self.machine.chain.rotary] = angles
        return out

    def joints_at(self, tips: Floats, angles: Floats, length: float) -> Floats:
        """Joint values (m, n) that bring the tip to places (m, 3) of the setup frame, the rotary joints at
        angles (m, r) degrees."""
        return self.machine.joint_values(apply(self.work_from_setup, tips), angles, length)

    def axes_in_work(self, axes: Floats) -> Floats:
        """Directions (m, 3) of the setup frame in that of the work mount."""
        return np.asarray(axes @ self.work_from_setup[:3, :3].T)

    def words(self, joints: Floats, length: float) -> Floats:
        """Coordinates X, Y, Z (m, 3) of joint values (m, n), 0 where there is no such joint; the inverse of
        `joints`."""
        out = np.zeros((len(joints), 3))
        out[:, self._columns] = (joints - self.zero)[:, self._linear]
        out[:, 2] -= length
        return out

    def home(self, length: float) -> float:
        """The coordinate Z of the tip with Z at its upper end."""
        joint = self._linear[-1]
        return float(self.machine.high[joint] - self.zero[joint] - length)

    def tips(self, joints: Floats, length: float) -> tuple[Floats, Floats]:
        """Tip (m, 3) and tool axis (m, 3) in the setup frame at joint values (m, n)."""
        poses = self.setup_from_work @ self.machine.chain.poses(joints)
        return poses[:, :3, 3] - length * poses[:, :3, 2], poses[:, :3, 2]

    def axis(self, angles: Floats) -> Floats:
        """The tool's axis (3,) in the setup frame with the rotary joints at angles (r,)."""
        return np.asarray(self.tips(self.joints(np.zeros((1, 3)), angles, 0.0), 0.0)[1][0])

    def turned_on(self, letter: str, degrees: float, where: str = "") -> Floats:
        """Where (4, 4) what the tool does in the setup frame lands in it once the joint that carries the work
        is turned on by some degrees. Raises DocumentError for another joint."""
        machine = self.machine
        first = machine.in_chain[0]
        if machine.is_arm or machine.is_lathe or first.kind != "rotary" or first.letter != letter:
            able = first.kind == "rotary" and not machine.is_arm and not machine.is_lathe
            has = f"that is {first.letter}" if able else "it has none that a program turns on"
            raise DocumentError(
                f"A repeat turns '{letter}'; on '{machine.name}' it has to be the rotary joint that carries "
                f"the work, and {has}.",
                remedy="Use that joint, or repeat in the plan view.",
                where=where,
            )
        chain = machine.chain
        motion = chain.base_from_work @ chain.motion(0, np.array([degrees]))[0] @ chain.work
        return _tidy(self.setup_from_work @ motion @ self.work_from_setup)

    def frame(self, angles: Floats, length: float) -> RowFrame:
        """The coordinates of the work offset with the rotary joints at angles (r,) and a tool of a length:
        with every rotary joint at zero the setup frame."""
        corners = np.vstack([np.zeros(3), np.eye(3)])
        tips, axes = self.tips(self.joints(corners, angles, length), length)
        if len(self._columns) < 3:  # no joint goes along Y: square to the two that there are
            tips[2] = tips[0] + np.cross(tips[3] - tips[0], tips[1] - tips[0])
        matrix = transform(np.column_stack(list(tips[1:] - tips[0])), tips[0])
        return RowFrame(_tidy(matrix), _tidy(axes[0]), np.array(angles, dtype=np.float64))

    def driven(
        self, motion: ProgramMotion, lengths: dict[int, float], tolerance: float
    ) -> tuple[Floats, Floats, NDArray[np.int32], Floats]:
        """Joint values (m, n) at both ends of the straight pieces of a motion, the move (m,) of each, and the
        seconds (m,) that the text asks for where joints turn, else NaN. `lengths` are those of the tools by
        number, mm."""
        pieces, owner = motion.straightened(tolerance)
        turning = motion.turning
        if turning is not None and len(turning.owner):
            own = ~turning.turns[owner]
            pieces, owner = pieces[own], owner[own]
        start, end = (np.zeros((len(pieces), len(self.machine.chain))) for _ in range(2))
        frame = np.zeros(len(owner), dtype=np.int32) if turning is None else motion.moves.sides[owner]
        came = frame if turning is None else turning.came[owner]
        for number in np.unique(motion.tool[owner]):
            length = lengths.get(int(number), 0.0)
            tool = motion.tool[owner] == number
            for at, points, out in ((came, pieces[:, :3], start), (frame, pieces[:, 3:], end)):
                for f in np.unique(at[tool]):
                    mine = tool & (at == f)
                    out[mine] = self._reached(
                        points[mine], None if turning is None else turning.frames[f], length
                    )
        seconds = np.full(len(owner), np.nan)
        if turning is None or not len(turning.owner):
            return start, end, owner, seconds
        half = turning.joints.shape[1] // 2
        owner = np.concatenate([owner, turning.owner])
        order = np.argsort(owner, kind="stable")
        joints = [
            np.vstack([own_ends, turned])[order]
            for own_ends, turned in ((start, turning.joints[:, :half]), (end, turning.joints[:, half:]))
        ]
        return joints[0], joints[1], owner[order], np.concatenate([seconds, turning.seconds])[order]

    def _reached(self, points: Floats, frame: RowFrame | None, length: float) -> Floats:
        if frame is None:
            return self.joints(points, np.zeros(len(self.machine.rotary)), length)
        tips = apply(self.work_from_setup @ frame.setup_from_rows, points)
        return self.machine.joint_values(tips, np.tile(frame.angles, (len(tips), 1)), length)


def _tidy(values: Floats) -> Floats:
    """Values within 1e-13 of whole numbers as these, so that axis-parallel frames stay exact."""
    whole = np.round(values)
    return np.where(np.abs(values - whole) < 1e-13, whole + 0.0, values)

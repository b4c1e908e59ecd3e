"""A machine as the job uses it: its chain, limits and spindle, and where the work stands on it."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from fenrik.core.errors import ComputeError, DocumentError
from fenrik.core.machines.arm import JOINTS, Arm, arm_of
from fenrik.core.machines.bodies import Body
from fenrik.core.machines.chain import Chain, Joint, Mount, chain_of
from fenrik.core.machines.choosing import Limits, chosen
from fenrik.core.machines.inverse import rotaries, with_linear
from fenrik.core.strict import Strict

Floats = NDArray[np.float64]
Range = tuple[float, float]
LINEAR = ("X", "Y", "Z")
SQUARE = 1e-9
MIN_VOLUME = 1e-3
"""Of the box that three unit directions span, for them to reach every place."""


class Machine(Strict):
    """A machine: a tree of joints with a mount for the work (the middle of the table's top, Z up) and one for
    the tool (on the spindle's gauge line, Z from the tip to the spindle).

    With all joints at zero both mounts lie on each other or as the library says. `table` mm is the table's
    size along X and Y; `junction_mm` is how far the control may round a corner. `home` are joint values mm
    and degrees by name at which an arm stands clear of everything; a joint that it leaves out stands at zero.
    `tool_change_at` are joint values of a mill or a lathe at which its tool is changed: Z at its upper end
    where it does not say, joints that it leaves out wherever they are. With `diameters` words of X are twice
    the distance from the spindle's axis, as on lathes. `flange` is an arm's mechanical interface (ISO 9787),
    Z away from the arm; open: on the axis of its last joint where this is given.
    """

    id: str
    name: str
    joints: Annotated[list[Joint], Field(min_length=1, max_length=12)]
    work: Mount
    tool: Mount
    table: tuple[float, float]
    feed_max_mm_min: Annotated[float, Field(gt=0)]
    spindle_rpm: Range
    spindle_power_kw: Annotated[float, Field(gt=0)]
    tool_change_s: Annotated[float, Field(ge=0)]
    junction_mm: Annotated[float, Field(gt=0)]
    diameters: bool = False
    flange: Mount | None = None
    home: dict[str, Annotated[float, Field(ge=-1e6, le=1e6)]] = {}
    tool_change_at: dict[str, Annotated[float, Field(ge=-1e6, le=1e6)]] = {}
    bodies: Annotated[list[Body], Field(max_length=200)] = []

    @model_validator(mode="after")
    def _whole(self) -> Machine:
        names = [j.name for j in self.joints]
        letters = [j.letter for j in self.joints if j.letter]
        for what, given in (("joint", names), ("letter", letters)):
            twice = sorted({n for n in given if given.count(n) > 1})
            if twice:
                raise ValueError(f"the {what} '{twice[0]}' is used twice; give each its own")
        for j in self.joints:
            if j.low is not None and j.high is not None and j.low > j.high:
                raise ValueError(f"joint '{j.name}' has its low end {j.low:g} over its high end {j.high:g}")
        if self.spindle_rpm[0] > self.spindle_rpm[1]:
            raise ValueError("the spindle's lowest speed is above its highest")
        chain_of(self.joints, self.work, self.tool)
        for what, used in (("home", list(self.home)), ("a body", [b.joint for b in self.bodies if b.joint])):
            if missing := next((n for n in used if n not in names), None):
                raise ValueError(f"{what} names the joint '{missing}'; the joints are {', '.join(names)}")
        self._check_change()
        return self

    def _check_change(self) -> None:
        """Raises ValueError for a tool that is changed where the machine does not get."""
        known = {j.name: j for j in self.in_chain}
        for name, value in self.tool_change_at.items():
            if name not in known:
                words = ", ".join(known)
                raise ValueError(f"the tool change names '{name}'; joints between work and tool are {words}")
            low, high = known[name].low, known[name].high
            if (low is not None and value < low) or (high is not None and value > high):
                ends = " to ".join("no end" if end is None else f"{end:g}" for end in (low, high))
                raise ValueError(f"the tool is changed with '{name}' at {value:g}; it goes from {ends}")

    @property
    def lack(self) -> str:
        """Why no program can drive the machine, in words; empty where one can."""
        if self.is_arm or self.is_lathe or not self.lack_of_a_mill:
            return ""
        return self.lack_of_an_arm if len(self.rotary) >= JOINTS else self.lack_of_a_mill

    @cached_property
    def carrying_work(self) -> int:
        """How many joints of the chain, from its begin on, carry the work; the others carry the tool."""
        parent = {j.name: j.parent for j in self.joints}
        at, count = self.work.joint, 0
        while at is not None:
            at, count = parent[at], count + 1
        return count

    @cached_property
    def linear(self) -> list[str]:
        """The letters of the linear joints of a mill or a lathe, in the order X, Y, Z."""
        letters = {j.letter for j in self.in_chain if j.kind == "linear"}
        return [letter for letter in LINEAR if letter in letters]

    @cached_property
    def is_lathe(self) -> bool:
        """Whether the work turns about C and a tool along that axis is driven by X and Z: places are reached
        by X and C in place of X and Y."""
        letters = {j.letter: j for j in self.in_chain}
        if len(self.in_chain) != 3 or set(letters) != {"X", "Z", "C"} or letters["C"].kind != "rotary":
            return False
        c, x, z = (np.array(letters[a].axis) for a in "CXZ")
        tool = self.tool.frame
        away = tool[:3, 3] - np.array(letters["C"].point)
        return bool(
            abs(abs(c @ z) - 1.0) < SQUARE
            and abs(abs(c @ tool[:3, 2]) - 1.0) < SQUARE
            and abs(c @ x) < SQUARE
            and abs(away @ np.cross(c, x)) < SQUARE
            and self.work.joint == letters["C"].name
        )

    @cached_property
    def is_arm(self) -> bool:
        """Whether the tool is held by a six-axis arm, alone or beside a rotary table."""
        return not self.lack_of_an_arm

    @cached_property
    def lack_of_an_arm(self) -> str:
        """Why the machine is no arm that can be driven, in words; empty where it is one."""
        try:
            arm_of(self.chain)
        except ComputeError as error:
            return error.what.removesuffix(".")
        before = self.in_chain[:-JOINTS]
        if len(before) > 1 or any(j.kind == "linear" for j in before):
            return f"beside its arm it has {', '.join(j.name for j in before)}; one rotary table can be"
        held = {j.name for j in self.in_chain[-JOINTS:]}
        if before and (self.work.joint in held or self.work.joint is None):
            return f"its joint '{before[0].name}' carries the arm; it has to carry the work"
        return ""

    @cached_property
    def arm(self) -> Arm:
        """The six joints nearest to the tool. Raises ComputeError where they are no arm."""
        return arm_of(self.chain)

    @cached_property
    def interface(self) -> Floats:
        """An arm's mechanical interface (4, 4) in machine coordinates with all joints at zero."""
        last = self.in_chain[-1]
        flange = self.flange or Mount(joint=last.name, at=last.point, z=last.axis)
        return flange.frame

    @cached_property
    def at_home(self) -> Floats:
        """Joint values (n,) of `home` in the chain's order."""
        return np.array([self.home.get(j.name, 0.0) for j in self.in_chain])

    @cached_property
    def lack_of_a_mill(self) -> str:
        """Why the machine cannot be driven by coordinates X, Y and Z and up to two rotary joints, in words;
        empty where it can."""
        letters = {j.letter: j for j in self.in_chain}
        for letter in LINEAR:
            if letter not in letters or letters[letter].kind != "linear":
                return f"it has no linear joint {letter} between work and tool"
        if len(self.in_chain) - len(self.rotary) > len(LINEAR):
            return "it has more than three linear joints between work and tool"
        if len(self.rotary) > 2:
            return f"it has {len(self.rotary)} rotary joints between work and tool"
        if any(not j.letter for j in self.rotary):
            return "one of its rotary joints has no letter"
        directions = np.array([letters[letter].axis for letter in LINEAR])
        if abs(float(np.linalg.det(directions))) < MIN_VOLUME:
            return "its linear joints do not span space"
        return ""

    @cached_property
    def chain(self) -> Chain:
        """The chain from the work to the tool."""
        return chain_of(self.joints, self.work, self.tool)

    @cached_property
    def in_chain(self) -> list[Joint]:
        """The joints of the chain, in its order."""
        known = {j.name: j for j in self.joints}
        return [known[name] for name in self.chain.names]

    @cached_property
    def rotary(self) -> list[Joint]:
        """The rotary joints, in the chain's order."""
        return [j for j in self.in_chain if j.kind == "rotary"]

    def joint(self, letter: str) -> Joint:
        """The joint with a word address."""
        return next(j for j in self.joints if j.letter == letter)

    def place(self, letter: str) -> int:
        """The place of a joint in the chain by its word address."""
        return next(i for i, j in enumerate(self.in_chain) if j.letter == letter)

    @cached_property
    def low(self) -> Floats:
        """Lower ends (n,) of the joints in the chain's order, minus infinity where there is none."""
        return np.array([-np.inf if j.low is None else j.low for j in self.in_chain])

    @cached_property
    def high(self) -> Floats:
        """Upper ends (n,), likewise."""
        return np.array([np.inf if j.high is None else j.high for j in self.in_chain])

    @cached_property
    def speed(self) -> Floats:
        """Highest speeds (n,) mm/min and degrees/min in the chain's order."""
        return np.array([j.speed for j in self.in_chain])

    @cached_property
    def acceleration(self) -> Floats:
        """Accelerations (n,) mm/s² and degrees/s² in the chain's order."""
        return np.array([j.acceleration * (1000.0 if j.kind == "linear" else 1.0) for j in self.in_chain])

    def rotary_positions(
        self,
        axes: Floats,
        start: Floats | None = None,
        weight: Floats | None = None,
        held: Floats | None = None,
    ) -> tuple[Floats, NDArray[np.bool_]]:
        """Positions (m, r) degrees of the rotary joints in which the tool points along `axes` (m, 3) of the
        work mount's frame, the quickest way through all of them, and whether each can be reached (m,); see
        `choosing.chosen`. Where `held` (m, r) gives positions, else NaN, the joints stand there, but for
        whole turns."""
        begin = np.zeros(int(self.chain.rotary.sum())) if start is None else start
        solutions = rotaries(self.chain, axes)
        if held is not None:
            solutions = solutions.held(held)
        return chosen(solutions, self.rotary_limits, begin, weight)

    def rotary_at(self, given: dict[str, float], where: str = "") -> Floats:
        """Positions (r,) degrees of the rotary joints given by letter, the others at 0. Raises DocumentError
        for a letter that the machine does not have, and for machines whose rotary joints follow from the
        rest."""
        letters = [j.letter or j.name for j in self.rotary]
        if self.is_arm or self.is_lathe:
            raise DocumentError(
                f"The rotary joints of '{self.name}' follow from its program and cannot be given for a side.",
                remedy="Give the side by a face, an edge, points or a lean.",
                where=where,
            )
        for letter in given:
            if letter not in letters:
                has = f"has {', '.join(letters)}" if letters else "has no rotary joint"
                raise DocumentError(
                    f"A side is given by the position of '{letter}'; the machine '{self.name}' {has}.",
                    remedy="Use the letters of its rotary joints, or give the side by a face or an edge.",
                    where=where,
                )
        return np.array([given.get(letter, 0.0) for letter in letters])

    @cached_property
    def rotary_limits(self) -> Limits:
        """Ranges and speeds of the rotary joints."""
        turning = self.chain.rotary
        return Limits(self.low[turning], self.high[turning], self.speed[turning])

    def joint_values(self, tips: Floats, angles: Floats, length: float) -> Floats:
        """Joint values (m, n) for tips (m, 3) in the work mount's frame with rotary angles (m, r) and a tool
        `length` mm from the tool mount to the tip."""
        return with_linear(self.chain, tips, angles, length)

    def why_not(self, axis: Floats, held: Floats | None = None) -> str:
        """Why the tool cannot point along an axis (3,) of the work mount's frame, with the rotary joints
        `held` (r,) where that is given, in words; empty where it can. An arm points it anywhere: whether it
        reaches is known by its program."""
        if self.is_arm:
            return ""
        try:
            found = rotaries(self.chain, axis[None])
        except ComputeError as error:
            return error.what
        turning = self.rotary
        if not found.exists.any():
            names = " and ".join(j.letter or j.name for j in turning) or "no rotary joint"
            return f"the tool cannot point that way: the machine has {names}"
        if held is not None:
            found = found.held(held[None])
        if self.rotary_positions(axis[None], held=None if held is None else held[None])[1][0]:
            return ""
        best: tuple[float, str] = (np.inf, "")
        for angles in found.angles[0][found.exists[0]]:
            for joint, angle in zip(turning, angles, strict=True):
                lack, words = _lack(joint, float(angle))
                if 0.0 < lack < best[0]:
                    best = lack, words
        return best[1]


def _lack(joint: Joint, angle: float) -> tuple[float, str]:
    """How many degrees a joint lacks to an angle, whichever turn, and the words."""
    low, high = (-np.inf if joint.low is None else joint.low), (np.inf if joint.high is None else joint.high)
    turns = angle + 360.0 * np.arange(-2, 3)
    lacks = np.maximum(low - turns, turns - high)
    nearest = int(np.argmin(lacks))
    lack = float(max(0.0, lacks[nearest]))
    words = (
        f"{joint.letter or joint.name} would have to stand at {turns[nearest]:.2f}°, {lack:.2f}° beyond "
        f"its range of {low:g}° to {high:g}°"
    )
    return lack, words

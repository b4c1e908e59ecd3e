"""Machines as trees of joints: forward kinematics and the Jacobian of the chain from the work to the tool.

A joint moves everything behind it along its axis (linear, mm) or turns it right-handed about its axis
(rotary, degrees), both given in machine coordinates with all joints at zero. The chain from the work mount
back to the base and on to the tool mount is folded into one product of exponentials, with the joints on the
work's way reversed (Brockett 1984; Murray, Li, Sastry 1994). Mills, mill-turns and arms are the same type.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator, model_validator

from fenrik.core.frames import invert, rotation_up, transform, unit
from fenrik.core.strict import Strict

Floats = NDArray[np.float64]
Vector = tuple[float, float, float]
MOST_DEG = 3600.0
"""Ends of rotary joints lie within ten turns either way: positions are looked for turn by turn."""


class Joint(Strict):
    """One joint. `low` and `high` bound it (mm or degrees, open: it turns for ever); `speed` mm/min or
    degrees/min; `acceleration` m/s² or degrees/s². `letter` is its word address; `parent` the joint that
    carries it, none: the base."""

    name: Annotated[str, Field(min_length=1, max_length=20)]
    letter: Annotated[str, Field(pattern=r"^[A-Z]?$")] = ""
    kind: Literal["linear", "rotary"]
    axis: Vector
    point: Vector = (0.0, 0.0, 0.0)
    parent: str | None = None
    low: Annotated[float, Field(ge=-1e6, le=1e6)] | None = None
    high: Annotated[float, Field(ge=-1e6, le=1e6)] | None = None
    speed: Annotated[float, Field(gt=0)]
    acceleration: Annotated[float, Field(gt=0)]
    clamps: Annotated[bool, Field(description="Whether a brake holds a rotary joint while it stands.")] = (
        False
    )

    @model_validator(mode="after")
    def _turns(self) -> Joint:
        if self.kind == "rotary":
            ends = [end for end in (self.low, self.high) if end is not None]
            if len(ends) == 1:
                raise ValueError(
                    f"the rotary joint '{self.name}' has one end; give both, or none: it turns for ever"
                )
            if any(abs(end) > MOST_DEG for end in ends):
                raise ValueError(
                    f"the rotary joint '{self.name}' turns from {self.low:g}° to {self.high:g}°; ends lie "
                    "within"
                    f" ±{MOST_DEG:g}°, without ends it turns for ever"
                )
        return self

    @field_validator("axis")
    @classmethod
    def _unit(cls, value: Vector) -> Vector:
        x, y, z = unit(value).tolist()
        return x, y, z


class Mount(Strict):
    """Where the work or the tool sits: on a joint (none: the base), its origin and the directions of its Z
    and X (open: the machine's X square to Z) in machine coordinates with all joints at zero. A tool mount's Z
    points from the tip to the spindle."""

    joint: str | None
    at: Vector = (0.0, 0.0, 0.0)
    z: Vector = (0.0, 0.0, 1.0)
    x: Vector | None = None

    @property
    def frame(self) -> Floats:
        """The mount in machine coordinates (4, 4)."""
        if self.x is None:
            return transform(rotation_up(self.z).T, self.at)
        z = unit(self.z)
        x = unit(np.array(self.x) - z * float(np.dot(z, self.x)))
        return transform(np.column_stack([x, np.cross(z, x), z]), self.at)


@dataclass(frozen=True)
class Chain:
    """The joints between work and tool in order, starting at the work.

    `rotary` (n,) bool; `axis` (n, 3), already reversed for the joints that carry the work; `point` (n, 3);
    `work` and `tool` (4, 4) the mounts in machine coordinates with all joints at zero.
    """

    names: tuple[str, ...]
    rotary: NDArray[np.bool_]
    axis: Floats
    point: Floats
    work: Floats
    tool: Floats

    def __len__(self) -> int:
        return len(self.names)

    @cached_property
    def base_from_work(self) -> Floats:
        """`work`, inverted."""
        return invert(self.work)

    def poses(self, values: Floats) -> Floats:
        """The tool mount in the work mount's frame (m, 4, 4) at joint values (m, n), mm and degrees."""
        count = len(values)
        out = np.tile(self.base_from_work, (count, 1, 1))
        for i in range(len(self)):
            out = out @ self.motion(i, values[:, i])
        return np.asarray(out @ self.tool)

    def motion(self, joint: int, values: Floats) -> Floats:
        """The rigid motions (m, 4, 4) in machine coordinates of one joint of the chain at values (m,)."""
        out = np.tile(np.eye(4), (len(values), 1, 1))
        if self.rotary[joint]:
            turned = rotations(self.axis[joint], np.radians(values))
            out[:, :3, :3] = turned
            out[:, :3, 3] = self.point[joint] - turned @ self.point[joint]
        else:
            out[:, :3, 3] = values[:, None] * self.axis[joint]
        return out

    def jacobian(self, values: Floats, length: float = 0.0) -> Floats:
        """Derivatives (6, n) at joint values (n,) of the tip's place (mm, `length` mm below the tool mount)
        and of the tool's rotation (rad), in the work mount's frame, by joint value (mm and rad)."""
        before = self.base_from_work
        tip = self.poses(values[None])[0] @ np.array([0.0, 0.0, -length, 1.0])
        out = np.zeros((6, len(self)))
        for i in range(len(self)):
            axis = before[:3, :3] @ self.axis[i]
            if self.rotary[i]:
                point = before[:3, :3] @ self.point[i] + before[:3, 3]
                out[:3, i], out[3:, i] = np.cross(axis, tip[:3] - point), axis
            else:
                out[:3, i] = axis
            before = before @ self.motion(i, values[i : i + 1])[0]
        return out


def rotations(axis: Floats, angle: Floats) -> Floats:
    """Rotation matrices (m, 3, 3) about a unit axis (3,) by angles (m,) rad (Rodrigues). Exact at multiples
    of 90°."""
    sine, cosine = np.sin(angle), np.cos(angle)
    quarter = np.abs(angle / (0.5 * np.pi) - np.round(angle / (0.5 * np.pi))) < 1e-14
    sine, cosine = np.where(quarter, np.round(sine), sine), np.where(quarter, np.round(cosine), cosine)
    x, y, z = axis
    cross = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])
    turning, outer = sine[:, None, None] * cross, np.outer(axis, axis)
    return np.asarray(cosine[:, None, None] * np.eye(3) + turning + (1.0 - cosine)[:, None, None] * outer)


def chain_of(joints: list[Joint], work: Mount, tool: Mount) -> Chain:
    """The chain between two mounts of a tree. Raises ValueError where a parent is unknown or the tree has a
    loop."""
    known = {j.name: j for j in joints}

    def way(name: str | None) -> list[Joint]:
        out: list[Joint] = []
        while name is not None:
            if name not in known:
                raise ValueError(f"the joint '{name}' does not exist; the joints are {', '.join(known)}")
            if known[name] in out:
                raise ValueError(f"the joint '{name}' carries itself")
            out.append(known[name])
            name = known[name].parent
        return out

    on_work, on_tool = way(work.joint), way(tool.joint)[::-1]
    shared = {j.name for j in on_work} & {j.name for j in on_tool}
    on_work, on_tool = ([j for j in side if j.name not in shared] for side in (on_work, on_tool))
    ordered = [*on_work, *on_tool]
    signs = np.array([*(-1.0 for _ in on_work), *(1.0 for _ in on_tool)])
    return Chain(
        tuple(j.name for j in ordered),
        np.array([j.kind == "rotary" for j in ordered], dtype=np.bool_),
        signs[:, None] * np.array([j.axis for j in ordered], dtype=np.float64).reshape(-1, 3) + 0.0,
        np.array([j.point for j in ordered], dtype=np.float64).reshape(-1, 3),
        work.frame,
        tool.frame,
    )

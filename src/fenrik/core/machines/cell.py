"""An arm beside a rotary table with a tool: where its frames are, and all ways to hold the tool at a pose."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import invert
from fenrik.core.machines.arm import JOINTS, Postures, postures
from fenrik.core.machines.on_machine import OnMachine

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Cell:
    """An arm, its table, and a tool: `on` its machine, `length` mm from the tool mount to the tip."""

    on: OnMachine
    length: float

    @cached_property
    def has_table(self) -> bool:
        """Whether a rotary table carries the work."""
        return len(self.on.machine.chain) > JOINTS

    def base_from_setup(self, table: Floats) -> Floats:
        """The setup frame in machine coordinates (m, 4, 4) with the table at angles (m,) degrees."""
        chain = self.on.machine.chain
        work = np.tile(chain.base_from_work, (len(table), 1, 1))
        if self.has_table:
            work = work @ chain.motion(0, table)
        return np.asarray(np.linalg.inv(work) @ self.on.work_from_setup)

    def frames(self, axes: Floats, table: Floats, spin: Floats) -> Floats:
        """The tool mount's directions (m, 3, 3) in the setup frame for tool axes (m, 3) there, the table at
        (m,) and the spin (m,) degrees.

        Without spin the mount is turned from upright by the least turn that points it along the axis, so that
        an upright tool has its X along that of the machine.
        """
        base = self.base_from_setup(table)[:, :3, :3]
        held = upright_to(np.einsum("mij,mj->mi", base, axes)) @ _about_z(np.radians(spin))
        return np.asarray(base.transpose(0, 2, 1) @ held)

    def postures(self, tips: Floats, frames: Floats, table: Floats) -> Postures:
        """All ways to hold the tool with its tip at (m, 3) and its mount's directions (m, 3, 3), setup
        frame."""
        mounts = np.tile(np.eye(4), (len(tips), 1, 1))
        mounts[:, :3, :3] = frames
        mounts[:, :3, 3] = tips + self.length * frames[:, :, 2]
        before = table[:, None] if self.has_table else None
        return postures(self.on.machine.chain, self.on.work_from_setup @ mounts, before)

    def at(self, joints: Floats) -> tuple[Floats, Floats]:
        """Tip (m, 3) and the tool mount's directions (m, 3, 3) in the setup frame at joint values (m, n)."""
        mounts = self.on.setup_from_work @ self.on.machine.chain.poses(joints)
        return mounts[:, :3, 3] - self.length * mounts[:, :3, 2], mounts[:, :3, :3]

    def lacking(self, tips: Floats, frames: Floats, table: Floats) -> Floats:
        """By how much (m,) mm the wrist's middle is too far away for the arm, or too near (negative); 0 where
        it is in reach."""
        arm, chain = self.on.machine.arm, self.on.machine.chain
        mount = invert(chain.tool) @ np.array([*arm.wrist, 1.0])
        wrist = tips + np.einsum("mij,j->mi", frames, mount[:3] + np.array([0.0, 0.0, self.length]))
        base = self.base_from_setup(table)
        out = np.einsum("mij,mj->mi", base[:, :3, :3], wrist) + base[:, :3, 3] - arm.first
        up = out @ arm.axis[0]
        flat = np.sqrt(np.maximum(0.0, np.sum(out * out, axis=1) - up * up))
        beside = abs(float((arm.wrist - arm.first) @ arm.axis[1]))
        ahead = np.cross(arm.axis[1], arm.axis[0])
        shoulder = arm.second - arm.first
        forward = np.sqrt(np.maximum(0.0, flat**2 - beside**2)) - abs(float(shoulder @ ahead))
        far = np.hypot(forward, up - shoulder @ arm.axis[0])
        links = np.linalg.norm(arm.third - arm.second), np.linalg.norm(arm.wrist - arm.third)
        most, least = float(links[0] + links[1]), float(abs(links[0] - links[1]))
        return np.asarray(np.where(far > most, far - most, np.minimum(0.0, far - least)))


def upright_to(axes: Floats) -> Floats:
    """The least turns (m, 3, 3) that take Z to unit vectors (m, 3); where these point down, about X."""
    x, y, z = axes.T
    out = np.zeros((len(axes), 3, 3))
    down = z < -1.0 + 1e-12
    share = 1.0 / np.where(down, 1.0, 1.0 + z)
    out[:, 0, 0], out[:, 0, 1], out[:, 0, 2] = 1.0 - share * x * x, -share * x * y, x
    out[:, 1, 0], out[:, 1, 1], out[:, 1, 2] = -share * x * y, 1.0 - share * y * y, y
    out[:, 2, 0], out[:, 2, 1], out[:, 2, 2] = -x, -y, z
    out[down] = np.diag([1.0, -1.0, -1.0])
    return out


def _about_z(angle: Floats) -> Floats:
    c, s = np.cos(angle), np.sin(angle)
    out = np.tile(np.eye(3), (len(angle), 1, 1))
    out[:, 0, 0], out[:, 0, 1], out[:, 1, 0], out[:, 1, 1] = c, -s, s, c
    return out

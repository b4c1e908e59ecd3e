"""Where everything on a machine is: poses of all its joints, not of the chain from work to tool alone."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines._collision_kernels import AXIS, COLUMN, POINT, ROTARY
from fenrik.core.machines.chain import Mount, chain_of
from fenrik.core.machines.machine import Machine

Floats = NDArray[np.float64]


class Tree:
    """The joints of a machine; values (m, n) are those of all joints, in its order."""

    def __init__(self, machine: Machine) -> None:
        self.machine = machine
        self.column = {j.name: i for i, j in enumerate(machine.joints)}
        self._between: dict[tuple[str | None, str | None], Floats] = {}

    def between(self, one: str | None, two: str | None) -> Floats:
        """The joints between what hangs on one joint and on another (None: the base): rows (k, 8), see
        `_collision_kernels`."""
        if (one, two) not in self._between:
            chain = chain_of(self.machine.joints, Mount(joint=one), Mount(joint=two))
            rows = np.zeros((len(chain), 8))
            rows[:, ROTARY] = chain.rotary
            rows[:, AXIS:POINT] = chain.axis
            rows[:, POINT:COLUMN] = chain.point
            rows[:, COLUMN] = [self.column[name] for name in chain.names]
            self._between[one, two] = rows
        return self._between[one, two]

    def poses_on(self, joint: str | None, values: Floats) -> Floats:
        """The rigid motions (m, 4, 4) in machine coordinates of all that hangs on a joint (None: the
        base)."""
        chain = chain_of(self.machine.joints, Mount(joint=None), Mount(joint=joint))
        out = np.tile(np.eye(4), (len(values), 1, 1))
        for i, name in enumerate(chain.names):
            out = out @ chain.motion(i, values[:, self.column[name]])
        return out

    def every(self, values: Floats) -> Floats:
        """Values (m, n) of all joints from those (m, k) of the chain between work and tool; the others stand
        at zero."""
        out = np.zeros((len(values), len(self.column)))
        out[:, [self.column[name] for name in self.machine.chain.names]] = values
        return out

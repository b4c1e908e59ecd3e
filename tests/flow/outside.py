"""A machine as `report.json` describes it, in Pinocchio: for provers that use nothing of Fenrik's."""

from __future__ import annotations

from typing import Any

import numpy as np
import pinocchio


class Tree:
    """The joints as a Pinocchio model, and frames that hang on them."""

    def __init__(self, machine: dict[str, Any]) -> None:
        self.joints = {j["name"]: j for j in machine["joints"]}
        self.model, self.placed = pinocchio.Model(), {None: (0, np.zeros(3))}
        waiting = list(self.joints.values())
        while waiting:
            joint = next(j for j in waiting if j["parent"] in self.placed)
            waiting.remove(joint)
            parent, at = self.placed[joint["parent"]]
            point, axis = np.array(joint["point"]), np.array(joint["axis"])
            kind = (
                pinocchio.JointModelPrismaticUnaligned
                if joint["kind"] == "linear"
                else pinocchio.JointModelRevoluteUnaligned
            )
            where = pinocchio.SE3(np.eye(3), point - at)
            number = self.model.addJoint(parent, kind(axis), where, joint["name"])
            self.placed[joint["name"]] = number, point
        self.data = self.model.createData()

    def place(self, name: str) -> int:
        """The index of a joint among the model's values."""
        return self.model.joints[self.model.getJointId(name)].idx_q

    def frame(self, joint: str | None, matrix: list[list[float]]) -> tuple[int, Any]:
        """A frame (machine coordinates, all joints at zero) on a joint: its number there, and where."""
        number, at = self.placed[joint]
        own = np.array(matrix)
        own[:3, 3] -= at
        return number, pinocchio.SE3(own)

    def between(self, q: np.ndarray, first: tuple[int, Any], second: tuple[int, Any]) -> np.ndarray:
        """The second frame in the first (4, 4) at joint values."""
        pinocchio.forwardKinematics(self.model, self.data, q)
        (a, here), (b, there) = first, second
        return ((self.data.oMi[a] * here).inverse() * (self.data.oMi[b] * there)).homogeneous

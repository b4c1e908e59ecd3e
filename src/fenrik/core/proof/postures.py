"""Checks of an arm's motion: postures near a singular one, where small moves of the tool take large ones of
the joints."""

from __future__ import annotations

import numpy as np

from fenrik.core.machines.arm import JOINTS, measures_at
from fenrik.core.machines.machine import Machine
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.limits import OTHERWISE_HELD
from fenrik.core.proof.run import Run

NEAR = {
    "shoulder": (0.05, "its wrist comes over its first axis"),
    "elbow": (0.1, "it is stretched or folded"),
    "wrist": (0.1, "the first and the last axis of its wrist come into line"),
}
"""Below what measure a posture is near a singular one: the wrist within some 6 degrees of it, and why."""


def posture_findings(run: Run, machine: Machine) -> list[Finding]:
    """A caution for every operation and kind of singular posture that the arm comes near while the tip is led
    straight, at the nearest place."""
    turning = run.motion.turning
    if not machine.is_arm or turning is None or not len(turning.owner):
        return []
    led = np.flatnonzero(~turning.aside[turning.owner])
    owner = turning.owner[led]
    k = turning.joints.shape[1] // 2
    joints = turning.joints[led, k:]
    measures = measures_at(machine.arm, joints[:, -JOINTS:])
    out = []
    for step, name in enumerate(run.names):
        mine = np.flatnonzero(run.step_of[owner] == step)
        for values, (kind, (least, why)) in zip(measures, NEAR.items(), strict=True):
            if not len(mine) or values[mine].min() >= least:
                continue
            at = int(mine[np.argmin(values[mine])])
            middle = machine.in_chain[-2]
            where = f" ({middle.name} at {joints[at, -2]:.1f}°)" if kind == "wrist" else ""
            words = f"The arm comes near a singular posture of its {kind} in '{name}': {why}{where}."
            out.append(
                Finding(
                    "caution",
                    "singular",
                    words,
                    OTHERWISE_HELD,
                    operation=name,
                    measure=float(values[at]),
                    limit=least,
                    **run.at(int(owner[at])),
                )
            )
    return out

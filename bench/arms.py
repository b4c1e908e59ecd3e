"""All ways in which a six-axis arm holds its tool, and those chosen along a path, against a warm numeric loop
in Pinocchio."""

from __future__ import annotations

import time
from collections.abc import Iterator

import numpy as np
import pinocchio
from tests.arms import usual_arm

from bench.machines import serial
from bench.timing import Row, best
from fenrik.core.machines.arm import measures_at, postures
from fenrik.core.machines.cell import Cell
from fenrik.core.machines.chain import Chain, Mount, chain_of
from fenrik.core.machines.holding import Held, held_along
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine

POSES, LOOPED, CHOSEN = 20_000, 1_000, 2_000
LENGTH = 120.0
"""Below the tool mount, where `serial` has its frame."""


def along() -> tuple[Chain, np.ndarray, np.ndarray]:
    """The arm without its table, joint values along a smooth way and the tool mount's poses there."""
    joints, _, tool = usual_arm()
    chain = chain_of(joints[1:], Mount(joint=None), tool)
    turn = np.linspace(0.0, 1.0, POSES)[:, None]
    middle = np.array([0.0, 10.0, -20.0, 20.0, 60.0, 10.0])
    half = np.array([60.0, 35.0, 35.0, 60.0, 30.0, 90.0])
    values = middle + half * np.sin(2.0 * np.pi * (2.0 + np.arange(6)) * turn + np.arange(6))
    return chain, values, chain.poses(values)


def looped(chain: Chain, poses: np.ndarray, start: np.ndarray) -> np.ndarray:
    """Joint values rad by Newton steps from pose to pose, each begun where the one before ended."""
    model, frame = serial(chain)
    data, q = model.createData(), start.copy()
    out = np.empty((len(poses), 6))
    tips = poses[:, :3, 3] - LENGTH * poses[:, :3, 2]
    for n, (pose, tip) in enumerate(zip(poses, tips, strict=True)):
        wanted = pinocchio.SE3(np.ascontiguousarray(pose[:3, :3]), tip)
        for _ in range(30):
            pinocchio.framesForwardKinematics(model, data, q)
            off = pinocchio.log6(data.oMf[frame].actInv(wanted)).vector
            if np.abs(off).max() < 1e-8:
                break
            q = q + np.linalg.solve(pinocchio.computeFrameJacobian(model, data, q, frame), off)
        out[n] = q
    return out


def swirl() -> tuple[Cell, np.ndarray, np.ndarray]:
    """A tool that leans by 30° all round along a spiral on the table of the library's cell."""
    cell = Cell(OnMachine(machines()["pedestal_arm_1800"], np.eye(4)), 150.0)
    turn = np.linspace(0.0, 20.0 * np.pi, CHOSEN)
    round_ = np.column_stack([np.cos(turn), np.sin(turn), np.zeros(CHOSEN)])
    tips = 120.0 * (turn / turn[-1])[:, None] * round_ + np.array([0.0, 0.0, 200.0])
    return cell, tips, 0.5 * round_ + np.sqrt(0.75) * np.array([0.0, 0.0, 1.0])


def chosen(loop: float) -> Iterator[Row]:
    """Poses held with a searched spin and checked, against the numeric loop, which knows one posture and no
    spin."""
    cell, tips, axes = swirl()
    loose = np.zeros(CHOSEN, dtype=np.bool_)
    arm = cell.on.machine.arm

    def work() -> tuple[bool, float, float]:
        held = held_along(cell, tips, axes, loose, Held(0.0, None))
        tip, _ = cell.at(held.joints)
        return (
            bool(held.holds.all()),
            float(np.abs(tip - tips).max()),
            float(measures_at(arm, held.joints[:, 1:]).min()),
        )

    whole, off, _ = work()
    ours = best(work)
    what = f"{CHOSEN} arm poses chosen (24 spins, 8 postures) and checked"
    yield Row(what, f"{ours:.2f} s", f"{CHOSEN * loop:.2f} s one each", ours, most=1.0)
    held = off if whole else np.inf
    yield Row(
        "the same: farthest of a held tip from its place", f"{off:.1e} mm", "1e-6 mm", held / 1e-6, most=1.0
    )


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    chain, values, poses = along()
    postures(chain, poses[:10])
    ours = best(lambda: postures(chain, poses)) / POSES
    began = time.perf_counter()
    theirs = looped(chain, poses[:LOOPED], np.radians(values[0]))
    loop = (time.perf_counter() - began) / LOOPED
    what = f"all postures of a six-axis arm, {POSES} poses"
    yield Row(what, f"{1e6 * ours:.2f} µs", f"{1e6 * loop:.0f} µs Pinocchio", loop / ours, least=30.0)
    found = postures(chain, poses)
    apart = np.abs((found.angles - values[:, None] + 180.0) % 360.0 - 180.0).max(axis=2)
    off = float(np.where(found.exists, apart, np.inf).min(axis=1).max())
    yield Row(
        "the same: farthest from the posture it came from", f"{off:.1e}°", "1e-7°", off / 1e-7, most=1.0
    )
    yield from chosen(loop)
    numeric = float(np.abs(np.degrees(theirs) - values[:LOOPED]).max())
    yield Row("the same: the numeric loop", f"{numeric:.1e}°", "1e-4°", numeric / 1e-4, most=1.0)

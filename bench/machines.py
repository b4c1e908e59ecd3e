"""Joint values for tool poses on five machines, branches and windings chosen, against a warm numeric loop in
Pinocchio."""

from __future__ import annotations

import time
from collections.abc import Iterator

import numpy as np
import pinocchio

from bench.timing import Row, best
from fenrik.core.machines.chain import Chain, Joint, Mount
from fenrik.core.machines.library import machines
from fenrik.core.machines.machine import Machine

POSES, LOOPED = 20_000, 1_000
LENGTH = 120.0


def skew_head() -> Machine:
    """A head whose second axis leans by 50° (invented)."""
    like = machines()["fork_head_1500"]
    joints = [j for j in like.joints if j.name != "A"]
    joints.append(
        Joint(
            name="A",
            letter="A",
            kind="rotary",
            axis=(0.766044443, 0.0, 0.64278761),
            point=(0.0, 0.0, 280.0),
            parent="C",
            low=-190.0,
            high=190.0,
            speed=14400.0,
            acceleration=700.0,
        )
    )
    return like.model_copy(
        update={"id": "skew_head", "name": "Skew head", "joints": joints, "tool": Mount(joint="A")}
    )


def poses(machine: Machine) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Joint values along a smooth way within the joints' ranges, and the tips and axes there, work mount's
    frame."""
    turn = np.linspace(0.0, 1.0, POSES)
    chain, values = machine.chain, np.zeros((POSES, len(machine.chain)))
    for i in range(len(chain)):
        low, high = machine.low[i], machine.high[i]
        low, high = (low, high) if np.isfinite(low) and np.isfinite(high) else (-300.0, 300.0)
        middle, half = 0.5 * (low + high), 0.4 * (high - low)
        values[:, i] = middle + half * np.sin(2.0 * np.pi * (3.0 + i) * turn + i)
    found = chain.poses(values)
    return values, found[:, :3, 3] - LENGTH * found[:, :3, 2], found[:, :3, 2]


def solved(machine: Machine, tips: np.ndarray, axes: np.ndarray, start: np.ndarray) -> np.ndarray:
    """Joint values by the closed form."""
    positions, reached = machine.rotary_positions(axes, start)
    assert reached.all()
    return machine.joint_values(tips, positions, LENGTH)


def serial(chain: Chain) -> tuple[pinocchio.Model, int]:
    """The chain from work to tool as a Pinocchio model with a frame at the tip."""
    model, parent, at = pinocchio.Model(), 0, np.zeros(3)
    base = pinocchio.SE3(chain.base_from_work)
    for i in range(len(chain)):
        kind = (
            pinocchio.JointModelRevoluteUnaligned
            if chain.rotary[i]
            else pinocchio.JointModelPrismaticUnaligned
        )
        placed = pinocchio.SE3(np.eye(3), chain.point[i] - at)
        parent = model.addJoint(
            parent, kind(chain.axis[i]), base * placed if i == 0 else placed, chain.names[i]
        )
        at = chain.point[i]
    tip = chain.tool.copy()
    tip[:3, 3] += -at - LENGTH * tip[:3, 2]
    frame = pinocchio.Frame("tip", parent, 0, pinocchio.SE3(tip), pinocchio.FrameType.OP_FRAME)
    return model, model.addFrame(frame)


def looped(chain: Chain, tips: np.ndarray, axes: np.ndarray, start: np.ndarray) -> np.ndarray:
    """Joint values by Newton steps from pose to pose, each begun where the one before ended."""
    model, frame = serial(chain)
    data, q = model.createData(), start.copy()
    out = np.empty((len(tips), len(chain)))
    for n, (tip, axis) in enumerate(zip(tips, axes, strict=True)):
        for _ in range(30):
            pinocchio.framesForwardKinematics(model, data, q)
            here = data.oMf[frame]
            off = np.concatenate([tip - here.translation, np.cross(here.rotation[:, 2], axis)])
            if np.abs(off).max() < 1e-8:
                break
            jacobian = pinocchio.computeFrameJacobian(model, data, q, frame, pinocchio.LOCAL_WORLD_ALIGNED)
            a = here.rotation[:, 2]
            across = jacobian[3:] - np.outer(a, a @ jacobian[3:])
            q = q + np.linalg.lstsq(np.vstack([jacobian[:3], across]), off, rcond=None)[0]
        out[n] = q
    return out


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    two = [m for m in machines().values() if len(m.rotary) == 2]
    for machine in [*two, skew_head()]:
        values, tips, axes = poses(machine)
        start = values[0, machine.chain.rotary]
        ours = best(lambda m=machine, t=tips, a=axes, s=start: solved(m, t, a, s), 3) / POSES
        joints = solved(machine, tips, axes, start)
        again = machine.chain.poses(joints)
        off = np.abs(again[:, :3, 3] - LENGTH * again[:, :3, 2] - tips).max()
        first = np.where(machine.chain.rotary, np.radians(values[0]), values[0])
        began = time.perf_counter()
        looped(machine.chain, tips[:LOOPED], axes[:LOOPED], first)
        theirs = (time.perf_counter() - began) / LOOPED
        what = f"inverse with branches, {POSES} poses, {machine.name}"
        yield Row(
            what, f"{1e6 * ours:.2f} µs", f"{1e6 * theirs:.0f} µs Pinocchio", theirs / ours, least=200.0
        )
        yield Row(
            "the same: farthest from the pose asked for", f"{off:.1e} mm", "1e-9 mm", off / 1e-9, most=1.0
        )

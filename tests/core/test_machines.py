"""Machines as chains: forward and inverse against Pinocchio, random machines, choosing, words of a hole
worked out by hand."""

from __future__ import annotations

import numpy as np
import pinocchio
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.frames import transform
from fenrik.core.machines.chain import Joint, Mount, chain_of
from fenrik.core.machines.choosing import Limits, chosen
from fenrik.core.machines.inverse import Rotaries, rotaries, with_linear
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine

LIBRARY = machines()
TWO = [m.id for m in LIBRARY.values() if len(m.rotary) == 2]


def in_pinocchio(joints, work, tool):
    """A tree of joints as a Pinocchio model, and the frames of both mounts in it."""
    model, where = pinocchio.Model(), {None: (0, np.eye(4))}
    waiting = list(joints)
    while waiting:
        joint = next(j for j in waiting if j.parent in where)
        waiting.remove(joint)
        parent, at = where[joint.parent]
        axis, point = np.array(joint.axis), np.array(joint.point)
        kind = (
            pinocchio.JointModelPrismaticUnaligned
            if joint.kind == "linear"
            else pinocchio.JointModelRevoluteUnaligned
        )
        placed = pinocchio.SE3(np.eye(3), point - at[:3, 3])
        number = model.addJoint(parent, kind(axis), placed, joint.name)
        where[joint.name] = (number, transform(np.eye(3), point))
    frames = []
    for mount in (work, tool):
        number, at = where[mount.joint]
        frame = mount.frame
        frame[:3, 3] -= at[:3, 3]
        frames.append((number, pinocchio.SE3(frame)))
    return model, frames


def pose_in_pinocchio(machine_parts, values):
    """The tool mount in the work mount's frame (4, 4) by Pinocchio; `values` by joint name, mm and
    degrees."""
    joints, work, tool = machine_parts
    model, ((wj, wf), (tj, tf)) = in_pinocchio(joints, work, tool)
    data, q = model.createData(), np.zeros(model.nq)
    for joint in joints:
        value = values.get(joint.name, 0.0)
        q[model.joints[model.getJointId(joint.name)].idx_q] = (
            value if joint.kind == "linear" else np.radians(value)
        )
    pinocchio.forwardKinematics(model, data, q)
    return ((data.oMi[wj] * wf).inverse() * (data.oMi[tj] * tf)).homogeneous


@pytest.mark.parametrize("name", list(LIBRARY))
def test_forward_kinematics_is_that_of_pinocchio(name):
    machine, rng = LIBRARY[name], np.random.default_rng(3)
    for _ in range(20):
        values = rng.uniform(-170, 170, len(machine.chain))
        want = pose_in_pinocchio(
            (machine.joints, machine.work, machine.tool), dict(zip(machine.chain.names, values, strict=True))
        )
        assert machine.chain.poses(values[None])[0] == pytest.approx(want, abs=1e-9)


@pytest.mark.parametrize("name", list(LIBRARY))
def test_the_jacobian_is_the_change_of_the_pose(name):
    machine, rng, step = LIBRARY[name], np.random.default_rng(4), 1e-6
    values = rng.uniform(-60, 60, len(machine.chain))
    jacobian = machine.chain.jacobian(values, 80.0)
    for i, rotary in enumerate(machine.chain.rotary):
        moved = np.tile(values, (2, 1))
        moved[:, i] += [-step, step]
        a, b = machine.chain.poses(moved)
        tip = np.array([0.0, 0.0, -80.0, 1.0])
        unit = 2.0 * (np.radians(step) if rotary else step)
        assert jacobian[:3, i] == pytest.approx(((b - a) @ tip)[:3] / unit, rel=1e-6, abs=1e-5)
        turned = (b[:3, :3] @ a[:3, :3].T - a[:3, :3] @ b[:3, :3].T) / (2.0 * unit)
        assert jacobian[3:, i] == pytest.approx([turned[2, 1], turned[0, 2], turned[1, 0]], abs=1e-7)


@pytest.mark.parametrize("name", TWO)
def test_both_solutions_bring_the_tool_where_it_was_asked(name):
    machine, rng = LIBRARY[name], np.random.default_rng(5)
    values = rng.uniform(-170, 170, (2000, len(machine.chain)))
    values[:, ~machine.chain.rotary] = rng.uniform(-400, 400, (2000, 3))
    poses = machine.chain.poses(values)
    tips, axes = poses[:, :3, 3] - 120.0 * poses[:, :3, 2], poses[:, :3, 2]
    found = rotaries(machine.chain, axes)
    assert found.exists.all()
    met = np.zeros(len(values), dtype=bool)
    for s in range(2):
        joints = with_linear(machine.chain, tips, found.angles[:, s], 120.0)
        again = machine.chain.poses(joints)
        assert again[:, :3, 2] == pytest.approx(axes, abs=1e-9)
        assert again[:, :3, 3] - 120.0 * again[:, :3, 2] == pytest.approx(tips, abs=1e-9)
        off = (joints - values + 180.0) % 360.0 - 180.0
        met |= np.abs(np.where(machine.chain.rotary, off, joints - values)).max(axis=1) < 1e-6
    assert met.all()  # the posture that was taken is one of both


unit_vectors = (
    st.tuples(*(st.floats(-1, 1) for _ in range(3))).map(np.array).filter(lambda v: np.linalg.norm(v) > 0.1)
)


@given(unit_vectors, unit_vectors, unit_vectors, st.integers(0, 2), st.integers(0, 2**31))
@settings(max_examples=150, deadline=None)
def test_machines_with_any_two_rotary_axes_go_round_to_1e_9(first, second, third, heads, seed):
    """Skew axes, 45° ones, on the work's or the tool's side, with points off the origin."""
    first, second = first / np.linalg.norm(first), second / np.linalg.norm(second)
    if np.linalg.norm(np.cross(first, second)) < 0.05:
        return
    rng = np.random.default_rng(seed)
    more = dict(speed=1000.0, acceleration=1.0)
    linear = [
        Joint(name=n, kind="linear", axis=a, parent=p, **more)
        for n, a, p in (("X", (1, 0.1, 0), None), ("Y", (0, 1, 0.2), "X"), ("Z", (0.1, 0, 1), "Y"))
    ]
    parents = {0: (None, "P", None), 1: (None, "Z", "Z"), 2: ("Z", "P", None)}[heads]
    joints = [
        *linear,
        Joint(
            name="P",
            kind="rotary",
            axis=tuple(first),
            point=tuple(rng.uniform(-200, 200, 3)),
            parent=parents[0],
            **more,
        ),
        Joint(
            name="Q",
            kind="rotary",
            axis=tuple(second),
            point=tuple(rng.uniform(-200, 200, 3)),
            parent=parents[1],
            **more,
        ),
    ]
    work = Mount(joint={0: "Q", 1: "P", 2: None}[heads], at=(5.0, -7.0, 11.0))
    tool = Mount(joint={0: "Z", 1: "Q", 2: "Q"}[heads], z=tuple(third))
    chain = chain_of(joints, work, tool)
    values = np.where(chain.rotary, rng.uniform(-179, 179, len(chain)), rng.uniform(-300, 300, len(chain)))[
        None
    ]
    pose = chain.poses(values)
    tips, axes = pose[:, :3, 3] - 90.0 * pose[:, :3, 2], pose[:, :3, 2]
    found = rotaries(chain, axes)
    assert found.exists.all()
    for s in range(2):
        again = chain.poses(with_linear(chain, tips, found.angles[:, s], 90.0))
        assert np.abs(again[:, :3, 2] - axes).max() < 1e-9
        assert np.abs(again[:, :3, 3] - 90.0 * again[:, :3, 2] - tips).max() < 1e-9


def test_the_same_type_holds_an_arm_of_six_joints():
    """An arm with a spherical wrist on a pedestal (invented), forward, against Pinocchio."""
    names, more = [f"J{i}" for i in range(1, 7)], dict(speed=9000.0, acceleration=400.0)
    axes = [(0, 0, 1), (0, 1, 0), (0, 1, 0), (1, 0, 0), (0, 1, 0), (1, 0, 0)]
    points = [(0, 0, 300), (180, 0, 700), (180, 0, 1500), (900, 0, 1640), (1280, 0, 1640), (1280, 0, 1640)]
    joints = [
        Joint(name=n, kind="rotary", axis=a, point=p, parent=None if i == 0 else names[i - 1], **more)
        for i, (n, a, p) in enumerate(zip(names, axes, points, strict=True))
    ]
    joints.append(Joint(name="E1", kind="rotary", axis=(0, 0, -1), point=(1600, 0, 500), **more))
    work = Mount(joint="E1", at=(1600.0, 0.0, 500.0))
    tool = Mount(joint="J6", at=(1400.0, 0.0, 1640.0), z=(-1.0, 0.0, 0.0), x=(0.0, 0.0, 1.0))
    chain, rng = chain_of(joints, work, tool), np.random.default_rng(6)
    for _ in range(20):
        values = rng.uniform(-170, 170, len(chain))
        want = pose_in_pinocchio((joints, work, tool), dict(zip(chain.names, values, strict=True)))
        assert chain.poses(values[None])[0] == pytest.approx(want, abs=1e-9)


def cheapest(solutions, limits, start):
    """By trying all ways: the least sum of times."""
    best = [(np.inf, None)]

    def go(i, here, cost, way):
        if cost >= best[0][0]:
            return
        if i == len(solutions.angles):
            best[0] = (cost, way)
            return
        for s in range(solutions.angles.shape[1]):
            if not solutions.exists[i, s]:
                continue
            options = [
                [a + 360.0 * k for k in (-2, -1, 0, 1, 2) if low <= a + 360.0 * k <= high]
                for a, low, high in zip(solutions.angles[i, s], limits.low, limits.high, strict=True)
            ]
            if solutions.free[i, s]:
                options[0] = [here[0]]
            for p in options[0]:
                for q in options[1]:
                    value = np.array([p, q])
                    go(i + 1, value, cost + float((np.abs(value - here) / limits.speed).max()), [*way, value])

    go(0, np.asarray(start, dtype=float), 0.0, [])
    return best[0]


@given(st.integers(0, 2**31))
@settings(max_examples=60, deadline=None)
def test_the_way_chosen_through_a_program_is_the_quickest_of_all(seed):
    rng = np.random.default_rng(seed)
    count = int(rng.integers(1, 5))
    solutions = Rotaries(
        rng.uniform(-180, 180, (count, 2, 2)), np.ones((count, 2), dtype=bool), rng.random((count, 2)) < 0.2
    )
    limits = Limits(np.array([-400.0, -200.0]), np.array([400.0, 200.0]), np.array([9000.0, 5000.0]))
    positions, reached = chosen(solutions, limits, np.zeros(2))
    assert reached.all()
    steps = np.abs(np.diff(np.vstack([np.zeros(2), positions]), axis=0)) / limits.speed
    want, _ = cheapest(solutions, limits, np.zeros(2))
    assert steps.max(axis=1).sum() == pytest.approx(want, abs=1e-9)


def test_a_joint_without_ends_takes_the_shorter_way_round_and_stays_at_the_pole():
    machine = LIBRARY["tilting_table_320"]
    lean = np.radians(40.0)  # A reaches that on one side only
    ways = np.radians([0.0, 100.0, 200.0, 300.0, 400.0])
    axes = np.column_stack(
        [np.sin(lean) * np.sin(ways), -np.sin(lean) * np.cos(ways), np.full(5, np.cos(lean))]
    )
    axes = np.vstack([axes, [0.0, 0.0, 1.0]])
    positions, reached = machine.rotary_positions(axes)
    assert reached.all()
    assert np.abs(np.diff(positions[:, 0])).max() < 180.0  # never back through the whole turn
    assert abs(positions[4, 0] - positions[0, 0]) == pytest.approx(400.0)
    assert positions[5, 0] == pytest.approx(
        positions[4, 0]
    )  # the tool stands upright: the table does not turn


def test_a_direction_beyond_the_table_names_the_joint_and_what_it_lacks():
    machine = LIBRARY["tilting_table_320"]
    assert machine.why_not(np.array([0.0, 0.0, 1.0])) == ""
    lean = np.radians(130.0)
    words = machine.why_not(np.array([0.0, np.sin(lean), np.cos(lean)]))
    assert words == "A would have to stand at -130.00°, 10.00° beyond its range of -120° to 30°"
    assert "no rotary joint" in LIBRARY["column_mill_500"].why_not(np.array([0.0, -0.5, 0.8660254037844386]))


def test_words_of_a_hole_in_a_face_at_30_degrees_worked_out_by_hand():
    """On paper. The mouth of the bore lies at Y -14.4115, Z -12 from program zero, X 0; program zero stands
    at Z 121 over the table. A turns the table about X through Y 0, Z 45; to bring the face up, by 30°. From
    the pivot the mouth is at (y, z) = (-14.4115, 121 - 12 - 45) = (-14.4115, 64). Turned by -30° about X (the
    table goes against the sign of A): y = -14.4115 cos 30° + 64 sin 30° = -12.4808 + 32 = 19.5192, z =
    14.4115 sin 30° + 64 cos 30° = 7.2058 + 55.4256 = 62.6314, which over program zero is 62.6314 + 45 - 121 =
    -13.3686.
    """
    machine = LIBRARY["tilting_table_320"]
    on = OnMachine(machine, transform(np.eye(3), (0.0, 0.0, 121.0)))
    axis = np.array([[0.0, -0.5, np.sqrt(0.75)]])
    positions, _ = machine.rotary_positions(axis)
    assert dict(zip([j.letter for j in machine.rotary], positions[0], strict=True)) == pytest.approx(
        {"C": 0.0, "A": 30.0}
    )
    mouth = np.array([[0.0, -14.4115, 121.0 - 12.0]])
    for length in (0.0, 130.0):  # the length is the control's matter: the words are the same with every tool
        words = on.words(machine.joint_values(mouth, positions, length), length)
        assert words[0] == pytest.approx([0.0, 19.5192, -13.3686], abs=1e-4)

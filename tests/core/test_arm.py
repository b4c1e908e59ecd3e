"""Six-axis arms: every way to hold a tool against Pinocchio's forward kinematics, the textbook's arm, and how
near each posture is to a singular one against the Jacobian."""

from __future__ import annotations

import numpy as np
import pinocchio
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import ComputeError
from fenrik.core.frames import transform
from fenrik.core.machines.arm import arm_of, postures
from fenrik.core.machines.chain import Chain, Joint, Mount, chain_of, rotations
from tests.arms import six, textbook_arm, usual_arm
from tests.core.test_machines import in_pinocchio, pose_in_pinocchio

ARMS = {"usual": usual_arm, "textbook": textbook_arm}


def chain(name: str) -> Chain:
    return chain_of(*ARMS[name]())


def turns_apart(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    return np.abs((a - b + 180.0) % 360.0 - 180.0)


def test_the_textbooks_arm_stands_where_the_textbook_has_it():
    """With all joints at zero the tool's frame is upright at (452.1, -150.05, 431.8) mm (Corke and
    Armstrong-Hélouvry 1994, from memory)."""
    pose = chain("textbook").poses(np.zeros((1, 6)))[0]
    assert pose[:3, 3] == pytest.approx([452.1, -150.05, 431.8], abs=1e-9)
    assert pose[:3, :3] == pytest.approx(np.eye(3), abs=1e-12)


@pytest.mark.parametrize("name", ARMS)
def test_every_posture_holds_the_tool_where_it_was_asked(name):
    """On random postures: the eight ways through Pinocchio's forward kinematics, and the one from which the
    pose came among them."""
    joints, work, tool = ARMS[name]()
    line, rng = chain_of(joints, work, tool), np.random.default_rng(5)
    values = rng.uniform(-170.0, 170.0, (60, len(line)))
    poses, more = line.poses(values), len(line) - 6
    found = postures(line, poses, values[:, :more])
    assert found.exists.sum() > 4 * len(values)
    for i in range(len(values)):
        ways = found.angles[i][found.exists[i]]
        assert turns_apart(ways, values[i, more:]).max(axis=1).min() < 1e-6
        for way in ways:
            named = dict(zip(line.names, [*values[i, :more], *way], strict=True))
            pose = pose_in_pinocchio((joints, work, tool), named)
            assert np.abs(pose[:3, 3] - poses[i, :3, 3]).max() < 1e-8
            assert np.abs(pose[:3, :3] - poses[i, :3, :3]).max() < 1e-11


@pytest.mark.parametrize("name", ARMS)
def test_the_eight_ways_differ_and_keep_their_numbers_along_a_path(name):
    """A straight way of the tool: every branch that exists moves on evenly, none jumps to another's place."""
    line = chain(name)
    start = np.array([20.0] * (len(line) - 6) + [10.0, -35.0, 50.0, 25.0, 40.0, -15.0])
    poses = np.tile(line.poses(start[None])[0], (50, 1, 1))
    poses[:, :3, 3] += np.linspace(0.0, 1.0, 50)[:, None] * np.array([20.0, 35.0, -15.0])
    before = np.tile(start[: len(line) - 6], (50, 1))
    found = postures(line, poses, before)
    assert found.exists[0].sum() >= 4
    for k in np.flatnonzero(found.exists.all(axis=0)):
        steps = turns_apart(found.angles[1:, k], found.angles[:-1, k])
        assert steps.max() < 5.0
    ways = found.angles[0][found.exists[0]]
    for a in range(len(ways)):
        for b in range(a):
            assert turns_apart(ways[a], ways[b]).max() > 1.0


@settings(max_examples=60, deadline=None)
@given(
    values=st.lists(st.floats(-175.0, 175.0), min_size=6, max_size=6),
    lift=st.floats(0.0, 800.0),
    back=st.floats(0.0, 400.0),
    aside=st.floats(-200.0, 200.0),
    links=st.tuples(st.floats(200.0, 900.0), st.floats(200.0, 900.0)),
    flipped=st.booleans(),
)
def test_arms_of_any_size_come_back_to_their_posture(values, lift, back, aside, links, flipped):
    """Shoulder off the first axis, forearm beside the upper arm, the third axis either way round."""
    third = (0.0, -1.0, 0.0) if flipped else (0.0, 1.0, 0.0)
    axes = [(0, 0, 1), (0, 1, 0), third, (1, 0, 0), (0, 1, 0), (1, 0, 0)]
    elbow = (back, 0.0, lift + links[0])
    wrist = (back + links[1], aside, lift + links[0] + 90.0)
    points = [(0, 0, 0), (back, 50.0, lift), elbow, wrist, wrist, wrist]
    flange = Mount(joint="J6", at=(back + links[1] + 80.0, aside, 0.0))
    line = chain_of(six(axes, points), Mount(joint=None), flange)
    start = np.array(values)
    pose = line.poses(start[None])
    found = postures(line, pose)
    ways = found.angles[0][found.exists[0]]
    assert len(ways)
    for way in line.poses(ways):
        assert np.abs(way - pose[0]).max() < 1e-6
    sure = min(found.shoulder[0][found.exists[0]].min(), found.elbow[0][found.exists[0]].min())
    if abs(np.sin(np.radians(values[4]))) > 0.01 and sure > 1e-4:
        assert turns_apart(ways, start).max(axis=1).min() < 1e-3


def test_a_singular_posture_is_where_the_jacobian_loses_rank():
    """det J of such an arm is a product of three factors: shoulder, elbow, wrist (Pinocchio's Jacobian)."""
    joints, work, tool = textbook_arm()
    line = chain_of(joints, work, tool)
    model, (_, (last, frame)) = in_pinocchio(joints, work, tool)
    data, rng = model.createData(), np.random.default_rng(2)
    number = model.addFrame(pinocchio.Frame("tip", last, frame, pinocchio.FrameType.OP_FRAME))
    data, ratios = model.createData(), []
    for values in rng.uniform(-170.0, 170.0, (40, 6)):
        jacobian = pinocchio.computeFrameJacobian(model, data, np.radians(values), number)
        found = postures(line, line.poses(values[None]))
        off = turns_apart(found.angles[0], values).max(axis=1)
        own = int(np.argmin(np.where(found.exists[0], off, np.inf)))
        product = found.shoulder[0, own] * found.elbow[0, own] * found.wrist[0, own]
        ratios.append(abs(np.linalg.det(jacobian)) / product)
    assert np.ptp(ratios) < 1e-6 * max(ratios)  # one constant for all postures: the links' lengths


def test_a_wrist_in_line_still_holds_the_tool():
    line = chain("usual")
    for fifth in (0.0, 1e-9, 1e-6, 180.0):
        values = np.array([[15.0, 20.0, -30.0, 60.0, 35.0, fifth, -20.0]])
        pose = line.poses(values)
        found = postures(line, pose, values[:, :1])
        held = found.angles[0][found.exists[0]]
        ways = np.hstack([np.tile(values[:, :1], (len(held), 1)), held])
        assert len(ways) >= 2
        for one in line.poses(ways):
            assert np.abs(one - pose[0]).max() < 1e-5
        assert found.wrist[0][found.exists[0]].min() < 1e-5


def test_what_is_out_of_reach_has_no_posture_and_what_is_just_in_reach_has():
    line = chain("textbook")
    stretched = np.array([[30.0, 10.0, 0.0, 20.0, 40.0, 0.0]])
    arm = arm_of(line)
    link, other = arm.third - arm.second, arm.wrist - arm.third
    bent = np.degrees(np.arctan2(float(np.cross(link, other) @ arm.axis[1]), float(link @ other)))
    stretched[0, 2] = -bent * float(np.sign(arm.axis[2] @ arm.axis[1]))
    pose = line.poses(stretched)
    just = postures(line, pose)
    assert not just.exists.any() or just.elbow[0][just.exists[0]].min() < 1e-5  # on the very edge: either
    bent_a_little = postures(line, line.poses(stretched + 0.5 * (np.arange(6) == 2)))
    assert bent_a_little.exists.any()
    assert bent_a_little.elbow[0][bent_a_little.exists[0]].max() < np.sin(np.radians(0.51))
    far = pose.copy()
    far[0, :3, 3] *= 3.0
    assert not postures(line, far).exists.any()
    near = pose.copy()
    near[0, :3, 3] *= 0.8
    assert postures(line, near).exists.any()


def test_the_table_turns_the_work_under_the_arm():
    """A pose on the table with the table turned is the pose turned with it, held without the table."""
    line, rng = chain("usual"), np.random.default_rng(8)
    values = np.column_stack([np.zeros(5), rng.uniform(-60, 60, (5, 6))])
    poses = line.poses(values)
    for angle in (0.0, 35.0, -120.0):
        turned = postures(line, poses, np.full((5, 1), angle))
        # the table turns about -Z of the machine: a place on it goes the other way
        spun = transform(rotations(np.array([0.0, 0.0, -1.0]), np.radians([angle]))[0], np.zeros(3))
        held = postures(line, spun @ poses, np.zeros((5, 1)))
        assert np.array_equal(turned.exists, held.exists)
        assert turns_apart(turned.angles, held.angles)[turned.exists].max(initial=0.0) < 1e-7


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda a, p: (a[:5], p[:5]), "six are needed"),
        (lambda a, p: ([a[0], (0, 0.6, 0.8), *a[2:]], p), "second axis is not square"),
        (lambda a, p: ([*a[:2], (0, 0, 1), *a[3:]], p), "third axis is not parallel"),
        (lambda a, p: (a, [*p[:4], (1080, 0, 1990), p[5]]), "miss each other by"),
        (lambda a, p: ([*a[:4], (1, 0, 0), a[5]], p), "two axes of its wrist are parallel"),
        (lambda a, p: (a, [*p[:2], p[1], *p[3:]]), "has no length"),
    ],
)
def test_arms_that_the_closed_form_does_not_take_say_why(change, words):
    joints, _, tool = usual_arm()
    axes, points = change([j.axis for j in joints[1:]], [j.point for j in joints[1:]])
    made = six(axes, points)
    line = chain_of(made, Mount(joint=None), tool.model_copy(update={"joint": made[-1].name}))
    with pytest.raises(ComputeError, match=words) as caught:
        arm_of(line)
    assert "spherical wrist" in caught.value.remedy


def test_a_rail_in_front_of_the_arm_counts_as_where_it_stands():
    joints, _, tool = usual_arm()
    rail = Joint(name="E2", kind="linear", axis=(0, 1, 0), speed=60000.0, acceleration=2.0)
    moved = [rail, joints[1].model_copy(update={"parent": "E2"}), *joints[2:]]
    line = chain_of(moved, Mount(joint=None), tool)
    values = np.array([[350.0, 10.0, -20.0, 40.0, 15.0, 50.0, 5.0]])
    found = postures(line, line.poses(values), values[:, :1])
    assert turns_apart(found.angles[0][found.exists[0]], values[0, 1:]).max(axis=1).min() < 1e-8

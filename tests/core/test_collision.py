"""Bodies that come near each other between poses: against dense oversampling, quadratic programs for boxes,
and cases worked out by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import lsq_linear

from fenrik.core.errors import Cancelled
from fenrik.core.machines.chain import Joint, rotations
from fenrik.core.machines.collision import BETTER_MM, TOUCH_MM, Motion, least_apart, nearest, pairs_of
from fenrik.core.machines.library import machines
from fenrik.core.machines.solids import Solid
from fenrik.core.machines.tree import Tree
from fenrik.core.model.simple_solids import box_mesh, revolved
from tests.core.test_machines import in_pinocchio

MILL = machines()["column_mill_500"]


def machine_with(joints):
    """A machine of any joints; what it is held by matters to nothing here."""
    return MILL.model_copy(update={"joints": joints, "bodies": []})


def between(machine, one, two, start, end, near):
    """Where two boxes (joint, low, high) come nearest."""
    solids = [
        Solid(name, joint, [box_mesh(np.array(low, dtype=float), np.array(high, dtype=float))], held=True)
        for name, (joint, low, high) in (("one", one), ("two", two))
    ]
    (pair,) = pairs_of(Tree(machine), solids)
    return pair, nearest(pair, Motion(np.array(start, dtype=float), np.array(end, dtype=float)), near)


def pose(joints, name, values):
    """Where (4, 4) a joint's bodies are, joint after joint from the base."""
    out, known = np.eye(4), {j.name: (i, j) for i, j in enumerate(joints)}
    way = []
    while name is not None:
        way.append(known[name])
        name = known[name][1].parent
    for i, joint in reversed(way):
        step = np.eye(4)
        if joint.kind == "linear":
            step[:3, 3] = np.array(joint.axis) * values[i]
        else:
            turn = rotations(np.array(joint.axis), np.radians(values[i : i + 1]))[0]
            step[:3, :3], step[:3, 3] = turn, np.array(joint.point) - turn @ np.array(joint.point)
        out = out @ step
    return out


def gap_of_boxes(one, two, relative):
    """The distance of two boxes (low, high) by a quadratic program: places in both that are nearest."""
    turn, way = relative[:3, :3], relative[:3, 3]
    low, high = np.concatenate([one[0], two[0]]), np.concatenate([one[1], two[1]])
    found = lsq_linear(np.hstack([np.eye(3), -turn]), way, bounds=(low, high), method="bvls")
    return float(np.sqrt(2.0 * found.cost))


AXES = st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda a: np.linalg.norm(a) > 0.2)
POINTS = st.tuples(*[st.floats(-60, 60)] * 3)
VALUES = st.lists(st.floats(-120, 120), min_size=4, max_size=4)
HALF = st.tuples(*[st.floats(1, 30)] * 3)


@given(
    kinds=st.lists(st.sampled_from(["linear", "rotary"]), min_size=4, max_size=4),
    axes=st.lists(AXES, min_size=4, max_size=4),
    points=st.lists(POINTS, min_size=4, max_size=4),
    ways=st.lists(VALUES, min_size=3, max_size=3),
    sizes=st.tuples(HALF, HALF),
    places=st.tuples(POINTS, POINTS),
)
@settings(max_examples=60, deadline=None)
def test_any_machine_and_motion_agrees_with_dense_oversampling(kinds, axes, points, ways, sizes, places):
    parents = [None, "A1", None, "A3"]  # both bodies at the end of two joints
    joints = [
        Joint(name=f"A{i + 1}", kind=k, axis=a, point=p, parent=up, speed=1, acceleration=1)
        for i, (k, a, p, up) in enumerate(zip(kinds, axes, points, parents, strict=True))
    ]
    one, two = (
        (np.array(at) - np.array(half), np.array(at) + np.array(half))
        for at, half in zip(places, sizes, strict=True)
    )
    start, end = np.array(ways[:2]), np.array(ways[1:])
    near = 10.0
    _, found = between(machine_with(joints), ("A2", *one), ("A4", *two), start, end, near)
    least = np.inf
    for a, b in zip(start, end, strict=True):
        for share in np.linspace(0.0, 1.0, 60):
            values = a + share * (b - a)
            relative = np.linalg.inv(pose(joints, "A2", values)) @ pose(joints, "A4", values)
            least = min(least, gap_of_boxes(one, two, relative))
    if found is None:
        assert least > near - 1e-6
        return
    assert found.distance <= least + BETTER_MM + 1e-6
    a, b = start[found.piece], end[found.piece]
    values = a + found.share * (b - a)
    there = np.linalg.inv(pose(joints, "A2", values)) @ pose(joints, "A4", values)
    at_that_place = gap_of_boxes(one, two, there)
    assert at_that_place == pytest.approx(found.distance, abs=TOUCH_MM + 1e-6)


def test_a_thin_plate_between_two_poses_is_found():
    """A bar goes 400 mm in one move through a plate 0.3 mm thick half way."""
    plate, bar = ("X", (-0.15, -50, -50), (0.15, 50, 50)), ("Z", (-1, -1, 0), (1, 1, 5))
    stands = {"Y": 0.0, "X": -200.0, "Z": 0.0}
    begin = [stands[j.name] for j in MILL.joints]
    end = [200.0 if j.name == "X" else 0.0 for j in MILL.joints]
    _, found = between(MILL, plate, bar, [begin], [end], 2.0)
    assert found is not None
    assert found.distance == 0.0
    # the bar's front meets the plate's face 1.15 mm before the middle
    assert 400.0 * found.share == pytest.approx(200.0 - 1.15, abs=TOUCH_MM + 0.02)


@pytest.mark.parametrize("gap", [0.5, 1.9, 2.5])
def test_a_near_miss_is_as_near_as_it_is(gap):
    """A bar passes beside a block at a known distance, in one long move and in a thousand short ones."""
    block, bar = ("X", (-20, -20, -20), (20, 20, 20)), ("Z", (-3, 20 + gap, -3), (3, 30, 3))
    column = [j.name for j in MILL.joints].index("X")
    for count in (1, 1000):
        x = np.linspace(-250.0, 250.0, count + 1)
        values = np.zeros((count + 1, len(MILL.joints)))
        values[:, column] = x
        _, found = between(MILL, block, bar, values[:-1], values[1:], 2.0)
        if gap > 2.0:
            assert found is None
        else:
            assert found is not None
            assert gap - 1e-6 <= found.distance <= gap + BETTER_MM
            assert found.places[0][1] == pytest.approx(20.0)


def test_of_several_contacts_the_first_in_time_is_told():
    """A post is met on the way out, and again on the way back."""
    post, bar = ("X", (-5, -5, -5), (5, 5, 5)), ("Z", (-1, -1, -1), (1, 1, 1))
    column = [j.name for j in MILL.joints].index("X")
    x = np.array([-100.0, -40.0, 30.0, -90.0])
    values = np.zeros((4, len(MILL.joints)))
    values[:, column] = x
    _, found = between(MILL, post, bar, values[:-1], values[1:], 2.0)
    assert found is not None
    assert found.piece == 1
    assert -40.0 + 70.0 * found.share == pytest.approx(-6.0, abs=0.04)


def test_a_body_that_begins_within_another_is_found():
    """Their surfaces are 40 mm apart."""
    inner, outer = ("Z", (-5, -5, -5), (5, 5, 5)), ("X", (-50, -50, -50), (50, 50, 50))
    still = np.zeros((1, len(MILL.joints)))
    for pair in ((inner, outer), (outer, inner)):
        _, found = between(MILL, *pair, still, still, 2.0)
        assert found is not None
        assert found.distance == 0.0


def test_a_body_in_a_further_part_of_another_is_found_where_the_motion_begins():
    """A housing of two boxes, and two knobs: the second knob stands in the second box."""

    def boxes(*at):
        return [box_mesh(np.array([x - s, -s, -s]), np.array([x + s, s, s])) for x, s in at]

    housing = Solid("housing", "X", boxes((-300.0, 50.0), (0.0, 50.0)), held=True)
    knobs = Solid("knobs", "Z", boxes((400.0, 5.0), (10.0, 5.0)), held=True)
    still = np.zeros((1, len(MILL.joints)))
    for solids in ((housing, knobs), (knobs, housing)):
        (pair,) = pairs_of(Tree(MILL), solids)
        found = nearest(pair, Motion(still, still), 2.0)
        assert found is not None
        assert found.distance == 0.0


def test_bodies_far_apart_are_never_asked_about_their_triangles():
    round_one = revolved(np.array([[0.0, 0.0], [30.0, 0.0], [0.0, 40.0]]))
    one = Solid("one", "X", [round_one.moved(np.diag([1.0, 1, 1, 1]))], held=True)
    two = Solid("two", "Z", [box_mesh(np.array([-5.0, -5, 300]), np.array([5.0, 5, 320]))], held=True)
    (pair,) = pairs_of(Tree(MILL), [one, two])
    rng = np.random.default_rng(2)
    values = rng.uniform(-100, 100, (5001, len(MILL.joints)))
    assert nearest(pair, Motion(values[:-1], values[1:]), 2.0) is None
    assert "tree" not in two.__dict__  # no tree was built


def test_a_search_can_be_stopped():
    """Two bodies that stay near each other all the time are asked about often; each time it may stop."""

    def stop():
        raise Cancelled

    ball = revolved(np.array([[10.0 * np.cos(t), 10.0 * np.sin(t)] for t in np.linspace(-1.57, 1.57, 40)]))
    one = Solid("one", "X", [ball], held=True)
    two = Solid("two", "Z", [ball.moved(np.array([[1.0, 0, 0, 20.9], *np.eye(4)[1:]]))], held=True)
    (pair,) = pairs_of(Tree(MILL), [one, two])
    rng = np.random.default_rng(1)
    values = 0.3 * rng.random((3000, len(MILL.joints)))
    with pytest.raises(Cancelled):
        nearest(pair, Motion(values[:-1], values[1:]), 2.0, stop)


@pytest.mark.parametrize("name", sorted(machines()))
def test_bodies_are_where_pinocchio_has_their_joints(name):
    import pinocchio

    machine, rng = machines()[name], np.random.default_rng(11)
    model, _ = in_pinocchio(machine.joints, machine.work, machine.tool)
    data, tree = model.createData(), Tree(machine)
    for _ in range(10):
        values = rng.uniform(-170, 170, len(machine.joints))
        q = np.zeros(model.nq)
        for joint, value in zip(machine.joints, values, strict=True):
            place = model.joints[model.getJointId(joint.name)].idx_q
            q[place] = value if joint.kind == "linear" else np.radians(value)
        pinocchio.forwardKinematics(model, data, q)
        for joint in machine.joints:
            here = data.oMi[model.getJointId(joint.name)].homogeneous
            zero = np.eye(4)
            zero[:3, 3] = joint.point
            mine = tree.poses_on(joint.name, values[None])[0]
            assert mine @ zero == pytest.approx(here, abs=1e-9)


def test_neighbours_on_a_joint_are_not_asked_unless_one_is_held():
    """Slides touch what they slide on; a tool does not touch the slide beside its own."""
    tree = Tree(MILL)
    box = [box_mesh(np.zeros(3), np.ones(3))]
    own = [
        Solid("bed", None, box),
        Solid("saddle", "Y", box),
        Solid("table", "X", box),
        Solid("head", "Z", box),
    ]
    names = {(p.first.name, p.second.name) for p in pairs_of(tree, own)}
    assert names == {("bed", "table"), ("saddle", "head"), ("table", "head")}
    held = [*own, Solid("holder", "Z", box, held=True)]
    names = {(p.first.name, p.second.name) for p in pairs_of(tree, held)}
    assert ("bed", "holder") in names
    assert ("head", "holder") not in names


@given(
    places=st.lists(st.tuples(POINTS, HALF), min_size=3, max_size=5),
    values=st.lists(st.tuples(st.floats(-150, 150), st.floats(-180, 180)), min_size=1, max_size=4),
)
@settings(max_examples=40, deadline=None)
def test_the_nearest_of_many_bodies_are_as_far_apart_as_a_quadratic_program_says(places, values):
    joints = [
        Joint(name="X", kind="linear", axis=(1, 0, 0), speed=1, acceleration=1),
        Joint(name="C", kind="rotary", axis=(0, 0, 1), point=(5, -3, 0), speed=1, acceleration=1),
    ]
    boxes = [(np.array(at) - half, np.array(at) + half) for at, half in places]
    on = ["X", "C", None, "X", None]
    solids = [
        Solid(f"body {i}", on[i], [box_mesh(low, high)], held=True) for i, (low, high) in enumerate(boxes)
    ]
    pairs = pairs_of(Tree(machine_with(joints)), solids)
    told = least_apart(pairs, np.array(values), 80.0)
    for row, said in zip(np.array(values), told, strict=True):
        least = 80.0
        for i, one in enumerate(boxes):
            for j in range(i + 1, len(boxes)):
                if on[i] != on[j]:
                    relative = np.linalg.inv(pose(joints, on[i], row)) @ pose(joints, on[j], row)
                    least = min(least, gap_of_boxes(one, boxes[j], relative))
        assert said == pytest.approx(least, abs=1e-4)

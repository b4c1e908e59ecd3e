"""Machines written as URDF and read back: against Pinocchio's reading of the same text, a description by
another hand, and what is refused."""

from __future__ import annotations

import io

import numpy as np
import pinocchio
import pytest
import trimesh

from fenrik.core.errors import InputError
from fenrik.core.machines.library import machines
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.shapes import solid_of
from fenrik.core.machines.tree import Tree
from fenrik.core.machines.urdf.reading import from_urdf
from fenrik.core.machines.urdf.writing import to_urdf
from fenrik.core.model.part_model import TriangleMesh

ALL = sorted(machines())


def as_mesh(content: bytes) -> TriangleMesh:
    read = trimesh.load(io.BytesIO(content), file_type="stl")
    ids = np.ones(len(read.faces), dtype=np.int32)
    return TriangleMesh(np.array(read.vertices, dtype=np.float64), read.faces.astype(np.int32), ids)


def read_back(machine):
    text, meshes = to_urdf(machine, {})
    given, files = from_urdf(text, {name: as_mesh(content) for name, content in meshes.items()})
    return Machine.model_validate({"id": machine.id, **given}), files


@pytest.mark.parametrize("name", ALL)
def test_frames_of_all_joints_and_mounts_are_pinocchios(name):
    """Pinocchio reads the text with a parser of its own; lengths there are metres."""
    machine, rng = machines()[name], np.random.default_rng(4)
    model = pinocchio.buildModelFromXML(to_urdf(machine, {})[0])
    data, tree = model.createData(), Tree(machine)
    for _ in range(8):
        values = rng.uniform(-60, 60, len(machine.joints))
        q = pinocchio.neutral(model)
        for joint, value in zip(machine.joints, values, strict=True):
            own = model.joints[model.getJointId(joint.name)]
            if joint.kind == "linear":
                q[own.idx_q] = 0.001 * value
            elif own.nq == 2:  # a joint without ends is a point on a circle there
                q[own.idx_q : own.idx_q + 2] = np.cos(np.radians(value)), np.sin(np.radians(value))
            else:
                q[own.idx_q] = np.radians(value)
        pinocchio.framesForwardKinematics(model, data, q)
        for link, mount in (("work_mount", machine.work), ("tool_mount", machine.tool)):
            there = data.oMf[model.getFrameId(link, pinocchio.FrameType.BODY)].homogeneous
            mine = tree.poses_on(mount.joint, values[None])[0] @ mount.frame
            assert 1000.0 * there[:3, 3] == pytest.approx(mine[:3, 3], abs=1e-6)
            assert there[:3, :3] == pytest.approx(mine[:3, :3], abs=1e-9)


@pytest.mark.parametrize("name", ALL)
def test_a_machine_read_back_has_the_same_joints_mounts_and_bodies(name):
    machine = machines()[name]
    again, files = read_back(machine)
    for a, b in zip(machine.joints, again.joints, strict=True):
        assert (a.name, a.letter, a.kind, a.parent, a.clamps) == (
            b.name,
            b.letter,
            b.kind,
            b.parent,
            b.clamps,
        )
        assert b.axis == pytest.approx(a.axis, abs=1e-9)
        for end in ("low", "high", "speed", "acceleration"):
            assert getattr(b, end) == (
                None if getattr(a, end) is None else pytest.approx(getattr(a, end), rel=1e-9)
            )
    for mount in ("work", "tool"):
        assert getattr(again, mount).frame == pytest.approx(getattr(machine, mount).frame, abs=1e-6)
    rest = {"joints", "work", "tool", "bodies"}
    assert again.model_dump(exclude=rest) == machine.model_dump(exclude=rest)
    meshes = {b.key: as_mesh(files[b.file]) for b in again.bodies if b.kind == "file"}

    def boxes(of, known):
        return sorted(
            [b.joint or "", b.role, *np.round(np.concatenate(solid_of(b, known).bounds), 1).tolist()]
            for b in of.bodies
        )

    assert boxes(machine, {}) == boxes(again, meshes)


def test_a_turning_axis_off_the_points_of_those_before_keeps_its_motion():
    """The joints' points differ: frames in the text are relative, and come back as they were."""
    machine = machines()["inclined_rotary_400"]
    again, _ = read_back(machine)
    values = np.random.default_rng(1).uniform(-90, 90, (5, len(machine.joints)))
    for joint in machine.joints:
        a, b = Tree(machine).poses_on(joint.name, values), Tree(again).poses_on(joint.name, values)
        assert b == pytest.approx(a, abs=1e-6)


ANOTHER_HAND = """<?xml version="1.0"?>
<!-- a table that turns, written by hand: the frame of its link is turned, its axis is given in it -->
<robot name="turntable">
  <link name="world"/>
  <link name="slide">
    <collision><origin xyz="0 0 0.1"/><geometry><box size="0.4 0.2 0.1"/></geometry></collision>
  </link>
  <link name="plate">
    <visual><origin xyz="0 0 0.02" rpy="0 0 0"/>
      <geometry><cylinder radius="0.15" length="0.04"/></geometry></visual>
  </link>
  <link name="work_mount"/><link name="tool_mount"/><link name="knob">
    <visual><geometry><sphere radius="0.03"/></geometry></visual></link>
  <joint name="X" type="prismatic"><parent link="world"/><child link="slide"/><axis xyz="1 0 0"/>
    <limit lower="-0.25" upper="0.25" effort="1" velocity="0.5"/></joint>
  <joint name="C" type="continuous"><parent link="slide"/><child link="plate"/>
    <origin xyz="0 0 0.15" rpy="1.5707963267948966 0 0"/><axis xyz="0 1 0"/></joint>
  <joint name="w" type="fixed"><parent link="plate"/><child link="work_mount"/>
    <origin xyz="0 0.04 0"/></joint>
  <joint name="t" type="fixed"><parent link="world"/><child link="tool_mount"/><origin xyz="0 0 0.8"/></joint>
  <joint name="k" type="fixed"><parent link="plate"/><child link="knob"/><origin xyz="0.1 0 0"/></joint>
</robot>"""


def test_a_description_by_another_hand_is_read_in_millimetres_and_degrees():
    given, _ = from_urdf(ANOTHER_HAND, {})
    x, c = given["joints"]
    assert (x["kind"], x["low"], x["high"], x["letter"]) == ("linear", -250.0, 250.0, "X")
    assert x["speed"] == pytest.approx(30000.0)
    # turned by 90 degrees about X the frame's Y is the machine's Z
    assert (c["kind"], c["low"], c["parent"]) == ("rotary", None, "X")
    assert c["axis"] == pytest.approx((0, 0, 1)) and c["point"] == pytest.approx((0, 0, 150))
    kinds = {(b["joint"], b["kind"]): b for b in given["bodies"]}
    box, plate, knob = kinds["X", "box"], kinds["C", "round"], kinds["C", "revolved"]
    assert box["low"] == pytest.approx((-200, -100, 50)) and box["high"] == pytest.approx((200, 100, 150))
    # the cylinder stands along the frame's Z, which is the machine's -Y
    assert plate["begin"] == pytest.approx((0, 0, 150), abs=1e-6)
    assert plate["end"] == pytest.approx((0, -40, 150), abs=1e-6)
    assert knob["at"] == pytest.approx((100, 0, 150))
    assert given["work"]["joint"] == "C" and given["work"]["at"] == pytest.approx((0, 0, 190))


SLIDE = '<parent link="world"/><child link="slide"/>'


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("</robot>", "", "no XML"),
        ("<robot", "<!DOCTYPE a []><robot", "declares entities"),
        ('type="continuous"', 'type="planar"', "'C' is 'planar'"),
        ('<parent link="slide"/>', '<parent link="sled"/>', "'sled', which is not there"),
        (SLIDE, SLIDE.replace("world", "plate"), "carries itself"),
        ('lower="-0.25"', 'lower="low"', "'low' for its numbers"),
        ("work_mount", "somewhere", "no link 'work_mount'"),
        ('<box size="0.4 0.2 0.1"/>', '<mesh filename="a/bed.stl"/>', "'bed.stl', which was not given"),
        ('<sphere radius="0.03"/>', '<capsule radius="1"/>', "<capsule>"),
        ('<cylinder radius="0.15"', '<cylinder radius="wide"', "'wide' for its numbers"),
    ],
)
def test_what_is_no_description_of_a_machine_is_refused_with_the_reason(old, new, words):
    with pytest.raises(InputError, match=words) as refused:
        from_urdf(ANOTHER_HAND.replace(old, new), {})
    assert refused.value.remedy


BARE = machines()["column_mill_500"].model_copy(update={"bodies": []})


@pytest.mark.parametrize("own", ["[1]", "{", "much"])
def test_what_fenrik_did_not_write_of_a_machine_is_refused(own):
    text = to_urdf(BARE, {})[0]
    begin, end = text.index("<fenrik:machine>"), text.index("</fenrik:machine>")
    with pytest.raises(InputError, match="beside joints and bodies cannot be read"):
        from_urdf(f"{text[:begin]}<fenrik:machine>{own}{text[end:]}", {})


def test_what_is_said_beside_them_takes_no_place_of_joints_or_bodies():
    text = to_urdf(BARE, {})[0]
    begin, end = text.index("<fenrik:machine>"), text.index("</fenrik:machine>")
    own = '{"joints": [], "bodies": [], "name": "Ours"}'
    given, _ = from_urdf(f"{text[:begin]}<fenrik:machine>{own}{text[end:]}", {})
    assert given["name"] == "Ours"
    assert [j["name"] for j in given["joints"]] == ["Y", "X", "Z"]


def test_another_document_is_refused():
    with pytest.raises(InputError, match="not with <robot>"):
        from_urdf("<svg></svg>", {})

"""Writes a machine as URDF."""

from __future__ import annotations

import math
import xml.etree.ElementTree as ET
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import rotation_up, transform
from fenrik.core.machines.bodies import Box, Plate, Round
from fenrik.core.machines.chain import Joint
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.shapes import solid_of
from fenrik.core.machines.urdf.words import BASE, MM, OWN, TOOL, WORK, put_origin, stl, words
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]


def to_urdf(machine: Machine, files: Mapping[str, TriangleMesh]) -> tuple[str, dict[str, bytes]]:
    """The description of a machine, and the meshes that it names (binary STL, mm): shapes for which URDF has
    no word. `files` are the meshes of the machine's own files."""
    ET.register_namespace("fenrik", OWN)
    robot = ET.Element("robot", name=machine.id)
    points = {None: np.zeros(3)} | {j.name: np.array(j.point) for j in machine.joints}
    meshes: dict[str, bytes] = {}
    for joint in (None, *(j.name for j in machine.joints)):
        link = ET.SubElement(robot, "link", name=joint or BASE)
        for i, body in enumerate(b for b in machine.bodies if b.joint == joint):
            for what in ("visual", "collision"):
                shape = ET.SubElement(link, what, name=f"{body.role} {i + 1}")
                if isinstance(body, Box) and not isinstance(body, Plate):
                    low, high = np.array(body.low), np.array(body.high)
                    put_origin(shape, transform(np.eye(3), 0.5 * (low + high) - points[joint]))
                    ET.SubElement(ET.SubElement(shape, "geometry"), "box", size=words(MM * (high - low)))
                elif isinstance(body, Round) and body.radius_end in (None, body.radius):
                    _cylinder(shape, body, points[joint])
                else:
                    name = f"{joint or BASE}_{i + 1}.stl"
                    meshes[name] = stl(solid_of(body, dict(files)))
                    put_origin(shape, transform(np.eye(3), -points[joint]))
                    given = {"filename": f"meshes/{name}", "scale": f"{MM} {MM} {MM}"}
                    ET.SubElement(ET.SubElement(shape, "geometry"), "mesh", given)
    for j in machine.joints:
        _joint(robot, j, np.array(j.point) - points[j.parent])
    for name, mount in ((WORK, machine.work), (TOOL, machine.tool)):
        ET.SubElement(robot, "link", name=name)
        fixed = ET.SubElement(robot, "joint", name=name, type="fixed")
        frame = mount.frame
        frame[:3, 3] -= points[mount.joint]
        put_origin(fixed, frame)
        ET.SubElement(fixed, "parent", link=mount.joint or BASE)
        ET.SubElement(fixed, "child", link=name)
    own = machine.model_dump_json(exclude={"joints", "work", "tool", "bodies"})
    ET.SubElement(robot, f"{{{OWN}}}machine").text = own
    ET.indent(robot)
    return ET.tostring(robot, encoding="unicode", xml_declaration=True), meshes


def _joint(robot: ET.Element, joint: Joint, at: Floats) -> None:
    rotary = joint.kind == "rotary"
    bounded = joint.low is not None and joint.high is not None
    kind = ("revolute" if bounded else "continuous") if rotary else "prismatic"
    made = ET.SubElement(robot, "joint", name=joint.name, type=kind)
    put_origin(made, transform(np.eye(3), at))
    ET.SubElement(made, "parent", link=joint.parent or BASE)
    ET.SubElement(made, "child", link=joint.name)
    ET.SubElement(made, "axis", xyz=words(np.array(joint.axis)))
    unit = math.pi / 180.0 if rotary else MM
    limit = {"effort": "0", "velocity": f"{joint.speed / 60.0 * unit:.12g}"}
    if bounded or not rotary:
        ends = [e if e is not None else s * 1e6 for e, s in ((joint.low, -1.0), (joint.high, 1.0))]
        limit |= {"lower": f"{ends[0] * unit:.12g}", "upper": f"{ends[1] * unit:.12g}"}
    ET.SubElement(made, "limit", limit)
    own = {"letter": joint.letter, "acceleration": f"{joint.acceleration:.12g}"}
    ET.SubElement(made, f"{{{OWN}}}joint", own | {"clamps": str(joint.clamps).lower()})


def _cylinder(shape: ET.Element, body: Round, point: Floats) -> None:
    begin, end = np.array(body.begin), np.array(body.end)
    length = float(np.linalg.norm(end - begin))
    put_origin(shape, transform(rotation_up((end - begin) / length).T, 0.5 * (begin + end) - point))
    size = {"radius": f"{MM * body.radius:.12g}", "length": f"{MM * length:.12g}"}
    ET.SubElement(ET.SubElement(shape, "geometry"), "cylinder", size)

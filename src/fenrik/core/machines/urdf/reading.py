"""Reads a machine from URDF."""

from __future__ import annotations

import json
import math
import xml.etree.ElementTree as ET
from collections.abc import Mapping
from typing import Any, get_args

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import InputError
from fenrik.core.machines.bodies import Box, FileBody, Role
from fenrik.core.machines.chain import Joint, Mount
from fenrik.core.machines.urdf.words import MM, OWN, TOOL, WORK, numbers, origin_of, rounded, stl, vector
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]
LARGEST = 4_000_000
"""Characters of a description that is read."""
ROTARY_ACCELERATION, LINEAR_ACCELERATION = 500.0, 3.0
"""Degrees/s² and m/s² where a description says nothing (common practice, no source)."""
Poses = dict[str, Floats]


def from_urdf(text: str, meshes: Mapping[str, TriangleMesh]) -> tuple[dict[str, Any], dict[str, bytes]]:
    """A machine as plain data from a description, and the files (binary STL, mm, in machine coordinates) that
    its bodies name. `meshes` are those that the description names, by the file's name, in their own frames
    and units.

    Raises InputError for what is no description, has joints that no machine has, or lacks a mesh or a mount.
    """
    robot = _parsed(text)
    joints = [j for j in robot.findall("joint") if j.get("type") != "fixed"]
    poses = _poses(robot)
    on = _carrying(robot)
    made = [_read_joint(j, poses, on) for j in joints]
    bodies: list[dict[str, Any]] = []
    files: dict[str, bytes] = {}
    for link in robot.findall("link"):
        name = link.get("name", "")
        for i, shape in enumerate(link.findall("collision") or link.findall("visual")):
            row = _body(shape, poses[name] @ origin_of(shape), meshes, files, f"{name}_{i + 1}.stl")
            bodies.append({"joint": on[name], "role": _role(shape, on[name])} | row)
    out: dict[str, Any] = {"joints": [j.model_dump() for j in made], "bodies": bodies}
    for name, key in ((WORK, "work"), (TOOL, "tool")):
        if name not in poses:
            raise InputError(
                f"The description has no link '{name}', where {'the work' if key == 'work' else 'a tool'} is "
                "held.",
                remedy=f"Add a link '{name}' on a fixed joint, Z "
                f"{'up' if key == 'work' else 'from the tip to the spindle'}.",
            )
        frame = poses[name]
        mount = {"at": vector(frame[:3, 3]), "z": vector(frame[:3, 2]), "x": vector(frame[:3, 0])}
        out[key] = Mount(joint=on[name], **mount).model_dump()
    own = robot.find(f"{{{OWN}}}machine")
    return ({} if own is None or not own.text else _plain(own.text)) | out, files


def _plain(text: str) -> dict[str, Any]:
    """What Fenrik wrote of a machine beside its joints and bodies. Raises InputError for anything else."""
    try:
        found = json.loads(text)
    except json.JSONDecodeError:
        found = None
    if not isinstance(found, dict):
        raise InputError(
            "What the description says of the machine beside joints and bodies cannot be read.",
            remedy="Take its element 'machine' out.",
        )
    return found


def _parsed(text: str) -> ET.Element:
    if len(text) > LARGEST or "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise InputError(
            "The description is too long, or declares entities.", remedy="Give a plain URDF file."
        )
    try:
        robot = ET.fromstring(text.split("?>", 1)[-1] if text.lstrip().startswith("<?xml") else text)
    except ET.ParseError as error:
        raise InputError(f"The description is no XML: {error}.", remedy="Give a URDF file.") from error
    if robot.tag != "robot":
        raise InputError(
            f"The description begins with <{robot.tag[:40]}>, not with <robot>.", remedy="Give a URDF file."
        )
    return robot


def _read_joint(joint: ET.Element, poses: Poses, on: dict[str, str | None]) -> Joint:
    name, kind = joint.get("name", ""), joint.get("type", "")
    if kind not in ("prismatic", "revolute", "continuous"):
        raise InputError(
            f"The joint '{name[:40]}' is '{kind[:40]}'; a machine has prismatic, revolute, continuous and "
            "fixed joints.",
            remedy="Leave it out, or fix it.",
        )
    rotary = kind != "prismatic"
    unit = 180.0 / math.pi if rotary else 1.0 / MM
    given = joint.find("axis")
    pose = poses[_link(joint, "child")]
    axis = pose[:3, :3] @ numbers(None if given is None else given.get("xyz"), (1.0, 0.0, 0.0), name)
    found = joint.find("limit")
    limit = {} if found is None else found.attrib
    own = joint.find(f"{{{OWN}}}joint")
    more = {} if own is None else own.attrib

    def number(key: str) -> float | None:
        return None if key not in limit else float(numbers(limit[key], (0.0,), name)[0]) * unit

    ends = (None, None) if kind == "continuous" else (number("lower"), number("upper"))
    low, high = (None if e is None or abs(e) >= 1e6 else e for e in ends)
    speed = number("velocity")
    default = ROTARY_ACCELERATION if rotary else LINEAR_ACCELERATION
    return Joint(
        name=name,
        letter=more.get("letter", name if len(name) == 1 and name.isupper() else ""),
        kind="rotary" if rotary else "linear",
        axis=vector(axis),
        point=vector(pose[:3, 3]),
        parent=on[_link(joint, "parent")],
        low=rounded(low),
        high=rounded(high),
        speed=rounded(60.0 * speed) if speed else (9000.0 if rotary else 20000.0),
        acceleration=float(numbers(more.get("acceleration"), (default,), name)[0]),
        clamps=more.get("clamps") == "true",
    )


def _poses(robot: ET.Element) -> Poses:
    """Where every link is (4, 4) in machine coordinates, mm, with all joints at zero."""
    children = {_link(j, "child"): j for j in robot.findall("joint")}
    links = {link.get("name", "") for link in robot.findall("link")}
    out: Poses = {}

    def pose(name: str, below: tuple[str, ...]) -> Floats:
        if name not in links:
            raise InputError(f"A joint names the link '{name[:40]}', which is not there.", remedy="Add it.")
        if name in below:
            raise InputError(f"The link '{name[:40]}' carries itself.", remedy="Break the circle.")
        if name not in out:
            joint = children.get(name)
            up = (
                np.eye(4)
                if joint is None
                else pose(_link(joint, "parent"), (*below, name)) @ origin_of(joint)
            )
            out[name] = up
        return out[name]

    for name in links:
        pose(name, ())
    return out


def _carrying(robot: ET.Element) -> dict[str, str | None]:
    """The joint that moves every link: the next on its way to the base that is not fixed."""
    joints = {_link(j, "child"): j for j in robot.findall("joint")}
    out: dict[str, str | None] = {}
    for link in robot.findall("link"):
        at = link.get("name", "")
        while at in joints and joints[at].get("type") == "fixed":
            at = _link(joints[at], "parent")
        out[link.get("name", "")] = joints[at].get("name") if at in joints else None
    return out


def _body(
    shape: ET.Element, pose: Floats, meshes: Mapping[str, TriangleMesh], files: dict[str, bytes], name: str
) -> dict[str, Any]:
    geometry = shape.find("geometry")
    kind = None if geometry is None or not len(geometry) else geometry[0]
    if kind is None:
        raise InputError("A body has no geometry.", remedy="Give a box, a cylinder, a sphere or a mesh.")
    if kind.tag == "box":
        half = 0.5 * numbers(kind.get("size"), None, "box") / MM
        corners = [
            vector(p)
            for p in ((-half[0], -half[1]), (half[0], -half[1]), (half[0], half[1]), (-half[0], half[1]))
        ]
        if np.allclose(pose[:3, :3], np.eye(3), atol=1e-9):
            return Box(
                kind="box", low=vector(pose[:3, 3] - half), high=vector(pose[:3, 3] + half)
            ).model_dump(exclude={"joint", "role"})
        frame = {"at": vector(pose[:3, 3]), "z": vector(pose[:3, 2]), "x": vector(pose[:3, 0])}
        return {"kind": "extruded", "outline": corners, "bottom": -half[2], "top": half[2], **frame}
    if kind.tag in ("cylinder", "sphere"):
        radius = float(numbers(kind.get("radius"), None, kind.tag)[0]) / MM
        if kind.tag == "sphere":
            turn = np.linspace(-0.5 * np.pi, 0.5 * np.pi, 25)
            ring = [(max(0.0, round(float(radius * np.cos(t)), 9)), float(radius * np.sin(t))) for t in turn]
            return {"kind": "revolved", "outline": ring, "at": vector(pose[:3, 3]), "z": vector(pose[:3, 2])}
        half_length = 0.5 * float(numbers(kind.get("length"), None, "cylinder")[0]) / MM
        begin, end = (pose[:3, 3] + s * half_length * pose[:3, 2] for s in (-1.0, 1.0))
        return {"kind": "round", "begin": vector(begin), "end": vector(end), "radius": rounded(radius)}
    wanted = kind.get("filename", "").replace("\\", "/").rsplit("/", 1)[-1]
    if kind.tag != "mesh" or wanted not in meshes:
        what = (
            f"the mesh '{wanted[:60]}', which was not given" if kind.tag == "mesh" else f"<{kind.tag[:40]}>"
        )
        raise InputError(f"A body is {what}.", remedy="Hand in its file with the description.")
    scale = numbers(kind.get("scale"), (1.0, 1.0, 1.0), "mesh") / MM
    given = meshes[wanted]
    mesh = TriangleMesh(given.vertices * scale, given.triangles, given.face_ids).moved(pose)
    files[name] = stl(mesh)
    return FileBody(kind="file", file=name).model_dump(exclude={"joint", "role"})


def _role(shape: ET.Element, joint: str | None) -> str:
    """What a body is: by its name where that says so."""
    said = shape.get("name", "").split(" ")[0]
    return said if said in get_args(Role) else ("base" if joint is None else "link")


def _link(joint: ET.Element, which: str) -> str:
    found = joint.find(which)
    if found is None or not found.get("link"):
        raise InputError(
            f"The joint '{joint.get('name', '')[:40]}' has no {which} link.", remedy="Name the link."
        )
    return str(found.get("link"))

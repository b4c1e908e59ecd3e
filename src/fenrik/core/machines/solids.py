"""Rigid bodies on the joints of a machine: its own, what it holds, and the tool in its spindle."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import coal
import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from shapely.geometry import Polygon
from shapely.geometry.polygon import orient

from fenrik.core.frames import invert, transform
from fenrik.core.machines.bodies import ROLES, Revolved, Role
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.shapes import solid_of
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import revolved
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
TOOL = ("cutter", "shank", "holder")
"""The parts of a tool, from the tip up."""


@dataclass(frozen=True)
class Solid:
    """A rigid body on a joint (None: the base), in machine coordinates with all joints at zero: its `parts`
    are meshes, each of which a box bounds well. `held` marks what the machine holds: tool, fixture, part,
    stock; its own bodies have a `role`."""

    name: str
    joint: str | None
    parts: Sequence[TriangleMesh]
    held: bool = False
    role: str = ""

    @cached_property
    def boxes(self) -> Floats:
        """Low and high corner (n, 6) of every part."""
        return np.array([np.concatenate(p.bounds) for p in self.parts])

    @cached_property
    def ball(self) -> Floats:
        """Middle and radius (4,) of a ball about it."""
        low, high = self.boxes[:, :3].min(axis=0), self.boxes[:, 3:].max(axis=0)
        middle = 0.5 * (low + high)
        far = max(float(np.linalg.norm(p.vertices - middle, axis=1).max()) for p in self.parts)
        return np.array([*middle, far])

    @cached_property
    def tree(self) -> coal.BVHModelOBBRSS:
        """Its triangles in a tree of boxes."""
        tree = coal.BVHModelOBBRSS()
        count = sum(len(p.triangles) for p in self.parts)
        tree.beginModel(count, sum(len(p.vertices) for p in self.parts))
        for part in self.parts:
            corners, sides = coal.StdVec_Vec3s(), coal.StdVec_Triangle()
            corners.extend(list(part.vertices))
            sides.extend([coal.Triangle(*t) for t in part.triangles.tolist()])
            tree.addSubModel(corners, sides)
        tree.endModel()
        return tree


def machine_solids(machine: Machine, files: dict[str, TriangleMesh] | None = None) -> list[Solid]:
    """The machine's own bodies, one solid for all that are the same on the same joint; `files` are the meshes
    of the files that they name. Two of one name on several joints get the joints' names."""
    parts: dict[tuple[Role, str | None], list[TriangleMesh]] = {}
    for body in machine.bodies:
        parts.setdefault((body.role, body.joint), []).append(solid_of(body, files))
    roles = [role for role, _ in parts]
    out = []
    for (role, joint), meshes in parts.items():
        alone = roles.count(role) == 1 or joint is None
        name = ROLES[role] if alone else f"{ROLES[role]} on {joint}"
        out.append(Solid(name, joint, meshes, role=role))
    return out


def nose_of(machine: Machine) -> list[tuple[float, float, float]]:
    """What of the spindle stands over its gauge line: length, lower and upper radius of cones one on the
    other, mm, from the gauge line up. None where its bodies are more, or something else, than one outline
    about the tool's axis that begins there and never turns back."""
    bodies = [b for b in machine.bodies if b.role == "spindle"]
    body = bodies[0] if len(bodies) == 1 else None
    if not isinstance(body, Revolved) or body.joint != machine.tool.joint:
        return []
    frame = invert(machine.tool.frame) @ body.frame
    if np.abs(frame[:3, 2] - [0.0, 0.0, 1.0]).max() > 1e-9 or np.abs(frame[:3, 3]).max() > 1e-6:
        return []
    ring = list(orient(Polygon(body.outline)).exterior.coords[:-1])
    rising = [(a, b) for a, b in zip(ring, [*ring[1:], ring[0]], strict=True) if b[1] > a[1] + 1e-9]
    out, top = [], 0.0
    for (low, z0), (high, z1) in sorted(rising, key=lambda edge: edge[0][1]):
        if abs(z0 - top) > 1e-6:
            return []
        out.append((z1 - z0, low, high))
        top = z1
    return out


def on_work(machine: Machine, name: str, mesh: TriangleMesh, work_from_mesh: Floats) -> Solid:
    """What stands on the table, from its frame (4, 4) in that of the work mount; pieces that do not hang
    together are parts of their own."""
    placed = mesh.moved(machine.work.frame @ work_from_mesh)
    return Solid(name, machine.work.joint, pieces_of(placed), held=True)


def tool_solids(machine: Machine, tool: Assembly) -> list[Solid]:
    """Cutter, shank and holder of a tool in the machine's spindle."""
    frame = machine.tool.frame @ transform(np.eye(3), (0.0, 0.0, -tool.gauge_length))
    out = []
    for name in TOOL:
        rings = outlines(tool)[name]
        if rings:
            meshes = [revolved(np.array(ring)).moved(frame) for ring in rings]
            out.append(Solid(name, machine.tool.joint, meshes, held=True))
    return out


def outlines(tool: Assembly) -> dict[str, list[list[tuple[float, float]]]]:
    """Outlines (radius, height over the tip) of the parts of a tool, mm, each closed about the axis; the
    cutter as wide as it cuts."""
    half, out = tool.shank_diameter / 2, {}
    under = [(r, tool.profile.height(r)) for r in np.linspace(0.0, tool.radius, 9).tolist()]
    top = max(tool.flute_length, under[-1][1] + 1e-3)
    out["cutter"] = [_closed([*under, (tool.radius, top)])]
    has_shank = tool.stick_out > tool.flute_length + 1e-6
    out["shank"] = [_closed([(half, tool.flute_length), (half, tool.stick_out)])] if has_shank else []
    at, holder = tool.stick_out, []
    for part in tool.holder:
        ends = [(part.diameter_low / 2, at), (part.diameter_high / 2, at + part.length)]
        holder.append(_closed(ends))
        at += part.length
    out["holder"] = holder
    return out


def _closed(ring: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """An outline with its ends drawn to the axis."""
    first = [] if ring[0][0] == 0.0 else [(0.0, ring[0][1])]
    return [*first, *ring, (0.0, ring[-1][1])]


def pieces_of(mesh: TriangleMesh) -> list[TriangleMesh]:
    """The pieces of a mesh that hang together by shared corners."""
    n = len(mesh.vertices)
    a, b, c = mesh.triangles.T
    links = coo_matrix((np.ones(2 * len(a)), (np.concatenate([a, b]), np.concatenate([b, c]))), shape=(n, n))
    count, label = connected_components(links, directed=False)
    of = label[a]
    if count == 1 or len(np.unique(of)) > 200:
        return [mesh]
    out = []
    for one in np.unique(of):
        own = mesh.triangles[of == one]
        used, index = np.unique(own, return_inverse=True)
        out.append(
            TriangleMesh(mesh.vertices[used], index.reshape(-1, 3).astype(np.int32), mesh.face_ids[of == one])
        )
    return out

"""Directions from which a clamped part can be worked, as they are picked or typed."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from fenrik.core.errors import DocumentError
from fenrik.core.frames import same_direction
from fenrik.core.model.part_model import EdgeFacts, PartModel
from fenrik.core.setups.setup import Clamped, Up, up_direction
from fenrik.core.strict import Strict

Floats = NDArray[np.float64]
Point = tuple[float, float, float]
Angle = Annotated[float, Field(ge=-3600, le=3600)]
AxisAt = Callable[[dict[str, float]], Floats]
"""The tool's direction (3,) in the setup's frame with the rotary joints at positions by letter, degrees."""
FLAT_SHARE = 1e-4
"""How far the points of a curve may lie beside its plane, over its length."""
NARROW = 1e-6
"""Sine of the angle at the first of three points below which they lie on a line."""


class Lean(Strict):
    """How far a direction leans from the setup's Z, and towards where, counted from its X about its Z."""

    from_up_deg: Annotated[float, Field(ge=0, le=180)]
    towards_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0


class Towards(Up):
    """What goes towards the spindle: an axis of the part, the normal of a planar face, the axis of a cylinder
    or cone, a straight edge or the normal of a planar curve's plane, the normal of the plane through three
    points of the part; or, as the part is clamped, a direction by two angles, or by where the machine's
    rotary joints stand."""

    edge: Annotated[int, Field(ge=1, description="Id of a straight edge or a planar curve.")] | None = None
    points: Annotated[
        tuple[Point, Point, Point] | None,
        Field(description="Points of the part, mm, counterclockwise as the tool sees them."),
    ] = None
    lean: Lean | None = None
    rotary: Annotated[
        dict[str, Angle] | None,
        Field(min_length=1, description="Positions of the rotary joints by letter, degrees; others at 0."),
    ] = None

    def ways(self) -> dict[str, Any]:
        """What it may be given by, in words, each with its value or None."""
        more = {"an edge": self.edge, "three points": self.points, "a lean": self.lean}
        return {**super().ways(), **more, "rotary positions": self.rotary}


def side_direction(up: Towards, part: PartModel, clamped: Clamped, axis_at: AxisAt, where: str) -> Floats:
    """The direction (3,) in the setup's frame that goes towards the spindle. `axis_at` gives that of the tool
    with the rotary joints at some positions.

    Raises DocumentError for what has no direction.
    """
    if up.lean is not None:
        a, b = math.radians(up.lean.from_up_deg), math.radians(up.lean.towards_deg)
        found = np.array([math.sin(a) * math.cos(b), math.sin(a) * math.sin(b), math.cos(a)])
    elif up.rotary is not None:
        found = axis_at(up.rotary)
    else:
        if up.edge is not None:
            own = edge_direction(up.edge, part, f"{where}.edge")
        elif up.points is not None:
            own = _normal_of(up.points, f"{where}.points")
        else:
            return np.asarray(clamped.setup_from_part[:3, :3] @ up_direction(up, part, where))
        found = clamped.setup_from_part[:3, :3] @ own
    return np.asarray(-found if up.reverse else found)


def edge_direction(edge: int, part: PartModel, where: str) -> Floats:
    """The direction (3,), part frame, of a straight edge, or that of the normal of a curve's plane: outward
    where a face of the part lies in the plane, else the way along which the coordinates grow.

    Raises DocumentError for an edge that is not there or lies in no plane.
    """
    if not 1 <= edge <= len(part.edges):
        remedy = f"Use an edge from 1 to {len(part.edges)}." if part.edges else "Use a face or three points."
        raise DocumentError(f"Edge {edge} does not exist in '{part.name}'.", remedy=remedy, where=where)
    facts = part.edges[edge - 1]
    if facts.kind == "line":
        found = np.array(facts.end) - np.array(facts.start)
    elif facts.axis is not None:
        found = np.array(facts.axis)
    else:
        found = _plane_of(facts, part.edge_lines[edge - 1], where)
    found = found / np.linalg.norm(found)
    normals = (part.faces[f - 1].normal for f in facts.faces)
    for normal in normals:
        if normal is not None and (same_direction(found, normal) or same_direction(-found, normal)):
            return np.array(normal)
    longest = found[int(np.argmax(np.abs(found) > np.abs(found).max() - 1e-9))]
    return np.asarray(found if longest > 0 else -found)


def _plane_of(facts: EdgeFacts, line: Floats, where: str) -> Floats:
    """The normal (3,) of the plane in which the points (n, 3) of a curve lie."""
    _, spread, turned = np.linalg.svd(line - line.mean(axis=0), full_matrices=False)
    if len(line) < 3 or spread[1] < FLAT_SHARE * spread[0]:
        return np.asarray(line[-1] - line[0])  # as good as straight
    if np.abs((line - line.mean(axis=0)) @ turned[2]).max() > FLAT_SHARE * facts.length:
        raise DocumentError(
            f"Edge {facts.id} lies in no plane and has no direction of its own.",
            remedy="Pick a straight edge, a planar curve, a face, or three points.",
            where=where,
        )
    return np.asarray(turned[2])


def _normal_of(points: tuple[Point, Point, Point], where: str) -> Floats:
    a, b, c = (np.array(p) for p in points)
    first, second = b - a, c - a
    normal = np.cross(first, second)
    size = np.linalg.norm(first) * np.linalg.norm(second)
    if size == 0.0 or np.linalg.norm(normal) < NARROW * size:
        said = ", ".join("(" + ", ".join(f"{v:g}" for v in p) + ")" for p in points)
        raise DocumentError(
            f"The three points {said} lie on a line and span no plane.",
            remedy="Pick three points that do not lie on a line.",
            where=where,
        )
    return np.asarray(normal / np.linalg.norm(normal))

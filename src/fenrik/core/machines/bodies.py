"""Simple solids that stand for the parts of a machine: what its picture and the proof of its motion need.

All lengths mm in machine coordinates with all joints at zero, but for extruded and revolved outlines, which
have a frame of their own there.
"""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator
from shapely.geometry import Polygon

from fenrik.core.machines.chain import Mount
from fenrik.core.model.simple_solids import grid_fault
from fenrik.core.strict import Strict

Coordinate = Annotated[float, Field(ge=-1e5, le=1e5)]
Vector = tuple[Coordinate, Coordinate, Coordinate]
Point = tuple[Coordinate, Coordinate]
Length = Annotated[float, Field(gt=0, le=1e5)]
Role = Literal[
    "base",
    "bed",
    "column",
    "guard",
    "saddle",
    "table",
    "rotary",
    "trunnion",
    "link",
    "head",
    "spindle",
    "changer",
]


class _Shape(Strict):
    """`joint` carries the body (none: it stands on the base); `role` says what it is on the machine."""

    joint: str | None = None
    role: Role = "link"


class Box(_Shape):
    """A box between two corners, its sides along the machine's directions."""

    kind: Literal["box"]
    low: Vector
    high: Vector

    @model_validator(mode="after")
    def _size(self) -> Box:
        for axis, a, b in zip("XYZ", self.low, self.high, strict=True):
            if b - a < 1e-3:
                raise ValueError(f"a box has no size along {axis}: from {a:g} to {b:g}")
        return self


class Plate(Box):
    """A table's plate: a box whose top has T-slots along X or Y, or a grid of bores, `pitch` apart and
    symmetrical about its middle; a slot is `width` wide, or a bore has that diameter, `depth` deep."""

    kind: Literal["plate"]  # type: ignore[assignment]
    grid: Literal["x", "y", "bores"] = "x"
    pitch: Length = 80.0
    width: Length = 18.0
    depth: Length = 30.0

    @model_validator(mode="after")
    def _room(self) -> Plate:
        size = [b - a for a, b in zip(self.low, self.high, strict=True)]
        if fault := grid_fault(size, self.pitch, self.width, self.depth):
            raise ValueError(fault)
        return self


class Round(_Shape):
    """A round body from the middle of one end to that of the other. With another `radius_end` it is a
    cone."""

    kind: Literal["round"]
    begin: Vector
    end: Vector
    radius: Length
    radius_end: Length | None = None

    @model_validator(mode="after")
    def _long(self) -> Round:
        if max(abs(a - b) for a, b in zip(self.begin, self.end, strict=True)) < 1e-3:
            raise ValueError("a round body has no length: its begin and its end are the same")
        return self


class _Outlined(_Shape):
    """A body made of an outline in a frame `at` a place with directions `z` and `x` (open: as a mount's)."""

    at: Vector = (0.0, 0.0, 0.0)
    z: Vector = (0.0, 0.0, 1.0)
    x: Vector | None = None
    outline: Annotated[tuple[Point, ...], Field(min_length=3, max_length=400)]

    @property
    def frame(self) -> NDArray[np.float64]:
        """The outline's frame in machine coordinates (4, 4)."""
        return Mount(joint=None, at=self.at, z=self.z, x=self.x).frame

    @model_validator(mode="after")
    def _simple(self) -> _Outlined:
        if np.linalg.norm(self.z) < 1e-9:
            raise ValueError("the direction Z of an outline's frame is nothing")
        shape = Polygon(self.outline)
        if not shape.is_valid or shape.area < 1e-6:
            raise ValueError(
                "an outline crosses itself or encloses nothing; give its corners in turn, each once"
            )
        return self


class Extruded(_Outlined):
    """An outline of corners X, Y of its frame, drawn out along Z from a height to another."""

    kind: Literal["extruded"]
    bottom: float
    top: float

    @model_validator(mode="after")
    def _high(self) -> Extruded:
        if self.top - self.bottom < 1e-3:
            raise ValueError(f"an extruded body has no height: from {self.bottom:g} to {self.top:g}")
        return self


class Revolved(_Outlined):
    """An outline of corners (distance from the axis, height along it), turned about Z of its frame."""

    kind: Literal["revolved"]

    @model_validator(mode="after")
    def _one_side(self) -> Revolved:
        if min(r for r, _ in self.outline) < 0.0:
            raise ValueError("a revolved outline lies on both sides of its axis; keep its radii from 0 up")
        return self


class FileBody(_Shape):
    """A solid from a STEP or mesh file in machine coordinates with all joints at zero; see
    `model.reading`."""

    kind: Literal["file"]
    file: Annotated[str, Field(min_length=1)]
    solid: int | None = None
    scale: Annotated[float, Field(gt=0, le=10000)] = 1.0

    @property
    def key(self) -> str:
        """File, solid and scale in one name: two bodies may take two solids of a file."""
        return f"{self.file} {self.solid} {self.scale!r}"


Body = Annotated[Box | Plate | Round | Extruded | Revolved | FileBody, Field(discriminator="kind")]
ROLES: dict[Role, str] = {
    "base": "base", "bed": "bed", "column": "column", "guard": "guard", "saddle": "saddle",
    "table": "table", "rotary": "rotary table", "trunnion": "trunnion", "link": "arm", "head": "head",
    "spindle": "spindle nose", "changer": "magazine arm",
}  # fmt: skip
"""Bodies in words."""

"""What an operation works on, as the document names it: areas, holes, walls, lines."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from fenrik.core.strict import Strict

Name = Annotated[str, Field(min_length=1, max_length=80)]


class Boundary(Strict):
    """An area in plan view: picked faces, the stock's outline, a closed polygon in program coordinates, or a
    named area of the setup; moved outward by `offset` mm (inward when negative)."""

    faces: list[Annotated[int, Field(ge=1)]] | None = None
    stock: bool = False
    polygon: Annotated[list[tuple[float, float]], Field(min_length=3)] | None = None
    area: Name | None = None
    offset: Annotated[float, Field(ge=-1000, le=1000)] = 0.0

    @model_validator(mode="after")
    def _one(self) -> Boundary:
        if sum((bool(self.faces), self.stock, self.polygon is not None, self.area is not None)) != 1:
            raise ValueError("give exactly one of faces, stock: true, polygon or area")
        return self


class AreaDoc(Strict):
    """An area that is drawn or picked once and used by its name in many operations: the union of
    boundaries."""

    name: Name
    of: Annotated[list[Boundary], Field(min_length=1)]

    @model_validator(mode="after")
    def _own(self) -> AreaDoc:
        if any(b.area is not None for b in self.of):
            raise ValueError("an area is made of faces, polygons or the stock, not of other areas")
        return self


class HolePick(Strict):
    """A round hole: by a face of its wall, or by its place in program coordinates, its size and the height of
    its mouth."""

    face: Annotated[int, Field(ge=1)] | None = None
    at: tuple[float, float] | None = None
    top: float = 0.0
    diameter: Annotated[float, Field(gt=0, le=2000)] | None = None
    depth: Annotated[float, Field(gt=0, le=5000)] | None = None
    through: bool = False

    @model_validator(mode="after")
    def _one(self) -> HolePick:
        if (self.face is None) == (self.at is None):
            raise ValueError("give either face or at")
        if self.at is not None and (self.diameter is None or self.depth is None):
            raise ValueError("a hole given by 'at' needs diameter and depth")
        return self


class WallPick(Strict):
    """Walls: a face that stands upright, or a floor or top that stands for the walls it meets; an edge for
    the wall that it bounds, along it; or all that bounds the part seen from above."""

    face: Annotated[int, Field(ge=1)] | None = None
    edge: Annotated[int, Field(ge=1)] | None = None
    outline: bool = False

    @model_validator(mode="after")
    def _one(self) -> WallPick:
        if (self.face is not None) + (self.edge is not None) + self.outline != 1:
            raise ValueError("give one of face, edge and outline: true")
        return self


class LinePick(Strict):
    """A line to engrave: an edge of the part, the border of a face, points in program coordinates, or a text
    there, its foot at `at`."""

    edge: Annotated[int, Field(ge=1)] | None = None
    face: Annotated[int, Field(ge=1)] | None = None
    points: Annotated[list[tuple[float, float]], Field(min_length=2, max_length=10000)] | None = None
    closed: bool = False
    text: Annotated[str, Field(min_length=1, max_length=200)] | None = None
    at: tuple[float, float] | None = None
    height: Annotated[float, Field(gt=0.1, le=500, description="Of the text's capitals, mm.")] = 4.0
    angle_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    align: Literal["left", "middle", "right"] = "left"

    @model_validator(mode="after")
    def _one(self) -> LinePick:
        if sum(v is not None for v in (self.edge, self.face, self.points, self.text)) != 1:
            raise ValueError("give one of edge, face, points and text")
        if (self.text is None) != (self.at is None):
            raise ValueError("a text needs its place 'at', and nothing else has one")
        return self

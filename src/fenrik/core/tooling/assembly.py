"""An assembly: a cutter in a holder with its stick-out, as it sits in the magazine."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

Kind = Literal["flat", "ball", "corner"]
Length = Annotated[float, Field(gt=0, le=2000)]


class HolderSegment(BaseModel):
    """One cone or cylinder of a holder, counted from the cutter upward; lengths and diameters mm."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    length: Length
    diameter_low: Length
    diameter_high: Length


class Assembly(BaseModel):
    """A milling tool ready to run. All lengths mm.

    `stick_out` is the distance from the tip to the holder's face, `flute_length` how far up from
    the tip it cuts, `reach` beyond that belongs to the shank.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    number: Annotated[int, Field(ge=1, le=9999, description="Number in the magazine.")]
    name: Annotated[str, Field(min_length=1, max_length=80)]
    kind: Kind
    diameter: Length
    corner_radius: Annotated[
        float, Field(ge=0, le=1000, description="0 for flat, half the diameter for ball.")
    ] = 0.0
    flute_length: Length
    teeth: Annotated[int, Field(ge=1, le=40)] = 3
    shank_diameter: Length
    stick_out: Length
    cutter_material: Literal["carbide", "hss"] = "carbide"
    holder: Annotated[list[HolderSegment], Field(min_length=1, max_length=12)]

    @model_validator(mode="after")
    def _consistent(self) -> Assembly:
        half = self.diameter / 2
        if self.kind == "flat" and self.corner_radius != 0:
            raise ValueError(
                f"corner_radius is {self.corner_radius} on a flat end mill; set it to 0 or the kind to 'corner'"
            )
        if self.kind == "ball" and abs(self.corner_radius - half) > 1e-9:
            raise ValueError(
                f"corner_radius is {self.corner_radius} on a ball end mill; it must be half the diameter, {half}"
            )
        if self.kind == "corner" and not 0 < self.corner_radius < half:
            raise ValueError(
                f"corner_radius is {self.corner_radius}; between 0 and half the diameter, {half}, is needed"
            )
        if self.flute_length > self.stick_out:
            raise ValueError(
                f"flute_length {self.flute_length} is longer than the stick_out {self.stick_out}"
            )
        if self.flute_length < self.corner_radius:
            raise ValueError(
                f"flute_length {self.flute_length} is shorter than the corner radius {self.corner_radius}"
            )
        return self

    @property
    def radius(self) -> float:
        """Cutting radius, mm."""
        return self.diameter / 2

    @property
    def gauge_length(self) -> float:
        """Tip to the top of the holder, which is the spindle's gauge line, mm."""
        return self.stick_out + sum(s.length for s in self.holder)

    def facts(self) -> dict[str, object]:
        """The tool as the release's tools.json lists it, mm."""
        return {
            "number": self.number,
            "name": self.name,
            "kind": self.kind,
            "diameter": self.diameter,
            "corner_radius": self.corner_radius,
            "flute_length": self.flute_length,
            "shank_diameter": self.shank_diameter,
            "stick_out": self.stick_out,
            "teeth": self.teeth,
            "holder": [s.model_dump() for s in self.holder],
        }

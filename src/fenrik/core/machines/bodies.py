"""Simple solids that stand for the parts of a machine: what a picture of it needs."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

Vector = tuple[float, float, float]
Role = Literal["base", "link", "table", "spindle"]


class Body(BaseModel):
    """A round body from the middle of one end to that of the other, mm in machine coordinates with all joints
    at zero. It hangs on `joint` (none: on the base); `role` gives its colour. With another `radius_end` it is
    a cone."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    joint: str | None = None
    role: Role = "link"
    begin: Vector
    end: Vector
    radius: Annotated[float, Field(gt=0, le=1e5)]
    radius_end: Annotated[float, Field(gt=0, le=1e5)] | None = None

    @model_validator(mode="after")
    def _long(self) -> Body:
        if max(abs(a - b) for a, b in zip(self.begin, self.end, strict=True)) < 1e-3:
            raise ValueError("a body has no length: its begin and its end are the same")
        return self

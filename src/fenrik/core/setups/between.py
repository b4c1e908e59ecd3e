"""How a program gets from side to side of a setup."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fenrik.core.strict import Strict


class BetweenSides(Strict):
    """The way from side to side: at the machine's upper end, or over the safe body about all that turns, as
    far out as `radius` (open: as far as stock, fixture and table get) and `room` more, mm."""

    over: Literal["upper_end", "safe_body"] = "upper_end"
    radius: Annotated[float, Field(gt=0, le=5000)] | None = None
    room: Annotated[float, Field(ge=0, le=1000)] = 20.0

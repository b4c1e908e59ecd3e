"""Sides: the directions from which a clamped part is worked, and a setup as a side sees it."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.errors import DocumentError
from fenrik.core.frames import apply, invert, rotation_up, transform
from fenrik.core.model.part_model import PartModel
from fenrik.core.setups.fixture import box_mesh
from fenrik.core.setups.setup import Clamped, Up, tight_box, up_direction

Floats = NDArray[np.float64]
Point = tuple[float, float, float]


class SideDoc(BaseModel):
    """A direction from which a clamped part is worked besides the setup's own: towards the spindle goes an
    axis of the part, the normal of a picked face or the axis of a picked cylinder.

    Its X is the setup's X square to it, turned by `turn_deg`; its zero is the program zero or a point of the
    part.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Annotated[str, Field(min_length=1, max_length=80)]
    up: Up
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    origin: Annotated[Point | None, Field(description="A point of the part, mm; open: the program zero.")] = (
        None
    )


def setup_from_side(side: SideDoc, part: PartModel, clamped: Clamped, where: str) -> Floats:
    """The frame (4, 4) of a side in the setup. Raises DocumentError when its face has no direction."""
    towards = clamped.setup_from_part[:3, :3] @ up_direction(side.up, part, f"{where}.up")
    rotation = rotation_up(towards, math.radians(side.turn_deg)).T
    origin = (
        np.zeros(3) if side.origin is None else apply(clamped.setup_from_part, np.array([side.origin]))[0]
    )
    return transform(rotation, origin)


def seen_from(clamped: Clamped, matrix: Floats, part: PartModel, name: str) -> Clamped:
    """What is clamped as a side sees it, in the side's frame; `matrix` (4, 4) is `setup_from_side`.

    Boxes are those about stock and part along the side's axes; a box stock becomes a mesh. Raises
    DocumentError for several parts in one blank, which have one side only.
    """
    if len(clamped.copies) > 1:
        raise DocumentError(
            f"Side '{name}' works a setup with several parts in one blank.",
            remedy="Give each part its own setup, or work from above only.",
        )
    back = invert(matrix)
    stock = clamped.stock_mesh or box_mesh(clamped.stock_low, clamped.stock_high)
    seen = stock.moved(back)
    side_from_part = back @ clamped.setup_from_part
    low, high = tight_box(part, side_from_part, apply(side_from_part, part.mesh.vertices))
    return replace(
        clamped,
        setup_from_part=side_from_part,
        stock_low=seen.vertices.min(axis=0),
        stock_high=seen.vertices.max(axis=0),
        stock_mesh=seen,
        part_low=low,
        part_high=high,
        fixture=None if clamped.fixture is None else clamped.fixture.moved(back),
        keep_clear=None if clamped.keep_clear is None else clamped.keep_clear.moved(back),
        setup_from_side=matrix,
    )

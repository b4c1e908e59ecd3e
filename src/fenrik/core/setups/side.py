"""Sides: the directions from which a clamped part is worked, and a setup as a side sees it."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from fenrik.core.errors import DocumentError
from fenrik.core.frames import apply, invert, rotation_up, transform
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.model.simple_solids import box_mesh
from fenrik.core.setups.setup import Clamped, Zero, box_point, tight_box
from fenrik.core.setups.towards import AxisAt, Towards, side_direction
from fenrik.core.strict import Strict

Floats = NDArray[np.float64]
Point = tuple[float, float, float]


class SideDoc(Strict):
    """A direction from which a clamped part is worked besides the setup's own; see `Towards` for what it may
    be given by.

    Its X is the setup's X square to it, turned by `turn_deg`; its zero is the program zero, a point of the
    part, or a point of the box about stock or part as the side sees it.
    """

    name: Annotated[str, Field(min_length=1, max_length=80)]
    up: Towards
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    origin: Annotated[
        Point | Zero | None,
        Field(
            description="A point of the part, mm, or one of the points of the box about stock or part along "
            "the side's axes; open: the program zero."
        ),
    ] = None


def setup_from_side(side: SideDoc, part: PartModel, clamped: Clamped, axis_at: AxisAt, where: str) -> Floats:
    """The frame (4, 4) of a side in the setup. `axis_at` gives the tool's direction (3,) with the rotary
    joints at some positions. Raises DocumentError for what has no direction and for a zero that lies
    nowhere."""
    towards = side_direction(side.up, part, clamped, axis_at, f"{where}.up")
    rotation = rotation_up(towards, math.radians(side.turn_deg)).T
    origin = side.origin
    if origin is None:
        return transform(rotation, (0.0, 0.0, 0.0))
    if isinstance(origin, Zero) and origin.point is None:
        turned = invert(transform(rotation, (0.0, 0.0, 0.0)))
        if origin.of == "stock":
            corners = apply(turned, _stock(clamped).vertices)
            box = corners.min(axis=0), corners.max(axis=0)
        else:
            matrix = turned @ clamped.setup_from_part
            box = tight_box(part, matrix, apply(matrix, part.mesh.vertices))
        return transform(rotation, rotation @ box_point(box, origin))
    point = origin.point if isinstance(origin, Zero) else origin
    at = apply(clamped.setup_from_part, np.array([point]))[0]
    _check_near(side, at, clamped, f"{where}.origin")
    return transform(rotation, at)


def _check_near(side: SideDoc, at: Floats, clamped: Clamped, where: str) -> None:
    """Refuses a zero (3,) that lies farther from the stock than the stock is long."""
    low, high = clamped.stock_low, clamped.stock_high
    away = float(np.linalg.norm(np.maximum(0.0, np.maximum(low - at, at - high))))
    if away > float(np.linalg.norm(high - low)):
        x, y, z = at.tolist()
        raise DocumentError(
            f"The zero of the side '{side.name}' at ({x:.2f}, {y:.2f}, {z:.2f}) lies {away:.0f} mm beside "
            "the stock.",
            remedy="Pick a point of the part, or one of the stock's or the part's box.",
            where=where,
        )


def _stock(clamped: Clamped) -> TriangleMesh:
    return clamped.stock_mesh or box_mesh(clamped.stock_low, clamped.stock_high)


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
    seen = _stock(clamped).moved(back)
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

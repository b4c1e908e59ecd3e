"""Repeats in the document: at which places operations are made again."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from pydantic import Field, model_validator

from fenrik.core.motion.repeating import Place, mirrored_over, turned_about
from fenrik.core.strict import Strict

Point = tuple[float, float]
MOST = 400
HERE = turned_about((0.0, 0.0), 0.0)


class Polar(Strict):
    """`count` places on a circle about `centre` (program coordinates), the first where the operation is;
    `step_deg` from one to the next, open: evenly all round."""

    kind: Literal["polar"]
    centre: Point = (0.0, 0.0)
    count: Annotated[int, Field(ge=2, le=MOST)]
    step_deg: Annotated[float, Field(ge=-360, le=360)] | None = None

    def places(self) -> list[Place]:
        """Where, the first included."""
        step = 360.0 / self.count if self.step_deg is None else self.step_deg
        return [turned_about(self.centre, i * step) for i in range(self.count)]


class Linear(Strict):
    """`count` places along a line, `step` (x, y) mm from one to the next."""

    kind: Literal["linear"]
    count: Annotated[int, Field(ge=2, le=MOST)]
    step: Point

    def places(self) -> list[Place]:
        """Where, the first included."""
        return [_shifted(i * self.step[0], i * self.step[1]) for i in range(self.count)]


class Grid(Strict):
    """Columns and rows, mm from one to the next, turned about the first place by `angle_deg`; gone through to
    and fro."""

    kind: Literal["grid"]
    columns: Annotated[int, Field(ge=1, le=MOST)]
    rows: Annotated[int, Field(ge=1, le=MOST)]
    step_x: float
    step_y: float
    angle_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0

    @model_validator(mode="after")
    def _several(self) -> Grid:
        if not 2 <= self.columns * self.rows <= MOST:
            raise ValueError(f"{self.columns} x {self.rows} places are none or too many; give 2 to {MOST}")
        return self

    def places(self) -> list[Place]:
        """Where, the first included."""
        c, s = math.cos(math.radians(self.angle_deg)), math.sin(math.radians(self.angle_deg))
        out = []
        for j in range(self.rows):
            for i in range(self.columns) if j % 2 == 0 else reversed(range(self.columns)):
                x, y = i * self.step_x, j * self.step_y
                out.append(_shifted(c * x - s * y, s * x + c * y))
        return out


class Listed(Strict):
    """Shifts (x, y, turn in degrees about the shifted program zero) of every further place."""

    kind: Literal["listed"]
    at: Annotated[list[tuple[float, float, float]], Field(min_length=1, max_length=MOST)]

    def places(self) -> list[Place]:
        """Where, the first included."""
        return [HERE, *(turned_about((0.0, 0.0), angle, (x, y)) for x, y, angle in self.at)]


class Mirror(Strict):
    """Once more in the mirror of a line through `point` (program coordinates) at `angle_deg` to X."""

    kind: Literal["mirror"]
    point: Point = (0.0, 0.0)
    angle_deg: Annotated[float, Field(ge=-180, le=180)] = 90.0

    def places(self) -> list[Place]:
        """Where, the first included."""
        return [HERE, mirrored_over(self.point, self.angle_deg)]


class Rotary(Strict):
    """Done again with the rotary joint that carries the work turned on: `count` times in all, `step_deg` from
    one to the next, open: evenly all round. The path is computed once."""

    kind: Literal["rotary"]
    joint: Annotated[str, Field(pattern=r"^[A-Z]$", description="The joint's letter.")] = "C"
    count: Annotated[int, Field(ge=2, le=MOST)] = 4
    step_deg: Annotated[float, Field(ge=-360, le=360)] | None = None

    def places(self) -> list[Place]:
        """Where, in the plan view of its side: here."""
        return [HERE]

    def turns(self) -> list[float]:
        """How far the joint is turned on, degrees, the first time by nothing."""
        step = 360.0 / self.count if self.step_deg is None else self.step_deg
        return [i * step for i in range(self.count)]


How = Annotated[Polar | Linear | Grid | Listed | Mirror | Rotary, Field(discriminator="kind")]


class RepeatDoc(Strict):
    """Operations of a setup that are made again at further places; each goes through all places before the
    next begins. `leave_out` are places by their number, the first being 1."""

    name: Annotated[str, Field(min_length=1, max_length=80)]
    operations: Annotated[list[str], Field(min_length=1)]
    how: How
    leave_out: list[Annotated[int, Field(ge=1)]] = []

    @model_validator(mode="after")
    def _some_left(self) -> RepeatDoc:
        count = len(self.how.turns() if isinstance(self.how, Rotary) else self.how.places())
        if wrong := [n for n in self.leave_out if n > count]:
            raise ValueError(f"there is no place {wrong[0]} to leave out, only {count}")
        if len(set(self.leave_out)) >= count:
            raise ValueError("every place is left out; keep one")
        return self

    def turns(self) -> list[float]:
        """How far the joint that carries the work is turned on each time, degrees; none where it stands."""
        if not isinstance(self.how, Rotary):
            return []
        return [turn for i, turn in enumerate(self.how.turns(), 1) if i not in self.leave_out]

    def places(self) -> list[Place]:
        """Where the operations are made, in order, in the plan view of their side."""
        if isinstance(self.how, Rotary):
            return self.how.places()
        return [p for i, p in enumerate(self.how.places(), 1) if i not in self.leave_out]

    def words(self) -> str:
        """What it does in a few words."""
        if isinstance(self.how, Rotary):
            return f"{len(self.turns())} x about {self.how.joint}"
        kind = {
            "polar": "on a circle",
            "linear": "along a line",
            "grid": "in a grid",
            "listed": "at given places",
            "mirror": "and mirrored",
        }[self.how.kind]
        return f"{len(self.places())} x {kind}"


def _shifted(x: float, y: float) -> Place:
    return Place(((1.0, 0.0), (0.0, 1.0)), (x, y))

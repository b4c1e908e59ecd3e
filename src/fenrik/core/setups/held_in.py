"""A fixture that is kept and used again, and how a setup is held in it: two frames, the fixture on the table
and the stock in the fixture."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from fenrik.core.errors import DocumentError
from fenrik.core.frames import transform
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.setups.clamps import turn_about_z
from fenrik.core.setups.jaws import gripped
from fenrik.core.setups.pieces import Coordinate, FixturePiece, Name, Place, Vice, words_of
from fenrik.core.strict import Strict

Floats = NDArray[np.float64]


class Fixture(Strict):
    """A fixture by its name: pieces in its own frame, whose zero stands on the table, Z up.

    `seat` is where the middle of the stock's underside sits; where it has a vice, the stock lies against the
    fixed jaw, about the jaws' middle, and as low as they grip."""

    name: Name
    pieces: Annotated[list[FixturePiece], Field(min_length=1, max_length=100)]
    seat: Place = (0.0, 0.0, 0.0)
    notes: Annotated[str, Field(max_length=2000)] = ""

    @model_validator(mode="after")
    def _names(self) -> Fixture:
        names = [p.name for p in self.pieces]
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice is not None:
            raise ValueError(f"two pieces of the fixture '{self.name}' are called '{twice}'")
        return self

    @property
    def vice(self) -> Vice | None:
        """The vice that decides where the stock sits: its first."""
        return next((p for p in self.pieces if isinstance(p, Vice)), None)


class OnTable(Strict):
    """Where a fixture's zero stands over the middle of the table, mm, and its turn about Z."""

    x: Coordinate = 0.0
    y: Coordinate = 0.0
    z: Annotated[float, Field(ge=0, le=1e5)] = 0.0
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0


class HeldIn(Strict):
    """The fixture of a setup, where it stands, and how far the stock sits off its seat, in the fixture's
    directions, mm."""

    fixture: Name
    on_table: OnTable = OnTable()
    in_fixture: Place = (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Seated:
    """Where a stock sits in its fixture and that on the table: `setup_from_fixture` (4, 4) and
    `table_from_setup` (3,), mm."""

    setup_from_fixture: Floats
    table_from_setup: Floats


def seated(fixture: Fixture, held: HeldIn, stock: TriangleMesh) -> Seated:
    """Sets a stock (setup frame) into a fixture. Raises DocumentError for a vice that grips nothing."""
    turn = turn_about_z(math.radians(held.on_table.turn_deg))
    turned = stock.moved(transform(turn.T, (0.0, 0.0, 0.0)))
    low, high = turned.bounds
    middle = np.array([*(0.5 * (low + high))[:2], low[2]])
    by = np.array(held.in_fixture)
    vice = fixture.vice
    if vice is None:
        way = np.array(fixture.seat) + by - middle
    else:
        rest = vice.top - vice.grip + by[2]
        if rest >= vice.top:
            raise DocumentError(
                f"The stock sits {by[2]:g} mm over its seat in '{vice.name}', which grips {vice.grip:g} mm: "
                "nothing is left between the jaws.",
                remedy="Set it lower, or grip more.",
            )
        # the jaws' middle as the stock has it before it is moved there
        about = float(middle[0] - by[0])
        near, _ = gripped(vice, turned, 0, about, float(low[2]), float(low[2]) + vice.top - rest)
        way = np.array([vice.at[0] - about, vice.at[1] - near + by[1], rest - low[2]])
    place = np.array([held.on_table.x, held.on_table.y, held.on_table.z])
    return Seated(transform(turn, -(turn @ way)), turn @ way + place)


def words_of_held(fixture: Fixture, held: HeldIn) -> list[str]:
    """The fixture, where it stands, and its pieces, in a few words each."""
    at = held.on_table
    turn = f", turned {at.turn_deg:g}°" if at.turn_deg else ""
    by = held.in_fixture
    off = f"; the stock ({', '.join(f'{v:g}' for v in by)}) off its seat" if any(by) else ""
    place = f"{fixture.name}: at ({at.x:g}, {at.y:g}, {at.z:g}) on the table{turn}{off}"
    return [place, *(words_of(piece) for piece in fixture.pieces)]

"""What a fixture is made of, as the document holds it: jaws, vices, clamps, blocks, plates, solids of a file.

In a setup's own list they stand in program coordinates, in a fixture in its frame: zero on the table, Z up.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from fenrik.core.model.simple_solids import grid_fault
from fenrik.core.strict import Strict

Coordinate = Annotated[float, Field(ge=-1e5, le=1e5)]
Place = tuple[Coordinate, Coordinate, Coordinate]
Name = Annotated[str, Field(min_length=1, max_length=80)]
Size = Annotated[float, Field(gt=0, le=5000)]


class _Jawed(Strict):
    """Two parallel jaws that close on the stock and hold `grip` mm of it, from its underside up.

    Hard jaws have plain faces. Stepped jaws carry the stock on steps that go `ledge` mm under it. Soft jaws
    reach as far under it, and their faces, which would stand `ledge` mm within its sides, are cut out to its
    outline."""

    form: Literal["hard", "stepped", "soft"] = "hard"
    grip: Size = 5.0
    ledge: Annotated[float, Field(gt=0, le=500)] = 3.0
    length: Size = 125.0
    thickness: Size = 25.0
    height: Size = 40.0

    @model_validator(mode="after")
    def _stands(self) -> _Jawed:
        if self.form != "hard" and self.height <= self.grip:
            raise ValueError(
                f"{self.form} jaws {self.height:g} high have nothing under a grip of {self.grip:g}; make "
                "them higher or grip less"
            )
        return self


class Jaws(_Jawed):
    """A pair of jaws alone, along X or Y, at the stock's sides about its middle."""

    kind: Literal["jaws"]
    name: Name = "Jaws"
    along: Literal["x", "y"] = "x"


class Vice(_Jawed):
    """A vice: its jaws run along X, the fixed one's face with its middle `at` a place of the fixture on whose
    Z the vice stands; the other closes from +Y as far as the stock is wide. It decides where the stock
    sits."""

    kind: Literal["vice"]
    name: Name = "Vice"
    at: Place = (0.0, 0.0, 0.0)
    opening: Annotated[Size, Field(description="How far the jaws open at most.")] = 160.0
    slide: Annotated[Size, Field(description="Length of what carries the moving jaw.")] = 60.0
    heel: Annotated[float, Field(ge=0, le=1000, description="Of the base behind the fixed jaw.")] = 20.0
    screw: Annotated[float, Field(ge=0, le=1000, description="Of the screw that looks out.")] = 30.0
    base_length: Size = 340.0
    base_height: Size = 70.0

    @property
    def top(self) -> float:
        """Height of the jaws' upper side in the fixture's frame."""
        return self.at[2] + self.base_height + self.height


class Block(Strict):
    """A box between two corners: a riser, a stop, a parallel."""

    kind: Literal["block"]
    name: Name
    low: Place
    high: Place

    @model_validator(mode="after")
    def _size(self) -> Block:
        for axis, a, b in zip("XYZ", self.low, self.high, strict=True):
            if b <= a:
                raise ValueError(f"'{self.name}' has no size along {axis}: from {a:g} to {b:g}")
        return self


class FixturePlate(Block):
    """A block with T-slots along X or Y in its top, or a grid of bores, `pitch` apart, `width` wide and
    `depth` deep."""

    kind: Literal["plate"]  # type: ignore[assignment]
    grid: Literal["x", "y", "bores"] = "bores"
    pitch: Size = 50.0
    width: Size = 12.0
    depth: Size = 12.0

    @model_validator(mode="after")
    def _room(self) -> FixturePlate:
        size = [b - a for a, b in zip(self.low, self.high, strict=True)]
        if fault := grid_fault(size, self.pitch, self.width, self.depth):
            raise ValueError(f"'{self.name}': {fault}")
        return self


class Clamp(Strict):
    """A strap clamp: a bar whose tip lies upon the stock `at` X, Y and which goes off towards an angle, its
    heel on a block, a stud through it; as high as the stock is there."""

    kind: Literal["clamp"]
    name: Name = "Clamp"
    at: tuple[Coordinate, Coordinate]
    towards_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    length: Size = 80.0
    width: Size = 30.0
    thickness: Size = 16.0
    reach: Annotated[Size, Field(description="So much of the bar lies upon the stock.")] = 12.0

    @model_validator(mode="after")
    def _long(self) -> Clamp:
        if self.reach > 0.5 * self.length:
            raise ValueError(
                f"'{self.name}' lies on the stock with {self.reach:g} of {self.length:g}: half is the most, "
                "its stud and heel need the rest"
            )
        return self


class FixtureSolid(Strict):
    """A solid from a file: turned about Z, then its own zero at a place."""

    kind: Literal["solid"]
    name: Name
    file: Annotated[str, Field(min_length=1)]
    solid: int | None = None
    scale: Annotated[float, Field(gt=0, le=10000)] = 1.0
    at: Place = (0.0, 0.0, 0.0)
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0


LoosePiece = Annotated[Jaws | Clamp | Block | FixturePlate | FixtureSolid, Field(discriminator="kind")]
"""What a setup has of its own about its stock."""
FixturePiece = Annotated[
    Jaws | Vice | Clamp | Block | FixturePlate | FixtureSolid, Field(discriminator="kind")
]
AnyPiece = Jaws | Vice | Clamp | Block | FixturePlate | FixtureSolid
FORMS = {"hard": "jaws", "stepped": "stepped jaws", "soft": "soft jaws"}


def words_of(piece: AnyPiece) -> str:
    """A piece in a few words."""
    if isinstance(piece, Jaws):
        return (
            f"{piece.name}: {FORMS[piece.form]} along {piece.along.upper()}, {piece.length:g} long, grip "
            f"{piece.grip:g} from the underside"
        )
    if isinstance(piece, Vice):
        return f"{piece.name}: {FORMS[piece.form]} {piece.length:g} long, grip {piece.grip:g}"
    if isinstance(piece, Clamp):
        return f"{piece.name}: upon the stock at ({', '.join(f'{v:g}' for v in piece.at)})"
    if isinstance(piece, Block):
        a, b = (", ".join(f"{v:g}" for v in p) for p in (piece.low, piece.high))
        return f"{piece.name}: from ({a}) to ({b})"
    return f"{piece.name}: {piece.file} at ({', '.join(f'{v:g}' for v in piece.at)})"

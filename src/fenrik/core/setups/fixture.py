"""What holds the stock: jaws beside it, blocks such as clamps and stops, solids from a file; as meshes in the
setup frame."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from fenrik.core.errors import DocumentError
from fenrik.core.frames import transform
from fenrik.core.model.outline import section_at
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]
Place = tuple[float, float, float]
Name = Annotated[str, Field(min_length=1, max_length=80)]
Size = Annotated[float, Field(gt=0, le=5000)]
GAP_MM = 1.0
"""Room that paths keep beside jaws and blocks (common practice, no source)."""
CORNERS = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], dtype=np.float64)
SIDES = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
"""Corners round about the sides of a box, seen from outside, by their place in `CORNERS`."""


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Jaws(_Strict):
    """Two parallel jaws that hold the stock's box at its sides: `grip` mm of it, from its underside up. They
    run along X or Y, `length` mm about the stock's middle, are `thickness` mm thick and `height` mm high."""

    kind: Literal["jaws"]
    name: Name = "Jaws"
    along: Literal["x", "y"] = "x"
    grip: Size = 5.0
    length: Size = 125.0
    thickness: Size = 25.0
    height: Size = 40.0


class Block(_Strict):
    """A box between two corners in program coordinates, mm: a clamp, a stop, a parallel."""

    kind: Literal["block"]
    name: Name
    low: Place
    high: Place

    @model_validator(mode="after")
    def _size(self) -> Block:
        for axis, a, b in zip("XYZ", self.low, self.high, strict=True):
            if b <= a:
                raise ValueError(f"block '{self.name}' has no size along {axis}: from {a:g} to {b:g}")
        return self


class FixtureSolid(_Strict):
    """A solid from a file: turned about Z, then its own zero at a place in program coordinates."""

    kind: Literal["solid"]
    name: Name
    file: Annotated[str, Field(min_length=1)]
    solid: int | None = None
    scale: Annotated[float, Field(gt=0, le=10000)] = 1.0
    at: Place = (0.0, 0.0, 0.0)
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0


FixturePart = Annotated[Jaws | Block | FixtureSolid, Field(discriminator="kind")]


def boxes_of(
    piece: Jaws | Block, low: Floats, high: Floats, stock: TriangleMesh | None = None
) -> list[tuple[Floats, Floats]]:
    """Corners (3,), (3,) of the boxes of which jaws or a block are made; `low`, `high` bound the stock, setup
    frame. Jaws close on the `stock` as it stands, open: on its box. Raises DocumentError where they find
    nothing between them."""
    if isinstance(piece, Block):
        return [(np.array(piece.low), np.array(piece.high))]
    along = "xy".index(piece.along)
    across = 1 - along
    middle = 0.5 * (low[along] + high[along])
    if stock is not None:
        low, high = _between_jaws(piece, stock, low, high)
    out = []
    for side in (0, 1):
        a, b = np.zeros(3), np.zeros(3)
        a[along], b[along] = middle - 0.5 * piece.length, middle + 0.5 * piece.length
        a[across] = low[across] - piece.thickness if side == 0 else high[across]
        b[across] = a[across] + piece.thickness
        b[2] = low[2] + piece.grip
        a[2] = b[2] - piece.height
        out.append((a, b))
    return out


def _between_jaws(piece: Jaws, stock: TriangleMesh, low: Floats, high: Floats) -> tuple[Floats, Floats]:
    """The stock's box with the sides between which jaws find material: the width of the stock where they grip
    it, in sections at five heights of the grip."""
    along = "xy".index(piece.along)
    across = 1 - along
    middle = 0.5 * (low[along] + high[along])
    corners = stock.vertices[stock.triangles]
    found = []
    for share in (0.1, 0.3, 0.5, 0.7, 0.9):
        ends = section_at(corners, float(low[2]) + share * piece.grip)
        # of every line of the section what lies within the jaws' length
        a, b = ends[:, 0, along] - middle, ends[:, 1, along] - middle
        run = np.where(np.abs(b - a) < 1e-12, 1e-12, b - a)
        first, last = ((s * 0.5 * piece.length - a) / run for s in (-1.0, 1.0))
        enter, leave = np.maximum(np.minimum(first, last), 0.0), np.minimum(np.maximum(first, last), 1.0)
        held = enter <= leave
        for t in (enter[held], leave[held]):
            found.append(ends[held, 0, across] + t * (ends[held, 1, across] - ends[held, 0, across]))
    width = np.concatenate(found)
    if not len(width):
        raise DocumentError(
            f"'{piece.name}' grip nothing: the stock as it stands has no material between them up to "
            f"{piece.grip:g} mm over its underside.",
            remedy="Grip higher, use longer jaws, or hold it otherwise.",
        )
    low, high = low.copy(), high.copy()
    low[across], high[across] = width.min(), width.max()
    return low, high


def fixture_mesh(
    pieces: Sequence[Jaws | Block | FixtureSolid],
    solids: dict[str, TriangleMesh],
    low: Floats,
    high: Floats,
    gap: float = 0.0,
    stock: TriangleMesh | None = None,
) -> TriangleMesh | None:
    """All of a fixture in the setup frame, jaws and blocks larger by `gap` mm at their sides and on top; None
    where there is none. `solids` are the meshes of the files by the piece's name, in their own frames; jaws
    close on the `stock` as it stands. Raises DocumentError for jaws with nothing between them."""
    meshes = []
    for piece in pieces:
        if isinstance(piece, FixtureSolid):
            turn = math.radians(piece.turn_deg)
            about = np.array(
                [[math.cos(turn), -math.sin(turn), 0], [math.sin(turn), math.cos(turn), 0], [0, 0, 1]]
            )
            meshes.append(solids[piece.name].moved(transform(about, piece.at)))
        else:
            more = np.array([gap, gap, gap])
            meshes += [box_mesh(a - more, b + more) for a, b in boxes_of(piece, low, high, stock)]
    return joined_meshes(meshes) if meshes else None


def box_mesh(low: Floats, high: Floats) -> TriangleMesh:
    """A box as twelve triangles of face 1."""
    triangles = [t for a, b, c, d in SIDES for t in ((a, b, c), (a, c, d))]
    return TriangleMesh(
        low + CORNERS * (high - low), np.array(triangles, dtype=np.int32), np.ones(12, dtype=np.int32)
    )


def joined_meshes(meshes: Sequence[TriangleMesh]) -> TriangleMesh:
    """Several meshes as one; face ids stay what they are."""
    starts = np.cumsum([0, *(len(m.vertices) for m in meshes[:-1])])
    return TriangleMesh(
        np.concatenate([m.vertices for m in meshes]),
        np.concatenate([m.triangles + np.int32(s) for m, s in zip(meshes, starts, strict=True)]).astype(
            np.int32
        ),
        np.concatenate([m.face_ids for m in meshes]),
        max(m.deviation for m in meshes),
    )


def check_blocks(
    pieces: Sequence[Jaws | Block | FixtureSolid], low: Floats, high: Floats, where: str
) -> None:
    """Raises DocumentError for a block that stands in the stock's box, or jaws that grip more than there
    is."""
    for i, piece in enumerate(pieces):
        if isinstance(piece, Jaws) and piece.grip > high[2] - low[2]:
            raise DocumentError(
                f"'{piece.name}' grip {piece.grip:g} mm of a stock that is {high[2] - low[2]:.3f} mm high.",
                remedy="Grip less.",
                where=f"{where}[{i}].grip",
            )
        if isinstance(piece, Block):
            into = np.minimum(high, piece.high) - np.maximum(low, piece.low)
            if (into > 1e-6).all():
                raise DocumentError(
                    f"'{piece.name}' stands {float(into.min()):.3f} mm in the stock, which goes from"
                    f" ({low[0]:.2f}, {low[1]:.2f}, {low[2]:.2f}) to ({high[0]:.2f}, {high[1]:.2f}, "
                    f"{high[2]:.2f}).",
                    remedy="Put it beside or upon the stock.",
                    where=f"{where}[{i}]",
                )


def words_of(piece: Jaws | Block | FixtureSolid) -> str:
    """A piece in a few words."""
    if isinstance(piece, Jaws):
        return (
            f"{piece.name}: jaws along {piece.along.upper()}, {piece.length:g} long, grip "
            f"{piece.grip:g} from the underside"
        )
    if isinstance(piece, Block):
        a, b = (", ".join(f"{v:g}" for v in p) for p in (piece.low, piece.high))
        return f"{piece.name}: from ({a}) to ({b})"
    return f"{piece.name}: {piece.file} at ({', '.join(f'{v:g}' for v in piece.at)})"

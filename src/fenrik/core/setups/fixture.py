"""What holds the stock, as meshes: a setup's own pieces in its frame, or those of a fixture in theirs."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import DocumentError
from fenrik.core.frames import transform
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import box_mesh, joined_meshes, plate_mesh
from fenrik.core.setups.clamps import clamp_meshes, turn_about_z
from fenrik.core.setups.jaws import jaws_meshes, vice_meshes
from fenrik.core.setups.pieces import AnyPiece, Block, Clamp, FixturePlate, FixtureSolid, Jaws, Vice

Floats = NDArray[np.float64]
GAP_MM = 1.0
"""Room that paths keep beside what holds the stock, but for solids of a file (common practice, no source)."""


def fixture_mesh(
    pieces: Sequence[AnyPiece],
    solids: dict[str, TriangleMesh],
    stock: TriangleMesh,
    ground: float,
    gap: float = 0.0,
    first: int | None = None,
) -> TriangleMesh | None:
    """All of some pieces in their frame, larger by `gap` mm but for solids of a file; None where there are
    none. `solids` are the meshes of the files by the piece's name, in their own frames; `stock` is what they
    hold, as it stands, in the frame of the pieces, and `ground` the height on which clamps stand. With a
    `first` number the ids of the faces are the numbers of the pieces, from that on.

    Raises DocumentError for jaws or clamps that hold nothing and a vice that does not open so far."""
    made = [_meshes(piece, solids, stock, ground, gap) for piece in pieces]
    if first is not None:
        made = [[_numbered(m, first + i) for m in meshes] for i, meshes in enumerate(made)]
    return joined_meshes([m for meshes in made for m in meshes]) if made else None


def _numbered(mesh: TriangleMesh, number: int) -> TriangleMesh:
    return replace(mesh, face_ids=np.full(len(mesh.triangles), number, dtype=np.int32))


def _meshes(
    piece: AnyPiece, solids: dict[str, TriangleMesh], stock: TriangleMesh, ground: float, gap: float
) -> list[TriangleMesh]:
    """The closed meshes of which a piece is made; none goes into another."""
    if isinstance(piece, FixtureSolid):
        turn = turn_about_z(math.radians(piece.turn_deg))
        return [solids[piece.name].moved(transform(turn, piece.at))]
    if isinstance(piece, Jaws):
        return jaws_meshes(piece, stock, gap)
    if isinstance(piece, Vice):
        return vice_meshes(piece, stock, gap)
    if isinstance(piece, Clamp):
        return clamp_meshes(piece, stock, ground, gap)
    low, high = np.array(piece.low) - gap, np.array(piece.high) + gap
    if isinstance(piece, FixturePlate) and gap == 0.0:
        return [plate_mesh(low, high, piece.grid, piece.pitch, piece.width, piece.depth)]
    return [box_mesh(low, high)]


def check_blocks(pieces: Sequence[AnyPiece], low: Floats, high: Floats, where: str) -> None:
    """Raises DocumentError for a block that stands in the stock's box, or jaws that grip more than there
    is; all in the frame of the pieces."""
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

"""What holds the stock of a setup, drawn about it: the fixture that it is held in, and pieces of its own."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import DocumentError
from fenrik.core.frames import apply, invert
from fenrik.core.job.document.job import PartDoc, SetupDoc
from fenrik.core.job.workspace.workspace import Workspace
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import box_mesh, joined_meshes
from fenrik.core.setups.fixture import GAP_MM, check_blocks, fixture_mesh
from fenrik.core.setups.held_in import Fixture, HeldIn, Seated, seated
from fenrik.core.setups.pieces import AnyPiece, FixtureSolid
from fenrik.core.setups.setup import Clamped

Floats = NDArray[np.float64]


def with_fixture(workspace: Workspace, setup: SetupDoc, clamped: Clamped, where: str) -> Clamped:
    """A clamping with what holds it, and where that puts it on the table. Raises DocumentError for jaws,
    clamps or a vice that do not hold the stock as it stands, and for a block within it."""
    stock = clamped.stock_mesh or box_mesh(clamped.stock_low, clamped.stock_high)
    drawn: list[TriangleMesh] = []
    clear: list[TriangleMesh] = []
    names: list[str] = []
    if setup.held_in is not None:
        number, fixture = fixture_of(workspace, setup)
        path = f"fixtures[{number}].pieces"
        seat = _seat(fixture, setup.held_in, stock, f"{where}.held_in")
        clamped = replace(clamped, table_from_setup=seat.table_from_setup)
        here = stock.moved(invert(seat.setup_from_fixture))
        solids = _solids(workspace, fixture.pieces, path)
        names += [piece.name for piece in fixture.pieces]
        for into, gap, first in ((drawn, 0.0, 1), (clear, GAP_MM, None)):
            try:
                mesh = fixture_mesh(fixture.pieces, solids, here, 0.0, gap, first)
            except DocumentError as error:
                error.where = f"{where}.held_in"
                raise
            assert mesh is not None
            into.append(mesh.moved(seat.setup_from_fixture))
        if clamped.stock_mesh is None:
            check_blocks(fixture.pieces, *_box(clamped, seat), path)
    if setup.fixture:
        if clamped.stock_mesh is None:
            check_blocks(setup.fixture, clamped.stock_low, clamped.stock_high, f"{where}.fixture")
        solids = _solids(workspace, setup.fixture, f"{where}.fixture")
        ground = -float(clamped.table_from_setup[2])
        for into, gap, first in ((drawn, 0.0, len(names) + 1), (clear, GAP_MM, None)):
            try:
                mesh = fixture_mesh(setup.fixture, solids, stock, ground, gap, first)
            except DocumentError as error:
                error.where = f"{where}.fixture"
                raise
            assert mesh is not None
            into.append(mesh)
        names += [piece.name for piece in setup.fixture]
    if not drawn:
        return clamped
    whole = joined_meshes(drawn)
    key = hashlib.sha256(whole.vertices.tobytes() + whole.triangles.tobytes()).hexdigest()
    kept = joined_meshes(clear)
    return replace(clamped, fixture=whole, keep_clear=kept, fixture_key=key, fixture_pieces=tuple(names))


def fixture_of(workspace: Workspace, setup: SetupDoc) -> tuple[int, Fixture]:
    """The job's fixture in which a setup is held, with its number."""
    assert setup.held_in is not None
    name = setup.held_in.fixture
    return next((i, f) for i, f in enumerate(workspace.job.fixtures) if f.name == name)


def _seat(fixture: Fixture, held: HeldIn, stock: TriangleMesh, where: str) -> Seated:
    try:
        return seated(fixture, held, stock)
    except DocumentError as error:
        error.where = where
        raise


def _box(clamped: Clamped, seat: Seated) -> tuple[Floats, Floats]:
    """The box of the stock in the frame of its fixture."""
    mesh = box_mesh(clamped.stock_low, clamped.stock_high)
    corners = apply(invert(seat.setup_from_fixture), mesh.vertices)
    return corners.min(axis=0), corners.max(axis=0)


def _solids(workspace: Workspace, pieces: Sequence[AnyPiece], where: str) -> dict[str, TriangleMesh]:
    """The meshes of pieces that are solids of files, by the piece's name."""
    return {
        piece.name: workspace.model(
            PartDoc(file=piece.file, solid=piece.solid, scale=piece.scale), f"{where}[{i}].file"
        ).mesh
        for i, piece in enumerate(pieces)
        if isinstance(piece, FixtureSolid)
    }

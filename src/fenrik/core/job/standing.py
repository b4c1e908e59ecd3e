"""The stock as it stands before an operation by the planned paths, in the dexels of the proof."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.job.document import OperationDoc, SetupDoc
from fenrik.core.job.ports import Plans
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.pieces import UPRIGHT, upright_pieces
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.proof.adapting import parts_of_rows
from fenrik.core.proof.load import Load, loads
from fenrik.core.setups.setup import Clamped
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.heightmap import pieces_of

Floats = NDArray[np.float64]
ARC_MM = 0.002
MAX_NODES = 24_000_000


def raw_stock(clamped: Clamped, cell: float) -> Stock:
    """The stock before the first operation."""
    if clamped.stock_mesh is not None:
        return Stock.of_mesh(clamped.stock_mesh, cell)
    return Stock.of_box(clamped.stock_low, clamped.stock_high, cell)


def proof_cell(clamped: Clamped, wanted: float | None) -> float:
    """The proof's cell mm: as wanted, or from the size of the stock; never more nodes than memory bears."""
    size = clamped.stock_high - clamped.stock_low
    proposed = wanted or min(1.0, max(0.1, float(np.linalg.norm(size)) / 450))
    least = float((np.prod(size) / MAX_NODES) ** (1 / 3))
    return round(max(proposed, least), 4)


def path_pieces(
    path: Toolpath, setup_from_side: Floats, tolerance: float, longest: float | None = None
) -> tuple[Floats, NDArray[np.int32]]:
    """A side's path as straight pieces in the setup frame: (m, 6) while the tool stands upright there, else (m, 12) with tip
    and axis at both ends; and the move (m,) of each, counted from the path's second row."""
    pieces, owner = pieces_of(path, tolerance, longest)
    if np.abs(setup_from_side - np.eye(4)).max() < 1e-12:
        return pieces, owner
    ends = [apply(setup_from_side, pieces[:, :3]), apply(setup_from_side, pieces[:, 3:])]
    axis = setup_from_side[:3, 2]
    if axis[2] > UPRIGHT:
        return np.hstack(ends), owner
    leaning = np.tile(axis, (len(pieces), 1))
    return np.hstack([ends[0], leaning, ends[1], leaning]), owner


def thinning_on_parts(
    plans: Plans,
    setup: SetupDoc,
    operation: OperationDoc,
    path: Toolpath,
    owner: np.ndarray,
    longest: float,
    rpm: float,
) -> np.ndarray:
    """The thickest mean chip, over the feed per tooth, on every part (m,) of an operation's path, measured by cutting all
    before it and it in the pieces of at most `longest` mm in which the proof cuts. `owner` (m,) is the row of each part
    as `adapting.divided` gives it."""
    clamped = plans.clamped(setup)
    stock = plans.raw_dexels(setup, proof_cell(clamped, plans.job.proof.cell_mm))
    for earlier in plans.before(setup, operation):
        done = plans.made(setup, earlier)
        if done is not None and len(done) > 1:
            pieces, _ = path_pieces(done, plans.seen(setup, earlier.side).setup_from_side, ARC_MM)
            bodies = tool_bodies(plans.job.tool(earlier.tool))
            stock.cut(pieces, bodies, np.zeros(len(pieces), dtype=np.bool_), measured=False)
    pieces, move = path_pieces(path, plans.seen(setup, operation.side).setup_from_side, ARC_MM, longest)
    row = move.astype(np.int64) + 1
    tool, rapid = plans.job.tool(operation.tool), path.kind[row] == Motion.RAPID
    removal = stock.cut(pieces, tool_bodies(tool), rapid)
    feeds, speeds = np.maximum(path.feed[row], 1.0), np.full(len(row), rpm)
    load: Load = loads(pieces, rapid, feeds, speeds, removal, stock.cell, tool, plans.material(setup))
    out = np.zeros(len(owner))
    np.maximum.at(out, parts_of_rows(upright_pieces(pieces), row, owner), load.thinning)
    return out

"""The stock as it stands before an operation by the planned paths, in the dexels of the proof."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.job.document.job import OperationDoc
from fenrik.core.job.setups.raw import proof_cell
from fenrik.core.job.setups.setups import Setups
from fenrik.core.job.tasks.task import Task
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.pieces import UPRIGHT, placed_poses, upright_pieces
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.proof.adapting import parts_of_rows
from fenrik.core.proof.load import Load, loads
from fenrik.core.stock.dexels import tool_bodies
from fenrik.core.stock.heightmap import pieces_of

Floats = NDArray[np.float64]
ARC_MM = 0.002


def path_pieces(
    path: Toolpath, setup_from_side: Floats, tolerance: float, longest: float | None = None
) -> tuple[Floats, NDArray[np.int32]]:
    """A side's path as straight pieces in the setup frame: (m, 6) while the tool stands upright there, else
    (m, 12) with tip and axis at both ends; and the move (m,) of each, counted from the path's second row."""
    if path.turns_axis:
        poses, rows = path.moves.poses(tolerance, longest)
        own = rows > 0
        return placed_poses(poses[own], setup_from_side), rows[own] - 1
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
    setups: Setups,
    task: Task,
    before: list[tuple[OperationDoc, Toolpath]],
    path: Toolpath,
    owner: NDArray[np.int64],
    longest: float,
) -> Floats:
    """The thickest mean chip, over the feed per tooth, on every part (m,) of a task's path, measured by
    cutting all paths `before` it and it in the pieces of at most `longest` mm in which the proof cuts.
    `owner` (m,) is the row of each part as `adapting.divided` gives it."""
    setup, job = task.setup, setups.job
    stock = setups.raw_dexels(setup, proof_cell(setups.clamped(setup), job.proof.cell_mm))
    for earlier, done in before:
        if len(done) > 1:
            bodies = tool_bodies(job.tool(earlier.tool))
            for once in setups.repetitions(setup, earlier):
                pieces, _ = path_pieces(done, once.frame, ARC_MM)
                stock.cut(pieces, bodies, np.zeros(len(pieces), dtype=np.bool_), measured=False)
    matrix = setups.seen(setup, task.operation.side).setup_from_side
    pieces, move = path_pieces(path, matrix, ARC_MM, longest)
    row = move.astype(np.int64) + 1
    rapid = path.kind[row] == Motion.RAPID
    removal = stock.cut(pieces, tool_bodies(task.tool), rapid)
    feeds, speeds = np.maximum(path.feed[row], 1.0), np.full(len(row), task.spindle_rpm)
    load: Load = loads(pieces, rapid, feeds, speeds, removal, stock.cell, task.tool, task.material)
    out = np.zeros(len(owner))
    np.maximum.at(out, parts_of_rows(upright_pieces(pieces), row, owner), load.thinning)
    return out

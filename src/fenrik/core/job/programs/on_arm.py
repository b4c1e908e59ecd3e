"""How an arm holds the tool in every step of a program, and what it is told."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError, DocumentError, PostError
from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.arm_lines import Way, lines_of, with_ways
from fenrik.core.job.programs.plain_moves import check_plain_moves
from fenrik.core.job.programs.turning_to import Ordered
from fenrik.core.machines.arm import JOINTS
from fenrik.core.machines.cell import Cell
from fenrik.core.machines.holding import Held, Holding, held_along
from fenrik.core.posting.program import SidePose, Step

Floats = NDArray[np.float64]


def on_arm(paths: Paths, ordered: Ordered) -> Ordered:
    """The steps with what the arm is told in each. Raises DocumentError for an arm that does not reach, and
    PostError for what its program cannot say."""
    setup = ordered[0][0]
    if len({s.name for s, _, _ in ordered}) > 1:
        raise DocumentError(
            "Several setups in one program need a machine without rotary joints; "
            f"'{paths.setups.machine(setup).name}' is an arm.",
            remedy="Give each setup its own release.",
            where="releases",
        )
    return [(s, o, _held(paths, s, o, step)) for s, o, step in ordered]


def _held(paths: Paths, setup: SetupDoc, operation: OperationDoc, step: Step) -> Step:
    check_plain_moves(operation, step.path, "on an arm")
    on = paths.setups.on_machine(setup)
    cell = Cell(on, step.tool.gauge_length)
    frame = paths.setups.seen(setup, operation.side).setup_from_side
    own = operation.arm
    held = Held(
        None if own.search == "table" and cell.has_table else own.table_deg,
        None if own.search == "spin" or (own.search == "table" and not cell.has_table) else own.spin_deg,
    )
    way = Way.of(step.path, frame, operation.tolerance_mm)
    holding = held_along(cell, way.tips, way.axes, way.rapid, held)
    if not holding.holds.any():
        raise _unreachable(paths, setup, operation, cell, way, holding)
    try:
        lines = lines_of(cell, way, holding, step.tool.flute_length, operation.tolerance_mm)
    except ComputeError as error:
        raise PostError(f"'{operation.name}': {error.what}", remedy=error.remedy) from error
    moves = with_ways(cell, lines, way, holding)
    home = on.machine.at_home[on.machine.chain.rotary]
    return replace(step, side=SidePose(frame, on, home, False), arm=moves, held=_words(cell, holding))


def _words(cell: Cell, holding: Holding) -> str:
    """How an arm holds the tool, in words."""
    joints = holding.joints[:, -JOINTS:]
    postures = len(np.unique(holding.posture))
    names = [j.name for j in cell.on.machine.in_chain[-JOINTS:]]
    spans = ", ".join(
        f"{n} {low:.0f}° to {high:.0f}°"
        for n, low, high in zip(
            names, np.round(joints.min(axis=0)) + 0.0, np.round(joints.max(axis=0)) + 0.0, strict=True
        )
    )
    table = f"table {_span(holding.table)}, " if cell.has_table else ""
    kept = "one posture throughout" if postures == 1 else f"{postures} postures"
    back = "reaching over its back, " if (holding.posture >= 4).all() else ""
    return f"{table}spin {_span(holding.spin)}, {kept}: {back}{spans}"


def _span(values: Floats) -> str:
    low, high = float(values.min()), float(values.max())
    return f"at {low:g}°" if low == high else f"{low:.0f}° to {high:.0f}°"


def _unreachable(
    paths: Paths, setup: SetupDoc, operation: OperationDoc, cell: Cell, way: Way, holding: Holding
) -> DocumentError:
    """That the arm reaches no place of an operation, and what it lacks."""
    frames = cell.frames(way.axes, holding.table, holding.spin)
    lack = cell.lacking(way.tips, frames, holding.table)
    if (lack > 0.0).all():
        why = f"its wrist would have to come at least {lack.min():.0f} mm farther"
    elif (lack < 0.0).all():
        why = f"its wrist would have to come at least {-lack.max():.0f} mm nearer than it can"
    else:
        why = "some joint would have to turn beyond its range"
    return DocumentError(
        f"The arm of '{cell.on.machine.name}' reaches no place of '{operation.name}': {why}.",
        remedy="Place the part elsewhere on the table, turn the table, or let the spin be searched.",
        where=paths.tasks.where(setup, operation),
    )

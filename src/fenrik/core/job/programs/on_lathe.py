"""How a lathe with a driven tool brings every step of a program before its tool: by X and C."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError, DocumentError, PostError
from fenrik.core.frames import apply
from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.plain_moves import check_plain_moves
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.machines.polar import divided, nearest_to_axis
from fenrik.core.motion.pieces import UPRIGHT
from fenrik.core.posting.moving import MovingPoses
from fenrik.core.posting.program import SidePose, Step
from fenrik.core.posting.writing.dialect import Dialect, moving_dialects
from fenrik.core.tolerances import FOLLOW_RAPID_MM, FOLLOW_SHARE
from fenrik.core.units import format_length

Floats = NDArray[np.float64]
Ordered = list[tuple[SetupDoc, OperationDoc, Step]]


def on_lathe(paths: Paths, ordered: Ordered, dialect: Dialect) -> Ordered:
    """The steps with X, Z and C at every place. Raises DocumentError for an axis that leans, and PostError
    for a cut through the middle and for what a program of moves cannot say."""
    out: Ordered = []
    here = 0.0
    for setup, operation, step in ordered:
        frame = paths.setups.seen(setup, operation.side).setup_from_side
        on = paths.setups.on_machine(setup)
        if (step.path.moves.axis @ frame[:3, :3].T)[:, 2].min() < UPRIGHT:
            raise DocumentError(
                f"The machine '{on.machine.name}' works along its spindle's axis, and '{operation.name}' "
                "does not.",
                remedy="Take another side, or another machine.",
                where=paths.tasks.where(setup, operation),
            )
        _sayable(operation, step, dialect)
        moving = _poses(operation, step, frame, on, here, dialect)
        here = float(moving.angles[-1, 0])
        out.append(
            (setup, operation, replace(step, side=SidePose(frame, on, moving.angles[0], False, moving)))
        )
    return out


def _sayable(operation: OperationDoc, step: Step, dialect: Dialect) -> None:
    """Refuses what blocks of X, Z and C cannot say."""
    if dialect.moving != "machine":
        raise PostError(
            f"'{operation.name}' is driven by X and C, and the dialect '{dialect.id}' has no way to write "
            "that.",
            remedy=f"Use {' or '.join(moving_dialects('machine'))}.",
        )
    check_plain_moves(operation, step.path, "while C is driven")
    if any(c.dwell for c in step.path.cycles):
        raise PostError(
            f"'{operation.name}' stands at the bottom of its holes, which no block of X, Z and C says.",
            remedy="Drill without a dwell.",
        )


def _poses(
    operation: OperationDoc, step: Step, frame: Floats, on: OnMachine, here: float, dialect: Dialect
) -> MovingPoses:
    moves = step.path.moves
    allowed = FOLLOW_SHARE * operation.tolerance_mm
    chords, _ = moves.divided(moves.chords(allowed))
    tips = apply(frame, chords.tip)
    feed = np.minimum(chords.feed, on.machine.feed_max_mm_min)
    _keep_out_of_middle(operation, on, tips, np.where(chords.rapid, 0.0, feed))
    try:
        done = divided(on, tips, np.where(chords.rapid, FOLLOW_RAPID_MM, allowed), here)
    except ComputeError as error:
        raise PostError(f"'{operation.name}': {error.what}", remedy=error.remedy) from error
    angles = np.round(done.angles, dialect.angle_decimals)[:, None] + 0.0
    axes = np.tile([0.0, 0.0, 1.0], (len(done.tips), 1))
    inverse = dialect.feed_moving == "inverse_time"
    return MovingPoses(done.tips, axes, angles, chords.kind[done.owner], feed[done.owner], False, inverse)


def _keep_out_of_middle(operation: OperationDoc, on: OnMachine, tips: Floats, feed: Floats) -> None:
    """Refuses a cut so near the spindle's axis that the work cannot turn as fast as the feed asks; `feed`
    (n,) is 0 at rapid."""
    machine = on.machine
    fastest = np.radians(machine.speed[machine.place("C")])
    near = nearest_to_axis(on, tips)
    least = feed[1:] / fastest
    level = np.hypot(*np.diff(tips[:, :2], axis=0).T) > 1e-6  # straight in and out turns nothing
    wrong = np.flatnonzero(level & (near < least))
    if len(wrong):
        worst = int(wrong[np.argmin(near[wrong] - least[wrong])])
        raise PostError(
            f"'{operation.name}' cuts {format_length(float(near[worst]), 'mm')} mm from the axis of C, which "
            f"turns at {machine.speed[machine.place('C')]:.0f} °/min at most: for the feed of "
            f"{feed[worst + 1]:.0f} mm/min it has to stay {least[worst]:.3f} mm away.",
            remedy="Keep the tool out of the middle, take stock with a bore, or lower the feed.",
        )

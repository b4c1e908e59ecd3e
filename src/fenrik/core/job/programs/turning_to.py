"""How a machine with rotary joints stands for every step of a program."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError, DocumentError, PostError
from fenrik.core.frames import apply
from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.on_lathe import on_lathe
from fenrik.core.machines.following import Driving, followed, for_choice
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.pieces import UPRIGHT
from fenrik.core.posting.moving import MovingPoses
from fenrik.core.posting.program import SidePose, Step
from fenrik.core.posting.writing.dialect import Dialect, moving_dialects
from fenrik.core.tolerances import FOLLOW_RAPID_MM, FOLLOW_SHARE

Floats = NDArray[np.float64]
CUTTING = 1000.0
"""How much more the way of rotary joints counts where the tool cuts than where it is out."""
Ordered = list[tuple[SetupDoc, OperationDoc, Step]]


def on_sides(paths: Paths, ordered: Ordered, dialect: Dialect) -> Ordered:
    """The steps with their sides and the positions of the rotary joints, the quickest way through all of
    them; as they are on a machine without rotary joints.

    Raises DocumentError naming the side that the machine cannot reach and the joint that lacks.
    """
    setup = ordered[0][0]
    machine = paths.setups.machine(setup)
    if not machine.rotary:
        for s, operation, step in ordered:
            frame = seen_by(paths, s, operation, step)
            axes = step.path.moves.axis @ frame[:3, :3].T
            leaning = np.flatnonzero(axes[:, 2] < UPRIGHT)
            if len(leaning) or (operation.side is not None and np.abs(frame - np.eye(4)).max() > 1e-9):
                on = paths.setups.on_machine(s)
                axis = on.axes_in_work(axes[leaning[0] if len(leaning) else 0])
                raise _unreachable(paths, s, operation, axis)
        return ordered
    if len({s.name for s, _, _ in ordered}) > 1:
        raise DocumentError(
            f"Several setups in one program need a machine without rotary joints; '{machine.name}' has"
            f" {', '.join(j.letter or j.name for j in machine.rotary)}.",
            remedy="Give each setup its own release.",
            where="releases",
        )
    if machine.is_lathe:
        return on_lathe(paths, ordered, dialect)
    on = paths.setups.on_machine(setup)
    frames = [seen_by(paths, setup, operation, step) for _, operation, step in ordered]
    poses = [_needed(step, frame, on) for (_, _, step), frame in zip(ordered, frames, strict=True)]
    whole = on.axes_in_work(np.vstack([p.axes for p in poses]))
    weight = np.concatenate([p.weight for p in poses])
    free = np.full(len(machine.rotary), np.nan)
    given = [held_at(paths, setup, operation, step) for _, operation, step in ordered]
    held = np.vstack(
        [np.tile(free if at is None else at, (len(p.axes), 1)) for p, at in zip(poses, given, strict=True)]
    )
    positions, reached = machine.rotary_positions(whole, weight=weight, held=held)
    out: Ordered = []
    at, body = 0, paths.setups.safe_body(setup)
    for (s, operation, step), frame, mine in zip(ordered, frames, poses, strict=True):
        rows = slice(at, at + len(mine.axes))
        at = rows.stop
        if not reached[rows].all():
            raise _unreachable(paths, setup, operation, whole[rows][~reached[rows]][0], held[rows][0])
        if step.path.turns_axis:
            side = _moving(operation, step, mine, SidePose(frame, on, positions[rows], False), dialect)
        else:
            written = np.round(positions[rows][0], dialect.angle_decimals) + 0.0
            if dialect.tilted == "none" and np.any(written != 0.0):
                raise _wordless(paths, s, operation, written, dialect)
            as_plane = dialect.tilted == "plane" and operation.side is not None
            over = None if body is None else body.top
            side = SidePose(frame, on, written, as_plane, over=over)
        out.append((s, operation, replace(step, side=side)))
    return out


@dataclass(frozen=True)
class _Needed:
    """Poses that a step takes the tool through, setup frame: tips and axes (n, 3), the row (n,) of its path
    on whose way each lies, and how the way of the rotary joints to each weighs."""

    tips: Floats
    axes: Floats
    row: NDArray[np.int64]
    weight: Floats


def _needed(step: Step, setup_from_side: Floats, on: OnMachine) -> _Needed:
    """For an axis that does not move one direction, else those of all moves, divided where joints turn
    far."""
    moves = step.path.moves
    axes = moves.axis @ setup_from_side[:3, :3].T
    if not step.path.turns_axis:
        return _Needed(apply(setup_from_side, moves.tip[:1]), axes, np.zeros(1, dtype=np.int64), np.ones(1))
    cutting = ~moves.rapid
    row, share = for_choice(on.machine, on.axes_in_work(axes), cutting)
    tips, axes = moves.at(row, share, moves.sweeps()), moves.axes_at(row, share)
    weight = np.where(cutting[row], CUTTING, 1.0)
    weight[0] = 1.0
    return _Needed(apply(setup_from_side, tips), axes @ setup_from_side[:3, :3].T, row, weight)


def _moving(
    operation: OperationDoc, step: Step, needed: _Needed, pose: SidePose, dialect: Dialect
) -> SidePose:
    """A step on which the tool's axis moves, at the angles (n, r) of `pose`, divided so that its control
    stays with it."""
    if dialect.moving == "none":
        raise PostError(
            f"'{operation.name}' moves the tool's axis, and the dialect '{dialect.id}' has no way to write "
            "that.",
            remedy=f"Use {' or '.join(moving_dialects())}, or say in the dialect's 'moving' how it does.",
        )
    moves, point = step.path.moves, dialect.moving == "tool_point"
    how = Driving(pose.on, step.tool.gauge_length, point, step.tool.flute_length)
    tolerance = np.where(moves.rapid, FOLLOW_RAPID_MM, FOLLOW_SHARE * operation.tolerance_mm)[needed.row]
    try:
        cutting = ~moves.rapid[needed.row]
        done = followed(how, needed.tips, needed.axes, pose.angles, tolerance, cutting)
    except ComputeError as error:
        raise PostError(f"'{operation.name}': {error.what}", remedy=error.remedy) from error
    written = np.round(done.angles, dialect.angle_decimals) + 0.0
    rows = needed.row[done.owner]
    inverse = dialect.feed_moving == "inverse_time"
    # round a tight corner the tip is faster than the contact, but no faster than the machine takes
    feed = np.minimum(moves.feed[rows], pose.on.machine.feed_max_mm_min)
    poses = MovingPoses(done.tips, done.axes, written, moves.kind[rows], feed, point, inverse)
    return replace(pose, angles=written[0], moving=poses)


def _wordless(
    paths: Paths, setup: SetupDoc, operation: OperationDoc, angles: Floats, dialect: Dialect
) -> PostError:
    """That a dialect has no words for where the rotary joints have to stand."""
    machine = paths.setups.machine(setup)
    stand = ", ".join(f"{j.letter} {a:.3f}°" for j, a in zip(machine.rotary, angles.tolist(), strict=True))
    return PostError(
        f"'{operation.name}' has '{machine.name}' stand at {stand}, and the dialect '{dialect.id}' has no "
        "rotary words.",
        remedy="Use a dialect whose 'tilted' is plane or machine, or work from above only.",
    )


def seen_by(paths: Paths, setup: SetupDoc, operation: OperationDoc, step: Step) -> Floats:
    """The frame (4, 4) of a step's side in the setup, the work turned on where it is."""
    return paths.setups.seen(setup, operation.side).setup_from_side if step.frame is None else step.frame


def held_at(paths: Paths, setup: SetupDoc, operation: OperationDoc, step: Step) -> Floats | None:
    """Positions (r,) degrees at which the rotary joints have to stand for a step: those that its side is
    given by, or those of its side with the work turned on from there; None where any will do."""
    held = paths.setups.held(setup, operation.side)
    if step.turned is None:
        return held
    on = paths.setups.on_machine(setup)
    axis = paths.setups.seen(setup, operation.side).setup_from_side[:3, 2]
    given = None if held is None else held[None]
    at = on.machine.rotary_positions(on.axes_in_work(axis[None]), held=given)[0][0].copy()
    at[0] += step.turned  # the joint that carries the work is the first of the chain
    return np.asarray(at)


def _unreachable(
    paths: Paths, setup: SetupDoc, operation: OperationDoc, axis: Floats, at: Floats | None = None
) -> DocumentError:
    """That the machine cannot point the tool along an axis (3,) of the work's mount, where the joints have to
    stand `at` positions (r,) with them there (NaN: anywhere), and what it lacks."""
    machine = paths.setups.machine(setup)
    why = machine.why_not(axis, None if at is None or np.isnan(at).any() else at)
    remedy = "Clamp the part otherwise, take another side, or another machine."
    if operation.side is None:
        what = f"The machine '{machine.name}' cannot lean the tool as '{operation.name}' asks: {why}."
        return DocumentError(what, remedy=remedy, where=paths.tasks.where(setup, operation))
    why = why or "it is turned or shifted, which takes a machine with rotary joints"
    number = next(i for i, s in enumerate(setup.sides) if s.name == operation.side)
    return DocumentError(
        f"The machine '{machine.name}' cannot work from the side '{operation.side}' of '{setup.name}': "
        f"{why}.",
        remedy=remedy,
        where=f"{paths.setups.where(setup)}.sides[{number}]",
    )

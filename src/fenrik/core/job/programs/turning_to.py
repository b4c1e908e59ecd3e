"""How a machine with rotary joints stands for every step of a program."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fenrik.core.errors import DocumentError
from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.posting.program import SidePose, Step
from fenrik.core.posting.writing.dialect import Dialect

Ordered = list[tuple[SetupDoc, OperationDoc, Step]]


def on_sides(paths: Paths, ordered: Ordered, dialect: Dialect) -> Ordered:
    """The steps with their sides and the positions of the rotary joints, the quickest way through all of
    them; as they are on a machine without rotary joints.

    Raises DocumentError naming the side that the machine cannot reach and the joint that lacks.
    """
    setup = ordered[0][0]
    machine = paths.setups.machine(setup)
    if not machine.rotary:
        for s, operation, _ in ordered:
            if operation.side is not None and not _upright(paths, s, operation.side):
                raise _unreachable(paths, s, operation.side)
        return ordered
    if len({s.name for s, _, _ in ordered}) > 1:
        raise DocumentError(
            f"Several setups in one program need a machine without rotary joints; '{machine.name}' has"
            f" {', '.join(j.letter or j.name for j in machine.rotary)}.",
            remedy="Give each setup its own release.",
            where="releases",
        )
    on = paths.setups.on_machine(setup)
    frames = [paths.setups.seen(setup, operation.side).setup_from_side for _, operation, _ in ordered]
    axes = np.array([on.work_from_setup[:3, :3] @ frame[:3, 2] for frame in frames])
    positions, reached = machine.rotary_positions(axes)
    for (_, operation, _), ok in zip(ordered, reached, strict=True):
        if not ok:
            assert operation.side is not None
            raise _unreachable(paths, setup, operation.side)
    out: Ordered = []
    for (s, operation, step), frame, angles in zip(ordered, frames, positions, strict=True):
        written = np.round(angles, dialect.angle_decimals) + 0.0
        as_plane = dialect.tilted == "plane" and operation.side is not None
        out.append((s, operation, replace(step, side=SidePose(frame, on, written, as_plane))))
    return out


def _upright(paths: Paths, setup: SetupDoc, side: str) -> bool:
    return bool(np.abs(paths.setups.seen(setup, side).setup_from_side - np.eye(4)).max() < 1e-9)


def _unreachable(paths: Paths, setup: SetupDoc, side: str) -> DocumentError:
    machine, on = paths.setups.machine(setup), paths.setups.on_machine(setup)
    axis = on.work_from_setup[:3, :3] @ paths.setups.seen(setup, side).setup_from_side[:3, 2]
    why = machine.why_not(axis) or "it is turned or shifted, which takes a machine with rotary joints"
    number = next(i for i, s in enumerate(setup.sides) if s.name == side)
    return DocumentError(
        f"The machine '{machine.name}' cannot work from the side '{side}' of '{setup.name}': {why}.",
        remedy="Clamp the part otherwise, take another side, or another machine.",
        where=f"{paths.setups.where(setup)}.sides[{number}]",
    )

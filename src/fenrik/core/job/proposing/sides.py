"""Which sides of a setup its part needs, as its machine can reach them, and which one makes something."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.features.made import made_already
from fenrik.core.features.sides_needed import SideNeeded, sides_needed
from fenrik.core.frames import same_direction
from fenrik.core.job.document.job import SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proposing.recipes import free_name

STANDS = -0.85
"""Cosine to up below which a direction comes from where the work stands (common practice, no source)."""


def propose_sides(paths: Paths, setup: SetupDoc) -> list[SideNeeded]:
    """The sides that a setup needs besides its own and those that it has, see `sides_needed`. Raises
    DocumentError where the setup does not stand, ComputeError where the part is not readable."""
    setups, workspace = paths.setups, paths.workspace
    part, clamped, on = workspace.part(), setups.clamped(setup), setups.on_machine(setup)
    turn = (on.work_from_setup @ clamped.setup_from_part)[:3, :3]
    worked = [setups.seen(setup, s).setup_from_part[2, :3] for s in (None, *(s.name for s in setup.sides))]

    def why(direction: NDArray[np.float64]) -> str:
        if float(clamped.setup_from_part[2, :3] @ direction) < STANDS:
            return "the work stands on that side, which takes another clamping"
        return on.machine.why_not(turn @ direction)

    finished = made_already(part, part.mesh.moved(clamped.setup_from_part), clamped)
    found = sides_needed(part, workspace.holes(), workspace.features(), worked, why, finished)
    taken = [s.name for s in setup.sides]
    return [replace(side, name=free_name(side.name, taken)) for side in found]


def sides_towards(paths: Paths, setup: SetupDoc, directions: Sequence[Sequence[float]]) -> list[str | None]:
    """The sides of a setup, None for its own, whose tool stands along one of some directions (3,) of the
    part: those of the first direction first."""
    names = (None, *(s.name for s in setup.sides))
    ups = {name: paths.setups.seen(setup, name).setup_from_part[2, :3] for name in names}
    return [name for d in directions for name, up in ups.items() if same_direction(up, d)]

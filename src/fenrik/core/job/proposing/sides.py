"""Which further sides of a setup its part needs, as its machine can reach them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.features.made import made_already
from fenrik.core.features.sides_needed import Wanted, sides_needed
from fenrik.core.job.document.job import SetupDoc
from fenrik.core.job.paths.paths import Paths


def propose_sides(paths: Paths, setup: SetupDoc) -> list[Wanted]:
    """The sides that a setup needs besides its own and those that it has, see `sides_needed`. Raises
    DocumentError where the setup does not stand, ComputeError where the part is not readable."""
    setups, workspace = paths.setups, paths.workspace
    part, clamped, on = workspace.part(), setups.clamped(setup), setups.on_machine(setup)
    turn = (on.work_from_setup @ clamped.setup_from_part)[:3, :3]
    worked = [setups.seen(setup, s).setup_from_part[2, :3] for s in (None, *(s.name for s in setup.sides))]

    def why(direction: NDArray[np.float64]) -> str:
        return on.machine.why_not(turn @ direction)

    finished = made_already(part, part.mesh.moved(clamped.setup_from_part), clamped)
    return sides_needed(part, workspace.holes(), workspace.features(), worked, why, finished)

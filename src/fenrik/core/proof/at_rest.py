"""A tool that meets material while its spindle does not turn."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.proof.finding import Finding
from fenrik.core.proof.run import Run

LEAST_MM3 = 1e-3
"""What is taken out below this is a touch of rounding."""


def at_rest_findings(run: Run, volume: NDArray[np.float64]) -> list[Finding]:
    """One *stop* for every operation whose tool takes `volume` (n,) mm³ out of the stock in a move with the
    spindle at rest, at the first of them."""
    motion = run.motion
    meets = (motion.spindle == 0.0) & (volume > LEAST_MM3)
    out = []
    for step, name in enumerate(run.names):
        mine = np.flatnonzero(meets & (run.step_of == step))
        if not len(mine):
            continue
        first = int(mine[0])
        how = "at rapid " if motion.rapid[first] else ""
        out.append(
            Finding(
                "stop",
                "at_rest",
                f"The tool of '{name}' goes {how}into the stock with the spindle at rest.",
                "Start the spindle before it, or keep the tool clear of the stock.",
                operation=name,
                measure=float(volume[mine].sum()),
                bodies=("cutter", "stock"),
                **run.at(first),
            )
        )
    return out

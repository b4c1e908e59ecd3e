"""Whether a joint leaves its travel on the way in and out of the cut alone, so that shorter leads do."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.job.proving.evidence import Evidence
from fenrik.core.motion.moves import Motion

Floats = NDArray[np.float64]
SAME = 1e-6


def in_leads_alone(evidence: Evidence, finding: dict[str, Any]) -> bool:
    """Whether no cut of the operation of an overtravel reaches beyond the end of travel that it names; on
    machines without rotary joints, others: no."""
    machine = evidence.on.machine
    if machine.rotary or machine.is_arm or finding["limit"] is None:
        return False
    cuts = [
        (step.path.tip[np.isin(step.path.kind, (Motion.FEED, Motion.ENTRY))], step.tool.gauge_length)
        for step in evidence.posted.program.steps
        if step.name == finding["operation"]
    ]
    if not any(len(tips) for tips, _ in cuts):
        return False
    values = np.concatenate(
        [
            machine.joint_values(apply(evidence.on.work_from_setup, tips), np.zeros((len(tips), 0)), length)
            for tips, length in cuts
        ]
    )
    limit, upper = finding["limit"], finding["measure"] > finding["limit"]
    ends = machine.high if upper else machine.low
    mine = np.abs(ends - limit) < SAME
    beyond = values[:, mine] - limit if upper else limit - values[:, mine]
    return bool(mine.any() and (beyond <= SAME).all())

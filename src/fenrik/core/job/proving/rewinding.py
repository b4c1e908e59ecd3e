"""Where a rotary joint has to turn back in a program, since its range ends."""

from __future__ import annotations

import numpy as np

from fenrik.core.job.proving.evidence import Evidence
from fenrik.core.machines.choosing import rewinds
from fenrik.core.proof.finding import Finding


def turning_back(evidence: Evidence) -> list[Finding]:
    """A note for every index move that goes the long way round. The tool is out there."""
    machine = evidence.on.machine
    turned = [(s.name, s.side.angles) for s in evidence.posted.program.steps if s.side is not None]
    out = []
    for found in rewinds(np.array([angles for _, angles in turned]), machine.rotary_limits):
        joint, (name, _) = machine.rotary[found.joint], turned[found.at]
        way = f"from {found.begin:g}° to {found.end:g}°"
        why = f"{found.nearer:g}° lies beyond its range, {_end(joint.low)} to {_end(joint.high)}"
        words = f"{joint.letter or joint.name} turns back {way} before '{name}', since {why}."
        remedy = "Change the order of the sides, or turn the part on the machine, where the time matters."
        out.append(Finding("note", "rewind", words, remedy, operation=name))
    return out


def _end(value: float | None) -> str:
    return "no end" if value is None else f"{value:g}°"

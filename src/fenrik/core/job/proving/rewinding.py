"""Where a rotary joint has to turn back in a program, since its range ends."""

from __future__ import annotations

import numpy as np

from fenrik.core.job.proving.evidence import Evidence
from fenrik.core.machines.choosing import rewinds
from fenrik.core.proof.finding import Finding


def turning_back(evidence: Evidence) -> list[Finding]:
    """A note for every index move that goes the long way round. The tool is out there."""
    machine = evidence.on.machine
    steps = [step for step in evidence.posted.program.steps if step.side is not None]
    if not machine.rotary or len(steps) < 2:
        return []
    positions = np.array([step.side.angles for step in steps if step.side is not None])
    out = []
    for found in rewinds(positions, machine.rotary_limits):
        joint, name = machine.rotary[found.joint], steps[found.at].name
        way = f"from {found.begin:g}° to {found.end:g}°"
        why = f"{found.nearer:g}° lies beyond its range, {_end(joint.low)} to {_end(joint.high)}"
        words = f"{joint.letter or joint.name} turns back {way} before '{name}', since {why}."
        remedy = "Change the order of the sides, or turn the part on the machine, where the time matters."
        out.append(Finding("note", "rewind", words, remedy, operation=name))
    return out


def _end(value: float | None) -> str:
    return "no end" if value is None else f"{value:g}°"

"""Where a rotary joint has to turn back in a program, since its range ends."""

from __future__ import annotations

import numpy as np

from fenrik.core.job.proving.evidence import Evidence
from fenrik.core.machines.choosing import rewinds
from fenrik.core.motion.moves import Motion
from fenrik.core.proof.finding import Finding


def turning_back(evidence: Evidence) -> list[Finding]:
    """A note for every move that goes the long way round while the tool is out, and a stop where it cuts."""
    machine = evidence.on.machine
    if machine.is_arm:  # its joints are led by the control, and held to their ranges where they are driven
        return []
    names: list[str] = []
    angles, cuts = [np.zeros((0, len(machine.rotary)))], [np.zeros(0, dtype=np.bool_)]
    for step in evidence.posted.program.steps:
        if step.side is None:
            continue
        moving = step.side.moving
        angles.append(step.side.angles[None] if moving is None else moving.angles)
        cuts.append(np.zeros(1, dtype=np.bool_) if moving is None else moving.kind != Motion.RAPID)
        names += [step.name] * len(angles[-1])
    out, cutting = [], np.concatenate(cuts)
    for found in rewinds(np.concatenate(angles), machine.rotary_limits):
        joint, name = machine.rotary[found.joint], names[found.at]
        way = f"from {found.begin:g}° to {found.end:g}°"
        why = f"{found.nearer:g}° lies beyond its range, {_end(joint.low)} to {_end(joint.high)}"
        inside = names[found.at - 1] == name
        letter, when = joint.letter or joint.name, "in" if inside else "before"
        if inside and cutting[found.at]:
            words = f"{letter} would have to turn back {way} in '{name}', since {why}."
            remedy = "Turn the part on the table, or cut the wall in two operations."
            out.append(Finding("stop", "rewind", f"{words} The tool cuts meanwhile.", remedy, operation=name))
            continue
        words = f"{letter} turns back {way} {when} '{name}', since {why}."
        remedy = "Change the order of the sides, or turn the part on the machine, where the time matters."
        out.append(Finding("note", "rewind", words, remedy, operation=name))
    return out


def _end(value: float | None) -> str:
    return "no end" if value is None else f"{value:g}°"

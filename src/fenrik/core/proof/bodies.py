"""Findings about bodies of machine, tool, fixture and stock that meet or pass each other closely."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from fenrik.core.machines.solids import TOOL
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.run import Run

SPINDLE_SIDE = ("spindle nose", "head", "holder", "shank", "cutter")
WORK = ("stock", "fixture")


@dataclass(frozen=True)
class Meeting:
    """Two bodies that come nearer than asked for in a step: their names, the least `distance` mm (0: they
    meet, here for the first time), the `move` of the run, the share of its time, the `place` (3,) in the
    setup frame, and by how much mm `longer` a stick-out parts them, None where that was not found. At the
    change of the tool before the move it is `ahead_s` seconds before the move begins, else None. `piece`
    names the piece of a fixture that has several."""

    step: int
    bodies: tuple[str, str]
    distance: float
    move: int
    share: float
    place: tuple[float, float, float]
    longer: float | None = None
    ahead_s: float | None = None
    piece: str = ""


def body_findings(run: Run, met: Sequence[Meeting], near: float) -> list[Finding]:
    """A *stop* for bodies that meet, a caution for those that pass nearer than `near` mm, each once for an
    operation and a pair."""
    return [_finding(run, m, near) for m in met]


def _finding(run: Run, m: Meeting, near: float) -> Finding:
    one, two = (name + m.piece if name == "fixture" else name for name in m.bodies)
    operation = run.names[m.step]
    x, y, z = m.place
    place = f"({x:.2f}, {y:.2f}, {z:.2f})"
    motion = run.motion
    turning = motion.turning is not None and bool(motion.turning.aside[m.move])
    how = "on the way between sides " if turning else "at rapid " if motion.rapid[m.move] else ""
    begin = float(run.begin[m.move])
    time = begin + m.share * float(run.times[m.move])
    if m.ahead_s is not None:
        how, time = "at the change of the tool ", begin - m.ahead_s
    tool = run.tools.get(int(motion.tool[m.move]))
    offer = None
    if tool is not None and m.longer is not None:
        offer = {"tool": {"stick_out": round(tool.stick_out + m.longer, 1)}}
    moment = run.moment(m.move) | {"time_s": time}
    if m.distance > 0.0:
        words = (
            f"The {one} passes the {two} {how}in '{operation}' at a distance of {m.distance:.2f} mm, near "
            f"{place}."
        )
        return Finding(
            "caution",
            "near_miss",
            words,
            "Look whether both are as drawn; " + _remedy(m),
            operation=operation,
            place=m.place,
            measure=m.distance,
            limit=near,
            bodies=m.bodies,
            offer=offer,
            **moment,
        )
    return Finding(
        "stop",
        "collision",
        f"The {one} runs {how}into the {two} in '{operation}', first near {place}.",
        _remedy(m).capitalize(),
        operation=operation,
        place=m.place,
        measure=0.0,
        limit=near,
        bodies=m.bodies,
        offer=offer,
        **moment,
    )


def _remedy(m: Meeting) -> str:
    """What would part two bodies."""
    bodies = m.bodies
    if m.ahead_s is not None:
        return (
            "place the work elsewhere on the table, or hold it otherwise: the machine changes its tool there."
        )
    spindle = [b for b in bodies if b.split(" on ")[0] in SPINDLE_SIDE]
    other = [b for b in bodies if b not in spindle]
    if spindle and other and other[0] in WORK:
        return "use a longer stick-out or a slimmer holder, or hold the work otherwise."
    if spindle and not set(spindle) & set(TOOL):
        return "use a longer stick-out, or set the work higher or elsewhere on the table."
    if spindle:
        return "set the work higher or elsewhere on the table, or work from another side."
    return "place the work elsewhere on the table, or hold it otherwise."

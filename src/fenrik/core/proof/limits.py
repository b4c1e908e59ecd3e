"""Checks of motion against the machine: travel, feed, spindle."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines.chain import Joint
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.run import Run
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]


ROUNDED = 0.01
"""Share by which the tip may seem faster where joints turn: its feed follows there from times and places that
are rounded when they are written."""
OTHERWISE_HELD = (
    "Let the spin be searched, hold another spin or another angle of the table, or place the part \
elsewhere on it."
)
SPARE_MM = 1.0
"""Room that is left to the end of a joint where the work is placed anew."""
TURNS = 4
"""So many whole turns to both sides are tried for a rotary joint that is beyond its end."""
OUT_OF_STEP = 1e-3
"""Share by which a tap's feed may differ from pitch times speed."""


def limit_findings(run: Run, on: OnMachine) -> list[Finding]:
    """Travel, feed and spindle speed beyond the machine's, each once per joint and tool with its worst place.
    `on` is where the setup stands on its machine."""
    motion = run.motion
    machine = on.machine
    findings: list[Finding] = []
    if len(motion) == 0:
        return findings
    for number in np.unique(motion.tool):
        tool = run.tools.get(int(number))
        rows = np.flatnonzero(motion.tool == number)
        if tool is None:
            i = int(rows[0])
            findings.append(
                Finding(
                    "stop",
                    "tool",
                    f"The program calls tool {number}, which the job does not have.",
                    "Add the tool or change its number.",
                    move=i,
                    line=int(motion.line[i]),
                )
            )
            continue
        findings += _travel(run, rows, tool, on)
        findings += _spindle(run, rows, tool, machine)
        findings += _in_step(run, rows, tool)
    most = np.full(len(motion), machine.feed_max_mm_min + 1e-6)
    if motion.turning is not None:
        most[motion.turning.owner] *= 1.0 + ROUNDED
    over = np.flatnonzero(~motion.rapid & (motion.feed > most))
    if len(over):
        i = int(over[np.argmax(motion.feed[over])])
        findings.append(
            Finding(
                "stop",
                "feed",
                f"The feed of {motion.feed[i]:.0f} mm/min is above the machine's "
                f"{machine.feed_max_mm_min:.0f}.",
                "Lower the operation's feed.",
                measure=float(motion.feed[i]),
                limit=machine.feed_max_mm_min,
                **run.at(i),
            )
        )
    return findings


def _offer(run: Run, on: OnMachine, joint: Joint) -> dict[str, dict[str, float]] | None:
    """How far the work is to be moved for a joint to stay within its travel, None where that is not known."""
    moved = _placings(run, on).get(joint.name)
    return None if moved is None else {"placement_by": moved}


def _placings(run: Run, on: OnMachine) -> dict[str, dict[str, float]]:
    """For every joint, by its name, that a program takes beyond an end: how far along X, Y or Z of the table
    the work is to be moved, mm, for all of the program to lie within; on machines without rotary joints."""
    machine = on.machine
    if machine.rotary or machine.is_arm:
        return {}
    lengths = {number: tool.gauge_length for number, tool in run.tools.items()}
    start, end, _, _ = on.driven(run.motion, lengths, 0.02)
    least, most = np.minimum(start, end).min(axis=0), np.maximum(start, end).max(axis=0)
    here = machine.joint_values(np.zeros((1, 3)), np.zeros((1, 0)), 0.0)
    out = {}
    for axis, name in enumerate("xyz"):
        step = machine.joint_values(np.eye(3)[axis : axis + 1], np.zeros((1, 0)), 0.0) - here
        joint = int(np.argmax(np.abs(step[0])))
        if abs(abs(step[0, joint]) - 1.0) > 1e-9:
            continue  # several joints go along this direction
        low, high = machine.low[joint] + SPARE_MM, machine.high[joint] - SPARE_MM
        first, last = float(least[joint]), float(most[joint])
        if low - SPARE_MM <= first and last <= high + SPARE_MM:
            continue
        if last - first <= high - low:
            way = low - first if first < low else high - last
            out[machine.in_chain[joint].name] = {name: round(float(way * step[0, joint]), 3)}
    return out


def _travel(run: Run, rows: NDArray[np.int64], tool: Assembly, on: OnMachine) -> list[Finding]:
    """Joints beyond their ends; places between the ends of straight pieces lie between them for linear
    joints."""
    start, end, owner, seconds = on.driven(run.motion.rows(rows), {tool.number: tool.gauge_length}, 0.02)
    values, owners = np.concatenate([start, end]), np.concatenate([owner, owner])
    findings = _too_fast(run, rows[owner], np.abs(end - start), seconds, on)
    for i, joint in enumerate(on.machine.in_chain):
        for beyond, limit, side in (
            (on.machine.low[i] - values[:, i], on.machine.low[i], "lower"),
            (values[:, i] - on.machine.high[i], on.machine.high[i], "upper"),
        ):
            worst = int(np.argmax(beyond))
            if beyond[worst] <= 1e-6:
                continue
            move = int(rows[owners[worst]])
            findings.append(
                Finding(
                    "stop",
                    "travel",
                    _beyond(joint, tool, float(beyond[worst]), side, float(limit)),
                    _back(joint, values[:, i], float(values[worst, i]), tool, on.machine),
                    measure=float(values[worst, i]),
                    limit=float(limit),
                    offer=_offer(run, on, joint),
                    **run.at(move),
                )
            )
    return findings


def _back(joint: Joint, values: Floats, worst: float, tool: Assembly, machine: Machine) -> str:
    """What would bring a joint, which takes `values` (m,) while a tool is in the spindle, back into its
    travel."""
    if machine.is_arm:
        return OTHERWISE_HELD
    if joint.kind == "linear":
        return "Place the work elsewhere on the table, change the stick-out, or take a larger machine."
    low = -np.inf if joint.low is None else joint.low
    high = np.inf if joint.high is None else joint.high
    name = joint.letter or joint.name
    for turns in sorted(range(-TURNS, TURNS + 1), key=abs):
        if low <= values.min() + 360.0 * turns and values.max() + 360.0 * turns <= high:
            return f"Another winding: {360 * turns:+d}° on every {name} of tool {tool.number} stays within."
        if low <= worst + 360.0 * turns <= high:
            same = f"{name}{worst + 360.0 * turns:g} points the same way as {name}{worst:g}"
            return f"{same}: turn back by {abs(360 * turns)}° with the tool out, before it gets there."
    return "Turn the part on the table, or take a machine whose joint turns farther."


def _too_fast(
    run: Run, moves: NDArray[np.int64], ways: Floats, seconds: Floats, on: OnMachine
) -> list[Finding]:
    """Joints that would have to go faster than they can for the feed that the text asks for: the tool then
    goes slower there. `ways` (m, n) of the joints on pieces of moves (m,) that last so many seconds (m,)."""
    out = []
    asked = np.flatnonzero(seconds > 0.0)
    for i, joint in enumerate(on.machine.in_chain):
        if not len(asked):
            break
        speed = 60.0 * ways[asked, i] / seconds[asked]
        worst = int(np.argmax(speed))
        if speed[worst] <= on.machine.speed[i] * (1.0 + 1e-6):
            continue
        move, name = int(moves[asked[worst]]), joint.letter or joint.name
        unit = "°/min" if joint.kind == "rotary" else "mm/min"
        what = f"{name} would have to go {speed[worst]:.0f} {unit} for the feed; it goes {joint.speed:.0f}"
        share = 100.0 * on.machine.speed[i] / speed[worst]
        out.append(
            Finding(
                "caution",
                "joint_speed",
                f"{what}: the tool cuts at down to {share:.0f} % of its feed there.",
                OTHERWISE_HELD
                if on.machine.is_arm
                else "Turn the part on the table so that the tool stays off the rotary joint's own "
                "direction, or lower the feed.",
                measure=float(speed[worst]),
                limit=float(joint.speed),
                **run.at(move),
            )
        )
    return out


def _beyond(joint: Joint, tool: Assembly, beyond: float, side: str, limit: float) -> str:
    name = joint.letter or joint.name
    if joint.kind == "rotary":
        return f"Tool {tool.number} turns {name} {beyond:.2f}° beyond its {side} end ({limit:g}°)."
    what = "the gauge line of the spindle" if name == "Z" else "the spindle"
    return (
        f"Tool {tool.number} takes {what} {beyond:.2f} mm beyond the {side} end of {name} ({limit:.1f} "
        "over the table)."
    )


def _in_step(run: Run, rows: NDArray[np.int64], tool: Assembly) -> list[Finding]:
    """A tap whose feed is not its pitch times the speed tears its thread."""
    if tool.kind != "tap" or tool.thread_pitch is None:
        return []
    motion = run.motion
    wanted = np.abs(motion.spindle[rows]) * tool.thread_pitch
    bad = np.flatnonzero(~motion.rapid[rows] & (np.abs(motion.feed[rows] - wanted) > OUT_OF_STEP * wanted))
    if not len(bad):
        return []
    i = int(rows[bad[0]])
    return [
        Finding(
            "stop",
            "feed",
            f"Tap T{tool.number} moves at {motion.feed[i]:.1f} mm/min; its pitch of {tool.thread_pitch:g} "
            f"mm asks for {wanted[bad[0]]:.1f} at this speed.",
            "Leave the operation's feed open.",
            measure=float(motion.feed[i]),
            limit=float(wanted[bad[0]]),
            **run.at(i),
        )
    ]


def _spindle(run: Run, rows: NDArray[np.int64], tool: Assembly, machine: Machine) -> list[Finding]:
    motion = run.motion
    speed = np.abs(motion.spindle[rows])
    low, high = machine.spindle_rpm
    bad = np.flatnonzero((speed > high + 0.5) | ((speed < low - 0.5) & ~motion.rapid[rows]))
    if not len(bad):
        return []
    i = int(rows[bad[0]])
    return [
        Finding(
            "stop",
            "spindle",
            f"Tool {tool.number} turns at {abs(motion.spindle[i]):.0f} 1/min; the machine's spindle runs from"
            f" {low:.0f} to {high:.0f}.",
            "Change the spindle speed.",
            measure=float(abs(motion.spindle[i])),
            limit=low if abs(motion.spindle[i]) < low else high,
            **run.at(i),
        )
    ]

"""The way of a machine to where its tool is changed, and on to where the next operation begins."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines.machine import Machine

Floats = NDArray[np.float64]
SHARES = np.array([0.0, 0.12, 0.28, 0.35, 0.65, 0.72, 0.88, 1.0])
"""When the machine is at each row of its way, as shares of the time of a change; it stands still in the
middle third (common practice, no source)."""
AT = 3
"""The row at which the tool is changed, and the leg on which the machine stands: the old tool is in the
spindle up to it, the new one after it."""
BY_Z = (0, 6)
"""Legs on which Z alone moves beside the work: up from it, and down to it."""


def way_to_change(machine: Machine, before: Floats | None, after: Floats) -> Floats:
    """Joint values (8, n), in the chain's order, of a change of the tool between the place where an operation
    ended (`before`, None for the first of a program: the tool is then put in where the machine stands for it)
    and that where the next begins (`after`).

    Z goes up, to where it changes or where it is if that is higher; the joints that `Machine.tool_change_at`
    names go to their places; Z to its own; and back the same way. On an arm and on machines without a Z that
    ends, the tool is changed where it is.
    """
    start = after if before is None else before
    top = change_height(machine)
    if top is None:
        return np.stack([*[start] * (AT + 2), *[after] * (len(SHARES) - AT - 2)])
    z = machine.place("Z")
    up, over, there = start.copy(), after.copy(), start.copy()
    up[z], over[z] = max(start[z], top), max(after[z], top)
    for name, value in machine.tool_change_at.items():
        there[machine.chain.names.index(name)] = value
    there[z] = top
    beside, back = there.copy(), there.copy()
    beside[z], back[z] = up[z], over[z]
    to = [there] * AT if before is None else [start, up, beside]
    return np.stack([*to, there, there, back, over, after])


def change_height(machine: Machine) -> float | None:
    """Where Z stands while a tool is changed, mm: where the machine says, else at its upper end; None where
    there is none."""
    letters = {j.letter: j for j in machine.in_chain}
    if machine.is_arm or "Z" not in letters:
        return None
    joint = letters["Z"]
    top = machine.tool_change_at.get(joint.name, joint.high)
    return None if top is None else float(top)

"""The way of a machine to where its tool is changed, and on to where the next operation begins."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines.machine import Machine

Floats = NDArray[np.float64]
AT = 3
"""The row of a way at which the tool is changed; until there it is the old one."""


def way_to_change(machine: Machine, before: Floats | None, after: Floats) -> Floats:
    """Joint values (7, n), in the chain's order, of a change of the tool between the place where an operation
    ended (`before`, None for the first of a program: the tool is then put in where the machine stands for it)
    and that where the next begins (`after`).

    Z goes up, to where it changes or where it is if that is higher; the joints that `Machine.change` names
    go to their places; Z to its own; and back the same way. On an arm and on machines without a Z that ends,
    the tool is changed where it is.
    """
    start = after if before is None else before
    top = change_height(machine)
    if top is None:
        return np.stack([start, start, start, start, after, after, after])
    z = machine.place("Z")
    up, over, there = start.copy(), after.copy(), start.copy()
    up[z], over[z] = max(start[z], top), max(after[z], top)
    for name, value in machine.change.items():
        there[machine.chain.names.index(name)] = value
    there[z] = top
    beside, back = there.copy(), there.copy()
    beside[z], back[z] = up[z], over[z]
    if before is None:
        return np.stack([there, there, there, there, back, over, after])
    return np.stack([start, up, beside, there, back, over, after])


def change_height(machine: Machine) -> float | None:
    """Where Z stands while a tool is changed, mm: where the machine says, else at its upper end; None where
    there is none."""
    letters = {j.letter: j for j in machine.in_chain}
    if machine.is_arm or "Z" not in letters:
        return None
    joint = letters["Z"]
    top = machine.change.get(joint.name, joint.high)
    return None if top is None else float(top)

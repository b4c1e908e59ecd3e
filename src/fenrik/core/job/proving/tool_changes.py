"""Bodies at the changes of the tool: on the way to where it is changed, there, and on the way back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache

import numpy as np
from numpy.typing import NDArray

from fenrik.core.job.proving.world import FIXTURE, STOCK, World
from fenrik.core.machines.changing import AT, BY_Z, way_to_change
from fenrik.core.machines.collision import Motion, Near, Pair, nearest
from fenrik.core.machines.solids import Solid

Floats = NDArray[np.float64]
Tick = Callable[[], None]


def way_of(world: World, moves: NDArray[np.int64]) -> Floats | None:
    """The way (8, n) of all joints of the machine, in its order, from the end of the operation before to the
    begin of some moves of the run; None where no tool is changed before them."""
    number = world.run.motion.tool
    if not len(moves):
        return None
    first = int(moves[0])
    if first > 0 and number[first] == number[first - 1]:
        return None
    after = world.in_chain(moves[:1])[0][0]
    before = world.in_chain(np.array([first - 1]))[1][-1] if first > 0 else None
    return world.tree.every(way_to_change(world.on.machine, before, after))


def near_on_way(
    world: World, step: int, way: Floats, numbers: tuple[int, int], tick: Tick
) -> list[tuple[Near, Motion, int]]:
    """What comes nearer than asked for on a way to the change of the tool, each with the motion and the leg,
    with the tools of both `numbers`: that until the change, and that after it."""

    @cache
    def stock_before() -> Solid:
        return world.stock_before(step)

    out = []
    for leg in range(len(way) - 1):
        motion, pairs = Motion(way[leg : leg + 1], way[leg + 1 : leg + 2]), list[Pair]()
        if leg == AT:
            pairs = world.changing(world.stock_box)
        elif not np.array_equal(way[leg], way[leg + 1]):
            tool = world.run.tools.get(numbers[0] if leg < AT else numbers[1])
            pairs = _moving(world, [] if tool is None else world.tool(tool), leg)
        for pair in pairs:
            near = nearest(pair, motion, world.asked.near_mm, tick)
            if near is not None and STOCK in pair.names:  # that was the box about it
                on_first = pair.first.name == STOCK
                first, second = (stock_before(), pair.second) if on_first else (pair.first, stock_before())
                exact = replace(pair, first=first, second=second)
                near = nearest(exact, motion, world.asked.near_mm, tick)
            if near is not None:
                out.append((near, motion, leg))
    return out


def _moving(world: World, tool: list[Solid], leg: int) -> list[Pair]:
    """The pairs that are looked at on a leg. Where Z alone moves beside the work, the tool leaves the cut as
    it stood in it or comes to it: against stock and fixture that is the cutting proof's."""
    pairs = world.switched_on([*world.standing, *tool, world.stock_box])
    if leg not in BY_Z:
        return pairs
    return [p for p in pairs if not (p.names & {STOCK, FIXTURE} and p.names & world.cut_by)]

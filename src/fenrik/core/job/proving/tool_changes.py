"""Bodies at the changes of the tool: on the way to where it is changed, there, and on the way back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.job.proving.world import FIXTURE, STOCK, World
from fenrik.core.machines.changing import AT, way_to_change
from fenrik.core.machines.collision import Motion, Near, Pair, nearest, pairs_of
from fenrik.core.machines.solids import Solid

Floats = NDArray[np.float64]
Tick = Callable[[], None]
ALONG = (0, 5)
"""Legs of a way on which Z alone moves: up from the work, and down to it."""


def way_of(world: World, moves: NDArray[np.int64]) -> Floats | None:
    """The way (7, n) of all joints of the machine, in its order, from the end of the operation before to the
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
) -> list[tuple[Near, Motion]]:
    """What comes nearer than asked for on a way to the change of the tool, with the tools of both `numbers`:
    that until the change, and that after it. On the legs along which Z alone moves the tool goes as the cut
    left it or comes to it, which is the cutting proof's."""
    box = world.stock_box
    out = []
    for number, legs in ((numbers[0], range(AT)), (numbers[1], range(AT, len(way) - 1))):
        tool = world.tool(world.run.tools[number]) if number in world.run.tools else []
        solids = [*world.standing, *tool, box]
        for leg in legs:
            motion = Motion(way[leg : leg + 1], way[leg + 1 : leg + 2])
            if np.array_equal(way[leg], way[leg + 1]):
                continue
            out += _seen(world, step, motion, _moving(world, solids, leg in ALONG), tick)
    there = Motion(way[AT : AT + 1], way[AT : AT + 1])
    return out + _seen(world, step, there, world.changing(box), tick)


def _moving(world: World, solids: list[Solid], along: bool) -> list[Pair]:
    """The pairs that are looked at on a leg."""
    off = {frozenset(pair) for pair in world.asked.bodies_off}
    pairs = [p for p in pairs_of(world.tree, solids) if frozenset((p.first.name, p.second.name)) not in off]
    if not along:
        return pairs
    return [
        p
        for p in pairs
        if not ({p.first.name, p.second.name} & {STOCK, FIXTURE})
        or not ({p.first.name, p.second.name} & world.cut_by)
    ]


def _seen(
    world: World, step: int, motion: Motion, pairs: list[Pair], tick: Tick
) -> list[tuple[Near, Motion]]:
    """What of some pairs comes near, with the motion; where a box about the stock does, the stock is looked
    at."""
    out = []
    for pair in pairs:
        near = nearest(pair, motion, world.asked.near_mm, tick)
        if near is not None and STOCK in (pair.first.name, pair.second.name):
            stock = world.stock_before(step)
            on_first = pair.first.name == STOCK
            exact = replace(pair, first=stock) if on_first else replace(pair, second=stock)
            near = nearest(exact, motion, world.asked.near_mm, tick)
        if near is not None:
            out.append((near, motion))
    return out

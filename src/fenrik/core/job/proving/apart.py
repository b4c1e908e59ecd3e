"""How far what goes with the tool and what goes with the work are apart along a program, looked at now and
then, for the picture over time. That nothing meets in between is the search's business."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.binary import pack, unpack
from fenrik.core.job.proving.world import World
from fenrik.core.job.workspace.artefacts import key_of
from fenrik.core.machines.collision import Pair, least_apart
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
NOWHERE = np.zeros((0, 2))
MOMENTS = 10
"""A step is looked at so many times, evenly over its time."""
MOST_MM = 100.0
"""Farther apart is not told apart."""


def apart_along(world: World, step: int, tick: Callable[[], None]) -> Floats:
    """Moments (n, 2) of a step: seconds of the program, and how far the nearest of the bodies on both sides,
    cutter and fixture among them, are apart then, mm, up to `MOST_MM`; the stock left out. `tick` is called
    now and then, and may raise to stop."""
    run = world.run
    moves = np.flatnonzero(run.step_of == step)
    if not len(moves):
        return NOWHERE
    tools = world.used(moves)
    asked = world.asked.model_dump(include={"bodies_off"})
    own = world.cutting.keep.motions[step]
    key = key_of("apart", [world.digest, own, [t.facts() for t in tools], asked])
    kept = world.store.get(key)
    if kept is None:
        kept = pack({}, _looked(world, moves, tools, tick))
        world.store.put(key, "apart", kept)
    _, arrays = unpack(kept)
    last = moves[arrays["move"]]
    return np.column_stack([run.begin[last] + run.times[last], arrays["apart"]])


def _looked(
    world: World, moves: NDArray[np.int64], tools: Sequence[Assembly], tick: Callable[[], None]
) -> dict[str, NDArray[Any]]:
    """The places among some moves at whose ends it is looked, where even steps of their time fall, and what
    is seen there."""
    _, end, owner = world.driven(moves)
    passed = np.cumsum(world.run.times[moves])
    wanted = passed[-1] * (np.arange(MOMENTS) + 0.5) / MOMENTS
    at = np.unique(np.searchsorted(passed, wanted).clip(0, len(moves) - 1))
    rows = np.searchsorted(owner, at, side="right") - 1
    rows = np.unique(rows[rows >= 0])
    values = np.full(len(rows), MOST_MM)
    number = world.run.motion.tool[moves[owner[rows]]]
    for tool in tools:
        mine = number == tool.number
        solids = [*world.standing, *world.tool(tool)]
        pairs = [p for p in world.switched_on(solids) if _across(world, p)]
        values[mine] = least_apart(pairs, end[rows[mine]], MOST_MM, tick)
    return {"move": owner[rows].astype(np.int32), "apart": values}


def _across(world: World, pair: Pair) -> bool:
    """Whether one body of a pair goes with the tool and the other with the work: slides of the machine lie as
    near each other all the time."""
    machine = world.on.machine
    names, count = machine.chain.names, machine.carrying_work
    on_work = set(names[:count]) if count else {None}
    sides = [s.joint in names[count:] for s in (pair.first, pair.second)]
    works = [s.joint in on_work for s in (pair.first, pair.second)]
    return (sides[0] and works[1]) or (sides[1] and works[0])

"""The steps of a release in the order in which they run."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fenrik.core.job.document.job import OperationDoc, ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.needs import needs_of, region
from fenrik.core.job.programs.ordering import Pauses, as_planned, changes, fewest_changes, shortest_pauses
from fenrik.core.job.programs.turning_to import held_at, seen_by
from fenrik.core.posting.program import Step

RETREAT_S = 3.0
"""Seconds that the way out and in again takes where the machine turns, beside the turning (common practice,
no source)."""
MOST_STEPS = 600
"""With more steps from several sides the order stays as planned."""
Made = list[tuple[SetupDoc, OperationDoc, Step]]


@dataclass(frozen=True)
class Sequence:
    """Steps in their order, how often the tool is changed, and what the order saves against the planned one,
    s, of tool changes and of turning to sides."""

    steps: Made
    tool_changes: int
    saves_s: float


def sequence(paths: Paths, release: ReleaseDoc, made: Made) -> Sequence:
    """The steps of a release, as planned or with the least time between them."""
    machine = paths.setups.machine(paths.job.setup(release.setup))
    fewest = release.order == "fewest_changes"
    sides = {(o.side, step.turned) for _, o, step in made}
    if fewest and not release.also and len(sides) > 1 and machine.rotary and len(made) <= MOST_STEPS:
        return _of_sides(paths, made)
    by_setup = [[m for m in made if m[0].name == name] for name in release.setups]
    tools = [[o.tool for _, o, _ in own] for own in by_setup]
    order = fewest_changes(tools) if fewest else as_planned(tools)
    count = changes(order, tools)
    saves = (changes(as_planned(tools), tools) - count) * machine.tool_change_s
    return Sequence([by_setup[s][i] for s, i in order], count, saves)


def _of_sides(paths: Paths, made: Made) -> Sequence:
    """The steps of one setup from its sides: what needs another's room stays behind it."""
    setups, setup = paths.setups, made[0][0]
    machine = setups.machine(setup)
    on = setups.on_machine(setup)
    wanted = [(o.side, step.turned) for _, o, step in made]
    sides = list(dict.fromkeys(wanted))
    first = [made[wanted.index(side)] for side in sides]
    frames = [seen_by(paths, setup, o, step) for _, o, step in first]
    held = [held_at(paths, setup, o, step) for _, o, step in first]
    at = np.vstack(
        [
            machine.rotary_positions(
                on.axes_in_work(frame[None, :3, 2]), held=None if given is None else given[None]
            )[0]
            for frame, given in zip(frames, held, strict=True)
        ]
    )
    seconds = (np.abs(at[:, None] - at[None]) / machine.rotary_limits.speed * 60.0).max(axis=2)
    turns = np.where(seconds > 1e-6, seconds + RETREAT_S, 0.0)
    tools, number = [o.tool for _, o, _ in made], [sides.index(side) for side in wanted]
    pauses = Pauses(tools, number, machine.tool_change_s, turns.tolist())
    regions = [region(step, i, frames[i]) for (_, _, step), i in zip(made, number, strict=True)]
    order = shortest_pauses(pauses, needs_of(regions))
    pairs = [(0, i) for i in order]
    saves = pauses.total(list(range(len(made)))) - pauses.total(order)
    return Sequence([made[i] for i in order], changes(pairs, [tools]), max(0.0, saves))

"""Which further clampings reach what the sides of a setup do not: the fewest on its machine."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.features.sides_needed import SideNeeded
from fenrik.core.features.way_up import AXES
from fenrik.core.frames import rotation_up
from fenrik.core.job.document.job import SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proposing.sides import STANDS
from fenrik.core.model.part_model import PartModel
from fenrik.core.setups.setup import Up, up_direction

Floats = NDArray[np.float64]
MOST_TRIED = 12
"""Of so many ways to clamp all choices are tried, the best single ones of more."""


@dataclass(frozen=True)
class Clamping:
    """A way to clamp the part once more: up goes an `axis` of it or the direction of a `face`, turned over
    where `reverse`; then the `sides` named come into reach. `words` say so."""

    axis: str | None
    face: int | None
    reverse: bool
    sides: list[str]
    words: str


def propose_clampings(paths: Paths, setup: SetupDoc, sides: list[SideNeeded]) -> list[Clamping]:
    """The fewest clampings on the setup's machine from which the sides that it does not reach are worked, the
    one that reaches most first. What no clamping reaches is in none."""
    left = [s for s in sides if s.why]
    part, machine = paths.workspace.part(), paths.setups.machine(setup)
    ways = [_direction(part, s) for s in left]
    tried = []
    for up in _ups(left):
        turn = rotation_up(up_direction(up, part))
        seen = [turn @ d for d in ways]
        reached = frozenset(
            i for i, d in enumerate(seen) if d[2] > STANDS and not machine.why_not(np.asarray(d))
        )
        if reached:
            tried.append((up, reached))
    tried.sort(key=lambda one: -len(one[1]))
    out, done = [], set[int]()
    for up, reached in _fewest(tried[:MOST_TRIED]):
        names = [left[i].name for i in sorted(reached - done)]
        done |= reached
        if names:
            called = up.axis or f"face {up.face}"
            words = f"with {called} up: {', '.join(names)}"
            out.append(Clamping(up.axis, up.face, up.reverse, names, words))
    return out


def _direction(part: PartModel, side: SideNeeded) -> Floats:
    given = {"axis": side.axis, "face": side.face, "reverse": side.reverse}
    return up_direction(Up.model_validate(given), part)


def _ups(left: list[SideNeeded]) -> list[Up]:
    """The principal axes, then the directions of the sides themselves."""
    out = [Up.model_validate({"axis": axis}) for axis in AXES]
    out += [Up(face=s.face, reverse=s.reverse) for s in left if s.face is not None]
    return out


def _fewest(tried: list[tuple[Up, frozenset[int]]]) -> list[tuple[Up, frozenset[int]]]:
    """As few as reach all that any of them reaches, those that reach most first."""
    whole = frozenset[int]().union(*(reached for _, reached in tried))
    for count in range(len(tried) + 1):
        for chosen in combinations(tried, count):
            if frozenset[int]().union(*(reached for _, reached in chosen)) == whole:
                return sorted(chosen, key=lambda one: -len(one[1]))
    return []

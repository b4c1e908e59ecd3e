"""Operations for holes of a part, each from the side of a setup on which it is drilled."""

from __future__ import annotations

from fenrik.core.errors import ComputeError
from fenrik.core.features.hole_use import Purpose
from fenrik.core.features.holes import Hole, alike, turned_over
from fenrik.core.frames import same_direction
from fenrik.core.job.document.job import SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proposing.recipes import (
    Proposal,
    is_seen,
    on_side,
    propose_all,
    propose_operations,
    with_proposal,
)
from fenrik.core.job.proposing.sides import sides_towards


def propose_holes(
    paths: Paths, setup: SetupDoc, holes: list[Hole], purpose: Purpose | None = None, use: str | None = None
) -> Proposal:
    """Operations for holes that are alike, see `propose_operations`. Raises ComputeError where no recipe fits
    and where a tool comes into one of them neither from above nor from a side."""
    by_side: dict[str | None, list[Hole]] = {}
    for hole in holes:
        sides = sides_towards(paths, setup, hole.entries)
        if not sides:
            raise ComputeError(
                f"The hole {hole.words()} (face {hole.faces[0]}) is drilled neither from above nor from a "
                f"side of '{setup.name}'.",
                remedy="Add a side along its axis (pick its wall), or choose such a setup.",
            )
        up = paths.setups.seen(setup, sides[0]).setup_from_part[2, :3]
        by_side.setdefault(sides[0], []).append(hole if same_direction(up, hole.axis) else turned_over(hole))
    out = Proposal("")
    for name, mine in by_side.items():
        job = with_proposal(paths.job, setup, out)
        more = propose_operations(job, job.setup(setup.name), mine, purpose, use)
        _take(out, on_side(more, name, paths.setups.seen(setup, name), _names(job.setup(setup.name))))
    return out


def propose_every_hole(paths: Paths, setup: SetupDoc, holes: list[Hole]) -> Proposal:
    """Operations for all holes that are drilled from above or from a side of a setup, see `propose_all`."""
    left, out = list(holes), Proposal("every hole seen from here")
    for name in (None, *(s.name for s in setup.sides)):
        clamped, job = paths.setups.seen(setup, name), with_proposal(paths.job, setup, out)
        mine = [h for h in left if is_seen(h, clamped)]
        left = [h for h in left if h not in mine]
        own = job.setup(setup.name)
        _take(out, on_side(propose_all(job, own, alike(mine), clamped), name, clamped, _names(own)))
    out.words += words_of_unseen(left)
    return out


def words_of_unseen(holes: list[Hole]) -> list[str]:
    """What is said of holes that no tool comes into, neither from above nor from a side."""
    return [f"Left: {len(g)} x {g[0].words()}, not seen from above or from a side." for g in alike(holes)]


def _names(setup: SetupDoc) -> list[str]:
    return [o.name for o in setup.operations]


def _take(out: Proposal, more: Proposal) -> None:
    """Takes what is proposed into a proposal."""
    out.recipe = out.recipe or more.recipe
    out.tools += more.tools
    out.operations += more.operations
    out.words += more.words

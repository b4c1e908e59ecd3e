"""Operations for holes of a part, each from the side of a setup on which it is drilled."""

from __future__ import annotations

from fenrik.core.errors import ComputeError
from fenrik.core.features.hole_use import Purpose
from fenrik.core.features.holes import Hole, alike, turned_over
from fenrik.core.frames import same_direction
from fenrik.core.job.document.job import Job, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proposing.recipes import Proposal, is_seen, propose_all, propose_operations
from fenrik.core.job.proposing.sides import side_towards
from fenrik.core.job.tasks.heights import over_fixture
from fenrik.core.setups.setup import Clamped


def propose_holes(
    paths: Paths, setup: SetupDoc, holes: list[Hole], purpose: Purpose | None = None, use: str | None = None
) -> Proposal:
    """Operations for holes that are alike, see `propose_operations`. Raises ComputeError where no recipe fits
    and where a tool comes into one of them neither from above nor from a side."""
    by_side: dict[str | None, list[Hole]] = {}
    for hole in holes:
        side = side_towards(paths, setup, hole.entries)
        if not side:
            raise ComputeError(
                f"The hole {hole.words()} (face {hole.faces[0]}) is drilled neither from above nor from a "
                f"side of '{setup.name}'.",
                remedy="Add a side along its axis (pick its wall), or choose such a setup.",
            )
        up = paths.setups.seen(setup, side[0]).setup_from_part[2, :3]
        by_side.setdefault(side[0], []).append(hole if same_direction(up, hole.axis) else turned_over(hole))
    out: Proposal | None = None
    for name, mine in by_side.items():
        job, taken = _with(paths.job, setup, out)
        one = propose_operations(job, taken, mine, purpose, use)
        out = _joined(out, one, name, paths.setups.seen(setup, name))
    assert out is not None
    return out


def propose_every_hole(paths: Paths, setup: SetupDoc, holes: list[Hole]) -> Proposal:
    """Operations for all holes that are drilled from above or from a side of a setup, see `propose_all`."""
    left, out = list(holes), None
    for name in (None, *(s.name for s in setup.sides)):
        clamped = paths.setups.seen(setup, name)
        # those that no side gets to are told by the last
        last = name == (setup.sides[-1].name if setup.sides else None)
        mine = left if last else [h for h in left if is_seen(h, clamped)]
        left = [h for h in left if h not in mine]
        job, taken = _with(paths.job, setup, out)
        if mine or last:
            out = _joined(out, propose_all(job, taken, alike(mine), clamped), name, clamped)
    assert out is not None
    return out


def _with(job: Job, setup: SetupDoc, out: Proposal | None) -> tuple[Job, SetupDoc]:
    """Job and setup with what is proposed already."""
    if out is None:
        return job, setup
    operations = [*setup.operations, *out.operations]
    tools = [*job.tools, *out.tools]
    return job.model_copy(update={"tools": tools}), setup.model_copy(update={"operations": operations})


def _joined(out: Proposal | None, more: Proposal, side: str | None, seen: Clamped) -> Proposal:
    """A proposal with what is proposed from a side, which sees what is clamped like that."""
    own = [over_fixture(o.model_copy(update={"side": side}), seen) for o in more.operations]
    if out is None:
        return Proposal(more.recipe, more.tools, own, more.words)
    return Proposal(out.recipe, [*out.tools, *more.tools], [*out.operations, *own], [*out.words, *more.words])

"""A whole plan for what is seen from a setup and from its sides. What is left is said in words."""

from __future__ import annotations

import numpy as np

from fenrik.core.errors import ComputeError
from fenrik.core.features.feature import Feature
from fenrik.core.features.seen import LEVEL, UPRIGHT
from fenrik.core.features.sides_needed import SEAT_MM
from fenrik.core.job.document.job import SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proposing.holes import words_of_unseen
from fenrik.core.job.proposing.recipes import Proposal
from fenrik.core.job.proposing.side_plan import SidePlan
from fenrik.core.job.proposing.sides import sides_towards


def propose_part(paths: Paths, setup: SetupDoc) -> Proposal:
    """Operations for all that a tool can make from above and from the sides of a setup, each side after the
    other: what one has made is not made again. Raises ComputeError where the part is not readable."""
    out, done = Proposal("everything seen from here"), set[int]()
    sides = [None, *(s.name for s in setup.sides)]
    views, owned = [], _owned(paths, setup)
    for side in sides:
        elsewhere = {face for name, faces in owned.items() if name != side for face in faces}
        views.append(SidePlan(paths, setup, out, side=side, done=done, elsewhere=elsewhere))
        views[-1].run()
        done |= views[-1].reached
    _say_left(out, views, done)
    if setup.sides:
        out.words += words_of_unseen([h for h in paths.workspace.holes() if not set(h.faces) <= done])
    return out


def _owned(paths: Paths, setup: SetupDoc) -> dict[str | None, set[int]]:
    """The faces of holes, of closed pockets and slots, and flat ones that lean to the setup by the side from
    which they are made; under "" those on which the part lies, which wait for another clamping."""
    out: dict[str | None, set[int]] = {}
    if not setup.sides:
        return out
    workspace, clamped = paths.workspace, paths.setups.clamped(setup)
    up = clamped.setup_from_part[2]
    ways = [(h.faces, h.entries) for h in workspace.holes()]
    ways += [(f.faces, [f.axis]) for f in workspace.features() if f.kind in ("pocket", "slot")]
    for face in workspace.part().faces:
        if face.normal is None:
            continue
        leans = float(np.dot(up[:3], face.normal))
        if UPRIGHT < abs(leans) < LEVEL:
            ways.append(([face.id], [list(face.normal)]))
        if leans < -LEVEL and np.dot(up[:3], face.low) + up[3] < clamped.part_low[2] + SEAT_MM:
            out.setdefault("", set()).add(face.id)
    for faces, directions in ways:
        for side in sides_towards(paths, setup, directions)[:1]:
            out.setdefault(side, set()).update(faces)
    return out


def propose_features(paths: Paths, setup: SetupDoc, features: list[Feature]) -> Proposal:
    """Operations for chosen features: clear, clear the rest where corners need it, finish floors and walls,
    break edges. Raises ComputeError for one that can be made neither from above nor from a side of the
    setup."""
    by_side: dict[str | None, list[Feature]] = {}
    for f in features:
        both = f.kind in ("through pocket", "outside")
        sides = sides_towards(paths, setup, [f.axis, [-v for v in f.axis]] if both else [f.axis])
        if not sides:
            raise ComputeError(
                f"The {f.words()} (face {f.faces[0]}) is made neither from above nor from a side of "
                f"'{setup.name}'.",
                remedy="Add a side whose direction is the feature's, or choose such a setup.",
            )
        by_side.setdefault(sides[0], []).append(f)
    out = Proposal(", ".join(f.words() for f in features))
    for name, own in by_side.items():
        SidePlan(paths, setup, out, own, side=name).run()
    return out


def _say_left(out: Proposal, views: list[SidePlan], done: set[int]) -> None:
    """Says which faces are left by all sides, and why."""
    first = views[0]
    if first.made:
        out.words.append(f"{len(first.made)} faces have no stock on them any more and are left as they are.")
    hidden = {f.id for v in views for f in v.seen.hidden}
    under = {f.id for f in first.seen.under} - hidden
    for faces, why in ((hidden, "something stands over them"), (under, "they look down")):
        left = sorted(faces - done)
        if left:
            ids = ", ".join(str(f) for f in left[:12]) + (" and more" if len(left) > 12 else "")
            plural = f"{len(left)} faces" if len(left) > 1 else "1 face"
            out.words.append(f"Left: {plural} ({ids}), not reached from here: {why}.")

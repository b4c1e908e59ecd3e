"""Which sides a clamped part needs besides the way it stands: the fewest directions from which all its holes,
features and faces are reached that its machine can reach at all."""

from __future__ import annotations

from collections.abc import Callable
from collections.abc import Set as AbstractSet
from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.features.feature import Feature
from fenrik.core.features.holes import Hole
from fenrik.core.features.way_up import AXES, Direction, Spots, made_from, reached_from, spots_of
from fenrik.core.frames import SAME_DIRECTION, same_direction
from fenrik.core.model.part_model import PartModel

Floats = NDArray[np.float64]
Why = Callable[[Floats], str]
"""Why a direction (3,) of the part cannot be worked from, in words; empty where it can."""
WORTH = 0.01
"""Share of the part's surface for which alone a side is worth turning to (common practice, no source)."""
SEAT_MM = 1e-3
"""How far over its lowest point a part may lie."""
MOST_TRIED, MOST_LOOKED_AT = 12, 60
"""Of so many directions all choices are tried; more than the second are not looked along."""


@dataclass(frozen=True)
class SideNeeded:
    """A direction to work from: a principal `axis` of the part, or a `face` whose normal or axis it is,
    turned over where `reverse`; with what it adds to what was reached before: `surface` as a share of the
    whole, how many `holes` and other `features`, and the `faces` reached first from here. `why` says why the
    machine cannot work from it, empty where it can."""

    name: str
    axis: str | None
    face: int | None
    reverse: bool
    surface: float
    holes: int
    features: int
    faces: list[int]
    why: str
    words: str


@dataclass(frozen=True, eq=False)
class Looked:
    """What one direction reaches, as flags: of the spots (n,), the holes and the features."""

    up: Direction
    axis: str | None
    face: int | None
    reverse: bool
    why: str
    spots: NDArray[np.bool_]
    made: NDArray[np.bool_]


def sides_needed(
    part: PartModel,
    holes: list[Hole],
    features: list[Feature],
    worked: list[Floats],
    why: Why,
    finished: AbstractSet[int] = frozenset(),
) -> list[SideNeeded]:
    """The sides that a part needs besides those that are `worked` (directions (3,) of the part, the first is
    that of the setup), in the order of what they add, then those that would be needed and that the machine
    does not reach. The faces that are `finished` have no stock on them any more."""
    cut = [f for f in features if f.kind not in ("top", "fillet", "outside")]
    spots = spots_of(part)
    before = [_look(part, spots, holes, cut, (float(up[0]), float(up[1]), float(up[2]))) for up in worked]
    reached, made = _union(before, len(spots[0]), len(holes) + len(cut))
    own = [h.faces for h in holes] + [f.faces for f in cut]
    made |= np.array([set(faces) <= finished for faces in own], dtype=np.bool_)
    done = (reached | np.isin(spots[2], list(finished)) | _lain_on(part, spots, worked[0]), made)
    found = [c for c in _candidates(part, holes, cut) if not any(same_direction(c[0], w) for w in worked)]
    seen = [_look(part, spots, holes, cut, *c, why=why(np.array(c[0]))) for c in found]
    chosen = fewest([s for s in seen if not s.why], done)
    out: list[SideNeeded] = []
    at = done
    for one in chosen:
        out.append(_told(part, spots, len(holes), one, at))
        at = (at[0] | one.spots, at[1] | one.made)
    return out + [_told(part, spots, len(holes), one, at) for one in fewest([s for s in seen if s.why], at)]


def _lain_on(part: PartModel, spots: Spots, up: Floats) -> NDArray[np.bool_]:
    """The spots on which the part lies: they wait for another clamping."""
    lowest = float((part.mesh.vertices @ up).min())
    return np.asarray((spots[0] @ up < lowest + SEAT_MM) & (spots[1] @ up < -SAME_DIRECTION))


def _candidates(
    part: PartModel, holes: list[Hole], features: list[Feature]
) -> list[tuple[Direction, str | None, int | None, bool]]:
    """Directions from which something may be made, each with the pick that gives it: the principal axes, the
    directions from which tools come into holes and features, and leaning flat faces."""
    out: list[tuple[Direction, str | None, int | None, bool]] = [
        (up, axis, None, False) for axis, up in AXES.items()
    ]
    wanted: list[tuple[Floats, int]] = []
    wanted += [(np.array(f.axis), f.faces[0] if not f.floor else f.floor) for f in features]
    wanted += [(np.array(entry), hole.faces[0]) for hole in holes for entry in hole.entries]
    whole = sum(f.area for f in part.faces)
    flat = sorted((f for f in part.faces if f.normal is not None), key=lambda f: -f.area)
    wanted += [(np.array(f.normal), f.id) for f in flat if f.area > WORTH * whole]
    for direction, face in wanted:
        if any(same_direction(direction, known) for known, *_ in out):
            continue
        pick = _pick(part, direction, face)
        if pick is not None:
            x, y, z = direction.tolist()
            out.append(((x, y, z), None, *pick))
        if len(out) >= MOST_LOOKED_AT:
            break
    return out


def _pick(part: PartModel, direction: Floats, face: int) -> tuple[int, bool] | None:
    """A face that gives a direction, the named one first, and whether it is turned over for it."""
    for facts in sorted(part.faces, key=lambda f: f.id != face):
        vector = facts.normal if facts.kind == "plane" else facts.axis
        if vector is None or facts.kind not in ("plane", "cylinder", "cone"):
            continue
        if same_direction(vector, direction):
            return facts.id, False
        if facts.kind != "plane" and same_direction(vector, -direction):
            return facts.id, True
    return None


def _look(
    part: PartModel,
    spots: Spots,
    holes: list[Hole],
    features: list[Feature],
    up: Direction,
    axis: str | None = None,
    face: int | None = None,
    reverse: bool = False,
    why: str = "",
) -> Looked:
    direction = np.array(up)
    made = [any(same_direction(e, direction) for e in h.entries) for h in holes]
    points, normals, owner = spots
    reached = reached_from(part, points, normals, direction)
    # all of a feature may be seen although its own direction is another
    mine = [np.isin(owner, f.faces) for f in features]
    made += [
        made_from(f, direction) or bool(own.any() and reached[own].all())
        for f, own in zip(features, mine, strict=True)
    ]
    return Looked(up, axis, face, reverse, why, reached, np.array(made, dtype=np.bool_))


Flags = tuple[NDArray[np.bool_], NDArray[np.bool_]]


def _union(seen: list[Looked], spots: int, things: int) -> Flags:
    reached, made = np.zeros(spots, dtype=np.bool_), np.zeros(things, dtype=np.bool_)
    for one in seen:
        reached, made = reached | one.spots, made | one.made
    return reached, made


def fewest(seen: list[Looked], done: Flags) -> list[Looked]:
    """The fewest directions that together reach what all of them reach, up to a share of the surface that is
    not worth a side; of equally few those that lean least, then those that reach most. In the order of what
    they add."""
    adds = [s for s in seen if _worth(s, done)]
    spots, made = _union(adds, len(done[0]), len(done[1]))
    goal = spots & ~done[0], made & ~done[1]
    # what only one of them makes asks for it, whatever else is chosen
    alone = goal[1] & (np.sum([s.made for s in adds], axis=0) == 1)
    best = [s for s in adds if (s.made & alone).any()]
    rest = [s for s in adds if all(s is not b for b in best)]
    best += _smallest(rest, goal, best) if len(rest) <= MOST_TRIED else _greedy(rest, goal, best)
    order: list[Looked] = []
    at, left = done, list(best)
    while left:
        nxt = max(left, key=lambda s: (int((s.made & ~at[1]).sum()), int((s.spots & ~at[0]).sum())))
        order.append(nxt)
        left = [s for s in left if s is not nxt]
        at = (at[0] | nxt.spots, at[1] | nxt.made)
    return order


def _lacks(some: list[Looked], goal: Flags) -> tuple[int, int]:
    """How many of the wanted holes and features, and of the wanted spots beyond those not worth a side, some
    directions leave."""
    spots, made = _union(some, len(goal[0]), len(goal[1]))
    left = int((goal[0] & ~spots).sum())
    return int((goal[1] & ~made).sum()), left if left >= WORTH * len(goal[0]) else 0


def _smallest(rest: list[Looked], goal: Flags, given: list[Looked]) -> list[Looked]:
    """The smallest choice that, with those given, leaves nothing: all are tried."""
    for count in range(len(rest) + 1):
        fitting = [some for some in combinations(rest, count) if _lacks([*given, *some], goal) == (0, 0)]
        if fitting:
            leans = [sum(s.axis is None for s in some) for some in fitting]
            reach = [sum(int(s.spots.sum()) for s in some) for some in fitting]
            best = min(range(len(fitting)), key=lambda i: (leans[i], -reach[i]))
            return list(fitting[best])
    return rest


def _greedy(rest: list[Looked], goal: Flags, given: list[Looked]) -> list[Looked]:
    """One after the other, the one that leaves least first: of so many directions not all choices are
    tried."""
    chosen: list[Looked] = []
    while _lacks([*given, *chosen], goal) != (0, 0) and len(chosen) < len(rest):
        open_ones = [s for s in rest if all(s is not c for c in chosen)]
        chosen.append(min(open_ones, key=lambda s: (_lacks([*given, *chosen, s], goal), s.axis is None)))
    return chosen


def _worth(seen: Looked, done: Flags) -> bool:
    """Whether a direction adds anything that is worth turning to it."""
    return bool((seen.made & ~done[1]).any()) or (seen.spots & ~done[0]).sum() >= WORTH * len(done[0])


def _told(part: PartModel, spots: Spots, count_holes: int, seen: Looked, done: Flags) -> SideNeeded:
    """What a direction adds to what is `done`; of the things that it makes the first are holes."""
    new, made = seen.spots & ~done[0], seen.made & ~done[1]
    holes, features = int(made[:count_holes].sum()), int(made[count_holes:].sum())
    ids, count = np.unique(spots[2], return_counts=True)
    first = [int(i) for i, n in zip(ids, count, strict=True) if new[spots[2] == i].sum() > 0.5 * n]
    share = float(new.mean())
    told = [_count(holes, "hole")] if holes else []
    told += [_count(features, "feature")] if features else []
    told += [f"{100 * share:.0f} % of the surface"] if share >= 0.005 else []
    words = f"adds {', '.join(told)}" if told else "adds nothing"
    if seen.why:
        words = f"would add {', '.join(told)}; the machine cannot work from there: {seen.why}"
    name = f"Side {seen.axis}" if seen.axis else _named(part, seen.face or 0)
    return SideNeeded(
        name, seen.axis, seen.face, seen.reverse, share, holes, features, first, seen.why, words
    )


def _named(part: PartModel, face: int) -> str:
    return f"{'Face' if part.face(face).kind == 'plane' else 'Bore'} {face}"


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'s' if number > 1 else ''}"

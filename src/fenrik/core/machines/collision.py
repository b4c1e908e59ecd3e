"""Bodies that come near each other while a machine moves: nothing between two poses is missed.

A range of the motion is looked at in its middle, with the margin widened by how far the bodies can move
towards each other within the range; where that does not clear it, it is halved, and so on down to single
places. Boxes about the bodies clear most (`_collision_kernels`), trees of their triangles the rest (coal, a
general library of collision queries). Distances of surfaces do not see one body within another: that is
looked at where a motion begins.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import coal
import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines import _collision_kernels as kernels
from fenrik.core.machines.solids import Solid
from fenrik.core.machines.tree import Tree
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]
WIDEST_MM = 4.0
"""Trees of triangles are asked about ranges in which two bodies come nearer by so much at most: wider margins
make them slow."""
PLACE_MM = 0.01
"""A range in which two bodies come nearer by no more than this is one place."""
BETTER_MM = 0.05
"""What a nearer place has to be nearer by to be looked for."""
TOUCH_MM = 0.02
"""Bodies nearer than this meet: as much as chords of arcs may leave these."""
AT_ONCE = 20000
ASKED_BETWEEN = 200


@dataclass(frozen=True)
class Pair:
    """Two bodies and the joints between them: rows (k, 8) of `chain`, see `_collision_kernels`."""

    first: Solid
    second: Solid
    chain: Floats

    @property
    def names(self) -> frozenset[str]:
        """The names of both."""
        return frozenset((self.first.name, self.second.name))

    @cached_property
    def balls(self) -> Floats:
        """Balls (2, 4) about both."""
        return np.stack([self.first.ball, self.second.ball])


@dataclass(frozen=True)
class Near:
    """Two bodies nearer than asked for: their least `distance` mm, 0 where they meet, on the piece of the
    motion and at the share of its time where they are nearest, or where they first meet; the places (2, 3) on
    both, each in machine coordinates with all joints at zero."""

    pair: Pair
    distance: float
    piece: int
    share: float
    places: Floats


def pairs_of(tree: Tree, solids: Sequence[Solid]) -> list[Pair]:
    """All pairs whose bodies move against each other and are not made to: those on neighbouring joints of the
    machine's own slide or turn on each other."""
    out = []
    for i, one in enumerate(solids):
        for two in solids[i + 1 :]:
            chain = tree.between(one.joint, two.joint)
            if len(chain) >= (1 if one.held or two.held else 2):
                out.append(Pair(one, two, chain))
    return out


class Motion:
    """Joint values at both ends of straight pieces (m, n), all joints of the machine in its order, mm and
    degrees."""

    def __init__(self, start: Floats, end: Floats) -> None:
        self.start, self.end = np.ascontiguousarray(start), np.ascontiguousarray(end)
        low, high, offsets = kernels.ranges(self.start, self.end)
        self.track = kernels.Track(self.start, self.end, low, high, offsets)


def never() -> None:
    """Stops nothing."""


def nearest(pair: Pair, motion: Motion, near: float, asked: Callable[[], None] = never) -> Near | None:
    """Where along a motion the bodies of a pair come nearest, if that is nearer than `near` mm; where they
    meet, the first such place. `asked` is called now and then, and may raise to stop."""
    search = _Search(pair, motion, near, asked)
    if search.begins_within():
        return search.result()
    for row in search.uncleared():
        search.look_into(*row)
        if search.met is not None:
            break
    return search.result()


def least_apart(
    pairs: Sequence[Pair], values: Floats, most: float, asked: Callable[[], None] = never
) -> Floats:
    """How far the nearest two of some pairs of bodies are apart (m,) mm, up to `most`, where the joints stand
    at values (m, n). Boxes tell which pairs are looked at. `asked` is called now and then, and may raise to
    stop."""
    motion = Motion(values, values)
    searches = [_Search(pair, motion, most, asked) for pair in pairs]
    out = np.full(len(values), most)
    for i in range(len(values)):
        asked()
        bounds = []
        for search in searches:
            search.put(0, i, 0.0, 0.0)
            pair = search.pair
            bounds.append(kernels.boxes_distance(pair.first.boxes, pair.second.boxes, search.pose))
        for k in np.argsort(bounds):
            if bounds[k] >= out[i]:
                break
            apart = 0.0 if bounds[k] <= 0.0 and searches[k].within() else searches[k].distance()[0]
            out[i] = min(out[i], max(0.0, apart))
    return out


class _Search:
    """One pair along one motion."""

    def __init__(self, pair: Pair, motion: Motion, near: float, asked: Callable[[], None]) -> None:
        self.pair, self.motion, self.asked = pair, motion, asked
        self.margin = near
        self.best: tuple[float, int, float] | None = None
        self.met: tuple[int, float] | None = None
        self.pose, self.calls = np.empty((3, 4)), 0
        self.request, self.result_of = coal.CollisionRequest(), coal.CollisionResult()
        self.request.enable_contact = False
        self.still, self.moved = coal.Transform3s.Identity(), coal.Transform3s.Identity()

    def begins_within(self) -> bool:
        """Whether one body lies within the other where the motion begins: surfaces that are apart do not
        show it."""
        self.put(0, 0, 0.0, 0.0)
        inside = self.within()
        if inside:
            self.met = (0, 0.0)
        return inside

    def within(self) -> bool:
        """Whether one body lies within the other at `pose`."""
        pair = self.pair
        if kernels.boxes_distance(pair.first.boxes, pair.second.boxes, self.pose) > 0.0:
            return False
        turn, place = self.pose[:, :3], self.pose[:, 3]
        of_first, of_second = ([part.vertices[0] for part in s.parts] for s in (pair.first, pair.second))
        inside = _any_inside(pair.second, [(spot - place) @ turn for spot in of_first])
        return inside or _any_inside(pair.first, [turn @ spot + place for spot in of_second])

    def uncleared(self) -> Floats:
        """The ranges that boxes do not clear."""
        pair, most = self.pair, AT_ONCE
        while True:
            found, count = kernels.uncleared(
                self.motion.track,
                pair.chain,
                pair.balls,
                pair.first.boxes,
                pair.second.boxes,
                max(self.margin, TOUCH_MM),
                WIDEST_MM,
                most,
            )
            if count >= 0:
                return np.asarray(found)
            most *= 8

    def closer(self, margin: float) -> bool:
        """Whether the bodies are closer than a margin at `pose`."""
        self.calls += 1
        if self.calls % ASKED_BETWEEN == 0:
            self.asked()
        self.request.security_margin = margin
        self.result_of.clear()
        found = coal.collide(
            self.pair.first.tree, self.still, self.pair.second.tree, self.moved, self.request, self.result_of
        )
        return bool(found)

    def put(self, level: int, number: int, begin: float, finish: float) -> float:
        """Puts the second body where it is in the middle of a range; the bound of its motion."""
        bound = kernels.look(
            self.motion.track, self.pair.chain, self.pair.balls, level, number, begin, finish, self.pose
        )
        self.moved.setRotation(self.pose[:, :3])
        self.moved.setTranslation(self.pose[:, 3])
        return float(bound)

    def look_into(self, level: float, number: float, begin: float, finish: float) -> None:
        """Looks into a range, the earlier part first."""
        stack = np.empty((4 * (len(self.motion.track.offsets) + kernels.DEEPEST), 4))
        stack[0] = level, number, begin, finish
        depth = 1
        while depth:
            depth -= 1
            lv, at = int(stack[depth, 0]), int(stack[depth, 1])
            t0, t1 = float(stack[depth, 2]), float(stack[depth, 3])
            bound = self.put(lv, at, t0, t1)
            margin = TOUCH_MM if self.met is not None else max(self.margin, TOUCH_MM)
            if not self.closer(margin + bound):
                continue
            if lv == 0 and self.meets(at, 0.5 * (t0 + t1)):
                # all else that waits comes later
                stack[0] = 0, at, t0, 0.5 * (t0 + t1)
                depth = 0 if bound <= PLACE_MM else 1
            elif lv > 0 or bound > PLACE_MM:
                depth = kernels.divided(stack, depth, lv, at, t0, t1, self.motion.track.offsets)

    def meets(self, piece: int, share: float) -> bool:
        """Whether the bodies meet at `pose`, which is that of a place of the motion; takes note of it."""
        if self.closer(TOUCH_MM):
            self.met = (piece, share)
            return True
        if self.met is None and self.closer(self.margin):
            distance = self.distance()[0]
            if distance < self.margin:
                self.best, self.margin = (distance, piece, share), distance - BETTER_MM
        return False

    def distance(self) -> tuple[float, Floats]:
        """The distance mm of the bodies at `pose` and the nearest places (2, 3), in the first one's frame."""
        request, result = coal.DistanceRequest(), coal.DistanceResult()
        found = coal.distance(
            self.pair.first.tree, self.still, self.pair.second.tree, self.moved, request, result
        )
        return float(found), np.array([result.getNearestPoint1(), result.getNearestPoint2()])

    def result(self) -> Near | None:
        """What was found."""
        if self.met is None and self.best is None:
            return None
        distance = 0.0
        if self.met is not None:
            piece, share = self.met
        else:
            assert self.best is not None
            distance, piece, share = self.best
        self.put(0, piece, share, share)
        places = self.distance()[1]
        back = self.pose[:, :3].T @ (places[1] - self.pose[:, 3])
        return Near(self.pair, distance, piece, share, np.array([places[0], back]))


def _any_inside(solid: Solid, spots: Sequence[Floats]) -> bool:
    """Whether one of some places (3,) lies inside a part of a body."""
    return any(_inside(part, spot) for part in solid.parts for spot in spots)


def _inside(mesh: TriangleMesh, place: Floats) -> bool:
    """Whether a place (3,) lies inside a closed mesh: the solid angle under which it sees the triangles (van
    Oosterom, Strackee 1983)."""
    low, high = mesh.bounds
    if (place < low).any() or (place > high).any():
        return False
    a, b, c = np.moveaxis(mesh.vertices[mesh.triangles] - place, 1, 0)
    la, lb, lc = (np.linalg.norm(v, axis=1) for v in (a, b, c))
    top = np.einsum("ij,ij->i", a, np.cross(b, c))
    dots = (np.einsum("ij,ij->i", p, q) for p, q in ((a, b), (b, c), (c, a)))
    ab, bc, ca = dots
    angle = 2.0 * np.arctan2(top, la * lb * lc + ab * lc + bc * la + ca * lb)
    return bool(abs(angle.sum()) > 2.0 * np.pi)

"""What a program leaves on the design, and why: out of sight, out of the tools' reach, or in reach and not
finished.

Spots spread evenly over the design are asked, not places of the stock: of what is still buried in stock the
stock's surface shows nothing.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from fenrik.core.cutting.topology import Topology
from fenrik.core.frames import apply
from fenrik.core.model.distance import DistanceField
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.proof.deviation import Deviation
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.numbers import Left, Leftover, Reached, Why
from fenrik.core.proof.reach import NEEDLE, reachable
from fenrik.core.stock.surface import UNSEEN, StockSurface
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
Reach = Callable[[Floats, Floats], Bools]
"""Whether spots (n, 3) with their outward normals (n, 3) can be touched."""
SPOTS = 40_000
NEAR = 1.5
"""Cells within which a spot has a place of the stock's surface beside it, unless it is buried."""
GOLDEN = (0.7548776662466927, 0.5698402909980532)
"""Steps of a sequence that fills a square evenly (M. Roberts, R2, 2018)."""
WORTH = 0.002
"""Share of the design from which it is told."""
SHARE_OF_FACE = 0.05
"""Share of a face from which the face is named: less is the rim that it has with another."""
NAMED = 12
WORDS: dict[Why, tuple[str, str]] = {
    "held": ("what holds the stock keeps the tools off", "Hold it farther away or lower, or cut it in "
             "another setup."),
    "hidden": ("it is not seen from above in this setup", "Cut it in another setup."),
    "narrow": ("it is narrower than the tools, or a corner sharper than they "
               "are", "Use a smaller tool there."),
    "unfinished": ("the tools reach it, but no operation takes it down to "
                   "size", "Finish it, or say why not."),
}  # fmt: skip


@dataclass(frozen=True)
class Spots:
    """Places (n, 3) on the design that stand for equal areas, their outward normals (n, 3) and faces (n,)."""

    points: Floats
    normals: Floats
    faces: NDArray[np.int32]


def spots_on(mesh: TriangleMesh, count: int = SPOTS) -> Spots:
    """Spots spread evenly over a mesh by area, always the same."""
    corners = mesh.vertices[mesh.triangles]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(normal, axis=1)
    upto = np.cumsum(area)
    at = np.minimum(np.searchsorted(upto, (np.arange(count) + 0.5) / count * upto[-1]), len(area) - 1)
    u, v = (np.arange(count)[:, None] * GOLDEN % 1.0).T
    over = u + v > 1.0
    u, v = np.where(over, 1.0 - u, u)[:, None], np.where(over, 1.0 - v, v)[:, None]
    a, b, c = corners[at].transpose(1, 0, 2)
    return Spots(a + u * (b - a) + v * (c - a), normal[at] / area[at, None], mesh.face_ids[at])


def stock_over(spots: Spots, surface: StockSurface, deviation: Floats, cell: float) -> Floats:
    """How much stock stands over spots (n,), mm: the deviation (m,) of the stock's surface beside it, or,
    where it has none beside it, how far it is to a place of the surface, which is too much by less than cell²
    / 4 / that: under stock where it lies behind that place, over it where it lies before it, since it has
    been cut away."""
    met = np.flatnonzero(surface.tags != UNSEEN)
    points = surface.points[met]
    away, nearest = cKDTree(points, balanced_tree=False, compact_nodes=False).query(spots.points, workers=-1)
    over: Floats = np.where(away <= NEAR * cell, deviation[met][nearest], away)
    far = np.flatnonzero(away > NEAR * cell)
    corners = surface.vertices[surface.quads[met[nearest[far]]]]
    outward = np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1])
    before = np.einsum("ij,ij->i", outward, spots.points[far] - points[nearest[far]]) > 0
    over[far[before]] *= -1.0
    return over


def left_of(spots: Spots, over: Floats, reach: Reaches, tolerance: float) -> Left:
    """What is left where `over` (n,) mm of stock stand over spots of the design."""
    mine = reach.tools(spots.points, spots.normals)
    left = over > tolerance
    dark, fits, held = (np.zeros(len(over), dtype=np.bool_) for _ in range(3))
    asked = np.flatnonzero(left & ~mine)
    held[asked] = reach.unheld(spots.points[asked], spots.normals[asked])
    asked = asked[~held[asked]]
    dark[asked] = ~reach.needle(spots.points[asked], spots.normals[asked])
    asked = asked[~dark[asked]]
    fits[asked] = reach.smallest(spots.points[asked], spots.normals[asked])
    good = int((mine & (np.abs(over) <= tolerance)).sum())
    share, smallest = (good / int(all_.sum()) if all_.any() else 1.0 for all_ in (mine, mine | fits))
    narrow = left & ~mine & ~dark & ~held
    kinds: dict[Why, Bools] = {"held": held, "hidden": dark, "narrow": narrow, "unfinished": left & mine}
    found = left_over(spots, over, kinds, fits)
    more = reach.lacking(spots.points[held])
    found = [replace(one, more_mm=more) if one.why == "held" else one for one in found]
    return Left(share, smallest, reach.smallest_mm, found)


@dataclass(frozen=True)
class SideReach:
    """A side from which `cutters` worked: `side_from_setup` (4, 4), and in its frame the part with the
    fixture, and without it where there is one."""

    side_from_setup: Floats
    solid: Topology
    cutters: set[Profile]
    free: Topology | None = None

    def touched(
        self, points: Floats, normals: Floats, own: set[Profile], tolerance: float, held: bool = True
    ) -> Bools:
        """Whether spots (n, 3) with outward normals (n, 3), setup frame, can be touched by some cutters; with
        nothing that holds the stock where it is not `held`."""
        solid = self.solid if held or self.free is None else self.free
        turned = normals @ self.side_from_setup[:3, :3].T
        return reachable(apply(self.side_from_setup, points), turned, solid, own, tolerance)


class Reaches:
    """What gets to spots of the design from all the sides that were worked: the program's tools, the
    `smallest` cutters that there are, a needle. `tolerance` mm is how exactly; `fixture` holds the stock."""

    def __init__(
        self,
        sides: Sequence[SideReach],
        smallest: Sequence[Profile],
        tolerance: float,
        fixture: DistanceField | None = None,
    ) -> None:
        self._sides, self._smallest, self._tolerance = sides, set(smallest), tolerance
        self._fixture = fixture
        self.smallest_mm = 2.0 * min((p.radius for p in smallest), default=0.0)

    def tools(self, points: Floats, normals: Floats) -> Bools:
        """Whether the tools of the sides touch spots (n, 3) with outward normals (n, 3)."""
        return self._any(points, normals, [s.cutters for s in self._sides])

    def smallest(self, points: Floats, normals: Floats) -> Bools:
        """Whether the smallest cutters do, however long they would have to be."""
        return self._any(points, normals, [self._smallest for _ in self._sides])

    def needle(self, points: Floats, normals: Floats) -> Bools:
        """Whether they are seen at all."""
        return self._any(points, normals, [{NEEDLE} for _ in self._sides])

    def unheld(self, points: Floats, normals: Floats) -> Bools:
        """Whether the tools would touch them if nothing held the stock; nowhere where nothing is drawn."""
        if self._fixture is None:
            return np.zeros(len(points), dtype=np.bool_)
        return self._any(points, normals, [s.cutters for s in self._sides], held=False)

    def lacking(self, points: Floats) -> float:
        """How much farther off the fixture would have to be for the slimmest of the tools to pass between it
        and places (n, 3), mm."""
        wide = [2.0 * c.radius for s in self._sides for c in s.cutters]
        if self._fixture is None or not len(points) or not wide:
            return 0.0
        return max(0.0, min(wide) - max(0.0, float(self._fixture.signed(points)[0].min())))

    def _any(
        self, points: Floats, normals: Floats, cutters: Sequence[set[Profile]], held: bool = True
    ) -> Bools:
        out = np.zeros(len(points), dtype=np.bool_)
        for side, own in zip(self._sides, cutters, strict=True):
            todo = np.flatnonzero(~out)
            if len(todo) and own:
                out[todo] = side.touched(points[todo], normals[todo], own, self._tolerance, held)
        return out

    def of(self, points: Floats, normals: Floats) -> list[Reached]:
        """What gets to each of some places (n, 3)."""
        each = (f(points, normals) for f in (self.tools, self.unheld, self.smallest, self.needle))
        return [
            "tools" if t else "held" if h else "smallest" if s else "narrow" if n else "hidden"
            for t, h, s, n in zip(*each, strict=True)
        ]


def left_on(mesh: TriangleMesh, deviation: Deviation, reach: Reaches, band: float, cell: float) -> Left:
    """As `left_of`, for a design whose deviation was measured on a stock of a cell, mm; `band` mm is the half
    band of "on size"."""
    spots = spots_on(mesh)
    over = stock_over(spots, deviation.surface, deviation.at_points, cell)
    return left_of(spots, over, reach, band)


def left_over(spots: Spots, over: Floats, kinds: Mapping[Why, Bools], fits: Bools) -> list[Leftover]:
    """What is left, `over` (n,) mm, by its reason: `kinds` says which spots (n,) have which. The smallest
    cutter `fits` (n,) or not."""
    ids, place = np.unique(spots.faces, return_inverse=True)
    whole = np.bincount(place)
    out = []
    for why, mine in kinds.items():
        share = float(mine.mean())
        if share < WORTH:
            continue
        by_face = np.bincount(place[mine], minlength=len(ids))
        order = np.argsort(-by_face, kind="stable")
        named = [int(ids[k]) for k in order if by_face[k] > SHARE_OF_FACE * whole[k]]
        smaller = float(fits[mine].mean()) if why == "narrow" else 0.0
        out.append(Leftover(why, share, float(over[mine].max()), named, smaller))
    return out


def left_findings(left: Left) -> list[Finding]:
    """A note for each reason."""
    out = []
    for one in left.left:
        why, remedy = WORDS[one.why]
        faces = one.faces
        ids = ", ".join(str(f) for f in faces[:NAMED]) + (" and more" if len(faces) > NAMED else "")
        on = f" on face{'s' if len(faces) > 1 else ''} {ids}" if faces else ""
        most = f"{one.most_mm:.1f}" if one.most_mm >= 1.0 else f"{one.most_mm:.2f}"
        what = (
            f"Left: {100 * one.share:.1f} % of the surface{on}, with up to {most} mm of stock on it: {why}."
        )
        if one.why == "held" and one.more_mm > 0.05:
            more = math.ceil(10.0 * one.more_mm) / 10.0
            what += f" With {more:g} mm more of room, or of stock there, the slimmest of them would pass."
        if one.why == "narrow" and left.smallest_mm:
            fits = f"{100 * one.smaller:.0f} %" if one.smaller > 0.005 else "none"
            what += f" The smallest cutters of the shelf, Ø{left.smallest_mm:g} mm, would touch {fits} of it."
        out.append(Finding("note", f"left_{one.why}", what, remedy, measure=one.most_mm))
    return out

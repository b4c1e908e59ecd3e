"""Which balls finish which curved faces: by what each of them reaches, spot by spot."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting.drop import contact
from fenrik.core.cutting.topology import Topology
from fenrik.core.features.seen import Face
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.proof.left import spots_on
from fenrik.core.proof.reach import reachable
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.profile import Profile

SPOTS = 12_000
WITHIN_MM = 0.02
"""How near to a spot a cutter must come to reach it."""
WHOLE = 0.985
"""Share of a face's spots from which a cutter counts as reaching it: the rest is its rim."""
STEEP = math.cos(math.radians(45.0))
"""Z share of a normal at the steepness at which passes at constant Z take over from parallel ones."""
RIM = 0.01
"""Share of a face's spots that lie on its rim: for them alone no pass is made."""
WORTH = 0.01
"""Share of the faces' area for which a smaller ball is taken."""
NEXT = 0.6
"""Diameter of a smaller ball over that of the one before it, at most (common practice, no source)."""


class FaceReach:
    """Reach of cutters on some faces of a mesh in the setup frame, by spots spread evenly over them; no tip
    goes under `lowest` mm."""

    def __init__(self, mesh: TriangleMesh, topology: Topology, faces: list[Face], lowest: float) -> None:
        mine = np.isin(mesh.face_ids, [f.id for f in faces])
        part = TriangleMesh(mesh.vertices, mesh.triangles[mine], mesh.face_ids[mine], mesh.deviation)
        self.topology, self.spots, self.lowest = topology, spots_on(part, SPOTS), lowest
        self._known: dict[frozenset[Profile], NDArray[np.bool_]] = {}

    def of(self, profiles: set[Profile]) -> NDArray[np.bool_]:
        """Whether one of the cutters reaches the spots (n,)."""
        key = frozenset(profiles)
        if key not in self._known:
            got = np.zeros(len(self.spots.points), dtype=np.bool_)
            for profile in profiles:
                got |= self._reached(profile)
            self._known[key] = got
        return self._known[key]

    def _reached(self, profile: Profile) -> NDArray[np.bool_]:
        spots, normals = self.spots, self.spots.normals
        steep = np.arctan2(np.hypot(normals[:, 0], normals[:, 1]), np.maximum(normals[:, 2], 0.0))
        deep = spots.points[:, 2] - contact(profile, steep)[1] >= self.lowest - WITHIN_MM
        return deep & reachable(spots.points, normals, self.topology, {profile}, WITHIN_MM)

    def share(self, profiles: set[Profile]) -> dict[int, float]:
        """Reached share of each face."""
        ids, place = np.unique(self.spots.faces, return_inverse=True)
        got = np.bincount(place, weights=self.of(profiles)) / np.bincount(place)
        return dict(zip(ids.tolist(), got.tolist(), strict=True))

    def worth_a_pass(self, face: Face, ball: Profile, before: set[Profile], steep: bool) -> bool:
        """Whether a ball reaches anything of a face that those before it do not, where it is steeper than 45°
        or (`steep` False) flatter."""
        spots, mine = self.spots, self.spots.faces == face.id
        new = mine & self.of({ball}) & ((spots.normals[:, 2] <= STEEP) == steep)
        if before:
            new &= ~self.of(before)
        return bool(new.sum() > max(RIM * mine.sum(), 1))

    def area(self, faces: list[Face], profiles: set[Profile]) -> float:
        """Reached share of the area of some faces."""
        mine = np.isin(self.spots.faces, [f.id for f in faces])
        return float(self.of(profiles)[mine].mean()) if mine.any() else 1.0

    def words(
        self, candidates: list[Assembly], curved: list[Face], chosen: list[tuple[Assembly, list[Face]]]
    ) -> list[str]:
        """What the chosen balls reach of the curved faces, and what the smallest on the shelf would."""
        finest = candidates[-1]
        got = self.area(curved, {t.profile for t, _ in chosen})
        best = self.area(curved, {finest.profile, *(t.profile for t, _ in chosen)})
        if got > 0.999:
            return []
        own = ", ".join(f"Ø{t.diameter:g}" for t, _ in chosen)
        more = ""
        if best > got + 1e-3:
            more = f"; one of Ø{finest.diameter:g} would reach {100 * (best - got):.1f} % more"
        elif finest.diameter == chosen[-1][0].diameter:
            more = "; there is no smaller one on the shelf"
        return [f"Of the curved faces {100 * got:.1f} % are in reach of the balls taken, {own}{more}."]


def choose_balls(
    candidates: list[Assembly],
    curved: list[Face],
    walls: list[Face],
    reach: FaceReach,
    by_mills: dict[int, float],
) -> list[tuple[Assembly, list[Face]]]:
    """Balls (of `candidates`, the widest first) with the faces that each finishes: the widest for all curved
    faces, and smaller ones for those of which they reach more, walls among them that their mill (`by_mills`:
    its share of each face) does not reach all of."""
    first = candidates[0]
    done = reach.share({first.profile}) | {w.id: by_mills.get(w.id, 1.0) for w in walls}
    weight = dict(zip(*(v.tolist() for v in np.unique(reach.spots.faces, return_counts=True)), strict=True))
    out = [(first, curved)]
    for ball in candidates[1:]:
        if ball.diameter > NEXT * out[-1][0].diameter + 1e-6 and ball is not candidates[-1]:
            continue
        share = reach.share({ball.profile})
        left = [f for f in (*curved, *walls) if done.get(f.id, 1.0) < WHOLE]
        mine = [f for f in left if share[f.id] > done[f.id] + 1e-3]
        gain = sum((share[f.id] - done[f.id]) * weight[f.id] for f in mine) / len(reach.spots.points)
        if gain < WORTH:
            continue
        out.append((ball, mine))
        done |= {f.id: share[f.id] for f in mine}
    return out


class BallPass(NamedTuple):
    """A ball over some faces: those places of them that are steep or those that are flat, all of them or
    (`rest_of` mm) what a wider ball left."""

    tool: Assembly
    faces: list[Face]
    steep: bool
    rest_of: float | None


def passes_of(
    chosen: list[tuple[Assembly, list[Face]]], curved: list[Face], reach: FaceReach
) -> list[BallPass]:
    """The passes that are worth it: every ball on the faces of which it reaches something new, curved faces
    as the rest of the ball before, walls whole."""
    own = {f.id for f in curved}
    out = []
    for steep in (True, False):
        for i, (ball, faces) in enumerate(chosen):
            before = {tool.profile for tool, _ in chosen[:i]}
            for again in (False, True):
                wider = before if again else set()
                mine = [f for f in faces if (f.id in own and i > 0) == again]
                mine = [f for f in mine if reach.worth_a_pass(f, ball.profile, wider, steep)]
                if mine:
                    out.append(BallPass(ball, mine, steep, chosen[i - 1][0].diameter if again else None))
    return out

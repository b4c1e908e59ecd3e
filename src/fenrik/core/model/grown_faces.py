"""Flat and round faces of a triangle mesh, found by growing over facets.

Facets in one plane are a panel. From a panel and those that meet it smoothly a cylinder, cone or sphere is
fitted through the corners; it grows over all facets that lie on it and is fitted again, until nothing comes
or goes. What no round face took is a plane where it is one, else part of a patch between sharp edges. Corners
of facets lie on the surfaces that they stand for, as all tessellations put them, so the tolerance is that of
rounded numbers."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import product

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components

from fenrik.core.model.round_surface import Kind, RoundSurface, fitted

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
SHARP = math.radians(25.0)
"""Two facets that meet at more than this belong to different patches."""
STEP = math.radians(36.5)
"""Two facets of a round face meet at no more than this: a cylinder has ten sides at least."""
MEANT = math.radians(12.0)
"""Where facets are meant, those that meet at more than this are faces of their own."""
LEVEL = 1e-4
"""Sine of the angle up to which two facets lie in one plane."""
KINDS: tuple[Kind, ...] = ("cylinder", "cone", "sphere")
NUMBERS: dict[Kind, int] = {"cylinder": 5, "cone": 6, "sphere": 4}
"""How many numbers a surface has: through so many points there is always one."""
MOST_IDLE = 300
"""Seeds in turn that give no round face, before the rest are patches."""
ROUGH_TURN = math.radians(150.0)
"""A face whose corners lie beside it by more than numbers are rounded spans so much of a turn at least."""
LEAST_TURN, LEAST_STEPS = math.radians(40.0), 3
"""A round face spans so much of a turn, in so many panels at least."""
LIKE = 0.4
"""A panel of so large a share of another is like it."""
SPECK, COARSE = 2e-4, math.radians(60.0)
"""A panel of a triangle or two and so small a share of the part is a facet of a small round corner, which may
be so coarse."""
PROMINENT = 6.0
"""A panel so many times as large as those that it meets smoothly is a plane."""


@dataclass(frozen=True)
class GrownFaces:
    """`label` (m,) of every triangle, from 0; the round surface of a label, and the planes' labels."""

    label: Ints
    round_of: dict[int, RoundSurface]
    planes: set[int]


def tolerance_of(vertices: Floats) -> float:
    """How far corners may lie from their surface where it was made with gaps, or written with few digits."""
    size = float(np.linalg.norm(np.ptp(vertices, axis=0)))
    return max(min(1e-3, 1e-5 * size), 3e-7 * float(np.abs(vertices).max()))


def grown_faces(
    vertices: Floats, triangles: NDArray[np.int32], pairs: Ints, round_faces: bool = True
) -> GrownFaces:
    """The faces of a closed mesh whose triangles meet by `pairs` (e, 2). Where `round_faces` are not wanted,
    facets stay what they are."""
    return _Growing(vertices, triangles, pairs).faces(round_faces)


class _Growing:
    def __init__(self, vertices: Floats, triangles: NDArray[np.int32], pairs: Ints) -> None:
        self.vertices, self.triangles, self.pairs = vertices, triangles.astype(np.int64), pairs
        self.tolerance, self.least_turn = 4e-7 * max(float(np.abs(vertices).max()), 1.0), LEAST_TURN
        a, b, c = (vertices[self.triangles[:, k]] for k in range(3))
        cross = np.cross(b - a, c - a)
        long = np.linalg.norm(cross, axis=1)
        self.normals, self.area = cross / np.maximum(long, 1e-300)[:, None], 0.5 * long
        n1, n2 = self.normals[pairs[:, 0]], self.normals[pairs[:, 1]]
        self.bend = np.arctan2(np.linalg.norm(np.cross(n1, n2), axis=1), np.einsum("ij,ij->i", n1, n2))
        self.panel = self._panels()
        self.count = int(self.panel.max()) + 1 if len(self.panel) else 0
        self.panel_area = np.bincount(self.panel, self.area, self.count)
        order = np.argsort(self.panel, kind="stable")
        self.facets_of = np.split(order, np.searchsorted(self.panel[order], np.arange(1, self.count)))
        self.around_corner = np.bincount(self.triangles.ravel(), minlength=len(vertices))
        whole = float(self.area.sum())
        self.specks = (np.bincount(self.panel, minlength=self.count) <= 2) & (self.panel_area < SPECK * whole)
        self.free = np.ones(self.count, dtype=np.bool_)
        smooth = (self.bend <= STEP) & (self.panel[pairs[:, 0]] != self.panel[pairs[:, 1]])
        self.links = _graph(self.panel[pairs[smooth]], self.count)

    def _panels(self) -> Ints:
        """The number (m,) of every facet's panel: facets that meet in one plane. Slivers, whose direction is
        rounding, go with the neighbour on whose plane their corners lie."""
        one, two = self.pairs.T
        level = np.sin(np.minimum(self.bend, 0.5 * np.pi)) < LEVEL
        corners = self.vertices[self.triangles]
        for a, b in ((one, two), (two, one)):
            over = np.einsum("ijk,ik->ij", corners[b] - corners[a][:, :1], self.normals[a])
            reach = np.linalg.norm(corners[b] - corners[a][:, :1], axis=2).max(axis=1)
            level |= (np.abs(over).max(axis=1) < 0.1 * self.tolerance) & (
                self.area[b] < self.tolerance * reach
            )
        return _components(self.pairs[level], len(self.triangles))

    def faces(self, round_faces: bool) -> GrownFaces:
        label = np.full(len(self.triangles), -1, dtype=np.int64)
        round_of: dict[int, RoundSurface] = {}
        if round_faces:
            found = self._round(KINDS)
            # what is left holds slices of rings that are nearly round: those that go far round are none
            self.tolerance, self.least_turn = tolerance_of(self.vertices), ROUGH_TURN
            for surface, facets in [*found, *self._round(("cylinder", "cone"))]:
                label[facets] = len(round_of)
                round_of[len(round_of)] = surface
        planes: set[int] = set()
        for panel in self._flat(STEP if round_faces else MEANT):
            planes.add(len(round_of) + len(planes))
            label[self.facets_of[panel]] = len(round_of) + len(planes) - 1
        rest = label < 0
        coarse = self.specks[self.panel[self.pairs]].all(axis=1) & (self.bend <= COARSE)
        smooth = ((self.bend <= SHARP) | coarse) & rest[self.pairs].all(axis=1)
        patch = _components(self.pairs[smooth], len(label))[rest]
        label[rest] = len(round_of) + len(planes) + np.unique(patch, return_inverse=True)[1]
        return _in_order(label, round_of, planes)

    def _round(self, kinds: tuple[Kind, ...]) -> list[tuple[RoundSurface, Ints]]:
        """Round faces with their facets, from the largest seeds on."""
        found: list[tuple[RoundSurface, Ints]] = []
        idle = 0
        tried = np.zeros(self.count, dtype=np.bool_)
        for seed in np.argsort(-self.panel_area, kind="stable"):
            around = self._around(int(seed)) if self.free[seed] and not tried[seed] else []
            if len(around) < LEAST_STEPS:
                continue
            surface, panels = self._round_at(kinds, int(seed), around)
            if surface is None:
                tried[panels] = True
                idle += 1
                if idle > MOST_IDLE:
                    break
                continue
            idle = 0
            self.free[panels] = False
            found.append((surface, np.concatenate([self.facets_of[p] for p in panels])))
        return found

    def _round_at(
        self, kinds: tuple[Kind, ...], seed: int, around: list[int]
    ) -> tuple[RoundSurface | None, Ints]:
        """The round face that grows from a panel and those around, with its panels; with None those that need
        not be asked again."""
        asked = np.array([seed])
        # beside a tangent face only those that are alike tell the surface; single triangles of a cone tell
        # too little of it
        seeds = [around, self._alike(seed, 1), self._alike(seed, 4)]
        for kind, several in product(kinds, seeds):
            surface = self._fit(kind, several) if len(several) >= LEAST_STEPS else None
            if surface is None:
                continue
            grown, panels = self._grown(surface, seed)
            if grown is not None:
                return grown, panels
            asked = np.concatenate([asked, panels])
        return None, asked

    def _around(self, seed: int) -> list[int]:
        """A panel with the free ones that meet it smoothly."""
        beside = self.links.indices[self.links.indptr[seed] : self.links.indptr[seed + 1]]
        return [seed, *(int(p) for p in beside if self.free[p])]

    def _alike(self, seed: int, rings: int) -> list[int]:
        """The panels in so many rings around one that are about as large."""
        found, last = {seed}, [seed]
        for _ in range(rings):
            near = {q for p in last for q in self._around(p)[1:]} - found
            last = [p for p in near if self.panel_area[p] > LIKE * self.panel_area[seed]]
            found.update(last)
        return sorted(found)

    def _corners(self, panels: list[int] | Ints) -> Floats:
        facets = np.concatenate([self.facets_of[p] for p in panels])
        return np.asarray(self.vertices[np.unique(self.triangles[facets])])

    def _fit(self, kind: Kind, panels: list[int] | Ints) -> RoundSurface | None:
        """The surface through all corners of some panels, None where they do not lie on one."""
        points = self._corners(panels)
        if len(points) < NUMBERS[kind] + 2:
            return None
        largest = [self.facets_of[p][np.argmax(self.area[self.facets_of[p]])] for p in panels]
        surface = fitted(kind, points, self.vertices[self.triangles[largest, 0]], self.normals[largest])
        if surface is None or np.abs(surface.distance(points)).max() > self.tolerance:
            return None
        return surface

    def _grown(self, surface: RoundSurface, seed: int) -> tuple[RoundSurface | None, Ints]:
        """A surface grown from a panel over all that lies on it, fitted again, until nothing comes or goes,
        and the panels; None where it is no face."""
        panels = self._on(surface, seed)
        for _ in range(4):
            again = self._fit(surface.kind, panels) if len(panels) >= LEAST_STEPS else None
            if again is None:
                return None, panels[:0]
            before, surface = panels, again
            panels = self._on(surface, seed)
            if np.array_equal(before, panels):
                break
        points = self._corners(panels)
        turn = surface.turn(points)
        bow = surface.radius * (1.0 - math.cos(0.5 * min(turn, math.pi)))
        if len(panels) < LEAST_STEPS or turn < self.least_turn or bow < 20.0 * self.tolerance:
            return None, panels
        if self._slice(panels) or (surface.kind == "sphere" and not self._goes_round_a_corner(panels)):
            return None, panels
        return surface, panels

    def _goes_round_a_corner(self, panels: Ints) -> bool:
        """Whether some corner of facets has only facets of these panels around it. A row of them lies on a
        sphere wherever it lies between two circles."""
        facets = np.concatenate([self.facets_of[p] for p in panels])
        own = np.bincount(self.triangles[facets].ravel(), minlength=len(self.vertices))
        return bool(((own > 0) & (own == self.around_corner)).any())

    def _slice(self, panels: Ints) -> bool:
        """Whether panels are a row out of something that is curved both ways, as a torus: it goes on beside
        them in panels like them."""
        mine = np.zeros(self.count, dtype=np.bool_)
        mine[panels] = True
        goes_on = 0
        for panel in panels:
            beside = self.links.indices[self.links.indptr[panel] : self.links.indptr[panel + 1]]
            beside = beside[self.free[beside] & ~mine[beside]]
            goes_on += bool((self.panel_area[beside] > LIKE * self.panel_area[panel]).any())
        return goes_on > max(2, len(panels) // 2)

    def _on(self, surface: RoundSurface, seed: int) -> Ints:
        """The free panels on a surface that hang together with a seed."""
        near = np.abs(surface.distance(self.vertices)) <= self.tolerance
        facets = near[self.triangles].all(axis=1)
        middles = self.vertices[self.triangles].mean(axis=1)
        lean = np.einsum("ij,ij->i", self.normals, surface.outward(middles))
        sense = 1.0 if lean[self.facets_of[seed][0]] > 0 else -1.0
        sliver = self.area < self.tolerance**2
        facets &= (sense * lean > math.cos(STEP)) | sliver
        good = (np.bincount(self.panel, ~facets, self.count) == 0) & self.free
        good[seed] = True
        rows, columns = self.links.nonzero()
        both = good[rows] & good[columns]
        group = _components(np.column_stack([rows[both], columns[both]]), self.count)
        return np.flatnonzero(good & (group == group[seed]))

    def _flat(self, bend: float) -> list[int]:
        """The free panels that are planes: not the facets of what is curved, which meet their like at no more
        than a bend."""
        out = []
        if bend < STEP:
            smooth = (self.bend <= bend) & (self.panel[self.pairs[:, 0]] != self.panel[self.pairs[:, 1]])
            self.links = _graph(self.panel[self.pairs[smooth]], self.count)
        for panel in np.flatnonzero(self.free):
            beside = self._around(int(panel))[1:]
            most = float(self.panel_area[beside].max()) if beside else 0.0
            if self.panel_area[panel] > PROMINENT * most and not self.specks[panel]:
                out.append(int(panel))
        return out


def _graph(pairs: Ints, count: int) -> csr_matrix:
    both = np.concatenate([pairs, pairs[:, ::-1]])
    return coo_matrix((np.ones(len(both)), (both[:, 0], both[:, 1])), shape=(count, count)).tocsr()


def _components(pairs: Ints, count: int) -> Ints:
    links = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    return np.asarray(connected_components(links, directed=False)[1], dtype=np.int64)


def _in_order(label: Ints, round_of: dict[int, RoundSurface], planes: set[int]) -> GrownFaces:
    """Faces numbered in the order in which the file comes to them."""
    first = np.full(int(label.max()) + 1, len(label))
    np.minimum.at(first, label, np.arange(len(label)))
    rank = np.argsort(np.argsort(first))
    new = {int(old): int(rank[old]) for old in range(len(rank))}
    return GrownFaces(rank[label], {new[k]: s for k, s in round_of.items()}, {new[k] for k in planes})

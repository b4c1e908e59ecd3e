"""Round holes of a part, found from its faces.

Hollow cylinders and cones about one line are bands; bands of the same stretch join to one (a cylinder in two
halves); a band that goes all the way round is a piece of a hole; pieces that follow one another, directly or
over a flat ring, are one hole. Whether its ends are open, and whether a tool can come in from there, is
looked up along lines through the mesh.
"""

from __future__ import annotations

import json
from collections import defaultdict
from dataclasses import asdict, dataclass, replace
from itertools import pairwise
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core.features.bands import SAME_MM, Band, bands_of
from fenrik.core.features.columns import Columns
from fenrik.core.model.part_model import PartModel

Floats = NDArray[np.float64]
LINES = 12
"""Lines on a circle along which is looked up what lies over and under a hole."""
EDGE_SHARE = 0.2
"""A cone at the mouth wider than this share of the diameter is a countersink, else a broken edge (common
practice, no source)."""

Shape = Literal["plain", "chamfered", "countersunk", "counterbored", "stepped", "conical"]


@dataclass(frozen=True)
class Section:
    """A piece of a hole between two depths mm under its mouth, with its diameters mm there."""

    top: float
    bottom: float
    diameter_top: float
    diameter_bottom: float

    @property
    def straight(self) -> bool:
        """Whether it is a cylinder."""
        return abs(self.diameter_top - self.diameter_bottom) < SAME_MM


@dataclass(frozen=True)
class Hole:
    """A hole in the part frame. `mouth` (3,) lies on its axis in the plane of its upper end; `axis` (3,)
    points out of it, where a tool comes from; `sections` go down from the mouth; `entries` are the directions
    from which a tool can come in, `axis` first where it is one."""

    id: int
    faces: list[int]
    mouth: list[float]
    axis: list[float]
    sections: list[Section]
    through: bool
    shape: Shape
    entries: list[list[float]]

    @property
    def diameter(self) -> float:
        """The narrowest diameter of a straight section mm, that of the tool that makes the hole."""
        straight = [s.diameter_top for s in self.sections if s.straight]
        return min(straight) if straight else max(s.diameter_top for s in self.sections)

    @property
    def depth(self) -> float:
        """From the mouth to where the narrowest section ends mm, a drill's point not counted."""
        straight = [s for s in self.sections if s.straight]
        return straight[-1].bottom if straight else self.sections[-1].bottom

    @property
    def headed(self) -> bool:
        """Whether a screw's head has its place in it."""
        return self.shape in ("counterbored", "countersunk")

    def words(self) -> str:
        """The hole in a few words."""
        size = f"Ø{self.diameter:.3f}".rstrip("0").rstrip(".")
        end = "through" if self.through else f"{self.depth:.2f} deep".replace(".00", "")
        return size + {"plain": "", "conical": " conical"}.get(self.shape, f" {self.shape}") + f", {end}"

    def facts(self) -> dict[str, Any]:
        """As plain data."""
        return asdict(self) | {"diameter": self.diameter, "depth": self.depth, "words": self.words()}


def turned_over(hole: Hole) -> Hole:
    """A through hole as a tool meets it from its other end: what widens again farther in (a head's place) is
    not its to make."""
    whole = hole.sections[-1].bottom
    back = [
        Section(whole - s.bottom, whole - s.top, s.diameter_bottom, s.diameter_top)
        for s in reversed(hole.sections)
    ]
    kept: list[Section] = []
    for section in back:
        if any(k.straight for k in kept) and section.diameter_bottom > section.diameter_top + SAME_MM:
            break
        if any(k.straight and section.diameter_top > k.diameter_top + SAME_MM for k in kept):
            break
        kept.append(section)
    mouth = [m - whole * a for m, a in zip(hole.mouth, hole.axis, strict=True)]
    axis = [-a for a in hole.axis]
    return replace(hole, mouth=mouth, axis=axis, sections=kept, shape=_shape(kept))


def find_holes(part: PartModel) -> list[Hole]:
    """All holes, numbered from 1 in the order of their first faces."""
    neighbours = _neighbours(part)
    planes = [(f.id, f.normal) for f in part.faces if f.kind == "plane" and f.normal is not None]
    normals = np.array([n for _, n in planes], dtype=np.float64).reshape(-1, 3)
    rings: dict[tuple[float, ...], set[int]] = {}
    views: dict[tuple[float, ...], Columns] = {}
    found = []
    for axis, foot, bands in bands_of(part, lambda f: f.kind in ("cylinder", "cone") and bool(f.hollow)):
        key = tuple(axis.tolist())
        if key not in views:
            views[key] = Columns(part.mesh, axis)
            square = np.abs(normals @ axis) > 1 - 1e-6
            rings[key] = {f for (f, _), mine in zip(planes, square, strict=True) if mine}
        found += [
            hole
            for chain in _chains(bands, rings[key], neighbours)
            if (hole := _hole(chain, axis, foot, views[key])) is not None
        ]
    found.sort(key=lambda h: min(h.faces))
    return [Hole(**(vars(h) | {"id": i})) for i, h in enumerate(found, 1)]


def holes_to_bytes(holes: list[Hole]) -> bytes:
    """Holes as JSON."""
    return json.dumps([asdict(h) for h in holes]).encode()


def holes_from_bytes(blob: bytes) -> list[Hole]:
    """The inverse of `holes_to_bytes`."""
    rows = json.loads(blob)
    return [Hole(**(row | {"sections": [Section(**s) for s in row["sections"]]})) for row in rows]


def alike(holes: list[Hole]) -> list[list[Hole]]:
    """Holes of the same shape, sizes and direction together, in the order of their first."""
    groups: dict[tuple[object, ...], list[Hole]] = {}
    for hole in holes:
        sizes = tuple(
            round(v, 2) + 0.0
            for s in hole.sections
            for v in (s.top, s.bottom, s.diameter_top, s.diameter_bottom)
        )
        key = (hole.shape, hole.through, sizes, tuple(round(v, 4) + 0.0 for v in hole.axis))
        groups.setdefault(key, []).append(hole)
    return list(groups.values())


def _neighbours(part: PartModel) -> dict[int, set[int]]:
    out: dict[int, set[int]] = defaultdict(set)
    for edge in part.edges:
        for a in edge.faces:
            out[a].update(b for b in edge.faces if b != a)
    return out


def _chains(bands: list[Band], rings: set[int], neighbours: dict[int, set[int]]) -> list[list[Band]]:
    """Bands that follow one another, upward; `rings` are the level faces that may lie between them."""
    chains: list[list[Band]] = []
    for band in sorted(bands, key=lambda b: b.low):
        if chains and _follow(chains[-1][-1], band, rings, neighbours):
            chains[-1].append(band)
        else:
            chains.append([band])
    return chains


def _follow(below: Band, above: Band, rings: set[int], neighbours: dict[int, set[int]]) -> bool:
    if abs(above.low - below.high) > SAME_MM:
        return False
    near_below = set().union(*(neighbours[f] for f in below.faces))
    near_above = set().union(*(neighbours[f] for f in above.faces))
    return bool(near_below & above.faces or near_below & near_above & rings)


def _hole(chain: list[Band], axis: Floats, foot: Floats, view: Columns) -> Hole | None:
    """The hole of a chain of bands, seen from its better end."""
    low, high = chain[0].low, chain[-1].high
    pointed = chain[0].radius_low < SAME_MM or chain[-1].radius_high < SAME_MM
    centre = view.seen(foot[None])[0]
    narrow = min(max(b.radius_low, b.radius_high) for b in chain)
    radius_low, radius_high = (max(r, 0.1 * narrow) for r in (chain[0].radius_low, chain[-1].radius_high))
    circles = [share * r for r in (radius_low, radius_high) for share in (0.4, 0.6, 0.85, 0.97)]
    lines = view.crossings(centre[:2], [0.1 * narrow, *circles])
    rings = [lines[LINES * i : LINES * (i + 1)] for i in range(9)]
    inner, floor_low, outer_low = rings[0], rings[1] + rings[2] + rings[3], rings[4]
    floor_high, outer_high = rings[5] + rings[6] + rings[7], rings[8]
    base = float(centre[2])  # the foot lies square to the axis, so this is nought but for rounding
    slack = SAME_MM + 0.02 * narrow
    # a chain of bands encloses air: where lines within it cross the mesh between its ends, it is no hole
    between = [((z > base + low + slack) & (z < base + high - slack)).any() for z in inner]
    if all(between) and not pointed:
        return None
    closed_low = chain[0].radius_low < SAME_MM or _covered(floor_low, base + low, -1.0, 0.5 * radius_low)
    closed_high = chain[-1].radius_high < SAME_MM or _covered(floor_high, base + high, 1.0, 0.5 * radius_high)
    if closed_low and closed_high:
        return None
    free_low = not closed_low and not any((z < base + low - slack).any() for z in outer_low)
    free_high = not closed_high and not any((z > base + high + slack).any() for z in outer_high)
    up = _seen_from_above(chain, closed_low, closed_high, free_low, free_high)
    out, mouth = (axis, high) if up else (-axis, low)
    sections = []
    for band in reversed(chain) if up else chain:
        top, bottom = (high - band.high, high - band.low) if up else (band.low - low, band.high - low)
        ends = (band.radius_high, band.radius_low) if up else (band.radius_low, band.radius_high)
        sections.append(
            Section(round(top, 4) + 0.0, round(bottom, 4), round(2 * ends[0], 4), round(2 * ends[1], 4))
        )
    entries = [out.tolist()] if (free_high if up else free_low) else []
    entries += [(-out).tolist()] if (free_low if up else free_high) else []
    return Hole(
        0,
        sorted(set().union(*(b.faces for b in chain))),
        (foot + mouth * axis).tolist(),
        (out + 0.0).tolist(),
        sections,
        not (closed_low or closed_high),
        _shape(sections),
        entries,
    )


def _covered(lines: list[Floats], end: float, sense: float, within: float) -> bool:
    """Whether a face lies across the hole at its end or, behind a rounded corner, soon after."""
    beyond = [sense * (z - end) for z in lines]
    return sum(bool(((b > -SAME_MM) & (b < within)).any()) for b in beyond) > len(lines) // 2


def _seen_from_above(
    chain: list[Band], closed_low: bool, closed_high: bool, free_low: bool, free_high: bool
) -> bool:
    """Whether the upper end is the mouth: the open one, the one that a tool reaches, the wider one."""
    if closed_low != closed_high:
        return closed_low
    if free_low != free_high:
        return free_high
    return chain[-1].radius_high >= chain[0].radius_low - SAME_MM


def _shape(sections: list[Section]) -> Shape:
    """The name of what the sections make, a drill's point at the bottom not counted."""
    body = list(sections)
    if len(body) > 1 and not body[-1].straight and body[-1].diameter_bottom < SAME_MM:
        body.pop()
    if len(body) > 1 and not body[-1].straight and body[-1].diameter_bottom > body[-1].diameter_top:
        body.pop()  # an edge broken on the far side
    straight = [s for s in body if s.straight]
    if not straight:
        return "conical"
    steps = [s for a, s in pairwise(straight) if abs(a.diameter_top - s.diameter_top) > SAME_MM]
    if len(steps) == 1 and straight[0].diameter_top > straight[-1].diameter_top:
        return "counterbored"
    if steps:
        return "stepped"
    if body[0].straight:
        return "plain"
    wide = 0.5 * (body[0].diameter_top - straight[0].diameter_top)
    return "chamfered" if wide <= EDGE_SHARE * straight[0].diameter_top else "countersunk"

"""The drop cutter: the lowest tip position over a point at which the cutter does not cut the part.

Method: a facet, convex edge or vertex can be the contact only for tool positions in a small box,
its normals shifted by the cutter's contact offset; the boxes with their highest tip lie in a tree,
and a query is a point stab. Exact to rounding on the mesh. The idea of contact by facet, edge and
vertex goes back to Hwang (1992); the boxes from normal cones are our own.
"""

from __future__ import annotations

from collections import OrderedDict
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting import _chord_kernels as chords
from fenrik.core.cutting import _kernels as k
from fenrik.core.cutting.topology import Topology
from fenrik.core.tooling.profile import NO_CONE, Profile

__all__ = ["DropCutter", "Profile"]

Floats = NDArray[np.float64]
FLOOR = -1e30
MOST_KEPT = 4_000_000
"""Primitives in the trees that are kept of one part, about 200 bytes each."""


class DropCutter:
    """One cutter over one part. `allowance_radial` and `allowance_axial` mm stay on the part.

    With both equal, the material left is exactly the allowance everywhere; with different ones walls
    keep the radial and floors the axial value, slopes something between.
    """

    def __init__(
        self,
        topology: Topology,
        profile: Profile,
        allowance_radial: float = 0.0,
        allowance_axial: float = 0.0,
    ) -> None:
        grown = profile.grown(allowance_radial)
        self.profile, self.grown = profile, grown
        self.radius, self.corner = grown.radius, min(grown.corner, grown.radius)
        self.lift = allowance_axial
        self._nodes, self._child, self._kinds, self._rows = _kept_tree(topology, grown)
        self.low, self.high = topology.low, topology.high

    @property
    def tree(self) -> k.Tree:
        """What the kernels take."""
        return k.Tree(self._nodes, self._child, self._kinds, self._rows, self.grown.shape)

    def tip(self, points: Floats, floor: float = FLOOR) -> Floats:
        """Tip heights (n,) mm over points (n, 2) in the setup frame; `floor` where nothing is hit."""
        xy = np.ascontiguousarray(points, dtype=np.float64)
        run = k.drop_many if len(xy) > 2000 else k.drop_many_serial
        heights = run(xy, floor - self.lift if floor > FLOOR else FLOOR, self.tree)
        return np.asarray(heights + self.lift)

    def blocked(self, points: Floats, levels: Floats) -> NDArray[np.bool_]:
        """Whether the tip, dropped over points (n, 2), stays above levels (n,) mm: quicker than the
        heights."""
        xy = np.ascontiguousarray(points, dtype=np.float64)
        return np.asarray(k.blocked_many(xy, levels - self.lift, self.tree))

    def slope(self, points: Floats, reach: float = 0.02) -> Floats:
        """Steepness (n,) rad of the surface under the cutter's contact over points (n, 2): 0 on level ground,
        π/2 at a wall. The tip's track rises as the surface does at the contact; taken over `reach` mm to both
        sides."""
        xy = np.ascontiguousarray(points, dtype=np.float64)
        steps = np.array([[reach, 0.0], [-reach, 0.0], [0.0, reach], [0.0, -reach]])
        around = self.tip((xy[:, None, :] + steps[None, :, :]).reshape(-1, 2)).reshape(-1, 4)
        around = np.maximum(around, self.low[2] - 1.0)
        rise = np.hypot(around[:, 0] - around[:, 1], around[:, 2] - around[:, 3]) / (2.0 * reach)
        return np.asarray(np.arctan(rise))

    def along(self, start: Floats, end: Floats, step: float, tolerance: float, floor: float) -> Floats:
        """The tip's track (n, 3) from start to end (2,), straight in XY, its chords within
        `tolerance` mm of the exact track on both sides; rises over walls are cut square.

        The track is scanned at `step`, halved where it bends until the chord fits with a third of the
        tolerance, and thinned. Then the worst place of every chord is found exactly, on either side, and
        becomes a point where it is worse than the tolerance (see `_chord_kernels`).
        """
        floor -= self.lift
        finest = tolerance / 20
        ends = (start[0], start[1]), (end[0], end[1])
        samples = k.sample_line(*ends, k.Scan(step, tolerance / 3, finest), floor, self.tree)
        samples = samples[k.thin_line(samples, tolerance * 0.55)]
        length = float(np.hypot(*(end - start)))
        if length > 0:
            ux, uy = (float(v) for v in (end - start) / length)
            line = chords.Line(start[0], start[1], ux, uy)
            samples = chords.held_line(samples, line, chords.Limits(tolerance, finest, floor), self.tree)
        samples = _square_steps(samples, tolerance)
        share = (samples[:, 0] / length if length > 0 else np.zeros(len(samples)))[:, None]
        xy = start + share * (end - start)
        return np.column_stack([xy, samples[:, 1] + self.lift])


_TREES: WeakKeyDictionary[Topology, OrderedDict[tuple[float, ...], tuple[NDArray[Any], ...]]]
_TREES = WeakKeyDictionary()


def _kept_tree(topology: Topology, profile: Profile) -> tuple[NDArray[Any], ...]:
    """The tree of a cutter over a part: nodes, children, kinds and rows of the primitives. The operations of
    a plan ask for the same ones again, so those used last are kept as long as the part's primitives are."""
    trees = _TREES.setdefault(topology, OrderedDict())
    if profile.shape not in trees:
        kinds, rows, boxes, tops = _primitives(topology, profile)
        nodes, child, order = k.build_tree(boxes, tops, 4)
        trees[profile.shape] = nodes, child, kinds[order], rows[order]
        while len(trees) > 1 and sum(len(t[2]) for t in trees.values()) > MOST_KEPT:
            trees.popitem(last=False)
    trees.move_to_end(profile.shape)
    return trees[profile.shape]


def _square_steps(samples: Floats, tolerance: float) -> Floats:
    """Where the track jumps within less than the tolerance, rises before and falls after the step."""
    ds, dz = np.diff(samples[:, 0]), np.diff(samples[:, 1])
    steep = np.flatnonzero((ds < tolerance) & (np.abs(dz) > 4 * tolerance))
    if len(steep) == 0:
        return samples
    corner_s = np.where(dz[steep] > 0, samples[steep, 0], samples[steep + 1, 0])
    corner_z = np.maximum(samples[steep, 1], samples[steep + 1, 1])
    return np.insert(samples, steep + 1, np.column_stack([corner_s, corner_z]), axis=0)


def _primitives(topology: Topology, profile: Profile) -> tuple[NDArray[np.int8], Floats, Floats, Floats]:
    parts = [_facet_rows(topology, profile), _edge_rows(topology, profile), _vertex_rows(topology, profile)]
    kinds = np.concatenate([np.full(len(p[0]), i, dtype=np.int8) for i, p in enumerate(parts)])
    rows, boxes, tops = (np.concatenate([p[j] for p in parts]) for j in range(3))
    return kinds, rows, boxes, tops


def contact(profile: Profile, steep: Floats) -> tuple[Floats, Floats]:
    """Distance from the axis (n,) and height over the tip (n,) of the point of the underside that touches
    ground of steepness `steep` (n,) rad. Ground as steep as the cone touches at the cone's end."""
    radius, flat, corner, _, _, _, centre, rim, _, middle = profile.shape
    below = steep < profile.steepness - 1e-12 if profile.tapered else np.ones(len(steep), dtype=np.bool_)
    sine, cosine = np.sin(steep), np.cos(steep)
    away = np.where(below, flat * (steep > 1e-12) + corner * sine, centre + rim * sine)
    up = np.where(below, corner * (1.0 - cosine), middle - rim * cosine)
    return np.minimum(away, radius), up


def _facet_rows(topology: Topology, profile: Profile) -> tuple[Floats, Floats, Floats]:
    corners, n = topology.facets, topology.facet_normals
    across = np.hypot(n[:, 0], n[:, 1])
    heading = np.divide(n[:, :2], across[:, None], out=np.zeros((len(n), 2)), where=across[:, None] > 1e-12)
    if profile.tapered:
        away, up = contact(profile, np.arctan2(across, n[:, 2]))
        shift = away[:, None] * heading
    else:  # the same without angles, which would cost digits
        shift = profile.flat * heading + profile.corner * n[:, :2]
        up = profile.corner * (1.0 - n[:, 2])
    moved = corners[:, :, :2] + shift[:, None, :]
    rows = np.zeros((len(n), 12))
    rows[:, 0], rows[:, 1] = -n[:, 0] / n[:, 2], -n[:, 1] / n[:, 2]
    lift = -up
    rows[:, 2] = corners[:, 0, 2] + lift - rows[:, 0] * moved[:, 0, 0] - rows[:, 1] * moved[:, 0, 1]
    for side in range(3):
        p, q = moved[:, side], moved[:, (side + 1) % 3]
        nx, ny = p[:, 1] - q[:, 1], q[:, 0] - p[:, 0]
        size = np.maximum(np.hypot(nx, ny), 1e-300)
        rows[:, 3 + 3 * side], rows[:, 4 + 3 * side] = nx / size, ny / size
        rows[:, 5 + 3 * side] = -(nx * p[:, 0] + ny * p[:, 1]) / size
    boxes = np.stack(
        [moved[:, :, 0].min(1), moved[:, :, 0].max(1), moved[:, :, 1].min(1), moved[:, :, 1].max(1)], 1
    )
    boxes += [-1e-9, 1e-9, -1e-9, 1e-9]
    return rows, boxes, corners[:, :, 2].max(axis=1) + lift + 1e-9


def _edge_rows(topology: Topology, profile: Profile) -> tuple[Floats, Floats, Floats]:
    ends = topology.edges
    run = ends[:, 1] - ends[:, 0]
    length = np.hypot(run[:, 0], run[:, 1])
    level = length > 1e-9  # an upright edge is its upper vertex
    ends, run, length = ends[level], run[level], length[level]
    rows = np.zeros((len(ends), 12))
    rows[:, :3] = ends[:, 0]
    rows[:, 3:5] = run[:, :2] / length[:, None]
    rows[:, 5], rows[:, 6] = length, run[:, 2] / length
    low, high = _arc_offsets(topology.edge_normals[level], profile)
    boxes = np.stack(
        [
            ends[:, :, 0].min(1) + low[:, 0],
            ends[:, :, 0].max(1) + high[:, 0],
            ends[:, :, 1].min(1) + low[:, 1],
            ends[:, :, 1].max(1) + high[:, 1],
        ],
        axis=1,
    )
    return rows, boxes, ends[:, :, 2].max(axis=1) + 1e-9


def _vertex_rows(topology: Topology, profile: Profile) -> tuple[Floats, Floats, Floats]:
    points, axis, spread = topology.vertices, topology.vertex_axis, topology.vertex_spread
    rows = np.zeros((len(points), 12))
    rows[:, :3] = points
    low, high = np.empty((len(points), 2)), np.empty((len(points), 2))
    radius, flat, corner = profile.radius, profile.flat, profile.corner
    tilt = np.arccos(np.clip(axis[:, 2], -1, 1))
    around = (tilt <= spread + 1e-6) | (tilt >= np.pi - spread - 1e-6)
    swing = np.where(
        around, np.pi, np.arcsin(np.clip(np.sin(spread) / np.maximum(np.sin(tilt), 1e-12), 0, 1))
    )
    heading = np.arctan2(axis[:, 1], axis[:, 0])
    if profile.tapered:
        near, far = _contact_range(profile, tilt - spread, tilt + spread)
    for j in range(2):
        h_low, h_high = _cos_range(heading - j * np.pi / 2, swing)
        if profile.tapered:
            low[:, j], high[:, j] = _times(near, far, h_low, h_high)
            continue
        angle = np.arccos(np.clip(axis[:, j], -1, 1))
        n_high = np.cos(np.maximum(0.0, angle - spread))
        n_low = np.cos(np.minimum(np.pi, angle + spread))
        low[:, j], high[:, j] = flat * h_low + corner * n_low, flat * h_high + corner * n_high
    wide = spread > 1.0
    low[wide], high[wide] = -radius, radius
    low, high = np.maximum(low - 1e-7, -radius), np.minimum(high + 1e-7, radius)
    boxes = np.stack(
        [
            points[:, 0] + low[:, 0],
            points[:, 0] + high[:, 0],
            points[:, 1] + low[:, 1],
            points[:, 1] + high[:, 1],
        ],
        1,
    )
    return rows, boxes, points[:, 2] + 1e-9


def _contact_range(profile: Profile, least: Floats, most: Floats) -> tuple[Floats, Floats]:
    """Smallest and largest distance from the axis at which ground between two steepnesses rad touches."""
    slack = 1e-6  # at the cone's own steepness the contact jumps from its beginning to its end
    least, most = np.clip(least - slack, 0.0, NO_CONE), np.clip(most + slack, 0.0, NO_CONE)
    near = np.where(least <= 2 * slack, 0.0, contact(profile, least)[0])
    return near, contact(profile, most)[0]


def _times(near: Floats, far: Floats, low: Floats, high: Floats) -> tuple[Floats, Floats]:
    """Range of a distance near..far times a cosine low..high."""
    return np.where(low < 0, far * low, near * low), np.where(high > 0, far * high, near * high)


def _cos_range(middle: Floats, swing: Floats) -> tuple[Floats, Floats]:
    """Smallest and largest cosine over the angles middle ± swing."""
    wrapped = np.abs((middle + np.pi) % (2 * np.pi) - np.pi)
    high = np.cos(np.maximum(0.0, wrapped - swing))
    low = np.cos(np.minimum(np.pi, wrapped + swing))
    return low, high


def _arc_offsets(normals: Floats, profile: Profile) -> tuple[Floats, Floats]:
    """Box (n, 2) low and high of the tool's offset from a contact whose normal lies on the shorter
    great arc between the two normals (n, 2, 3); the whole disc where they are not given."""
    n1, n2 = normals[:, 0], normals[:, 1]
    cosine = np.clip(np.einsum("ij,ij->i", n1, n2), -1, 1)
    sweep = np.arccos(cosine)
    square = n2 - cosine[:, None] * n1
    size = np.linalg.norm(square, axis=1, keepdims=True)
    square = np.divide(square, size, out=np.zeros_like(square), where=size > 1e-12)
    c1, c2 = np.hypot(n1[:, 0], n1[:, 1]), np.hypot(n2[:, 0], n2[:, 1])
    h1, h2 = n1[:, :2] / np.maximum(c1, 1e-12)[:, None], n2[:, :2] / np.maximum(c2, 1e-12)[:, None]
    between = np.arccos(np.clip(np.einsum("ij,ij->i", h1, h2), -1, 1))
    turn = np.sign(h1[:, 0] * h2[:, 1] - h1[:, 1] * h2[:, 0])
    middle = np.arctan2(h1[:, 1], h1[:, 0]) + turn * between / 2
    whole_disc = (c1 < 1e-6) | (c2 < 1e-6) | (between > 3.0)
    swing = np.where(whole_disc, np.pi, between / 2)
    low, high = np.empty((len(n1), 2)), np.empty((len(n1), 2))
    flat, corner = profile.flat, profile.corner
    if profile.tapered:
        top = _along_arc(n1, square, sweep, 2)
        near, far = _contact_range(profile, *(np.arccos(np.clip(t, -1, 1)) for t in (top[1], top[0])))
    for j in range(2):
        if profile.tapered:
            h_low, h_high = _cos_range(middle - j * np.pi / 2, swing)
            low[:, j], high[:, j] = _times(near, far, h_low, h_high)
            continue
        n_low, n_high = _along_arc(n1, square, sweep, j)
        h_low, h_high = _cos_range(middle - j * np.pi / 2, swing)
        low[:, j], high[:, j] = flat * h_low + corner * n_low, flat * h_high + corner * n_high
    radius = profile.radius
    unknown = np.isnan(normals).any(axis=(1, 2)) | (sweep > 3.0)
    low[unknown], high[unknown] = -radius, radius
    return np.maximum(low - 1e-7, -radius), np.minimum(high + 1e-7, radius)


def _along_arc(n1: Floats, square: Floats, sweep: Floats, j: int) -> tuple[Floats, Floats]:
    """Smallest and largest coordinate j over the great arc from n1 (n, 3) by `sweep` (n,) towards `square`
    (n, 3)."""
    amplitude = np.hypot(n1[:, j], square[:, j])
    peak = np.arctan2(square[:, j], n1[:, j])
    start, end = n1[:, j], amplitude * np.cos(sweep - peak)
    high = np.where((peak >= 0) & (peak <= sweep), amplitude, np.maximum(start, end))
    trough = np.where(peak > 0, peak - np.pi, peak + np.pi)
    low = np.where((trough >= 0) & (trough <= sweep), -amplitude, np.minimum(start, end))
    return low, high

"""How far the cut stock is from the design: leftover, on size, overcut."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.model.distance import DistanceField
from fenrik.core.proof.edges import EdgeZone
from fenrik.core.proof.engravings import EngravingZone
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.numbers import DeviationFacts, FaceDeviation, Histogram, Worst
from fenrik.core.proof.run import Run
from fenrik.core.proof.threads import ThreadZone
from fenrik.core.stock.cuts import Cuts
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.surface import UNSEEN, StockSurface, surface

Floats = NDArray[np.float64]
PLACES = 24
"""Faces whose worst place is listed, to either side."""


@dataclass(frozen=True)
class Deviation:
    """Signed deviation of the stock's surface from the design, mm, positive for leftover.

    `at_vertices` (n,) belongs to `surface`; `at_points` (m,) to its exact points.
    """

    surface: StockSurface
    at_vertices: Floats
    at_points: Floats
    facts: DeviationFacts


OwnZone = ThreadZone | EdgeZone | EngravingZone


@dataclass(frozen=True)
class SideZone:
    """A zone in the frame of a side; `side_from_setup` (4, 4)."""

    zone: OwnZone
    side_from_setup: Floats

    def corrected(self, points: Floats, distance: Floats) -> Floats:
        """As the zone's, for points (n, 3) in the setup frame."""
        return self.zone.corrected(apply(self.side_from_setup, points), distance)


Zone = OwnZone | SideZone


def measure(
    stock: Stock,
    design: DistanceField,
    area: float,
    tolerance: float,
    cuts: Cuts | None = None,
    skin: StockSurface | None = None,
    unshown: Sequence[Zone] = (),
) -> Deviation:
    """Deviation of every exact point of the stock's surface; `area` mm² is the design's, `tolerance` mm
    the half band of "on size".

    The share on size is the area of the stock's surface within the band over the design's area; a point on a
    ray stands for cell²/|n| of surface, n being the design's normal along the ray, and only the direction in
    which the normal is longest counts. `cuts` are what the stock's tags stand for, `skin` is the stock's
    surface where it has been built, `unshown` are threads, broken edges and engravings that the design does
    not show.
    """
    skin = skin if skin is not None else surface(stock, cuts)
    distance, faces, normal = design.signed(skin.points)
    for zone in unshown:
        distance = zone.corrected(skin.points, distance)
    along = np.abs(np.take_along_axis(normal, skin.axes[:, None].astype(np.int64), axis=1))[:, 0]
    dominant = along >= np.abs(normal).max(axis=1) - 1e-9
    ties = (np.abs(np.abs(normal) - along[:, None]) < 1e-9).sum(axis=1)
    weight = np.where(dominant, stock.cell**2 / np.maximum(along, 0.5) / np.maximum(ties, 1), 0.0)
    # where a node lies on the surface itself, rays of two directions may differ about it and one meets no
    # crossing: such a point is the middle between two nodes and no place of the stock
    met = skin.tags != UNSEEN
    every = distance
    distance, faces, weight = distance[met], faces[met], weight[met]
    points, normal = skin.points[met], normal[met]
    on_size = np.abs(distance) <= tolerance
    near = np.abs(distance) <= 10 * tolerance
    counts, edges = np.histogram(
        distance[near], bins=41, range=(-10 * tolerance, 10 * tolerance), weights=weight[near]
    )
    facts = DeviationFacts(
        tolerance_mm=tolerance,
        max_overcut_mm=float(max(0.0, -distance.min())) if len(distance) else 0.0,
        max_leftover_mm=float(max(0.0, distance.max())) if len(distance) else 0.0,
        share_within_tolerance=float(min(1.0, weight[on_size].sum() / area)) if area > 0 else 0.0,
        share_leftover=float(weight[distance > tolerance].sum() / max(weight.sum(), 1e-12)),
        share_overcut=float(weight[distance < -tolerance].sum() / max(weight.sum(), 1e-12)),
        histogram=Histogram(edges.tolist(), counts.tolist()),
        cell_mm=stock.cell,
        by_face=_by_face(distance, faces, weight, tolerance),
        worst=_worst(points, distance, faces, tolerance),
    )
    return Deviation(skin, skin.at_vertices(every), every, facts)


def _worst(points: Floats, distance: Floats, faces: NDArray[np.int32], tolerance: float) -> list[Worst]:
    """The worst place beyond the tolerance of every face, overcuts first, the farthest off first."""
    out: list[Worst] = []
    for sign in (-1.0, 1.0):
        off = np.flatnonzero(sign * distance > tolerance)
        off = off[np.argsort(-sign * distance[off], kind="stable")]
        first = np.sort(np.unique(faces[off], return_index=True)[1])
        for i in off[first[:PLACES]]:
            x, y, z = points[i].tolist()
            out.append(Worst((x, y, z), float(distance[i]), int(faces[i])))
    return out


def _by_face(
    distance: Floats, faces: NDArray[np.int32], weight: Floats, tolerance: float
) -> list[FaceDeviation]:
    """Per design face: worst overcut, worst leftover and the share of its measured area on size."""
    out = []
    for face in np.unique(faces):
        mine = faces == face
        total = float(weight[mine].sum())
        share = float(weight[mine & (np.abs(distance) <= tolerance)].sum() / total) if total > 0 else 0.0
        low, high = float(distance[mine].min()), float(distance[mine].max())
        out.append(FaceDeviation(int(face), max(0.0, -low), max(0.0, high), share))
    return out


def overcut_findings(
    deviation: Deviation, move_of_tag: NDArray[np.int32], run: Run, limits: list[float]
) -> list[Finding]:
    """One finding per operation that cut deeper into the design than its limit (mm), at the worst place.
    `move_of_tag` is the move behind each tag of the stock."""
    findings = []
    tags = deviation.surface.tags
    cut = (tags >= 0) & (tags < len(move_of_tag))
    move = np.where(cut, move_of_tag[np.where(cut, tags, 0)] if len(move_of_tag) else 0, -1)
    step = np.where(cut, run.step_of[np.maximum(move, 0)], -1)
    for number, name in enumerate(run.names):
        mine = np.flatnonzero((step == number) & (deviation.at_points < -limits[number]))
        if not len(mine):
            continue
        worst = mine[np.argmin(deviation.at_points[mine])]
        depth = float(-deviation.at_points[worst])
        i = int(move[worst])
        x, y, z = (float(v) for v in deviation.surface.points[worst])
        findings.append(
            Finding(
                "stop",
                "overcut",
                f"'{name}' cuts {depth:.4f} mm into the part at ({x:.2f}, {y:.2f}, {z:.2f}); "
                f"{limits[number]:.4f} mm are allowed.",
                "Check the operation's allowance and tolerance, and the tool's dimensions.",
                operation=name,
                place=(x, y, z),
                **run.moment(i),
                measure=depth,
                limit=limits[number],
                bodies=("cutter", "part"),
            )
        )
    return findings

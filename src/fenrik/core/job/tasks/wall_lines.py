"""The walls that an operation names, seen from above in the setup's frame."""

from __future__ import annotations

import math

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import LineString, MultiLineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import DocumentError, InputError
from fenrik.core.job.document.picks import WallPick
from fenrik.core.job.tasks.edges_of_part import pieces_of_edge
from fenrik.core.model.outline import section_at, sheets
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.setups.setup import Clamped
from fenrik.core.strategies.base import Rim, Wall

Floats = NDArray[np.float64]

SAME_MM = 1e-3
DRAFT, LEVEL = 0.2, 0.98
"""Between these Z shares of its normal a face is a chamfer: 12 to 79° from upright."""
UPRIGHT = 2e-3
"""A triangle with a smaller Z share of its normal stands upright: 0.1°, more than a free-form wall wavers
by."""
THIN_MM = 5e-4
"""By how much lines of a wall are thinned before they are cut with each other."""
FEW = 200
"""Walls of so many triangles are taken with all their edges."""
SECTION_MM, MOST_SECTIONS = 0.8, 60
"""Distance in plan view of the heights at which a leaning wall is cut, and how many at most."""
STEEP = 0.5
"""A wall's normal leans by less than this (its Z share) from the level: 30°."""


def wall_lines(
    picks: list[WallPick],
    part: PartModel,
    mesh: TriangleMesh,
    outline: BaseGeometry,
    clamped: Clamped,
    where: str,
) -> list[Wall]:
    """One wall for every face that the picks name, none twice; a level face stands for the walls that meet
    it, an edge for the wall along it, the outline for all that bounds the part seen from above. Raises
    DocumentError for faces and edges that are no walls and have none."""
    out: list[Wall] = []
    seen: set[int] = set()
    lean = _leaning(mesh)
    for i, pick in enumerate(picks):
        if pick.edge is not None:
            out.append(_wall_at(pick.edge, part, mesh, clamped, lean, f"{where}[{i}].edge"))
            continue
        if pick.face is None:
            out.append(
                Wall("the outline", outline.boundary, float(clamped.part_low[2]), float(clamped.part_high[2]))
            )
            continue
        _check(pick.face, part, f"{where}[{i}].face")
        steep = [pick.face] if lean[pick.face] < STEEP else _beside(part, pick.face, lean)
        if not steep:
            raise DocumentError(
                f"Face {pick.face} is no wall and no wall meets it.",
                remedy="Pick faces that stand upright, or a floor or top that such faces meet.",
                where=f"{where}[{i}].face",
            )
        for face in steep:
            if face not in seen:
                seen.add(face)
                out.append(wall_of(mesh, face))
    return out


def rims(
    picks: list[WallPick],
    part: PartModel,
    mesh: TriangleMesh,
    outline: BaseGeometry,
    clamped: Clamped,
    where: str,
) -> list[Rim]:
    """The edges that the picks stand for: where walls fall from a level face, the upper end of a wall, a
    chamfer, an edge itself; of the outline those at the part's top. Raises DocumentError for faces that have
    none and for edges that cannot be broken from above."""
    lean = _leaning(mesh)
    out: list[Rim] = []
    for i, pick in enumerate(picks):
        if pick.edge is not None:
            out.append(_rim_at(pick.edge, part, mesh, clamped, lean, f"{where}[{i}].edge"))
            continue
        if pick.face is None:
            out.append(Rim("the outline", outline.boundary, float(clamped.part_high[2])))
            continue
        _check(pick.face, part, f"{where}[{i}].face")
        own = wall_of(mesh, pick.face)
        if DRAFT < lean[pick.face] <= LEVEL:
            out.append(_chamfer(mesh, pick.face))
        elif lean[pick.face] <= DRAFT:
            out.append(Rim(f"the edge over face {pick.face}", own.line, own.high))
        else:
            falling = _falling(mesh, pick.face, lean)
            if falling.is_empty:
                raise DocumentError(
                    f"No wall falls from face {pick.face}, so that it has no edge to break.",
                    remedy="Pick a top face, a wall under the edge, or a chamfer.",
                    where=f"{where}[{i}].face",
                )
            out.append(Rim(f"the edges of face {pick.face}", falling, own.high))
    return out


def _wall_at(
    edge: int, part: PartModel, mesh: TriangleMesh, clamped: Clamped, lean: dict[int, float], where: str
) -> Wall:
    """The wall that an edge bounds, along it. Raises DocumentError for an edge that bounds none."""
    line, _ = _level_line(edge, part, mesh, clamped, where)
    steep = [f for f in part.edges[edge - 1].faces if lean[f] < STEEP]
    if not steep:
        raise DocumentError(
            f"Edge {edge} bounds no wall: faces {' and '.join(map(str, part.edges[edge - 1].faces))} do "
            "not stand upright.",
            remedy="Pick an edge at the foot or at the top of a wall.",
            where=where,
        )
    walls = [wall_of(mesh, f) for f in steep]
    return Wall(f"the wall at edge {edge}", line, min(w.low for w in walls), max(w.high for w in walls))


def _rim_at(
    edge: int, part: PartModel, mesh: TriangleMesh, clamped: Clamped, lean: dict[int, float], where: str
) -> Rim:
    """An edge to break. Raises DocumentError for one from which no wall falls."""
    line, height = _level_line(edge, part, mesh, clamped, where)
    faces = part.edges[edge - 1].faces
    leaning = [f for f in faces if DRAFT < lean[f] <= LEVEL]
    if leaning:
        return _chamfer(mesh, leaning[0])
    if not any(lean[f] <= DRAFT and wall_of(mesh, f).low < height - SAME_MM for f in faces):
        raise DocumentError(
            f"No wall falls from edge {edge} at Z {height:.2f}: it is the foot of one, or stands upright.",
            remedy="Pick an edge at the top of a wall.",
            where=where,
        )
    return Rim(f"edge {edge}", line, height)


def _level_line(
    edge: int, part: PartModel, mesh: TriangleMesh, clamped: Clamped, where: str
) -> tuple[BaseGeometry, float]:
    """An edge in plan view, of every part of an array, and its height. Raises DocumentError for one that the
    part does not have and for one that is not level."""
    if not 1 <= edge <= len(part.edges):
        raise DocumentError(
            f"Edge {edge} does not exist: the part has {len(part.edges)} edges.",
            remedy="Pick the edge again.",
            where=where,
        )
    pieces = pieces_of_edge(edge, part, mesh, clamped.places)
    heights = pieces[:, :, 2]
    if not len(pieces) or np.ptp(heights) > SAME_MM:
        what = "bounds nothing" if not len(pieces) else "is not level"
        raise DocumentError(f"Edge {edge} {what}.", remedy="Pick a level edge of a wall.", where=where)
    return shapely.union_all(shapely.linestrings(pieces[:, :, :2])), float(heights.mean())


def _check(face: int, part: PartModel, where: str) -> None:
    """Raises InputError for a face that the part does not have, with its place in the document."""
    try:
        part.face(face)
    except InputError as error:
        error.where = where
        raise


def _falling(mesh: TriangleMesh, face: int, lean: dict[int, float]) -> BaseGeometry:
    """The borders of a level face from which a steep neighbour goes down, in plan view (it may go up
    elsewhere)."""
    tri, count = mesh.triangles.astype(np.int64), len(mesh.vertices)
    sides = np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]])
    third = np.concatenate([tri[:, 2], tri[:, 0], tri[:, 1]])
    owner = np.tile(mesh.face_ids, 3)
    key = sides.min(axis=1) * count + sides.max(axis=1)
    steep = np.isin(owner, [f for f, share in lean.items() if share < STEEP])
    beside = steep & (owner != face) & np.isin(key, key[owner == face])
    heights = mesh.vertices[:, 2]
    down = sides[beside & (heights[third] < heights[sides].min(axis=1) - SAME_MM)]
    return (
        shapely.union_all(shapely.linestrings(mesh.vertices[down][:, :, :2])) if len(down) else LineString()
    )


def _chamfer(mesh: TriangleMesh, face: int) -> Rim:
    """A leaning face: the lines of its lower border, its heights, and its width seen from above."""
    corners = mesh.vertices[mesh.triangles[mesh.face_ids == face]]
    low, high = float(corners[:, :, 2].min()), float(corners[:, :, 2].max())
    sides = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]])
    lower = sides[(np.abs(sides[:, :, 2] - low) < SAME_MM).all(axis=1)][:, :, :2]
    line = shapely.union_all(shapely.linestrings(lower)) if len(lower) else LineString()
    top = shapely.multipoints(
        corners.reshape(-1, 3)[np.abs(corners.reshape(-1, 3)[:, 2] - high) < SAME_MM][:, :2]
    )
    return Rim(f"The chamfer (face {face})", line, high, low, round(float(line.distance(top)), 6))


def _leaning(mesh: TriangleMesh) -> dict[int, float]:
    """Per face the mean of |Z| of its triangles' normals, by area."""
    corners = mesh.vertices[mesh.triangles]
    square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(square, axis=1)
    whole = np.bincount(mesh.face_ids, weights=area)
    level = np.bincount(mesh.face_ids, weights=np.abs(square[:, 2]))
    return {int(f): float(level[f] / max(whole[f], 1e-12)) for f in np.unique(mesh.face_ids)}


def _beside(part: PartModel, face: int, lean: dict[int, float]) -> list[int]:
    meets = {f for e in part.edges if face in e.faces for f in e.faces}
    return sorted(f for f in meets if f != face and lean.get(f, 1.0) < STEEP)


def wall_of(mesh: TriangleMesh, face: int) -> Wall:
    """A face's triangles seen from above, as lines."""
    triangles = mesh.triangles[mesh.face_ids == face].astype(np.int64)
    corners = mesh.vertices[triangles]
    heights = corners[:, :, 2]
    low, high = float(heights.min()), float(heights.max())
    if len(triangles) <= FEW:
        sides = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]])
    else:
        sides = np.concatenate([_outer_edges(mesh, triangles, corners), _sections(corners, low, high)])
    return Wall(f"the wall (face {face})", _united(sides[:, :, :2]), low, high)


def _united(sides: Floats) -> BaseGeometry:
    """Lines (n, 2, 2) in plan view as one, each joined to its neighbours and thinned before they are cut with
    each other: a union of thousands of single lines does not end."""
    ends = np.round(sides, 7)
    ends = ends[np.hypot(*(ends[:, 1] - ends[:, 0]).T) > 1e-7]
    if not len(ends):
        return LineString()
    backward = (ends[:, 0, 0] > ends[:, 1, 0]) | (
        (ends[:, 0, 0] == ends[:, 1, 0]) & (ends[:, 0, 1] > ends[:, 1, 1])
    )
    ends[backward] = ends[backward][:, ::-1]
    ends = np.unique(ends.reshape(-1, 4), axis=0).reshape(-1, 2, 2)
    merged = shapely.line_merge(MultiLineString(list(ends)))
    return shapely.union_all(shapely.get_parts(shapely.simplify(merged, THIN_MM)))


def _outer_edges(mesh: TriangleMesh, triangles: NDArray[np.int64], corners: Floats) -> Floats:
    """Of a wall's triangles (n, 3) the edges (k, 2, 3) that bound them, and those where it turns from looking
    up to looking down: seen from above all others lie between these."""
    square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    share = square[:, 2] / np.maximum(np.linalg.norm(square, axis=1), 1e-300)
    kind = np.where(np.abs(share) < UPRIGHT, 0.0, np.sign(share))
    _, borders = sheets(triangles, kind, len(mesh.vertices))
    edges = np.unique(np.sort(np.concatenate(borders), axis=1), axis=0)
    return np.asarray(mesh.vertices[edges])


def _sections(corners: Floats, low: float, high: float) -> Floats:
    """A leaning wall cut at heights so near to each other that no tool passes between their lines: edges (k,
    2, 3)."""
    square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    lean = np.abs(square[:, 2]) / np.maximum(np.hypot(square[:, 0], square[:, 1]), 1e-300)
    run = (high - low) * float(np.quantile(lean, 0.95))
    out = [np.zeros((0, 2, 3))]
    for z in np.linspace(low, high, min(MOST_SECTIONS, math.ceil(run / SECTION_MM)) + 1)[1:-1]:
        out.append(section_at(corners, float(z)))
    return np.concatenate(out)

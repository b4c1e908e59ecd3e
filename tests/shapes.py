"""Solids with traits of parts that others draw, made here: fins, a lug on end, a relief with lettering, a
plate of clearance holes, a hinge of facets, a flange of free-form surfaces."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import shapely
import trimesh
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

from fenrik.core.lettering.letters import lettering


def _box(x: float, y: float, z: float, dx: float, dy: float, dz: float) -> Any:
    return BRepPrimAPI_MakeBox(gp_Pnt(x, y, z), dx, dy, dz).Shape()


def _post(x: float, y: float, z: float, radius: float, height: float, along=(0, 0, 1)) -> Any:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(*along)), radius, height).Shape()


def _made(body: Any, add=(), cut=()) -> Any:
    for one in add:
        body = BRepAlgoAPI_Fuse(body, one).Shape()
    for one in cut:
        body = BRepAlgoAPI_Cut(body, one).Shape()
    return body


def fins() -> Any:
    """A cooler: nine fins 2 mm thick and 18 high, 5 mm apart, on a base."""
    return _made(_box(0, 0, 0, 70, 40, 6), [_box(2 + 8 * k, 0, 6, 2, 40, 18) for k in range(9)])


def lug_on_end() -> Any:
    """A lug that stands on its end, its eye across, far off its origin."""
    at = (812.0, -431.0, 95.0)
    foot = _box(*at, 50, 30, 10)
    blade = _box(at[0] + 19, at[1], at[2] + 10, 12, 30, 30)
    head = _post(at[0] + 19, at[1] + 15, at[2] + 40, 15, 12, (1, 0, 0))
    eye = _post(at[0] + 10, at[1] + 15, at[2] + 40, 7, 30, (1, 0, 0))
    return _made(foot, [blade, head], [eye])


def clearance_plate() -> Any:
    """A plate with through holes on clearance sizes of ISO 273 and of nothing."""
    sizes = (3.4, 4.5, 5.5, 6.6, 7.0, 9.0, 11.0, 13.5, 14.5, 17.5)
    holes = [_post(15 + 24 * (k % 5), 20 + 32 * (k // 5), -1, 0.5 * d, 20) for k, d in enumerate(sizes)]
    return _made(_box(0, 0, 0, 126, 72, 12), cut=holes)


def free_form_flange() -> Any:
    """A flange with a hub, a bore and six holes, every surface a B-spline."""
    body = _made(_post(0, 0, 0, 40, 10), [_post(0, 0, 10, 20, 15)])
    turns = [k * math.pi / 3 for k in range(6)]
    holes = [_post(30 * math.cos(a), 30 * math.sin(a), -1, 3.3, 12) for a in turns]
    return BRepBuilderAPI_NurbsConvert(_made(body, cut=[*holes, _post(0, 0, -1, 12, 30)]), True).Shape()


def relief() -> trimesh.Trimesh:
    """A plate with a bowed field and letters 1 mm high on it, triangles throughout."""
    xs, ys = np.linspace(0, 64, 97), np.linspace(0, 36, 55)
    x, y = np.meshgrid(xs, ys)
    strokes = shapely.union_all([shapely.linestrings(s) for s in lettering("ISAR", 14.0, (9.0, 11.0))])
    away = shapely.distance(strokes, shapely.points(x.ravel(), y.ravel())).reshape(x.shape)
    z = 8.0 + 3.0 * np.sin(math.pi * x / 64) * np.sin(math.pi * y / 36) + np.clip(2.0 - away, 0.0, 1.0)
    return _closed(x, y, z)


def hinge() -> trimesh.Trimesh:
    """A hinge leaf with two knuckles of 24 sides and a pin's bore of 16, as facets."""
    leaf = trimesh.creation.box(bounds=[[0, 0, 0], [60, 40, 6]])
    turn = trimesh.transformations.rotation_matrix(math.pi / 2, [1, 0, 0])
    add, cut = [leaf], []
    for y in (0.0, 28.0):
        knuckle = trimesh.creation.cylinder(8, 12, sections=24, transform=turn)
        knuckle.apply_translation((60, y + 6, 8))
        add.append(knuckle)
    bore = trimesh.creation.cylinder(3, 60, sections=16, transform=turn)
    bore.apply_translation((60, 20, 8))
    cut.append(bore)
    for x, y in ((15, 10), (15, 30), (35, 20)):
        hole = trimesh.creation.cylinder(2.75, 20, sections=32)
        hole.apply_translation((x, y, 3))
        cut.append(hole)
    solid = trimesh.boolean.union(add, engine="manifold")
    return trimesh.boolean.difference([solid, *cut], engine="manifold")


def _closed(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> trimesh.Trimesh:
    """A field of heights over Z 0 as a closed body."""
    rows, columns = z.shape
    top = np.column_stack([x.ravel(), y.ravel(), z.ravel()])
    points = np.vstack([top, top * [1, 1, 0]])
    at = np.arange(rows * columns).reshape(rows, columns)
    p, q, s, t = (at[k].ravel() for k in (np.s_[:-1, :-1], np.s_[:-1, 1:], np.s_[1:, 1:], np.s_[1:, :-1]))
    faces = np.vstack([np.column_stack([p, q, s]), np.column_stack([p, s, t])])
    ring = np.concatenate([at[0, :-1], at[:-1, -1], at[-1, :0:-1], at[:0:-1, 0]])
    after, low = np.roll(ring, -1), rows * columns
    sides = np.vstack(
        [np.column_stack([ring + low, after + low, after]), np.column_stack([ring + low, after, ring])]
    )
    return trimesh.Trimesh(points, np.vstack([faces, faces[:, ::-1] + low, sides]), process=False)


SHAPES = {
    "fins": fins, "lug_on_end": lug_on_end, "clearance_plate": clearance_plate,
    "free_form_flange": free_form_flange, "relief": relief, "hinge": hinge,
}  # fmt: skip


def write(name: str, folder: Path) -> Path:
    """A shape as a file: STEP, or STL where it is one of triangles."""
    shape = SHAPES[name]()
    if isinstance(shape, trimesh.Trimesh):
        shape.export(folder / f"{name}.stl")
        return folder / f"{name}.stl"
    writer = STEPControl_Writer()
    writer.Transfer(shape, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(folder / f"{name}.step"))
    return folder / f"{name}.step"

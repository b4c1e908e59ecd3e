"""Models the demonstration part, the bearing bracket of the turbine shop, and writes it as STEP.

Run: python scripts/bearing_bracket.py examples/models/bearing_bracket.step
"""

from __future__ import annotations

import math
import sys

from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.collections import Array2_gp_Pnt
from OCP.GeomAbs import GeomAbs_Shape
from OCP.GeomAPI import GeomAPI_PointsToBSplineSurface
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec
from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS

LENGTH, WIDTH, BASE = 120.0, 80.0, 10.0


def box(x0, y0, z0, x1, y1, z1):
    return BRepPrimAPI_MakeBox(gp_Pnt(x0, y0, z0), gp_Pnt(x1, y1, z1)).Shape()


def cylinder(x, y, z, radius, height):
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1)), radius, height).Shape()


def cut(a, b):
    return BRepAlgoAPI_Cut(a, b).Shape()


def fuse(a, b):
    return BRepAlgoAPI_Fuse(a, b).Shape()


def upright_edges(shape):
    explorer = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_EDGE)
    seen = []
    while explorer.More():
        edge = TopoDS.Edge(explorer.Current())
        curve = BRepAdaptor_Curve(edge)
        a, b = curve.Value(curve.FirstParameter()), curve.Value(curve.LastParameter())
        if abs(a.X() - b.X()) < 1e-6 and abs(a.Y() - b.Y()) < 1e-6 and not any(edge.IsSame(e) for e in seen):
            seen.append(edge)
        explorer.Next()
    return seen


def rounded(shape, radius):
    fillet = BRepFilletAPI_MakeFillet(shape)
    for edge in upright_edges(shape):
        fillet.Add(radius, edge)
    return fillet.Shape()


def saddle_top():
    """Everything above a gently curved free-form face over the body."""
    points = Array2_gp_Pnt(1, 9, 1, 7)
    for i in range(9):
        for j in range(7):
            x, y = -20 + i * 20.0, -20 + j * 20.0
            u, v = (x - LENGTH / 2) / 60, (y - WIDTH / 2) / 40
            z = 33.0 - 5.0 * u * u + 1.8 * math.cos(2.2 * v) - 1.2 * u * v
            points.SetValue(i + 1, j + 1, gp_Pnt(x, y, z))
    surface = GeomAPI_PointsToBSplineSurface(points, 3, 5, GeomAbs_Shape.GeomAbs_C2, 1e-4).Surface()
    face = BRepBuilderAPI_MakeFace(surface, 1e-6).Face()
    return BRepPrimAPI_MakePrism(face, gp_Vec(0, 0, 40)).Shape()


def bracket():
    plate = rounded(box(0, 0, 0, LENGTH, WIDTH, BASE), 10.0)
    block = rounded(box(18, 12, 0, LENGTH - 18, WIDTH - 12, 45), 8.0)
    body = cut(fuse(plate, block), saddle_top())
    middle_x, middle_y = LENGTH / 2, WIDTH / 2
    body = cut(body, cylinder(middle_x, middle_y, -1, 13.0, 60))  # bore of the bearing
    body = cut(body, cylinder(middle_x, middle_y, 14.0, 18.5, 60))  # seat of the bearing
    for x0, x1 in ((25.0, 38.0), (LENGTH - 38.0, LENGTH - 25.0)):  # pockets beside the seat
        body = cut(body, rounded(box(x0, 21, 16, x1, WIDTH - 21, 60), 5.0))
    for x in (9.5, LENGTH - 9.5):  # bosses with bolt holes
        for y in (14.0, WIDTH - 14.0):
            body = fuse(body, cylinder(x, y, 0, 7.5, BASE + 4))
            body = cut(body, cylinder(x, y, -1, 4.5, 40))
    unify = ShapeUpgrade_UnifySameDomain(body, True, True, False)
    unify.Build()
    return unify.Shape()


def main(path: str) -> None:
    writer = STEPControl_Writer()
    writer.Transfer(bracket(), STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(path)


if __name__ == "__main__":
    main(sys.argv[1])

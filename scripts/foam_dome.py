"""Models a foam block with a dome: a square plate that carries a cap of a ball with a rounded foot.

Run: python scripts/foam_dome.py examples/models/foam_dome.step
"""

from __future__ import annotations

import math
import sys

from bearing_bracket import box, fuse
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
from OCP.GeomAbs import GeomAbs_CurveType
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS

PLATE = (300.0, 300.0, 40.0)
FOOT, RISE = 110.0, 70.0
"""Radius of the dome's foot on the plate, and its height over it."""
ROUND = 20.0
BALL = (FOOT**2 + RISE**2) / (2.0 * RISE)


def dome():
    """The solid, the plate's bottom at Z 0, the dome's top over the origin."""
    middle = PLATE[2] + RISE - BALL
    low = math.asin((PLATE[2] - 10.0 - middle) / BALL)
    cap = BRepPrimAPI_MakeSphere(
        gp_Ax2(gp_Pnt(0.0, 0.0, middle), gp_Dir(0.0, 0.0, 1.0)), BALL, low, math.pi / 2
    ).Shape()
    x, y, z = PLATE
    whole = fuse(box(-x / 2, -y / 2, 0.0, x / 2, y / 2, z), cap)
    rounded = BRepFilletAPI_MakeFillet(whole)
    edges = TopExp_Explorer(whole, TopAbs_ShapeEnum.TopAbs_EDGE)
    while edges.More():
        edge = TopoDS.Edge(edges.Current())
        if is_foot(edge):
            rounded.Add(ROUND, edge)
            break
        edges.Next()
    return rounded.Shape()


def is_foot(edge) -> bool:
    """Whether an edge is the circle in which dome and plate meet."""
    curve = BRepAdaptor_Curve(edge)
    return curve.GetType() == GeomAbs_CurveType.GeomAbs_Circle and abs(curve.Circle().Radius() - FOOT) < 1e-3


if __name__ == "__main__":
    writer = STEPControl_Writer()
    writer.Transfer(dome(), STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(sys.argv[1])

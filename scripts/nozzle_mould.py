"""Models the nozzle mould half of the turbine shop, a free-form cavity with fillets, and writes it as STEP.

Run: python scripts/nozzle_mould.py examples/models/nozzle_mould.step
"""

from __future__ import annotations

import math
import sys

from bearing_bracket import box, cut, cylinder, fuse
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Elips, gp_Pnt
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS

LENGTH, WIDTH, HEIGHT = 120.0, 80.0, 36.0
SECTIONS = (
    (-42.0, 24.0, 21.0),
    (-20.0, 22.0, 19.5),
    (2.0, 16.0, 15.5),
    (22.0, 11.0, 11.5),
    (40.0, 9.5, 10.0),
)
"""Stations along X with half width and half height of the ellipse there, mm."""
OVER = 2.0
"""Height of the ellipses' middles over the parting face: no wall is upright there."""


def section(x, wide, high):
    """One ellipse, its middle on a gently bent line."""
    y = 4.0 * math.sin(x / 30.0)
    wide_first = wide >= high
    axes = gp_Ax2(gp_Pnt(x, y, OVER), gp_Dir(1, 0, 0), gp_Dir(0, 1, 0) if wide_first else gp_Dir(0, 0, 1))
    ellipse = gp_Elips(axes, max(wide, high), min(wide, high))
    return BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(ellipse).Edge()).Wire()


def nozzle():
    """The body of which the lower half is the cavity."""
    loft = BRepOffsetAPI_ThruSections(True, False, 1e-4)
    for station in SECTIONS:
        loft.AddWire(section(*station))
    loft.Build()
    return loft.Shape()


def in_cavity(edge):
    """Whether an edge lies below the parting face at one of the cavity's ends."""
    curve = BRepAdaptor_Curve(edge)
    middle = curve.Value(0.5 * (curve.FirstParameter() + curve.LastParameter()))
    ends = [curve.Value(p) for p in (curve.FirstParameter(), curve.LastParameter())]
    at_end = any(
        all(abs(p.X() - x) < 1e-3 for p in (*ends, middle)) for x in (SECTIONS[0][0], SECTIONS[-1][0])
    )
    return at_end and middle.Z() < -2.0


def rounded_ends(body, radius):
    fillet = BRepFilletAPI_MakeFillet(body)
    explorer = TopExp_Explorer(body, TopAbs_ShapeEnum.TopAbs_EDGE)
    seen = []
    while explorer.More():
        edge = TopoDS.Edge(explorer.Current())
        if in_cavity(edge) and not any(edge.IsSame(e) for e in seen):
            fillet.Add(radius, edge)
            seen.append(edge)
        explorer.Next()
    return fillet.Shape() if seen else body


def mould():
    body = box(-LENGTH / 2, -WIDTH / 2, -HEIGHT, LENGTH / 2, WIDTH / 2, 0.0)
    body = cut(body, nozzle())
    body = rounded_ends(body, 4.0)
    y = 4.0 * math.sin(SECTIONS[-1][0] / 30.0)
    sprue = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(38.0, y, 0), gp_Dir(1, 0, 0)), 4.0, 40.0).Shape()
    body = cut(body, sprue)
    sockets = cylinder(-48.0, 30.0, -10.0, 7.0, 20.0)
    for x, v in ((48.0, -30.0), (-48.0, -30.0), (48.0, 30.0)):
        sockets = fuse(sockets, cylinder(x, v, -10.0, 7.0, 20.0))
    return cut(body, sockets)


def main(path: str) -> None:
    writer = STEPControl_Writer()
    writer.Transfer(mould(), STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(path)


if __name__ == "__main__":
    main(sys.argv[1])

"""Models a flange with six flats round its hub: a turned disc with a bore, the flats milled on its face.

Run: python scripts/six_flat_flange.py examples/models/six_flat_flange.step
"""

from __future__ import annotations

import math
import sys

from bearing_bracket import cut, cylinder, fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.gp import gp_Pnt, gp_Vec
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

DISC, BORE, THICK = 90.0, 26.0, 14.0
FLATS, HUB = 46.0, 12.0
"""Across the flats, and how far the hub stands over the disc."""


def flange():
    """The solid, the disc's back at Z 0, its axis along Z."""
    corner = FLATS / 2.0 / math.cos(math.pi / 6.0)
    outline = BRepBuilderAPI_MakePolygon()
    for i in range(6):
        turn = math.radians(60.0 * i)
        outline.Add(gp_Pnt(corner * math.cos(turn), corner * math.sin(turn), THICK))
    outline.Close()
    hub = BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(outline.Wire()).Face(), gp_Vec(0.0, 0.0, HUB)).Shape()
    return cut(
        fuse(cylinder(0.0, 0.0, 0.0, DISC / 2.0, THICK), hub), cylinder(0.0, 0.0, -1.0, BORE / 2.0, 40.0)
    )


if __name__ == "__main__":
    writer = STEPControl_Writer()
    writer.Transfer(flange(), STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(sys.argv[1])

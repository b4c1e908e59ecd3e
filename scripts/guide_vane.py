"""Models a guide vane on its clamping plate: two ruled walls that lean and twist from the root to the tip.

Run: python scripts/guide_vane.py examples/models/guide_vane.step
"""

from __future__ import annotations

import math
import sys

import numpy as np
from bearing_bracket import box, fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.collections import Array1_gp_Pnt
from OCP.GeomAPI import GeomAPI_PointsToBSpline
from OCP.gp import gp_Pnt, gp_Vec
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

PLATE = (92.0, 52.0, 12.0)
ROOT_Z, TIP_Z, PLATE_Z = 18.0, 56.0, 12.0
CHORD, CAMBER = 64.0, 5.0
HALF, END = 8.0, 4.2
"""Half the thickness of the root's section in the middle and at both ends."""
TIP_CHORD, TIP_HALF, TWIST = 0.9, 0.5, 3.0
"""The tip's section has these shares of chord and thickness and is turned by so many degrees."""


def side(sign: float, tip: bool, z: float) -> np.ndarray:
    """Points (n, 3) of one long side of a section, from -X to +X."""
    x = np.linspace(-0.5, 0.5, 31)
    round_ = 1.0 - (2.0 * x) ** 2
    chord, thick, twist = (TIP_CHORD, TIP_HALF, TWIST) if tip else (1.0, 1.0, 0.0)
    a = chord * CHORD * x
    b = CAMBER * (round_ - 0.5) + sign * thick * (END + (HALF - END) * round_)
    c, s = math.cos(math.radians(twist)), math.sin(math.radians(twist))
    return np.column_stack([c * a - s * b, s * a + c * b, np.full(len(x), z)])


def section(tip: bool, z: float):
    """The wire of a section: both long sides and the straight ends between them."""
    wire = BRepBuilderAPI_MakeWire()
    right, left = side(-1.0, tip, z), side(1.0, tip, z)[::-1]
    for points, following in ((right, left), (left, right)):
        array = Array1_gp_Pnt(1, len(points))
        for i, p in enumerate(points.tolist(), 1):
            array.SetValue(i, gp_Pnt(*p))
        wire.Add(BRepBuilderAPI_MakeEdge(GeomAPI_PointsToBSpline(array).Curve()).Edge())
        ends = (gp_Pnt(*points[-1].tolist()), gp_Pnt(*following[0].tolist()))
        wire.Add(BRepBuilderAPI_MakeEdge(*ends).Edge())
    return wire.Wire()


def vane():
    """The solid, the plate's bottom at Z 0, the root's middle over the origin."""
    blade = BRepOffsetAPI_ThruSections(True, True)
    blade.AddWire(section(False, ROOT_Z))
    blade.AddWire(section(True, TIP_Z))
    blade.Build()
    foot = BRepBuilderAPI_MakeFace(section(False, PLATE_Z)).Face()
    root = BRepPrimAPI_MakePrism(foot, gp_Vec(0.0, 0.0, ROOT_Z - PLATE_Z)).Shape()
    length, width, height = PLATE
    plate = box(-length / 2, -width / 2, 0.0, length / 2, width / 2, height)
    return fuse(fuse(plate, root), blade.Shape())


if __name__ == "__main__":
    writer = STEPControl_Writer()
    writer.Transfer(vane(), STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(sys.argv[1])

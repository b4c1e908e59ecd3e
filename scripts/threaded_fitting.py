"""Models a fitting with a threaded neck and a threaded bore, shown at the neck's major and the bore's minor
diameter.

Run: python scripts/threaded_fitting.py examples/models/threaded_fitting.step
"""

from __future__ import annotations

import sys

from bearing_bracket import box, cut, cylinder, fuse
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

SIDE, BASE, NECK = 50.0, 16.0, 18.0
NECK_DIAMETER, BORE_DIAMETER = 30.0, 18.5
"""Of M30 x 2 outside and M20 x 1.5 inside (d - P, ISO 2306)."""
NECK_CHAMFER, BORE_CHAMFER = 1.5, 1.0


def cone(z, low, high, height):
    """A cone about Z, radii mm."""
    return BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(0, 0, z), gp_Dir(0, 0, 1)), low, high, height).Shape()


def fitting():
    """The solid, its bottom at Z 0."""
    top = BASE + NECK
    radius, bore = 0.5 * NECK_DIAMETER, 0.5 * BORE_DIAMETER
    body = fuse(
        box(-SIDE / 2, -SIDE / 2, 0, SIDE / 2, SIDE / 2, BASE),
        cylinder(0, 0, BASE, radius, NECK - NECK_CHAMFER),
    )
    body = fuse(body, cone(top - NECK_CHAMFER, radius, radius - NECK_CHAMFER, NECK_CHAMFER))
    body = cut(body, cylinder(0, 0, 0, bore, top))
    return cut(body, cone(top - BORE_CHAMFER, bore, bore + BORE_CHAMFER, BORE_CHAMFER))


if __name__ == "__main__":
    writer = STEPControl_Writer()
    writer.Transfer(fitting(), STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(sys.argv[1])

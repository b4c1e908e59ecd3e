"""Models the block that carries a pressure gauge: a bore square to a face that leans by 30°, and a bore from
above.

Run: python scripts/gauge_block.py examples/models/gauge_block.step
"""

from __future__ import annotations

import math
import sys

from bearing_bracket import box, cut
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCone, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

LENGTH, WIDTH, HEIGHT = 80.0, 60.0, 40.0
LEAN = math.radians(30.0)
FOOT_Y, FOOT_Z = -30.0, 20.0
"""Where the leaning face leaves the front: it rises from here towards the back."""
BORE, DEPTH, ALONG = 8.0, 20.0, 18.0
"""Of the bore square to the face, its place along the face from the foot."""
UPRIGHT_BORE, UPRIGHT_DEPTH = 10.0, 18.0
POINT = 140.0
"""Angle of the drills' points, degrees."""


def drilled(body, mouth, into, diameter, depth):
    """The body with a bore of a diameter to a depth and the point of a drill below."""
    radius = diameter / 2
    end = mouth.Translated(gp_Vec(into) * depth)
    point = radius / math.tan(math.radians(POINT / 2))
    body = cut(body, BRepPrimAPI_MakeCylinder(gp_Ax2(mouth, into), radius, depth).Shape())
    return cut(body, BRepPrimAPI_MakeCone(gp_Ax2(end, into), radius, 0.0, point).Shape())


def block():
    """The solid, its bottom at Z 0, the face leaning towards -Y."""
    normal = gp_Dir(0.0, -math.sin(LEAN), math.cos(LEAN))
    up = gp_Vec(0.0, math.cos(LEAN), math.sin(LEAN))
    foot = gp_Pnt(0.0, FOOT_Y, FOOT_Z)
    body = box(-LENGTH / 2, -WIDTH / 2, 0, LENGTH / 2, WIDTH / 2, HEIGHT)
    corner = foot.Translated(gp_Vec(-LENGTH, 0, 0)).Translated(up * -20.0)
    over = gp_Ax2(corner, normal, gp_Dir(1.0, 0.0, 0.0))
    body = cut(body, BRepPrimAPI_MakeBox(over, 2 * LENGTH, 120.0, 60.0).Shape())
    body = drilled(body, foot.Translated(up * ALONG), normal.Reversed(), BORE, DEPTH)
    above = gp_Pnt(20.0, 18.0, HEIGHT)
    return drilled(body, above, gp_Dir(0, 0, -1), UPRIGHT_BORE, UPRIGHT_DEPTH)


if __name__ == "__main__":
    writer = STEPControl_Writer()
    writer.Transfer(block(), STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(sys.argv[1])

"""Models the valve manifold of the turbine shop: a block with ports, bores and pockets on five sides, two oil
bores at compound angles, and a foot that is made when the block is turned over.

Run: python scripts/valve_manifold.py examples/models/valve_manifold.step
"""

from __future__ import annotations

import math
import sys

from bearing_bracket import box, cut, rounded
from gauge_block import drilled
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Ax3, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

LENGTH, WIDTH, HEIGHT = 110.0, 80.0, 60.0
MIDDLE = 34.0
"""Height of the ports on the sides."""
OIL = ((38.0, 0.0, 30.0, 20.0), (-38.0, 0.0, 35.0, 160.0))
"""Oil bores in the top: X, Y of the mouth, how far they lean from Z, and towards where from +X, degrees."""


def bored(body, mouth, into, diameter, depth):
    """The body with a flat-bottomed bore."""
    return cut(body, BRepPrimAPI_MakeCylinder(gp_Ax2(mouth, into), diameter / 2, depth).Shape())


def port(body, mouth, into, diameter, depth, seat):
    """A port: a bore with the point of its drill under a seat of a diameter, 2 mm deep."""
    inside = mouth.Translated(gp_Vec(into) * 2.0)
    return drilled(bored(body, mouth, into, seat, 2.0), inside, into, diameter, depth)


def pocket(length, width, depth, radius, place):
    """What is cut away by a pocket with round corners; `place` puts its top middle, Z out of it."""
    body = rounded(box(-length / 2, -width / 2, -depth, length / 2, width / 2, 1.0), radius)
    return BRepBuilderAPI_Transform(body, place, True).Shape()


def facing(mouth, out, along):
    """The placing that puts the origin at a place, Z out of the part, X along a direction."""
    placing = gp_Trsf()
    placing.SetTransformation(gp_Ax3(mouth, out, along), gp_Ax3())
    return placing


def around(mouth, first, second, half):
    """Four places about one, half a pitch away along two directions."""
    a, b = gp_Vec(first) * half, gp_Vec(second) * half
    return [mouth.Translated(a * i + b * j) for i in (-1, 1) for j in (-1, 1)]


def manifold():
    """The solid, its bottom at Z 0, its middle on the Z axis."""
    x, y, z = gp_Dir(1, 0, 0), gp_Dir(0, 1, 0), gp_Dir(0, 0, 1)
    body = box(-LENGTH / 2, -WIDTH / 2, 0, LENGTH / 2, WIDTH / 2, HEIGHT)
    # top: the valve's chamber, four threads for its cover, two oil bores
    body = cut(body, pocket(44.0, 44.0, 14.0, 6.0, facing(gp_Pnt(0, 0, HEIGHT), z, x)))
    for place in around(gp_Pnt(0, 0, HEIGHT), x, y, 30.0):
        body = drilled(body, place, z.Reversed(), 5.0, 16.0)
    for px, py, lean, towards in OIL:
        a, b = math.radians(lean), math.radians(towards)
        out = gp_Dir(math.sin(a) * math.cos(b), math.sin(a) * math.sin(b), math.cos(a))
        mouth = gp_Pnt(px, py, HEIGHT)
        seat = mouth.Translated(gp_Vec(out) * -4.0)
        body = cut(body, BRepPrimAPI_MakeCylinder(gp_Ax2(seat, out), 6.0, 20.0).Shape())
        body = drilled(body, seat, out.Reversed(), 6.0, 14.0)
    # front: two ports, each with four threads
    for px in (-27.0, 27.0):
        mouth = gp_Pnt(px, -WIDTH / 2, MIDDLE)
        body = port(body, mouth, y, 14.0, 16.0, 24.0)
        for place in around(mouth, x, z, 12.5):
            body = drilled(body, place, y, 4.2, 12.0)
    # back: the recess of a cover with a reamed bore in its floor
    back = gp_Pnt(0, WIDTH / 2, MIDDLE)
    body = cut(body, pocket(60.0, 28.0, 6.0, 5.0, facing(back, y, x)))
    body = drilled(body, back.Translated(gp_Vec(y) * -6.0), y.Reversed(), 12.0, 12.0)
    # right and left: a port with a reamed bore, a slot with two threads
    body = port(body, gp_Pnt(LENGTH / 2, 0, MIDDLE), x.Reversed(), 16.0, 18.0, 26.0)
    left = gp_Pnt(-LENGTH / 2, 0, MIDDLE)
    body = cut(body, pocket(50.0, 14.0, 8.0, 6.9, facing(left, x.Reversed(), y)))
    for py in (-32.0, 32.0):
        body = drilled(body, gp_Pnt(-LENGTH / 2, py, MIDDLE), x, 5.0, 14.0)
    # foot: a recess
    body = cut(body, pocket(60.0, 40.0, 3.0, 8.0, facing(gp_Pnt(0, 0, 0), z.Reversed(), x)))
    return body


if __name__ == "__main__":
    writer = STEPControl_Writer()
    writer.Transfer(manifold(), STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(sys.argv[1])

"""A ruled face as its straight lines: turned over, driven backwards, moved, and its rails where a face is cut
off slanting."""

from __future__ import annotations

import numpy as np
import pytest

from fenrik.core.errors import ComputeError
from fenrik.core.frames import transform
from fenrik.core.machines.chain import rotations
from fenrik.core.model.brep import faces_of
from fenrik.core.model.ruled import Rulings
from fenrik.core.model.rulings import rulings_of

UP = np.array([0.0, 0.0, 1.0])


def four_sided(corners) -> object:
    """A planar face between four corners."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
    from OCP.gp import gp_Pnt

    border = BRepBuilderAPI_MakePolygon()
    for corner in corners:
        border.Add(gp_Pnt(*map(float, corner)))
    border.Close()
    return BRepBuilderAPI_MakeFace(border.Wire()).Face()


def wall() -> Rulings:
    """An upright plane whose right end slants: 60 mm long at the foot, 40 at the top, 20 high."""
    return rulings_of(four_sided([(0, 0, 0), (60, 0, 0), (40, 0, 20), (0, 0, 20)]), UP)


def test_rails_go_on_straight_where_the_face_is_cut_off_slanting():
    found = wall().upwards()
    ends = [found.points(share) for share in (found.foot, found.top)]
    assert ends[0][:, 2] == pytest.approx(np.zeros(len(found)), abs=1e-6)
    assert ends[1][:, 2] == pytest.approx(np.full(len(found), 20.0), abs=1e-6)  # beyond 40 mm as well
    assert sorted((float(ends[0][0, 0]), float(ends[0][-1, 0]))) == pytest.approx([0.0, 60.0])
    assert found.twist.max() < 1e-9


def test_turned_over_and_backwards_it_is_the_same_wall():
    found = wall()
    over = found.upwards()
    assert (over.high - over.low)[:, 2].min() > 0
    assert over.upwards() is over
    back = over.backwards()
    assert np.array_equal(back.low[::-1], over.low) and np.array_equal(back.top[::-1], over.top)
    assert np.array_equal(back.backwards().out_high, over.out_high)
    upside = Rulings(over.high, over.low, over.out_high, over.out_low, 1 - over.top, 1 - over.foot)
    again = upside.upwards()
    assert np.abs(again.points(again.foot) - over.points(over.foot)).max() < 1e-9


@pytest.mark.parametrize("far", [0.0, 1e5])
def test_moved_it_keeps_lengths_and_normals(far):
    found = wall()
    turn = rotations(np.array([0.6, 0.8, 0.0]), np.radians([70.0]))[0]
    moved = found.moved(transform(turn, (far, -far, 3.0)))
    assert moved.lengths == pytest.approx(found.lengths, rel=1e-9)
    assert np.abs(moved.out_low - found.out_low @ turn.T).max() < 1e-12
    assert np.array_equal(moved.foot, found.foot)


@pytest.mark.parametrize("size", [0.02, 1.0, 500.0])
def test_walls_tiny_and_huge(size):
    corners = [(0, 0, 0), (60, 0, 0), (60, 6, 20), (0, 6, 20)]
    face = four_sided(size * np.array(corners, dtype=np.float64))
    found = rulings_of(face, UP).upwards()
    assert found.lengths == pytest.approx(np.full(len(found), size * np.hypot(6.0, 20.0)), rel=1e-6)


def test_a_triangle_that_ends_in_a_point_has_no_second_edge():
    words = r"no edge across its straight lines|meet in a point|cross"
    with pytest.raises(ComputeError, match=words) as caught:
        rulings_of(four_sided([(0, 0, 0), (2, 0, 0), (1, 0, 80), (1, 0, 80.0001)]), UP)
    assert caught.value.remedy


def test_a_face_with_a_kink_is_refused_and_not_smoothed_over():
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge
    from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
    from OCP.collections import Array1_gp_Pnt
    from OCP.GeomAbs import GeomAbs_Shape
    from OCP.GeomAPI import GeomAPI_PointsToBSpline
    from OCP.gp import gp_Pnt, gp_Vec

    corners = Array1_gp_Pnt(1, 3)
    for i, place in enumerate([(0.0, 0.0, 0.0), (10.0, 0.0, 0.0), (20.0, 8.0, 0.0)], 1):
        corners.SetValue(i, gp_Pnt(*place))
    foot = GeomAPI_PointsToBSpline(corners, 1, 1, GeomAbs_Shape.GeomAbs_C0, 1e-6).Curve()
    edge = BRepBuilderAPI_MakeEdge(foot).Edge()
    (face,) = faces_of(BRepPrimAPI_MakePrism(edge, gp_Vec(0.0, 0.0, 10.0)).Shape())
    with pytest.raises(ComputeError, match="has a kink"):
        rulings_of(face, UP)

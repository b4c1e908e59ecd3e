"""Heights of an operation over stock and part, and areas in plan view, with their refusals."""

from types import SimpleNamespace

import numpy as np
import pytest
import shapely
import trimesh

from fenrik.core.errors import DocumentError
from fenrik.core.job.document.job import Height, HeightsDoc
from fenrik.core.job.document.picks import Boundary
from fenrik.core.job.tasks.heights import heights_of
from fenrik.core.job.tasks.regions import area_of
from fenrik.core.setups.setup import Clamped
from tests.conftest import mesh_of

LOW, HIGH = np.array([-50.0, -40.0, -30.0]), np.array([50.0, 40.0, 0.0])


def clamped(held=None):
    """A part of 20 mm in a blank whose top is the zero, 2 mm over it."""
    return Clamped(
        setup_from_part=np.eye(4),
        stock_low=LOW,
        stock_high=HIGH,
        stock_mesh=None,
        part_low=LOW + np.array([2.0, 2.0, 8.0]),
        part_high=HIGH - 2.0,
        table_from_setup=np.zeros(3),
        copies=np.zeros((1, 3)),
        keep_clear=held,
    )


def heights(held=None, **given):
    return heights_of(SimpleNamespace(heights=HeightsDoc(**given)), clamped(held), "setups[0].operations[2]")


def jaw(top):
    return mesh_of(trimesh.creation.box(bounds=[[-60, 40, -40], [60, 65, top]]))


@pytest.mark.parametrize(
    ("over", "base"),
    [("stock_top", 0.0), ("stock_bottom", -30.0), ("part_top", -2.0), ("part_bottom", -22.0), ("zero", 0.0)],
)
def test_a_height_is_an_offset_from_what_it_names(over, base):
    assert heights(bottom=Height(over=over, offset=-1.5)).bottom == base - 1.5
    assert heights(clearance=Height(over=over, offset=60.0)).clearance == base + 60.0


def test_open_heights_are_over_the_stock_and_down_to_the_part():
    found = heights()
    assert (found.clearance, found.retract, found.feed, found.bottom) == (10.0, 2.0, 1.0, -22.0)


def test_a_clearance_in_the_stock_is_refused_with_both_numbers():
    with pytest.raises(DocumentError) as refused:
        heights(clearance=Height(over="part_top", offset=1.0))
    assert "Z -1.000 is not above the stock, whose top is Z 0.000" in refused.value.what
    assert refused.value.where == "setups[0].operations[2].heights.clearance"
    assert refused.value.remedy


def test_a_clearance_under_the_fixture_is_refused():
    with pytest.raises(DocumentError, match="not above the fixture, whose top is Z 12"):
        heights(jaw(12.0))


def test_a_retract_over_the_clearance_is_refused_at_its_own_field():
    with pytest.raises(DocumentError) as refused:
        heights(retract=Height(offset=20.0))
    assert refused.value.where.endswith("heights.retract")


def test_the_way_from_place_to_place_goes_over_what_holds_the_stock():
    assert heights(jaw(5.0)).retract == 6.0  # its top and the distance to feed
    assert heights(jaw(9.5)).retract == 10.0  # but not over the clearance
    assert heights(jaw(-20.0)).retract == 2.0


# areas ---------------------------------------------------------------------------------------

SQUARE = [(0.0, 0.0), (10.0, 0.0), (10.0, 10.0), (0.0, 10.0)]


def outline(faces):
    """Face n is a square from n to n + 1 along X; face 9 stands upright."""
    return shapely.union_all([shapely.box(f, 0, f + 1, 1) for f in faces if f != 9])


def area(*boundaries):
    return area_of(list(boundaries), outline, 9, LOW, HIGH, "where")


def test_no_boundary_is_no_limit():
    assert area() is None


def test_an_area_is_the_union_of_its_boundaries():
    found = area(Boundary(faces=[1, 2]), Boundary(polygon=SQUARE))
    assert found.equals(shapely.union_all([shapely.box(1, 0, 3, 1), shapely.box(0, 0, 10, 10)]))


def test_the_stocks_outline_moved_outward_and_inward():
    assert area(Boundary(stock=True)).bounds == (-50.0, -40.0, 50.0, 40.0)
    assert area(Boundary(stock=True, offset=5.0)).bounds == (-55.0, -45.0, 55.0, 45.0)
    assert area(Boundary(stock=True, offset=-5.0)).bounds == (-45.0, -35.0, 45.0, 35.0)


def test_a_polygon_that_crosses_itself_bounds_what_lies_inside():
    bow = area(Boundary(polygon=[(0, 0), (10, 10), (10, 0), (0, 10)]))
    assert bow.is_valid
    assert bow.area == pytest.approx(50.0)


@pytest.mark.parametrize(
    ("faces", "words", "remedy"),
    [([3, 12], "Face 12 does not exist.", "from 1 to 9"), ([9], r"\[9\] stand upright", "seen from above")],
)
def test_faces_that_bound_nothing_are_refused_at_their_field(faces, words, remedy):
    with pytest.raises(DocumentError, match=words) as refused:
        area(Boundary(stock=True), Boundary(faces=faces))
    assert refused.value.where == "where[1].faces"
    assert remedy in refused.value.remedy


@pytest.mark.parametrize("given", [{}, {"stock": True, "faces": [1]}, {"polygon": SQUARE, "area": "A"}])
def test_a_boundary_says_one_thing(given):
    with pytest.raises(ValueError, match="exactly one of"):
        Boundary(**given)

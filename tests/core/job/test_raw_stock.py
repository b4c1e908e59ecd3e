"""The stock before the first operation, and the cells in which it is looked at."""

from types import SimpleNamespace

import numpy as np
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from fenrik.core.job.setups.raw import MAX_NODES, planning_cell, proof_cell, raw_map, raw_stock
from tests.conftest import mesh_of

SIZE = st.tuples(*[st.floats(0.5, 3000)] * 3)


def clamped(size, low=(0.0, 0.0, 0.0), mesh=None):
    corner = np.array(low)
    return SimpleNamespace(stock_low=corner, stock_high=corner + np.array(size), stock_mesh=mesh)


@given(SIZE, st.none() | st.floats(0.02, 5))
def test_the_cell_of_the_proof_is_never_finer_than_memory_bears(size, wanted):
    cell = proof_cell(clamped(size), wanted)
    assert np.prod(np.array(size) / cell) <= MAX_NODES * 1.01
    if wanted is not None and np.prod(np.array(size) / wanted) <= MAX_NODES:
        assert cell == pytest.approx(wanted, abs=1e-4)


@pytest.mark.parametrize(
    ("size", "cell"),
    [
        ((30, 20, 10), 0.1),  # small: a tenth
        ((100, 80, 40), 0.2981),  # the diagonal over 450
        ((700, 400, 100), 1.0512),  # a millimetre would be more nodes than memory bears
    ],
)
def test_the_proposed_cell_follows_the_size(size, cell):
    assert proof_cell(clamped(size), None) == pytest.approx(cell, abs=2e-3)


@given(SIZE)
def test_the_planning_cell_lies_between_a_tenth_and_one(size):
    assert 0.1 <= planning_cell(clamped(size)) <= 1.0


def test_the_longer_side_is_four_hundred_planning_cells():
    assert planning_cell(clamped((120, 200, 5))) == pytest.approx(0.5)


@given(st.tuples(*[st.floats(3, 30)] * 3), st.tuples(*[st.floats(-500, 500)] * 3))
def test_a_box_has_its_volume_wherever_it_stands(size, low):
    cell = 0.5
    stock = raw_stock(clamped(size, low), cell)
    skin = 2 * cell * (size[0] * size[1] + size[1] * size[2] + size[0] * size[2])
    assert stock.volume() == pytest.approx(float(np.prod(size)), abs=skin)
    assert stock.is_box


def test_a_solid_has_the_volume_that_trimesh_says():
    body = trimesh.creation.cylinder(radius=12.0, height=20.0, sections=96)
    body.apply_translation([31.0, -8.0, 5.0])
    low, high = body.bounds
    stock = raw_stock(clamped(high - low, low, mesh_of(body)), 0.25)
    assert stock.volume() == pytest.approx(body.volume, rel=0.01)
    assert not stock.is_box


def test_the_map_is_never_lower_than_the_stock():
    body = trimesh.creation.icosphere(subdivisions=3, radius=15.0)
    low, high = body.bounds
    given_to = clamped(high - low, low, mesh_of(body))
    found = raw_map(given_to)
    rng = np.random.default_rng(2)
    points = rng.uniform(-14, 14, (400, 2))
    inside = np.hypot(*points.T) < 14.5
    origins = np.column_stack([points[inside], np.full(inside.sum(), 50.0)])
    places, ray, _ = body.ray.intersects_location(origins, np.tile([0.0, 0.0, -1.0], (len(origins), 1)))
    top = np.full(len(origins), -np.inf)
    np.maximum.at(top, ray, places[:, 2])
    assert (found.top_at(origins[:, :2], 0.0 + found.cell) >= top - 1e-9).all()


def test_the_map_of_a_box_is_level():
    found = raw_map(clamped((40.0, 30.0, 12.0), (5.0, 6.0, 7.0)))
    assert np.unique(found.heights).tolist() == [19.0]

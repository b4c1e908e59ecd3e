"""Shank and holder over the stock that stands: what is left out, what that leaves standing, and the search by
blocks."""

import numpy as np
import pytest
import shapely
import trimesh
from shapely.geometry import LineString

from fenrik.core.cutting.clearance import kept_clear
from fenrik.core.cutting.topology import prepare
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.stock.kernels import _height_kernels as k
from tests.conftest import make_tool, mesh_of


def test_a_shank_as_thick_as_the_cutter_keeps_out_of_stock_higher_than_the_flutes():
    """A block of 40 mm, flutes of 22: at 30 mm deep the shank would stand 8 mm in it. What is left out is not
    gone down into afterwards, neither on the way back nor by what counted on it."""
    tool = make_tool("flat", 8, flute_length=22.0, shank_diameter=8.0, stick_out=60.0)
    topology = prepare(mesh_of(trimesh.creation.box((120, 80, 5)).apply_translation((0, 0, -42.5))))
    block = HeightMap.of_box(np.array([-30.0, -40, -40]), np.array([30.0, 40, 0]), 0.4)
    path = PathBuilder()
    path.rapid(-40, 0, 50)
    path.feed(-40, 0, -30, 100, Motion.PLUNGE)
    path.feed(40, 0, -30, 500)
    path.rapid(40, 0, 50)
    path.rapid(0, 0, 50)
    path.rapid(0, 0, -25)  # over ground that the first pass has cleared, as it was planned
    path.feed(0, 0, -30, 100, Motion.PLUNGE)
    path.feed(10, 0, -30, 500)
    path.rapid(15, 0, -29)  # low over the same ground, and down
    path.feed(15, 0, -30, 100, Motion.PLUNGE)
    path.feed(20, 0, -30, 500)
    path.rapid(20, 0, 50)
    free = kept_clear(path.build(), topology, tool, "trim", 50.0, block)
    note = free.notes[-1]
    assert note.part == "shank" and note.against == "stock" and note.lack == pytest.approx(8.0)
    deep = free.tip[(free.kind != Motion.RAPID) & (free.tip[:, 2] < -22.1)]
    assert len(deep) and (np.abs(deep[:, 0]) >= 30.0 + 4.0 - 1.2).all()  # beside the block only
    rapid = free.tip[(free.kind == Motion.RAPID) & (free.tip[:, 2] < 0.0)]
    assert (np.abs(rapid[:, 0]) >= 30.0).all()
    thin = tool.model_copy(update={"flute_length": 30.5})
    assert kept_clear(path.build(), topology, thin, "trim", 50.0, block).notes == []


def test_what_lacks_over_the_stock_agrees_with_looking_at_every_cell():
    rng = np.random.default_rng(5)
    start = HeightMap.of_box(np.array([0.0, 0, 0]), np.array([30.0, 20, 10]), 0.5)
    start.heights[:] = rng.uniform(0, 10, start.heights.shape)
    tips = np.column_stack([rng.uniform(-2, 32, 60), rng.uniform(-2, 22, 60), rng.uniform(-1, 9, 60)])
    pieces, rapid = np.hstack([tips[:-1], tips[1:]]), rng.random(59) < 0.2
    tool = make_tool("flat", 4, flute_length=3.0, shank_diameter=4.0, stick_out=20.0)
    bodies = np.array([[2.0, 3.0], [6.0, 5.0]])
    found = start.copy().lacks(pieces, rapid, tool.cleared, bodies)
    stock, wanted = start.copy(), np.zeros_like(found)
    j, i = np.indices(stock.heights.shape)
    middle = np.column_stack(
        [(stock.x0 + (i + 0.5) * stock.cell).ravel(), (stock.y0 + (j + 0.5) * stock.cell).ravel()]
    )
    for m, p in enumerate(pieces):
        way = LineString([p[:2], p[3:5]])
        under = shapely.distance(way, shapely.points(middle)) <= 2.0 - stock.half_diagonal
        if not rapid[m] and under.any():
            wanted[m, 0] = max(0.0, stock.heights.ravel()[under].max() - max(p[2], p[5]) - 3.0)
        k.stamp(stock.grid, p[None], tool.cleared.shape, stock.half_diagonal)
        near = np.hypot(*(middle - p[3:5]).T) <= 6.0
        if not rapid[m] and near.any():
            wanted[m, 1] = max(0.0, stock.heights.ravel()[near].max() - p[5] - 5.0)
    assert found == pytest.approx(wanted, abs=1e-9)
    assert (wanted > 0).any(axis=0).all()

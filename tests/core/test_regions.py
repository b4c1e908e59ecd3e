"""The part seen from above: its outline against the union of all its triangles, also where faces are
folded."""

import numpy as np
import pytest
import shapely
import trimesh

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.tasks.wall_lines import wall_of
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.outline import projected
from fenrik.core.model.part_model import TriangleMesh
from tests.conftest import MODELS, mesh_of


def union(mesh, faces=None):
    """The oracle: every triangle that looks up, or of the faces, joined one with all others."""
    corners = mesh.vertices[mesh.triangles][:, :, :2]
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    twice = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    wanted = twice > 1e-9 if faces is None else (np.abs(twice) > 1e-9) & np.isin(mesh.face_ids, faces)
    return shapely.union_all(shapely.set_precision(shapely.polygons(corners[wanted]), 1e-7))


@pytest.mark.parametrize("name", ["pillow_block.step", "tapered_cap.step", "curved_support.step"])
def test_the_outline_is_that_of_all_triangles(name):
    data = {"fenrik": 1, "name": "s", "part": {"file": name}, "setups": [{"name": "T", "operations": []}]}
    planner = open_job(job_from_data(data), MODELS, MemoryStore())
    mesh = planner.workspace.part().mesh.moved(planner.setups.clamped(planner.job.setups[0]).setup_from_part)
    wanted = union(mesh)
    assert projected(mesh).symmetric_difference(wanted).area < 1e-3
    assert wanted.area > 100.0
    some = [f.id for f in planner.workspace.part().faces][:4]
    assert projected(mesh, some).symmetric_difference(union(mesh, some)).area < 1e-3


def test_a_face_that_is_folded_counts_once_where_it_lies_over_itself():
    mesh = mesh_of(trimesh.creation.icosphere(subdivisions=4, radius=10.0))
    mesh.face_ids[:] = 1
    whole = projected(mesh, [1])  # upper and lower half are the same disc
    assert whole.area == pytest.approx(union(mesh, [1]).area, abs=1e-3)
    assert 0.98 * np.pi * 100 < whole.area < np.pi * 100


def tube(lean, wave, around=60, up=24):
    """A wall around a core: leaning, waved, of many triangles."""
    angle, height = np.meshgrid(np.linspace(0, 2 * np.pi, around, endpoint=False), np.linspace(0, 20, up))
    radius = 30.0 - lean * height + wave * np.sin(3 * angle + 0.2 * height)
    points = np.column_stack(
        [(radius * np.cos(angle)).ravel(), (radius * np.sin(angle)).ravel(), height.ravel()]
    )
    index = np.arange(around * up).reshape(up, around)
    a, b = index[:-1], np.roll(index, -1, axis=1)[:-1]
    c, d = index[1:], np.roll(index, -1, axis=1)[1:]
    rows = [
        np.column_stack([a.ravel(), b.ravel(), d.ravel()]),
        np.column_stack([a.ravel(), d.ravel(), c.ravel()]),
    ]
    triangles = np.concatenate(rows).astype(np.int32)
    return TriangleMesh(points, triangles, np.ones(len(triangles), dtype=np.int32))


def together(shapes, groups):
    """The union of shapes in an order in which neighbours lie close: group by group, which is over a hundred
    times faster than that of all at once where thousands lie over each other."""
    return shapely.union_all([shapely.union_all(some) for some in np.array_split(shapes, groups)])


@pytest.mark.parametrize(("lean", "wave"), [(0.0, 0.0), (0.3, 0.0), (0.1, 1.5), (0.0, 2.0)])
def test_the_lines_of_a_wall_lie_where_all_its_triangles_do(lean, wave):
    mesh = tube(lean, wave)
    wall = wall_of(mesh, 1)
    assert (wall.low, wall.high) == (0.0, 20.0)
    corners = mesh.vertices[mesh.triangles][:, :, :2]
    sides = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]])
    around = np.argsort(np.arctan2(sides[:, 0, 1], sides[:, 0, 0]))
    for reach in (1.0, 4.0):
        every = together(shapely.buffer(shapely.linestrings(sides), reach)[around], 60)
        lines = shapely.union_all(shapely.buffer(shapely.get_parts(wall.line), reach))  # as strategies do it
        assert lines.symmetric_difference(every).area < 0.002 * every.area

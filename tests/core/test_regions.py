"""The part seen from above: its outline against the union of all its triangles, also where faces are folded."""

import numpy as np
import pytest
import shapely
import trimesh

from fenrik.core.job.artefacts import MemoryStore
from fenrik.core.job.planning import Planner
from fenrik.core.job.reading import job_from_data
from fenrik.core.model.outline import projected
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
    planner = Planner(job_from_data(data), MODELS, MemoryStore())
    mesh = planner.part().mesh.moved(planner.clamped(planner.job.setups[0]).setup_from_part)
    wanted = union(mesh)
    assert projected(mesh).symmetric_difference(wanted).area < 1e-3
    assert wanted.area > 100.0
    some = [f.id for f in planner.part().faces][:4]
    assert projected(mesh, some).symmetric_difference(union(mesh, some)).area < 1e-3


def test_a_face_that_is_folded_counts_once_where_it_lies_over_itself():
    mesh = mesh_of(trimesh.creation.icosphere(subdivisions=4, radius=10.0))
    mesh.face_ids[:] = 1
    whole = projected(mesh, [1])  # upper and lower half are the same disc
    assert whole.area == pytest.approx(union(mesh, [1]).area, abs=1e-3)
    assert 0.98 * np.pi * 100 < whole.area < np.pi * 100

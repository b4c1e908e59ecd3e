"""Which way up a part is set up first: what is reached from there by what a person would say of the part."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from fenrik.core.features.holes import find_holes
from fenrik.core.features.shapes import find_features
from fenrik.core.features.way_up import ways_up
from fenrik.core.model.reading import read_model
from tests.conftest import MODELS


def ways(path):
    part = read_model(path)
    holes = find_holes(part)
    features = find_features(part, holes)
    return part, ways_up(part, holes, features)


def test_the_bracket_stands_on_its_base_and_says_why():
    part, found = ways(MODELS / "bearing_bracket.step")
    best = found[0]
    assert best.axis == "+z"
    assert best.words == (
        f"{100 * best.surface:.0f} % of the surface, 13 of 13 holes and features; 34 mm high, "
        f"lies on {100 * best.base:.0f} % of its footprint"
    )
    base = next(f.id for f in part.faces if f.normal is not None and f.normal[2] < -0.99)
    assert base not in best.faces
    assert base in next(w for w in found if w.axis == "-z").faces


@pytest.mark.parametrize("name", ["nozzle_mould", "guide_vane", "six_flat_flange", "curved_support"])
def test_parts_stand_as_they_are_drawn_where_they_are_drawn_to_be_milled(name):
    """Common practice, no source: these four are drawn on their base."""
    assert ways(MODELS / f"{name}.step")[1][0].axis == "+z"


def test_a_part_that_is_turned_in_space_is_set_up_by_its_face(tmp_path):
    """A pocketed block about a slanted axis: no principal axis is as good as its own top."""
    block = trimesh.creation.box(extents=[60, 40, 20])
    pocket = trimesh.creation.box(extents=[30, 20, 12])
    pocket.apply_translation([0, 0, 8])
    solid = trimesh.boolean.difference([block, pocket])
    turn = trimesh.transformations.rotation_matrix(0.5, [1, 2, 0.5])
    solid.apply_transform(turn)
    file = tmp_path / "turned.stl"
    solid.export(file)
    part, found = ways(file)
    best = found[0]
    assert best.axis is None
    normal = np.array(part.faces[best.face - 1].normal)
    assert normal == pytest.approx(turn[:3, 2], abs=1e-6)


def test_what_is_reached_is_what_rays_from_above_meet():
    """Every tenth of the surface's points, against trimesh's own rays (embree)."""
    part, found = ways(MODELS / "curved_support.step")
    solid = trimesh.Trimesh(part.mesh.vertices, part.mesh.triangles, process=False)
    points, triangles = trimesh.sample.sample_surface(solid, 4000, seed=3)
    normals = solid.face_normals[triangles]
    for way in found[:4]:
        up = {"x": 0, "y": 1, "z": 2}[way.axis[1]]
        direction = np.zeros(3)
        direction[up] = 1.0 if way.axis[0] == "+" else -1.0
        covered = solid.ray.intersects_any(points + 0.02 * normals, np.tile(direction, (len(points), 1)))
        share = np.mean(~covered & (normals @ direction >= -0.01))
        assert way.surface == pytest.approx(share, abs=0.04)

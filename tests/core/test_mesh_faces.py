"""Flat and round faces of triangle meshes, against the solids whose triangles they are (OCCT tessellates)."""

from collections import Counter
from pathlib import Path

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.features.holes import find_holes
from fenrik.core.features.shapes import find_features
from fenrik.core.model.reading import read_model, working_mesh
from fenrik.core.model.round_surface import fitted

MODELS = Path(__file__).resolve().parents[2] / "examples" / "models"

EXACT = ("plane", "cylinder", "cone", "sphere")


def twin(tmp_path, part, deflection, scale=1.0, shift=(0.0, 0.0, 0.0)):
    """The part's triangles as an STL file, read again."""
    mesh = working_mesh(part, deflection)
    path = tmp_path / f"{part.name}.stl"
    trimesh.Trimesh(mesh.vertices * scale + shift, mesh.triangles, process=False).export(path)
    return read_model(path)


def words(part):
    return Counter(hole.words() for hole in find_holes(part))


def kinds(part):
    return Counter(face.kind for face in part.faces if face.kind in EXACT)


@pytest.mark.parametrize("deflection", [0.02, 0.1])
@pytest.mark.parametrize(
    "name", ["plate_b", "motor_bracket", "pillow_block", "angled_bracket", "threaded_fitting", "plate_a"]
)
def test_triangles_of_a_solid_have_its_faces_holes_and_features(tmp_path, name, deflection):
    part = read_model(MODELS / f"{name}.step")
    mesh = twin(tmp_path, part, deflection)
    assert kinds(mesh) == kinds(part)
    assert words(mesh) == words(part)
    found = (Counter(f.kind for f in find_features(p, find_holes(p))) for p in (mesh, part))
    assert next(found) == next(found)


@pytest.mark.parametrize("name", ["bearing_bracket", "cast_bearing_unit", "ribbed_flange", "drafted_lug"])
def test_free_form_faces_between_round_ones_do_not_hide_holes(tmp_path, name):
    part = read_model(MODELS / f"{name}.step")
    assert words(twin(tmp_path, part, 0.02)) == words(part)


@pytest.mark.parametrize(
    ("scale", "shift"), [(0.02, (0, 0, 0)), (40.0, (0, 0, 0)), (1.0, (4000.0, -2500.0, 900.0))]
)
def test_size_and_place_do_not_matter(tmp_path, scale, shift):
    part = read_model(MODELS / "motor_bracket.step")
    mesh = twin(tmp_path, part, 0.05, scale, shift)
    assert kinds(mesh) == kinds(part)
    sizes = sorted(round(2 * f.radius / scale, 2) for f in mesh.faces if f.kind == "cylinder")
    assert sizes == sorted(round(2 * f.radius, 2) for f in part.faces if f.kind == "cylinder")


@pytest.mark.parametrize("name", ["plate_b", "motor_bracket", "drafted_lug"])
def test_round_faces_are_cut_round_and_not_as_facets(tmp_path, name):
    part = read_model(MODELS / f"{name}.step")
    coarse = working_mesh(part, 0.1)
    mesh = twin(tmp_path, part, 0.1)
    fine = working_mesh(mesh, 0.005)
    solid = trimesh.Trimesh(fine.vertices, fine.triangles, process=False)
    before = trimesh.Trimesh(coarse.vertices, coarse.triangles, process=False)
    assert solid.is_watertight and solid.is_winding_consistent
    assert abs(solid.volume - part.volume) < 0.5 * abs(before.volume - part.volume)
    for face in mesh.faces:
        if face.kind == "cylinder":
            used = fine.vertices[np.unique(fine.triangles[fine.face_ids == face.id])] - face.origin
            away = np.linalg.norm(used - np.outer(used @ face.axis, face.axis), axis=1)
            assert np.abs(away - face.radius).max() < 0.002


def test_facets_that_are_meant_stay_facets(tmp_path):
    twelve = trimesh.creation.cylinder(10, 20, sections=12)
    twelve.export(tmp_path / "knob.stl")
    taken, meant = (read_model(tmp_path / "knob.stl", round_facets=r) for r in (True, False))
    assert kinds(taken) == {"cylinder": 1, "plane": 2}
    assert "round_facets" in taken.problems[0].remedy
    assert kinds(meant) == {"plane": 14} and not meant.problems
    assert len(working_mesh(meant, 0.001).triangles) == len(twelve.faces)


@pytest.mark.parametrize("sides", [3, 4, 6, 8])
def test_a_prism_is_no_cylinder(tmp_path, sides):
    trimesh.creation.cylinder(10, 20, sections=sides).export(tmp_path / "prism.stl")
    assert kinds(read_model(tmp_path / "prism.stl")) == {"plane": sides + 2}


def test_the_size_of_a_turned_pin_is_that_of_the_pin(tmp_path):
    """Eleven corners in a quarter: no corner lies on the axes, the box of the facets is smaller."""
    turn = trimesh.transformations.rotation_matrix(np.radians(4.0), [0, 0, 1])
    trimesh.creation.cylinder(10, 20, sections=44, transform=turn).export(tmp_path / "pin.stl")
    part = read_model(tmp_path / "pin.stl")
    assert part.size == pytest.approx([20.0, 20.0, 20.0], abs=1e-4)


def test_a_ball_is_a_sphere_and_a_ring_is_none(tmp_path):
    trimesh.creation.icosphere(3, 12.0).export(tmp_path / "ball.stl")
    ball = read_model(tmp_path / "ball.stl")
    assert [f.kind for f in ball.faces] == ["sphere"]
    assert ball.faces[0].radius == pytest.approx(12.0, abs=1e-4)
    fine = working_mesh(ball, 0.001)
    whole = trimesh.Trimesh(fine.vertices, fine.triangles, process=False)
    assert whole.is_watertight and whole.volume == pytest.approx(4 / 3 * np.pi * 12**3, rel=5e-4)
    trimesh.creation.torus(20, 6).export(tmp_path / "ring.stl")
    assert [f.kind for f in read_model(tmp_path / "ring.stl").faces] == ["free-form"]


def test_edges_of_triangles_are_lines_and_circles(tmp_path):
    trimesh.creation.cylinder(10, 20, sections=48).export(tmp_path / "pin.stl")
    edges = read_model(tmp_path / "pin.stl").edges
    assert [e.kind for e in edges] == ["circle", "circle"]
    assert all(e.radius == pytest.approx(10, abs=1e-3) for e in edges)
    assert all(e.length == pytest.approx(20 * np.pi, rel=1e-4) for e in edges)


unit = st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda v: np.linalg.norm(v) > 0.2)


@settings(max_examples=60, deadline=None)
@given(
    axis=unit, at=st.tuples(*[st.floats(-500, 500)] * 3), radius=st.floats(0.5, 80), slope=st.floats(0.1, 2)
)
def test_a_surface_is_found_again_from_its_facets(axis, at, radius, slope):
    axis = np.array(axis) / np.linalg.norm(axis)
    side = np.linalg.svd(axis[None])[2][1]
    other = np.cross(axis, side)
    turn = np.arange(9) * np.radians(12)
    for kind in ("cylinder", "cone"):
        k = slope if kind == "cone" else 0.0
        heights = np.array([0.0, 0.4 * radius])
        rings = [
            np.array(at)
            + h * axis
            + (radius + k * h) * (np.outer(np.cos(turn), side) + np.outer(np.sin(turn), other))
            for h in heights
        ]
        a, b, c = rings[0][:-1], rings[0][1:], rings[1][1:]
        normals = np.cross(b - a, c - a)
        normals /= np.linalg.norm(normals, axis=1)[:, None]
        found = fitted(kind, np.concatenate(rings), a, normals)
        assert found is not None
        assert np.abs(found.distance(np.concatenate(rings))).max() < 1e-6 * (radius + 1)
        assert abs(found.axis @ axis) == pytest.approx(1.0, abs=1e-8)
        assert abs(found.slope) == pytest.approx(k, abs=1e-6)

"""The side of a tool along a ruled wall: rulings of exact faces, poses against closed forms, and what the
swept tool leaves against brute force."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.cutting.flank import Flank, Wall, lying_along
from fenrik.core.errors import ComputeError
from fenrik.core.model import brep
from fenrik.core.model.reading import read_model
from fenrik.core.model.ruled import Rulings
from fenrik.core.model.rulings import rulings_of
from tests.conftest import MODELS

UP = np.array([0.0, 0.0, 1.0])


def twisted(psi: float, height: float = 40.0, length: float = 60.0, n: int = 33) -> Rulings:
    """The wall y = k x z, whose normal turns by psi rad along the ruling in its middle (geometry)."""
    x, k = np.linspace(-length / 2, length / 2, n), 2.0 * np.tan(psi / 2) / height

    def out(z: float) -> np.ndarray:
        normal = np.column_stack([np.full(n, -k * z), np.ones(n), -k * x])
        return normal / np.linalg.norm(normal, axis=1, keepdims=True)

    half = height / 2
    low, high = (np.column_stack([x, k * x * z, np.full(n, z)]) for z in (-half, half))
    return Rulings(low, high, out(-half), out(half), np.zeros(n), np.ones(n))


def lying(rulings: Rulings, flank: Flank, **more):
    s = np.arange(len(rulings), dtype=np.float64)
    return lying_along(Wall(rulings), s, (rulings.foot, rulings.top), flank, 0.0, **more)


def deepest(rulings: Rulings, tip: np.ndarray, axis: np.ndarray, flank: Flank, up_to: float) -> float:
    """How far the side of a tool at one pose reaches past a dense grid of the wall's points, mm; brute
    force, independent of the fit."""
    s, t = np.linspace(0, 1, 601), np.linspace(0, 1, 201)
    stations = np.linspace(0, 1, len(rulings))
    low, high = (
        np.column_stack([np.interp(s, stations, c) for c in e.T]) for e in (rulings.low, rulings.high)
    )
    points = (low[:, None] + t[None, :, None] * (high - low)[:, None]).reshape(-1, 3)
    up = (points - tip) @ axis
    away = np.linalg.norm(points - tip - up[:, None] * axis, axis=1)
    radius = flank.radius + np.tan(flank.taper) * (up - flank.low)
    inside = (up >= flank.low) & (up <= up_to)
    return float(((radius - away) * np.cos(flank.taper))[inside].max())


def test_a_parallel_tool_cuts_a_twisted_wall_by_the_closed_form():
    # R (1 - cos(psi / 2)) at both ends of a ruling whose normal turns by psi (geometry; see Bedi, Mann and
    # Menzel 2003 on placing a cylinder on a ruled surface)
    rulings, flank = twisted(np.radians(10.0)), Flank(6.0, 0.0, 0.0)
    middle = len(rulings) // 2
    assert np.degrees(rulings.twist[middle]) == pytest.approx(10.0, abs=1e-9)
    plain = lying(rulings, flank, corrected=False)
    form = 6.0 * (1.0 - np.cos(rulings.twist[middle] / 2))
    assert form == pytest.approx(0.0228, abs=5e-5)
    assert plain.overcut[middle] == pytest.approx(form, rel=2e-3)
    corrected = lying(rulings, flank)
    assert corrected.overcut.max() < 1e-6 and corrected.left.max() < form / 500
    even = lying(rulings, flank, overcut=1.0)
    assert even.overcut[middle] == pytest.approx(even.left[middle], rel=0.05)
    assert even.left.max() < corrected.left.max()


def test_planes_and_cones_have_exact_poses():
    part = read_model(MODELS / "drafted_lug.step")
    shape = brep.faces_of(brep.from_bytes(part.brep))
    flank = Flank(5.0, 0.0, 0.0)
    kinds = set()
    for number, facts in enumerate(part.faces, 1):
        if facts.kind not in ("plane", "cone"):
            continue
        try:
            rulings = rulings_of(shape[number - 1], UP).upwards()
        except ComputeError:
            assert abs(facts.normal[2]) > 0.999999  # level: no wall
            continue
        kinds.add(facts.kind)
        found = lying(rulings, flank)
        assert found.overcut.max() < 1e-7 and found.left.max() < 1e-7
        along = (rulings.high - rulings.low) / rulings.lengths[:, None]
        assert np.linalg.norm(found.axis - along, axis=1).max() < 1e-7  # parallel to the ruling
        if facts.kind == "plane":
            off = (found.tip - np.array(facts.origin)) @ np.array(facts.normal)
        else:
            axis, foot = np.array(facts.axis), rulings.points(rulings.foot)
            lean = np.arccos(abs(float(along[0] @ axis)))  # the cone's half angle, from its ruling
            arm = found.tip - foot
            off = np.linalg.norm(arm, axis=1)
            square = np.abs(np.einsum("ij,ij->i", arm, along))
            assert square.max() < 1e-6 and 0.0 < lean < np.radians(60)
        assert np.abs(off - 5.0).max() < 1e-6
    assert kinds == {"plane", "cone"}


@settings(max_examples=25, deadline=None)
@given(
    psi=st.floats(1.0, 25.0),
    radius=st.floats(2.0, 12.0),
    taper=st.floats(0.0, 8.0),
    height=st.floats(15.0, 60.0),
    share=st.floats(0.2, 0.8),
)
def test_what_is_told_of_a_pose_is_what_it_does(psi, radius, taper, height, share):
    rulings = twisted(np.radians(psi), height, 3.0 * height, 41)
    flank = Flank(radius, np.radians(taper), 0.0)
    for overcut in (0.0, 1.0):
        found = lying(rulings, flank, overcut=overcut)
        row = round(share * (len(rulings) - 1))
        reach = float(rulings.lengths[row]) * 1.2
        deep = deepest(rulings, found.tip[row], found.axis[row], flank, reach)
        assert deep <= found.overcut[row] + 2e-4
        assert deep >= -found.left[row] - 2e-4
        if overcut == 0.0:
            assert found.overcut[row] < 1e-6


def test_faces_that_are_not_ruled_say_so():
    part = read_model(MODELS / "drafted_lug.step")
    shapes = brep.faces_of(brep.from_bytes(part.brep))
    number = next(f.id for f in part.faces if f.kind == "sphere")
    with pytest.raises(ComputeError, match="not ruled: its straightest lines bend by"):
        rulings_of(shapes[number - 1], UP)
    level = next(f.id for f in part.faces if f.kind == "plane" and abs(f.normal[2]) > 0.99)
    with pytest.raises(ComputeError, match="square to the tool"):
        rulings_of(shapes[level - 1], UP)


@pytest.mark.parametrize("model", ["tapered_cap.step", "curved_support.step", "pillow_block.step"])
def test_rulings_of_foreign_faces_lie_on_them(model):
    """Points of the rulings lie on the face's exact surface, measured by OCCT."""
    from OCP.BRep import BRep_Tool
    from OCP.GeomAPI import GeomAPI_ProjectPointOnSurf
    from OCP.gp import gp_Pnt

    part = read_model(MODELS / model)
    shapes = brep.faces_of(brep.from_bytes(part.brep))
    seen = 0
    for face in shapes[:40]:
        try:
            rulings = rulings_of(face, UP)
        except ComputeError:
            continue
        rows = np.arange(len(rulings))[2:-2:11]
        shares = rulings.foot[rows] + 0.5 * (rulings.top[rows] - rulings.foot[rows])
        points = rulings.low[rows] + shares[:, None] * (rulings.high[rows] - rulings.low[rows])
        for point in points:
            nearest = GeomAPI_ProjectPointOnSurf(gp_Pnt(*point.tolist()), BRep_Tool.Surface_s(face))
            assert nearest.LowerDistance() < 1e-4
        seen += 1
    assert seen >= 5

"""Directions of sides, however they are given: what they are, what is refused, whether machines get there."""

from __future__ import annotations

import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from fenrik.core.errors import DocumentError
from fenrik.core.frames import apply
from fenrik.core.job.document.reading import job_data, job_from_data, load_job
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.setups.side import SideDoc
from tests.conftest import ROOT

STORE = MemoryStore()
MODELS = sorted(p.name for p in (ROOT / "examples" / "models").glob("*.step"))
MILLS = [m for m in machines().values() if not m.is_arm and not m.is_lathe]
HALF = 3**0.5 / 2


def gauge(machine="tilting_table_320"):
    """The paths and the setup of the gauge block, whose face 3 leans by 30 degrees towards -Y."""
    data = job_data(load_job(ROOT / "examples" / "gauge_block.yaml"))
    data["setups"][0]["machine"] = machine
    paths = open_job(job_from_data(data), ROOT / "examples", STORE)
    return paths, paths.job.setups[0]


def frame(up, origin=None, machine="tilting_table_320"):
    paths, setup = gauge(machine)
    return paths.setups.frame_of_side(setup, SideDoc(name="S", up=up, origin=origin), "here")


@pytest.mark.parametrize(
    ("up", "towards"),
    [
        ({"axis": "-y"}, (0, -1, 0)),
        ({"face": 3}, (0, -0.5, HALF)),
        ({"face": 3, "reverse": True}, (0, 0.5, -HALF)),
        ({"edge": 8}, (1, 0, 0)),  # straight, along X
        ({"edge": 8, "reverse": True}, (-1, 0, 0)),
        ({"edge": 11}, (0, -0.5, HALF)),  # the mouth of the gauge bore: out of the face that it lies in
        ({"edge": 14}, (0, 0, 1)),  # that of the upright bore
        ({"points": [(0, 0, 0), (10, 0, 0), (0, 10, 0)]}, (0, 0, 1)),
        ({"points": [(0, 0, 0), (0, 10, 0), (10, 0, 0)]}, (0, 0, -1)),
        ({"lean": {"from_up_deg": 30, "towards_deg": -90}}, (0, -0.5, HALF)),
        ({"rotary": {"A": 30}}, (0, -0.5, HALF)),
        ({"rotary": {"A": 0, "C": 75}}, (0, 0, 1)),
    ],
)
def test_a_side_points_where_it_was_picked(up, towards):
    assert frame(up)[:3, 2] == pytest.approx(towards, abs=1e-9)


@pytest.mark.parametrize(
    ("up", "words"),
    [
        ({"edge": 99}, "Edge 99 does not exist"),
        ({"points": [(0, 0, 0), (1, 1, 1), (3, 3, 3)]}, "lie on a line"),
        ({"points": [(0, 0, 0), (0, 0, 0), (3, 3, 3)]}, "lie on a line"),
        ({"rotary": {"B": 30}}, "'B'; the machine 'Tilting table 320' has C, A"),
        ({"face": 99}, "Face 99 does not exist"),
    ],
)
def test_what_has_no_direction_is_refused_with_its_place(up, words):
    with pytest.raises(DocumentError, match=re.escape(words)) as refused:
        frame(up)
    assert refused.value.where.startswith("here.up") and refused.value.remedy


@pytest.mark.parametrize("up", [{}, {"axis": "+x", "face": 1}, {"edge": 1, "lean": {"from_up_deg": 1}}])
def test_a_side_is_given_in_one_way(up):
    with pytest.raises(ValidationError, match="give one of an axis"):
        SideDoc(name="S", up=up)


def test_a_machine_without_rotary_joints_has_no_positions_to_give():
    with pytest.raises(DocumentError, match="has no rotary joint"):
        frame({"rotary": {"A": 30}}, machine="column_mill_800")


def test_a_curve_in_no_plane_has_no_direction():
    data = {
        "fenrik": 2,
        "name": "V",
        "part": {"file": "models/bearing_bracket.step"},
        "setups": [{"name": "S"}],
    }
    paths = open_job(job_from_data(data), ROOT / "examples", STORE)
    part, setup = paths.workspace.part(), paths.job.setups[0]
    found, refused = 0, 0
    for edge in (e for e in part.edges if e.kind == "curve" and len(part.edge_lines[e.id - 1]) > 3):
        line = part.edge_lines[edge.id - 1]
        spread = np.linalg.svd(line - line.mean(axis=0), full_matrices=False)
        off = np.abs((line - line.mean(axis=0)) @ spread[2][2]).max()
        side = SideDoc(name="S", up={"edge": edge.id})
        if off > 1e-3 * edge.length:
            with pytest.raises(DocumentError, match="lies in no plane"):
                paths.setups.frame_of_side(setup, side, "here")
            refused += 1
        elif off < 1e-6 * edge.length and spread[1][1] > 0.01 * spread[1][0]:
            towards = paths.setups.frame_of_side(setup, side, "here")[:3, 2]
            steps = np.diff(line, axis=0)
            assert np.abs(steps @ towards).max() < 1e-3 * edge.length
            found += 1
    assert found > 0 and refused > 0


def test_the_zero_of_a_side_is_a_point_of_the_box_as_the_side_sees_it():
    paths, setup = gauge()
    stock = paths.setups.clamped(setup)
    low, high = stock.stock_low, stock.stock_high
    # seen from the front, up is -Y and the box's top is its front face
    made = frame({"axis": "-y"}, {"of": "stock", "x": "low", "y": "middle", "z": "high"})
    assert made[:3, 3] == pytest.approx([low[0], low[1], 0.5 * (low[2] + high[2])])
    part = frame({"axis": "-y"}, {"of": "part", "z": "low"})
    assert part[1, 3] == pytest.approx(stock.part_high[1])
    # on the leaning side the highest place of the stock is at zero height
    leaning = frame({"face": 3}, {"of": "stock", "z": "high"})
    corners = np.array(
        [[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])]
    )
    heights = apply(np.linalg.inv(leaning), corners)[:, 2]
    assert heights.max() == pytest.approx(0.0, abs=1e-9)


def test_a_zero_that_lies_nowhere_is_refused():
    with pytest.raises(
        DocumentError, match=r"zero of the side 'S' .* lies 4\d\d mm beside the stock"
    ) as refused:
        frame({"axis": "-y"}, (500.0, 0.0, 0.0))
    assert refused.value.where == "here.origin"


def poses(machine, axis, held=None):
    """Positions, and the tip and axis that the forward chain gives for joint values at some places."""
    angles, reached = machine.rotary_positions(axis[None], held=None if held is None else held[None])
    assert reached.all()
    tips = np.array([[0.0, 0.0, 100.0], [37.5, -21.0, 64.25], [-12.0, 55.0, 30.0]])
    on = OnMachine(machine, np.eye(4))
    joints = machine.joint_values(tips, np.tile(angles, (3, 1)), 120.0)
    return angles[0], tips, *on.tips(joints, 120.0)


@pytest.mark.parametrize("machine", MILLS, ids=lambda m: m.id)
def test_every_planar_face_of_the_models_is_reached_or_refused_with_the_joint_that_lacks(machine):
    """Published closed form (Paden 1986) against the forward chain, over every direction in which a model has
    a planar face."""
    found = set()
    for name in MODELS:
        data = {"fenrik": 2, "name": "M", "part": {"file": f"models/{name}"}}
        part = open_job(job_from_data(data), ROOT / "examples", STORE).workspace.part()
        found |= {tuple(np.round(f.normal, 9)) for f in part.faces if f.kind == "plane" and f.normal}
    reached = 0
    for normal in sorted(found):
        axis = np.array(normal) / np.linalg.norm(normal)
        why = machine.why_not(axis)
        if why:
            assert (
                re.search(r"would have to stand at .*beyond its range", why) or "cannot point that way" in why
            )
            joint = next((j for j in machine.rotary if why.startswith(j.letter)), None)
            if joint is not None:
                at, lack = (float(v) for v in re.findall(r"(-?\d+\.\d+)°", why)[:2])
                gone = max(joint.low - at, at - joint.high)
                assert lack == pytest.approx(gone, abs=0.011) and lack > 0.0
            continue
        _, tips, at, leans = poses(machine, axis)
        assert np.abs(at - tips).max() < 1e-9 and np.abs(leans - axis).max() < 1e-9
        reached += 1
    assert len(found) > 50 and reached >= 1
    if len(machine.rotary) == 2:
        assert reached > 10


@settings(max_examples=60, deadline=None)
@given(st.floats(-110, 29), st.floats(-180, 180))
def test_a_side_held_at_positions_stands_there_and_not_at_the_other_solution(a, c):
    machine = machines()["tilting_table_320"]
    on = OnMachine(machine, np.eye(4))
    held = machine.rotary_at({"A": a, "C": c})
    axis = on.axis(held)
    assert machine.why_not(axis, held) == ""
    angles, tips, at, leans = poses(machine, axis, held)
    letters = [j.letter for j in machine.rotary]
    assert angles[letters.index("A")] == pytest.approx(a, abs=1e-9)
    assert (angles[letters.index("C")] - c + 180.0) % 360.0 - 180.0 == pytest.approx(0.0, abs=1e-9)
    assert np.abs(at - tips).max() < 1e-9 and np.abs(leans - axis).max() < 1e-9


def test_a_program_turns_to_the_positions_that_a_side_was_given_by():
    data = job_data(load_job(ROOT / "examples" / "gauge_block.yaml"))
    side = data["setups"][0]["sides"][0]
    side["up"] = {"rotary": {"A": -30.0, "C": 180.0}}  # the same direction as A 30, C 0
    job = job_from_data(data)
    proof = Prover(open_job(job, ROOT / "examples", STORE)).prove(job.effective_releases()[0])
    assert proof.stops() == []
    assert re.search(r"G0 A-30\.000 C-?180\.000", proof.facts["text"])
    by_face = {f["face"]: f["share_on_size"] for f in proof.facts["deviation"]["by_face"]}
    assert by_face[8] > 0.99


def test_positions_beyond_a_joint_are_told_with_what_it_lacks():
    machine = machines()["tilting_table_320"]
    held = machine.rotary_at({"A": 42.5})
    axis = OnMachine(machine, np.eye(4)).axis(held)
    assert machine.why_not(axis) == ""  # with C at 180 it would reach
    assert (
        machine.why_not(axis, held)
        == "A would have to stand at 42.50°, 12.50° beyond its range of -120° to 30°"
    )

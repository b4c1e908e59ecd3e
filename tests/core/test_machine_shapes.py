"""Bodies of machines as triangles, and those of the machines that ship with Fenrik."""

from __future__ import annotations

import math

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from fenrik.core.machines.bodies import Box, Extruded, Plate, Revolved, Round
from fenrik.core.machines.collision import Motion, nearest, pairs_of
from fenrik.core.machines.library import machines
from fenrik.core.machines.shapes import solid_of
from fenrik.core.machines.solids import machine_solids, nose_of, outlines, tool_solids
from fenrik.core.machines.tree import Tree
from fenrik.core.tooling.library import starting_library

ALL = sorted(machines())
MILLS = [name for name in ALL if not machines()[name].is_arm]


def solid(body) -> trimesh.Trimesh:
    mesh = solid_of(body)
    return trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)


@pytest.mark.parametrize("name", ALL)
def test_every_body_of_the_library_is_closed_and_turned_outward(name):
    for body in machines()[name].bodies:
        made = solid(body)
        assert made.is_watertight, body
        assert made.volume > 0.0, body


@pytest.mark.parametrize("name", ALL)
def test_every_machine_has_what_carries_work_and_tool_on_their_joints(name):
    machine = machines()[name]
    carried = {body.joint for body in machine.bodies}
    assert machine.work.joint in carried
    assert any(b.joint == machine.tool.joint and b.role == "spindle" for b in machine.bodies)
    assert None in carried


@pytest.mark.parametrize("name", MILLS)
def test_the_table_of_a_mill_is_as_large_as_it_is_said_and_its_top_in_the_mount(name):
    machine = machines()[name]
    if machine.is_lathe:
        pytest.skip("its work is held by a spindle")
    carried = [s for s in machine_solids(machine) if s.joint == machine.work.joint]
    tables = [s for s in carried if s.role == "table"] or carried
    low, high = (np.stack(ends) for ends in zip(*[p.bounds for s in tables for p in s.parts], strict=True))
    top = max(high[:, 2])
    assert top == pytest.approx(machine.work.at[2], abs=1e-9)
    assert high[:, 0].max() - low[:, 0].min() >= machine.table[0] - 1e-6


@pytest.mark.parametrize("name", MILLS)
def test_with_its_spindle_away_a_machine_meets_nothing_wherever_its_other_joints_stand(name):
    """The bodies are proportioned so that no travel brings the machine against itself."""
    machine = machines()[name]
    rng = np.random.default_rng(5)
    low = np.array([-360.0 if j.low is None else j.low for j in machine.joints])
    high = np.array([360.0 if j.high is None else j.high for j in machine.joints])
    values = low + (high - low) * rng.random((121, len(low)))
    z = [j.name for j in machine.joints].index("Z")
    values[:, z] = high[z]
    if name == "swivel_head_500":  # swung down, its head reaches the table from there, too
        values[:, [j.name for j in machine.joints].index("B")] = 0.0
    motion = Motion(values[:-1], values[1:])
    solids = [s for s in machine_solids(machine) if s.role != "changer"]  # it is there at a change alone
    for pair in pairs_of(Tree(machine), solids):
        found = nearest(pair, motion, 1.0)
        assert found is None, (pair.first.name, pair.second.name, found)


def test_a_plate_has_its_slots_or_bores_cut_out():
    size = {"low": (-100.0, -60.0, -40.0), "high": (100.0, 60.0, 0.0)}
    whole = 200.0 * 120.0 * 40.0
    for grid, along in (("x", 200.0), ("y", 120.0)):
        made = solid(Plate(kind="plate", grid=grid, pitch=50.0, width=14.0, depth=24.0, **size))
        groove = 1.7 * 14.0
        one = along * (14.0 * 0.55 * 24.0 + groove * 0.45 * 24.0)
        count = 2 if grid == "x" else 4
        assert made.volume == pytest.approx(whole - count * one, rel=1e-9)
    bored = solid(Plate(kind="plate", grid="bores", pitch=50.0, width=12.0, depth=20.0, **size))
    twelve = 12 * 0.5 * 36.0 * math.sin(math.pi / 6)
    assert bored.volume == pytest.approx(whole - 4 * 2 * twelve * 20.0, rel=1e-9)


@given(
    radius=st.floats(0.5, 900.0),
    end=st.floats(0.5, 900.0),
    length=st.floats(0.5, 900.0),
    at=st.tuples(st.floats(0, 2 * math.pi), st.floats(0, 1)),
)
@settings(max_examples=60, deadline=None)
def test_a_round_body_holds_all_of_its_circle(radius, end, length, at):
    body = Round(
        kind="round", begin=(1.0, 2.0, 3.0), end=(1.0, 2.0, 3.0 + length), radius=radius, radius_end=end
    )
    made = solid(body)
    angle, share = at
    here = radius + share * (end - radius)
    place = np.array([1.0 + here * math.cos(angle), 2.0 + here * math.sin(angle), 3.0 + share * length])
    # inside every side's plane: the body is convex
    normals, origin = made.face_normals, made.triangles[:, 0]
    assert (np.einsum("ij,ij->i", normals, place - origin) < 1e-6 * (1.0 + radius + end)).all()
    cone = math.pi * length * (radius**2 + radius * end + end**2) / 3.0
    assert cone <= made.volume <= cone * (1.0 + 2.0 * 0.1 / min(radius, end) + 0.02)


def test_extruded_and_revolved_outlines_have_their_volumes():
    corner = [(0.0, 0.0), (30.0, 0.0), (30.0, 10.0), (10.0, 10.0), (10.0, 30.0), (0.0, 30.0)]
    leaning = Extruded(
        kind="extruded", outline=corner, bottom=-5.0, top=15.0, at=(7.0, 8.0, 9.0), z=(1.0, 1.0, 0.0)
    )
    assert solid(leaning).volume == pytest.approx(500.0 * 20.0)
    ring = Revolved(kind="revolved", outline=[(20.0, 0.0), (50.0, 0.0), (50.0, 10.0), (20.0, 10.0)])
    assert solid(ring).volume == pytest.approx(math.pi * (2500.0 - 400.0) * 10.0, rel=0.01)


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: Box(kind="box", low=(0, 0, 0), high=(1, 0, 1)), "no size along Y"),
        (lambda: Round(kind="round", begin=(1, 1, 1), end=(1, 1, 1), radius=5), "no length"),
        (
            lambda: Extruded(kind="extruded", outline=[(0, 0), (1, 1), (1, 0), (0, 1)], bottom=0, top=1),
            "crosses",
        ),
        (lambda: Extruded(kind="extruded", outline=[(0, 0), (1, 0), (1, 1)], bottom=2, top=1), "no height"),
        (lambda: Revolved(kind="revolved", outline=[(-1, 0), (5, 0), (5, 5)]), "both sides of its axis"),
        (lambda: Plate(kind="plate", low=(0, 0, 0), high=(90, 90, 20), depth=25), "25 deep in a plate of 20"),
        (lambda: Plate(kind="plate", low=(0, 0, 0), high=(90, 90, 40), pitch=20), "twice the width"),
        (
            lambda: Plate(kind="plate", low=(0, 0, 0), high=(9e4, 9e4, 40), width=1, pitch=2),
            "2000 are the most",
        ),
        (lambda: Box(kind="box", low=(0, 0, 0), high=(1, 1, 1e9)), "less than or equal to 100000"),
    ],
)
def test_a_body_that_cannot_be_is_refused_with_the_reason(make, words):
    with pytest.raises(ValidationError, match=words):
        make()


@pytest.mark.parametrize("name", ["column_mill_500", "swivel_head_500", "fork_head_1500", "driven_lathe_250"])
def test_the_spindle_nose_is_its_outline_from_the_gauge_line_up(name):
    machine = machines()[name]
    (body,) = [b for b in machine.bodies if b.role == "spindle"]
    nose = nose_of(machine)
    assert sum(length for length, _, _ in nose) == pytest.approx(max(z for _, z in body.outline))
    assert nose[0][1] == body.outline[1][0]
    assert max(max(low, high) for _, low, high in nose) == max(r for r, _ in body.outline)


def test_a_spindle_that_is_more_than_its_nose_is_left_to_the_proof_of_bodies():
    """What cuts stock as the nose does has to be all of the spindle: no part of it may go unseen."""
    machine = machines()["column_mill_500"]
    (body,) = [b for b in machine.bodies if b.role == "spindle"]
    rest = [b for b in machine.bodies if b.role != "spindle"]
    ring = Round(kind="round", joint="Z", role="spindle", begin=(0, 0, 5), end=(0, 0, 20), radius=90.0)
    above = body.model_copy(update={"at": (0.0, 0.0, 4.0)})
    gapped = body.model_copy(update={"outline": tuple((r, z + 3.0) for r, z in body.outline)})
    for spindle in ([body, ring], [above], [gapped], [ring]):
        assert nose_of(machine.model_copy(update={"bodies": [*rest, *spindle]})) == []


def test_a_tool_in_the_spindle_has_its_tip_a_gauge_length_under_the_gauge_line():
    machine = machines()["column_mill_500"]
    for tool in starting_library():
        parts = {s.name: s for s in tool_solids(machine, tool)}
        low = parts["cutter"].boxes[:, 2].min()
        assert low == pytest.approx(-tool.gauge_length)
        assert parts["holder"].boxes[:, 5].max() == pytest.approx(0.0, abs=1e-6)
        widest = max(r for ring in outlines(tool)["cutter"] for r, _ in ring)
        assert widest == pytest.approx(tool.radius)

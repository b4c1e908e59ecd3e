"""Joints beyond their travel: what brings them back is offered, and does."""

from __future__ import annotations

import json

import numpy as np
import pytest

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.mending import mend_of
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.posting.reading.rotary_control import RotaryControl
from fenrik.core.proof.limits import limit_findings
from fenrik.core.proof.run import Run
from tests.conftest import ROOT, make_tool
from tests.examples import example

STORE = MemoryStore()


def prover(machines=(), **setup):
    """The bracket's roughing, alone; on another machine where one is given."""
    data = example("bearing_bracket")
    data["machines"] = list(machines)
    first = data["setups"][0]
    first["operations"] = first["operations"][:1]
    first |= setup
    data["proof"] = {"cell_mm": 2.0}
    return Prover(open_job(job_from_data(data), ROOT / "examples", STORE))


def overtravels(mine):
    proof = mine.prove(mine.job.effective_releases()[0])
    return [f for f in proof.facts["findings"] if f["kind"] == "travel"]


@pytest.mark.parametrize(("axis", "way"), [("x", 200.0), ("x", -200.0), ("y", 180.0), ("y", -170.0)])
def test_work_placed_too_far_out_is_offered_a_place_where_the_program_runs(axis, way):
    found = overtravels(prover(placement={"x": 0.0, "y": 0.0, "z": 60.0, axis: way}))
    assert found
    offered = found[0]["mend"]["placement"]
    assert list(offered) == [axis]
    # it moves back towards the middle, no farther than it has to
    assert abs(offered[axis]) < abs(way)
    assert abs(way - offered[axis]) == pytest.approx(
        max(abs(f["measure"] - f["limit"]) for f in found) + 1.0, abs=1e-3
    )
    assert overtravels(prover(placement={"x": 0.0, "y": 0.0, "z": 60.0} | offered)) == []


def test_a_program_that_needs_more_than_the_travel_is_offered_no_place():
    data = json.loads(machines()["column_mill_500"].model_dump_json()) | {"id": "short", "name": "Short mill"}
    for joint in data["joints"]:
        if joint["letter"] == "Y":
            joint["low"], joint["high"] = -30.0, 30.0
    mine = prover([data], machine="short")
    run = mine.post(mine.job.effective_releases()[0]).run(mine.job.tools)
    assert np.ptp(run.motion.places[:, 1]) > 60.0
    found = overtravels(mine)
    assert found
    assert all(f["mend"] is None for f in found)


def test_an_entry_beyond_the_travel_gets_leads_of_half_the_diameter():
    """An axis a few millimetres beyond its travel on the way in: leads of half the tool's diameter bring it
    back (common practice, no source)."""
    tool = prover().job.tools[0]  # 12 mm
    finding = {"kind": "travel", "measure": 263.0, "limit": 260.0, "offer": {"placement_by": {"x": -4.0}}}
    place = {"x": 10.0, "y": 0.0, "z": 60.0}
    assert mend_of(finding, tool, 800.0, 1.0, place) == {"parameters": {"lead_share": 0.5}}
    # 7 mm are more than leads of 12 mm give up
    far = finding | {"measure": 267.0, "offer": {"placement_by": {"x": -8.0}}}
    assert mend_of(far, tool, 800.0, 1.0, place) == {"placement": {"x": 2.0}}
    assert mend_of(finding, tool, 800.0, 0.5, place) == {"placement": {"x": 6.0}}
    assert mend_of(finding, tool, 800.0, None, None) is None
    # work is not sunk into the table
    down = finding | {"offer": {"placement_by": {"z": -70.0}}}
    assert mend_of(down, tool, 800.0, None, place) is None


@pytest.mark.parametrize(
    ("place", "offered"),
    [
        ({"y": -155.0}, {"parameters": {"lead_share": 0.5}}),  # the lead is 3 mm beyond, the cut is not
        ({"y": -162.0}, {"placement": {"y": -151.0}}),  # 10 mm are more than shorter leads give up
        ({"x": 197.0}, {"placement": {"x": 193.0}}),  # the cut is 3 mm beyond: no lead does anything for it
    ],
)
def test_shorter_leads_are_offered_where_only_leads_reach_beyond_the_travel(place, offered):
    outside = {
        "name": "Outside",
        "strategy": "profile",
        "tool": 3,
        "walls": [{"outline": True}],
        "parameters": {"step_down": 12.0, "lead_share": 1.0},
    }
    data = example("bearing_bracket")
    data["setups"][0] |= {"operations": [outside], "placement": {"z": 60.0} | place}
    data["releases"], data["proof"] = [], {"cell_mm": 2.0}
    mine = Prover(open_job(job_from_data(data), ROOT / "examples", STORE))
    assert [f["mend"] for f in overtravels(mine)] == [offered]


ROUND = "G90 G17 G21 G40\nT1 M6\nG54 S2500 M3\n{first}G0 A0 C{c}\nG43 H1 Z150\nG0 X0 Y0\nG0 Z200\nM30\n"
"""C of the fork head goes from -360 to 360 degrees; about the tool's own axis nothing else changes."""


@pytest.mark.parametrize(
    ("first", "remedy"),
    [
        ("", "-360° on every C of tool 1 stays within"),
        ("G0 A0 C-350\nG43 H1 Z150\nG0 X0 Y0\nG0 G53 Z0\n", "C40 points the same way as C400: turn back"),
    ],
)
def test_a_rotary_joint_beyond_its_end_is_told_another_winding(first, remedy):
    def beyond(c):
        on = OnMachine(machines()["fork_head_1500"], np.eye(4))
        tool = make_tool("flat", 10)
        control = RotaryControl({54: on}, {1: tool.gauge_length})
        motion = Reader(300.0, control=control).read(ROUND.format(first=first, c=c))
        step, clock = np.zeros(len(motion), dtype=np.int32), np.arange(len(motion), dtype=float)
        run = Run(motion, step, ["round"], {1: tool}, clock, np.ones(len(motion)))
        return [f for f in limit_findings(run, on) if f.kind == "travel"]

    (found,) = beyond(400)
    assert (found.severity, found.measure, found.limit) == ("stop", 400.0, 360.0)
    assert remedy in found.remedy
    assert beyond(40) == []

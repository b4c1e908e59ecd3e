"""Slots of one width: the middle line, round about, open ends, the way down, and the proof of the posted
text."""

import math

import numpy as np
import pytest

from fenrik.core.errors import ComputeError, FenrikError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled, fused
from tests.core.test_profile import cutting, rounded_box

NONE = {side: 0.0 for side in ("x_low", "x_high", "y_low", "y_high", "z_low", "z_high")}


def mill(diameter, kind="flat"):
    return make_tool(kind, diameter, flute_length=26.0, stick_out=50.0)


def box(x, y, z, dx, dy, dz):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    return BRepPrimAPI_MakeBox(gp_Pnt(x, y, z), dx, dy, dz).Shape()


@pytest.fixture(scope="module")
def closed(tmp_path_factory):
    """A block with a closed slot 12 wide, 40 long, 8 deep, round at its ends, about its middle."""
    slot = fused(box(16, 14, 12, 28, 12, 8), cylinder(16, 20, 12, 6, 8), cylinder(44, 20, 12, 6, 8))
    return drilled(tmp_path_factory.mktemp("closed"), [slot])


def planner(file, tool, faces=None, operation=None, **parameters):
    """A job with one slot; program zero is the middle of the block's top. Without faces: the lowest level
    face."""
    doc = {"name": "Slot", "strategy": "slot_milling", "tool": 1, "parameters": parameters} | (
        operation or {}
    )
    data = {
        "fenrik": 1,
        "name": "slot",
        "part": {"file": file.name},
        "tools": [tool.model_dump(mode="json")],
        "setups": [{"name": "Top", "stock": {"kind": "box", "allowance": NONE}, "operations": [doc]}],
        "proof": {"cell_mm": 0.25},
    }
    if faces is None:
        part = open_job(
            job_from_data(data | {"setups": [{"name": "T", "operations": []}]}), file.parent, MemoryStore()
        ).workspace.part()
        level = [f for f in part.faces if f.kind == "plane" and f.normal is not None and f.normal[2] > 0.9]
        faces = [min(level, key=lambda f: f.origin[2]).id]
    doc["walls"] = [{"face": f} for f in faces]
    return open_job(job_from_data(data), file.parent, MemoryStore())


def path_of(plan):
    setup = plan.job.setups[0]
    return plan.path(setup, setup.operations[0])


def places(plan):
    """Points (n, 3) of the cutting moves; the block's middle is 0."""
    zero = np.array([*plan.setups.clamped(plan.job.setups[0]).part_low[:2] + np.array([30.0, 20.0]), 0.0])
    return cutting(path_of(plan)) - zero


def test_a_tool_as_wide_as_the_slot_goes_to_and_fro_on_its_middle(closed):
    points = places(planner(closed, mill(12.0)))
    assert np.abs(points[:, 1]).max() < 0.004
    assert points[:, 0].min() == pytest.approx(-14.0, abs=0.01)
    assert points[:, 0].max() == pytest.approx(14.0, abs=0.01)
    assert points[:, 2].min() == pytest.approx(-8.0)


@pytest.mark.parametrize(("direction", "turn"), [("climb", 1.0), ("conventional", -1.0)])
def test_a_narrower_one_goes_round_about_along_the_walls(closed, direction, turn):
    points = places(planner(closed, mill(8.0), direction=direction))
    straight = np.abs(points[:, 0]) < 13.9
    assert np.abs(points[straight, 1]) == pytest.approx(2.0, abs=0.01)
    ends = np.hypot(np.abs(points[~straight, 0]) - 14.0, points[~straight, 1])
    assert ends == pytest.approx(2.0, abs=0.02)
    # climb keeps the wall on the right of a tool that turns clockwise: counter-clockwise within walls
    a, b = points[:-1], points[1:]
    assert np.sign((a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum()) == turn


@pytest.mark.parametrize("diameter", [8.0, 12.0])
def test_the_way_down_is_even_no_steeper_than_asked_and_ends_level(closed, diameter):
    path = path_of(planner(closed, mill(diameter), ramp_deg=2.0, step_down=1.0))
    cuts = np.flatnonzero(path.kind == Motion.FEED)
    fall = -np.diff(path.tip[:, 2])[cuts - 1]
    slope = fall / np.maximum(path.moves.lengths()[cuts], 1e-9)
    assert slope.max() <= math.sin(math.radians(2.0)) + 1e-4
    assert (fall >= -1e-9).all()
    level = path.moves.lengths()[cuts][fall < 1e-9].sum()
    round_about = 2 * 28.0 if diameter == 12.0 else 2 * 28.0 + 2 * math.pi * 2.0
    assert level == pytest.approx(round_about, abs=0.2)  # one turn at the floor


def test_an_open_slot_is_run_out_of(tmp_path):
    file = drilled(tmp_path, [box(20, 17, 12, 45, 6, 8)])
    for tool, off in ((mill(6.0), 0.0), (mill(4.0), 1.0)):
        points = places(planner(file, tool))
        assert points[:, 0].max() > 30.0 + tool.radius  # beside the part
        inside = points[points[:, 0] < 29.0]
        assert inside[:, 0].min() == pytest.approx(-10.0 + tool.radius, abs=0.02)
        assert np.abs(inside[:, 1]).max() == pytest.approx(off, abs=0.01)


def test_areas_bound_the_middle_and_an_open_end_is_not_run_out_of_into_them(tmp_path):
    file = drilled(tmp_path, [box(20, 17, 12, 45, 6, 8)])
    beside = [{"polygon": [[20, -20], [60, -20], [60, 20], [20, 20]]}]
    before = [{"polygon": [[-20, -20], [17, -20], [17, 20], [-20, 20]]}]
    for tool in (mill(6.0), mill(4.0)):
        out = places(planner(file, tool, operation={"keep_out": beside}))  # that bounds the whole cutter
        assert 19.0 <= out[:, 0].max() + tool.radius <= 20.05
        within = places(planner(file, tool, operation={"keep_in": before}))
        assert 16.0 <= within[:, 0].max() <= 17.05
    assert places(planner(file, mill(6.0)))[:, 0].max() > 33.0


def test_the_middle_of_a_bent_slot_follows_the_bend(tmp_path):
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Common, BRepAlgoAPI_Cut

    ring = BRepAlgoAPI_Cut(cylinder(30, 8, 12, 21, 8), cylinder(30, 8, 12, 15, 8)).Shape()
    file = drilled(tmp_path, [BRepAlgoAPI_Common(ring, box(0, 12, 0, 60, 28, 30)).Shape()])
    points = places(planner(file, mill(6.0)))
    assert np.hypot(points[:, 0], points[:, 1] + 12.0) == pytest.approx(18.0, abs=0.01)
    assert np.ptp(points[:, 0]) > 28.0


@pytest.mark.parametrize("tool", [mill(12.0), mill(8.0), mill(4.0)], ids=lambda t: f"{t.diameter:g}")
def test_a_slot_is_proved_on_its_posted_text(closed, tool):
    plan = planner(closed, tool)
    facts = Prover(plan).prove(plan.job.effective_releases()[0]).facts
    assert not [f for f in facts["findings"] if f["severity"] == "stop"]
    assert facts["deviation"]["max_overcut_mm"] <= 0.011
    removed = 28 * 12 * 8 + math.pi * 36 * 8
    assert facts["operations"][0]["removed_mm3"] == pytest.approx(removed, rel=2e-3)


def test_what_is_no_slot_for_the_tool_is_named_with_what_would_do(closed, tmp_path):
    with pytest.raises(ComputeError, match=r"does not fit the slot at wall .*, 12\.00 mm wide") as caught:
        path_of(planner(closed, mill(12.5)))
    assert caught.value.offer == {"tool_at_most": 12.0}
    pocket = drilled(tmp_path, [rounded_box(15, 10, 12, 30, 20, 8, 5.0)])
    with pytest.raises(ComputeError, match="not as wide all along"):
        path_of(planner(pocket, mill(20.0)))
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut

    groove = drilled(
        tmp_path, [BRepAlgoAPI_Cut(cylinder(30, 20, 12, 15, 8), cylinder(30, 20, 12, 9, 8)).Shape()]
    )
    for diameter in (6.0, 4.0):
        with pytest.raises(ComputeError, match="goes round about an island and is no slot"):
            path_of(planner(groove, mill(diameter)))
    with pytest.raises(FenrikError, match="has no slot"):
        path_of(planner(closed, mill(12.0), []))
    outside = next(
        f.id for f in planner(closed, mill(12.0)).workspace.part().faces if f.normal and f.normal[0] > 0.9
    )
    with pytest.raises(ComputeError, match="No slot lies between the walls"):
        path_of(planner(closed, mill(12.0), [outside]))

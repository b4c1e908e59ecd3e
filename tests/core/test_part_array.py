"""Several parts in one blank: every one is made like the one, what is common is common, gaps are looked
at."""

import numpy as np
import pytest
from shapely.geometry import LineString, box
from shapely.ops import unary_union

from fenrik.core.errors import FenrikError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from fenrik.core.stock.heightmap import pieces_of
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled

MILL = make_tool("flat", 10.0, number=1, flute_length=30.0, stick_out=50.0)
DRILL = make_tool("drill", 8.0, number=2, point_deg=118.0, flute_length=40.0, stick_out=60.0)
FACE = {"name": "Face", "strategy": "facing", "tool": 1}
OUTLINE = {"walls": [{"outline": True}], "parameters": {"step_down": 21.0}}
AROUND = {"name": "Around", "strategy": "profile", "tool": 1, **OUTLINE}


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    """60 x 40 x 20 with a through hole of 8 at (45, 15)."""
    return drilled(tmp_path_factory.mktemp("block"), [cylinder(45, 15, 0, 4, 20)])


def planner(file, array, *operations):
    """A job of an array; the proof at 0.5 mm, program zero at the low corner of the first part's top."""
    setup = {
        "name": "Top",
        "array": array,
        "operations": list(operations),
        "zero": {"of": "part", "x": "low", "y": "low"},
    }
    data = {
        "fenrik": 1,
        "name": "array",
        "part": {"file": file.name},
        "proof": {"cell_mm": 0.5},
        "tools": [t.model_dump(mode="json") for t in (MILL, DRILL)],
        "setups": [setup],
    }
    return open_job(job_from_data(data), file.parent, MemoryStore())


def bore(plan):
    face = next(f.id for f in plan.workspace.part().faces if f.kind == "cylinder")
    return {
        "name": "Drill",
        "strategy": "drilling",
        "tool": 2,
        "holes": [{"face": face}],
        "parameters": {"cycle": "drill"},
    }


def test_every_part_stands_where_pitch_and_gap_say(block):
    plan = planner(block, {"columns": 3, "rows": 2, "gap_x": 12.0, "gap_y": 14.0})
    clamped = plan.setups.clamped(plan.job.setups[0])
    wanted = [[i * 72.0, j * 54.0, 0.0] for j in range(2) for i in range(3)]
    assert np.allclose(clamped.copies, wanted)
    assert np.allclose(clamped.stock_low, [-2, -2, -20]) and np.allclose(clamped.stock_high, [206, 96, 1])
    mesh = plan.setups.mesh(plan.job.setups[0], 0.01)
    assert np.allclose(mesh.bounds, [[0, 0, -20], [204, 94, 0]])
    assert len(np.unique(mesh.face_ids)) == len(plan.workspace.part().faces)


def test_holes_are_made_in_every_part(block):
    plan = planner(block, {"columns": 2, "rows": 2, "gap_x": 12.0, "gap_y": 12.0})
    setup = plan.job.setups[0]
    plan = planner(block, setup.array.model_dump(), bore(plan))
    path = plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    places = {(round(float(x), 3), round(float(y), 3)) for x, y, z in path.tip if z < -15}
    assert places == {(45.0, 15.0), (117.0, 15.0), (45.0, 67.0), (117.0, 67.0)}


def test_each_outline_is_gone_around_and_both_parts_come_out_on_size(block):
    plan = planner(block, {"columns": 2, "gap_x": 12.0})
    gently = AROUND | {"feed_mm_min": 500.0}  # at full depth through the blank the mill would bend too far
    plan = planner(block, {"columns": 2, "gap_x": 12.0}, FACE, gently, bore(plan))
    facts = Prover(plan).prove(plan.job.effective_releases()[0]).facts
    assert not [f for f in facts["findings"] if f["severity"] == "stop" or f["kind"] == "gap"]
    assert facts["deviation"]["max_overcut_mm"] < 0.01
    assert facts["deviation"]["share_of_reachable"] > 0.99
    # reference: two blocks less two bores, of which the proof counts the volume
    left = facts["stock_volume_mm3"] - facts["removed_mm3"]
    frame = (2 * 60 + 12 + 4) * 44 * 20 - 2 * 60 * 40 * 20  # what of the blank lies beside the parts
    parts = 2 * (60 * 40 - np.pi * 16) * 20
    rim = _beside(plan)
    assert left == pytest.approx(parts + frame - rim, rel=2e-3)
    assert facts["operations"][0]["name"] == "Face" and facts["operations"][0][
        "removed_mm3"
    ] == pytest.approx(136 * 44 * 1.0, rel=5e-3)


def _beside(plan):
    """Volume that the cutter takes around the parts, of the blank beside them: its way, as wide as it, less
    the parts."""
    path = plan.path(plan.job.setups[0], plan.job.setups[0].operations[1])
    pieces, owner = pieces_of(path)
    cutting = (path.kind[1:][owner] == Motion.FEED) & (pieces[:, 2] < -19) & (pieces[:, 5] < -19)
    swept = unary_union([LineString([p[:2], p[3:5]]) for p in pieces[cutting]]).buffer(5.0)
    blank, parts = box(-2, -2, 134, 42), unary_union([box(0, 0, 60, 40), box(72, 0, 132, 40)])
    return swept.intersection(blank).difference(parts).area * 20.0


@pytest.mark.parametrize(("gap", "found"), [(9.0, True), (10.0, False), (40.0, False)])
def test_a_gap_that_no_tool_passes_is_said(block, gap, found):
    plan = planner(block, {"columns": 2, "gap_x": gap}, AROUND)
    findings = Prover(plan).prove(plan.job.effective_releases()[0]).facts["findings"]
    gaps = [f for f in findings if f["kind"] == "gap"]
    assert bool(gaps) is found
    if found:
        assert "9 mm between parts along X is narrower than 10 mm" in gaps[0]["words"]


def test_too_many_parts_are_refused(block):
    with pytest.raises(FenrikError, match="20 x 20 parts are too many"):
        planner(block, {"columns": 20, "rows": 20})

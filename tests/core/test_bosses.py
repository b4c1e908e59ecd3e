"""Round bosses: found in the part, milled down a helix, threaded outside, proved."""

import math

import numpy as np
import pytest

from fenrik.core.errors import FenrikError
from fenrik.core.features.bosses import find_bosses
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled
from tests.core.test_threads import thread_mill

MILL = make_tool("flat", 8.0, flute_length=26.0, stick_out=40.0)


@pytest.fixture(scope="module")
def bossed(tmp_path_factory):
    """A plate of 60 x 40 x 8 with a boss Ø20 at (20, 20) and one Ø6 at (50, 30), both 12 high, and a wall
    beside the latter."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    away = BRepPrimAPI_MakeBox(gp_Pnt(-1, -1, 8), 62, 42, 13).Shape()
    for kept in (
        cylinder(20, 20, 7, 10, 14),
        cylinder(50, 30, 7, 3, 14),
        BRepPrimAPI_MakeBox(gp_Pnt(40, 20, 7), 1, 21, 14).Shape(),
    ):
        away = BRepAlgoAPI_Cut(away, kept).Shape()
    return drilled(tmp_path_factory.mktemp("bossed"), [away])


def prover(file, operations, tools=(MILL,)):
    data = {
        "fenrik": 1,
        "name": "Bosses",
        "part": {"file": file.name},
        "tools": [t.model_dump(mode="json") for t in tools],
        "setups": [
            {
                "name": "Top",
                "operations": operations,
                "zero": {"of": "part", "x": "low", "y": "low", "z": "high"},
            }
        ],
        "proof": {"cell_mm": 0.5},
    }
    return Prover(open_job(job_from_data(data), file.parent, MemoryStore()))


def faces(file):
    part = prover(file, []).paths.workspace.part()
    return {round(b.diameter): b.faces[0] for b in find_bosses(part)}


def test_bosses_are_found_and_holes_and_corners_are_not(bossed):
    bosses = find_bosses(prover(bossed, []).paths.workspace.part())
    assert [round(b.diameter, 3) for b in bosses] in ([20.0, 6.0], [6.0, 20.0])
    wide = next(b for b in bosses if b.diameter > 10)
    assert (wide.high - wide.low, *wide.origin[:2], abs(wide.axis[2])) == pytest.approx(
        (12.0, 20.0, 20.0, 1.0)
    )


def path_of(file, face, **parameters):
    plan = prover(file, [operation(face, **parameters)]).paths
    return plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])


def operation(face, **parameters):
    return {
        "name": "Boss",
        "strategy": "boss_milling",
        "tool": 1,
        "holes": [{"face": face}],
        "parameters": parameters,
    }


def test_rings_go_down_by_the_pitch_and_end_to_size(bossed):
    path = path_of(bossed, faces(bossed)[20], pitch=2.0, rings=3, stepover=1.5, last_stock=0.25)
    cut = np.isin(path.kind, (Motion.FEED, Motion.ENTRY)) & (path.turn != 0)
    away = np.hypot(path.tip[:, 0] - 20.0, path.tip[:, 1] - 20.0)
    rings = sorted(set(np.round(away[cut], 4)))
    assert rings == pytest.approx([14.0, 14.25, 15.75])
    assert path.tip[cut, 2].min() == pytest.approx(-12.0)
    falls = -np.diff(path.tip[:, 2])[cut[1:]]
    assert falls.max() <= 1.0 + 1e-9  # half a turn of 2 mm
    # climb milling outside goes clockwise with a tool that turns clockwise (common practice, no source)
    assert set(path.turn[cut]) == {-1} and set(
        path_of(bossed, faces(bossed)[20], direction="conventional").turn[cut.nonzero()[0][:1]]
    ) != {-1}


def test_a_boss_too_near_to_a_wall_is_named(bossed):
    # Ø6 at (50, 30), wall at 41: 6 mm of room beside the boss
    with pytest.raises(FenrikError, match=r"Tool 1 of 8 mm does not go round Boss Ø6") as caught:
        path_of(bossed, faces(bossed)[6])
    assert caught.value.offer == {"tool_at_most": 4.0}


def test_other_faces_are_refused_by_their_number(bossed):
    with pytest.raises(FenrikError, match=r"Face 1 is no wall of a round boss"):
        path_of(bossed, next(f for f in range(1, 3) if f not in faces(bossed).values()))
    drill = {"name": "Drill", "strategy": "drilling", "tool": 1, "holes": [{"face": faces(bossed)[20]}]}
    plan = prover(
        bossed, [drill], [make_tool("drill", 8.0, point_deg=118.0, flute_length=40.0, stick_out=50.0)]
    ).paths
    with pytest.raises(FenrikError, match="is no wall of a round hole"):
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])


def test_a_thread_whose_ways_would_cut_a_wall_offers_another_beginning(bossed):
    # towards the wall at X 41 the thread mill would need to X 41.6
    thread = {
        "name": "Thread",
        "strategy": "thread_milling",
        "tool": 2,
        "holes": [{"face": faces(bossed)[20]}],
        "parameters": {"thread": "M20 x 1.5", "side": "external", "thread_depth": 8.0},
    }
    tools = [MILL, thread_mill(pitch=1.5, diameter=10.0, number=2)]

    def planned(**more):
        plan = prover(bossed, [{**thread, "parameters": {**thread["parameters"], **more}}], tools).paths
        return plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])

    with pytest.raises(FenrikError, match=r"ways to and from the thread on Boss Ø20") as caught:
        planned()
    path = planned(**caught.value.offer["parameters"])
    assert path.tip[:, 0].max() + 5.0 < 40.0 or path.tip[path.tip[:, 0] + 5.0 > 40.0, 1].max() + 5.0 < 20.0


@pytest.mark.parametrize("correction", ["computer", "control"])
def test_a_boss_is_milled_and_threaded_and_proved(bossed, correction):
    face = faces(bossed)[20]
    clear = {
        "name": "Clear",
        "strategy": "level_roughing",
        "tool": 1,
        "parameters": {"allowance_radial": 0.3, "allowance_axial": 0.0},
    }
    thread = {
        "name": "Thread",
        "strategy": "thread_milling",
        "tool": 2,
        "holes": [{"face": face}],
        "parameters": {
            "thread": "M20 x 1.5",
            "side": "external",
            "thread_depth": 8.0,
            "correction": correction,
            "start_deg": 180.0,
        },
    }
    mill = thread_mill(pitch=1.5, diameter=10.0, number=2)
    checked = prover(bossed, [clear, operation(face, rings=2, correction=correction), thread], [MILL, mill])
    proof = checked.prove(checked.job.effective_releases()[0])
    assert proof.stops() == []
    done = {o["name"]: o for o in proof.facts["operations"]}
    # 0.3 mm round a boss of 20 mm, 12 deep
    assert done["Boss"]["removed_mm3"] == pytest.approx(math.pi * (10.3**2 - 10.0**2) * 12.0, rel=0.1)
    assert done["Thread"]["removed_mm3"] > 100.0
    if correction == "control":
        assert proof.facts["registers"] == {"1": 4.0, "2": 5.0}
        assert any(f["kind"] == "wear" for f in proof.facts["findings"])


def test_two_bosses_about_one_line_are_two_and_a_rounded_corner_is_none(tmp_path):
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    from tests.core.test_profile import rounded_box

    # a rounded plate 8 thick in the middle of the block's 20, a boss of 16 on it and another under it
    whole = BRepPrimAPI_MakeBox(gp_Pnt(-1, -1, -1), 62, 42, 22).Shape()
    for kept in (rounded_box(0, 0, 6, 60, 40, 8, 6.0), cylinder(30, 20, 0, 8, 20)):
        whole = BRepAlgoAPI_Cut(whole, kept).Shape()
    bosses = find_bosses(prover(drilled(tmp_path, [whole]), []).paths.workspace.part())
    assert [(round(b.diameter, 3), round(b.high - b.low, 3)) for b in bosses] == [(16.0, 6.0), (16.0, 6.0)]
    assert sorted(round(b.low, 3) for b in bosses) == [0.0, 14.0]

"""Nothing is left out in silence: holes that are not made, ways without room, tools that touch all along."""

import pytest

from fenrik.core.errors import ComputeError
from fenrik.core.features.holes import alike
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled
from tests.core.test_shapes import box_of


def job_of(file, operation, tool):
    return {
        "fenrik": 1,
        "name": "left",
        "part": {"file": file.name},
        "tools": [tool.model_dump()],
        "setups": [{"name": "Top", "operations": [{"name": "Work", "tool": 1, **operation}]}],
        "proof": {"cell_mm": 0.5},
    }


def path_of(folder, document):
    planner = open_job(job_from_data(document), folder, MemoryStore())
    setup = planner.job.setups[0]
    return planner, planner.path(setup, setup.operations[0])


def drilling_below_a_step(folder, stick_out):
    """Two holes from a floor 12 mm under the part's top, one far from the step and one beside it."""
    file = drilled(
        folder, [box_of(12, -1, 8, 60, 50, 20), cylinder(15, 20, 0, 2.5, 20), cylinder(50, 20, 0, 2.5, 20)]
    )
    planner = open_job(
        job_from_data({"fenrik": 1, "name": "h", "part": {"file": file.name}}), folder, MemoryStore()
    )
    holes = [h for group in alike(planner.workspace.holes()) for h in group]
    tool = make_tool("drill", 5, point_deg=140, flute_length=14, stick_out=stick_out)
    picks = [{"face": h.faces[0]} for h in holes]
    operation = {"strategy": "drilling", "holes": picks, "parameters": {"cycle": "drill"}}
    return job_of(file, operation, tool) | {
        "setups": [
            {
                "name": "Top",
                "operations": [
                    {
                        "name": "Clear",
                        "strategy": "level_roughing",
                        "tool": 2,
                        "parameters": {"step_down": 3.0},
                    },
                    {"name": "Work", "tool": 1, **operation},
                ],
            }
        ],
        "tools": [tool.model_dump(), make_tool("flat", 8, number=2, stick_out=60).model_dump()],
    }


def test_a_hole_whose_drill_is_too_short_is_a_stop_that_counts_and_names_it(tmp_path):
    document = drilling_below_a_step(tmp_path, 20.0)
    prover = Prover(open_job(job_from_data(document), tmp_path, MemoryStore()))
    proof = prover.prove(prover.job.effective_releases()[0])
    (stop,) = [s for s in proof.stops() if s["kind"] == "missing"]
    assert "'Work' makes 1 of 2" in stop["words"] and "Ø5" in stop["words"] and "holder" in stop["words"]
    assert "stick-out of" in stop["remedy"]
    enough = float(stop["remedy"].split("stick-out of ")[1].split(" mm")[0])
    again = Prover(
        open_job(job_from_data(drilling_below_a_step(tmp_path, enough + 0.1)), tmp_path, MemoryStore())
    )
    assert [s for s in again.prove(again.job.effective_releases()[0]).stops() if s["kind"] == "missing"] == []


def test_a_finishing_in_faces_narrower_than_the_tool_fails_and_says_what_would_work(tmp_path):
    file = drilled(tmp_path, [box_of(20, -1, 14, 4, 50, 20)])
    planner = open_job(
        job_from_data({"fenrik": 1, "name": "n", "part": {"file": file.name}}), tmp_path, MemoryStore()
    )
    floor = next(
        f.id
        for f in planner.workspace.part().faces
        if f.kind == "plane" and f.normal and f.normal[2] > 0.99 and abs(f.origin[2] - 14) < 1e-6
    )
    tool = make_tool("flat", 10)
    operation = {
        "strategy": "slot_milling",
        "walls": [{"face": floor}],
        "keep_in": [{"faces": [floor], "offset": -1.5}],
    }
    with pytest.raises(ComputeError) as raised:
        path_of(tmp_path, job_of(file, operation, tool))
    assert raised.value.remedy

"""Whole plans of models that nobody here drew, in two directions: computed, proved, offered without a stop.

A coarser cusp and cell than a shop would take keep the time of the tests in bounds; what is chosen, linked,
kept clear and proved is the same."""

import pytest

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.document.recipe_data import shipped
from fenrik.core.job.opening import open_job
from fenrik.core.job.proposing.proved import propose_proved
from fenrik.core.job.proposing.recipes import with_proposal
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.strategies.registry import strategies
from tests.conftest import MODELS

CUSP, CELL = 0.4, 1.5
PARTS = (
    "angled_bracket", "boxes_on_faces", "cast_bearing_unit", "curved_support", "drafted_lug", "motor_bracket",
    "pillow_block", "plate_a", "plate_b", "ribbed_flange", "tapered_cap",
)  # fmt: skip


def coarse_recipe():
    """The shipped recipe with higher ridges."""
    recipe = shipped()[1][0].model_dump(mode="json")
    for step in recipe["steps"]:
        if "cusp" in step["parameters"]:
            step["parameters"]["cusp"] = CUSP
    return recipe | {"name": "Coarse"}


@pytest.mark.parametrize("up", ["+z", "-z"])
@pytest.mark.parametrize("part", PARTS)
def test_a_whole_plan_of_a_foreign_part_is_offered_without_a_stop(part, up):
    document = {
        "fenrik": 1,
        "name": part,
        "part": {"file": f"{part}.step"},
        "setups": [{"name": "Top", "up": {"axis": up}, "machine": "column_mill_800"}],
        "part_recipes": [coarse_recipe()],
        "proof": {"cell_mm": CELL if part != "boxes_on_faces" else 0.1},
    }
    job, store = job_from_data(document), MemoryStore()
    proposal = propose_proved(job, job.setups[0], MODELS, store)
    assert not [words for words in proposal.words if words.startswith("Stop:")]
    prover = Prover(open_job(with_proposal(job, job.setups[0], proposal), MODELS, store))
    proof = prover.prove(prover.job.effective_releases()[0])
    assert proof.stops() == []
    facts = proof.facts["deviation"]
    assert facts["max_overcut_mm"] <= 0.011
    assert proof.facts["removed_mm3"] > 0.02 * proof.facts["stock_volume_mm3"]
    # every operation that is offered cuts, none takes a tool along whose flutes and neck do not reach at all
    assert all(o["removed_mm3"] > 0 or o["cutting_length_mm"] > 0 for o in proof.facts["operations"])
    # a thread that nobody has told is not cut
    cutting = [o for o in proposal.operations if o.enabled]
    assert not any(strategies()[o.strategy].id in ("tapping", "thread_milling") for o in cutting)


def test_short_mills_face_and_clear_the_top_and_long_ones_only_what_lies_deeper():
    document = {
        "fenrik": 1,
        "name": "deep",
        "part": {"file": "angled_bracket.step"},
        "setups": [{"name": "Top", "machine": "column_mill_800"}],
    }
    job = job_from_data(document)
    from fenrik.core.job.proposing.whole_part import propose_part

    planner = open_job(job, MODELS, MemoryStore())
    proposal = propose_part(planner, planner.job.setups[0])
    tools = {t.number: t for t in proposal.tools}
    by_name = {o.name: o for o in proposal.operations}
    slender = {name: tools[o.tool].stick_out / tools[o.tool].diameter for name, o in by_name.items()}
    assert slender["Face the top"] < 4.0 and slender["Clear"] < 4.0
    assert tools[by_name["Clear deeper"].tool].diameter > tools[by_name["Clear"].tool].diameter
    assert by_name["Clear"].heights.bottom.over == "part_top"
    assert any("neck to" in t.name for t in tools.values())
    assert any("short of the depth" in words for words in proposal.words)


def test_triangles_of_a_part_are_planned_as_the_part_is(tmp_path):
    import trimesh

    from fenrik.core.model.reading import read_model, working_mesh

    solid = working_mesh(read_model(MODELS / "pillow_block.step"), 0.05)
    trimesh.Trimesh(solid.vertices, solid.triangles, process=False).export(tmp_path / "pillow_block.stl")
    (tmp_path / "pillow_block.step").write_bytes((MODELS / "pillow_block.step").read_bytes())
    names = []
    for kind in ("stl", "step"):
        document = {
            "fenrik": 1,
            "name": kind,
            "part": {"file": f"pillow_block.{kind}"},
            "setups": [{"name": "Top", "machine": "column_mill_800"}],
            "part_recipes": [coarse_recipe()],
            "proof": {"cell_mm": CELL},
        }
        job = job_from_data(document)
        proposal = propose_proved(job, job.setups[0], tmp_path, MemoryStore())
        assert not [words for words in proposal.words if words.startswith("Stop:")]
        names.append([o.name for o in proposal.operations])
    assert names[0] == names[1]

"""Recipes: from a hole and its use to operations that the proof finds right, with tools that fit."""

from typing import get_args

import pytest

from fenrik.core.errors import ComputeError, FenrikError
from fenrik.core.features.hole_use import Purpose
from fenrik.core.features.holes import alike
from fenrik.core.job.document.reading import job_data, job_from_data
from fenrik.core.job.document.recipe_data import choices, shipped
from fenrik.core.job.opening import open_job
from fenrik.core.job.proposing.recipes import Proposal, propose_all, propose_operations, uses_of
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import MODELS, make_tool
from tests.core.test_holes import cylinder, drilled


def job(part: str, **setup):
    return {
        "fenrik": 1,
        "name": "recipes",
        "part": {"file": part},
        "setups": [{"name": "Top", "operations": [], **setup}],
        "proof": {"cell_mm": 0.5},
    }


def with_proposal(data: dict, proposal: Proposal) -> dict:
    data["tools"] = [*data.get("tools", []), *(t.model_dump(mode="json") for t in proposal.tools)]
    data["setups"][0]["operations"] += [o.model_dump(mode="json") for o in proposal.operations]
    return data


def proposed(part: str, index: int, purpose=None, **data):
    whole = job(part) | data
    planner = open_job(job_from_data(whole), MODELS, MemoryStore())
    group = alike(planner.workspace.holes())[index]
    return whole, propose_operations(planner.job, planner.job.setups[0], group, purpose)


def test_every_recipe_can_be_reached_and_names_known_purposes():
    known = set(get_args(Purpose))
    for recipe in shipped()[0]:
        assert set(recipe.purposes) <= known and recipe.steps
        assert recipe.deeper_than < recipe.no_deeper_than


def test_four_clearance_holes_become_spot_and_drill_and_are_proved():
    data, proposal = proposed("bearing_bracket.step", 0)
    assert proposal.recipe == "Short drilled hole"
    assert [o.parameters["cycle"] for o in proposal.operations] == ["spot", "drill"]
    assert all(len(o.holes) == 4 for o in proposal.operations)
    assert any("clears M8" in w for w in proposal.words)
    drill = proposal.tools[-1]
    assert drill.kind == "drill" and drill.diameter == pytest.approx(9.0) and drill.flute_length > 14.0
    job_ = job_from_data(with_proposal(data, proposal))
    prover = Prover(open_job(job_, MODELS, MemoryStore()))
    proof = prover.prove(prover.job.effective_releases()[0])
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.011
    assert job_from_data(job_data(job_)) == job_


def test_counterbored_holes_get_a_counterbore_of_their_width():
    _, proposal = proposed("pillow_block.step", 0)
    assert [o.parameters["cycle"] for o in proposal.operations] == ["spot", "peck", "counterbore"]
    by_number = {t.number: t for t in proposal.tools}
    bore = by_number[proposal.operations[-1].tool]
    assert bore.kind == "flat" and bore.diameter == pytest.approx(6.0)


def test_tools_of_the_job_come_first_and_numbers_stay_free():
    drill = make_tool("drill", 9, number=1, point_deg=140, flute_length=60, stick_out=70)
    _, proposal = proposed("bearing_bracket.step", 0, tools=[drill.model_dump()])
    assert proposal.operations[-1].tool == 1
    assert 1 not in {t.number for t in proposal.tools}


def test_names_stay_unique_when_a_recipe_is_used_twice():
    data, proposal = proposed("bearing_bracket.step", 0)
    planner = open_job(job_from_data(with_proposal(data, proposal)), MODELS, MemoryStore())
    again = propose_operations(planner.job, planner.job.setups[0], alike(planner.workspace.holes())[0])
    assert not {o.name for o in again.operations} & {o.name for o in planner.job.setups[0].operations}
    assert again.tools == []


def test_a_wide_counterbored_hole_is_milled_in_two_diameters_and_proved():
    data, proposal = proposed("bearing_bracket.step", 1)
    assert [o.strategy for o in proposal.operations] == ["bore_milling"] * 2
    assert any("wider than 25.4 mm" in w for w in proposal.words)
    prover = Prover(open_job(job_from_data(with_proposal(data, proposal)), MODELS, MemoryStore()))
    proof = prover.prove(prover.job.effective_releases()[0])
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.011
    assert [f for f in proof.stops() if f["kind"] != "collision"] == []


def test_a_recipe_of_the_job_goes_before_those_that_ship():
    own = {
        "name": "Our clearance holes",
        "purposes": ["clearance"],
        "no_deeper_than": 4.0,
        "steps": [
            {"name": "Drill at once", "parameters": {"cycle": "drill", "breakthrough": 2.0}, "tool": "drill"}
        ],
    }
    _, proposal = proposed("bearing_bracket.step", 0, recipes=[own])
    assert [o.name for o in proposal.operations] == ["Drill at once Ø9"]
    assert proposal.operations[0].parameters == {"cycle": "drill", "breakthrough": 2.0}
    # where its conditions do not hold, the shipped one is taken
    _, other = proposed("bearing_bracket.step", 0, recipes=[own | {"no_deeper_than": 1.0}])
    assert other.recipe != own["name"] and len(other.operations) > 1


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"steps": [{"name": "A", "strategy": "sawing", "tool": "drill"}]}, "o such strategy 'sawing'"),
        ({"steps": [{"name": "A", "parameters": {"cycle": "saw"}, "tool": "drill"}]}, "cycle"),
        ({"purposes": []}, "purposes"),
        ({"steps": []}, "steps"),
        ({"shape": "plain"}, "shape"),
    ],
)
def test_a_recipe_that_cannot_run_is_refused_when_it_is_written(change, words):
    own = {"name": "Own", "purposes": ["plain"], "steps": [{"name": "Drill", "tool": "drill"}]}
    with pytest.raises(FenrikError, match=words):
        job_from_data(job("bearing_bracket.step", operations=[]) | {"recipes": [own | change]})


def test_the_tables_can_be_overruled():
    _, proposal = proposed("bearing_bracket.step", 1, "fit")
    assert proposal.recipe == "Reamed fit"
    reamer = next(t for t in proposal.tools if t.kind == "reamer")
    assert reamer.diameter == pytest.approx(26.0) and any("made up" in w for w in proposal.words)


def test_a_hole_without_a_recipe_is_refused_by_name(monkeypatch):
    monkeypatch.setattr("fenrik.core.job.proposing.recipes.shipped", lambda: ([], []))
    with pytest.raises(ComputeError, match=r"No recipe is for Ø9, through as 'clearance'"):
        proposed("bearing_bracket.step", 0)


def test_a_fit_is_drilled_under_size_and_reamed():
    _, proposal = proposed("plate_b.step", 0, "fit")
    cycles = [o.parameters["cycle"] for o in proposal.operations]
    assert cycles == ["spot", "peck", "ream"]
    by_number = {t.number: t for t in proposal.tools}
    assert by_number[proposal.operations[1].tool].diameter == pytest.approx(11.8)
    assert by_number[proposal.operations[2].tool].kind == "reamer"


@pytest.mark.parametrize(
    "part", ["pillow_block.step", "plate_b.step", "motor_bracket.step", "curved_support.step"]
)
def test_every_hole_seen_from_here_is_planned_and_the_rest_named(part):
    """Spots before drills, each hole once in each phase, no overcut in the proof; holes across the tool are
    told."""
    data = job(part)
    planner = open_job(job_from_data(data), MODELS, MemoryStore())
    groups, setup = alike(planner.workspace.holes()), planner.job.setups[0]
    proposal = propose_all(planner.job, setup, groups, planner.setups.clamped(setup))
    seen = [h for g in groups for h in g if [0.0, 0.0, 1.0] in h.entries]
    left = [w for w in proposal.words if w.startswith("Left")]
    assert len(left) == sum(all([0.0, 0.0, 1.0] not in h.entries for h in g) for g in groups)
    if not seen:
        assert proposal.operations == []
        return
    spots = [o for o in proposal.operations if o.parameters.get("cycle") == "spot"]
    assert proposal.operations[: len(spots)] == spots
    made = {pick.face for o in proposal.operations for pick in o.holes}
    assert made == {h.faces[0] for h in seen}
    prover = Prover(open_job(job_from_data(with_proposal(data, proposal)), MODELS, MemoryStore()))
    proof = prover.prove(prover.job.effective_releases()[0])
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.011


@pytest.mark.parametrize(
    ("diameter", "name", "tap"), [(6.8, "M8", "Tap M8"), (5.0, "M6", "Tap M6"), (14.0, "M16", "Tap 16")]
)
def test_a_hole_of_a_tapping_drill_is_spotted_drilled_and_tapped(tmp_path, diameter, name, tap):
    file = drilled(tmp_path, [cylinder(x, 20, 0, diameter / 2, 20) for x in (15, 45)])
    planner = open_job(job_from_data(job(file.name)), tmp_path, MemoryStore())
    (holes,) = alike(planner.workspace.holes())
    proposal = propose_operations(planner.job, planner.job.setups[0], holes, "thread")
    assert any(name in words for words in proposal.words)
    assert [o.strategy for o in proposal.operations] == ["drilling", "drilling", "tapping"]
    assert next(t.name for t in proposal.tools if t.kind == "tap") == tap
    data = with_proposal(job(file.name), proposal)
    prover = Prover(open_job(job_from_data(data), tmp_path, MemoryStore()))
    proof = prover.prove(prover.job.effective_releases()[0])
    assert proof.stops() == [] and proof.facts["text"].count("G84") == 1


def unconfirmed(tmp_path, diameter, depth_through=True):
    """A plate with two through holes of a size, everything planned; the plan and its proof's cautions."""
    file = drilled(tmp_path, [cylinder(x, 20, 0 if depth_through else 5, diameter / 2, 20) for x in (15, 45)])
    data = job(file.name)
    planner = open_job(job_from_data(data), tmp_path, MemoryStore())
    setup = planner.job.setups[0]
    proposal = propose_all(
        planner.job, setup, alike(planner.workspace.holes()), planner.setups.clamped(setup)
    )
    return with_proposal(data, proposal)


def cautions(data, tmp_path):
    prover = Prover(open_job(job_from_data(data), tmp_path, MemoryStore()))
    proof = prover.prove(prover.job.effective_releases()[0])
    assert proof.stops() == []
    return proof, [f for f in proof.facts["findings"] if f["kind"] == "unconfirmed"]


def test_a_likely_thread_is_cut_only_when_somebody_has_confirmed_it(tmp_path):
    data = unconfirmed(tmp_path, 6.8)
    tap = data["setups"][0]["operations"][-1]
    assert (tap["strategy"], tap["enabled"], tap["unconfirmed"]) == ("tapping", False, "thread M8")
    proof, (caution,) = cautions(data, tmp_path)
    assert "G84" not in proof.facts["text"] and caution["severity"] == "caution"
    faces = [str(pick["face"]) for pick in tap["holes"]]
    assert all(face in caution["words"] for face in faces) and "M8" in caution["words"]
    assert "Ø6.8" in caution["words"] and caution["place"] is not None
    tap["enabled"], tap["unconfirmed"] = True, ""
    proof, found = cautions(data, tmp_path)
    assert proof.facts["text"].count("G84") == 1 and found == []


@pytest.mark.parametrize(
    ("diameter", "through", "mark"),
    [(13.5, True, ""), (17.5, True, ""), (14.5, True, ""), (7.0, True, ""), (10.0, False, "fit 10")],
)
def test_what_the_model_shows_is_drilled_as_drawn(tmp_path, diameter, through, mark):
    """Clearance holes of a millimetre plate are plain holes; a likely fit is drilled to its size and told."""
    data = unconfirmed(tmp_path, diameter, through)
    operations = data["setups"][0]["operations"]
    assert {o["strategy"] for o in operations} == {"drilling"} and all(o["enabled"] for o in operations)
    drill = next(t for t in data["tools"] if t["number"] == operations[-1]["tool"])
    assert drill["diameter"] == pytest.approx(diameter) and operations[-1]["unconfirmed"] == mark
    assert len(cautions(data, tmp_path)[1]) == bool(mark)


def test_a_job_in_inches_takes_inch_threads_and_one_in_millimetres_when_asked(tmp_path):
    file = drilled(tmp_path, [cylinder(20, 20, 5, 13.494 / 2, 20)])
    for units, first in (("mm", "plain"), ("inch", "thread")):
        planner = open_job(job_from_data(job(file.name) | {"units": units}), tmp_path, MemoryStore())
        (holes,) = alike(planner.workspace.holes())
        assert uses_of(planner.job, holes[0])[0].purpose == first
        asked = propose_operations(planner.job, planner.job.setups[0], holes, "thread", "5/8-11")
        assert asked.operations[-1].strategy in ("tapping", "thread_milling")
        assert not any(o.unconfirmed for o in asked.operations)


def test_the_choices_that_a_page_offers_hold_all_that_ships():
    offered = choices()
    holes, parts = shipped()
    assert {p for r in holes for p in r.purposes} <= set(offered["purposes"])
    assert {s.tool for r in holes for s in r.steps} <= set(offered["tool"])
    assert {s.size for r in holes for s in r.steps} <= set(offered["size"])
    assert {s.tool for r in parts for s in r.steps} <= set(offered["part_tool"])
    assert {s.works_on for r in parts for s in r.steps} <= set(offered["works_on"])
    assert {s.when for r in parts for s in r.steps if s.when} <= set(offered["when"])
    assert {"pocket", "slot", "boss"} <= set(offered["kinds"]) and all(offered.values())

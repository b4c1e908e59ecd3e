"""A whole plan for what is seen from a setup: what is seen, which operations, tools that reach, the proof,
what is left."""

import numpy as np
import pytest
import trimesh

from fenrik.core.cutting.topology import prepare
from fenrik.core.features.seen import inner_radius, seen_from_above
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.document.recipe_data import shipped
from fenrik.core.job.opening import open_job
from fenrik.core.job.proposing.whole_part import propose_features, propose_part
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import MODELS
from tests.core.test_holes import cone, cylinder, drilled


def whole(folder, file, **data):
    """The proposal for a part, and the planner of the job that it makes."""
    doc = {
        "fenrik": 1,
        "name": "whole",
        "part": {"file": file},
        "setups": [{"name": "Top", "operations": []}],
        "proof": {"cell_mm": 0.5},
        **data,
    }
    planner = open_job(job_from_data(doc), folder, MemoryStore())
    proposal = propose_part(planner, planner.job.setups[0])
    doc["tools"] = [*doc.get("tools", []), *(t.model_dump(mode="json") for t in proposal.tools)]
    doc["setups"][0]["operations"] = [o.model_dump(mode="json") for o in proposal.operations]
    return proposal, open_job(job_from_data(doc), folder, MemoryStore())


@pytest.mark.parametrize(
    "name",
    ["plate_b.step", "motor_bracket.step", "bearing_bracket.step", "tapered_cap.step", "ribbed_flange.step"],
)
def test_what_is_seen_agrees_with_rays_from_above(name):
    # embree's rays through trimesh: a face is seen where a ray from above meets it, or the air beside it,
    # first
    planner = open_job(
        job_from_data(
            {"fenrik": 1, "name": "s", "part": {"file": name}, "setups": [{"name": "T", "operations": []}]}
        ),
        MODELS,
        MemoryStore(),
    )
    part, mesh = (
        planner.workspace.part(),
        planner.workspace.part().mesh.moved(planner.setups.clamped(planner.job.setups[0]).setup_from_part),
    )
    seen = seen_from_above(part, mesh, prepare(mesh))
    ids = [f.id for group in vars(seen).values() for f in group]
    assert sorted(ids) == sorted({int(i) for i in mesh.face_ids})
    body = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    for groups, wanted in (((seen.floors, seen.leaning), True), ((seen.hidden,), False)):
        for face in (f for g in groups for f in g):
            mine = np.flatnonzero(mesh.face_ids == face.id)
            if abs(np.average(body.face_normals[mine, 2], weights=body.area_faces[mine])) < 0.1:
                continue
            middle = body.triangles_center[mine]
            middle = middle + 1e-3 * body.face_normals[mine]
            covered = body.ray.intersects_any(middle, np.tile([0.0, 0.0, 1.0], (len(mine), 1)))
            share = float(body.area_faces[mine][~covered].sum() / body.area_faces[mine].sum())
            assert (share > 0.4) == wanted or 0.3 < share < 0.7, face


def test_a_plate_with_pocket_bores_threads_and_a_chamfer_is_planned_and_proved(tmp_path):
    from tests.core.test_profile import rounded_box

    file = drilled(
        tmp_path,
        [
            rounded_box(14, 10, 12, 30, 20, 8, 5.0),
            cylinder(52, 20, 0, 3.4, 20),
            cylinder(8, 20, 0, 4.5, 20),
            cone(8, 20, 19.5, 4.5, 5.0, 0.5),
        ],
    )
    proposal, planner = whole(tmp_path, file.name)
    strategies = [o.strategy for o in proposal.operations]
    assert (
        strategies[:2] == ["facing", "bounded_clearing"]
        and "tapping" in strategies
        and "profile" in strategies
    )
    assert any("M8" in w for w in proposal.words)
    fine = next(
        t
        for t in proposal.tools
        if t.number == next(o.tool for o in proposal.operations if o.strategy == "profile")
    )
    assert fine.radius < 5.0 and fine.flute_length >= 20.0
    proof = Prover(planner).prove(planner.job.effective_releases()[0])
    assert proof.stops() == []
    facts = proof.facts["deviation"]
    assert facts["max_overcut_mm"] <= 0.011
    assert facts["share_of_reachable"] > 0.995


def test_slots_are_milled_along_each_by_the_mill_that_goes_round_in_it(tmp_path):
    from tests.core.test_profile import rounded_box
    from tests.core.test_shapes import box_of, obround

    file = drilled(
        tmp_path,
        [
            rounded_box(34, 4, 14, 22, 14, 6, 4.0),
            obround(6, 28, 15, 30, 8, 5),
            obround(6, 6, 14, 22, 8, 6),
            box_of(44, 24, 16, 5, 17, 4),
        ],
    )
    proposal, planner = whole(tmp_path, file.name)
    tools = {t.number: t.diameter for t in proposal.tools}
    slots = [o for o in proposal.operations if o.strategy == "slot_milling"]
    # the two closed ones of 8 mm by one mill, the open one of 5 mm by a smaller one
    assert [(tools[o.tool], len(o.walls)) for o in slots] == [(6.0, 2), (4.0, 1)]
    floors = {w.face for o in slots for w in o.walls}
    depths = sorted(f.depth for f in planner.workspace.features() if f.floor in floors)
    assert depths == pytest.approx([4.0, 5.0, 6.0])
    # their walls are gone along once, by the same mills
    profiles = [o for o in proposal.operations if o.strategy == "profile"]
    gone_along = [w.face for o in profiles for w in o.walls if "rest_of" not in o.parameters]
    assert len(gone_along) == len(set(gone_along))
    proof = Prover(planner).prove(planner.job.effective_releases()[0])
    assert proof.stops() == []
    facts = proof.facts["deviation"]
    assert facts["max_overcut_mm"] <= 0.011
    assert facts["share_of_reachable"] > 0.99


def test_curved_faces_are_finished_by_levels_where_steep_and_by_parallel_passes_where_flat(tmp_path):
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
    from OCP.gp import gp_Pnt

    from tests.core.test_shapes import box_of

    dome = BRepPrimAPI_MakeSphere(gp_Pnt(30, 20, 6), 12.0).Shape()
    file = drilled(tmp_path, [BRepAlgoAPI_Cut(box_of(-5, -5, 8, 70, 50, 15), dome).Shape()])
    proposal, planner = whole(tmp_path, file.name)
    finishing = [o.strategy for o in proposal.operations if "curved" in o.name]
    assert list(dict.fromkeys(finishing)) == ["constant_z", "parallel_finishing"]
    proof = Prover(planner).prove(planner.job.effective_releases()[0])
    assert proof.stops() == []
    facts = proof.facts["deviation"]
    assert facts["max_overcut_mm"] <= 0.011
    # the ball does not get into the crease at the dome's foot, which the mill's edge could: that is told
    assert facts["share_of_reachable"] > 0.96
    dome_face = next(f.id for f in planner.workspace.part().faces if f.kind == "sphere")
    (unfinished,) = [one for one in facts["left"] if one["why"] == "unfinished"]
    assert dome_face in unfinished["faces"] and unfinished["share"] < 0.03


@pytest.mark.parametrize("name", ["plate_b.step", "pillow_block.step"])
def test_parts_that_nobody_here_drew_are_planned_without_a_stop(name):
    proposal, planner = whole(MODELS, name)
    proof = Prover(planner).prove(planner.job.effective_releases()[0])
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.011
    seen_all = name == "pillow_block.step"
    assert seen_all or any(w.startswith("Left:") for w in proposal.words)
    if seen_all:
        assert proof.facts["deviation"]["share_of_reachable"] > 0.99


def test_a_recipe_for_features_is_copied_changed_and_used(tmp_path):
    from tests.core.test_profile import rounded_box

    file = drilled(tmp_path, [rounded_box(14, 10, 12, 30, 20, 8, 5.0), cylinder(52, 20, 0, 3.4, 20)])
    shipped_one = shipped()[1][0].model_dump(mode="json")
    steps = [s for s in shipped_one["steps"] if s["name"] in ("Clear", "Finish walls", "Holes")]
    steps[0] = steps[0] | {"strategy": "level_roughing", "parameters": {"allowance_radial": 0.5}}
    own = shipped_one | {"name": "Ours", "steps": steps[::-1]}
    proposal, planner = whole(tmp_path, file.name, part_recipes=[own])
    strategies_ = [o.strategy for o in proposal.operations]
    # in the order of the recipe: the holes first, then walls, then clearing in levels
    assert strategies_[-2:] == ["profile", "level_roughing"] and strategies_[0] == "drilling"
    assert proposal.operations[-1].parameters == {"allowance_radial": 0.5}
    # one that names its kinds is taken for them, and only for them
    pocket = own | {"name": "Pockets", "kinds": ["pocket"], "steps": [steps[0]]}
    doc = planner.job.model_dump(mode="json") | {"part_recipes": [pocket]}
    doc["setups"][0]["operations"] = []
    again = open_job(job_from_data(doc), tmp_path, MemoryStore())
    setup = again.job.setups[0]
    pockets = [f for f in again.workspace.features() if f.kind == "pocket"]
    assert [o.strategy for o in propose_features(again, setup, pockets).operations] == ["level_roughing"]
    assert "profile" in [o.strategy for o in propose_part(again, setup).operations]


def test_tools_of_the_job_are_taken_before_those_of_the_library():
    from fenrik.core.tooling.library import starting_library

    mine = next(t for t in starting_library() if t.name == "End mill 12").model_copy(
        update={"number": 77, "flute_length": 40.0, "stick_out": 60.0}
    )
    proposal, _ = whole(MODELS, "pillow_block.step", tools=[mine.model_dump(mode="json")])
    assert next(o.tool for o in proposal.operations if o.strategy == "bounded_clearing") == 77


def test_the_smallest_inner_radius_counts_only_walls():
    planner = open_job(
        job_from_data(
            {
                "fenrik": 1,
                "name": "s",
                "part": {"file": "bearing_bracket.step"},
                "setups": [{"name": "T", "operations": []}],
            }
        ),
        MODELS,
        MemoryStore(),
    )
    mesh = planner.workspace.part().mesh.moved(planner.setups.clamped(planner.job.setups[0]).setup_from_part)
    seen = seen_from_above(planner.workspace.part(), mesh, prepare(mesh))
    drilled_faces = {f for h in planner.workspace.holes() for f in h.faces}
    radii = {
        f.radius
        for f in planner.workspace.part().faces
        if f.kind == "cylinder" and f.hollow and f.id not in drilled_faces
    }
    assert inner_radius(planner.workspace.part(), seen.walls, drilled_faces) in radii
    assert inner_radius(planner.workspace.part(), [], set()) == float("inf")

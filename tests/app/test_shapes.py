"""Answers have the shapes that the interface describes: nothing missing, nothing more."""

import json
from dataclasses import asdict

import pytest

from fenrik.app.kept import KEPT_FACTS
from fenrik.app.shapes import Fault, JobState, KeptProof, Library, OperationValues, PartFaces, ProofFacts
from fenrik.app.states import job_state
from fenrik.core.errors import ComputeError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.web.server import make_app
from tests.conftest import MODELS, make_tool


@pytest.fixture(scope="module")
def proved():
    """A job with an operation that is computed, one that fails, and a proof."""
    slot = {"name": "Slot", "strategy": "slot_milling", "tool": 1, "walls": [{"face": 1}], "enabled": False}
    setup = {"name": "Top", "operations": [{"name": "Face", "strategy": "facing", "tool": 1}, slot]}
    data = {
        "fenrik": 2,
        "name": "shapes",
        "part": {"file": "plate_a.step"},
        "tools": [make_tool("flat", 8).model_dump(mode="json")],
        "setups": [
            setup,
            {"name": "Under", "up": {"axis": "-z"}, "stock": {"kind": "carried", "setup": "Top"}},
        ],
        "proof": {"cell_mm": 1.0},
    }
    paths = open_job(job_from_data(data), MODELS, MemoryStore())
    with pytest.raises(ComputeError):
        paths.path(paths.job.setups[0], paths.job.setups[0].operations[1])
    return paths, Prover(paths).prove(paths.job.effective_releases()[0])


def test_the_facts_of_a_proof_are_those_described(proved):
    facts = json.loads(json.dumps(proved[1].facts))
    described = ProofFacts.model_validate(facts)
    assert described.operations[0].load.time_in_cut_s > 0
    kept = KeptProof.model_validate({name: facts[name] for name in KEPT_FACTS})
    assert kept.deviation == described.deviation
    assert {f.severity for f in described.findings} <= {"stop", "caution", "note"}


def test_the_state_of_a_job_says_what_is_ready_and_what_failed(proved):
    state = JobState.model_validate(json.loads(job_state(proved[0]).model_dump_json()))
    top = state.setups[0]
    assert [o.state for o in top.operations] == ["ready", "failed"]
    assert top.operations[1].error is not None and top.operations[1].error.remedy
    assert state.part.faces == len(proved[0].workspace.part().faces)
    assert state.releases[0].state == "ready" and state.releases[0].key == proved[1].key


def test_a_setup_that_waits_for_another_has_no_keys_yet():
    data = {
        "fenrik": 2,
        "name": "waits",
        "part": {"file": "plate_a.step"},
        "tools": [make_tool("flat", 8).model_dump(mode="json")],
        "setups": [
            {"name": "Top", "operations": [{"name": "Face", "strategy": "facing", "tool": 1}]},
            {
                "name": "Under",
                "up": {"axis": "-z"},
                "stock": {"kind": "carried", "setup": "Top"},
                "operations": [{"name": "Back", "strategy": "facing", "tool": 1}],
            },
        ],
    }
    store = MemoryStore()
    open_job(job_from_data(data), MODELS, store).workspace.part()
    state = job_state(open_job(job_from_data(data), MODELS, store, may_cut=False))
    under = state.setups[1]
    assert under.state == "waits" and under.error is not None and "Top" in under.error.what
    assert under.operations[0].key is None and under.operations[0].spindle_rpm > 0


def test_values_and_faces_are_as_described(proved):
    paths = proved[0]
    setup = paths.job.setups[0]
    task = paths.tasks.task(setup, setup.operations[0])
    values = {
        "strategy": task.operation.strategy,
        "derived": task.plain_derived(),
        "parameters": task.parameters.model_dump(mode="json"),
    }
    assert OperationValues.model_validate(values).derived["spindle_rpm"].formula
    part = paths.workspace.part()
    faces = {"faces": [asdict(f) for f in part.faces], "edges": [asdict(e) for e in part.edges]}
    assert len(PartFaces.model_validate(json.loads(json.dumps(faces))).edges) == len(part.edges)


def test_a_fault_without_a_place_is_one():
    assert Fault(code="memory", what="It took too much.").where == ""


def test_the_interface_describes_every_answer_in_json():
    """No route that answers in JSON is left open ('any object'), but for documents and schemas."""
    described = make_app(None).openapi()
    free = set()
    for path, methods in described["paths"].items():
        for method, route in methods.items():
            for answer in route["responses"].values():
                schema = answer.get("content", {}).get("application/json", {}).get("schema", {})
                if schema.get("type") == "object" and "$ref" not in schema:
                    free.add(f"{method} {path}")
    assert free <= {"get /api/schema"}
    assert Library.__name__ in described["components"]["schemas"]

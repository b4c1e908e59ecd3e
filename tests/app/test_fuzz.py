"""Anything may be sent: requests made up from the OpenAPI document, mutated documents, mutated models. No
5xx, no growth."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
from pathlib import Path

import pytest
import schemathesis
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fenrik.app.database import make_engine
from fenrik.app.jobs import Jobs
from fenrik.app.store import ResultStore
from fenrik.jobs.asking import error_of
from fenrik.web.server import make_app
from tests.app.conftest import DirectAsker, finish
from tests.app.test_jobs import loaded, small_document
from tests.conftest import MODELS, ROOT
from tests.processes import spawned

EXAMPLES = 12
SOON = settings(
    max_examples=EXAMPLES,
    deadline=None,
    suppress_health_check=list(HealthCheck),
    derandomize=True,
    database=None,
)


def resident() -> int:
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


@pytest.fixture(scope="module")
def served(cluster_url, tmp_path_factory):
    """The application with a job whose part is read."""
    engine = make_engine(cluster_url)
    store = ResultStore(tmp_path_factory.mktemp("store"))
    jobs = Jobs(engine, store, DirectAsker(store))
    job_id = loaded(jobs)
    jobs.runs.start(job_id, "prove")
    finish(jobs)
    yield make_app(jobs, hosts=["testserver"]), jobs, job_id
    engine.dispose()


@pytest.fixture(scope="module")
def described(served):
    schema = schemathesis.openapi.from_asgi("/openapi.json", served[0])
    schema.config.update(base_url="http://127.0.0.1")
    return schema.exclude(path_regex="/events$")


def test_requests_made_up_from_the_description_never_end_in_a_fault(served, described):
    _, _, job_id = served
    faults, asked = [], 0

    def look(case):
        nonlocal asked
        asked += 1
        if "job_id" in (case.path_parameters or {}) and asked % 2:
            case.path_parameters["job_id"] = job_id if case.method != "DELETE" else 2**31 - 1
        answer = case.call()
        if answer.status_code >= 500:
            faults.append((case.method, case.formatted_path, answer.status_code, answer.text[:200]))

    for found in described.get_all_operations():
        SOON(given(found.ok().as_strategy())(look))()
    assert asked > 300 and faults == []


def places(data, place=()):
    """Every place in plain data."""
    yield place
    if isinstance(data, dict):
        for key, value in data.items():
            yield from places(value, (*place, key))
    elif isinstance(data, list):
        for i, value in enumerate(data):
            yield from places(value, (*place, i))


def changed(data, place, value):
    if not place:
        return value
    copy = dict(data) if isinstance(data, dict) else list(data)
    copy[place[0]] = changed(data[place[0]], place[1:], value)
    return copy


DOCUMENT = {
    **small_document(),
    "setups": [
        {
            "name": "Top",
            "stock": {"kind": "box", "allowance": {"x_low": 1.0}},
            "areas": [{"name": "a", "of": [{"polygon": [[0, 0], [9, 0], [9, 9]]}]}],
            "operations": [
                {"name": "Rough", "strategy": "level_roughing", "tool": 3, "parameters": {"step_down": 8.0}},
                {
                    "name": "Hole",
                    "strategy": "drilling",
                    "tool": 3,
                    "holes": [{"at": [1, 2], "diameter": 5, "depth": 9}],
                },
                {"name": "Text", "strategy": "engraving", "tool": 3, "lines": [{"text": "A", "at": [0, 0]}]},
            ],
            "repeats": [
                {"name": "r", "operations": ["Hole"], "how": {"kind": "linear", "count": 3, "step": [5, 0]}}
            ],
        }
    ],
    "releases": [{"name": "r", "setup": "Top", "dialect": "plain_iso"}],
}
ODD = (
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8)
    | st.sampled_from(["", "\0", "../x", "/etc/passwd", "x" * 300, 1e308, -1e308, 2**63, -1, 0, []])
    | st.sampled_from([{}, [[]], {"a": 1}])
)  # fmt: skip


@given(st.sampled_from(list(places(DOCUMENT))), ODD)
@settings(SOON, max_examples=400)
def test_mutated_documents_are_taken_or_refused_with_words(served, place, value):
    app, jobs, job_id = served
    client = TestClient(app, base_url="http://127.0.0.1", raise_server_exceptions=False)
    present = jobs.get(job_id)
    document = changed(DOCUMENT, place, value)
    try:
        body = json.dumps({"revision": present["revision"], "document": document})
    except UnicodeEncodeError:
        return
    answer = client.put(
        f"/api/jobs/{job_id}/document",
        content=body.encode(errors="replace"),
        headers={"Content-Type": "application/json"},
    )
    assert answer.status_code in (200, 422), answer.text[:300]
    if answer.status_code == 200:
        state = client.get(f"/api/jobs/{job_id}/state")
        assert state.status_code < 500, (place, value, state.text[:300])


def test_nothing_grows_while_odd_requests_come_in(served):
    app, _, job_id = served
    client = TestClient(app, base_url="http://127.0.0.1", raise_server_exceptions=False)
    rng = random.Random(5)
    every = list(places(DOCUMENT))

    def bombard(count):
        for _ in range(count):
            document = changed(
                DOCUMENT, rng.choice(every), rng.choice(["\0", 2**63, [], {}, "x" * 5000, -1, None])
            )
            client.put(f"/api/jobs/{job_id}/document", json={"revision": 1, "document": document})
            client.get(f"/api/jobs/{rng.randrange(2**31)}/state")
            client.post("/api/jobs/import", files=[("files", ("job.yaml", rng.randbytes(2000), ""))])

    bombard(40)
    before = resident()
    bombard(150)
    assert resident() - before < 60_000_000


def test_mutated_models_end_in_words_or_with_their_process_and_with_nothing_else(tmp_path):
    command = [
        sys.executable,
        "-m",
        "tests.app.mutated_models",
        str(tmp_path),
        str(MODELS / "threaded_fitting.step"),
        "11",
    ]
    reader = spawned(command, cwd=ROOT, stdout=subprocess.PIPE, text=True)
    printed, _ = reader.communicate(timeout=280)
    answers = [json.loads(line) for line in printed.splitlines() if line.startswith("{")]
    assert reader.returncode == 0 and len(answers) == 12
    assert "done" in answers[-1], answers[-1]  # it is whole
    faults = [answer["fault"] for answer in answers if "fault" in answer]
    assert faults != []
    for fault in faults:
        assert fault["code"] != "defect", fault
        assert len(error_of(fault).message) > 20

"""The application on a real PostgreSQL: documents, revisions, files, runs, the worker, the routes."""

import io
import json
import subprocess
import sys
import zipfile
from concurrent.futures import ThreadPoolExecutor

import pytest
import trimesh
import yaml

from fenrik.cli import main
from fenrik.core.binary import unpack
from fenrik.core.errors import Conflict, DocumentError, InputError, NotFound
from tests.app.conftest import finish, state_of
from tests.conftest import MODELS, NASTY, ROOT


def small_document(name="Plate"):
    tool = yaml.safe_load((ROOT / "examples" / "bearing_bracket.yaml").read_text())["tools"][0]
    operation = {"name": "Rough", "strategy": "level_roughing", "tool": 3, "parameters": {"step_down": 8.0}}
    return {
        "fenrik": 1,
        "name": name,
        "part": {"file": "plate_a.step"},
        "tools": [tool],
        "setups": [{"name": "Top", "operations": [operation]}],
        "proof": {"cell_mm": 1.0},
    }


def loaded(jobs):
    job_id = jobs.create(small_document())["id"]
    jobs.add_file(job_id, "plate_a.step", (MODELS / "plate_a.step").read_bytes())
    return job_id


def test_revisions_undo_redo_and_conflicts(jobs):
    job_id = jobs.create({"fenrik": 1, "name": "A"})["id"]
    first = jobs.get(job_id)
    assert (first["can_undo"], first["can_redo"]) == (False, False)
    second = jobs.save(job_id, 1, {**first["document"], "name": "B"})
    assert second["document"]["name"] == "B" and second["can_undo"]
    assert jobs.step(job_id, -1)["document"]["name"] == "A"
    assert jobs.step(job_id, 1)["document"]["name"] == "B"
    with pytest.raises(Conflict, match="nothing to redo"):
        jobs.step(job_id, 1)
    with pytest.raises(Conflict, match="revision 2"):
        jobs.save(job_id, 1, first["document"])
    jobs.step(job_id, -1)
    third = jobs.save(job_id, 1, {**first["document"], "name": "C"})
    assert not third["can_redo"] and third["document"]["name"] == "C"
    # who still shows the undone "B" must not overwrite "C" by its number
    with pytest.raises(Conflict):
        jobs.save(job_id, second["revision"], {**second["document"], "name": "D"})
    assert jobs.step(job_id, -1)["document"]["name"] == "A"
    with pytest.raises(Conflict, match="nothing to undo"):
        jobs.step(job_id, -1)
    assert jobs.step(job_id, 1)["document"]["name"] == "C"
    with pytest.raises(DocumentError):
        jobs.save(job_id, third["revision"], {**third["document"], "units": "furlong"})
    assert jobs.get(job_id)["document"]["name"] == "C"
    jobs.remove(job_id)
    with pytest.raises(NotFound):
        jobs.get(job_id)


def test_two_saves_at_once_do_not_both_win(jobs):
    job_id = jobs.create({"fenrik": 1, "name": "A"})["id"]
    document = jobs.get(job_id)["document"]

    def save(name):
        try:
            jobs.save(job_id, 1, {**document, "name": name})
            return True
        except Conflict:
            return False

    with ThreadPoolExecutor(4) as pool:
        assert sum(pool.map(save, "BCDE")) == 1


def test_plan_and_proof_are_computed_once_and_only_what_changed_again(jobs):
    job_id = loaded(jobs)
    for target in ("plan", "prove"):
        jobs.runs.start(job_id, target)
    finish(jobs)
    assert {r["state"] for r in jobs.runs.newest(job_id)} == {"done"}
    planner = jobs.paths(job_id)
    key = planner.keys.track(planner.job.setups[0], planner.job.setups[0].operations[0])
    assert jobs.store.has(key)
    assert jobs.store.has(planner.keys.path(planner.job.setups[0], planner.job.setups[0].operations[0]))
    present = jobs.get(job_id)
    document = present["document"]
    document["tools"][0]["stick_out"] = 50.0
    document["setups"][0]["operations"][0]["feed_mm_min"] = 2000.0
    document["setups"][0]["operations"][0]["spindle_rpm"] = 8000.0
    jobs.save(job_id, present["revision"], document)
    planner = jobs.paths(job_id)
    assert (
        planner.keys.track(planner.job.setups[0], planner.job.setups[0].operations[0]) != key
    )  # the feed is new
    again = planner.keys.track(planner.job.setups[0], planner.job.setups[0].operations[0])
    document["tools"][0]["stick_out"] = 55.0
    jobs.save(job_id, present["revision"] + 1, document)
    planner = jobs.paths(job_id)
    assert planner.keys.track(planner.job.setups[0], planner.job.setups[0].operations[0]) == again


def test_the_stock_after_every_operation_holds_what_is_left(client, jobs):
    job_id = loaded(jobs)
    present = jobs.get(job_id)
    operations = present["document"]["setups"][0]["operations"]
    operations.insert(0, {"name": "Face", "strategy": "facing", "tool": operations[0]["tool"]})
    jobs.save(job_id, present["revision"], present["document"])
    jobs.runs.start(job_id, "prove")
    finish(jobs)
    key = state_of(jobs, job_id)["releases"][0]["key"]
    facts = client.get(f"/api/proofs/{key}/facts").json()
    left = facts["stock_volume_mm3"]
    for step, operation in enumerate(facts["operations"]):
        arrays = unpack(client.get(f"/api/proofs/{key}/stock/{step}").content)[1]
        skin = trimesh.Trimesh(arrays["vertices"], arrays["quads"])
        left -= operation["removed_mm3"]
        # what was removed is counted on a lattice of 1 mm, to some hundredths
        assert skin.is_watertight and skin.volume == pytest.approx(left, rel=0.03)
        assert ("deviation" in arrays) == (operation is facts["operations"][-1])
    assert operation["name"] == "Rough" and operation["removed_mm3"] > 0.1 * left
    answer = client.get(f"/api/proofs/{key}/stock/2")
    assert answer.status_code == 404
    assert answer.json()["message"] == "The release has no step 2. It has steps 0 to 1."


def test_failed_run_keeps_its_words_and_cancelled_one_stops(jobs):
    job_id = loaded(jobs)
    present = jobs.get(job_id)
    present["document"]["setups"][0]["operations"][0]["heights"]["clearance"]["offset"] = -5.0
    operations = present["document"]["setups"][0]["operations"]
    operations.append({"name": "Face again", "strategy": "facing", "tool": operations[0]["tool"]})
    jobs.save(job_id, present["revision"], present["document"])
    jobs.runs.start(job_id, "plan")
    finish(jobs)
    run = jobs.runs.newest(job_id)[-1]
    assert run["state"] == "failed"
    assert "clearance" in run["error"]["what"] and "heights.clearance" in run["error"]["where"]
    states = state_of(jobs, job_id)["setups"][0]["operations"]
    assert states[0]["state"] == "failed" and states[0]["error"] == run["error"]
    assert states[-1]["state"] == "ready"  # it does not wait for the other
    jobs.step(job_id, -1)
    run = jobs.runs.start(job_id, "prove")
    assert jobs.runs.cancel(run["id"])["state"] == "cancelled"
    finish(jobs)
    assert jobs.runs.newest(job_id)[-1]["state"] == "cancelled"
    with pytest.raises(InputError, match="wish"):
        jobs.runs.start(job_id, "wish")


def test_the_state_stays_small_and_the_numbers_of_one_operation_are_told_when_asked_for(client, jobs):
    document = small_document("Many")
    one = document["setups"][0]["operations"][0]
    many = [{**one, "name": f"Rough {i}", "parameters": {"step_down": 1 + i % 7}} for i in range(300)]
    document["setups"][0]["operations"] = many
    job_id = jobs.create(document)["id"]
    jobs.add_file(job_id, "plate_a.step", (MODELS / "plate_a.step").read_bytes())
    jobs.runs.start(job_id, "part")
    finish(jobs)
    answer = client.get(f"/api/jobs/{job_id}/state")
    assert len(answer.json()["setups"][0]["operations"]) == 300 and len(answer.content) < 300 * 200 + 5000
    told = client.get(f"/api/jobs/{job_id}/setups/0/operations/2/values").json()
    assert told["parameters"]["step_down"] == 3
    feed = told["derived"]["feed_mm_min"]
    assert (
        feed["value"] == answer.json()["setups"][0]["operations"][2]["feed_mm_min"]
        and "fz" in feed["formula"]
    )
    assert client.get(f"/api/jobs/{job_id}/setups/0/operations/300/values").status_code == 404
    assert client.get(f"/api/jobs/{job_id}/setups/1/operations/0/values").status_code == 404


def test_routes_upload_state_and_download(client, jobs):
    job = client.post("/api/jobs", json={"name": "By hand"}).json()
    answer = client.post(f"/api/jobs/{job['id']}/part", files={"file": ("p.step", b"", "")})
    assert answer.status_code == 422 and "'p.step' is empty" in answer.json()["message"]
    for name in ("box.3mf", "malformed.obj"):
        answer = client.post(
            f"/api/jobs/{job['id']}/part", files={"file": (name, (NASTY / name).read_bytes(), "")}
        )
        assert answer.status_code == 422 and name in answer.json()["message"]
    assert (
        client.get(f"/api/jobs/{job['id']}").json()["document"]["part"] is None
    )  # nothing is lost or half done
    content = (MODELS / "plate_a.step").read_bytes()
    job = client.post(
        f"/api/jobs/{job['id']}/part", files={"file": ("../../plate_a.step", content, "")}
    ).json()
    assert job["document"]["part"]["file"] == "plate_a.step"
    finish(jobs)
    state = client.get(f"/api/jobs/{job['id']}/state").json()
    assert state["part"]["state"] == "ready" and state["part"]["faces"] == 18
    scene = client.get(f"/api/jobs/{job['id']}/part/scene/{state['part']['key']}")
    assert scene.content[:6] == b"FNBIN1"
    document = {**small_document("By hand"), "part": job["document"]["part"]}
    saved = client.put(
        f"/api/jobs/{job['id']}/document", json={"revision": job["revision"], "document": document}
    )
    assert saved.status_code == 200
    release = client.get(f"/api/jobs/{job['id']}/state").json()["releases"][0]
    assert release["state"] == "stale"
    refused = client.get(f"/api/jobs/{job['id']}/releases/{release['name']}/program")
    assert refused.status_code == 404 and "not been proved" in refused.json()["message"]
    client.post(f"/api/jobs/{job['id']}/runs", json={"target": "prove"})
    finish(jobs)
    program = client.get(f"/api/jobs/{job['id']}/releases/{release['name']}/program")
    assert program.text.startswith("%\nO0001")
    assert "Setup sheet" in client.get(f"/api/jobs/{job['id']}/releases/{release['name']}/sheet").text
    assert client.get("/api/jobs/999999").status_code == 404
    measured = client.post(f"/api/jobs/{job['id']}/measure", json=[{"point": [0, 0, 0], "face": 99}])
    assert measured.status_code == 422 and "Face 99" in measured.json()["message"]
    assert client.post("/api/length", json={"text": "3/8in"}).json() == pytest.approx(9.525)
    bad = {**client.get("/api/library").json()["tools"][0], "stick_out": 1.0}
    assert client.post("/api/tools/drawing", json=bad).status_code == 422


def test_web_and_command_line_give_the_same_code_byte_for_byte(client, jobs, tmp_path):
    files = [("files", ("job.yaml", yaml.safe_dump(small_document()).encode(), ""))]
    answer = client.post("/api/jobs/import", files=files)
    assert answer.status_code == 422 and "plate_a.step" in answer.json()["message"]
    files.append(("files", ("plate_a.step", (MODELS / "plate_a.step").read_bytes(), "")))
    job = client.post("/api/jobs/import", files=files).json()
    client.post(f"/api/jobs/{job['id']}/runs", json={"target": "prove"})
    finish(jobs)
    release = client.get(f"/api/jobs/{job['id']}/state").json()["releases"][0]["name"]
    web = client.get(f"/api/jobs/{job['id']}/releases/{release}/program").content
    archive = client.get(f"/api/jobs/{job['id']}/export.zip").content
    (tmp_path / "job.zip").write_bytes(archive)
    subprocess.run([sys.executable, "-m", "zipfile", "-e", tmp_path / "job.zip", tmp_path / "x"], check=True)
    assert main(["run", str(tmp_path / "x" / "job.yaml"), "--out", str(tmp_path / "out"), "--quiet"]) == 0
    assert (tmp_path / "out" / f"{release}.nc").read_bytes() == web
    again = client.post("/api/jobs/import", files=[("files", ("job.zip", archive, ""))])
    assert again.json()["document"] == job["document"]


def test_stock_from_a_solid_is_read_by_the_worker(client, jobs):
    import trimesh

    job_id = loaded(jobs)
    low, high = [-40.0, -60.0, -10.0], [60.0, 70.0, 30.0]
    block = trimesh.creation.box(bounds=[low, high]).export(file_type="stl")
    name = client.post(f"/api/jobs/{job_id}/files", files={"file": ("block.stl", block, "")}).json()
    present = jobs.get(job_id)
    present["document"]["setups"][0]["stock"] = {"kind": "solid", "file": name}
    jobs.save(job_id, present["revision"], present["document"])
    jobs.runs.start(job_id, "part")
    finish(jobs)
    setup = client.get(f"/api/jobs/{job_id}/state").json()["setups"][0]
    assert setup["state"] == "ready", setup
    size = [b - a for a, b in zip(setup["stock"]["min"], setup["stock"]["max"], strict=True)]
    assert size == pytest.approx([100.0, 130.0, 40.0])


def test_openapi_document_is_current(client):
    assert json.loads((ROOT / "docs" / "openapi.json").read_text()) == client.get("/openapi.json").json()


def test_kept_releases_are_numbered_stay_as_they_are_and_are_compared(client, jobs):
    job_id = loaded(jobs)
    jobs.runs.start(job_id, "prove")
    finish(jobs)
    name = client.get(f"/api/jobs/{job_id}/state").json()["releases"][0]["name"]
    first = client.post(f"/api/jobs/{job_id}/kept", json={"name": name, "notes": "for the first piece"})
    assert first.status_code == 200 and first.json()["number"] == 1 and first.json()["stops"] == 0
    again = client.post(f"/api/jobs/{job_id}/kept", json={"name": name})
    assert again.status_code == 409 and "kept already, as revision 1" in again.json()["message"]
    text = client.get(f"/api/jobs/{job_id}/kept/1/program").text

    present = jobs.get(job_id)
    changed = present["document"]
    changed["releases"] = [
        {"name": name, "setup": "Top", "options": {"optional_stop": True, "comments": "none"}}
    ]
    changed["setups"][0]["operations"][0]["feed_mm_min"] = 777.0
    jobs.save(job_id, present["revision"], changed)
    unproved = client.post(f"/api/jobs/{job_id}/kept", json={"name": name})
    assert unproved.status_code == 404 and "not been proved" in unproved.json()["message"]
    jobs.runs.start(job_id, "prove")
    finish(jobs)
    second = client.post(f"/api/jobs/{job_id}/kept", json={"name": name, "notes": "slower"}).json()
    assert second["number"] == 2 and second["revision"] == 2
    listed = client.get(f"/api/jobs/{job_id}/kept").json()
    assert [(k["number"], k["notes"]) for k in listed] == [(2, "slower"), (1, "for the first piece")]
    assert listed[1]["time_s"] < listed[0]["time_s"]

    assert client.get(f"/api/jobs/{job_id}/kept/1/program").text == text  # whatever the job is now
    assert client.get(f"/api/jobs/{job_id}/kept/2/program").text != text
    assert "End mill 12" in client.get(f"/api/jobs/{job_id}/kept/1/sheet").text
    assert client.get(f"/api/jobs/{job_id}/kept/1/proof").json()["operations"][0]["name"] == "Rough"
    changes = client.get(f"/api/jobs/{job_id}/kept/1/against/2").json()
    put = [c["text"] for c in changes if c["kind"] == "in"]
    assert any("F777.0" in line for line in put) and not any("(" in line for line in put)
    assert any("(Rough)" in c["text"] for c in changes if c["kind"] == "out")
    assert client.get(f"/api/jobs/{job_id}/kept/1/against/1").json() == []
    missing = client.get(f"/api/jobs/{job_id}/kept/9/program")
    assert missing.status_code == 404 and "no release no. 9" in missing.json()["message"]


def test_a_fixture_from_a_file_is_read_by_the_worker_shown_and_exported(client, jobs):
    import trimesh

    job_id = loaded(jobs)
    jobs.runs.start(job_id, "part")
    finish(jobs)
    clamp = trimesh.creation.box(bounds=[[0.0, 0.0, 0.0], [20.0, 10.0, 5.0]]).export(file_type="stl")
    name = client.post(f"/api/jobs/{job_id}/files", files={"file": ("clamp.stl", clamp, "")}).json()
    present = jobs.get(job_id)
    piece = {"kind": "solid", "name": "Clamp", "file": name, "at": [200.0, 0.0, 0.0]}
    present["document"]["setups"][0]["fixture"] = [piece]
    jobs.save(job_id, present["revision"], present["document"])
    setup = state_of(jobs, job_id)["setups"][0]
    assert setup["state"] == "wrong" and "has not been read yet" in setup["error"]["what"]
    jobs.runs.start(job_id, "part")
    finish(jobs)
    setup = state_of(jobs, job_id)["setups"][0]
    assert setup["state"] == "ready" and setup["fixture"]
    url = f"/api/jobs/{job_id}/setups/0/fixture"
    shown = client.get(f"{url}/{setup['fixture']}")
    assert shown.status_code == 200 and shown.content[:6] == b"FNBIN1"
    assert client.get(f"{url}/shape-of-before").status_code == 404
    archive = client.get(f"/api/jobs/{job_id}/export.zip").content
    with zipfile.ZipFile(io.BytesIO(archive)) as files:
        assert files.read(name) == clamp


def test_a_program_from_elsewhere_is_kept_proved_and_handed_out(client, jobs):
    job_id = loaded(jobs)
    text = "G90 G21\nT3 M6\nG54 S2000 M3\nG0 X0 Y0\nG43 H3 Z60\nG1 Z55 F400\nG0 Z90\nM30\n"
    sent = {"file": ("shop.nc", text.encode(), "text/plain")}
    name = client.post(f"/api/jobs/{job_id}/programs", files=sent).json()
    assert name == "shop.nc"
    refused = client.post(f"/api/jobs/{job_id}/programs", files={"file": ("a.nc", b"\0\1", "")})
    assert refused.status_code == 422 and "binary" in refused.text
    present = jobs.get(job_id)
    document = present["document"]
    setup = document["setups"][0]["name"]
    document["releases"] = [{"name": "from_shop", "setup": setup, "file": name}]
    jobs.save(job_id, present["revision"], document)
    jobs.runs.start(job_id, "prove")
    finish(jobs)
    assert [r["words"] for r in jobs.runs.newest(job_id) if r["state"] == "failed"] == []
    state = client.get(f"/api/jobs/{job_id}/state").json()["releases"][0]
    assert state["state"] == "ready" and state["file"] == "shop.nc"
    assert client.get(f"/api/jobs/{job_id}/releases/from_shop/program").text == text
    sheet = client.get(f"/api/jobs/{job_id}/releases/from_shop/sheet")
    assert "shop.nc" in sheet.text
    # an export has the program with it
    archive = client.get(f"/api/jobs/{job_id}/export.zip").content
    again = client.post("/api/jobs/import", files=[("files", ("job.zip", archive, ""))])
    assert again.json()["document"] == jobs.get(job_id)["document"]

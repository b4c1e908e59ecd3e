"""What a stranger sees first: the list of jobs with their machines and work, pictures, ways up, the shop's
own tools, papers that say of which day and revision they are."""

from __future__ import annotations

from datetime import date

from fenrik.core.tooling.assembly import Assembly
from fenrik.demonstration import keep_demonstration
from tests.app.conftest import finish, state_of
from tests.app.test_jobs import loaded, small_document
from tests.conftest import make_tool


def listed(client, job_id):
    return next(row for row in client.get("/api/jobs").json() if row["id"] == job_id)


def test_jobs_are_listed_with_their_machines_and_what_is_computed(client, jobs):
    job_id = loaded(jobs)
    assert listed(client, job_id)["machines"] == ["Column mill 500"]  # the usual one, which is not named
    present = jobs.get(job_id)
    document = present["document"]
    document["setups"].append({**document["setups"][0], "name": "Other", "machine": "tilting_table_320"})
    jobs.save(job_id, present["revision"], document)
    row = listed(client, job_id)
    assert (sorted(row["machines"]), row["working"], row["revision"]) == (
        ["Column mill 500", "Tilting table 320"],
        "",
        2,
    )
    jobs.runs.start(job_id, "part")
    assert listed(client, job_id)["working"] == "part"
    finish(jobs)
    assert listed(client, job_id)["working"] == ""


def test_an_operation_is_new_until_it_was_computed_and_stale_when_it_has_changed(client, jobs):
    job_id = loaded(jobs)
    jobs.runs.start(job_id, "part")
    finish(jobs)
    first = state_of(jobs, job_id)
    assert [o["state"] for o in first["setups"][0]["operations"]] == ["new"]
    jobs.runs.start(job_id, "prove")
    finish(jobs)
    proved = state_of(jobs, job_id)
    assert [o["state"] for o in proved["setups"][0]["operations"]] == ["ready"]
    release = proved["releases"][0]
    assert (release["state"], release["stops"]) == ("ready", 0)
    facts = client.get(f"/api/proofs/{release['key']}/facts").json()
    assert release["cautions"] == sum(f["severity"] == "caution" for f in facts["findings"])
    present = jobs.get(job_id)
    present["document"]["setups"][0]["operations"][0]["parameters"]["step_down"] = 5.0
    jobs.save(job_id, present["revision"], present["document"])
    assert [o["state"] for o in state_of(jobs, job_id)["setups"][0]["operations"]] == ["stale"]


def test_a_part_has_a_picture_and_ways_up(client, jobs):
    job_id = loaded(jobs)
    assert client.get(f"/api/jobs/{job_id}/ways-up").status_code == 404
    jobs.runs.start(job_id, "part")
    finish(jobs)
    key = state_of(jobs, job_id)["part"]["key"]
    picture = client.get(f"/api/jobs/{job_id}/part/picture/{key}")
    assert picture.headers["content-type"] == "image/png"
    assert picture.content.startswith(b"\x89PNG")
    ways = client.get(f"/api/jobs/{job_id}/ways-up").json()
    assert [w["score"] for w in ways] == sorted((w["score"] for w in ways), reverse=True)
    assert {w["axis"] for w in ways} >= {"+x", "-x", "+y", "-y", "+z", "-z"}
    assert "% of the surface" in ways[0]["words"]


def test_tools_are_kept_for_later_jobs_once_a_name(client):
    tool = make_tool("flat", 7.0, name="Our end mill 7", to_check=True).model_dump(mode="json")
    first = client.post("/api/shop/tools", json=tool)
    assert first.status_code == 200
    assert first.json()["tool"]["to_check"] is False  # kept is confirmed
    again = client.post("/api/shop/tools", json={**tool, "stick_out": 44.0}).json()
    assert again["id"] == first.json()["id"]
    mine = [t for t in client.get("/api/shop/tools").json() if t["tool"]["name"] == "Our end mill 7"]
    assert [Assembly.model_validate(t["tool"]).stick_out for t in mine] == [44.0]
    refused = client.post("/api/shop/tools", json={**tool, "flute_length": 400.0})
    assert refused.status_code == 422 and "flute length" in refused.json()["message"]
    assert client.delete(f"/api/shop/tools/{again['id']}").status_code == 200
    assert client.delete(f"/api/shop/tools/{again['id']}").status_code == 404
    assert not [t for t in client.get("/api/shop/tools").json() if t["tool"]["name"] == "Our end mill 7"]


def test_a_setup_sheet_says_its_day_its_revision_and_its_units(client, jobs):
    job_id = loaded(jobs)
    jobs.runs.start(job_id, "prove")
    finish(jobs)
    name = state_of(jobs, job_id)["releases"][0]["name"]
    sheet = client.get(f"/api/jobs/{job_id}/releases/{name}/sheet").text
    assert f"revision 1 of the job, {date.today():%Y-%m-%d}, lengths in mm" in sheet
    assert "data:image/png;base64," in sheet


def test_a_refused_value_says_its_rule_and_what_else_is_wrong(client, jobs):
    job_id = loaded(jobs)
    present = jobs.get(job_id)
    document = present["document"]
    document["proof"] = {"tolerance_mm": -1.0, "cell_mm": 0.5}
    document["tools"][0]["flute_length"] = 500.0
    answer = client.put(f"/api/jobs/{job_id}/document", json={"revision": 1, "document": document})
    fault, message = answer.json()["error"], answer.json()["message"]
    assert answer.status_code == 422
    assert fault["where"] == "tools[0]"
    assert fault["offer"]["set"]["stick_out"] == 500.0
    assert "The flute length, 500, is longer than the stick-out" in message
    assert "Also proof.tolerance_mm: tolerance_mm must be above 0, not -1.0" in message
    document["tools"][0]["flute_length"] = 20.0
    answer = client.put(f"/api/jobs/{job_id}/document", json={"revision": 1, "document": document})
    assert answer.json()["error"]["rule"] == "must be above 0"


def test_demonstration_jobs_are_kept_once_they_are_proved(jobs, tmp_path):
    job_id = loaded(jobs)
    failed = jobs.create({**small_document("Without its model"), "part": {"file": "none.step"}})["id"]
    jobs.runs.start(job_id, "prove")
    jobs.runs.start(failed, "prove")
    finish(jobs)
    (tmp_path / "demonstration.json").write_text(f"[{job_id}, {failed}]")
    keep_demonstration(jobs, tmp_path)
    assert not (tmp_path / "demonstration.json").exists()
    from fenrik.app.kept import kept_releases

    assert [k["notes"] for k in kept_releases(jobs, job_id)] == ["first release"]
    assert kept_releases(jobs, failed) == []

"""Fixtures and machines that the shop keeps: by name, with the files that they name, for other jobs."""

from __future__ import annotations

from datetime import timedelta

import pytest

from fenrik.app.database import make_engine, migrate, wait_for
from fenrik.app.housekeeping import Housekeeping
from fenrik.app.jobs import Jobs
from fenrik.app.shop_items import drop_item, keep_item, take_item
from fenrik.app.store import ResultStore
from fenrik.core.errors import NotFound
from fenrik.core.machines.library import machines
from tests.app.conftest import DirectAsker
from tests.app.test_jobs import loaded

VICE = {"name": "Our vice", "pieces": [{"kind": "vice", "name": "Vice", "grip": 7.0}]}
OTHER_BYTES, BYTES = b"solid other" * 900, b"solid plate" * 900


def with_fixture(jobs, fixture, **setup):
    """A job with a fixture in which its setup is held."""
    job_id = loaded(jobs)
    present = jobs.get(job_id)
    document = present["document"]
    document["fixtures"] = [fixture]
    document["setups"][0] |= {"held_in": {"fixture": fixture["name"]}, **setup}
    jobs.save(job_id, present["revision"], document)
    return job_id


def plate(file):
    return {"name": "Our plate", "pieces": [{"kind": "solid", "name": "Plate", "file": file}]}


def kept(client, what="fixtures"):
    return {row["item"]["name"]: row["id"] for row in client.get(f"/api/shop/{what}").json()}


def test_a_fixture_is_kept_once_a_name_and_taken_into_another_job(client, jobs):
    job_id = with_fixture(jobs, VICE)
    assert client.post(f"/api/shop/fixtures/of/{job_id}", json={"name": "Our vice"}).status_code == 200
    first = kept(client)["Our vice"]
    assert client.post(f"/api/shop/fixtures/of/{job_id}", json={"name": "Our vice"}).json()["id"] == first
    other = loaded(jobs)
    taken = client.post(f"/api/shop/fixtures/{first}/into/{other}").json()
    assert taken["pieces"][0]["grip"] == 7.0
    assert client.delete(f"/api/shop/fixtures/{first}").status_code == 200
    assert client.delete(f"/api/shop/fixtures/{first}").status_code == 404
    assert client.post(f"/api/shop/fixtures/{first}/into/{other}").status_code == 404
    assert "Our vice" not in kept(client)


def test_what_the_job_does_not_have_cannot_be_kept(client, jobs):
    job_id = with_fixture(jobs, VICE)
    refused = client.post(f"/api/shop/fixtures/of/{job_id}", json={"name": "Their vice"})
    assert refused.status_code == 404
    assert "no fixture 'Their vice'" in refused.json()["message"]
    assert client.post(f"/api/shop/machines/of/{job_id}", json={"name": "Our vice"}).status_code == 404


def test_its_files_go_with_it_and_get_a_name_of_their_own_there(client, jobs):
    job_id = loaded(jobs)
    name = jobs.add_file(job_id, "plate.stl", BYTES)
    present = jobs.get(job_id)
    present["document"]["fixtures"] = [plate(name)]
    present["document"]["setups"][0]["held_in"] = {"fixture": "Our plate"}
    jobs.save(job_id, present["revision"], present["document"])
    number = client.post(f"/api/shop/fixtures/of/{job_id}", json={"name": "Our plate"}).json()["id"]
    other = loaded(jobs)
    jobs.add_file(other, "plate.stl", OTHER_BYTES)
    taken = client.post(f"/api/shop/fixtures/{number}/into/{other}").json()
    file = taken["pieces"][0]["file"]
    assert file == "plate_2.stl"
    assert b"".join(jobs.files.content(other, file)) == BYTES
    # taken again it is the same file, not a third
    assert client.post(f"/api/shop/fixtures/{number}/into/{other}").json()["pieces"][0]["file"] == file
    client.delete(f"/api/shop/fixtures/{number}")


def test_bytes_of_what_is_kept_outlive_the_job_that_they_came_from(cluster, tmp_path):
    url = cluster.address("shop_items")
    wait_for(url)
    migrate(url)
    engine, store = make_engine(url), ResultStore(tmp_path / "store")
    jobs = Jobs(engine, store, DirectAsker(store))
    house = Housekeeping(jobs, grace=timedelta(0), every=timedelta(0))
    job_id = loaded(jobs)
    name = jobs.add_file(job_id, "jig.stl", BYTES)
    present = jobs.get(job_id)
    present["document"]["fixtures"] = [plate(name) | {"name": "Our jig"}]
    jobs.save(job_id, present["revision"], present["document"])
    number = keep_item(jobs, "fixture", job_id, "Our jig")["id"]
    jobs.remove(job_id)
    house.keep()
    other = loaded(jobs)
    file = take_item(jobs, "fixture", number, other)["pieces"][0]["file"]
    assert b"".join(jobs.files.content(other, file)) == BYTES
    # neither kept nor in a job it goes
    drop_item(jobs, "fixture", number)
    digest = jobs.files.names(other)[file]
    jobs.remove(other)
    house.keep()
    with pytest.raises(NotFound, match="not kept any more"):
        jobs.files.share(loaded(jobs), "jig.stl", digest)
    engine.dispose()


def test_a_machine_of_the_shop_is_kept_with_its_bodies(client, jobs):
    job_id = loaded(jobs)
    name = jobs.add_file(job_id, "guard.stl", BYTES + b"guard")
    own = machines()["column_mill_500"].model_dump(mode="json") | {"id": "ours", "name": "Our mill"}
    own["bodies"].append({"kind": "file", "role": "guard", "file": name})
    present = jobs.get(job_id)
    present["document"]["machines"] = [own]
    jobs.save(job_id, present["revision"], present["document"])
    number = client.post(f"/api/shop/machines/of/{job_id}", json={"name": "Our mill"}).json()["id"]
    assert kept(client, "machines")["Our mill"] == number
    other = loaded(jobs)
    taken = client.post(f"/api/shop/machines/{number}/into/{other}").json()
    assert (taken["id"], taken["bodies"][-1]["file"]) == ("ours", "guard.stl")
    assert "guard.stl" in jobs.files.names(other)
    assert client.delete(f"/api/shop/machines/{number}").status_code == 200


def test_fixtures_that_come_with_fenrik_are_in_the_library(client):
    shipped = client.get("/api/library").json()["fixtures"]
    assert len(shipped) >= 4
    assert {p["kind"] for f in shipped for p in f["pieces"]} >= {"vice", "plate"}

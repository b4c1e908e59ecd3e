"""Nothing is lost: bad jobs, two people, old databases, backups, full disks; and nothing grows without
end."""

from __future__ import annotations

import errno
import os
import subprocess
import time
from datetime import timedelta
from pathlib import Path

import psycopg
import pytest
from sqlalchemy import text
from sqlmodel import Session

from fenrik.app.database import drop_spare, make_engine, migrate, wait_for
from fenrik.app.housekeeping import Housekeeping
from fenrik.app.jobs import Editor, Jobs
from fenrik.app.store import ResultStore
from fenrik.backup import backup, restore
from fenrik.bootstrap import read_again
from fenrik.core.errors import ApplicationError, Conflict, InputError, NotFound
from fenrik.core.job.workspace.artefacts import key_of
from fenrik.postgres import Cluster
from tests.app.conftest import DirectAsker, finish, state_of
from tests.app.test_jobs import loaded, small_document
from tests.conftest import MODELS, NASTY

ANNA, BO = Editor("a1", "Anna"), Editor("b2", "Bo")


def stored(jobs: Jobs, job_id: int, change: str) -> None:
    with Session(jobs.engine) as session:
        session.execute(text(f"UPDATE revision SET document = {change} WHERE job_id = :id"), {"id": job_id})
        session.execute(text("UPDATE job SET checked = '' WHERE id = :id"), {"id": job_id})
        session.commit()


def test_a_job_that_cannot_be_opened_says_why_and_stops_nothing_else(client, jobs):
    bad = {
        jobs.create(small_document("Unknown field"))["id"]: (
            "document || '{\"colour\": 3}'",
            "'colour' is not known",
        ),
        jobs.create(small_document("Climbs"))["id"]: (
            "jsonb_set(document, '{part,file}', '\"../../x.step\"')",
            "is not taken",
        ),
        jobs.create(small_document("Too long"))["id"]: (
            f"jsonb_set(document, '{{part,file}}', '\"{'x' * 300}\"')",
            "300 characters",
        ),
        jobs.create(small_document("File below a file"))["id"]: (
            "jsonb_set(document, '{part,file}', '\"plate_a.step/x.step\"')",
            "",
        ),
    }
    for job_id, (change, _) in bad.items():
        stored(jobs, job_id, change)
    good = loaded(jobs)
    jobs.check_all()
    read_again(jobs)  # as every start does
    finish(jobs)
    listed = {row["id"]: row for row in client.get("/api/jobs").json()}
    for job_id, (_, words) in bad.items():
        assert words in listed[job_id]["problem"]
        if words:
            answer = client.get(f"/api/jobs/{job_id}")
            assert answer.status_code == 422 and words in answer.json()["message"]
        assert client.get(f"/api/jobs/{job_id}/document.json").json()["name"] == listed[job_id]["name"]
    assert listed[good]["problem"] == "" and state_of(jobs, good)["part"]["state"] == "ready"
    for job_id in bad:
        jobs.remove(job_id)


def test_a_name_that_is_taken_again_does_not_change_what_documents_name(jobs):
    job_id = loaded(jobs)
    assert jobs.add_file(job_id, "plate_a.step", (MODELS / "plate_a.step").read_bytes()) == "plate_a.step"
    assert jobs.add_file(job_id, "plate_a.step", (MODELS / "plate_b.step").read_bytes()) == "plate_a_2.step"
    assert b"".join(jobs.files.content(job_id, "plate_a.step")) == (MODELS / "plate_a.step").read_bytes()
    for name in ("", "..", "/x.step", "a//b"):
        with pytest.raises(InputError):
            jobs.add_file(job_id, name, b"x")


def test_undo_says_whose_change_it_would_take_back_and_answers_carry_what_they_made(jobs):
    job_id = jobs.create({"fenrik": 1, "name": "A"}, ANNA)["id"]
    document = jobs.get(job_id)["document"]
    first = jobs.save(job_id, 1, {**document, "notes": "Anna's"}, ANNA)
    second = jobs.save(job_id, 2, {**document, "notes": "Bo's"}, BO)
    assert (first["revision"], first["document"]["notes"]) == (2, "Anna's")
    assert (second["revision"], second["document"]["notes"]) == (3, "Bo's")
    with pytest.raises(Conflict, match=r"made by 'Bo', at \d\d:\d\d") as caught:
        jobs.step(job_id, -1, ANNA)
    assert caught.value.where == "others" and jobs.get(job_id)["revision"] == 3
    assert jobs.step(job_id, -1, ANNA, anyway=True)["document"]["notes"] == "Anna's"
    assert jobs.step(job_id, 1, BO)["document"]["notes"] == "Bo's"  # one's own
    assert jobs.step(job_id, -1, BO)["revision"] == 2
    with pytest.raises(Conflict, match="Anna"):
        jobs.step(job_id, -1, BO)
    assert jobs.step(job_id, -1, ANNA)["revision"] == 1


def test_routes_know_the_editor(client):
    anna = {"X-Fenrik-Editor": "a1", "X-Fenrik-Editor-Name": "Anna%20%C3%98"}
    job = client.post("/api/jobs", json={"name": "A"}, headers=anna).json()
    body = {"revision": 1, "document": {**job["document"], "notes": "x"}}
    assert client.put(f"/api/jobs/{job['id']}/document", json=body, headers=anna).json()["revision"] == 2
    refused = client.post(f"/api/jobs/{job['id']}/undo", headers={"X-Fenrik-Editor": "b2"})
    assert refused.status_code == 409 and "'Anna Ø'" in refused.json()["message"]
    assert refused.json()["error"]["where"] == "others"
    anyway = client.post(
        f"/api/jobs/{job['id']}/undo", json={"anyway": True}, headers={"X-Fenrik-Editor": "b2"}
    )
    assert anyway.json()["revision"] == 1


def test_a_database_of_the_first_version_is_taken_over_with_all_its_jobs(cluster, tmp_path):
    url = cluster.address("first_version")
    wait_for(url)
    dump = NASTY / "first_schema.sql"
    subprocess.run(
        cluster.tool("psql", "-q", "-v", "ON_ERROR_STOP=1", "-f", str(dump), "first_version"), check=True
    )
    migrate(url)
    engine, store = make_engine(url), ResultStore(tmp_path / "store")
    jobs = Jobs(engine, store, DirectAsker(store))
    assert jobs.check_all() == 0
    plate, empty = sorted(jobs.listing(), key=lambda row: row["id"])
    assert (plate["name"], empty["name"]) == ("Plate", "Empty")
    assert jobs.get(plate["id"])["document"]["notes"] == "second"  # it stood at an undone revision
    assert jobs.step(plate["id"], 1)["document"]["notes"] == "third"
    jobs.step(plate["id"], -1)
    assert len(b"".join(jobs.files.content(plate["id"], "plate.stl"))) == 684
    assert [r["state"] for r in jobs.runs.newest(plate["id"])] == ["done", "queued"]
    finish(jobs)  # what was in the queue then is computed now
    assert [r["state"] for r in jobs.runs.newest(plate["id"])] == ["done", "done"]
    assert state_of(jobs, plate["id"])["releases"][0]["state"] == "ready"
    with engine.connect() as line:
        left = line.execute(
            text("SELECT count(*) FROM pg_class WHERE relname LIKE 'procrastinate%'")
        ).scalar()
    assert left == 0
    engine.dispose()


def test_a_backup_holds_everything_and_is_put_back(tmp_path):
    tmp_path.chmod(0o755)
    tmp_path.parent.chmod(0o755)
    tmp_path.parent.parent.chmod(0o755)
    cluster = Cluster(tmp_path / "pg")
    store = ResultStore(tmp_path / "store")

    def service():
        cluster.start()
        wait_for(cluster.address())
        migrate(cluster.address())
        drop_spare(cluster.address())  # as every start does: a backup is put back without them
        return Jobs(make_engine(cluster.address()), store, DirectAsker(store))

    jobs = service()
    job_id = loaded(jobs)
    jobs.save(job_id, 1, {**jobs.get(job_id)["document"], "notes": "kept"}, ANNA)
    file = backup(cluster, tmp_path / "all.backup")  # while it runs
    with pytest.raises(ApplicationError, match="running"):
        restore(cluster, file)
    jobs.remove(job_id)
    other = jobs.create({"fenrik": 1, "name": "Made later"})["id"]
    jobs.engine.dispose()
    cluster.stop()

    (tmp_path / "broken.backup").write_bytes(file.read_bytes()[:2000])
    with pytest.raises(ApplicationError, match="restore failed"):
        restore(cluster, tmp_path / "broken.backup")
    with pytest.raises(InputError, match="does not exist"):
        restore(cluster, tmp_path / "none.backup")
    jobs = service()
    assert [row["id"] for row in jobs.listing()] == [other]  # nothing was changed
    jobs.engine.dispose()
    cluster.stop()

    restore(cluster, file)
    jobs = service()
    assert jobs.get(job_id)["document"]["notes"] == "kept" and len(jobs.listing()) == 1
    assert jobs.step(job_id, -1)["document"]["notes"] == ""
    assert b"".join(jobs.files.content(job_id, "plate_a.step")) == (MODELS / "plate_a.step").read_bytes()
    jobs.engine.dispose()
    cluster.stop()


def test_a_full_disk_is_told_and_leaves_nothing_half_written(client, jobs, monkeypatch):
    store, key = jobs.store, key_of("path", ["full"])
    plain = Path.open

    class Full:
        def __init__(self, file):
            self.file = file

        def __enter__(self):
            return self

        def __exit__(self, *_):
            self.file.close()

        def write(self, piece):
            self.file.write(piece[: len(piece) // 2])
            raise OSError(errno.ENOSPC, "No space left on device")

    def opened(self, mode="r", *rest, **more):
        file = plain(self, mode, *rest, **more)
        return Full(file) if mode == "wb" and "begun" in str(self) else file

    monkeypatch.setattr(Path, "open", opened)
    with pytest.raises(ApplicationError, match="disk is full"):
        store.put(key, "path", b"x" * 1000)
    monkeypatch.undo()
    assert not store.has(key) and list((store.folder / "begun").iterdir()) == []

    # the database on a full disk: the edit is refused with words, the document stays as it was
    job_id = jobs.create({"fenrik": 1, "name": "A"})["id"]
    with Session(jobs.engine) as session:
        session.execute(
            text(
                """CREATE FUNCTION full_disk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
                   RAISE EXCEPTION 'could not extend file' USING ERRCODE = '53100'; END $$"""
            )
        )
        session.execute(
            text(
                "CREATE TRIGGER full_disk BEFORE INSERT ON revision FOR EACH ROW EXECUTE FUNCTION full_disk()"
            )
        )
        session.commit()
    try:
        body = {"revision": 1, "document": {"fenrik": 1, "name": "B"}}
        answer = client.put(f"/api/jobs/{job_id}/document", json=body)
        assert answer.status_code == 507 and "nothing was changed" in answer.json()["message"]
    finally:
        with Session(jobs.engine) as session:
            session.execute(text("DROP TRIGGER full_disk ON revision"))
            session.execute(text("DROP FUNCTION full_disk"))
            session.commit()
    assert jobs.get(job_id)["document"]["name"] == "A" and jobs.get(job_id)["revision"] == 1


def test_two_hundred_edits_level_off(cluster, tmp_path):
    url = cluster.address("two_hundred")
    wait_for(url)
    migrate(url)
    engine = make_engine(url)
    store = ResultStore(tmp_path / "store", limit=3_000_000)
    jobs = Jobs(engine, store, DirectAsker(store))
    house = Housekeeping(jobs, undo_steps=40, grace=timedelta(0), every=timedelta(0))
    job_id = loaded(jobs)
    sizes, revisions = [], []
    for edit in range(200):
        present = jobs.get(job_id)
        document = present["document"]
        document["notes"] = f"edit {edit} " + "x" * 500
        name = jobs.add_file(job_id, f"fixture_{edit}.stl", b"solid" + bytes([edit]) * 20_000)
        piece = {"kind": "solid", "name": "Clamp", "file": name, "at": [0.0, 0.0, 0.0]}
        document["setups"][0]["fixture"] = [piece]
        jobs.save(job_id, present["revision"], document)
        key = key_of("path", [edit])
        store.put(key, "path", bytes([edit]) * 100_000)
        old = time.time() - 4000 + edit  # as if it had been used a while ago
        os.utime(store.path(key), (old, old))
        if edit % 10 == 9:
            sizes.append(house.keep().bytes)
            with engine.connect() as line:
                revisions.append(line.execute(text("SELECT count(*) FROM revision")).scalar())
                blobs = line.execute(text("SELECT count(*) FROM blob")).scalar()
            assert blobs <= revisions[-1] + 1
    assert max(sizes) <= 3_000_000 and min(sizes[5:]) > 2_500_000
    assert revisions[-1] == revisions[6] == 40  # undo goes back as far as it is promised
    for _ in range(39):
        jobs.step(job_id, -1)
    with pytest.raises(Conflict):
        jobs.step(job_id, -1)
    assert jobs.files.names(job_id).keys() >= {"plate_a.step"}
    engine.dispose()


def test_results_of_kept_releases_stay_and_those_of_other_versions_go_first(tmp_path):
    former = ResultStore(tmp_path, limit=1000, version="former")
    pinned, other = key_of("proof", [1]), key_of("proof", [2])
    for key in (pinned, other):
        former.put(key, "proof", b"x" * 400)
    store = ResultStore(tmp_path, limit=1000, version="present")
    mine = [key_of("path", [n]) for n in range(3)]
    for n, key in enumerate(mine):
        store.put(key, "path", b"y" * 200)
        os.utime(store.path(key), (time.time() - 9000 + n,) * 2)
    for key in (pinned, other):
        os.utime(former.path(key), (time.time() - 1000,) * 2)
    usage = store.sweep({pinned})
    assert usage.bytes == 1000 and store.path(other) is None and store.path(pinned) is not None
    assert all(map(store.has, mine))
    store.limit = 700
    store.sweep({pinned})
    assert [store.has(k) for k in mine] == [False, False, True] and store.path(pinned) is not None


def test_files_that_nothing_names_are_collected_and_named_ones_are_not(jobs):
    job_id = loaded(jobs)
    jobs.add_file(job_id, "unused.step", b"ISO-10303-21; unused")
    Housekeeping(jobs).keep()
    assert "unused.step" in jobs.files.names(job_id)  # it may just have been uploaded
    Housekeeping(jobs, grace=timedelta(0)).keep()
    assert list(jobs.files.names(job_id)) == ["plate_a.step"]
    with pytest.raises(NotFound):
        jobs.files.content(job_id, "unused.step")


def test_the_cluster_lets_in_its_own_user_only(cluster):
    rules = (cluster.folder / "pg_hba.conf").read_text()
    assert "trust" not in rules and "host" not in rules
    assert (cluster.socket_folder.stat().st_mode & 0o077) == 0
    with pytest.raises(psycopg.OperationalError):
        psycopg.connect(f"host={cluster.socket_folder} port=5432 user=nobody dbname=fenrik")

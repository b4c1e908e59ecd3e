"""Who may ask, how much, and with which names: nothing from another page, nothing outside the job, never a
500."""

from __future__ import annotations

import io
import zipfile

import pytest
import yaml

from fenrik.web.guard import MAX_BODY, name_of
from tests.app.conftest import finish
from tests.app.test_jobs import small_document
from tests.conftest import MODELS

PLATE = MODELS / "plate_a.step"


def importing(client, document, *files, **headers):
    text = document if isinstance(document, bytes) else yaml.safe_dump(document).encode()
    parts = [("files", ("job.yaml", text, "")), *(("files", f) for f in files)]
    return client.post("/api/jobs/import", files=parts, headers=headers)


@pytest.mark.parametrize(
    "headers",
    [
        {"Origin": "http://evil.example"},
        {"Origin": "null"},
        {"Origin": "http://127.0.0.1:9999"},
        {"Sec-Fetch-Site": "cross-site"},
        {"Sec-Fetch-Site": "same-site"},
        {"Host": "evil.example"},
        {"Host": "127.0.0.1.evil.example:80"},
    ],
)
def test_pages_of_other_origins_change_nothing_and_read_nothing(client, jobs, headers):
    before = len(jobs.listing())
    answer = importing(client, small_document(), ("plate_a.step", PLATE.read_bytes(), ""), **headers)
    assert answer.status_code in (403, 421) and "error" in answer.json()
    assert client.post("/api/jobs", json={"name": "X"}, headers=headers).status_code in (403, 421)
    assert len(jobs.listing()) == before
    if "Origin" not in headers:
        assert client.get("/api/jobs", headers=headers).status_code in (403, 421)


def test_the_own_page_may_and_answers_carry_a_strict_policy(client):
    own = {"Origin": "http://127.0.0.1", "Sec-Fetch-Site": "same-origin"}
    answer = client.post("/api/jobs", json={"name": "X"}, headers=own)
    assert answer.status_code == 200
    policy = answer.headers["content-security-policy"]
    assert (
        "default-src 'none'" in policy
        and "script-src 'self'" in policy
        and "frame-ancestors 'none'" in policy
    )
    assert "unsafe-eval" not in policy and "script-src 'self' 'unsafe-inline'" not in policy
    assert answer.headers["x-content-type-options"] == "nosniff"
    assert name_of("LOCALHOST:80") == "localhost" and name_of("[::1]:8750") == "[::1]"


def test_bodies_are_bounded_also_when_they_do_not_say_how_long_they_are(client):
    assert (
        client.post("/api/jobs", content=b"x", headers={"Content-Length": str(MAX_BODY + 1)}).status_code
        == 413
    )
    sent = []

    def endless():
        for _ in range(200):
            sent.append(1)
            yield b"[" * 1_000_000

    answer = client.post("/api/jobs", content=endless(), headers={"Content-Type": "application/json"})
    assert answer.status_code == 413 and "16 MB" in answer.json()["message"]


def test_a_file_name_never_leads_out_of_the_job(client, jobs, tmp_path):
    secret = tmp_path / "secret.step"
    secret.write_bytes(PLATE.read_bytes())
    for name in (str(secret), "/" + str(secret), "../secret.step", "a/../../secret.step"):
        document = {**small_document(), "part": {"file": name}}
        answer = importing(client, document, ("plate_a.step", PLATE.read_bytes(), ""))
        assert answer.status_code == 422 and "is not taken" in answer.json()["message"], name
        job = client.post("/api/jobs", json={"name": "X"}).json()
        saved = client.put(f"/api/jobs/{job['id']}/document", json={"revision": 1, "document": document})
        assert saved.status_code == 422 and saved.json()["error"]["where"] == "part.file"
        uploaded = client.post(f"/api/jobs/{job['id']}/part", files={"file": (name, PLATE.read_bytes(), "")})
        assert uploaded.json()["document"]["part"]["file"] == "secret.step"
    # a dialect of another's is not found, and nothing of it is shown
    (tmp_path / "own.toml").write_text("token = 'swordfish'")
    for dialect in (str(tmp_path / "own.toml"), "../own.toml"):
        document = {**small_document(), "releases": [{"name": "r", "setup": "Top", "dialect": dialect}]}
        answer = importing(client, document, ("plate_a.step", PLATE.read_bytes(), ""))
        assert answer.status_code == 422 and "swordfish" not in answer.text


def test_a_dialect_that_comes_with_the_job_is_used(client, jobs):
    shipped = (PLATE.parents[2] / "src/fenrik/core/posting/writing/dialects/plain_iso.toml").read_bytes()
    own = shipped.replace(b"O{{ '%04d' % number }}", b"O{{ '%04d' % number }}\n(MADE FOR US)")
    document = {**small_document(), "releases": [{"name": "r", "setup": "Top", "dialect": "own.toml"}]}
    job = importing(client, document, ("plate_a.step", PLATE.read_bytes(), ""), ("own.toml", own, "")).json()
    client.post(f"/api/jobs/{job['id']}/runs", json={"target": "prove"})
    finish(jobs)
    assert "MADE FOR US" in client.get(f"/api/jobs/{job['id']}/releases/r/program").text
    archive = zipfile.ZipFile(io.BytesIO(client.get(f"/api/jobs/{job['id']}/export.zip").content))
    assert sorted(archive.namelist()) == ["job.yaml", "own.toml", "plate_a.step"]


def archive(members, encrypted=False, **more):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, content in members:
            packed.writestr(name, content)
    raw = out.getvalue()
    if encrypted:  # the flag alone: nothing here writes encrypted archives
        raw = raw.replace(b"PK\x03\x04\x14\x00\x00\x00", b"PK\x03\x04\x14\x00\x01\x00")
        raw = raw.replace(b"PK\x01\x02\x14\x03\x14\x00\x00\x00", b"PK\x01\x02\x14\x03\x14\x00\x01\x00")
    return raw


def test_archives_are_unpacked_within_bounds(client):
    def given(content):
        return client.post("/api/jobs/import", files=[("files", ("a.zip", content, ""))])

    text = yaml.safe_dump(small_document()).encode()
    whole = given(archive([("deep/job.yaml", text), ("deep/plate_a.step", PLATE.read_bytes())]))
    assert whole.status_code == 200 and whole.json()["document"]["part"]["file"] == "plate_a.step"
    for content, words in [
        (archive([("job.yaml", text)], encrypted=True), "encrypted"),
        (archive([("job.yaml", text)])[:-30], "damaged"),
        (archive([("job.yaml", text), ("bomb.step", b"\0" * 401_000_000)]), "more than 400 MB"),
        (archive([(f"{i}.step", b"x") for i in range(201)]), "201 files"),
        (archive([("../../job.yaml", text), ("plate_b.step", b"x")]), "plate_a.step"),
    ]:
        answer = given(content)
        assert answer.status_code == 422 and words in answer.json()["message"]


@pytest.mark.parametrize(
    ("path", "status"),
    [
        ("/api/jobs/99999999999999999999", 422),
        ("/api/jobs/0", 422),
        ("/api/jobs/1e3", 422),
        ("/api/jobs/1%00", 422),
        ("/api/runs/1/cancel", 405),
        ("/api/paths/path-unknown", 422),
        ("/api/paths/path-" + "0" * 40, 404),
        ("/api/paths/part-" + "0" * 40, 404),
        ("/api/proofs/proof-" + "0" * 40 + "/facts", 404),
        ("/api/proofs/..%2f..%2fetc/facts", 404),
        ("/api/proofs/proof-" + "0" * 40 + "/at/nan", 422),
        ("/api/proofs/proof-" + "0" * 40 + "/at/inf", 422),
        ("/api/proofs/proof-" + "0" * 40 + "/stock/99999999999999999999", 422),
        ("/api/jobs/1/releases/%00/program", 422),
        ("/api/" + "x" * 5000, 414),
        ("/api/nothing", 404),
    ],
)
def test_odd_addresses_get_a_clear_answer(client, path, status):
    answer = client.get(path)
    assert answer.status_code == status and (status == 405 or "error" in answer.json())


@pytest.mark.parametrize(
    "body",
    [
        b"{}",
        b"null",
        b"[]",
        b"\xff\xfe",
        b"{" * 100_000,
        b'{"name": "a\\u0000b"}',
        b'{"name": "\\ud800"}',
        b'{"name": NaN}',
        b'{"name": 1e999}',
        b'{"name": "' + b"x" * 100_000 + b'"}',
        b'{"name": ' + b"9" * 10_000 + b"}",
        b'{"name": ' + b"[" * 50_000 + b"]" * 50_000 + b"}",
    ],
)
def test_odd_bodies_get_a_clear_answer(client, body):
    answer = client.post("/api/jobs", content=body, headers={"Content-Type": "application/json"})
    assert 400 <= answer.status_code < 500

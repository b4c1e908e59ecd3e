"""Machines as URDF over HTTP: written, read back, and what is refused."""

from __future__ import annotations

import io
import zipfile

import pytest
import trimesh

from fenrik.core.machines.library import machines
from fenrik.core.machines.machine import Machine
from tests.app.conftest import finish, state_of
from tests.app.test_jobs import loaded


def described(client, job_id, machine):
    answer = client.get(f"/api/jobs/{job_id}/machines/{machine}/urdf.zip")
    assert answer.status_code == 200, answer.text
    archive = zipfile.ZipFile(io.BytesIO(answer.content))
    return {name: archive.read(name) for name in archive.namelist()}


def given(client, job_id, files):
    parts = [("files", (name.rsplit("/", 1)[-1], content)) for name, content in files.items()]
    return client.post(f"/api/jobs/{job_id}/machines/urdf", files=parts)


@pytest.mark.parametrize("machine", ["column_mill_500", "tilting_table_320", "driven_lathe_250"])
def test_a_machine_of_the_library_goes_out_and_comes_back(client, jobs, machine):
    job_id = loaded(jobs)
    answer = given(client, job_id, described(client, job_id, machine))
    assert answer.status_code == 200, answer.text
    back, sent = Machine.model_validate(answer.json()), machines()[machine]
    assert [(j.name, j.letter, j.kind, j.low, j.high) for j in back.joints] == [
        (j.name, j.letter, j.kind, j.low, j.high) for j in sent.joints
    ]
    assert (back.table, back.spindle_rpm, back.home) == (sent.table, sent.spindle_rpm, sent.home)
    assert len(back.bodies) == len(sent.bodies)
    # what it names are files of the job
    names = {b.file for b in back.bodies if b.kind == "file"}
    assert names <= set(jobs.files.names(job_id))


def test_what_comes_back_is_used_and_drawn(client, jobs):
    job_id = loaded(jobs)
    made = given(client, job_id, described(client, job_id, "column_mill_500")).json()
    present = jobs.get(job_id)
    present["document"]["machines"] = [made | {"id": "ours", "name": "Our mill"}]
    present["document"]["setups"][0]["machine"] = "ours"
    jobs.save(job_id, present["revision"], present["document"])
    jobs.runs.start(job_id, "part")
    finish(jobs)
    shape = state_of(jobs, job_id)["setups"][0]["machine"]
    drawn = client.get(f"/api/jobs/{job_id}/setups/0/machine/{shape}")
    assert drawn.status_code == 200
    # and goes out again under its own id
    assert "ours.urdf" in described(client, job_id, "ours")


def test_what_makes_no_machine_is_refused_with_the_reason(client, jobs):
    job_id = loaded(jobs)
    files = described(client, job_id, "column_mill_500")
    text = next(content for name, content in files.items() if name.endswith(".urdf"))

    def refused(parts):
        answer = given(client, job_id, parts)
        assert 400 <= answer.status_code < 500
        return answer.json()["message"]

    assert "0 descriptions were given" in refused({"a.stl": b"solid"})
    assert "2 descriptions were given" in refused({"a.urdf": text, "b.urdf": text})
    assert "not UTF-8" in refused({"a.urdf": b"\xff\xfe\x00"})
    assert "no link" in refused({"a.urdf": b"<robot name='a'><link name='base'/></robot>"})
    if any(name.endswith(".stl") for name in files):
        assert "mesh" in refused({"a.urdf": text})
    assert client.get(f"/api/jobs/{job_id}/machines/none/urdf.zip").status_code == 422


def test_a_mesh_of_another_format_is_refused(client, jobs):
    job_id = loaded(jobs)
    text = b"""<robot name="a"><link name="base"><collision><geometry>
      <mesh filename="meshes/guard.stl"/></geometry></collision></link>
      <link name="work"/><link name="tool"/></robot>"""
    step = b"ISO-10303-21;\nHEADER;\n"
    answer = given(client, job_id, {"a.urdf": text, "guard.stl": step})
    assert "is no STL file" in answer.json()["message"]
    box = trimesh.creation.box(extents=[1, 1, 1]).export(file_type="stl")
    answer = given(client, job_id, {"a.urdf": text, "guard.stl": box})
    assert answer.status_code == 422 and "is no STL" not in answer.json()["message"]

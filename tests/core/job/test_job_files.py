"""Files that a job names: on a user's own disk, among those an application keeps, and in a stranger's
document."""

import hashlib

import pytest

from fenrik.core.errors import DocumentError, InputError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.workspace.files import FolderFiles, ListedFiles, check_files, files_of


def job(**more):
    return job_from_data({"fenrik": 2, "name": "Files", **more})


FULL = {
    "part": {"file": "part.step"},
    "setups": [
        {
            "name": "Top",
            "operations": [],
            "stock": {"kind": "solid", "file": "cast.stl"},
            "fixture": [
                {"kind": "jaws", "name": "Vice"},
                {"kind": "solid", "name": "Plate", "file": "plate.step"},
            ],
        },
        {"name": "Bottom", "operations": [], "stock": {"kind": "carried", "setup": "Top"}},
    ],
    "releases": [
        {"name": "Whole", "setup": "Top", "dialect": "own.toml"},
        {"name": "Plain", "setup": "Bottom", "dialect": "plain_iso"},
    ],
}


def test_every_file_is_named_with_its_field():
    assert list(files_of(job(**FULL))) == [
        ("part.step", "part.file"),
        ("cast.stl", "setups[0].stock.file"),
        ("plate.step", "setups[0].fixture[1].file"),
        ("own.toml", "releases[0].dialect"),
    ]
    assert list(files_of(job())) == []


def test_a_strangers_document_may_name_files_of_its_job():
    check_files(job(**FULL))


@pytest.mark.parametrize("name", ["../other/part.step", "/etc/passwd", "a/../../b.step", "//host/x.step"])
@pytest.mark.parametrize("field", ["part", "stock"])
def test_nothing_outside_the_job_can_be_named(name, field):
    given = {**FULL, "part": {"file": name}} if field == "part" else dict(FULL)
    if field == "stock":
        first = {**FULL["setups"][0], "stock": {"kind": "solid", "file": name}}
        given["setups"] = [first, FULL["setups"][1]]
    with pytest.raises(InputError) as refused:
        check_files(job(**given))
    assert refused.value.where == ("part.file" if field == "part" else "setups[0].stock.file")


def test_on_a_users_own_disk_a_name_may_climb(tmp_path):
    (tmp_path / "models").mkdir()
    (tmp_path / "part.step").write_text("here")
    files = FolderFiles(tmp_path / "models")
    assert files.path("../part.step").read_text() == "here"
    assert files.digest("../part.step") == hashlib.sha256(b"here").hexdigest()


def test_a_changed_file_has_another_digest(tmp_path):
    file, files = tmp_path / "part.step", FolderFiles(tmp_path)
    file.write_text("one")
    before = files.digest("part.step")
    assert files.digest("part.step") == before
    file.write_text("another")
    assert files.digest("part.step") == hashlib.sha256(b"another").hexdigest() != before


def test_a_missing_file_is_told_by_name_and_field(tmp_path):
    for files in (FolderFiles(tmp_path), ListedFiles({}, tmp_path)):
        with pytest.raises(DocumentError) as refused:
            files.path("lost.step", "part.file")
        assert "'lost.step' does not exist" in refused.value.what
        assert refused.value.where == "part.file"
        assert refused.value.remedy


def test_kept_files_are_reached_by_their_hash_alone(tmp_path):
    (tmp_path / "secret").write_text("no")
    files = ListedFiles({"part.step": "ab12"}, tmp_path)
    assert files.path("part.step") == tmp_path / "ab12"
    with pytest.raises(DocumentError):
        files.path("secret")

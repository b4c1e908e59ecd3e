"""What a stranger's document and its files' names may hold."""

import json
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenrik.core.errors import DocumentError, FenrikError, InputError
from fenrik.core.file_names import check_file_name, plain_file_name
from fenrik.core.job.document.bounds import check_bounds
from fenrik.core.job.document.reading import job_from_data, parse_job
from fenrik.core.job.workspace.files import FolderFiles, ListedFiles, check_files
from tests.conftest import MODELS


@pytest.mark.parametrize(
    "name",
    [
        "/etc/passwd",
        "//etc/passwd",
        "../x.step",
        "a/../../x.step",
        "a//b.step",
        "./x",
        "a/./b",
        "",
        ".",
        "..",
        "a\\b.step",
        "C:x.step",
        "x\0.step",
        "x\n.step",
        "\u202egnp.step",
        "a/" * 7 + "x",
        "x" * 81,
        "ab/" * 40 + "x",
        " x.step",
        "x.step.",
        "~/\ud800",
        "what?.step",
    ],
)
def test_names_that_lead_elsewhere_or_break_a_file_system_are_refused(name):
    with pytest.raises(InputError, match="is not taken"):
        check_file_name(name)


@pytest.mark.parametrize(
    "name", ["plate.step", "models/plate a.step", "Gehäuse ø3.stl", "..x", "a.b/c-d_e.STEP"]
)
def test_plain_names_are_taken(name):
    assert check_file_name(name) == name


@given(st.text(max_size=200) | st.lists(st.sampled_from(["..", ".", "", "a", "/", "b.step"])).map("/".join))
def test_a_name_that_is_taken_stays_inside(name):
    try:
        check_file_name(name)
    except InputError:
        return
    path = (Path("/nowhere/job") / name).resolve()
    assert path.is_relative_to("/nowhere/job") and path != Path("/nowhere/job")


def test_the_last_step_of_what_a_browser_gives():
    assert plain_file_name("C:\\parts\\plate.step") == "plate.step"
    assert plain_file_name("../../plate.step") == "plate.step"
    assert plain_file_name("") == "model"
    with pytest.raises(InputError):
        plain_file_name("..")


def document(**more):
    return {"fenrik": 1, "name": "X", **more}


def test_files_of_a_document_are_checked_field_by_field():
    setup = {"name": "A", "stock": {"kind": "solid", "file": "../s.step"}}
    for more, field in [
        ({"part": {"file": "/etc/passwd"}}, "part.file"),
        ({"setups": [setup]}, "setups[0].stock.file"),
        (
            {"setups": [{"name": "A", "fixture": [{"kind": "solid", "name": "F", "file": "//x"}]}]},
            "setups[0].fixture[0].file",
        ),
        (
            {"setups": [{"name": "A"}], "releases": [{"name": "r", "setup": "A", "dialect": "../x.toml"}]},
            "releases[0].dialect",
        ),
    ]:
        with pytest.raises(InputError) as caught:
            check_files(job_from_data(document(**more)))
        assert caught.value.where == field


def test_the_command_line_may_climb_and_the_application_knows_its_own_files_only(tmp_path):
    assert FolderFiles(tmp_path).path(str(MODELS / "plate_a.step")).is_file()
    kept = ListedFiles({"a.step": "0" * 64}, tmp_path)
    assert kept.path("a.step") == tmp_path / ("0" * 64)
    with pytest.raises(DocumentError, match=r"'b\.step' does not exist"):
        kept.path("b.step", "part.file")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[" * 100_000, "nested more than"),
        ("{'a': " * 5000, "nested more than"),
        ("- " * 2000 + "1", "nested more than"),
        (
            "a: &a [1,1,1,1]\n"
            + "".join(
                f"{c}: &{c} [*{b},*{b},*{b},*{b},*{b}]\n"
                for b, c in zip("abcdefghij", "bcdefghijk", strict=True)
            ),
            "more than 250,000",
        ),
        ("fenrik: &a [*a]\n", "refers to '.a' in line 1"),
        ("fenrik: 1\nname: X\nnotes: 'x'\nunits: 2026-13-45\n", "cannot be read"),
        ("fenrik: {}\nname: X\n", "The version is {}"),
        ("fenrik: [[1]]\nname: X\n", "The version is"),
        ('{"fenrik": 1, "name": NaN}', "no number"),
        ('{"fenrik": 1, "name": "X", "proof": {"tolerance_mm": Infinity}}', "proof.tolerance_mm.*inf"),
        ("fenrik: 1\nname: X\nproof: {tolerance_mm: .nan}\n", "nan"),
        ('{"fenrik": 1, "name": "a\\u0000b"}', "NUL"),
        ('{"fenrik": 1, "name": "\\ud800"}', "surrogate"),
        ('{"fenrik": ' + "9" * 400 + "}", "more than 1e"),
        ('{"fenrik": 1, "name": "X", "proof": {"tolerance_mm": 1e16}}', "number is 1e.16"),
        (json.dumps(document(notes="x" * 30_000)), "at most 20,000"),
        (json.dumps(document(releases=[1] * 300_000)), "more than 250,000"),
        ("x" * 2_000_001, "at most 2,000,000"),
        ("{" + " " * 8_000_001, "at most 8,000,000"),
    ],
)
def test_documents_out_of_bounds_are_refused_soon(text, words):
    started = time.process_time()
    with pytest.raises(DocumentError, match=words):
        parse_job(text)
    assert time.process_time() - started < 5


PLAIN = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=10), inner, max_size=4),
)


@given(PLAIN)
def test_what_is_within_bounds_can_be_kept_as_json(data):
    try:
        check_bounds(data)
    except FenrikError:
        return
    text = json.dumps(data, allow_nan=False, ensure_ascii=False)
    assert "\0" not in text and text.encode("utf-8")

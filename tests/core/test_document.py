"""The job document: reading, errors with path, value and remedy, schema, round trip."""

import json
from pathlib import Path

import pytest
import yaml

from fenrik.core.errors import DocumentError
from fenrik.core.job.document.reading import dump_job, job_data, job_from_data, load_job, parse_job, schema
from fenrik.core.strategies.registry import strategies
from tests.conftest import ROOT

EXAMPLES = sorted((ROOT / "examples").glob("*.yaml"))


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda p: p.stem)
def test_examples_survive_the_round_trip(path):
    job = load_job(path)
    assert parse_job(dump_job(job)) == job
    assert job_from_data(json.loads(json.dumps(job_data(job)))) == job


def broken(change) -> DocumentError:
    data = yaml.safe_load((ROOT / "examples" / "bearing_bracket.yaml").read_text())
    change(data)
    with pytest.raises(DocumentError) as caught:
        job_from_data(data)
    return caught.value


def at(*path, value):
    def change(data):
        for key in path[:-1]:
            data = data[key]
        data[path[-1]] = value

    return change


@pytest.mark.parametrize(
    ("change", "where", "words"),
    [
        (at("fenrik", value=9), "fenrik", "reads 2"),
        (at("colour", value="red"), "colour", "not known"),
        (
            at("setups", 0, "stock", "allowance", "x_low", value=-1.0),
            "setups[0].stock.allowance.x_low",
            "at least 0",
        ),
        (
            at("setups", 0, "operations", 0, "strategy", value="wish"),
            "setups[0].operations[0].strategy",
            "level_roughing",
        ),
        (at("setups", 0, "operations", 0, "tool", value=99), "", "tool 99"),
        (
            at("setups", 0, "operations", 0, "parameters", "step_down", value=-2),
            "setups[0].operations[0].parameters",
            "step_down",
        ),
        (
            at("setups", 0, "operations", 0, "parameters", "wish", value=1),
            "setups[0].operations[0].parameters",
            "wish",
        ),
        (at("setups", 0, "work_offset", value="G60"), "setups[0].work_offset", "G54"),
        (at("tools", 0, "stick_out", value=5.0), "tools[0]", "longer than the stick-out"),
        (at("tools", 2, "corner_radius", value=1.0), "tools[2]", "half the diameter"),
        (at("setups", 0, "up", value={}), "setups[0].up", "axis"),
        (at("setups", 0, "zero", value={"of": "point"}), "setups[0].zero", "point"),
        (at("releases", 0, "setup", value="Side"), "", "Side"),
        (at("releases", 0, "name", value="../x"), "releases[0].name", "pattern"),
        (at("name", value=""), "name", "at least 1"),
    ],
)
def test_faults_name_path_value_and_remedy(change, where, words):
    fault = broken(change)
    assert fault.where.startswith(where)
    assert words in fault.message


def test_unreadable_documents(tmp_path):
    with pytest.raises(DocumentError, match="line 2"):
        parse_job("fenrik: 1\nname: [", "x.yaml")
    with pytest.raises(DocumentError, match="no job"):
        parse_job("- 1\n- 2\n")
    with pytest.raises(DocumentError, match="does not exist"):
        load_job(tmp_path / "none.yaml")
    Path(tmp_path / "latin.yaml").write_bytes(b"name: \xe9\xff")
    with pytest.raises(DocumentError, match="UTF-8"):
        load_job(tmp_path / "latin.yaml")


def test_schema_types_every_strategy():
    text = json.dumps(schema())
    assert "ParallelFinishing" in text and "LevelRoughing" in text and '"fenrik"' in text
    assert schema()["properties"]["setups"]["items"] == {"$ref": "#/$defs/SetupDoc"}


def test_every_strategy_is_described_with_a_picture_of_its_own():
    page = (ROOT / "docs" / "strategies.md").read_text("utf-8")
    for name, strategy in strategies().items():
        assert f"## {strategy.title}\n" in page and f"(strategies/{name}.svg)" in page
        drawn = (ROOT / "docs" / "strategies" / f"{name}.svg").read_text("utf-8")
        assert f'aria-label="{strategy.title}"' in drawn and drawn.count("<path") > 1

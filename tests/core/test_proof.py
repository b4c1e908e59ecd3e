"""The proof: every kind of finding is produced by a job that deserves it, and none by a good one."""

import json

import numpy as np
import pytest
import yaml

from fenrik.cli import main
from fenrik.core.job.document.reading import job_from_data, load_job
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.distance import DistanceField
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.progress import SILENT
from fenrik.core.proof.deviation import measure, overcut_findings
from fenrik.core.proof.run import Run
from fenrik.core.proof.simulate import simulate
from fenrik.core.stock.dexels import Stock
from fenrik.core.tooling.materials import material
from tests.conftest import MODELS, ROOT, make_tool, mesh_of

HEAD = "G21 G90 G17 G94\nT1 M6\nS1000 M3\n"


def motion(body: str) -> ProgramMotion:
    return Reader(60.0).read(f"{HEAD}{body}M30\n")


def cut(body: str, tool=None, nose=()):
    table = motion(body)
    stock = Stock.of_box(np.zeros(3), np.array([40.0, 30.0, 16.0]), 0.25)
    step_of = np.zeros(len(table), dtype=np.int32)
    clock = np.arange(len(table), dtype=float)
    tools = {1: tool or make_tool("flat", 8)}
    times = np.ones(len(table))
    aluminium = material("aluminium_wrought")
    run = Run(table, step_of, ["op"], tools, clock, times)
    return table, simulate(run, stock, aluminium, SILENT, nose=nose)


GOOD = "G0 X-10 Y15\nG43 H1 Z20\nZ10\nG1 X50 F500\nG0 Z20\n"


def test_a_good_slot_has_no_finding():
    assert cut(GOOD)[1].findings == []


@pytest.mark.parametrize(
    ("body", "tool", "kind", "move"),
    [
        ("G0 X20 Y15\nG43 H1 Z20\nZ12\nG1 Z10 F100\nG0 Z20\n", None, "rapid", 1),
        ("G0 X-10 Y15\nG43 H1 Z10\nX50\n", None, "rapid", 1),
        (GOOD, make_tool("flat", 8, flute_length=4.0, shank_diameter=8.0), "shank", 2),
        (GOOD.replace("Z10", "Z5"), make_tool("flat", 8, stick_out=9.0, flute_length=9.0), "holder", 1),
    ],
)
def test_contacts_are_found_at_their_move(body, tool, kind, move):
    findings = cut(body, tool)[1].findings
    assert [f.kind for f in findings] == [kind]
    assert findings[0].severity == "stop" and findings[0].move == move
    assert findings[0].line > 3 and findings[0].remedy
    assert findings[0].bodies == ("cutter" if kind == "rapid" else kind, "stock")


def test_a_spindle_nose_that_comes_down_into_the_stock_is_found_as_deep_as_it_goes():
    """A slot in two levels with a stubby tool, its gauge line 9 mm over the tip: at Z 5 that is 2 mm under
    the stock's top. The holder is slimmer than the slot."""
    slim = [{"length": 3, "diameter_low": 6, "diameter_high": 6}]
    stubby = make_tool("flat", 8, stick_out=6.0, flute_length=6.0, holder=slim)
    deep, high = (f"{GOOD}X-10\nZ{z}\nG1 X50 F500\nG0 Z20\n" for z in (5, 8))
    nose = [(10.0, 12.0, 15.0)]
    assert cut(deep, stubby)[1].findings == []
    assert cut(high, stubby, nose)[1].findings == []
    (found,) = cut(deep, stubby, nose)[1].findings
    assert (found.kind, found.severity, found.bodies) == ("spindle_nose", "stop", ("spindle nose", "stock"))
    assert found.measure == pytest.approx(2.0, abs=0.05)


def test_arcs_are_cut_along_the_arc():
    """A full circle of radius 10 with an 8 mm mill leaves a core of radius 6 (ring area, exact)."""
    _table, result = cut("G0 X30 Y15\nG43 H1 Z20\nG1 Z12 F100\nG3 I-10 J0\nG0 Z20\n")
    exact = np.pi * (14.0**2 - 6.0**2) * 4.0
    assert result.volume.sum() == pytest.approx(exact, rel=2e-3)


def test_overcut_is_measured_where_it_is_and_leads_to_its_move():
    """The part is a plate 10 mm high in the block; a slot at Z 9.9 cuts 0.1 mm into it."""
    import trimesh

    plate = trimesh.creation.box((40, 30, 10))
    plate.apply_translation((20, 15, 5))
    table, result = cut(GOOD.replace("Z10", "Z9.9"))
    deviation = measure(result.last, DistanceField(mesh_of(plate)), plate.area, 0.05)
    assert deviation.facts.max_overcut_mm == pytest.approx(0.1, abs=1e-4)
    assert deviation.facts.max_leftover_mm == pytest.approx(6.0, abs=0.02)
    step_of = np.zeros(len(table), dtype=np.int32)
    clock = np.arange(len(table), dtype=float)
    run = Run(table, step_of, ["op"], {}, clock, clock)
    found = overcut_findings(deviation, result.move_of_tag, run, [0.011])
    assert len(found) == 1
    assert found[0].move == 2 and found[0].place[2] == pytest.approx(9.9, abs=1e-4)
    assert found[0].bodies == ("cutter", "part")
    assert overcut_findings(deviation, result.move_of_tag, run, [0.11]) == []


def test_share_on_size_is_the_area_of_the_design_that_is_right():
    """Untouched block, part = block: all on size; a face 1 mm under the stock is not."""
    import trimesh

    stock = Stock.of_box(np.zeros(3), np.array([40.0, 30.0, 16.0]), 0.25)
    same = trimesh.creation.box((40, 30, 16)).apply_translation((20, 15, 8))
    facts = measure(stock, DistanceField(mesh_of(same)), same.area, 0.05).facts
    assert facts.share_within_tolerance == pytest.approx(1.0, abs=0.02)
    lower = trimesh.creation.box((40, 30, 15)).apply_translation((20, 15, 7.5))
    facts = measure(stock, DistanceField(mesh_of(lower)), lower.area, 0.05).facts
    assert facts.share_within_tolerance == pytest.approx(1 - 1200 / lower.area, abs=0.02)


def job(**changes):
    data = yaml.safe_load((ROOT / "examples" / "bearing_bracket.yaml").read_text())
    data["part"]["file"] = "bearing_bracket.step"
    data["setups"][0]["operations"] = data["setups"][0]["operations"][:1]
    data["setups"][0]["operations"][0]["parameters"]["step_down"] = 12.0
    data["proof"] = {"cell_mm": 1.0}
    data["setups"][0] |= changes.pop("setup", {})
    data["setups"][0]["operations"][0] |= changes.pop("operation", {})
    return data


STORE = MemoryStore()
"""Shared, so that what a change does not touch is computed once."""


def prove(data):
    planner = open_job(job_from_data(data), MODELS, STORE)
    return Prover(planner).prove(planner.job.effective_releases()[0])


@pytest.mark.parametrize(
    ("changes", "kind", "words"),
    [
        ({"operation": {"feed_mm_min": 12000.0}}, "feed", "12000"),
        ({"operation": {"spindle_rpm": 20000.0}}, "spindle", "20000"),
        ({"setup": {"placement": {"x": 240.0, "y": 0.0, "z": 60.0}}}, "travel", "end of X"),
        ({"setup": {"machine": "bench_mill_250", "placement": {"z": 300.0}}}, "travel", "end of Z"),
    ],
)
def test_limits_of_the_machine_are_stops(changes, kind, words):
    stops = prove(job(**changes)).stops()
    assert kind in {f["kind"] for f in stops}
    assert any(words in f["words"] and f["remedy"] for f in stops if f["kind"] == kind)


def test_good_job_has_no_stop_and_keeps_its_text():
    proof = prove(job())
    assert proof.stops() == []
    assert proof.facts["text"].startswith("%\nO0101\n")
    assert proof.facts["operations"][0]["time_s"] > 60
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.011


def run(tmp_path, data, name="job.yaml"):
    (tmp_path / name).write_text(yaml.safe_dump(data))
    return main(["run", str(tmp_path / name), "--out", str(tmp_path / "out"), "--quiet"])


def test_command_line_exit_codes_and_files(tmp_path, capsys):
    good = job()
    good["part"]["file"] = str(MODELS / "bearing_bracket.step")
    assert run(tmp_path, good) == 0
    out = tmp_path / "out"
    assert {p.name for p in out.iterdir()} == {
        "bearing_bracket_top.nc",
        "bearing_bracket_top.setup.html",
        "report.json",
        "tools.json",
    }
    tools = json.loads((out / "tools.json").read_text())
    assert tools[0]["number"] == 3 and {"length", "diameter_low", "diameter_high"} == set(
        tools[0]["holder"][0]
    )
    report = json.loads((out / "report.json").read_text())
    setup = report["setups"][0]
    assert np.array(setup["setup_from_part"]).shape == (4, 4)
    assert setup["stock"]["max"][2] == 0.0 and setup["work_offset"] == "G54"
    assert {"strategy", "tool", "moves", "cutting_length_mm", "time_s", "compute_s"} <= set(
        setup["operations"][0]
    )
    assert "svg" in (out / "bearing_bracket_top.setup.html").read_text()
    fast = {**good, "setups": [{**good["setups"][0], "placement": {"x": 250.0}}]}
    assert run(tmp_path, fast) == 3
    assert "stop:" in capsys.readouterr().out
    wrong = {**good, "setups": [{**good["setups"][0], "machine": "moon_mill"}]}
    assert run(tmp_path, wrong) == 2
    shown = capsys.readouterr().err
    assert "setups[0].machine" in shown and "moon_mill" in shown and "column_mill_500" in shown
    assert run(tmp_path, {**good, "part": {"file": "none.step"}}) == 2
    assert "none.step" in capsys.readouterr().err
    inside = {"kind": "solid", "file": str(MODELS / "plate_a.step")}
    assert run(tmp_path, {**good, "setups": [{**good["setups"][0], "stock": inside}]}) == 2
    assert "sticks out of the stock" in capsys.readouterr().err


def test_schema_command(capsys):
    assert main(["schema"]) == 0
    assert json.loads(capsys.readouterr().out)["title"] == "Fenrik job document"


def example(path):
    """A planner of an example; of the many parts in one blank two are enough here, without their longest
    operations."""
    job = load_job(path)
    if path.stem == "five_brackets":
        top = job.setups[0]
        array = top.array.model_copy(update={"columns": 2})
        some = [
            o
            for o in top.operations
            if o.name not in ("Clear the rest", "Finish floors", "Finish curved faces")
        ]
        # without the clearing that is left out the mill for walls has more to cut, and would bend too far
        some = [o.model_copy(update={"feed_mm_min": 900.0}) if o.name == "Finish walls" else o for o in some]
        coarse = job.proof.model_copy(update={"cell_mm": 1.0})
        setups = [top.model_copy(update={"array": array, "operations": some})]
        job = job.model_copy(update={"setups": setups, "proof": coarse})
    return open_job(job, path.parent, MemoryStore())


EXAMPLES = [p for p in sorted((ROOT / "examples").glob("*.yaml")) if p.stem != "valve_manifold"]
"""The manifold takes the longest; `flow/test_manifold` proves it once for all that look at it."""


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda p: p.stem)
def test_every_example_is_proved_without_a_stop_or_overcut(path):
    planner = example(path)
    for release in planner.job.effective_releases():
        proof = Prover(planner).prove(release)
        assert proof.stops() == []
        tolerance = min(o.tolerance_mm for o in planner.job.setup(release.setup).operations)
        assert proof.facts["deviation"]["max_overcut_mm"] <= tolerance + 0.001

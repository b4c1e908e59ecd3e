"""Programs that came from elsewhere, proved against a setup as a release of their own. What they cut is
worked out by hand; the texts are as shops write them (ISO 6983, from memory)."""

import math

import pytest

from fenrik.core.errors import DocumentError, PostError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.programs.elsewhere import program_text
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.tooling.library import starting_library
from tests.conftest import MODELS

SLOT = """%
O4711 (A SLOT AND A HOLE)
G90 G17 G21 G40 G80
T1 M6
G54 S2500 M3
G43 H1 Z50
G0 X-50 Y0
Z2 M8
G1 Z-3 F500
X50 F900
G0 Z50
T3 M6
S1500 M3
G43 H3 Z20
G98 G81 X-30 Y20 Z-10 R2 F200
G80
G0 Z50 M9
M30
%
"""
"""Zero lies in the middle of the block's top."""


def tool(kind, diameter, number):
    found = next(t for t in starting_library() if t.kind == kind and t.diameter == diameter)
    return found.model_dump() | {"number": number}


def block(tmp_path, text, machine="column_mill_800", **setup):
    """A job on a plate of 100 x 60 x 20 with a program of the shop's beside it."""
    import trimesh

    box = trimesh.creation.box((100, 60, 15))
    box.export(tmp_path / "plate.stl")
    (tmp_path / "shop.nc").write_bytes(text if isinstance(text, bytes) else text.encode())
    return job_from_data(
        {
            "fenrik": 2,
            "name": "elsewhere",
            "part": {"file": "plate.stl"},
            "tools": [tool("flat", 16, 1), tool("drill", 6, 3)],
            "setups": [{"name": "Top", "machine": machine, **setup}],
            "releases": [{"name": "from_shop", "setup": "Top", "file": "shop.nc"}],
            "proof": {"cell_mm": 0.5},
        }
    )


def proved(tmp_path, text, **setup):
    job = block(tmp_path, text, **setup)
    return Prover(open_job(job, tmp_path, MemoryStore())).prove(job.releases[0]).facts


def test_a_program_is_cut_and_measured_in_steps_from_tool_to_tool(tmp_path):
    facts = proved(tmp_path, SLOT)
    assert facts["file"] == "shop.nc" and facts["files"] == [["shop.nc", SLOT]]
    slot, hole = facts["operations"]
    assert (slot["tool"], hole["tool"]) == (1, 3)
    top = facts["replay"]["high"][2]
    assert top == pytest.approx(0.0)
    length = facts["replay"]["high"][0] - facts["replay"]["low"][0]
    assert slot["removed_mm3"] == pytest.approx(16 * 3 * length, rel=0.02)
    # a drill of 6 mm with a point of 118 degrees or more: a cylinder less what its point lacks
    assert hole["removed_mm3"] == pytest.approx(math.pi * 9 * 10, rel=0.15)
    assert slot["spindle_rpm"] == 2500 and slot["feed_mm_min"] == 900
    assert slot["cutting_length_mm"] == pytest.approx(105.0)


def test_what_it_cuts_into_the_part_is_a_stop_at_its_line(tmp_path):
    deep = SLOT.replace("G1 Z-3 F500", "G1 Z-9 F500")
    stops = [f for f in proved(tmp_path, deep)["findings"] if f["severity"] == "stop"]
    into = next(f for f in stops if f["kind"] == "overcut" and f["operation"] == "End mill 16")
    stock_over = proved(tmp_path, deep)["replay"]["high"][2]
    assert deep.splitlines()[into["line"] - 1].startswith("X50")
    assert into["measure"] > 3.0 and stock_over == pytest.approx(0.0)


def test_a_tool_that_meets_the_stock_with_the_spindle_at_rest_is_stopped_where_it_does(tmp_path):
    at_rest = SLOT.replace("G1 Z-3 F500\n", "M5\nG0 Z-3\nM3\n")
    found = [f for f in proved(tmp_path, at_rest)["findings"] if f["kind"] == "at_rest"]
    assert [f["severity"] for f in found] == ["stop"]
    assert at_rest.splitlines()[found[0]["line"] - 1] == "G0 Z-3"
    assert "at rapid into the stock with the spindle at rest" in found[0]["words"]
    # above the stock it may stand still
    clear = SLOT.replace("G0 Z50\nT3 M6", "M5\nG0 Z50\nT3 M6").replace(
        "G43 H3 Z20\n", "G43 H3 Z20\nG0 X-30 Y20\n"
    )
    assert not [f for f in proved(tmp_path, clear)["findings"] if f["kind"] == "at_rest"]


def test_what_is_cut_away_is_not_left(tmp_path):
    """The slot goes 8 mm into the part: of its floor no spot has stock on it, and nothing is left higher than
    the farthest place of the stock outside of the part."""
    deviation = proved(tmp_path, SLOT.replace("G1 Z-3 F500", "G1 Z-9 F500"))["deviation"]
    assert deviation["max_overcut_mm"] > 7.0
    assert all(one["most_mm"] <= deviation["max_leftover_mm"] + 0.01 for one in deviation["left"])


def test_a_rapid_through_stock_and_a_spindle_at_rest_are_stops(tmp_path):
    for bad, kind in (
        (SLOT.replace("G1 Z-3 F500", "G0 Z-3"), "rapid"),
        (SLOT.replace("S2500 M3", "S2500"), "controller"),
    ):
        stops = [f for f in proved(tmp_path, bad)["findings"] if f["severity"] == "stop"]
        assert kind in {f["kind"] for f in stops}


def test_a_text_without_an_end_or_without_an_offset_is_read_with_a_caution(tmp_path):
    short = SLOT.replace("M30\n%\n", "").replace("G54 ", "")
    told = [f for f in proved(tmp_path, short)["findings"] if f["kind"] == "elsewhere"]
    assert {f["severity"] for f in told} == {"caution"}
    assert any("M30" in f["words"] for f in told) and any("G54" in f["words"] for f in told)


def test_another_work_offset_is_a_stop_that_says_what_to_set(tmp_path):
    told = [f for f in proved(tmp_path, SLOT.replace("G54", "G56"))["findings"] if f["severity"] == "stop"]
    assert any("G56" in f["words"] and "work offset" in f["remedy"] for f in told)


def test_radius_compensation_takes_the_radius_of_the_tool(tmp_path):
    text = SLOT.replace("G0 X-50 Y0\n", "G0 X-80 Y-20\n").replace(
        "X50 F900\n", "G41 D1 X-65 Y0 F900\nX80\nG40 X95 Y-20\n"
    )
    facts = proved(tmp_path, text)
    assert any("register D" in f["words"] for f in facts["findings"] if f["severity"] == "note")
    slot = facts["operations"][0]
    # the cutter goes left of the line, its flank on Y 0
    plain = proved(tmp_path, SLOT)["operations"][0]
    assert slot["removed_mm3"] == pytest.approx(plain["removed_mm3"], rel=0.05)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (SLOT.replace("T3 M6", "T7 M6"), "uses T7"),
        ("G90 G21\nG0 X0 Y0 Z50\nM30\n", "calls no tool"),
        ("\n \n", "is empty"),
        (b"\x00\x01\x02", "binary"),
    ],
)
def test_what_cannot_be_proved_is_refused_by_name(tmp_path, text, words):
    with pytest.raises(DocumentError) as caught:
        proved(tmp_path, text)
    assert words in caught.value.what and caught.value.remedy
    assert caught.value.where == "releases[0].file"


def test_a_word_that_is_not_known_is_named_with_its_line(tmp_path):
    with pytest.raises(PostError, match=r"Line 4 .*G12"):
        proved(tmp_path, SLOT.replace("T1 M6", "G12 T1 M6"))


def test_machines_that_turn_are_refused_with_the_joint(tmp_path):
    with pytest.raises(DocumentError, match="turns"):
        proved(tmp_path, SLOT, machine="tilting_table_320")


def test_another_text_is_another_proof_and_the_plan_stays_the_same(tmp_path):
    job = block(tmp_path, SLOT)
    store = MemoryStore()
    first = Prover(open_job(job, tmp_path, store)).release_key(job.releases[0])
    (tmp_path / "shop.nc").write_text(SLOT.replace("F900", "F901"))
    assert Prover(open_job(job, tmp_path, store)).release_key(job.releases[0]) != first


def test_text_in_a_code_page_of_the_shop_is_text():
    assert "Fräser" in program_text("T1 (Fräser)\n".encode("latin-1"), "a.nc")
    assert program_text(b"\xef\xbb\xbfT1 M6\n", "a.nc") == "T1 M6\n"


def test_a_release_of_a_file_takes_no_operations(tmp_path):
    data = block(tmp_path, SLOT).model_dump(mode="json")
    data["releases"][0]["split"] = "tool"
    with pytest.raises(DocumentError, match="no operations"):
        job_from_data(data)


def test_a_release_of_our_own_reads_the_same_from_elsewhere(tmp_path):
    """What the product writes is cut alike when it comes back as a foreign text."""
    source = MODELS / "plate_b.step"
    (tmp_path / "plate_b.step").write_bytes(source.read_bytes())
    data = {
        "fenrik": 2,
        "name": "own",
        "part": {"file": "plate_b.step"},
        "tools": [tool("flat", 16, 1)],
        "setups": [
            {
                "name": "Top",
                "machine": "column_mill_800",
                "operations": [{"name": "Face", "strategy": "facing", "tool": 1}],
            }
        ],
        "proof": {"cell_mm": 1.0},
    }
    job = job_from_data(data)
    own = Prover(open_job(job, tmp_path, MemoryStore())).prove(job.effective_releases()[0]).facts
    (tmp_path / "again.nc").write_text(own["text"])
    again = job_from_data(data | {"releases": [{"name": "again", "setup": "Top", "file": "again.nc"}]})
    facts = Prover(open_job(again, tmp_path, MemoryStore())).prove(again.releases[0]).facts
    assert facts["removed_mm3"] == pytest.approx(own["removed_mm3"], rel=1e-9)
    assert facts["time_s"] == pytest.approx(own["time_s"], rel=1e-9)
    assert not [f for f in facts["findings"] if f["severity"] == "stop"]


@pytest.mark.parametrize("cell", [0.5, 1.3, 4.0])
def test_a_holder_is_told_as_deep_as_it_goes_whatever_the_cell_and_the_steps(tmp_path, cell):
    """It ends 16.4 mm over the tip, which plunges 18 mm deep in steps of a millimetre: 1.6 mm by hand."""
    steps = "\n".join(f"G1 Z-{k} F200" for k in range(1, 19))
    text = f"G90 G21\nT3 M6\nG54 S1500 M3\nG0 X7.3 Y-4.1\nG43 H3 Z20\nG0 Z2\n{steps}\nG0 Z50\nM30\n"
    data = block(tmp_path, text).model_dump(mode="json")
    data["tools"][1] |= {"flute_length": 14.0, "stick_out": 16.4, "shank_diameter": 6.0}
    data["proof"]["cell_mm"] = cell
    job = job_from_data(data)
    facts = Prover(open_job(job, tmp_path, MemoryStore())).prove(job.releases[0]).facts
    holder = next(f for f in facts["findings"] if f["kind"] == "holder")
    assert holder["measure"] == pytest.approx(1.6, abs=1e-3)
    assert "1.600 mm" in holder["words"]

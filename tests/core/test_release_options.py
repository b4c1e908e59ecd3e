"""Options of a release: whatever is chosen, the text means what was planned, and each option does what its
name says."""

import re
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import DocumentError
from fenrik.core.job.cutting.cutting import cut_stock
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.posting.compare import compare
from fenrik.core.posting.lines import line_changes
from fenrik.core.posting.program import Program, Step
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.posting.writing.dialect import dialect, dialects
from fenrik.core.posting.writing.options import PostOptions
from fenrik.core.posting.writing.writer import write
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled
from tests.core.test_posting import some_path

PLAIN = dialect("plain_iso")


def program(*seeds, **more):
    """Steps with tools 1, 1, 2, 1, 1, 2 and so on."""
    steps = [
        Step(f"Op {i}", make_tool("flat", 8, number=1 + (i % 3) // 2), some_path(s), 4000.0, True, "flood")
        for i, s in enumerate(seeds)
    ]
    return Program("Test", 7, "part.step", "Top", "stock", "G55", steps, 120.0, **more)


def posted(plan, options, words=PLAIN):
    """The text, and its motion read back, which must be the plan's."""
    chosen = options.on(words)
    text = write(plan, chosen)
    reader = Reader(plan.tool_change_z)
    motion = reader.read(text)
    assert compare(plan.planned(), motion, chosen.resolution_mm).differences == []
    assert reader.findings == []
    return text, motion


choices = st.fixed_dictionaries(
    {},
    optional={
        "line_numbers": st.sampled_from(["all", "tool", "none"]),
        "line_number_start": st.integers(0, 50),
        "line_number_step": st.integers(1, 50),
        "word_spacing": st.booleans(),
        "comments": st.sampled_from(["all", "tools", "none"]),
        "arcs": st.sampled_from(["centre", "radius"]),
        "circles": st.sampled_from(["whole", "halves"]),
        "holes": st.sampled_from(["canned", "moves"]),
        "optional_stop": st.booleans(),
        "preload": st.booleans(),
        "restart": st.booleans(),
    },
)


@pytest.mark.parametrize("name", [d.id for d in dialects().values() if d.drives == "mill"])
@settings(max_examples=25, deadline=None)
@given(
    seeds=st.lists(st.integers(0, 10_000), min_size=1, max_size=4),
    chosen=choices,
    fast=st.booleans(),
    home=st.booleans(),
)
def test_text_with_any_options_means_what_was_planned(name, seeds, chosen, fast, home):
    options = PostOptions(**chosen)
    canned = options.on(dialect(name)).holes == "canned"
    plan = program(*seeds, rapid_feed=9000.0 if fast else None, canned=canned, by_home=home)
    posted(plan, options, dialect(name))


def test_options_leave_what_is_open_as_the_dialect_says():
    assert PostOptions().on(PLAIN) == PLAIN
    assert PostOptions(arcs="radius").on(PLAIN).arcs == "radius"
    assert PostOptions(arcs="radius").on(PLAIN).line_numbers == PLAIN.line_numbers


@pytest.mark.parametrize(("wanted", "numbers"), [("none", []), ("tool", [5, 12, 19]), ("all", None)])
def test_line_numbers_are_where_and_as_wanted(wanted, numbers):
    options = PostOptions(line_numbers=wanted, line_number_start=5, line_number_step=7)
    text, _ = posted(program(1, 2, 3, 4), options)
    found = [int(n) for n in re.findall(r"^N(\d+)", text, re.M)]
    if numbers is None:
        words = [line for line in text.splitlines() if line[0] not in "%O("]
        assert found == list(range(5, 5 + 7 * len(words), 7))
    else:
        assert found == numbers
        tools = [line for line in text.splitlines() if "M6" in line]
        assert all(line.startswith("N") for line in tools) or wanted == "none"


def test_optional_stops_stand_before_every_tool_but_the_first():
    text, _ = posted(program(1, 2, 3, 4), PostOptions(optional_stop=True))
    lines = [line.split()[0] if line.startswith("M1") else line for line in text.splitlines()]
    stops = [i for i, line in enumerate(lines) if line == "M1"]
    changes = [i for i, line in enumerate(lines) if "M6" in line]
    assert len(changes) == 3 and len(stops) == 2
    assert all(a < s < b for a, s, b in zip(changes, stops, changes[1:], strict=False))


def test_the_next_tool_is_called_up_while_one_works_and_the_first_at_the_end():
    text, _ = posted(program(1, 2, 3, 4), PostOptions(preload=True))
    called = re.findall(r"(?:^|N\d+ )T(\d+)( M6)?", text, re.M)
    assert [(t, bool(m)) for t, m in called] == [
        ("1", True),
        ("2", False),
        ("2", True),
        ("1", False),
        ("1", True),
        ("2", False),
    ]
    alone, _ = posted(program(1), PostOptions(preload=True))
    assert alone.count("T1") == 1  # with one tool there is none to call up


def test_the_program_may_begin_at_every_tool():
    # a control that knows nothing of what came before finds the rest of the motion from each restart point on
    plan = program(1, 2, 3, 4, 5)
    text, whole = posted(plan, PostOptions(restart=True, line_numbers="tool"))
    lines = text.splitlines()
    points = [i for i, line in enumerate(lines) if line.startswith("N") and "G21" in line]
    assert len(points) == 2  # tools 1 1 2 1 1: the first begins as the program does
    for i in points:
        reader = Reader(plan.tool_change_z)
        rest = reader.read("\n".join(lines[i:]) + "\n")
        assert reader.work_offsets == ["G55"] and reader.findings == []
        tail = slice(len(whole) - len(rest) + 1, None)
        assert np.allclose(rest.tip[1:], whole.tip[tail]) and (rest.tool[1:] == whole.tool[tail]).all()
        assert np.allclose(rest.spindle[1:], whole.spindle[tail])


def test_comments_are_written_as_wanted():
    plan = program(1, 2, 3)
    texts = {c: posted(plan, PostOptions(comments=c))[0] for c in ("all", "tools", "none")}
    assert "(Op 1)" in texts["all"] and "(flat 8" in texts["all"]
    assert "Op 1" not in texts["tools"] and "(flat 8" in texts["tools"]
    assert "(" not in texts["none"]


def test_full_circles_are_split_in_halves():
    path = PathBuilder()
    path.rapid(10.0, 0.0, 5.0)
    path.feed(10.0, 0.0, -1.0, 300.0)
    path.arc((10.0, 0.0, -1.0), (4.0, 0.0), 1, 400.0, Motion.FEED)
    path.arc((10.0, 0.0, -3.0), (4.0, 0.0), 1, 400.0, Motion.FEED)  # one turn of a helix
    path.rapid(10.0, 0.0, 5.0)
    plan = program(1)
    plan = replace(plan, steps=[replace(plan.steps[0], path=path.build())])
    for options, most in (
        (PostOptions(), 2 * np.pi),
        (PostOptions(circles="halves"), np.pi),
        (PostOptions(arcs="radius"), 1.6),
    ):
        _, motion = posted(plan, options)
        assert motion.moves.sweeps().max() == pytest.approx(most, abs=0.05)
        assert motion.moves.sweeps().sum() == pytest.approx(4 * np.pi, abs=1e-6)


def test_rapids_at_a_feed_are_straight_moves_but_after_a_tool_change():
    plan = program(1, 2, 3, rapid_feed=9000.0)
    text, motion = posted(plan, PostOptions())
    slow, _ = posted(program(1, 2, 3), PostOptions())
    assert slow.count("G0") > 10 and "F9000.0" in text
    # per tool its way over the start and down with its length
    assert len(re.findall(r"G0 X\S+ Y\S+$", text, re.M)) == 2 and len(re.findall(r"^G43", text, re.M)) == 2
    assert motion.rapid.sum() == 3  # the two ways down and the way over to the second tool's start


def test_between_operations_the_tool_goes_home_if_wanted():
    text, motion = posted(program(1, 2, by_home=True), PostOptions())
    assert text.count("G53 Z0") == 1
    assert (motion.start[:, 2] == 120.0).sum() >= 2


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    return drilled(tmp_path_factory.mktemp("block"), [cylinder(45, 15, 0, 4, 20)])


def prover(block, **release):
    face = {"name": "Face", "strategy": "facing", "tool": 1}
    drill = {
        "name": "Drill",
        "strategy": "drilling",
        "tool": 2,
        "parameters": {"cycle": "drill"},
        "holes": [{"at": [15, -5], "top": -1.0, "diameter": 8.0, "depth": 20.0, "through": True}],
    }
    tools = [
        make_tool("flat", 12.0),
        make_tool("drill", 8.0, number=2, point_deg=118.0, flute_length=40.0, stick_out=60.0),
    ]
    data = {
        "fenrik": 1,
        "name": "o",
        "part": {"file": block.name},
        "tools": [t.model_dump(mode="json") for t in tools],
        "proof": {"cell_mm": 0.5},
        "setups": [{"name": "Top", "operations": [face, drill]}],
        "releases": [{"name": "r", "setup": "Top", **release}],
    }
    return Prover(open_job(job_from_data(data), block.parent, MemoryStore()))


def test_rapids_at_a_feed_are_still_kept_out_of_the_stock(block):
    # drilling lowered by 8 mm comes down into the stock before its feed begins: a stop whether G0 or G1
    # drives there
    for options in ({}, {"rapid_feed_mm_min": 7000.0}):
        checked = prover(block, options=options)
        posted = checked.post(checked.job.releases[0])
        down = np.where((posted.motion.tool == 2)[:, None], [0, 0, -8.0], 0.0)
        moves = posted.motion.moves
        low = replace(posted.motion, moves=replace(moves, begin=moves.start + down, tip=moves.tip + down))
        cut = cut_stock(checked.paths, replace(posted, motion=low)).done
        assert any(f.kind == "rapid" and f.severity == "stop" for f in cut.findings)
        assert not [
            f for f in checked.prove(checked.job.releases[0]).facts["findings"] if f["severity"] == "stop"
        ]


def test_rapids_no_faster_than_the_work_are_refused(block):
    checked = prover(block, options={"rapid_feed_mm_min": 300.0})
    with pytest.raises(DocumentError, match="no faster than the work"):
        checked.post(checked.job.releases[0])


def test_a_dry_run_has_no_coolant(block):
    wet, dry = (prover(block, options=o) for o in ({}, {"coolant": "off"}))
    assert "M8" in wet.post(wet.job.releases[0]).text and "M8" not in dry.post(dry.job.releases[0]).text


@settings(max_examples=60, deadline=None)
@given(
    first=st.lists(st.sampled_from(["G1 X1", "G1 X2", "M8", "G0 Z5"]), max_size=40),
    second=st.lists(st.sampled_from(["G1 X1", "G1 X2", "M8", "G0 Z5"]), max_size=40),
)
def test_a_comparison_leads_from_the_first_text_to_the_second(first, second):
    rows = line_changes("\n".join(first), "\n".join(second))
    gone = {r.first for r in rows if r.kind == "out"}
    assert all(first[r.first - 1] == r.text for r in rows if r.kind == "out")
    rest = [line for i, line in enumerate(first, 1) if i not in gone]
    for row in rows:
        if row.kind == "in":
            rest.insert(row.second - 1, row.text)
    assert rest == second


def test_block_numbers_do_not_count_as_changes_unless_asked_for():
    first, second = "N1 G1 X1\nN2 G1 X2\n", "N5 G1 X1\nN7 G1 X2\n"
    assert line_changes(first, second) == []
    assert len([r for r in line_changes(first, second, with_numbers=True) if r.kind == "out"]) == 2


def test_what_is_equal_and_far_from_a_change_is_folded():
    first = [f"G1 X{i}" for i in range(5000)]
    second = [*first[:2500], "M1", *first[2500:]]
    rows = line_changes("\n".join(first), "\n".join(second))
    assert [(r.kind, r.text) for r in rows if r.kind not in ("same",)] == [
        ("gap", "2498 equal lines"),
        ("in", "M1"),
        ("gap", "2498 equal lines"),
    ]

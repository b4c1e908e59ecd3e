"""Writing, reading back and comparing; the reader's refusals."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import DocumentError, PostError
from fenrik.core.paths.arcs import fit_arcs
from fenrik.core.paths.toolpath import Motion, PathBuilder, Toolpath
from fenrik.core.posting.compare import compare
from fenrik.core.posting.dialect import dialect, dialects, load_dialect
from fenrik.core.posting.program import Program, Step
from fenrik.core.posting.readback import Reader
from fenrik.core.posting.writer import write
from tests.conftest import make_tool


def some_path(seed: int = 0) -> Toolpath:
    rng = np.random.default_rng(seed)
    path = PathBuilder()
    path.rapid(*rng.uniform(-20, 20, 2), 10.0)
    for _ in range(60):
        kind = rng.integers(0, 4)
        x, y, z = path.position or (0, 0, 0)
        if kind == 0:
            path.rapid(*rng.uniform(-50, 50, 3))
        elif kind == 1:
            path.feed(*rng.uniform(-50, 50, 3), feed=float(rng.uniform(50, 3000)))
        elif kind == 2:
            path.feed(x + rng.uniform(-2e-3, 2e-3), y, z, 500.0)  # about the resolution
        else:
            cx, cy = x + rng.uniform(-9, 9), y + rng.uniform(-9, 9)
            angle = rng.uniform(0.05, 6.0)
            turn = int(rng.choice([-1, 1]))
            c, s = np.cos(turn * angle), np.sin(turn * angle)
            end = (cx + c * (x - cx) - s * (y - cy), cy + s * (x - cx) + c * (y - cy), z - rng.uniform(0, 1))
            path.arc(end, (cx, cy), turn, 400.0, Motion.ENTRY)
    return path.build()


def program(*seeds: int) -> Program:
    steps = [
        Step(f"Op {i}", make_tool("flat", 8, number=1 + i % 2), some_path(s), 4000.0 + i, True, "flood")
        for i, s in enumerate(seeds)
    ]
    return Program("Test", 7, "part.step", "Top", "stock", "G55", steps, 120.0)


@pytest.mark.parametrize("name", dialects())
@settings(max_examples=25, deadline=None)
@given(seeds=st.lists(st.integers(0, 10_000), min_size=1, max_size=3))
def test_posted_text_means_what_was_planned(name, seeds):
    plan = program(*seeds)
    words = dialect(name)
    reader = Reader(plan.tool_change_z)
    motion = reader.read(write(plan, words))
    result = compare(plan.planned(), motion, words.resolution_mm)
    assert result.differences == []
    assert reader.findings == []
    assert reader.work_offsets == ["G55"]
    assert set(result.step_of.tolist()) == set(range(len(seeds)))


@pytest.mark.parametrize(
    ("find", "put"),
    [
        ("G1 X", "G0 X"),
        ("G3 ", "G2 "),
        ("Y1", "Y2"),
        ("F5", "F6"),
        ("\nM9\nM5\nM30", "\nG0 X1.5\nM9\nM5\nM30"),
    ],
)
def test_a_changed_text_is_found_out(find, put):
    plan = program(3)
    words = dialect("plain_iso")
    text = write(plan, words)
    assert find in text
    changed = text.replace(find, put, 1)
    try:
        motion = Reader(plan.tool_change_z).read(changed)
    except PostError:
        return  # refused outright
    assert compare(plan.planned(), motion, words.resolution_mm).differences


def test_a_missing_end_is_found_out():
    plan = program(4)
    words = dialect("plain_iso")
    lines = write(plan, words).splitlines()
    del lines[-8:-4]
    motion = Reader(plan.tool_change_z).read("\n".join(lines))
    assert "missing" in compare(plan.planned(), motion, words.resolution_mm).differences[0].words


@pytest.mark.parametrize(
    ("block", "words"),
    [
        ("G1 X1 Q3", "address Q"),
        ("G41 X1", "G41"),
        ("G1 G2 X1", "two codes of the group 'motion'"),
        ("X1 X2", "gives X twice"),
        ("G2 X5 Y0", "without centre or radius"),
        ("G2 X5 Y0 I1 R3", "both a radius and a centre"),
        ("G2 X5 Y0 I1 J0", "start and end radius differ"),
        ("G2 X50 Y0 R3", "over a chord"),
        ("G1 X#1", "no word"),
        ("(open comment", "does not close"),
        ("M98", "M98"),
        ("G18", "G18"),
    ],
)
def test_reader_refuses_what_a_controller_would(block, words):
    with pytest.raises(PostError) as caught:
        Reader(100).read(f"G21 G90\nT1 M6\nS100 M3\nG0 X0 Y0\nZ0\nG1 X0.5 F100\n{block}\nM30\n")
    assert words in caught.value.message
    assert "Line 7" in caught.value.message


def test_reader_minds_feed_spindle_length_offset_and_end():
    with pytest.raises(PostError, match="no feed"):
        Reader(100).read("G0 X0 Y0 Z0\nG1 X1\nM30\n")
    with pytest.raises(PostError, match="no end"):
        Reader(100).read("G0 X0 Y0 Z0\n")
    with pytest.raises(PostError, match="after the end"):
        Reader(100).read("M30\nG0 X1\n")
    reader = Reader(100)
    reader.read("T2 M6\nG0 X0 Y0\nG43 H3 Z5\nG1 X5 F10\nM30\n")
    assert [w for _, w in reader.findings] == [
        "moves Z without the length offset H2 of tool 2",
        "moves at feed with the spindle at rest",
    ]


def test_dialect_numbers_and_comments():
    plain, inch = dialect("plain_iso"), dialect("inch_radius")
    assert plain.number(5.0) == "5.000"
    assert inch.number(5.0) == "5."
    assert inch.number(0.5) == "0.5"
    assert plain.number(-0.0001) == "0.000"
    assert plain.comment("a (b) é") == "(a ?b? ?)"
    text = write(program(1), inch)
    assert "G20" in text and "\nN10 G20" in text and " R" in text and " I" not in text


def test_templates_cannot_reach_out_of_their_sandbox():
    base = dialect("plain_iso").model_dump(exclude={"id"})
    base["templates"]["start"] = "{{ ''.__class__.__mro__ }}"
    from fenrik.core.posting.dialect import Dialect

    with pytest.raises(PostError, match="template"):
        write(program(1), Dialect(id="bad", **base))
    with pytest.raises(DocumentError, match="wrong"):
        load_dialect("name = 3", "bad")
    with pytest.raises(DocumentError, match="plain_iso"):
        dialect("nothing")


def test_path_blob_round_trip():
    path = some_path(5)
    again = Toolpath.from_bytes(path.to_bytes())
    for name in ("tip", "kind", "turn", "feed", "level", "run"):
        assert (getattr(path, name) == getattr(again, name)).all()
    assert again.cutting_length() == pytest.approx(path.cutting_length())


@settings(max_examples=40, deadline=None)
@given(st.floats(0.5, 200), st.floats(0.3, 6.0), st.integers(5, 200), st.booleans())
def test_arcs_are_found_and_stay_within_the_tolerance(radius, sweep, count, clockwise):
    angle = np.linspace(0, -sweep if clockwise else sweep, count)
    points = np.column_stack([3 + radius * np.cos(angle), radius * np.sin(angle)])
    moves = fit_arcs(points, 0.01)
    assert moves[-1][0] == count - 1
    start = 0
    for end, turn, cx, cy in moves:
        if turn:
            off = np.abs(np.hypot(points[start : end + 1, 0] - cx, points[start : end + 1, 1] - cy) - radius)
            assert off.max() < 0.1 and turn == (-1 if clockwise else 1)
        start = end
    if radius * (sweep / count) ** 2 / 8 < 0.005 and count > 8:
        assert len(moves) <= 4

"""Writing, reading back and comparing; the reader's refusals."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import DocumentError, PostError
from fenrik.core.motion.arcs import fit_arcs
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.planes import Plane
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.posting.compare import compare
from fenrik.core.posting.program import Program, Step
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.posting.writing.dialect import dialect, dialects, load_dialect
from fenrik.core.posting.writing.writer import write
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
            plane = Plane(int(rng.integers(0, 3)))
            first, second, square = [(0, 1, 2), (2, 0, 1), (1, 2, 0)][plane]
            here = (x, y, z)
            cx, cy = here[first] + rng.uniform(-9, 9), here[second] + rng.uniform(-9, 9)
            angle = rng.uniform(0.05, 6.0)
            turn = int(rng.choice([-1, 1]))
            c, s = np.cos(turn * angle), np.sin(turn * angle)
            ax, ay = here[first] - cx, here[second] - cy
            end = [0.0, 0.0, 0.0]
            end[first], end[second] = cx + c * ax - s * ay, cy + s * ax + c * ay
            end[square] = here[square] - rng.uniform(0, 1)
            path.arc((end[0], end[1], end[2]), (cx, cy), turn, 400.0, Motion.ENTRY, plane)
    return path.build()


def program(*seeds: int) -> Program:
    steps = [
        Step(f"Op {i}", make_tool("flat", 8, number=1 + i % 2), some_path(s), 4000.0 + i, True, "flood")
        for i, s in enumerate(seeds)
    ]
    return Program("Test", 7, "part.step", "Top", "stock", "G55", steps, 120.0)


@pytest.mark.parametrize("name", [d.id for d in dialects().values() if d.drives == "mill"])
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
        ("G18 ", "G19 "),
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
        ("G16", "G16"),
        ("G18 G2 X5 Z0 I1 J2", "gives J, which no arc in the plane G18 has"),
        ("G19 G2 Y5 Z0", "without centre or radius"),
    ],
)
def test_reader_refuses_what_a_controller_would(block, words):
    with pytest.raises(PostError) as caught:
        Reader(100).read(f"G21 G90\nT1 M6\nS100 M3\nG0 X0 Y0\nZ0\nG1 X0.5 F100\n{block}\nM30\n")
    assert words in caught.value.message
    assert "Line 7" in caught.value.message


@pytest.mark.parametrize(
    ("plane", "start", "block", "middle"),
    [
        ("G17", "X10 Y0 Z0", "G3 X0 Y10 I-10 J0", (1, 1, 0)),  # X towards Y
        ("G18", "X0 Y0 Z10", "G3 X10 Z0 I0 K-10", (1, 0, 1)),  # Z towards X, seen from Y's positive end
        ("G19", "X0 Y10 Z0", "G3 Y0 Z10 J-10 K0", (0, 1, 1)),  # Y towards Z
        ("G18", "X10 Y0 Z0", "G2 X0 Y4 Z10 R10", (1, 0.2 * 2**0.5, 1)),  # a helix along Y
    ],
)
def test_arcs_turn_in_their_planes_as_the_standard_says(plane, start, block, middle):
    """Counter-clockwise as seen from the positive end of the third axis of a right-handed system (ISO 6983-1,
    ISO 841; from memory)."""
    text = f"G21 G90 G17\nT1 M6\nS100 M3\nG0 {start}\nG43 H1 {start}\n{plane} {block} F100\nM30\n"
    motion = Reader(100.0).read(text)
    pieces, _ = motion.straightened(1e-4)
    arc = motion.turn != 0
    assert arc.sum() == 1
    assert motion.moves.sweeps()[arc][0] == pytest.approx(np.pi / 2)
    wanted = np.array(middle) * 10 / 2**0.5
    assert np.linalg.norm(pieces[:, 3:] - wanted, axis=1).min() < 0.2
    assert motion.moves.lengths()[arc][0] == pytest.approx(np.hypot(5 * np.pi, 4.0 if "Y4" in block else 0.0))


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
    from fenrik.core.posting.writing.dialect import Dialect

    with pytest.raises(PostError, match="template"):
        write(program(1), Dialect(id="bad", **base))
    with pytest.raises(DocumentError, match="wrong"):
        load_dialect("name = 3", "bad")
    with pytest.raises(DocumentError, match="plain_iso"):
        dialect("nothing")


def test_path_blob_round_trip():
    path = some_path(5)
    again = Toolpath.from_bytes(path.to_bytes())
    for name in ("tip", "kind", "turn", "plane", "feed", "level", "run"):
        assert (getattr(path, name) == getattr(again, name)).all()
    assert again.cutting_length() == pytest.approx(path.cutting_length())


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([0.002, 0.01, 0.05]))
def test_no_move_leaves_the_polyline_by_more_than_the_tolerance(seed, tolerance):
    """Measured with shapely on dense points, both ways, over curves of any bend and noise below the
    tolerance."""
    rng = np.random.default_rng(seed)
    t = np.linspace(0, 12, 160)
    wave = rng.uniform(0.1, 3) * np.sin(rng.uniform(0.1, 1) * t) + rng.uniform(0, 1) * np.cos(2 * t)
    points = np.column_stack([t, wave + rng.uniform(-0.3, 0.3, len(t)) * tolerance])
    start, driven = 0, [points[:1]]
    moves = fit_arcs(points, tolerance)
    for end, turn, cx, cy in moves:
        if turn:
            a, b = points[start] - (cx, cy), points[end] - (cx, cy)
            sweep = (np.arctan2(b[1], b[0]) - np.arctan2(a[1], a[0])) * turn % (2 * np.pi) * turn
            angle = np.arctan2(a[1], a[0]) + np.linspace(0, sweep, 200)
            radius = np.linspace(np.hypot(*a), np.hypot(*b), 200)
            assert abs(np.hypot(*a) - np.hypot(*b)) < 1e-9
            driven.append(np.column_stack([cx + radius * np.cos(angle), cy + radius * np.sin(angle)]))
        driven.append(points[end : end + 1])
        start = end
    way, line = shapely.LineString(np.vstack(driven)), shapely.LineString(points)
    there = shapely.distance(shapely.points(shapely.get_coordinates(way.segmentize(0.02))), line)
    back = shapely.distance(shapely.points(shapely.get_coordinates(line.segmentize(0.02))), way)
    assert max(there.max(), back.max()) <= tolerance + 1e-5  # 200 chords stand for an arc
    assert start == len(points) - 1
    if tolerance >= 0.01:
        assert len(moves) < 80


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

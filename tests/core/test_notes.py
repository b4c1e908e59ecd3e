"""Notes of strategies: kept as they were, moved with the path, and in words that name what to do."""

import json
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenrik.core.motion import notes
from fenrik.core.motion.repeating import mirrored_over, turned_about

NUMBERS = st.floats(-1e4, 1e4)
PLACES = st.tuples(NUMBERS, NUMBERS, NUMBERS)
LINES = st.lists(st.lists(st.tuples(NUMBERS, NUMBERS), min_size=2, max_size=4).map(tuple), max_size=3).map(
    tuple
)
ANY = st.one_of(
    st.just(notes.Empty()),
    st.builds(
        notes.Missing,
        PLACES,
        st.integers(1, 9),
        st.integers(9, 20),
        st.text(max_size=9),
        st.text(max_size=9),
        NUMBERS,
    ),
    st.builds(notes.Narrow, PLACES, NUMBERS),
    st.builds(notes.Unreached, PLACES, NUMBERS),
    st.builds(notes.NarrowEntry, PLACES, NUMBERS),
    st.builds(notes.Engagement, NUMBERS, NUMBERS, NUMBERS, NUMBERS),
    st.builds(notes.ThroughAir, NUMBERS, NUMBERS),
    st.builds(
        notes.Short,
        PLACES,
        st.sampled_from(["trim", "raise", "leave"]),
        NUMBERS,
        NUMBERS,
        st.sampled_from(["shank", "holder"]),
        st.text(max_size=20),
        NUMBERS,
    ),
    st.builds(notes.WallLeft, PLACES, st.text(max_size=20)),
    st.builds(notes.EdgeLeft, PLACES),
    st.builds(notes.FeedAdapted, NUMBERS, NUMBERS, NUMBERS, NUMBERS),
    st.builds(notes.Repeated, st.integers(1, 99), st.text(max_size=9), st.booleans()),
    st.builds(
        notes.ThreadCut, st.text(max_size=9), st.tuples(NUMBERS, NUMBERS), *4 * (NUMBERS,), st.booleans()
    ),
    st.builds(notes.EdgeBroken, LINES, NUMBERS, NUMBERS, NUMBERS),
    st.builds(notes.Engraved, LINES, NUMBERS, st.lists(NUMBERS).map(tuple), st.lists(NUMBERS).map(tuple)),
)


@given(ANY)
def test_a_note_comes_back_from_json(note):
    assert notes.from_plain(json.loads(json.dumps(notes.to_plain(note)))) == note


@given(ANY)
def test_words_say_which_operation_and_what_to_do(note):
    """Whatever is found is told with the operation's name; whatever went wrong has a remedy."""
    words = note.words("Rough the top")
    if words is None:
        return
    what, remedy = words
    assert "'Rough the top'" in what and what.endswith(".")
    assert remedy.endswith(".") or isinstance(note, notes.FeedAdapted | notes.Repeated)


@given(ANY, NUMBERS, NUMBERS, st.floats(0, 360))
def test_a_note_moves_with_its_path_and_back(note, x, y, degrees):
    there, back = turned_about((x, y), degrees), turned_about((x, y), -degrees)
    again = notes.moved_note(notes.moved_note(note, there.points), back.points)
    first, second = (json.dumps(notes.to_plain(n)) for n in (note, again))
    for a, b in zip(_numbers(json.loads(first)), _numbers(json.loads(second)), strict=True):
        assert math.isclose(a, b, abs_tol=1e-6)


def _numbers(value):
    if isinstance(value, dict):
        return [n for v in value.values() for n in _numbers(v)]
    if isinstance(value, list):
        return [n for v in value for n in _numbers(v)]
    return [float(value)] if isinstance(value, (int, float)) else []


def test_a_mirror_keeps_heights_and_sizes():
    wall = notes.WallLeft((10.0, 5.0, -3.0), "face 4")
    over = notes.moved_note(wall, mirrored_over((0.0, 0.0), 90.0).points)
    assert over == notes.WallLeft((pytest.approx(-10.0), pytest.approx(5.0), -3.0), "face 4")
    thread = notes.ThreadCut("M6", (4.0, 1.0), -10.0, 0.0, 2.5, 3.0, True)
    moved = notes.moved_note(thread, turned_about((0.0, 0.0), 180.0).points)
    assert moved.axis == pytest.approx((-4.0, -1.0)) and (moved.low, moved.high) == (-10.0, 0.0)


def test_air_is_told_only_beyond_what_was_asked_for():
    assert notes.ThroughAir(0.2, 0.3).words("R") is None
    what, _ = notes.ThroughAir(0.4, 0.3).words("R")
    assert "40 %" in what and "30 %" in what


def test_a_short_holder_is_told_by_stick_out_a_shank_by_flutes():
    given = ((1.0, 2.0, 3.0), "trim", 4.5, 0.125)
    what, remedy = notes.Short(*given, "holder", "part", 52.0).words("Wall")
    assert "12.5 %" in what and "left out" in what and "4.50 mm" in what and "52 mm" in remedy
    _, remedy = notes.Short(*given, "shank", "stock", 52.0).words("Wall")
    assert "4.50 mm" in remedy and "shank" in remedy

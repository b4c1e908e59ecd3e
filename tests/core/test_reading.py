"""The reader as a control: what texts that came from elsewhere mean, or why they are refused. The moves are
worked out by hand; meanings of words are those of ISO 6983-1 and the usual ones of mills (from memory)."""

import numpy as np
import pytest

from fenrik.core.errors import PostError
from fenrik.core.posting.reading.readback import Reader

TOP = 100.0


def read(*blocks, end="M30", **more):
    """The motion of a program: a tool at work in G54, spindle and feed on, at X0 Y0 Z10."""
    reader = Reader(TOP, **more)
    head = "G90 G21 G17 G40 G80 G94 G54\nT1 M6\nS1000 M3\nG0 X0 Y0\nG43 H1 Z10\nF200\n"
    motion = reader.read(head + "\n".join([*blocks, *([end] if end else [])]) + "\n")
    return reader, motion


def tips(motion):
    return motion.moves.tip.round(6).tolist()


def bottoms(motion, z):
    return [tip[:2] for tip in tips(motion) if tip[2] == z]


def test_steps_within_a_cycle_go_on_from_hole_to_hole():
    _, motion = read("G99 G81 X10 Y5 Z-8 R2", "G91 X10", "Y10", "G90 X0", "G80")
    assert bottoms(motion, -8.0) == [[10, 5], [20, 5], [20, 15], [0, 15]]
    assert {tip[2] for tip in tips(motion)[2:]} == {2.0, -8.0}


def test_depths_by_steps_count_from_the_levels_before():
    """Under G91 R counts from the initial level and Z from R: from Z10 by -7 to Z3, and by -12 to Z-9."""
    _, motion = read("G98 G91 G81 X10 Y0 R-7 Z-12", "G80")
    assert [tip[2] for tip in tips(motion)[1:]] == [10, 3, -9, 10]


@pytest.mark.parametrize("word", ["K4", "L4"])
def test_a_cycle_is_repeated_as_often_as_k_or_l_say(word):
    _, motion = read("G99 G81 X10 Y0 Z-4 R2", f"G91 X5 {word}", "G90 G80")
    assert bottoms(motion, -4.0) == [[10, 0], [15, 0], [20, 0], [25, 0], [30, 0]]
    _, none = read("G99 G81 X10 Y0 Z-4 R2 K0", "G80")
    assert bottoms(none, -4.0) == []


def test_tool_change_and_length_in_one_block_keep_the_length():
    reader = Reader(TOP)
    reader.read("G90 G21 G17 G94 G54\nT3 M6 G43 H3\nS900 M3\nG0 X0 Y0\nZ5\nG1 Z-1 F100\nM30\n")
    assert reader.findings == []


def test_a_spindle_stop_acts_after_the_way_of_its_block():
    reader, motion = read("G1 X20 M5", "G0 Z50")
    assert reader.findings == [] and motion.spindle[-2] == 1000.0 and motion.spindle[-1] == 0.0
    reader, _ = read("M5", "G1 X20")
    assert any("at rest" in words for _, words in reader.findings)


def test_a_first_descent_in_one_block_is_driven_and_told():
    reader = Reader(TOP)
    text = "G90 G21 G17 G94 G54\nT1 M6\nS1000 M3\nG43 H1\nG0 X30 Y20 Z5\nG1 Z-1 F100\nM30\n"
    motion = reader.read(text)
    assert motion.moves.begin[0].tolist() == [30, 20, TOP] and tips(motion)[0] == [30, 20, 5]
    assert motion.rapid[0] and [n for n, words in reader.findings if "not known" in words] == [5]


@pytest.mark.parametrize("block", ["G4 P1.5", "G4 X1.5", "G4 F1.5"])
def test_a_dwell_is_given_by_p_x_or_f(block):
    _, motion = read("G1 X5", block, "X10")
    assert motion.dwell.max() == 1.5 and tips(motion)[-1] == [10, 0, 10]


def test_words_that_change_no_way_are_read_over():
    plain = tips(read("G1 X5", "X10 Y5")[1])
    assert tips(read("G61", "G9 G1 X5", "G64", "M11", "X10 Y5", "M10 M8")[1]) == plain
    assert tips(read("/G1 X5", "/2 X10 Y5")[1]) == plain


def test_the_reference_point_is_reached_over_a_place_between():
    _, motion = read("G1 Z-5", "G91 G28 Z0", "G28 X0 Y0", "G90 G0 X7 Y7", "Z10", "G1 X9")
    assert tips(motion)[1:3] == [[0, 0, -5], [0, 0, TOP]]
    assert tips(motion)[-1] == [9, 7, 10]
    _, over = read("G1 Z-5", "G28 Z20", "G0 X1 Y1")
    assert tips(over)[1:4] == [[0, 0, -5], [0, 0, 20], [0, 0, TOP]]
    with pytest.raises(PostError, match="with the tool down"):
        read("G1 Z-5", "G28 X0 Y0")


def test_feeds_by_time_and_by_turn_become_millimetres_a_minute():
    _, motion = read("G93 G1 X30 Y40 F4", "G94 F100 X0 Y0", "G95 F0.2 X10")
    assert motion.feed[-3:].tolist() == pytest.approx([200.0, 100.0, 200.0])


@pytest.mark.parametrize(("cycle", "out_rapid"), [(86, True), (76, True), (85, False), (89, False)])
def test_boring_cycles_come_out_as_the_standard_says(cycle, out_rapid):
    _, motion = read(f"G99 G{cycle} X10 Y0 Z-6 R2 P0.5", "G80")
    last = motion.moves
    assert tips(motion)[-1] == [10, 0, 2] and bool(motion.rapid[-1]) == out_rapid
    assert len(last) == len(tips(motion))


def test_subprograms_are_executed_where_they_are_called():
    text = ["M98 P20 L3", "G90 G1 X0"]
    after = ["M30", "O20", "G91 G1 X5 Y1", "G90", "M99"]
    _, motion = read(*text, *after, end=None)
    assert tips(motion)[-4:] == [[5, 1, 10], [10, 2, 10], [15, 3, 10], [0, 3, 10]]
    assert motion.line[-4] == motion.line[-2]  # the line of the subprogram
    with pytest.raises(PostError, match=r"O77.*does not hold"):
        read("M98 P77")
    with pytest.raises(PostError, match="for ever"):
        read("M99")
    with pytest.raises(PostError, match="within each other"):
        read("M98 P20", "M30", "O20", "M98 P20", "M99", end=None)


@pytest.mark.parametrize(
    ("block", "why"),
    [
        ("G92 X0 Y0", "by where the tool stands"),
        ("G30 Z0", "second reference point"),
        ("G96 S200", "lathe's way"),
        ("G87 X0 Y0 Z-5 R2", "from below"),
        ("G88 X0 Y0 Z-5 R2", "operator's hand"),
        ("M60", "changes the pallet"),
        ("L3", "only a cycle has"),
    ],
)
def test_what_is_refused_says_why(block, why):
    with pytest.raises(PostError, match=why) as raised:
        read(block)
    assert "Line 7" in str(raised.value)


def test_a_foreign_text_without_an_end_is_read_to_its_last_line():
    with pytest.raises(PostError, match="no end"):
        read("G1 X5", end=None)
    reader, motion = read("G1 X5", end=None, foreign=True)
    assert tips(motion)[-1] == [5, 0, 10]
    assert [words for _, words in reader.findings] == ["is the last line, and no M2 or M30 ends the program"]
    assert np.isfinite(motion.moves.tip).all()

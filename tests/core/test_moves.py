"""The table of motion: rows, joining, dividing, straightening and its bytes."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenrik.core.binary import unpack
from fenrik.core.motion import table
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion, Moves
from fenrik.core.motion.planes import Plane
from fenrik.core.motion.repeating import joined
from fenrik.core.motion.toolpath import Cycle, Toolpath, no_path


@st.composite
def paths(draw):
    """Paths of lines, arcs and helices in all planes."""
    made = PathBuilder()
    x, y, z = (draw(st.floats(-50, 50)) for _ in range(3))
    made.rapid(x, y, z)
    for _ in range(draw(st.integers(1, 6))):
        made.level += draw(st.integers(0, 1))
        if draw(st.booleans()):
            made.feed(*(draw(st.floats(-50, 50)) for _ in range(3)), feed=draw(st.floats(10, 900)))
        else:
            here = np.array(made.position)
            plane = draw(st.sampled_from(list(Plane)))
            first, second, square = ((0, 1, 2), (2, 0, 1), (1, 2, 0))[plane]
            radius, start = draw(st.floats(0.5, 40)), draw(st.floats(0, 6.28))
            centre = here[first] - radius * math.cos(start), here[second] - radius * math.sin(start)
            turn = draw(st.sampled_from((-1, 1)))
            end = here.copy()
            angle = start + turn * draw(st.floats(0.1, 6.1))
            end[first] = centre[0] + radius * math.cos(angle)
            end[second] = centre[1] + radius * math.sin(angle)
            end[square] += draw(st.floats(-5, 5))
            made.arc(tuple(end), centre, turn, 300.0, Motion.FEED, plane)
    return made.build()


@given(paths())
def test_a_path_comes_back_from_its_bytes(path):
    again = Toolpath.from_bytes(path.to_bytes())
    for name, column in table.to_arrays(path).items():
        np.testing.assert_array_equal(table.to_arrays(again)[name], column)
    assert len(again) == len(path) and again.moves.begin is None


def test_the_columns_are_the_ones_that_are_declared():
    """Whoever reads the bytes finds every column by its name, in its type; one axis for all costs one row."""
    made = PathBuilder()
    for i in range(1000):
        made.feed(i, 0, 0, 100.0)
    _, arrays = unpack(made.build().to_bytes())
    assert set(arrays) == {"tip", "kind", "turn", "plane", "centre", "feed", "axis", "side", "level", "run"}
    assert arrays["tip"].shape == (1000, 3) and arrays["tip"].dtype == np.float64
    assert arrays["axis"].tolist() == [[0.0, 0.0, 1.0]] and arrays["kind"].dtype == np.int8


@given(paths(), st.integers(1, 7))
def test_dividing_keeps_length_and_ends(path, count):
    parts, owner = path.divided(np.full(len(path), count))
    assert len(parts) == 1 + (len(path) - 1) * count
    whole = np.zeros(len(path))
    np.add.at(whole, owner, parts.moves.lengths())
    np.testing.assert_allclose(whole, path.moves.lengths(), rtol=1e-9, atol=1e-9)
    np.testing.assert_array_equal(parts.tip[::count], path.tip)
    np.testing.assert_array_equal(parts.level, path.level[owner])


@given(paths(), st.floats(0.001, 0.5))
def test_straight_pieces_stay_within_the_tolerance_of_arcs(path, tolerance):
    """The middle of every chord lies off the arc by r (1 - cos(a / 2)), which is the most of all its
    points."""
    moves = path.moves.after_start()
    pieces, owner = moves.straightened(tolerance)
    for i in np.flatnonzero(moves.turn):
        first, second, _ = ((0, 1, 2), (2, 0, 1), (1, 2, 0))[moves.plane[i]]
        middle = 0.5 * (pieces[owner == i, :3] + pieces[owner == i, 3:])
        radius = math.hypot(*(moves.start[i, [first, second]] - moves.centre[i]))
        away = np.hypot(middle[:, first] - moves.centre[i, 0], middle[:, second] - moves.centre[i, 1])
        assert (radius - away).max() <= tolerance + 1e-9 and (radius - away).min() > -1e-9
    np.testing.assert_array_equal(
        pieces[1:, :3][owner[1:] == owner[:-1]], pieces[:-1, 3:][owner[1:] == owner[:-1]]
    )


@given(paths(), st.data())
def test_rows_and_joining_are_inverse(path, data):
    cut = data.draw(st.integers(0, len(path)))
    again = table.concat([table.rows(path, slice(0, cut)), table.rows(path, slice(cut, None))])
    for name, column in table.to_arrays(path).items():
        np.testing.assert_array_equal(table.to_arrays(again)[name], column)


def test_one_axis_for_all_is_given_up_only_where_axes_differ():
    upright, leaning = (Moves.straight(np.zeros((2, 3))) for _ in range(2))
    assert len(table.concat([upright, leaning]).axis) == 1
    leaning = replace(leaning, axis=np.array([[0.6, 0.0, 0.8]]))
    assert table.concat([upright, leaning]).axis.tolist() == [
        [0, 0, 1],
        [0, 0, 1],
        [0.6, 0, 0.8],
        [0.6, 0, 0.8],
    ]
    assert table.rows(leaning, np.array([1])).axes.tolist() == [[0.6, 0.0, 0.8]]


def test_joined_paths_keep_their_cycles_on_their_rows():
    made = PathBuilder()
    made.rapid(0, 0, 10)
    made.rapid(0, 0, 2)
    made.feed(0, 0, -5, 100.0)
    made.rapid(0, 0, 10)
    made.cycles = [Cycle("drill", 1, 3, 2.0, -5.0, 10.0, 100.0)]
    one = made.build()
    other = one.with_moves(tip=np.add(one.tip, [30.0, 0.0, 0.0]))
    whole = joined([one, other])
    assert [(whole.tip[c.last] - whole.tip[c.first])[2] for c in whole.cycles] == [8.0, 8.0]
    assert [whole.tip[c.last, 0] for c in whole.cycles] == [0.0, 30.0]
    assert len(joined([no_path(), one])) == len(one) and len(joined([])) == 0


def test_a_chain_begins_each_move_where_the_last_ended():
    moves = Moves.straight(np.array([[0.0, 0, 5], [3.0, 4, 5], [3.0, 4, 0]]), Motion.FEED, 100.0)
    assert moves.start.tolist() == [[0, 0, 5], [0, 0, 5], [3, 4, 5]]
    assert moves.lengths() == pytest.approx([0, 5, 5])
    assert moves.after_start().start.tolist() == [[0, 0, 5], [3, 4, 5]]

"""Where operations are made again: places by plane geometry, and documents that make no sense."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from fenrik.core.job.document.repeats import Grid, Linear, Listed, Mirror, Polar, RepeatDoc

MM = st.floats(-500, 500)
POINT = st.tuples(MM, MM)
PICK = np.array([[3.0, 4.0], [-7.5, 1.25]])


def at(how, points=PICK):
    """The points at every place (places, n, 2)."""
    return np.array([place.points(points) for place in how.places()])


def repeat(how, **more):
    return RepeatDoc(name="Again", operations=["Drill"], how=how, **more)


@given(POINT, st.integers(2, 40))
def test_on_a_circle_every_place_is_as_far_from_the_centre_and_they_lie_evenly(centre, count):
    found = at(Polar(kind="polar", centre=centre, count=count))
    away = found - np.array(centre)
    radius = np.linalg.norm(PICK - centre, axis=1)
    assert np.linalg.norm(away, axis=2) == pytest.approx(np.tile(radius, (count, 1)), abs=1e-9)
    chord = np.linalg.norm(found - np.roll(found, 1, axis=0), axis=2)
    assert chord == pytest.approx(np.tile(2 * radius * math.sin(math.pi / count), (count, 1)), abs=1e-9)


@given(POINT, st.integers(2, 12), st.floats(-180, 180))
def test_with_a_step_each_place_is_turned_by_it_counter_clockwise(centre, count, step):
    places = Polar(kind="polar", centre=centre, count=count, step_deg=step).places()
    for i, place in enumerate(places):
        c, s = math.cos(math.radians(i * step)), math.sin(math.radians(i * step))
        wanted = (PICK - centre) @ np.array([[c, s], [-s, c]]) + centre
        assert place.points(PICK) == pytest.approx(wanted, abs=1e-8)
        assert not place.mirrored


def test_quarter_turns_are_exact():
    places = Polar(kind="polar", centre=(10.0, 20.0), count=4).places()
    assert places[1].points(np.array([[13.0, 20.0]])).tolist() == [[10.0, 23.0]]
    assert places[2].points(np.array([[13.0, 20.0]])).tolist() == [[7.0, 20.0]]
    assert places[3].turn == ((0.0, 1.0), (-1.0, 0.0))


@given(st.integers(2, 30), POINT)
def test_along_a_line_each_place_is_a_step_farther(count, step):
    found = at(Linear(kind="linear", count=count, step=step))
    assert found[0] == pytest.approx(PICK)
    assert np.diff(found, axis=0) == pytest.approx(np.broadcast_to(step, (count - 1, 2, 2)), abs=1e-9)


@given(st.integers(1, 6), st.integers(2, 6), st.floats(1, 50), st.floats(1, 50), st.floats(-360, 360))
def test_a_grid_is_gone_through_to_and_fro(columns, rows, step_x, step_y, angle):
    how = Grid(kind="grid", columns=columns, rows=rows, step_x=step_x, step_y=step_y, angle_deg=angle)
    found = at(how, np.zeros((1, 2)))[:, 0]
    c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
    level = found @ np.array([[c, -s], [s, c]])  # turned back
    wanted = {(i, j) for i in range(columns) for j in range(rows)}
    assert {(round(x / step_x), round(y / step_y)) for x, y in level} == wanted
    # from place to place it goes one column or one row, never farther
    way = np.abs(np.diff(level, axis=0)) / (step_x, step_y)
    assert way.sum(axis=1) == pytest.approx(np.ones(len(way)), abs=1e-6)


@given(POINT, st.floats(-180, 180))
def test_twice_in_the_mirror_is_where_it_was(point, angle):
    here, there = Mirror(kind="mirror", point=point, angle_deg=angle).places()
    assert here.points(PICK) == pytest.approx(PICK)
    assert there.mirrored and not here.mirrored
    assert there.points(there.points(PICK)) == pytest.approx(PICK, abs=1e-8)
    # points of the mirror's line stay
    along = np.array(point) + np.outer(
        [-5.0, 8.0], [math.cos(math.radians(angle)), math.sin(math.radians(angle))]
    )
    assert there.points(along) == pytest.approx(along, abs=1e-8)


def test_listed_places_turn_about_the_shifted_zero():
    how = Listed(kind="listed", at=[(100.0, 0.0, 0.0), (0.0, 50.0, 90.0)])
    found = at(how, np.array([[2.0, 0.0]]))[:, 0]
    assert found == pytest.approx(np.array([[2.0, 0.0], [102.0, 0.0], [0.0, 52.0]]))


def test_places_are_left_out_by_their_number():
    how = Linear(kind="linear", count=5, step=(10.0, 0.0))
    left = repeat(how, leave_out=[1, 4])
    assert [p.shift[0] for p in left.places()] == [10.0, 20.0, 40.0]
    assert left.words() == "3 x along a line"


@pytest.mark.parametrize(
    ("how", "words"),
    [
        (Polar(kind="polar", count=6), "6 x on a circle"),
        (Grid(kind="grid", columns=3, rows=2, step_x=1, step_y=1), "6 x in a grid"),
        (Listed(kind="listed", at=[(1, 2, 3)]), "2 x at given places"),
        (Mirror(kind="mirror"), "2 x and mirrored"),
    ],
)
def test_words(how, words):
    assert repeat(how).words() == words


@pytest.mark.parametrize(
    ("kind", "values", "word"),
    [
        (Polar, {"kind": "polar", "count": 1}, "greater than or equal to 2"),
        (Polar, {"kind": "polar", "count": 401}, "less than or equal to 400"),
        (Grid, {"kind": "grid", "columns": 1, "rows": 1, "step_x": 1, "step_y": 1}, "1 x 1 places"),
        (Grid, {"kind": "grid", "columns": 30, "rows": 30, "step_x": 1, "step_y": 1}, "30 x 30 places"),
        (Listed, {"kind": "listed", "at": []}, "at least 1"),
        (Mirror, {"kind": "mirror", "angle_deg": 200}, "180"),
        (Linear, {"kind": "linear", "count": 2, "step": (1, 0), "pitch": 3}, "Extra inputs"),
    ],
)
def test_what_makes_no_sense_is_refused_with_the_value(kind, values, word):
    with pytest.raises(ValidationError, match=word):
        kind(**values)


@pytest.mark.parametrize(("out", "word"), [([7], "no place 7"), ([1, 2, 3], "every place is left out")])
def test_one_place_at_least_stays(out, word):
    with pytest.raises(ValidationError, match=word):
        repeat(Linear(kind="linear", count=3, step=(1.0, 0.0)), leave_out=out)

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenrik.core.errors import InputError
from fenrik.core.frames import apply, invert, rotation_up, transform
from fenrik.core.units import format_length, parse_length


@pytest.mark.parametrize(
    ("text", "unit", "mm"),
    [
        ("12.5", "mm", 12.5),
        ("12,5", "mm", 12.5),
        ("3/8in", "mm", 9.525),
        ("2*6+0.5", "mm", 12.5),
        ("1in + 2mm", "in", 27.4),
        ("0.5", "in", 12.7),
        ("-3", "mm", -3.0),
        ("(1+2)*2", "mm", 6.0),
        ('1/4"', "mm", 6.35),
    ],
)
def test_lengths_take_units_and_arithmetic(text, unit, mm):
    assert parse_length(text, unit) == pytest.approx(mm, abs=1e-12)


@pytest.mark.parametrize("text", ["", "abc", "1/0", "__import__('os')", "2**3", "1;2", "3 apples"])
def test_what_is_no_length_is_refused_with_its_text(text):
    with pytest.raises(InputError) as caught:
        parse_length(text)
    assert repr(text)[1:-1] in caught.value.message or text == ""


def test_lengths_are_shown_without_needless_zeros():
    assert format_length(12.5) == "12.5"
    assert format_length(10.0) == "10.0"
    assert format_length(25.4, "in") == "1.0"


directions = st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda v: np.linalg.norm(v) > 0.1)


@given(directions, st.floats(-math.pi, math.pi))
def test_up_becomes_z_and_the_frame_stays_right_handed(up, turn):
    rotation = rotation_up(up, turn)
    assert rotation @ (np.array(up) / np.linalg.norm(up)) == pytest.approx([0, 0, 1], abs=1e-9)
    assert np.linalg.det(rotation) == pytest.approx(1.0, abs=1e-12)


@given(directions, st.tuples(*[st.floats(-500, 500)] * 3))
def test_inverse_takes_points_back(up, shift):
    matrix = transform(rotation_up(up), shift)
    points = np.array([[1.0, 2.0, 3.0], [-40.0, 7.0, 0.1]])
    assert apply(invert(matrix), apply(matrix, points)) == pytest.approx(points, abs=1e-9)


def test_z_up_leaves_the_part_as_it_is():
    assert (rotation_up((0.0, 0.0, 1.0)) == np.eye(3)).all()

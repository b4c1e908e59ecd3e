"""How the part is taken to the next setup, in words a user can follow with the part in hand."""

from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from fenrik.core.job.setups.moving import moving_words


def words(first, second):
    """Between two setups with rotations setup from part."""
    setups = [SimpleNamespace(name="First"), SimpleNamespace(name="Second")]
    frames = dict(zip("FS", (first, second), strict=True))

    def clamped(setup):
        matrix = np.eye(4)
        matrix[:3, :3] = frames[setup.name[0]]
        return SimpleNamespace(setup_from_part=matrix)

    house = SimpleNamespace(job=SimpleNamespace(setups=setups), clamped=clamped)
    assert moving_words(house, setups[0]) == ""
    return moving_words(house, setups[1])


def about(axis, degrees):
    vector = np.eye(3)["xyz".index(axis)]
    return Rotation.from_rotvec(np.radians(degrees) * vector).as_matrix()


@pytest.mark.parametrize(
    ("turn", "wanted"),
    [
        (np.eye(3), "stands as in 'First'"),
        (about("x", 180), "turned over about X by 180° from 'First'"),
        (about("y", 180), "turned over about Y by 180° from 'First'"),
        (about("z", 180), "turned about Z by 180° from 'First'"),
        (about("z", 90) @ about("x", 180), "turned over about X by 180°, then about Z by 90° from 'First'"),
        (about("x", 90), "turned about X by 90° from 'First'"),
        (about("x", -90), "turned about X by -90° from 'First'"),
        (about("z", 30), "turned about Z by 30° from 'First'"),
        (about("y", -12.5), "turned about Y by -12.5° from 'First'"),
    ],
)
def test_turns_about_an_axis(turn, wanted):
    assert words(np.eye(3), turn) == wanted


@given(st.integers(0, 23))
def test_only_the_turn_between_the_two_counts(number):
    start = Rotation.create_group("O").as_matrix()[number]
    assert words(start, about("x", 90) @ start) == "turned about X by 90° from 'First'"


def test_a_skew_turn_is_told_by_its_axis():
    turn = Rotation.from_rotvec(np.radians(120) * np.ones(3) / np.sqrt(3)).as_matrix()
    assert words(np.eye(3), turn) == "turned about (0.577, 0.577, 0.577) by 120° from 'First'"


@given(st.floats(1, 179), st.sampled_from("xyz"), st.sampled_from([1, -1]))
def test_the_words_tell_the_turn_by_which_the_part_really_goes(degrees, axis, sign):
    said = words(np.eye(3), about(axis, sign * degrees))
    letter, angle = said.split("about ")[1][0], float(said.split(" by ")[1].split("°")[0])
    assert letter == axis.upper()
    assert about(letter.lower(), angle) == pytest.approx(about(axis, sign * degrees), abs=2e-3)

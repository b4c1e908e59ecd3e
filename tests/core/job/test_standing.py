"""A side's path as pieces in the setup: where the tip goes and where the axis points."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from fenrik.core.frames import transform
from fenrik.core.job.paths.standing import path_pieces
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion

UPRIGHT = np.eye(4)


def path():
    """Down, along, up."""
    out = PathBuilder()
    out.rapid(0.0, 0.0, 10.0)
    out.feed(0.0, 0.0, -2.0, 100.0, Motion.PLUNGE)
    out.feed(30.0, 5.0, -2.0, 500.0)
    out.rapid(30.0, 5.0, 10.0)
    return out.build()


def test_upright_a_path_is_what_it_is():
    pieces, move = path_pieces(path(), UPRIGHT, 0.01)
    assert pieces.shape == (3, 6)
    assert pieces[1].tolist() == [0.0, 0.0, -2.0, 30.0, 5.0, -2.0]
    assert move.tolist() == [0, 1, 2]


def test_pieces_are_no_longer_than_asked_and_keep_their_move():
    pieces, move = path_pieces(path(), UPRIGHT, 0.01, longest=1.0)
    length = np.linalg.norm(pieces[:, 3:] - pieces[:, :3], axis=1)
    assert length[move == 1].max() <= 1.0 + 1e-9
    assert length[move == 1].sum() == pytest.approx(np.hypot(30.0, 5.0))
    assert (pieces[1:, :3] == pieces[:-1, 3:]).all()  # one goes on where the other ends


@given(st.floats(-180, 180), st.tuples(*[st.floats(-400, 400)] * 3))
def test_a_side_turned_about_z_stays_upright(turn, shift):
    frame = transform(Rotation.from_euler("z", turn, degrees=True).as_matrix(), shift)
    pieces, _ = path_pieces(path(), frame, 0.01)
    assert pieces.shape == (3, 6)
    assert pieces[:, [2, 5]] == pytest.approx(path_pieces(path(), UPRIGHT, 0.01)[0][:, [2, 5]] + shift[2])


@given(st.integers(0, 2**31), st.tuples(*[st.floats(-400, 400)] * 3))
def test_tips_and_axis_of_a_leaning_side_are_those_of_its_frame(seed, shift):
    turn = Rotation.random(random_state=seed).as_matrix()
    frame = transform(turn, shift)
    pieces, _ = path_pieces(path(), frame, 0.01)
    plain, _ = path_pieces(path(), UPRIGHT, 0.01)
    if pieces.shape[1] == 6:
        assert turn[2, 2] > 0.999
        return
    for end in (0, 6):
        tips = plain[:, end // 2 : end // 2 + 3] @ turn.T + shift
        assert pieces[:, end : end + 3] == pytest.approx(tips, abs=1e-9)
        assert pieces[:, end + 3 : end + 6] == pytest.approx(np.tile(turn[:, 2], (3, 1)))

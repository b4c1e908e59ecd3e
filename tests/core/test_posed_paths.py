"""Paths whose axis moves: collected, thinned, divided, cut into pieces, repeated, kept."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.frames import transform
from fenrik.core.machines.chain import rotations
from fenrik.core.motion.moves import Motion, turned_evenly
from fenrik.core.motion.pieces import (
    by_axis,
    cut_shorter,
    is_upright,
    placed_poses,
    upright_pieces,
    with_axes,
)
from fenrik.core.motion.repeating import mirrored_over, placed, turned_about
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.strategies.kit.posed import PosedPath, thinned

UP = np.array([0.0, 0.0, 1.0])


def leaning(degrees: float, towards: float = 0.0) -> np.ndarray:
    lean, round_about = np.radians(degrees), np.radians(towards)
    return np.array([np.sin(lean) * np.cos(round_about), np.sin(lean) * np.sin(round_about), np.cos(lean)])


def path() -> Toolpath:
    out = PosedPath()
    out.to(np.array([0.0, 0.0, 30.0]), UP, Motion.RAPID)
    out.to(np.array([0.0, 0.0, 30.0]), UP, Motion.RAPID)  # the same again: dropped
    out.to(np.array([0.0, 0.0, 5.0]), leaning(10), Motion.PLUNGE, 200.0)
    out.along(
        np.array([[10.0, 0.0, 5.0], [20.0, 2.0, 4.0]]),
        np.array([leaning(20, 30), leaning(20, 80)]),
        Motion.FEED,
        np.array([600.0, 500.0]),
    )
    out.to(np.array([20.0, 2.0, 30.0]), leaning(20, 80), Motion.RAPID)
    return out.build()


def test_a_path_is_what_was_collected():
    made = path()
    assert len(made) == 5 and made.turns_axis
    assert made.kind.tolist() == [0, 2, 1, 1, 0] and made.feed.tolist() == [0.0, 200.0, 600.0, 500.0, 0.0]
    assert np.linalg.norm(made.moves.axes, axis=1) == pytest.approx(np.ones(5))
    again = Toolpath.from_bytes(made.to_bytes())
    assert np.array_equal(again.moves.axes, made.moves.axes) and again.to_bytes() == made.to_bytes()
    assert len(PosedPath().build()) == 0


@settings(max_examples=50, deadline=None)
@given(a=st.floats(0, 80), b=st.floats(0, 80), round_about=st.floats(-180, 180), share=st.floats(0, 1))
def test_an_axis_turns_evenly_in_the_plane_of_its_ends(a, b, round_about, share):
    """Against a rotation about the normal of that plane (Rodrigues)."""
    first, last = leaning(a), leaning(b, round_about)
    found = turned_evenly(first[None], last[None], np.array([share]))[0]
    across = np.cross(first, last)
    sine = float(np.linalg.norm(across))
    if sine < 1e-7:
        assert found == pytest.approx(first, abs=1e-6)
        return
    whole = np.arctan2(sine, float(first @ last))
    wanted = rotations(across / sine, np.array([share * whole]))[0] @ first
    assert found == pytest.approx(wanted, abs=1e-7)


def test_moves_are_divided_with_their_axes():
    made = path()
    parts, owner = made.divided(np.array([1, 2, 4, 3, 1]))
    assert np.bincount(owner).tolist() == [1, 2, 4, 3, 1]
    # equal turns in equal parts of the way
    rows = np.flatnonzero(owner == 2)
    axes = np.vstack([made.moves.axes[1], parts.moves.axes[rows]])
    turns = np.arccos(np.clip(np.einsum("ij,ij->i", axes[1:], axes[:-1]), -1, 1))
    assert turns == pytest.approx(np.full(4, turns[0]), abs=1e-7)
    assert parts.moves.axes[rows[-1]] == pytest.approx(made.moves.axes[2])
    poses, _ = made.moves.poses(0.01, 1.0)
    assert np.abs(poses[1:, :6] - poses[:-1, 6:]).max() < 1e-9  # one unbroken way
    feeding = np.linalg.norm(poses[:, 6:9] - poses[:, :3], axis=1)[1:-1]
    assert feeding.max() <= 1.0 + 1e-9


@settings(max_examples=25, deadline=None)
@given(
    bend=st.floats(0.0, 0.05),
    twist=st.floats(0.0, 0.02),
    tolerance=st.sampled_from([0.002, 0.01, 0.05]),
    reach=st.floats(5.0, 60.0),
)
def test_poses_that_are_left_out_lie_within_the_tolerance_of_going_straight(bend, twist, tolerance, reach):
    """A wall that bends and twists: every pose left out, at both ends of the tool, against the chord of those
    that are kept; one more would be too much."""
    x = np.linspace(0.0, 60.0, 241)
    low = np.column_stack([x, bend * x**2 / 2, np.zeros_like(x)])
    axes = np.column_stack([np.zeros_like(x), np.sin(twist * x), np.cos(twist * x)])
    high = low + reach * axes
    out = np.tile([0.0, 1.0, 0.0], (len(x), 1))
    kept = thinned(low, high, out, tolerance)
    assert kept[0] == 0 and kept[-1] == len(x) - 1 and (np.diff(kept) > 0).all()
    for a, b in pairwise(kept.tolist()):
        share = ((low[a : b + 1] - low[a]) @ (low[b] - low[a])) / float((low[b] - low[a]) @ (low[b] - low[a]))
        for ends in (low, high):
            straight = ends[a] + share[:, None] * (ends[b] - ends[a])
            assert np.abs((ends[a : b + 1] - straight)[:, 1]).max() <= tolerance + 1e-12
    if bend < 1e-6 and twist < 1e-6:
        assert len(kept) == 2
    sag = bend * 60.0**2 / 8.0
    if sag > 4.0 * tolerance:  # about as few chords as a parabola of that sag can have
        turning = np.sqrt(reach * twist**2 * 450.0 / tolerance)
        assert len(kept) - 1 <= 2.2 * np.sqrt(sag / tolerance) + turning + 3


# pieces -----------------------------------------------------------------------------------------


def poses() -> np.ndarray:
    rows = [
        [0, 0, 0, *UP, 10, 0, 0, *UP],
        [10, 0, 0, *UP, 12, 0, 0, *leaning(8)],
        [12, 0, 0, *leaning(8), 20, 6, 0, *leaning(8, 40)],
        [20, 6, 0, *UP, 20, 6, 9, *UP],
    ]
    return np.array(rows, dtype=np.float64)


def test_stretches_with_the_tool_upright_are_cut_as_such():
    rows = poses()
    assert is_upright(rows).tolist() == [True, False, False, True]
    found = [(piece.shape, span.start, span.stop) for piece, span in by_axis(rows)]
    assert found == [((1, 6), 0, 1), ((2, 12), 1, 3), ((1, 6), 3, 4)]
    flat = upright_pieces(rows)
    assert flat.shape == (4, 6) and np.array_equal(with_axes(flat)[0], rows[0])
    assert [s for _, s in by_axis(flat)] == [slice(0, 4)]


def test_pieces_are_cut_shorter_where_they_are_longer():
    rows = poses()
    short, owner = cut_shorter(rows, np.array([4.0, 4.0, np.inf, 4.0]))
    assert np.bincount(owner).tolist() == [3, 1, 1, 3]
    assert np.abs(short[1:, :3] - short[:-1, 6:9]).max() < 1e-12
    assert np.linalg.norm(short[:, 3:6], axis=1) == pytest.approx(np.ones(8))
    assert np.linalg.norm(short[:, 6:9] - short[:, :3], axis=1)[owner != 2].max() <= 4.0 + 1e-9


@settings(max_examples=20, deadline=None)
@given(angle=st.floats(-180, 180), x=st.floats(-50, 50), z=st.floats(-50, 50))
def test_pieces_through_a_rigid_transform_keep_lengths_and_leans(angle, x, z):
    rows = poses()
    turn = rotations(np.array([0.6, 0.0, 0.8]), np.radians([angle]))[0]
    moved = placed_poses(rows, transform(turn, (x, 3.0, z)))
    for a, b in ((0, 6), (3, 9)):
        before = np.linalg.norm(rows[:, b : b + 3] - rows[:, a : a + 3], axis=1)
        assert np.linalg.norm(moved[:, b : b + 3] - moved[:, a : a + 3], axis=1) == pytest.approx(before)
    back = placed_poses(moved, np.linalg.inv(transform(turn, (x, 3.0, z))))
    assert np.abs(back - rows).max() < 1e-9


# repeats ----------------------------------------------------------------------------------------


def test_a_repeat_turns_the_axis_with_the_way():
    made = path()
    place = turned_about((5.0, -2.0), 90.0, (3.0, 0.0))
    turned = placed(made, place, 0.01)
    x, y, z = made.moves.axes.T
    assert np.array_equal(turned.moves.axes, np.column_stack([-y, x, z]))
    assert turned.tip[:, :2] == pytest.approx(place.points(made.tip[:, :2]))
    assert np.array_equal(turned.tip[:, 2], made.tip[:, 2])


def test_a_mirror_mirrors_the_axis():
    made = path()
    other = placed(made, mirrored_over((0.0, 0.0), 0.0), 0.01)  # in the X axis
    assert other.moves.axes == pytest.approx(made.moves.axes * [1.0, -1.0, 1.0])
    assert placed(other, mirrored_over((0.0, 0.0), 0.0), 0.01).tip == pytest.approx(made.tip)

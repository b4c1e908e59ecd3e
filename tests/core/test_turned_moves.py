"""Moves on which rotary joints turn, as a control drives them: where tip and joints go between two blocks,
how long a block takes, and how the reader keeps them with the other moves."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import PostError
from fenrik.core.frames import transform
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.program_motion import ProgramMotion, Turning, from_arrays, to_arrays
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.posting.reading.rotary_control import RotaryControl
from fenrik.core.posting.reading.turned_moves import CHORD_MM, LEVER_MM, Turned, pieces_of

MILLS = ["tilting_table_320", "swivel_head_500", "fork_head_1500", "inclined_rotary_400"]
LENGTH = 140.0


def placed(machine: str) -> OnMachine:
    return OnMachine(machines()[machine], transform(np.eye(3), (12.0, -30.0, 110.0)))


def turned(on: OnMachine, point: bool, angles, words=((0.0, 0.0, 5.0), (20.0, 6.0, 2.0)), **more) -> Turned:
    ends = tuple(np.array(w) for w in words)
    return Turned(0, on, LENGTH, point, ends, tuple(np.array(a) for a in angles), **more)


SMALL = st.tuples(st.floats(-25.0, 25.0), st.floats(-25.0, 25.0))


@settings(max_examples=40, deadline=None)
@given(machine=st.sampled_from(MILLS), before=SMALL, after=SMALL)
def test_with_its_point_kept_the_tip_goes_straight_and_the_joints_follow(machine, before, after):
    on = placed(machine)
    made = pieces_of([turned(on, True, (before, after), feed=500.0)])
    way = np.array([20.0, 6.0, -3.0])
    for tip in (made.poses[:, :3], made.poses[:, 6:9]):
        off = np.cross(tip - [0.0, 0.0, 5.0], way / np.linalg.norm(way))
        assert np.abs(off).max() < 1e-9
    rotary = on.machine.chain.rotary
    half = made.joints.shape[1] // 2
    assert made.joints[0, :half][rotary] == pytest.approx(before, abs=1e-12)
    assert made.joints[-1, half:][rotary] == pytest.approx(after, abs=1e-12)
    tips, axes = on.tips(made.joints[:, half:], LENGTH)  # forward: what the joints mean
    assert np.abs(tips - made.poses[:, 6:9]).max() < 1e-9
    assert np.abs(axes - made.poses[:, 9:]).max() < 1e-12


@settings(max_examples=40, deadline=None)
@given(machine=st.sampled_from(MILLS), before=SMALL, after=SMALL)
def test_without_it_every_joint_goes_evenly_and_pieces_stay_with_the_curve(machine, before, after):
    on = placed(machine)
    one = turned(on, False, (before, after), feed=500.0)
    made = pieces_of([one])
    count, half = len(made.poses), made.joints.shape[1] // 2
    even = made.joints[0, :half] + np.linspace(0, 1, count + 1)[1:, None] * (
        made.joints[-1, half:] - made.joints[0, :half]
    )
    assert np.abs(made.joints[:, half:] - even).max() < 1e-9
    # the straight pieces against the curve that the joints drive, at the tip and up the tool, densely
    for share in (0.2, 0.5, 0.8):
        joints = made.joints[:, :half] + share * (made.joints[:, half:] - made.joints[:, :half])
        tips, axes = on.tips(joints, LENGTH)
        chord = made.poses[:, :6] + share * (made.poses[:, 6:] - made.poses[:, :6])
        for lever in (0.0, LEVER_MM):
            off = tips + lever * axes - chord[:, :3] - lever * chord[:, 3:]
            assert np.linalg.norm(off, axis=1).max() < 1.5 * CHORD_MM


@pytest.mark.parametrize(
    ("words", "angles", "feed", "inverse", "seconds"),
    [
        (((0, 0, 0), (30, 40, 0)), ((0, 0), (5, 5)), 600.0, False, 5.0),  # 50 mm along the words
        (((0, 0, 0), (30, 40, 0)), ((0, 0), (5, 5)), 12.0, True, 5.0),  # a twelfth of a minute
        (((0, 0, 0), (0, 0, 0)), ((0, 0), (5, -20)), 240.0, False, 5.0),  # 20° at 240° a minute
        (((0, 0, 0), (30, 40, 0)), ((0, 0), (5, 5)), 0.0, False, 0.0),  # at rapid: what the joints can
    ],
)
def test_how_long_a_block_takes(words, angles, feed, inverse, seconds):
    """ISO 6983-1: G94 a minute along the line, G93 one over the minutes of the block."""
    on = placed("tilting_table_320")
    made = pieces_of([turned(on, False, angles, words, feed=feed, inverse=inverse)])
    assert made.time == pytest.approx([seconds])
    assert made.seconds.sum() == pytest.approx(seconds)


def test_pieces_come_in_the_order_of_their_moves_whatever_drives_them():
    on = placed("swivel_head_500")
    moves = []
    for row, point in enumerate((True, False, True, False)):
        one = turned(on, point, ((0.0, 0.0), (6.0, 3.0)), feed=300.0)
        moves.append(Turned(3 * row, on, LENGTH + 10 * (row % 3), point, one.words, one.angles, 300.0))
    made = pieces_of(moves)
    assert (np.diff(made.owner) >= 0).all() and set(made.owner.tolist()) == {0, 3, 6, 9}
    alone = [pieces_of([m]) for m in moves]
    assert np.array_equal(made.poses, np.vstack([a.poses for a in alone]))


# the whole text ---------------------------------------------------------------------------------


HEAD = "G21 G90 G17 G94\nG0 G53 Z0.\nT1 M6\nG54\nS1000 M3\nG0 A0. C0.\nG0 X0. Y0.\n"


def read(body: str) -> tuple[ProgramMotion, Reader]:
    control = RotaryControl({54: placed("tilting_table_320")}, {1: LENGTH})
    reader = Reader({"G54": 100.0}, 0.5, {}, control)
    return reader.read(f"{HEAD}{body}M30\n"), reader


def test_a_tip_kept_on_its_way_and_back_to_the_machines_coordinates():
    motion, reader = read("G43.4 H1 X0. Y0. Z20.\nG1 X10. Y0. Z20. A-10. C15. F400.\nX20.\nG49\nG0 G53 Z0.\n")
    assert reader.findings == []
    assert motion.places[-3] == pytest.approx([10.0, 0.0, 20.0]) and motion.leans[-3, 2] < 0.99
    assert motion.places[-2] == pytest.approx([20.0, 0.0, 20.0])
    assert motion.leans[-2] == pytest.approx(motion.leans[-3])  # the joints stood
    assert motion.feed[-3:-1] == pytest.approx([400.0, 400.0])
    # up along the machine's Z, the tool leaning as it did: the place changes along that direction only
    up = motion.places[-1] - motion.places[-2]
    assert up / np.linalg.norm(up) == pytest.approx(motion.leans[-2], abs=1e-9)
    poses, _ = motion.in_setup(0.01)
    assert np.abs(poses[1:, :3] - poses[:-1, 6:9]).max() < 1e-6  # one unbroken way


def test_what_is_kept_of_such_a_motion_is_what_it_was():
    motion, _ = read("G43.4 H1 X0. Y0. Z20.\nG93\nG1 X10. A-10. C15. F20.\nX20. F30.\nG94\nG49\nG0 G53 Z0.\n")
    again = from_arrays(to_arrays(motion))
    assert again.placing() == motion.placing()
    for name in ("poses", "joints", "seconds", "owner"):
        assert np.array_equal(getattr(again.turning, name), getattr(motion.turning, name))
    some = motion.rows(np.array([len(motion) - 3, len(motion) - 2]))
    assert isinstance(some.turning, Turning)
    assert set(some.turning.owner.tolist()) == {0, 1}
    assert some.places[0] == pytest.approx([10.0, 0.0, 20.0])
    both = ProgramMotion.joined([some, some])
    assert set(both.turning.owner.tolist()) == {0, 1, 2, 3} and both.places[2] == pytest.approx(
        some.places[0]
    )
    assert motion.turning.seconds.sum() == pytest.approx(60.0 / 20.0 + 60.0 / 30.0)


def test_a_long_program_needs_no_coordinates_of_its_own_for_every_block():
    """What says where moves are must not grow with their number: everything that looks through it would."""
    blocks = "".join(f"X{i / 10:.3f} A{-i / 50:.3f} C{i / 20:.3f} F300.\n" for i in range(1, 301))
    motion, _ = read(f"G43 H1 Z20.\nG93\nG1 X0. A0. C0.1 F300.\n{blocks}G94\nG0 G53 Z0.\n")
    assert len(motion) > 300 and len(motion.turning.frames) <= 4
    places = motion.places
    assert np.linalg.norm(np.diff(places[5:-1], axis=0), axis=1).max() < 1.0  # one unbroken way
    poses, owner = motion.in_setup(0.01)
    ends = np.flatnonzero(np.diff(owner, append=-1))
    assert np.abs(poses[ends, 6:9] - places[owner[ends]]).max() < 1e-9


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ("G43.4 H1 X0. Y0. Z20.\nG1 X10. A5. C0.\n", "no feed was given"),
        ("G43.4 H1 X0. Y0. Z20.\nG93\nG1 X10. A5. C0. F5.\nX20.\n", "no F, which every block has under G93"),
        ("G43.4 H1 X0. Y0. Z20.\nG2 X10. Y0. I5. J0. F100.\n", "on an arc"),
        ("G43.4 H1 X0. Y0. Z20.\nG0 G53 Z0.\n", "with the tool's point kept"),
        ("G43 H1 Z20.\nG93\nG3 X10. Y0. I5. J0. F100.\n", "is an arc under G93"),
        ("G43 H1 Z20.\nG68.2 X0 Y0 Z0 I0 J0 K0\nG1 X5. A5. F100.\n", "in a tilted plane"),
        ("G43 H1 Z20.\nG91\nG1 X5. A5. F100.\n", "by steps"),
        ("G43 H1 Z20.\nG81 X0. Y0. Z10. R15. F100.\nX5. A5.\n", "more at once|in a cycle"),
    ],
)
def test_what_a_control_does_not_take(body, words):
    with pytest.raises(PostError, match=words):
        read(body)


def test_without_rotary_joints_such_words_are_unknown():
    reader = Reader(100.0)
    for word in ("G43.4 H1 Z5.", "G68.2 X0 Y0 Z0 I0 J0 K0"):
        with pytest.raises(PostError, match="does not know"):
            reader.read(f"G21 G90 G17 G94\nG0 X0 Y0\n{word}\nM30\n")

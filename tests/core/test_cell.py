"""An arm beside a rotary table: how it holds a tool along a path. Against Pinocchio, closed forms and dense
looks at all there is to choose from."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.frames import transform
from fenrik.core.machines.arm import measures_at, nearest_along
from fenrik.core.machines.cell import Cell, upright_to
from fenrik.core.machines.holding import Held, held_along
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine
from tests.arms import two_cuts
from tests.core.test_machines import pose_in_pinocchio

ARM = machines()["pedestal_arm_1800"]
UP = np.array([[0.0, 0.0, 1.0]])


def cell(at: tuple[float, float, float] = (0.0, 0.0, 0.0), length: float = 150.0) -> Cell:
    return Cell(OnMachine(ARM, transform(np.eye(3), np.array(at))), length)


def spiral(count: int = 600) -> np.ndarray:
    """A way over a place 240 mm wide on the table."""
    turn = np.linspace(0.0, 12.0 * np.pi, count)
    far = 120.0 * turn / turn[-1]
    return np.column_stack([far * np.cos(turn), far * np.sin(turn), np.full(count, 200.0)])


def round_wall(lean_deg: float, count: int = 361) -> tuple[np.ndarray, np.ndarray]:
    """Once round a wall, leaning out of it."""
    a, lean = np.linspace(0.0, 2.0 * np.pi, count), np.radians(lean_deg)
    flat = np.column_stack([np.cos(a), np.sin(a), np.zeros(count)])
    axes = np.sin(lean) * flat + np.cos(lean) * UP
    return 100.0 * flat + np.array([0.0, 0.0, 200.0]), axes


def no(count: int) -> np.ndarray:
    return np.zeros(count, dtype=np.bool_)


@settings(max_examples=40, deadline=None)
@given(st.tuples(*[st.floats(-1.0, 1.0)] * 3), st.floats(-180.0, 180.0), st.floats(-180.0, 180.0))
def test_a_held_tool_stands_where_it_was_asked_to(axis, table, spin):
    """By Pinocchio's forward kinematics: the tip at its place, the axis along its direction, and the mount
    turned by the spin from the least turn out of the upright, in machine coordinates."""
    axis = np.array([[*axis[:2], axis[2] + 1.5]])
    axis /= np.linalg.norm(axis)
    held, tip = cell((40.0, -30.0, 20.0)), np.array([[60.0, 20.0, 150.0]])
    frames = held.frames(axis, np.array([table]), np.array([spin]))
    ways = held.postures(tip, frames, np.array([table]))
    for way in ways.angles[0][ways.exists[0]]:
        values = dict(zip(ARM.chain.names, [table, *way], strict=True))
        pose = pose_in_pinocchio((ARM.joints, ARM.work, ARM.tool), values)
        at = pose[:3, 3] - 150.0 * pose[:3, 2] - np.array([40.0, -30.0, 20.0])
        assert at == pytest.approx(tip[0], abs=1e-8)
        assert pose[:3, 2] == pytest.approx(axis[0], abs=1e-10)
        c, s = np.cos(np.radians(table)), np.sin(np.radians(table))
        in_base = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]]) @ pose[:3, :3]
        turn = upright_to(in_base[None, :, 2])[0].T @ in_base
        angle = np.degrees(np.arctan2(turn[1, 0], turn[0, 0]))
        assert (angle - spin + 180.0) % 360.0 - 180.0 == pytest.approx(0.0, abs=1e-6)


def test_the_least_turn_out_of_the_upright_turns_about_a_level_axis():
    """Rodrigues' angle and axis: the angle is that to the upright, the axis square to both."""
    rng = np.random.default_rng(3)
    axes = rng.normal(size=(200, 3))
    axes /= np.linalg.norm(axes, axis=1)[:, None]
    turns = upright_to(axes)
    assert np.abs(turns[:, :, 2] - axes).max() < 1e-12
    assert np.abs(turns @ turns.transpose(0, 2, 1) - np.eye(3)).max() < 1e-12
    angle = np.arccos(np.clip((np.trace(turns, axis1=1, axis2=2) - 1.0) / 2.0, -1.0, 1.0))
    assert angle == pytest.approx(np.arccos(axes[:, 2]), abs=1e-6)
    assert upright_to(-UP)[0] == pytest.approx(np.diag([1.0, -1.0, -1.0]))


def test_what_lacks_to_a_place_is_how_far_the_wrist_is_out_of_reach():
    """Where nothing is lacking there is a posture, and where a tip is moved towards the arm by what lacks
    there is one, by a little less there is none."""
    held, rng = cell(), np.random.default_rng(11)
    tips = rng.uniform(-1200.0, 1800.0, (3000, 3))
    axes = rng.normal(size=tips.shape)
    axes /= np.linalg.norm(axes, axis=1)[:, None]
    none = np.zeros(len(tips))
    frames = held.frames(axes, none, none)
    lack = held.lacking(tips, frames, none)
    exists = held.postures(tips, frames, none).exists.any(axis=1)
    clear = np.abs(lack) > 1e-6
    assert (exists[clear] == (lack[clear] == 0.0)).mean() > 0.999  # but near the first axis
    assert 0.2 < exists.mean() < 0.9
    far = np.array([[1600.0, 0.0, 200.0]])
    frame = held.frames(UP, none[:1], none[:1])
    lacking = float(held.lacking(far, frame, none[:1])[0])
    assert lacking > 100.0
    nearer = far - np.array([[lacking + 200.0, 0.0, 0.0]])
    assert held.lacking(nearer, frame, none[:1])[0] == 0.0


@pytest.mark.parametrize("held", [Held(0.0, None), Held(None, 60.0), Held(25.0, 70.0)])
def test_a_path_is_held_in_one_posture_and_within_all_ranges(held):
    tips = spiral()
    axes = np.broadcast_to(UP, tips.shape)
    found = held_along(cell(), tips, axes, no(len(tips)), held)
    assert found.holds.all() and found.constant and len(np.unique(found.posture)) == 1
    if held.table is not None:
        assert (found.table == held.table).all()
    if held.spin is not None:
        assert (found.spin == held.spin).all()
    assert (found.joints >= ARM.low - 1e-9).all() and (found.joints <= ARM.high + 1e-9).all()
    tip, frames = cell().at(found.joints)
    assert np.abs(tip - tips).max() < 1e-8 and np.abs(frames[:, :, 2] - axes).max() < 1e-12
    assert np.abs(np.diff(found.joints, axis=0)).max() < 3.0


def test_the_spin_that_is_found_keeps_the_wrist_from_its_singular_posture():
    """This spindle leans by 45° against the flange: with the spin at zero an upright tool lines the wrist up.
    Against all candidates looked at one by one: none of those that hold the path keeps farther from singular
    postures by more than a quarter."""
    tips = spiral(200)
    axes = np.broadcast_to(UP, tips.shape)

    def least(spin: float | None) -> float:
        found = held_along(cell(), tips, axes, no(len(tips)), Held(0.0, spin))
        far = measures_at(ARM.arm, found.joints[:, -6:])
        return float((far * np.array([[2.0], [1.0], [1.0]])).min()) if found.holds.all() else 0.0

    assert least(0.0) < 0.1
    assert least(None) > 0.75 * max(least(v) for v in np.arange(-180.0, 180.0, 15.0))
    assert least(None) > 0.4


def test_where_no_value_holds_the_whole_path_it_changes_along_it():
    """Once round a wall with the tool nearly level: no table angle holds all of it, so the table turns."""
    tips, axes = round_wall(80.0)
    found = held_along(cell(), tips, axes, no(len(tips)), Held(None, 60.0))
    assert found.holds.all() and not found.constant and len(np.unique(found.posture)) == 1
    for value in np.arange(-180.0, 180.0, 15.0):
        assert not held_along(cell(), tips, axes, no(len(tips)), Held(value, 60.0)).holds.all()
    tip, frames = cell().at(found.joints)
    assert np.abs(tip - tips).max() < 1e-8 and np.abs(frames[:, :, 2] - axes).max() < 1e-12
    assert np.abs(np.diff(found.joints, axis=0)).max() < 10.0
    assert (found.joints >= ARM.low - 1e-9).all() and (found.joints <= ARM.high + 1e-9).all()


def test_places_out_of_reach_are_marked_and_the_others_held():
    tips = np.column_stack([np.linspace(0.0, 2000.0, 201), np.zeros(201), np.full(201, 200.0)])
    axes = np.broadcast_to(UP, tips.shape)
    held = cell()
    found = held_along(held, tips, axes, no(len(tips)), Held(0.0, None))
    assert found.holds[0] and not found.holds[-1]
    first = int(np.argmin(found.holds))
    assert not found.holds[first:].any()
    # the best of all spins gets as far as the way to the wrist does
    none = np.zeros(len(tips))
    reach = [
        held.lacking(tips, held.frames(axes, none, none + v), none) == 0.0
        for v in np.arange(-180.0, 180.0, 15.0)
    ]
    assert first >= np.any(reach, axis=0).sum() - 20


def test_the_measures_of_a_posture_follow_from_its_joints_too():
    """Those that come with the closed form, and those worked out from the joints alone."""
    held, rng = cell(), np.random.default_rng(2)
    tips = rng.uniform(-300.0, 300.0, (200, 3)) + np.array([0.0, 0.0, 400.0])
    table = np.zeros(len(tips))
    ways = held.postures(tips, held.frames(np.broadcast_to(UP, tips.shape), table, table + 40.0), table)
    for k in range(8):
        own = ways.exists[:, k]
        found = measures_at(ARM.arm, ways.angles[own, k])
        told = np.stack([ways.shoulder[own, k], ways.elbow[own, k], ways.wrist[own, k]])
        assert np.abs(found - told).max() < 1e-9


def test_an_arm_that_is_led_takes_the_nearest_posture_and_whole_turns():
    tips = spiral()
    axes = np.broadcast_to(UP, tips.shape)
    found = held_along(cell(), tips, axes, no(len(tips)), Held(0.0, None))
    ways = cell().postures(tips, cell().frames(axes, found.table, found.spin), found.table)
    begins = no(len(tips))
    begins[0] = True
    start = found.joints[:, -6:] + np.array([0.0, 0.0, 0.0, 360.0, 0.0, -360.0])
    arm, reached = nearest_along(ways.angles, ways.exists, begins, start)
    assert reached.all()
    assert np.abs(arm - start).max() < 1e-6


def test_another_posture_is_taken_where_the_tool_is_out():
    """A wrist with short ranges, two cuts on both sides of the table, up, over and down between them: no one
    posture holds both, and the leap is on the loose way between them."""
    short, tips, axes, loose = two_cuts()
    found = held_along(short, tips, axes, loose, Held(0.0, 0.0))
    assert found.holds.all() and len(np.unique(found.posture)) == 2
    (before,) = np.flatnonzero(np.diff(found.leg)).tolist()
    assert loose[before + 1] and min(tips[before, 2], tips[before + 1, 2]) >= 250.0
    for part in (slice(0, before + 1), slice(before + 1, None)):
        assert np.abs(np.diff(found.joints[part], axis=0)).max() < 60.0

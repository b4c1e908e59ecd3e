"""Rotary joints that have to turn back since their range ends: found, named, and never where the short way is
free."""

from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenrik.core.job.proving.rewinding import turning_back
from fenrik.core.machines.choosing import Limits, rewinds
from fenrik.core.machines.library import machines

ENDLESS = Limits(np.array([-np.inf]), np.array([np.inf]), np.array([9000.0]))
WAY = st.lists(st.floats(-360, 360), min_size=2, max_size=8)


def within(low, high):
    return Limits(np.array([low]), np.array([high]), np.array([9000.0]))


def column(*angles):
    return np.array(angles, dtype=float)[:, None]


def test_from_170_to_minus_170_is_20_degrees_only_for_a_joint_without_ends():
    assert rewinds(column(170, -170), ENDLESS) == []
    (found,) = rewinds(column(170, -170), within(-180, 180))
    assert (found.at, found.joint, found.begin, found.end, found.nearer) == (1, 0, 170.0, -170.0, 190.0)


def test_where_the_range_holds_the_short_way_it_is_a_choice_and_no_rewind():
    assert rewinds(column(170, -170), within(-360, 360)) == []


def test_half_a_turn_either_way_is_no_rewind():
    assert rewinds(column(0, 180, 0, -180), within(-180, 180)) == []


def test_each_joint_is_looked_at_for_itself():
    limits = Limits(np.array([-110.0, -180.0]), np.array([110.0, 180.0]), np.ones(2))
    found = rewinds(np.array([[-100.0, 175.0], [100.0, -175.0], [100.0, 175.0]]), limits)
    # the first joint goes 200° since -260 lies beyond its range, as the second does twice
    assert [(f.at, f.joint, f.nearer) for f in found] == [(1, 0, -260.0), (1, 1, 185.0), (2, 1, -185.0)]


@given(WAY)
def test_a_rewind_is_a_move_of_more_than_half_a_turn_to_a_place_whose_short_way_is_barred(angles):
    limits = within(-360.0, 360.0)
    found = {f.at: f for f in rewinds(column(*angles), limits)}
    for at in range(1, len(angles)):
        step = angles[at] - angles[at - 1]
        if abs(step) < 180.0 - 1e-9:
            assert at not in found
        if at in found:
            nearer = found[at].nearer
            assert abs(nearer - angles[at - 1]) <= 180.0 + 1e-9
            assert abs(nearer) > 360.0
            turns = (nearer - angles[at]) / 360.0
            assert turns == pytest.approx(round(turns), abs=1e-9)
            assert round(turns) != 0


@given(WAY)
def test_a_joint_without_ends_never_turns_back(angles):
    assert rewinds(column(*angles), ENDLESS) == []


# as a finding ----------------------------------------------------------------------------------


def evidence(machine, *angles):
    steps = [
        SimpleNamespace(
            name=f"Bore {i + 1}", side=SimpleNamespace(angles=np.array(a, dtype=float), moving=None)
        )
        for i, a in enumerate(angles)
    ]
    posted = SimpleNamespace(program=SimpleNamespace(steps=steps))
    return SimpleNamespace(posted=posted, on=SimpleNamespace(machine=machines()[machine]))


def test_the_finding_names_joint_way_operation_and_remedy():
    (found,) = turning_back(evidence("fork_head_1500", (350.0, 30.0), (-350.0, 30.0)))
    assert (found.severity, found.kind, found.operation) == ("note", "rewind", "Bore 2")
    assert found.words == (
        "C turns back from 350° to -350° before 'Bore 2', since 370° lies beyond its range, -360° to 360°."
    )
    assert "order of the sides" in found.remedy


def test_a_joint_that_would_turn_back_in_a_cut_stops_and_at_rapid_is_noted():
    angles = np.array([[350.0, 30.0], [-350.0, 30.0]])
    for kind, severity in ((1, "stop"), (0, "note")):
        moving = SimpleNamespace(angles=angles, kind=np.array([0, kind]))
        step = SimpleNamespace(name="Wall", side=SimpleNamespace(angles=angles[0], moving=moving))
        posted = SimpleNamespace(program=SimpleNamespace(steps=[step]))
        on = SimpleNamespace(machine=machines()["fork_head_1500"])
        (found,) = turning_back(SimpleNamespace(posted=posted, on=on))
        assert (found.severity, found.operation) == (severity, "Wall")
        assert ("The tool cuts meanwhile." in found.words) == (severity == "stop")


def test_nothing_is_told_where_nothing_turns_back():
    assert turning_back(evidence("fork_head_1500", (0.0, 0.0), (120.0, 30.0), (-60.0, -30.0))) == []
    assert turning_back(evidence("tilting_table_320", (350.0, -30.0), (10.0, -30.0))) == []
    assert turning_back(evidence("fork_head_1500", (350.0, 0.0))) == []
    assert turning_back(evidence("column_mill_500")) == []


def test_the_way_chosen_through_many_sides_turns_back_as_seldom_as_it_must():
    """Eight sides a quarter of a turn apart, twice round: from 0° on, C has 360° to one side. It turns back
    once at most, in the middle; a way that does so at every second side is slower."""
    machine = machines()["fork_head_1500"]
    round_about = np.radians(np.arange(0.0, 720.0, 90.0))
    lean = np.radians(60.0)
    axes = np.column_stack(
        [np.sin(lean) * np.sin(round_about), -np.sin(lean) * np.cos(round_about), np.full(8, np.cos(lean))]
    )
    positions, reached = machine.rotary_positions(axes)
    assert reached.all()
    assert len(rewinds(positions, machine.rotary_limits)) <= 1
    assert (positions >= machine.rotary_limits.low - 1e-9).all()
    assert (positions <= machine.rotary_limits.high + 1e-9).all()

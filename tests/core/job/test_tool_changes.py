"""Where a machine changes its tool, its way there and back, and what stands in that way."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.binary import unpack
from fenrik.core.job.cutting.proofs import motion_key
from fenrik.core.machines.changing import AT, way_to_change
from fenrik.core.machines.library import machines
from fenrik.core.machines.machine import Machine
from tests.core.job.test_machine_bodies import HEAD_HALF, STORE, document, found, wall
from tests.examples import prover_of

pytestmark = pytest.mark.xdist_group("machine_bodies")  # the bracket is planned once for both
MILLS = [m for m in machines().values() if not m.is_arm]


def changing(machine: Machine, **change: float) -> Machine:
    """A machine that changes its tool with its joints at these values."""
    return Machine.model_validate(machine.model_dump() | {"tool_change_at": change})


def test_on_a_column_mill_z_goes_to_its_upper_end_and_the_table_stays():
    mill = machines()["column_mill_500"]
    names = mill.chain.names
    x, y, z = (names.index(a) for a in "XYZ")
    before, after = np.zeros(3), np.zeros(3)
    before[[x, y, z]], after[[x, y, z]] = (10.0, 20.0, 200.0), (-30.0, 40.0, 250.0)
    way = way_to_change(mill, before, after)
    assert way[:, z].tolist() == [200.0, *[560.0] * 6, 250.0]
    assert way[:6, x].tolist() == [10.0] * 6 and way[6:, x].tolist() == [-30.0] * 2
    low = way_to_change(changing(mill, Z=300.0, X=-200.0), before, after)
    assert low[AT, [x, y, z]].tolist() == [-200.0, 20.0, 300.0]


@pytest.mark.parametrize("machine", MILLS, ids=lambda m: m.id)
@given(data=st.data())
@settings(max_examples=40, deadline=None)
def test_nothing_but_z_moves_while_z_is_lower_than_on_both_sides(machine, data):
    """From anywhere to anywhere: the other joints move only with Z as high as where the tool is changed or
    higher, every row is within travel, and both ends are those given."""
    low = np.where(np.isfinite(machine.low), machine.low, -400.0)
    high = np.where(np.isfinite(machine.high), machine.high, 400.0)
    shares = st.lists(st.floats(0.0, 1.0), min_size=len(low), max_size=len(low)).map(np.array)
    before, after, there = (low + data.draw(shares) * (high - low) for _ in range(3))
    names = machine.chain.names
    named = data.draw(st.sets(st.sampled_from(names)))
    machine = changing(machine, **{name: float(there[names.index(name)]) for name in named})
    way = way_to_change(machine, before, after)
    z = machine.place("Z")
    others = np.delete(way, z, axis=1)
    for leg in range(len(way) - 1):
        if not np.array_equal(others[leg], others[leg + 1]):
            assert way[leg, z] == way[leg + 1, z] >= way[AT, z] - 1e-9
            assert way[leg, z] >= min(before[z], after[z])
    assert np.array_equal(way[0], before) and np.array_equal(way[-1], after)
    assert (way >= low - 1e-9).all() and (way <= high + 1e-9).all()
    for name in named:
        assert way[AT, names.index(name)] == there[names.index(name)]


@pytest.mark.parametrize(
    ("change", "words"),
    [({"Z": 561.0}, "with 'Z' at 561; it goes from 110 to 560"), ({"Q": 0.0}, "names 'Q'")],
)
def test_a_tool_change_out_of_reach_is_refused_with_words(change, words):
    with pytest.raises(ValueError, match=words):
        changing(machines()["column_mill_500"], **change)


def test_what_stands_in_the_way_to_the_change_is_found_there():
    """A wall on the table at X 350: over X 260 the head, 280 wide, runs into it, and nowhere on its way
    along the part."""
    data = document([wall(350.0)])
    assert found(data)[0] == []
    data["machines"][0]["tool_change_at"] = {"X": 260.0}
    met, _, proof = found(data)
    assert met and {f["kind"] for f in met} == {"collision"}
    assert all("at the change of the tool" in f["words"] for f in met)
    assert all("the machine changes its tool there" in f["remedy"] for f in met)
    assert "head" in {b for f in met for b in f["bodies"]}
    # and the replay shows the way
    arrays = unpack(STORE.get(motion_key(proof.key)))[1]
    names = ["X", "Y", "Z"]  # from the work on
    ways, at = arrays["change_joints"].reshape(-1, 8, 3), arrays["change_at"].reshape(-1, 8)
    assert len(ways) == len(at) >= 2
    assert ways[:, AT, names.index("X")] == pytest.approx(260.0)
    assert ways[:, AT, names.index("Z")] == pytest.approx(560.0)
    assert np.ptp(at, axis=1) == pytest.approx(data["machines"][0]["tool_change_s"], abs=1e-3)
    assert (np.diff(at, axis=1) > 0).all()
    # a finding leads to the moment at which they first meet: X is on its way to where head and wall touch
    for f in met:
        row = next(k for k, times in enumerate(at) if times[0] - 1e-3 <= f["time_s"] <= times[-1])
        x = np.interp(f["time_s"], at[row], ways[row, :, names.index("X")])
        assert x < 260.0
        if "head" in f["bodies"] and f["time_s"] < at[row, AT] - 1e-3:
            assert x == pytest.approx(350.0 - HEAD_HALF, abs=0.5)
    assert any("head" in f["bodies"] and f["time_s"] > at[0, 0] for f in met)


def test_the_piece_of_a_fixture_that_is_met_is_named():
    """Two posts beside the bracket; the tools are changed low over the right one, at a height at which their
    tips are within it."""
    posts = [
        {"kind": "block", "name": name, "low": [x, -20.0, -40.0], "high": [x + 20.0, 20.0, 8.0]}
        for name, x in (("Left post", -130.0), ("Right post", 110.0))
    ]
    data = document()
    data["setups"][0]["fixture"] = posts
    data["setups"][0]["operations"] = data["setups"][0]["operations"][:2]
    mine = prover_of(data, STORE)
    x, _, zero = mine.paths.setups.clamped(mine.job.setups[0]).table_from_setup
    lengths = {t.number: t.gauge_length for t in mine.job.tools}
    used = {lengths[o.tool] for o in mine.job.setups[0].operations}
    data["machines"][0]["tool_change_at"] = {"X": float(x) + 120.0, "Z": float(zero) + min(used) + 2.0}
    met = found(data)[0]
    assert met and all("into the fixture (Right post)" in f["words"] for f in met)
    assert {"cutter"} <= {b for f in met for b in f["bodies"]} and all("fixture" in f["bodies"] for f in met)

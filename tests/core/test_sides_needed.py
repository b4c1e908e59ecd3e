"""Which sides a part needs, and the whole plan for all of them."""

import time
from itertools import combinations, pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import ComputeError
from fenrik.core.features.sides_needed import Looked, fewest, sides_needed
from fenrik.core.features.way_up import AXES
from fenrik.core.frames import same_direction
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proposing.clampings import propose_clampings
from fenrik.core.job.proposing.holes import propose_every_hole, propose_holes
from fenrik.core.job.proposing.sides import propose_sides
from fenrik.core.job.proposing.whole_part import propose_features, propose_part
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import MODELS

UP = np.array([0.0, 0.0, 1.0])


def planner(part, machine="tilting_table_320", **setup):
    document = {
        "fenrik": 2,
        "name": part,
        "part": {"file": f"{part}.step"},
        "setups": [{"name": "Top", "machine": machine, "placement": {"z": 100.0}, **setup}],
    }
    return open_job(job_from_data(document), MODELS, MemoryStore())


def proposed(plan):
    return propose_sides(plan, plan.job.setups[0])


def with_sides(part, machine="tilting_table_320", **setup):
    """A job with all the sides that are proposed for it and that its machine reaches."""
    wanted = [w for w in proposed(planner(part, machine, **setup)) if not w.why]
    sides = [
        {"name": w.name, "up": {"axis": w.axis} if w.axis else {"face": w.face, "reverse": w.reverse}}
        for w in wanted
    ]
    return planner(part, machine, **setup, sides=sides)


def direction(plan, wanted):
    """Where a proposed side looks from, (3,) in the part."""
    if wanted.axis:
        return np.array(AXES[wanted.axis])
    facts = plan.workspace.part().face(wanted.face)
    vector = np.array(facts.normal if facts.kind == "plane" else facts.axis)
    return -vector if wanted.reverse else vector


def test_the_manifold_needs_what_a_person_counts_on_its_drawing():
    """Ports in front and right, a slot on the left, a recess behind, two oil bores that lean; the foot waits
    for the next clamping."""
    plan = planner("valve_manifold")
    found = proposed(plan)
    within = {w.name for w in found if not w.why}
    assert {"Side -y", "Side +y", "Side -x", "Side +x"} < within and len(within) == 6
    leaning = [direction(plan, w) for w in found if w.axis is None]
    tilts = sorted(float(np.degrees(np.arccos(d[2]))) for d in leaning)
    assert tilts == pytest.approx([30.0, 35.0], abs=1e-3)
    front = next(w for w in found if w.name == "Side -y")
    assert front.holes == 10 and "10 holes" in front.words
    below = [w for w in found if w.why]
    assert [w.axis for w in below] == ["-z"] and "the work stands on that side" in below[0].words


def test_machines_that_turn_less_say_what_they_lack():
    """A fork head does not look up from under a part, a rotary on the table turns about one line only."""
    one_line = proposed(planner("valve_manifold", "column_mill_500_rotary"))
    reached = {w.axis for w in one_line if not w.why}
    assert reached == {"-y", "+y"}  # it turns about X
    assert {w.axis for w in one_line if w.why} >= {"-x", "+x", "-z"}
    fork = proposed(planner("valve_manifold", "fork_head_1500"))
    assert [w.axis for w in fork if w.why] == ["-z"]
    three = proposed(planner("valve_manifold", "column_mill_800"))
    assert three and all("the tool cannot point that way" in w.why for w in three if w.axis != "-z")


@pytest.mark.parametrize(
    ("machine", "count"), [("tilting_table_320", 1), ("fork_head_1500", 1), ("column_mill_800", 7)]
)
def test_what_a_machine_does_not_reach_takes_as_few_clampings_as_can_be(machine, count):
    """On three axes every direction takes a clamping of its own; where two joints turn only the foot does."""
    plan = planner("valve_manifold", machine)
    setup = plan.job.setups[0]
    sides = propose_sides(plan, setup)
    clampings = propose_clampings(plan, setup, sides)
    assert len(clampings) == count
    named = [name for c in clampings for name in c.sides]
    assert sorted(named) == sorted(s.name for s in sides if s.why)
    assert all(", ".join(c.sides) in c.words and " up: " in c.words for c in clampings)


def test_on_end_a_rotary_that_turns_about_x_reaches_the_foot_as_well():
    """With +x up the part's Y lies along the rotary's axis: it turns the foot up beside +x, and has to be
    clamped anew for -x and for either bore that leans."""
    plan = planner("valve_manifold", "column_mill_500_rotary")
    setup = plan.job.setups[0]
    clampings = propose_clampings(plan, setup, propose_sides(plan, setup))
    reached = {c.axis or c.face: set(c.sides) for c in clampings}
    assert reached["+x"] == {"Side +x", "Side -z"} and reached["-x"] == {"Side -x"}
    assert sorted(sorted(r) for r in reached.values() if len(r) == 1)[:2] == [["Bore 29"], ["Bore 40"]]
    assert len(clampings) == 4


@pytest.mark.parametrize("part", ["motor_bracket", "plate_a", "cast_bearing_unit", "valve_manifold"])
def test_no_fewer_sides_reach_as_many_holes_and_features(part):
    """Every smaller choice among all directions of holes and features is tried."""
    plan = planner(part)
    holes = plan.workspace.holes()
    features = [f for f in plan.workspace.features() if f.kind in ("pocket", "slot")]
    found = sides_needed(plan.workspace.part(), holes, features, [UP], lambda d: "")
    chosen = [direction(plan, w) for w in found]
    ways = [[np.array(e) for e in h.entries] for h in holes] + [[np.array(f.axis)] for f in features]
    ways = [w for w in ways if w and not any(same_direction(d, UP) for d in w)]

    def all_made(directions):
        return all(any(same_direction(d, e) for d in directions for e in way) for way in ways)

    assert all_made(chosen)
    every = []
    for d in (d for way in ways for d in way):
        if not any(same_direction(d, other) for other in every):
            every.append(d)
    needed = next(k for k in range(len(every) + 1) if any(all_made(c) for c in combinations(every, k)))
    # a side may be there for the sake of faces alone
    assert sum(bool(w.holes or w.features) for w in found) == needed


def test_what_has_no_stock_on_it_any_more_needs_no_side():
    plan = planner("motor_bracket")
    part, holes, features = plan.workspace.part(), plan.workspace.holes(), plan.workspace.features()
    every = {f.id for f in part.faces}
    assert sides_needed(part, holes, features, [UP], lambda d: "", every) == []
    own = [h for h in holes if any(same_direction(e, (1.0, 0.0, 0.0)) for e in h.entries)]
    left = every - {f for h in own[:2] for f in h.faces}
    found = sides_needed(part, holes, features, [UP], lambda d: "", left)
    assert [w.axis for w in found] in (["+x"], ["-x"]) and found[0].holes == 2


def test_a_side_that_is_there_is_not_proposed_again():
    plan = with_sides("motor_bracket")
    assert [w for w in proposed(plan) if not w.why] == []


@pytest.mark.parametrize("part", ["motor_bracket", "valve_manifold"])
def test_the_plan_of_all_sides_makes_every_hole_once_and_from_where_a_tool_comes_in(part):
    plan = with_sides(part)
    setup = plan.job.setups[0]
    proposal = propose_part(plan, setup)
    names = [o.name for o in proposal.operations]
    assert len(set(names)) == len(names)
    numbers = [t.number for t in proposal.tools]
    assert len(set(numbers)) == len(numbers)
    up = {
        side: plan.setups.seen(setup, side).setup_from_part[2, :3]
        for side in (None, *(s.name for s in setup.sides))
    }
    for hole in plan.workspace.holes():
        mine = [o for o in proposal.operations if any(p.face in hole.faces for p in o.holes)]
        assert mine and len({o.side for o in mine}) == 1
        assert any(same_direction(up[mine[0].side], entry) for entry in hole.entries)
    walls = [
        (o.strategy, o.name.split(" (")[0], p.face)
        for o in proposal.operations if o.strategy == "profile" and o.parameters.get("rest_of") is None
        for p in o.walls
    ]  # fmt: skip
    assert len({face for *_, face in walls}) == len(walls)  # no wall is finished from two sides
    # all operations of a side follow one another
    sides = [o.side for o in proposal.operations]
    assert sum(a != b for a, b in pairwise(sides)) == len(set(sides)) - 1


def test_chosen_features_and_holes_are_made_from_their_side():
    plan = with_sides("valve_manifold")
    setup = plan.job.setups[0]
    slot = next(f for f in plan.workspace.features() if f.kind == "slot" and f.axis[0] < -0.9)
    assert {o.side for o in propose_features(plan, setup, [slot]).operations} == {"Side -x"}
    threads = [h for h in plan.workspace.holes() if abs(h.diameter - 5.0) < 1e-6]
    made = propose_holes(plan, setup, threads)
    assert {o.side for o in made.operations} == {None, "Side -x"}
    every = propose_every_hole(plan, setup, plan.workspace.holes())
    assert {o.side for o in every.operations} == {None, *(s.name for s in setup.sides)}

    without = planner("valve_manifold")
    with pytest.raises(ComputeError, match="neither from above nor from a side of 'Top'"):
        propose_features(without, without.job.setups[0], [slot])
    with pytest.raises(ComputeError, match=r"The hole Ø5, .* neither from above nor from a side"):
        propose_holes(without, without.job.setups[0], threads)


def looked(spots, made):
    """Directions that reach some of 40 spots and make some things, by their numbers."""
    out = []
    for k, (mine, own) in enumerate(zip(spots, made, strict=True)):
        flags = np.isin(np.arange(40), list(mine)), np.isin(np.arange(12), list(own))
        out.append(Looked((float(k), 0.0, 1.0), "+x" if k % 2 else None, 1, False, "", *flags))
    return out


NOTHING = np.zeros(40, dtype=bool), np.zeros(12, dtype=bool)
few = st.lists(
    st.tuples(st.sets(st.integers(0, 39), max_size=20), st.sets(st.integers(0, 11), max_size=6)), max_size=8
)


@settings(max_examples=100, deadline=None)
@given(found=few)
def test_the_fewest_directions_are_as_few_as_any_that_do(found):
    all_of = looked(*zip(*found, strict=True)) if found else []

    def left(some):
        spots = np.logical_or.reduce([s.spots for s in some], axis=0) if some else NOTHING[0]
        made = np.logical_or.reduce([s.made for s in some], axis=0) if some else NOTHING[1]
        return spots.sum(), made.sum()

    chosen = fewest(all_of, NOTHING)
    assert left(chosen) == left(all_of)
    needed = next(
        n for n in range(len(all_of) + 1) if any(left(c) == left(all_of) for c in combinations(all_of, n))
    )
    assert len(chosen) == needed


def test_of_very_many_directions_the_choice_still_ends():
    """Sixty directions of which each thing is made by many: all choices would be 10^18."""
    random = np.random.default_rng(4)
    spots = [set(random.integers(0, 40, 4)) for _ in range(60)]
    made = [set(random.integers(0, 12, 1)) for _ in range(60)]
    all_of = looked(spots, made)
    started = time.monotonic()
    chosen = fewest(all_of, NOTHING)
    assert time.monotonic() - started < 5.0
    assert set().union(*(np.flatnonzero(s.made) for s in chosen)) == set().union(*made)
    assert len(chosen) < 30

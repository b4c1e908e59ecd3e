"""Several setups: the stock that one leaves is the stock that the next begins with; how the part is turned in
between."""

import numpy as np
import pytest
import trimesh

from fenrik.core.errors import FenrikError, NotYet
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proposing.whole_part import propose_part
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.setups.moving import moving_words
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.distance import DistanceField
from fenrik.core.proof.deviation import measure
from fenrik.core.stock.surface import UNSEEN, surface
from tests.conftest import make_tool, mesh_of
from tests.core.test_holes import cylinder, drilled

DRILL = make_tool("drill", 8.0, number=2, point_deg=118.0, flute_length=40.0, stick_out=60.0)
MILL = make_tool("flat", 12.0, number=1, flute_length=30.0, stick_out=50.0)
FACE = {"name": "Face", "strategy": "facing", "tool": 1}
DRILLED = {
    "name": "Drill", "strategy": "drilling", "tool": 2, "parameters": {"cycle": "drill"},
    "holes": [{"face": None, "at": [-15.0, 5.0], "top": -1.0, "diameter": 8.0, "depth": 9.0}],
}  # fmt: skip


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    """60 x 40 x 20 with a through hole of 8 at (45, 15), counterbored to 14, 6 deep, from above."""
    return drilled(tmp_path_factory.mktemp("block"), [cylinder(45, 15, 0, 4, 20), cylinder(45, 15, 14, 7, 6)])


def job(file, *setups, tools=(MILL, DRILL), **more):
    """A job with these setups in order; the proof at 0.5 mm."""
    doc = {
        "fenrik": 1,
        "name": "chain",
        "part": {"file": file.name},
        "tools": [t.model_dump(mode="json") for t in tools],
        "setups": list(setups),
        "proof": {"cell_mm": 0.5},
        **more,
    }
    return job_from_data(doc)


def first(*operations, **more):
    return {"name": "First", "operations": list(operations), **more}


def then(name, before, axis, *operations, **more):
    stock = {"kind": "carried", "setup": before}
    return {"name": name, "up": {"axis": axis}, "stock": stock, "operations": list(operations), **more}


@pytest.mark.parametrize("axis", ["-z", "+x", "-y", "+z"])
def test_the_next_setup_begins_with_exactly_what_the_one_before_left(block, axis):
    # reference: manifold3d cuts the faced box with a cylinder of 512 facets and a cone for the drill's point
    planner = open_job(
        job(block, first(FACE, DRILLED), then("Next", "First", axis)), block.parent, MemoryStore()
    )
    before, following = planner.job.setups
    stock = planner.setups.raw_dexels(following, 0.5)
    low, high = (
        planner.setups.clamped(before).stock_low,
        planner.setups.clamped(before).stock_high - [0, 0, 1.0],
    )
    body = trimesh.creation.box(bounds=[low, high])
    point = 4.0 / np.tan(np.radians(59.0))
    hole = trimesh.creation.cylinder(4.0, 20.0, sections=512)
    hole.apply_translation([-15.0, 5.0, 0.0])  # down to 9 under the face
    tip = trimesh.creation.cone(4.0, point, sections=512)
    tip.apply_transform(np.diag([1.0, -1.0, -1.0, 1.0]))
    tip.apply_translation([-15.0, 5.0, -10.0])
    left = trimesh.boolean.difference([body, hole, tip])
    left.apply_transform(
        planner.setups.clamped(following).setup_from_part
        @ np.linalg.inv(planner.setups.clamped(before).setup_from_part)
    )
    for volume in stock.volumes():
        assert volume == pytest.approx(left.volume, rel=2e-3)  # counted in cells of half a millimetre
    points = surface(stock).points
    off = np.abs(DistanceField(mesh_of(left)).signed(points)[0])
    assert off.max() < 2e-3  # a chord of the reference's circle is 0.0001 mm off, its cone as much
    clamped = planner.setups.clamped(following)
    assert np.allclose(clamped.stock_low, left.bounds[0], atol=1e-3)
    assert np.allclose(clamped.stock_high, left.bounds[1], atol=1e-3)


def test_three_setups_hand_on_their_stock_and_the_last_is_proved_against_it(block):
    through = {
        **DRILLED,
        "name": "Again",
        "holes": [{"at": [-15.0, -5.0], "top": 0.0, "diameter": 8.0, "depth": 5.0}],
    }
    chain = [
        first(FACE, DRILLED),
        then("Over", "First", "-z", through, zero={"of": "part", "z": "high"}),
        then("Back", "Over", "+z", {**FACE, "name": "Nothing left"}),
    ]
    planner = open_job(job(block, *chain), block.parent, MemoryStore())
    raw = planner.setups.raw_dexels(planner.job.setups[2], 0.5)
    over = Prover(planner).prove(planner.job.effective_releases()[1]).facts
    left = over["stock_volume_mm3"] - over["removed_mm3"]
    assert raw.volume() == pytest.approx(left, rel=1e-3)
    with pytest.raises(FenrikError, match="Nothing stands over the part's top"):
        planner.path(planner.job.setups[2], planner.job.setups[2].operations[0])  # it is faced already


def test_what_was_cut_away_is_not_cut_again_and_what_stands_is_met(block):
    # a slot's depth of stock that setup one took is air in setup two; the proof counts only what is there
    planner = open_job(
        job(
            block,
            first({**FACE, "heights": {"bottom": {"over": "part_top", "offset": -4.0}}}),
            then("Next", "First", "+z", FACE),
        ),
        block.parent,
        MemoryStore(),
    )
    before, following = (planner.setups.clamped(s) for s in planner.job.setups)
    assert following.stock_high[2] - following.stock_low[2] == pytest.approx(20.0, abs=1e-4)
    assert before.stock_high[2] - before.stock_low[2] == pytest.approx(21.0)


def test_a_change_in_the_first_setup_makes_the_second_stale_a_name_does_not(block):
    store = MemoryStore()
    plans = [
        open_job(
            job(block, first({**FACE, **change}, DRILLED), then("Next", "First", "-z", FACE)),
            block.parent,
            store,
        )
        for change in (
            {},
            {"name": "Another name", "notes": "n", "coolant": "mist"},
            {"parameters": {"stepover": 3.0}},
        )
    ]
    keys = [p.keys.path(p.job.setups[1], p.job.setups[1].operations[0]) for p in plans]
    assert keys[0] == keys[1] != keys[2]


def test_a_question_about_the_job_never_cuts_anything(block):
    wanted = job(block, first(FACE), then("Next", "First", "-z", FACE))
    store = MemoryStore()
    asking = open_job(wanted, block.parent, store, may_cut=False)
    with pytest.raises(NotYet, match="'Next' is what 'First' leaves"):
        asking.setups.clamped(wanted.setups[1])
    open_job(wanted, block.parent, store).setups.clamped(wanted.setups[1])
    asking.setups.clamped(wanted.setups[1])  # once it is cut, it is known


@pytest.mark.parametrize(
    ("setups", "words"),
    [
        ([then("Next", "Nowhere", "-z")], "none before it; use one of: First"),
        ([then("Next", "Next", "-z")], "none before it"),
        ([then("A", "B", "-z"), {"name": "B"}], "none before it; use one of: First"),
    ],
)
def test_a_stock_from_a_setup_that_is_not_before_is_refused(block, setups, words):
    with pytest.raises(FenrikError, match=words):
        job(block, first(), *setups)


def test_a_stock_from_an_array_of_parts_is_refused(block):
    with pytest.raises(FenrikError, match="several parts in one blank"):
        job(block, first(array={"columns": 2}), then("Next", "First", "-z"))


def test_the_whole_plan_of_the_second_setup_leaves_what_is_made(block):
    top = job(block, first(zero={"of": "part"}), tools=())
    planner = open_job(top, block.parent, MemoryStore())
    made = propose_part(planner, planner.job.setups[0])
    drilling = [o.model_dump(mode="json") for o in made.operations if o.holes]
    assert {o["parameters"]["cycle"] for o in drilling} == {"spot", "peck", "counterbore"}
    under = job(block, first(*drilling), then("Under", "First", "-z"), tools=made.tools)
    planner = open_job(under, block.parent, MemoryStore())
    second = propose_part(planner, planner.job.setups[1])
    assert not any(o.holes for o in second.operations)
    assert any("have no stock on them" in words for words in second.words)


def test_a_counterbore_is_not_made_from_its_other_end(block):
    below = open_job(job(block, {**first(), "up": {"axis": "-z"}}, tools=()), block.parent, MemoryStore())
    made = propose_part(below, below.job.setups[0])
    assert {o.parameters["cycle"] for o in made.operations if o.holes} == {"spot", "drill"}
    tools = {t.number: t for t in made.tools}
    spot = next(o for o in made.operations if o.parameters.get("cycle") == "spot")
    assert tools[spot.tool].diameter < 14.0  # as wide as the hole there, not as its head on the other side


@pytest.mark.parametrize(
    ("ups", "words"),
    [
        (("+z", "-z"), "turned over about X by 180° from 'A'"),
        (("+z", "+z"), "stands as in 'A'"),
        (("+z", "+y"), "turned about X by 90° from 'A'"),
        (("+y", "+z"), "turned about X by -90° from 'A'"),
    ],
)
def test_how_the_part_is_turned_is_said(block, ups, words):
    planner = open_job(
        job(block, *({"name": n, "up": {"axis": a}} for n, a in zip("AB", ups, strict=True))),
        block.parent,
        MemoryStore(),
    )
    assert moving_words(planner.setups, planner.job.setups[0]) == ""
    assert moving_words(planner.setups, planner.job.setups[1]) == words


def test_points_that_no_ray_met_are_no_overcut(block):
    # in cells of 1 mm the wall of this hole goes through nodes exactly, about which rays of two directions
    # differ
    hole = {**DRILLED["holes"][0], "at": [-15.5, 5.5]}
    planner = open_job(
        job(block, first({**DRILLED, "holes": [hole]}), then("Next", "First", "-z")),
        block.parent,
        MemoryStore(),
    )
    before, following = planner.job.setups
    stock = planner.setups.raw_dexels(following, 1.0)
    body = trimesh.creation.box(
        bounds=[planner.setups.clamped(before).stock_low, planner.setups.clamped(before).stock_high]
    )
    reach = trimesh.creation.cylinder(4.0, 20.0, sections=512)
    reach.apply_translation([-15.5, 5.5, 0.0])
    tip = trimesh.creation.cone(4.0, 4.0 / np.tan(np.radians(59.0)), sections=512)
    tip.apply_transform(np.diag([1.0, -1.0, -1.0, 1.0]))
    tip.apply_translation([-15.5, 5.5, -10.0])
    left = trimesh.boolean.difference([body, reach, tip])
    left.apply_transform(
        planner.setups.clamped(following).setup_from_part
        @ np.linalg.inv(planner.setups.clamped(before).setup_from_part)
    )
    assert (surface(stock).tags == UNSEEN).any()
    facts = measure(stock, DistanceField(mesh_of(left)), left.area, 0.05).facts
    assert facts.max_overcut_mm < 2e-3 and facts.max_leftover_mm < 2e-3

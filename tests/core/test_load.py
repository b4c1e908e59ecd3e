"""The load measured by the stock: against handbook relations, exact arcs, and the promise of bounded
clearing."""

import math
from itertools import pairwise

import numpy as np
import pytest
import trimesh

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.library import machine
from fenrik.core.motion.moves import Motion
from fenrik.core.proof.load import Bears, load_findings, loads
from fenrik.core.proof.numbers import LoadFacts
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.heightmap import pieces_of
from fenrik.core.stock.keeping import LiveStock, Snapshot
from fenrik.core.tooling.cutting_data import engagement_angle
from fenrik.core.tooling.materials import material
from fenrik.core.tooling.stiffness import bending, compliance, stiff_depth
from tests.conftest import MODELS, make_tool, mesh_of

FLAT, CORNER = make_tool("flat", 8), make_tool("corner", 8, 1)
LOW, HIGH = np.zeros(3), np.array([80.0, 60.0, 12.0])
STEEL = material("steel_unalloyed")


def measured(pieces, tool=FLAT, cell=0.2, stock=None, feed=600.0, rpm=4000.0):
    stock = stock or Stock.of_box(LOW, HIGH, cell)
    pieces = np.array(pieces, dtype=float)
    rapid = np.zeros(len(pieces), dtype=bool)
    removal = stock.cut(pieces, tool_bodies(tool), rapid)
    columns = np.full(len(pieces), feed), np.full(len(pieces), rpm)
    return loads(pieces, rapid, *columns, removal, cell, tool, STEEL)


def middle_of(*moves):
    """Moves in pieces of 1 mm; of each the piece halfway."""
    ends = [np.linspace(m[:3], m[3:], 97) for m in moves]
    load = measured(np.concatenate([np.hstack([e[:-1], e[1:]]) for e in ends]))
    rows = np.arange(len(moves)) * 96 + 48
    return type(load)(**{name: values[rows] for name, values in vars(load).items()})


@pytest.mark.parametrize("width", [1.0, 2.4, 4.0, 6.0])
def test_side_milling_has_the_handbook_engagement_rate_and_power(width):
    """phi = arccos(1 - 2 ae/D) (geometry); Q = ap ae vf / 1000; kc = kc1.1 hm^-mc, Pc = Q kc / 60 000
    (Kienzle 1952)."""
    y = -4.0 + width
    load = middle_of([-8, y, 7, 88, y, 7])
    assert load.engagement[0] == pytest.approx(engagement_angle(width, 8.0), abs=math.radians(2.0))
    assert load.width[0] == pytest.approx(width, abs=0.06)
    assert load.depth[0] == pytest.approx(5.0, abs=0.02)
    rate = 5.0 * width * 600.0 / 1000.0
    assert load.rate[0] == pytest.approx(rate, rel=0.02)
    phi = engagement_angle(width, 8.0)
    chip = 600.0 / (4000.0 * 3) * 2 * width / (8.0 * phi)
    power = rate * STEEL.kc11 * chip**-STEEL.mc / 60_000.0
    assert load.chip[0] == pytest.approx(chip, rel=0.03)
    assert load.power[0] == pytest.approx(power, rel=0.04)


def test_a_slot_is_engaged_over_half_the_circle_and_air_over_none():
    load = middle_of([-8, 30, 7, 88, 30, 7], [88, 30, 7, -8, 30, 7])
    assert math.degrees(load.engagement[0]) == pytest.approx(180.0, abs=4.0)
    assert load.engagement[1] == 0.0 and load.power[1] == 0.0


@pytest.mark.parametrize("inside", [True, False])
def test_engagement_on_an_arc_is_that_of_its_ring(inside):
    """A circle that widens a bore (or trims a boss) by 1.5 mm: the inner edge of the cut is met at the angle
    given by the triangle of centre, tool and edge (geometry)."""
    stock = Stock.of_box(LOW, HIGH, 0.15)
    centre, rim = np.array([40.0, 30.0]), 14.0
    angle = np.linspace(0, 2 * np.pi, 361)

    def circle(radius):
        p = np.column_stack(
            [centre[0] + radius * np.cos(angle), centre[1] + radius * np.sin(angle), np.full(361, 6.0)]
        )
        return np.hstack([p[:-1], p[1:]])

    bodies = tool_bodies(FLAT)
    first, second = (rim - 4.0, rim - 2.5) if inside else (rim + 4.0, rim + 2.5)
    for radius in np.arange(first, 2.0, -2.0) if inside else np.arange(first, 30.0, 2.0):
        stock.cut(circle(radius), bodies, np.zeros(360, dtype=bool))
    load = measured(circle(second), cell=0.15, stock=stock)
    # the edge of the ring lies at `rim` from the centre: cosine law in centre, tool, edge
    c = (second**2 + 16.0 - rim**2) / (2 * second * 4.0)
    # from straight outward (inward) the rest of the half circle is in the ring
    expected = math.pi - math.acos(c) if inside else math.acos(c)
    middle = load.engagement[60:300]
    assert np.degrees(middle).mean() == pytest.approx(math.degrees(expected), abs=2.0)


def leaning_wall(turn, low, high):
    """A box (3,) to (3,) turned (3, 3) as the tool is."""
    box = trimesh.creation.box(bounds=[low, high])
    box.apply_transform(np.block([[turn, np.zeros((3, 1))], [np.zeros((1, 3)), np.ones((1, 1))]]))
    return mesh_of(box)


@pytest.mark.parametrize(("lean_deg", "heading_deg"), [(0.0, 0.0), (20.0, 30.0), (35.0, 200.0), (90.0, 90.0)])
@pytest.mark.parametrize("tool", [FLAT, CORNER], ids=["flat", "corner"])
def test_the_load_of_a_leaning_tool_is_that_of_the_upright_one(tool, lean_deg, heading_deg):
    """3 mm wide and 6 mm deep along the edge of a block, block and tool turned together: engagement by the
    cosine law, rate by width x depth x feed."""
    lean, heading = math.radians(lean_deg), math.radians(heading_deg)
    c, s, h, k = math.cos(lean), math.sin(lean), math.cos(heading), math.sin(heading)
    turn = np.array([[h, -k, 0], [k, h, 0], [0, 0, 1]]) @ np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]])
    low, high = np.array([0.0, 0.0, 0.0]), np.array([40.0, 20.0, 12.0])
    corners = np.array([[x, y, z] for x in (0, 40) for y in (0, 20) for z in (0, 12)]) @ turn.T
    stock = Stock.of_mesh(leaning_wall(turn, low, high), 0.2, corners.min(0) - 1.013, corners.max(0) + 1)
    ends = np.array([[-8.0, 20.0 + tool.radius - 3.0, 6.0], [48.0, 20.0 + tool.radius - 3.0, 6.0]])
    x = np.linspace(-8.0, 48.0, 113)
    tips = np.column_stack([x, np.full(len(x), ends[0, 1]), np.full(len(x), 6.0)]) @ turn.T
    axis = np.tile(turn[:, 2], (len(tips) - 1, 1))
    moves = np.hstack([tips[:-1], axis, tips[1:], axis])
    none = np.zeros(len(moves), dtype=bool)
    removal = stock.cut(moves, tool_bodies(tool), none)
    feed, rpm = np.full(len(moves), 600.0), np.full(len(moves), 4000.0)
    load = loads(moves, none, feed, rpm, removal, 0.2, tool, STEEL)
    inside = (x[1:] > 12) & (x[1:] < 30)
    exact = math.degrees(math.acos(1 - 3.0 / tool.radius))
    assert np.degrees(np.median(load.engagement[inside])) == pytest.approx(exact, abs=4.0)
    assert np.median(load.depth[inside]) == pytest.approx(6.0, abs=0.25)
    assert load.rate[inside].mean() == pytest.approx(600 * 3.0 * 6.0 / 1000, rel=0.03)
    assert load.engagement[x[1:] < -6.5].max() == 0.0


def test_bending_is_that_of_a_cantilever():
    """F L³ / (3 E I) for a plain cylinder: a tool whose flutes are as good as nothing."""
    tool = make_tool("flat", 10, flute_length=0.001, shank_diameter=10.0, stick_out=50.0)
    inertia = math.pi / 64 * 10.0**4
    assert compliance(tool) == pytest.approx(50.0**3 / (3 * 600_000 * inertia), rel=1e-3)


def test_too_much_power_and_bending_are_found():
    facts = [LoadFacts(1.0, 0.0, power_max_kw=900.0, bending_max_mm=0.5), LoadFacts(0.0, 1.0)]
    for limits, severity in (
        ((0.15, 0.3), "stop"),
        ((0.3, 0.6), "caution"),
        ((0.55, 1.1), None),
        ((None,), None),
    ):
        bears = [Bears("a", *limits), Bears("b", 0.05)]
        found = load_findings(facts, bears, machine("column_mill_500"))
        told = {f.kind: f for f in found}
        assert told["power"].severity == "caution" and all(f.remedy and f.operation == "a" for f in found)
        assert (told["bending"].severity if "bending" in told else None) == severity


def test_the_depth_that_a_limit_of_bending_allows_is_where_the_measured_load_reaches_it():
    """The mean force of side milling by hand: kc hm ap z phi / 2 pi times the compliance of a cantilever."""
    tool = make_tool("flat", 10, flute_length=20.0, stick_out=60.0, shank_diameter=10.0)
    depth = stiff_depth(tool, STEEL, 4000.0, 800.0, 3.0, 0.05)
    assert bending(tool, STEEL, 4000.0, 800.0, 3.0, depth) == pytest.approx(0.05)
    phi = math.acos(1 - 2 * 3.0 / 10.0)
    chip = 2 * (800.0 / (4000.0 * tool.teeth)) * 3.0 / (10.0 * phi)
    force = STEEL.kc11 * chip**-STEEL.mc * chip * depth * tool.teeth * phi / (2 * math.pi)
    assert force * compliance(tool) == pytest.approx(0.05, rel=1e-9)


def clearing_job(**parameters):
    operation = {
        "name": "Clear",
        "strategy": "bounded_clearing",
        "tool": 1,
        "parameters": {"stepover": 2.0, "step_down": 12.0, "step_up": 12.0, **parameters},
    }
    setup = {"name": "Top", "operations": [operation]}
    document = {
        "fenrik": 1,
        "name": "clear",
        "part": {"file": "bearing_bracket.step"},
        "tools": [FLAT.model_dump()],
        "setups": [setup],
        "proof": {"cell_mm": 0.15},
    }
    return open_job(job_from_data(document), MODELS, MemoryStore())


def test_the_promise_of_bounded_clearing_is_confirmed_by_the_stock():
    """The strategy steers on a bitmap; the stock knows nothing of it and measures what the path cuts. Entries
    are engaged over half the circle by nature and are left out."""
    planner = clearing_job()
    setup = planner.job.setups[0]
    path, clamped = planner.path(setup, setup.operations[0]), planner.setups.clamped(setup)
    pieces, owner = pieces_of(path)
    cell = 0.1
    stock = Stock.of_box(clamped.stock_low, clamped.stock_high, cell)
    removal = stock.cut(pieces, tool_bodies(FLAT), path.kind[owner + 1] == Motion.RAPID)
    columns = np.full(len(pieces), 600.0), np.full(len(pieces), 4000.0)
    load = loads(pieces, path.kind[owner + 1] == Motion.RAPID, *columns, removal, cell, FLAT, STEEL)
    wanted = engagement_angle(2.0, 8.0)
    passes = (path.kind[owner + 1] == Motion.FEED) & (load.engagement > 0) & (load.depth > 1.0)
    share, length = (
        load.engagement[passes] / wanted,
        np.linalg.norm((pieces[:, 3:] - pieces[:, :3])[passes], axis=1),
    )
    order = np.argsort(share)
    run = np.cumsum(length[order]) / length.sum()
    p95 = share[order][np.searchsorted(run, 0.95)]
    over = length[share > 1.10].sum() / length.sum()
    assert length.sum() > 2000
    assert p95 <= 1.05
    assert over <= 0.005


def test_another_material_is_another_proof():
    """The load depends on it even where speed and feed are given."""
    planner = clearing_job()
    data = planner.job.model_dump(mode="json")
    data["setups"][0]["operations"][0] |= {
        "spindle_rpm": 4000.0,
        "feed_mm_min": 600.0,
        "entry_feed_mm_min": 200.0,
    }
    keys = set()
    for name in ("aluminium_wrought", "steel_unalloyed"):
        data["setups"][0]["material"] = name
        other = open_job(job_from_data(data), MODELS, MemoryStore())
        keys.add(Prover(other).release_key(other.job.effective_releases()[0]))
    assert len(keys) == 2


def test_stocks_of_a_plan_share_their_tiles_and_come_back_bit_for_bit():
    stock = Stock.of_box(LOW, HIGH, 0.25)
    snapshots = [Snapshot.of(stock)]
    for x in (15.0, 40.0, 65.0):
        stock.cut(np.array([[x, 10, 8.0, x, 50, 8.0]]), tool_bodies(FLAT), np.array([False]))
        snapshots.append(Snapshot.of(stock, snapshots[-1]))
    shared: set[int] = set()
    together = sum(s.size(shared) for s in snapshots)
    assert together < 0.6 * sum(s.size() for s in snapshots)
    back = snapshots[0]
    for before, after in pairwise(snapshots):
        back = back.changed(after.changes(before))
    assert back.stock().volumes() == stock.volumes()
    again = Snapshot.of(back.stock())
    for one, other in zip(again.records, snapshots[-1].records, strict=True):
        assert all(a.same(b) for a, b in zip(one, other, strict=True))
    live = LiveStock(snapshots[0])
    for wanted in (3, 1, 2, 0, 3):
        live.go_to(snapshots[wanted])
        assert live.stock.volumes() == snapshots[wanted].stock().volumes()
        live.stock.cut(np.array([[30.0, 5, 6, 30, 45, 6]]), tool_bodies(FLAT), np.array([False]))

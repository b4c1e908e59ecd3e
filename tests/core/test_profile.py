"""Profiles: the cutter's middle at its radius from the chosen walls, sense, levels, ramps, leads, bridges,
and the proof."""

import math

import numpy as np
import pytest
import shapely
from shapely.geometry import LineString, Point, box

from fenrik.core.errors import FenrikError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from fenrik.core.stock.heightmap import pieces_of
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled, fused

MILL = make_tool("flat", 6.0, flute_length=26.0, stick_out=40.0)
BLOCK = box(-30.0, -20.0, 30.0, 20.0)
POCKET = box(-20.0, -10.0, 10.0, 10.0).buffer(-5.0).buffer(5.0, quad_segs=400)
"""In the block from above, 8 deep, with corners of radius 5 and a round island of radius 3 at (-5, 0)."""


def rounded_box(x, y, z, dx, dy, dz, radius):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    return fused(
        BRepPrimAPI_MakeBox(gp_Pnt(x + radius, y, z), dx - 2 * radius, dy, dz).Shape(),
        BRepPrimAPI_MakeBox(gp_Pnt(x, y + radius, z), dx, dy - 2 * radius, dz).Shape(),
        *(
            cylinder(a, b, z, radius, dz)
            for a in (x + radius, x + dx - radius)
            for b in (y + radius, y + dy - radius)
        ),
    )


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut

    pocket = rounded_box(10, 10, 12, 30, 20, 8, 5.0)
    return drilled(
        tmp_path_factory.mktemp("block"), [BRepAlgoAPI_Cut(pocket, cylinder(25, 20, 12, 3, 8)).Shape()]
    )


def planner(file, walls, tool=MILL, operation=None, **parameters):
    """A job with one profile; program zero is the middle of the block's top."""
    doc = {
        "name": "Profile",
        "strategy": "profile",
        "tool": 1,
        "walls": walls,
        "parameters": parameters,
        **(operation or {}),
    }
    data = {
        "fenrik": 1,
        "name": "profile",
        "part": {"file": file.name},
        "tools": [tool.model_dump(mode="json")],
        "setups": [{"name": "Top", "operations": [doc]}],
        "proof": {"cell_mm": 0.5},
    }
    return open_job(job_from_data(data), file.parent, MemoryStore())


OUTLINE = [{"outline": True}]


def path_of(plan):
    setup = plan.job.setups[0]
    return plan.path(setup, setup.operations[0])


def floor(plan):
    """The pocket's floor."""
    clamped = plan.setups.clamped(plan.job.setups[0])
    flats = [
        f
        for f in plan.workspace.part().faces
        if f.kind == "plane" and f.normal is not None and f.normal[2] > 0.9
    ]
    return sorted(flats, key=lambda f: f.origin[2])[0].id, clamped


def cutting(path):
    """Points (n, 3) of what is cut at the wall, dense."""
    pieces, owner = pieces_of(path, 0.0005)
    feeds = path.kind[owner + 1] == Motion.FEED
    steps = np.linspace(0, 1, 5)[:, None]
    return np.concatenate([p[:3] + steps * (p[3:] - p[:3]) for p in pieces[feeds]])


def off(points, shape):
    """How far points lie off a shape's border."""
    return np.array(
        [shape.boundary.distance(Point(x, y)) for x, y, _ in points[:: max(1, len(points) // 400)]]
    )


def sense(path):
    """Signed area that the level cutting moves go round."""
    rows = np.flatnonzero(path.kind == Motion.FEED)
    a, b = path.tip[rows - 1], path.tip[rows]
    return float((a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum())


def test_round_about_the_outline_the_middle_keeps_a_radius_off(block):
    plan = planner(block, OUTLINE, step_down=30.0, overlap=0.0)
    path = path_of(plan)
    points = cutting(path)
    zero = plan.setups.clamped(plan.job.setups[0]).part_low[:2] + np.array([30.0, 20.0])
    points[:, :2] -= zero
    assert off(points, BLOCK) == pytest.approx(3.0, abs=0.01)
    assert path.moves.lengths()[path.kind == Motion.FEED].sum() == pytest.approx(200 + 6 * math.pi, abs=0.1)
    assert (path.turn != 0).sum() >= 4 and (path.kind == Motion.FEED).sum() <= 12  # four lines, four corners


@pytest.mark.parametrize(
    ("direction", "spindle"),
    [("climb", "clockwise"), ("conventional", "clockwise"), ("climb", "counter_clockwise")],
)
def test_climb_is_climb_outside_and_inside(block, direction, spindle):
    # common practice, no source: a tool that turns clockwise climbs with the wall on its right
    forward = (direction == "climb") == (spindle == "clockwise")
    plan = planner(block, OUTLINE, operation={"spindle": spindle}, step_down=30.0, direction=direction)
    assert (sense(path_of(plan)) < 0) == forward
    face, _ = floor(plan)
    inside = path_of(
        planner(block, [{"face": face}], operation={"spindle": spindle}, step_down=30.0, direction=direction)
    )
    runs = {int(r) for r in inside.run[inside.kind == Motion.FEED]}
    assert len(runs) == 2  # the pocket's wall and the island
    by_size = []
    for run in runs:
        rows = np.flatnonzero((inside.kind == Motion.FEED) & (inside.run == run))
        a, b = inside.tip[rows - 1], inside.tip[rows]
        by_size.append(float((a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum()))
    around, island = sorted(by_size, key=abs, reverse=True)
    assert (around > 0) == forward and (island < 0) == forward


def test_a_floor_stands_for_the_walls_that_meet_it(block):
    plan = planner(block, OUTLINE)
    face, clamped = floor(plan)
    path = path_of(planner(block, [{"face": face}], step_down=3.0, overlap=0.0))
    points = cutting(path)
    zero = clamped.part_low[:2] + np.array([30.0, 20.0])
    points[:, :2] -= zero
    ring = POCKET.difference(Point(-5, 0).buffer(3.0, quad_segs=400))
    assert off(points, ring) == pytest.approx(3.0, abs=0.01)
    top = clamped.part_high[2]
    levels = np.unique(points[:, 2].round(6))
    assert levels[0] == pytest.approx(top - 8.0) and np.diff(levels).max() <= 3.0 and len(levels) == 3


def test_one_wall_is_an_open_contour_and_can_be_driven_on(block):
    plan = planner(block, OUTLINE)
    wall = next(
        f
        for f in plan.workspace.part().faces
        if f.kind == "plane" and f.normal is not None and f.normal[0] > 0.9 and f.origin[0] > 59
    )
    lengths = []
    for extension in (0.0, 1.0):
        path = path_of(planner(block, [{"face": wall.id}], step_down=30.0, extension=extension))
        points = cutting(path)
        high = plan.setups.clamped(plan.job.setups[0]).part_high[0]
        assert points[:, 0] - high == pytest.approx(3.0, abs=0.01)  # no turn round the corners
        lengths.append(float(path.moves.lengths()[path.kind == Motion.FEED].sum()))
    assert lengths[0] == pytest.approx(40.0, abs=0.3)
    assert lengths[1] - lengths[0] == pytest.approx(12.0, abs=0.5)


def test_passes_lie_side_by_side_and_the_last_may_wait_for_full_depth(block):
    path = path_of(
        planner(block, OUTLINE, step_down=7.0, passes=3, stepover=2.0, spring_passes=1, last_at_depth=True)
    )
    plan = planner(block, OUTLINE)
    zero = plan.setups.clamped(plan.job.setups[0]).part_low[:2] + np.array([30.0, 20.0])
    order = []
    for run in sorted({int(r) for r in path.run[path.kind == Motion.FEED]}):
        mine = np.flatnonzero((path.kind == Motion.FEED) & (path.run == run))
        middle = path.tip[mine][0, :2] - zero
        order.append(
            (round(BLOCK.boundary.distance(Point(middle)), 1), round(float(path.tip[mine][0, 2]), 3))
        )
    assert [d for d, _ in order] == [7.0] * 3 + [5.0] * 3 + [3.0] * 2
    assert order[-1][1] == order[-2][1] == min(z for _, z in order)


def test_a_ramp_goes_down_evenly_and_ends_with_a_level_turn(block):
    path = path_of(planner(block, OUTLINE, depth="ramp", step_down=5.0, overlap=0.0))
    rows = np.flatnonzero(path.kind == Motion.FEED)
    z = path.tip[rows, 2]
    assert (np.diff(z) <= 1e-9).all()
    level = z < z.min() + 1e-9
    assert path.moves.lengths()[rows[level]].sum() == pytest.approx(200 + 6 * math.pi, rel=0.35)
    fall = (path.tip[rows - 1, 2] - z) / np.maximum(path.moves.lengths()[rows], 1e-9)
    assert fall[~level].max() == pytest.approx(fall[~level].min(), rel=0.02)
    assert fall.max() <= 5.0 / (200 + 6 * math.pi) + 1e-6


def test_leads_touch_the_contour_and_stay_off_the_part(block):
    path = path_of(planner(block, OUTLINE, step_down=30.0, lead_share=0.5, overlap=2.0))
    leads = np.flatnonzero(path.kind == Motion.LEAD)
    assert len(leads) == 2 and (path.turn[leads] != 0).all()
    assert path.moves.lengths()[leads] == pytest.approx(0.5 * math.pi * 3.0, abs=0.05)
    joint = leads[0] + 1
    centre = path.centre[leads[0]]
    way, arm = path.tip[joint, :2] - path.tip[joint - 1, :2], path.tip[leads[0], :2] - centre
    assert abs(way @ arm) / (np.hypot(*way) * np.hypot(*arm)) < 0.02  # the arc ends along the contour
    cut = LineString(path.tip[(path.kind == Motion.FEED), :2])
    assert Point(path.tip[leads[0] - 1, :2]).distance(cut) == pytest.approx(3.0, abs=0.05)


def test_bridges_are_left_as_wide_and_high_as_asked(block):
    plan = planner(
        block, OUTLINE, step_down=5.0, below=0.5, tabs=3, tab_width=6.0, tab_height=1.5, overlap=0.0
    )
    path = path_of(plan)
    bottom = path.tip[path.kind == Motion.FEED, 2].min()
    rows = np.flatnonzero((path.kind == Motion.FEED) & (np.abs(path.tip[:, 2] - bottom - 1.5) < 1e-6))
    lifted = path.moves.lengths()[rows].sum()
    assert lifted == pytest.approx(3 * (6.0 + 6.0), abs=0.2)
    around = path.moves.lengths()[(path.kind == Motion.FEED) & (np.abs(path.tip[:, 2] - bottom) < 1e-6)].sum()
    assert around + lifted == pytest.approx(200 + 6 * math.pi, abs=0.2)


def test_an_outline_and_a_pocket_are_proved_on_the_posted_text(block):
    plan = planner(block, OUTLINE, step_down=6.0, below=0.5, passes=2, stepover=4.0)
    face, _ = floor(plan)
    data = plan.job.model_dump(mode="json")
    rough = {"name": "Pocket", "strategy": "level_roughing", "tool": 1, "keep_in": [{"faces": [face]}]}
    wall = {
        "name": "Walls",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"face": face}],
        "parameters": {"step_down": 8.0},
    }
    data["setups"][0]["operations"] = [rough, wall, *data["setups"][0]["operations"]]
    whole = open_job(job_from_data(data), block.parent, MemoryStore())
    proof = Prover(whole).prove(whole.job.effective_releases()[0])
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.011
    by_face = {f["face"]: f for f in proof.facts["deviation"]["by_face"]}
    walls = [
        f.id
        for f in whole.workspace.part().faces
        if f.kind == "plane" and f.normal is not None and abs(f.normal[2]) < 0.1
    ]
    assert all(by_face[w]["share_on_size"] > 0.97 for w in walls)


@pytest.mark.parametrize(
    ("walls", "tool", "word"),
    [
        ([{"face": 999}], MILL, "does not exist"),
        ([], MILL, "no walls"),
        ("floor", make_tool("flat", 19.0, stick_out=95.0), "cannot follow"),
    ],
)
def test_what_cannot_be_followed_is_named_with_a_remedy(block, walls, tool, word):
    if walls == "floor":
        walls = [{"face": floor(planner(block, OUTLINE))[0]}]
    with pytest.raises(FenrikError) as caught:
        path_of(planner(block, walls, tool))
    assert (
        word in caught.value.message
        and caught.value.remedy
        and caught.value.where.startswith("setups[0].operations[0]")
    )


def test_what_cannot_be_followed_offers_the_widest_tool_that_can(block):
    # oracle: the widest circle between two walls, their corner of R5 and the island touches all of them:
    # (15 - r)^2 + (10 - r)^2 = (r + 3)^2, 12.73 mm wide; some way along a wall is left for a tenth less
    face = floor(planner(block, OUTLINE))[0]
    with pytest.raises(FenrikError, match="cannot follow") as caught:
        path_of(planner(block, [{"face": face}], make_tool("flat", 19.0, stick_out=95.0)))
    wide = caught.value.offer["tool_at_most"]
    assert 12.5 <= wide <= 12.73 and f"{wide:g} mm or less" in caught.value.remedy
    fits = make_tool("flat", wide, flute_length=26.0, stick_out=60.0)
    assert path_length(planner(block, [{"face": face}], fits)) > 0


def test_walls_that_the_tool_does_not_fit_are_left_and_the_others_cut(block):
    wide = make_tool("flat", 19.0, stick_out=95.0)
    inner = {"face": floor(planner(block, OUTLINE))[0]}
    path = path_of(planner(block, [inner, *OUTLINE], wide, step_down=40.0))
    assert [n.kind for n in path.notes] == ["wall_left"]
    assert path.moves.lengths()[path.kind == Motion.FEED].sum() == pytest.approx(
        200 + 19 * math.pi + 1.0, abs=0.2
    )


@pytest.mark.parametrize(
    "place", [{"begin_x": -33.0}, {"begin_y": 23.0}, {"begin_x": 33.0, "begin_y": -10.0}]
)
def test_a_contour_begins_where_it_is_told(block, place):
    path = path_of(planner(block, OUTLINE, step_down=30.0, lead="none", **place))
    first = path.tip[np.flatnonzero(path.kind == Motion.FEED)[0] - 1]
    for axis, key in enumerate(("begin_x", "begin_y")):
        if key in place:
            assert first[axis] == pytest.approx(place[key], abs=0.15)


def test_leads_that_do_not_fit_are_made_smaller_and_never_touch():
    from fenrik.core.strategies.kit.contours import leads

    rng = np.random.default_rng(4)
    for _ in range(200):
        heading = rng.uniform(0, 2 * math.pi)
        way = np.array([math.cos(heading), math.sin(heading)])
        points = np.array([[0.0, 0.0], 5 * way])
        stone = Point(rng.uniform(-6, 6, 2)).buffer(rng.uniform(0.5, 2.0))
        if stone.distance(LineString(points)) < 0.05:
            continue
        for kind in ("arc", "line"):
            way_in, way_out = leads(points, kind, 3.0, 1.0, stone)
            assert np.allclose(way_in[-1], points[0]) and np.allclose(way_out[0], points[-1])
            for lead in (way_in, way_out):
                assert len(lead) == 1 or not shapely.intersects(LineString(lead), stone)
            if kind == "arc" and len(way_in) > 1:  # comes in along the contour
                last = way_in[-1] - way_in[-2]
                assert last @ way / np.hypot(*last) > 0.99


def test_only_what_a_larger_mill_left_is_gone_along(block):
    # oracle: shapely's own discs of both mills on the pocket as it was drawn
    face, _ = floor(planner(block, OUTLINE))
    large, small, fine = 5.5, MILL.radius, {"quad_segs": 200}
    pocket = POCKET.difference(Point(-5.0, 0.0).buffer(3.0, quad_segs=400))
    reached = pocket.buffer(-large, **fine).buffer(large, **fine)
    left = pocket.difference(pocket.buffer(-0.2)).difference(reached.buffer(0.01))
    assert left.area > 5.0
    driven = driven_line(planner(block, [{"face": face}], rest_of=2 * large))
    # all that the small one can take of it, and no more than the overlap beyond
    fits = pocket.buffer(-small, **fine).buffer(small, **fine)
    assert left.intersection(fits).difference(driven.buffer(small + 0.01, **fine)).area < 1e-3
    assert driven.difference(left.buffer(small + 1.0 + 0.35)).length < 0.05
    assert driven.length < 0.8 * path_length(planner(block, [{"face": face}]))
    # the outline has no corner that a larger mill does not reach
    with pytest.raises(FenrikError, match="A mill of 11 mm leaves nothing on the outline"):
        path_of(planner(block, OUTLINE, rest_of=2 * large))


@pytest.mark.parametrize("over", [True, False])
def test_over_a_boss_beside_it_a_wall_is_followed_at_the_height_of_the_boss(tmp_path, over):
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut

    # a step with a boss of radius 4, 6 high, 2 mm beside its wall at X 0: the tool of 6 does not pass between
    ground = BRepAlgoAPI_Cut(rounded_box(30, -10, 8, 40, 60, 12, 1.0), cylinder(36, 20, 8, 4, 6)).Shape()
    file = drilled(tmp_path, [ground])
    part = planner(file, OUTLINE).workspace.part()
    wall = next(
        f.id for f in part.faces if f.kind == "plane" and f.normal and f.normal[0] > 0.9 and f.origin[0] < 31
    )
    bridges = {"tabs": 2, "tab_height": 2.0}  # at the wall's foot, not over the boss
    plan = planner(file, [{"face": wall}], over_steps=over, step_down=20.0, **bridges)
    points = cutting(path_of(plan))
    level = plan.setups.clamped(plan.job.setups[0]).part_high[2]
    deep = points[np.abs(points[:, 2] - (level - 12.0)) < 1e-6]
    above = points[np.abs(points[:, 2] - (level - 6.0)) < 1e-6]
    assert np.hypot(deep[:, 0] - 6.0, deep[:, 1]).min() >= 7.0 - 1e-3  # radius of the boss and of the tool
    assert_beside(deep)
    if not over:
        assert len(above) == 0
        return
    # Pythagoras: at the wall the tool meets the boss from half a chord of 2 sqrt(7^2 - 3^2) on
    half = math.sqrt(7.0**2 - 3.0**2)
    on_wall = above[np.abs(above[:, 0] - 3.0) < 1e-3]
    assert on_wall[:, 1].min() <= -half + 0.1 and on_wall[:, 1].max() >= half - 0.1
    assert not (np.abs(points[:, 2] - (level - 4.0)) < 1e-6).any()
    assert (np.abs(points[:, 2] - (level - 10.0)) < 1e-6).any()
    assert np.abs(on_wall[:, 1]).max() <= half + 1.5  # a millimetre of overlap, and the spacing of points


def assert_beside(deep):
    """At full depth the wall at X 0 is followed up to where the tool meets the boss, and on to the block's
    ends."""
    on_wall = deep[np.abs(deep[:, 0] - 3.0) < 1e-3]
    half = math.sqrt(7.0**2 - 3.0**2)
    assert np.abs(on_wall[:, 1]).min() == pytest.approx(half, abs=0.2)
    assert np.abs(on_wall[:, 1]).max() > 18.0


def path_length(plan):
    return driven_line(plan).length


def driven_line(plan):
    """What the middle of the tool drives while it cuts at the wall, seen from above; the block's middle is
    0."""
    pieces, owner = pieces_of(path := path_of(plan), 0.0005)
    feeds = pieces[path.kind[owner + 1] == Motion.FEED]
    zero = plan.setups.clamped(plan.job.setups[0]).part_low[:2] + np.array([30.0, 20.0])
    return shapely.union_all([LineString([p[:2] - zero, p[3:5] - zero]) for p in feeds])

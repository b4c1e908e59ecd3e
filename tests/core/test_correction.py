"""Cutter radius compensation: what a control makes of a contour, what it has to be given, and the proof with
and without wear."""

import math
import re
from dataclasses import replace

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely.geometry import LineString, Point, Polygon

from fenrik.core.curves import Piece
from fenrik.core.errors import FenrikError, PostError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.proving.wear import worn
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.repeating import joined, mirrored_over, placed
from fenrik.core.posting.reading.correcting import corrected
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.posting.writing.contour import programmed
from fenrik.core.progress import Progress
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled
from tests.core.test_profile import rounded_box

HEAD = "G21 G90 G17 G40 G49 G80 G94\nG54\nT1 M6\nS3000 M3\nG0 X{0} Y{1}\nG43 H1 Z5.\nG1 Z-2. F300.\n"


def read(body, value, start=(-20.0, -20.0)):
    """The motion of blocks after the tool stands at the start, with `value` in D1."""
    return Reader(100.0, 0.5, {1: value}).read(HEAD.format(*start) + body + "G0 Z50.\nM30\n")


def way(motion):
    """The way of the tool's middle at the depth of the cut."""
    deep = np.flatnonzero((motion.tip[:, 2] < -1.9) & (motion.start[:, 2] < -1.9))
    pieces, _ = motion.rows(deep).straightened(1e-5)
    return LineString(np.vstack([pieces[:1, :2], pieces[:, 3:5]]))


@pytest.mark.parametrize("radius", [0.05, 3.0, 8.0])
def test_outside_a_control_rolls_round_the_corners_at_the_radius(radius):
    # clockwise round a square of 30 mm, the tool on the left: the way is the edge of the square grown by the
    # radius
    around = way(read("G1 G41 D1 X0. Y-5.\nY30.\nX30.\nY0.\nX-5.\nG40 X-20. Y-20.\n", radius))
    grown = Polygon([(0, 0), (0, 30), (30, 30), (30, 0)]).buffer(radius, quad_segs=2000)
    cut = around.intersection(shapely.box(-radius - 1, 1.0, 31 + radius, 31 + radius))
    assert (
        cut.hausdorff_distance(
            grown.exterior.intersection(shapely.box(-radius - 1, 1.0, 31 + radius, 31 + radius))
        )
        < 1e-3
    )
    # it begins and ends square to the contour
    assert around.distance(Point(-radius, -5.0)) < 1e-9 and around.distance(Point(-5.0, -radius)) < 1e-9


@pytest.mark.parametrize("radius", [0.05, 3.0, 8.0])
def test_inside_a_control_stops_where_the_ways_beside_both_walls_cross(radius):
    # counter-clockwise in a pocket of 40 x 30 with a round end, the tool on the left
    text = "G1 G41 D1 X20. Y0.\nX30.\nG3 X30. Y30. I0. J15.\nG1 X0.\nY0.\nX22.\nG40 X20. Y15.\n"
    inside = way(read(text, radius, (20.0, 15.0)))
    pocket = Polygon([(0, 0), (30, 0), (30, 30), (0, 30)]).union(Point(30, 15).buffer(15, quad_segs=4000))
    left = pocket.buffer(-radius, quad_segs=2000, join_style="mitre")
    ways = LineString(inside.coords[1:-1])
    assert left.exterior.hausdorff_distance(ways) < 1e-3


def test_on_the_right_and_with_worn_tools_the_way_lies_on_the_other_side():
    text = "G1 G42 D1 X0. Y-5.\nY30.\nX30.\nY0.\nX-5.\nG40 X-20. Y-20.\n"
    right = way(read(text, 3.0))
    assert right.distance(Point(3.0, 15.0)) < 1e-9 and right.distance(Point(15.0, 27.0)) < 1e-9
    worn = way(read(text.replace("G42", "G41"), -0.1))
    assert worn.distance(Point(0.1, 15.0)) < 1e-9 and worn.distance(Point(15.0, 29.9)) < 1e-9
    plain = way(read(text, 0.0))
    assert plain.distance(Point(0.0, 15.0)) == 0.0 and plain.length == pytest.approx(
        way(read(text.replace("G42", "G41"), 0.0)).length
    )


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ("G1 G41 D1 X0. Y0.\nX2.\nY2.\nX4.\nY0.\nX20.\nG40 Y20.\n", "too short or too tight"),
        ("G1 G41 D1 X0. Y0.\nX10.\nG3 X10. Y4. I0. J2.\nG1 X0.\nG40 Y20.\n", "too short or too tight"),
        ("G2 G41 D1 X0. Y0. I10. J10.\n", "without a straight way"),
        ("G41 D1\nG1 X0.\n", "without a straight way"),
        ("G1 G41 D7 X0. Y0.\n", "holds nothing"),
        ("G1 G41 D1 X0. Y0.\nX10.\nG0 X20.\n", "cannot do while it corrects"),
        ("G1 G41 D1 X0. Y0.\nX10.\nG18 X20.\n", "cannot do while it corrects"),
        ("G1 G41 D1 X0. Y0.\nX10.\nT2 M6\n", "cannot do while it corrects"),
        ("G1 G41 D1 X0. Y0.\nX10.\nM30\n", "cannot do while it corrects"),
        ("G1 G41 D1 X0. Y0.\nG40 X5.\n", "no contour between"),
        ("G1 D1 X0. Y0.\n", "address D without"),
    ],
)
def test_what_a_control_cannot_drive_is_named(body, words):
    with pytest.raises(PostError, match=words):
        read(body, 3.0)


def test_an_alarm_names_its_line():
    with pytest.raises(PostError, match=r"^Line 9 .*correction of 3.000 mm"):
        read("G1 G41 D1 X0. Y0.\nX2.\nY2.\nX4.\nY0.\nX20.\nG40 Y20.\n", 3.0)


def test_heights_change_within_a_corrected_contour():
    motion = read("G1 G41 D1 X0. Y-5.\nY30.\nZ-3.\nX30. Z-4.\nY0.\nG40 Y-20.\n", 3.0)
    assert motion.tip[-2, 2] == -4.0
    down = np.flatnonzero((motion.start[:, 2] == -2.0) & (motion.tip[:, 2] == -3.0))
    assert len(down) == 1 and motion.start[down[0], :2].tolist() == motion.tip[down[0], :2].tolist()
    assert np.array_equal(motion.tip[:-1], motion.start[1:])


# a way of the tool's middle round a convex corner or in a hollow one, and back: programmed and corrected it
# is itself
corners = st.lists(st.tuples(st.floats(6.0, 30.0), st.floats(-80.0, 80.0)), min_size=2, max_size=8)


@settings(max_examples=150, deadline=None)
@given(corners, st.sampled_from([1, -1]), st.floats(0.5, 4.0))
def test_the_contour_written_for_a_control_is_the_one_that_it_corrects_to_the_planned_way(
    chain, side, radius
):
    # straight pieces; at corners that turn towards the contour the tool rolls about a corner of it
    x, y, heading = 0.0, 0.0, 0.0
    pieces = [Piece((0.0, 0.0), (1.0, 0.0))]
    x, y = 1.0, 0.0
    for long, bend in chain:
        long += 2.0 * radius * math.tan(math.radians(40.0))
        to = (x + long * math.cos(heading), y + long * math.sin(heading))
        pieces.append(Piece((x, y), to))
        x, y = to
        turn = math.radians(bend)
        if abs(bend) > 1.0 and (bend < 0) == (side > 0):
            normal = (math.sin(heading), -math.cos(heading))
            centre = (x + side * radius * normal[0], y + side * radius * normal[1])
            c, s = math.cos(turn), math.sin(turn)
            dx, dy = x - centre[0], y - centre[1]
            to = (centre[0] + c * dx - s * dy, centre[1] + s * dx + c * dy)
            pieces.append(Piece((x, y), to, 1 if turn > 0 else -1, centre))
            x, y = to
        heading += turn
    pieces.append(Piece((x, y), (x + 30 * math.cos(heading), y + 30 * math.sin(heading))))
    pieces.append(Piece(pieces[-1].b, (pieces[-1].b[0] + 1.0, pieces[-1].b[1] + 1.0)))
    contour = programmed(pieces, side * radius, "Test")
    back = corrected(contour, side * radius)
    assert line_of([d.piece for d in back]).hausdorff_distance(line_of(pieces)) < 2e-3
    # where it rolls, the contour has a corner
    assert sum(p is None for p in contour) == sum(1 for p in pieces if p.turn)


def line_of(pieces):
    points = [pieces[0].a]
    for p in pieces:
        if p.turn:
            start = math.atan2(p.a[1] - p.centre[1], p.a[0] - p.centre[0])
            for k in range(1, 65):
                a = start + p.turn * p.sweep * k / 64
                points.append((p.centre[0] + p.radius * math.cos(a), p.centre[1] + p.radius * math.sin(a)))
        points.append(p.b)
    return LineString(points)


def test_a_way_that_no_contour_makes_is_refused():
    arc = Piece((5.0, 0.0), (7.0, -2.0), -1, (5.0, -2.0))
    pieces = [
        Piece((0, 0), (1, 0)),
        Piece((1, 0), (5, 0)),
        arc,
        Piece((7, -2), (7, -9)),
        Piece((7, -9), (9, -9)),
    ]
    with pytest.raises(PostError, match=r"goes round with a radius of 2\.000 mm"):
        programmed(pieces, 3.0, "Test")


PLAIN = {"step_down": 30.0, "last_at_depth": True}
SIDES = ("x_low", "x_high", "y_low", "y_high")
MILL = make_tool("flat", 6.0, flute_length=26.0, stick_out=40.0)


def prover_of(file, operations, tools=(MILL,), release=None):
    data = {
        "fenrik": 1,
        "name": "Corrected",
        "part": {"file": file.name},
        "tools": [t.model_dump(mode="json") for t in tools],
        "setups": [
            {
                "name": "Top",
                "operations": operations,
                "stock": {"kind": "box", "allowance": {a: 1.0 for a in SIDES}},
            }
        ],
        "releases": [{"name": "r", "setup": "Top", "dialect": "plain_iso", **(release or {})}],
        "proof": {"cell_mm": 0.5},
    }
    return Prover(open_job(job_from_data(data), file.parent, MemoryStore()))


@pytest.fixture(scope="module")
def pocketed(tmp_path_factory):
    """A block of 60 x 40 x 20 with a pocket of 30 x 20, 8 deep, and a bore of 16 through it."""
    pocket = rounded_box(8, 10, 12, 30, 20, 8, 5.0)
    return drilled(tmp_path_factory.mktemp("pocketed"), [pocket, cylinder(48, 20, 0, 8, 20)])


@pytest.fixture(scope="module")
def plain(tmp_path_factory):
    """The block alone."""
    return drilled(tmp_path_factory.mktemp("plain"), [])


def three_operations(file, correction):
    """Cleared first, so that there is room to switch on; then outside, inside and round."""
    ends = {**PLAIN, "correction": correction}
    part = prover_of(file, []).paths.workspace.part()
    floor = min((f for f in part.faces if f.normal and f.normal[2] > 0.9), key=lambda f: f.origin[2]).id
    bore = next(f.id for f in part.faces if f.radius and abs(f.radius - 8.0) < 1e-6)
    return [
        {"name": "Clear", "strategy": "level_roughing", "tool": 1, "parameters": {"allowance_radial": 0.3}},
        {
            "name": "Around",
            "strategy": "profile",
            "tool": 1,
            "walls": [{"outline": True}],
            "parameters": ends,
        },
        {"name": "Pocket", "strategy": "profile", "tool": 1, "walls": [{"face": floor}], "parameters": ends},
        {
            "name": "Bore",
            "strategy": "bore_milling",
            "tool": 1,
            "holes": [{"face": bore}],
            "parameters": {"correction": correction},
        },
    ]


@pytest.mark.parametrize(("correction", "dialect"), [("wear", "plain_iso"), ("control", "inch_radius")])
def test_outside_pocket_and_bore_come_to_size_with_new_tools_and_worn_ones(pocketed, correction, dialect):
    prover = prover_of(pocketed, three_operations(pocketed, correction), release={"dialect": dialect})
    release = prover.job.releases[0]
    facts, text = prover.prove(release).facts, prover.post(release).text
    assert [f for f in facts["findings"] if f["severity"] == "stop"] == []
    # climb milling keeps the tool on the left of the wall, outside and inside (common practice, no source)
    assert text.count("G41 D1") == 4 and text.count("G42") == 0 and text.count("G40 G1") == 4
    assert prover.post(release).program.registers() == {1: 3.0 if correction == "control" else 0.0}
    note = next(f["words"] for f in facts["findings"] if f["kind"] == "wear")
    worn, new, deep = (float(v) for v in re.findall(r"(\d+\.\d+)(?: %| mm\.)", note))
    assert "worn by 0.05 mm" in note and worn == pytest.approx(new, abs=0.1) and deep < 0.0125


def test_for_the_control_the_contour_itself_is_written(plain):
    operation = {
        "name": "Around",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"outline": True}],
        "parameters": {**PLAIN, "correction": "control", "overlap": 0.0},
    }
    prover = prover_of(plain, [operation])
    text = prover.post(prover.job.releases[0]).text
    corners = re.findall(r"^(?:G1 )?X(-?\d+\.\d+) Y(-?\d+\.\d+)$", text, re.M)
    # the block of 60 x 40 with program zero in the middle of it
    assert sum(abs(abs(float(x)) - 30.0) < 0.01 and abs(abs(float(y)) - 20.0) < 0.01 for x, y in corners) >= 4


def test_worn_tools_that_the_control_is_not_told_of_leave_the_part_too_big(plain):
    # so the second proof would see it if the correction did nothing
    operation = {
        "name": "Around",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"outline": True}],
        "parameters": {**PLAIN, "correction": "wear"},
    }
    prover = prover_of(plain, [operation], release={"options": {"wear_mm": 0.2}})
    posted = prover.post(prover.job.releases[0])

    def shares(one):
        """Per cent of the surface on size with worn tools, and without wear."""
        note = next(
            f["words"]
            for f in prover._prove("proof-" + "0" * 40, one, Progress()).facts["findings"]
            if f["kind"] == "wear"
        )
        return [float(v) for v in re.findall(r"(\d+\.\d+) %", note)]

    told, new = shares(posted)
    untold, same = shares(replace(posted, worn=(posted.motion, posted.comparison.step_of)))
    assert told == pytest.approx(new, abs=0.1) and same == new
    # four walls of 200 x 20 of the block's 8800 mm², 0.2 mm too big where 0.05 are allowed
    assert untold < told - 40.0


def test_a_wear_that_no_tool_survives_is_named(plain):
    operation = {
        "name": "Around",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"outline": True}],
        "parameters": {**PLAIN, "correction": "wear", "lead_share": 2.0},
    }
    thin = make_tool("flat", 1.6, flute_length=26.0, stick_out=40.0)
    prover = prover_of(plain, [{**operation, "when_short": "leave"}], [thin], {"options": {"wear_mm": 0.8}})
    with pytest.raises(
        FenrikError, match=r"With tools worn by 0\.8 mm: Line \d+ is too short or too tight"
    ) as caught:
        prover.post(prover.job.releases[0])
    assert "less wear" in caught.value.remedy
    with pytest.raises(FenrikError, match=r"Tool 1 .* of 1\.6 mm cannot be worn by 0\.8 mm"):
        worn(thin, 0.8)


def test_a_mirrored_path_is_corrected_on_the_other_side(plain):
    operation = {
        "name": "Around",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"outline": True}],
        "parameters": {**PLAIN, "correction": "wear"},
    }
    plan = prover_of(plain, [operation]).paths
    path = plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    mirror = placed(path, mirrored_over((0.0, 0.0), 0.0), 0.01)
    assert [c.side for c in path.compensated] == [1] and [c.side for c in mirror.compensated] == [-1]
    both = joined([path, mirror])
    for c, side in zip(both.compensated, (1, -1), strict=True):
        assert c.side == side and both.turn[c.first] == both.turn[c.last] == 0
        assert both.tip[c.first, 2] == both.tip[c.last, 2] < -20.0


def test_feeds_that_follow_the_chips_keep_the_ways_on_and_off(pocketed):
    operations = three_operations(pocketed, "control")[:2]
    operations[1]["feed_follows"] = "engagement"
    prover = prover_of(pocketed, operations)
    facts = prover.prove(prover.job.releases[0]).facts
    assert [f for f in facts["findings"] if f["severity"] == "stop"] == []
    feeds = set(re.findall(r"F(\d+\.\d)", prover.post(prover.job.releases[0]).text))
    assert len(feeds) > 3


def test_one_register_does_not_hold_both_kinds(pocketed):
    operations = three_operations(pocketed, "wear")
    operations[2]["parameters"] = {**operations[2]["parameters"], "correction": "control"}
    prover = prover_of(pocketed, operations)
    with pytest.raises(
        FenrikError, match="Tool 1 is corrected by its whole radius in one operation and by its wear"
    ):
        prover.post(prover.job.releases[0])


def test_a_way_on_needs_ground_that_is_cleared(pocketed):
    operation = three_operations(pocketed, "wear")[2]
    plan = prover_of(pocketed, [operation]).paths
    with pytest.raises(FenrikError, match=r"9\.00 mm of stock stand where cutter compensation") as caught:
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    assert caught.value.offer == {"parameters": {"correction": "computer"}}


def test_only_a_piece_of_a_contour(plain):
    operation = {
        "name": "Piece",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"outline": True}],
        "parameters": {
            **PLAIN,
            "piece_from_x": -10.0,
            "piece_from_y": 20.0,
            "piece_to_x": 30.0,
            "piece_to_y": 5.0,
        },
    }
    plan = prover_of(plain, [operation]).paths
    path = plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    cut = path.kind == Motion.FEED
    # clockwise along the upper edge, round its corner, down to the middle of the right one
    assert path.tip[cut, 0].min() > -10.01 and path.tip[cut, 1].min() == pytest.approx(5.0, abs=0.01)
    assert path.moves.lengths()[cut].sum() == pytest.approx(40.0 + 1.5 * math.pi + 15.0, abs=0.2)
    operation["parameters"].pop("piece_to_y")
    plan = prover_of(plain, [operation]).paths
    with pytest.raises(FenrikError, match="known at one end only"):
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])


def test_moves_that_the_holder_forbids_are_not_left_out_of_a_corrected_contour(plain):
    # 20 mm of wall and 6 mm of stick-out over the flutes' 12: the holder would stand in the block
    short = make_tool("flat", 6.0, flute_length=12.0, stick_out=15.0)
    operation = {
        "name": "Around",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"outline": True}],
        "parameters": {**PLAIN, "correction": "wear"},
    }
    plan = prover_of(plain, [operation], [short]).paths
    with pytest.raises(
        FenrikError, match=r"holder of tool 1 would touch .* whose radius the control corrects"
    ) as caught:
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    assert caught.value.offer == {"parameters": {"correction": "computer"}}
    plan = prover_of(plain, [{**operation, "when_short": "leave"}], [short]).paths
    assert len(plan.path(plan.job.setups[0], plan.job.setups[0].operations[0]).compensated) == 1


@pytest.mark.parametrize("correction", ["computer", "wear"])
def test_an_overlap_that_ends_on_a_point_of_the_contour_keeps_its_way_out(plain, correction):
    # points every 0.1 mm, an overlap of 1 mm: its end used to be there twice, without a direction for the way
    # out
    thin = make_tool("flat", 1.6, flute_length=26.0, stick_out=40.0)
    operation = {
        "name": "Around",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"outline": True}],
        "when_short": "leave",
        "parameters": {**PLAIN, "correction": correction, "lead_share": 2.0},
    }
    plan = prover_of(plain, [operation], [thin]).paths
    path = plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    assert np.isfinite(path.tip).all()
    lead = path.kind == Motion.LEAD
    # a quarter circle of two diameters on either end, and the straight ways where the control corrects
    straight = 2 * 0.2 * 1.6 if correction == "wear" else 0.0
    assert path.moves.lengths()[lead].sum() == pytest.approx(2 * 0.5 * math.pi * 3.2 + straight, rel=0.01)

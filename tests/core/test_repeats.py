"""Repeats and named areas: operations made again at other places, in the same sense; areas named once."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely.affinity import affine_transform
from shapely.geometry import LineString, Polygon

from fenrik.core.errors import FenrikError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.document.repeats import RepeatDoc
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.repeating import joined, mirrored_over, placed, turned_about
from fenrik.core.stock.heightmap import pieces_of
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled
from tests.core.test_posting import some_path
from tests.core.test_profile import rounded_box

DRILL = make_tool("drill", 8.0, number=2, point_deg=118.0, flute_length=40.0, stick_out=60.0)
MILL = make_tool("flat", 6.0, number=1, flute_length=26.0, stick_out=40.0)
where = st.tuples(st.floats(-50, 50), st.floats(-50, 50))


@given(point=where, centre=where, degrees=st.floats(-360, 360), shift=where)
def test_turns_and_mirrors_are_those_of_shapely(point, centre, degrees, shift):
    turned = turned_about(centre, degrees, shift).points(np.array([point]))[0]
    wanted = shapely.affinity.translate(
        shapely.affinity.rotate(shapely.Point(point), degrees, origin=centre), *shift
    )
    assert np.allclose(turned, [wanted.x, wanted.y], atol=1e-9)
    mirror = mirrored_over(centre, degrees)
    image = mirror.points(np.array([point]))
    assert np.allclose(mirror.points(image)[0], point, atol=1e-9)  # twice is nothing
    line = LineString([np.array(centre) - 500 * _along(degrees), np.array(centre) + 500 * _along(degrees)])
    assert line.distance(shapely.Point(image[0])) == pytest.approx(
        line.distance(shapely.Point(point)), abs=1e-9
    )
    middle = shapely.Point((image[0] + point) / 2)
    assert line.distance(middle) < 1e-9


def _along(degrees):
    return np.array([np.cos(np.radians(degrees)), np.sin(np.radians(degrees))])


@settings(max_examples=40, deadline=None)
@given(
    seed=st.integers(0, 10_000),
    degrees=st.sampled_from([0.0, 90.0, 180.0, 37.0, -120.0]),
    shift=where,
    mirror=st.booleans(),
)
def test_a_placed_path_is_the_path_there_arcs_and_all(seed, degrees, shift, mirror):
    path = some_path(seed)
    place = mirrored_over(shift, degrees) if mirror else turned_about((3.0, -2.0), degrees, shift)
    other = placed(path, place, 1e-4)
    (a, b), (c, d) = place.turn
    matrix = [a, b, 0, c, d, 0, 0, 0, 1, *place.shift, 0]
    (line, want) = (
        LineString(np.vstack([(q := pieces_of(p, 2e-3)[0])[:1, :3], q[:, 3:]])) for p in (path, other)
    )
    line = affine_transform(line, matrix)
    assert line.length == pytest.approx(want.length, rel=1e-3)
    off = shapely.distance(shapely.points(shapely.get_coordinates(line)), want)
    assert off.max() < 5e-3  # in plan view, both sides of chords 0.002 mm off their arcs
    depths = [shapely.get_coordinates(part, include_z=True)[:, 2] for part in (line, want)]
    assert depths[0].min() == pytest.approx(depths[1].min(), abs=5e-3)


def test_joined_paths_keep_their_moves_and_go_over_between_them():
    parts = [some_path(1), some_path(2)]
    whole = joined(parts)
    assert len(whole) >= len(parts[0]) + len(parts[1])
    between = slice(len(parts[0]), len(whole) - len(parts[1]) + 1)
    assert (whole.kind[between] == Motion.RAPID).all()
    top = max(parts[0].tip[-1, 2], parts[1].tip[0, 2])
    over = whole.tip[between]
    assert all(np.allclose(p[:2], parts[1].tip[0, :2]) or p[2] == pytest.approx(top) for p in over)
    assert np.allclose(whole.tip[-len(parts[1]) :], parts[1].tip)


@pytest.mark.parametrize(
    ("how", "wanted"),
    [
        ({"kind": "polar", "count": 4}, [(10, 0), (0, 10), (-10, 0), (0, -10)]),
        (
            {"kind": "polar", "count": 3, "step_deg": 90.0, "centre": [10.0, 5.0]},
            [(10, 0), (15, 5), (10, 10)],
        ),
        ({"kind": "linear", "count": 3, "step": [5.0, -2.0]}, [(10, 0), (15, -2), (20, -4)]),
        (
            {"kind": "grid", "columns": 2, "rows": 2, "step_x": 7.0, "step_y": 3.0},
            [(10, 0), (17, 0), (17, 3), (10, 3)],
        ),
        ({"kind": "listed", "at": [[1.0, 2.0, 0.0], [0.0, 0.0, 180.0]]}, [(10, 0), (11, 2), (-10, 0)]),
        ({"kind": "mirror", "point": [4.0, 0.0]}, [(10, 0), (-2, 0)]),
    ],
)
def test_places_are_where_the_words_say(how, wanted):
    repeat = RepeatDoc(name="r", operations=["a"], how=how)
    assert np.allclose([p.points(np.array([[10.0, 0.0]]))[0] for p in repeat.places()], wanted)
    some = RepeatDoc(name="r", operations=["a"], how=how, leave_out=[1])
    assert np.allclose([p.points(np.array([[10.0, 0.0]]))[0] for p in some.places()], wanted[1:])


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    """60 x 40 x 20 with two pockets 8 deep, each other's mirror in X = 30, their corners of radius 5; a step
    in each."""
    pockets = [rounded_box(5, 5, 12, 20, 30, 8, 5.0), rounded_box(35, 5, 12, 20, 30, 8, 5.0)]
    return drilled(
        tmp_path_factory.mktemp("block"),
        [*pockets, cylinder(5, 20, 12, 3.5, 8), cylinder(55, 20, 12, 3.5, 8)],
    )


def planner(file, operations, repeats=(), tools=(MILL, DRILL), **setup):
    data = {
        "fenrik": 1,
        "name": "repeats",
        "part": {"file": file.name},
        "proof": {"cell_mm": 0.5},
        "tools": [t.model_dump(mode="json") for t in tools],
        "setups": [{"name": "Top", "operations": operations, "repeats": list(repeats), **setup}],
    }
    return open_job(job_from_data(data), file.parent, MemoryStore())


def left_floor(plan):
    floors = [
        f
        for f in plan.workspace.part().faces
        if f.kind == "plane" and f.normal is not None and f.normal[2] > 0.9
    ]
    return next(f.id for f in floors if f.high[0] < 30 and f.low[2] < 15)


def loops(path):
    """The closed ways that the tool goes around at full depth, as polygons with their sense."""
    pieces, owner = pieces_of(path)
    cut = (path.kind[1:][owner] == Motion.FEED) & (np.abs(pieces[:, 5] - path.tip[:, 2].min()) < 1e-6)
    runs = path.run[1:][owner]
    breaks = np.flatnonzero(np.diff(cut.astype(int)) | np.diff(runs)) + 1
    out = []
    for part in np.split(np.arange(len(cut)), breaks):
        if cut[part[0]] and len(part) > 8:
            out.append(Polygon(pieces[part, 3:5]))
    return [p for p in out if p.area > 20.0]


@pytest.mark.parametrize("spindle", ["clockwise", "counter_clockwise"])
def test_a_mirrored_profile_climbs_as_the_first_does_and_comes_out_on_size(block, spindle):
    first = planner(block, [])
    rough = {
        "name": "Rough",
        "strategy": "level_roughing",
        "tool": 1,
        "parameters": {"step_down": 4.0, "allowance_radial": 0.3},
    }
    wall = {
        "name": "Wall",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"face": left_floor(first)}],
        "spindle": spindle,
        "parameters": {"step_down": 10.0},
    }
    mirror = {"name": "Both", "operations": ["Wall"], "how": {"kind": "mirror"}}
    plan = planner(block, [rough, wall], [mirror])
    setup = plan.job.setups[0]
    path = plan.path(setup, setup.operations[1])
    found = loops(path)
    left, right = ([p for p in found if (p.centroid.x < 0) == side] for side in (True, False))
    assert left and len(left) == len(right)
    # inside a pocket a tool that turns clockwise climbs counter-clockwise (common practice, no source)
    climbs = spindle == "clockwise"
    assert all(p.exterior.is_ccw == climbs for p in found)
    facts = Prover(plan).prove(plan.job.effective_releases()[0]).facts
    assert not [f for f in facts["findings"] if f["severity"] == "stop"]
    assert any("runs the other way round in its mirror" in f["words"] for f in facts["findings"])
    if climbs:
        share = {f["face"]: f["share_on_size"] for f in facts["deviation"]["by_face"]}
        walls = [
            f
            for f in plan.workspace.part().faces
            if f.kind == "plane" and f.normal and abs(f.normal[1]) > 0.9 and f.low[2] > 11
        ]
        assert len(walls) == 4 and all(share[f.id] > 0.98 for f in walls)


def test_holes_are_repeated_as_cycles(block):
    hole = {
        "name": "Drill",
        "strategy": "drilling",
        "tool": 2,
        "parameters": {"cycle": "drill"},
        "holes": [{"at": [26.0, 14.0], "top": -1.0, "diameter": 8.0, "depth": 5.0}],
    }
    repeat = {
        "name": "Corners",
        "operations": ["Drill"],
        "how": {"kind": "grid", "columns": 2, "rows": 2, "step_x": -52.0, "step_y": -28.0},
        "leave_out": [3],
    }
    plan = planner(block, [hole], [repeat])
    posted = Prover(plan).post(plan.job.effective_releases()[0])
    assert posted.findings == [] and len(posted.program.steps[0].path.cycles) == 3
    deep = posted.motion.tip[posted.motion.tip[:, 2] < -5]
    assert {(round(float(x), 3), round(float(y), 3)) for x, y, _ in deep} == {
        (26.0, 14.0),
        (-26.0, 14.0),
        (-26.0, -14.0),
    } - {(-26.0, -14.0)} | {(26.0, -14.0)}


def test_a_thread_is_not_mirrored(block):
    tap = make_tool(
        "tap", 6.0, number=3, thread_pitch=1.0, flute_length=20.0, stick_out=50.0, shank_diameter=4.5
    )
    thread = {
        "name": "Tap",
        "strategy": "tapping",
        "tool": 3,
        "holes": [{"at": [20.0, 0.0], "top": -1.0, "diameter": 5.0, "depth": 12.0}],
    }
    plan = planner(block, [thread], [{"name": "M", "operations": ["Tap"], "how": {"kind": "mirror"}}], (tap,))
    with pytest.raises(FenrikError, match="mirrored thread has the other hand"):
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])


@pytest.mark.parametrize(
    ("repeats", "words"),
    [
        (
            [{"name": "r", "operations": ["No"], "how": {"kind": "mirror"}}],
            "'No', which the setup does not have",
        ),
        (
            [{"name": n, "operations": ["A"], "how": {"kind": "mirror"}} for n in "rs"],
            "repeated operation 'A' is used twice",
        ),
        (
            [{"name": "r", "operations": ["A"], "how": {"kind": "mirror"}, "leave_out": [1, 2]}],
            "Every place is left out",
        ),
        ([{"name": "r", "operations": ["A"], "how": {"kind": "mirror"}, "leave_out": [3]}], "no place 3"),
        (
            [
                {
                    "name": "r",
                    "operations": ["A"],
                    "how": {"kind": "grid", "columns": 1, "rows": 1, "step_x": 1, "step_y": 1},
                }
            ],
            "1 x 1 places",
        ),
    ],
)
def test_repeats_that_cannot_be_are_refused(block, repeats, words):
    with pytest.raises(FenrikError, match=words):
        planner(block, [{"name": "A", "strategy": "facing", "tool": 1}], repeats)


def test_a_named_area_is_what_it_stands_for(block):
    polygon = [[-25.0, -15.0], [0.0, -15.0], [0.0, 15.0], [-25.0, 15.0]]
    rough = {"name": "Rough", "strategy": "level_roughing", "tool": 1, "parameters": {"step_down": 4.0}}
    inline = planner(block, [{**rough, "keep_in": [{"polygon": polygon, "offset": 2.5}]}])
    area = {"name": "Left half", "of": [{"polygon": polygon, "offset": 0.5}]}
    named = planner(block, [{**rough, "keep_in": [{"area": "Left half", "offset": 2.0}]}], areas=[area])
    keys = [p.keys.path(p.job.setups[0], p.job.setups[0].operations[0]) for p in (inline, named)]
    assert keys[0] == keys[1]
    with pytest.raises(
        FenrikError, match=r"uses the area 'Right', which the setup does not have; its areas are Left half"
    ):
        planner(block, [{**rough, "keep_out": [{"area": "Right"}]}], areas=[area])


@pytest.mark.parametrize("strategy", ["drilling", "bore_milling"])
def test_what_an_error_offers_works(block, strategy):
    def plan(diameter):
        tool = make_tool("flat", diameter, flute_length=30.0, stick_out=45.0)
        hole = {"at": [-16.0, 5.0], "top": -1.0, "diameter": 8.0, "depth": 6.0}
        parameters = {"cycle": "counterbore"} if strategy == "drilling" else {}
        return planner(
            block,
            [{"name": "A", "strategy": strategy, "tool": 1, "holes": [hole], "parameters": parameters}],
            tools=(tool,),
        )

    wide = plan(12.0)
    with pytest.raises(FenrikError) as caught:
        wide.path(wide.job.setups[0], wide.job.setups[0].operations[0])
    assert caught.value.where == "setups[0].operations[0]"
    most = caught.value.as_dict()["offer"]["tool_at_most"]
    good = plan(most)
    assert len(good.path(good.job.setups[0], good.job.setups[0].operations[0])) > 3

"""Broken edges: width, height and tip by geometry, chamfers of the model, neighbours, and the proof's own
measure."""

import math

import numpy as np
import pytest
from shapely.geometry import LineString, box

from fenrik.core.errors import FenrikError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from fenrik.core.proof.edges import EdgeZone
from tests.conftest import MODELS, make_tool
from tests.core.test_holes import cone, cylinder, drilled
from tests.core.test_profile import cutting, off

TOOL = make_tool("chamfer", 10.0, point_deg=90.0, flute_length=8.0, number=1, stick_out=40.0)
BLOCK = box(-30.0, -20.0, 30.0, 20.0)


def planner(file, walls, tool=TOOL, rough=(), cell=0.25, **parameters):
    """Program zero is the middle of the top of a block that is as large as the part."""
    doc = {"name": "Edges", "strategy": "edge_breaking", "tool": 1, "walls": walls, "parameters": parameters}
    none = {s: 0.0 for s in ("x_low", "x_high", "y_low", "y_high", "z_low", "z_high")}
    data = {
        "fenrik": 1,
        "name": "edges",
        "part": {"file": file.name},
        "tools": [
            tool.model_dump(mode="json"),
            make_tool("flat", 6.0, number=2, flute_length=26.0, stick_out=40.0).model_dump(mode="json"),
        ],
        "setups": [{"name": "Top", "stock": {"kind": "box", "allowance": none}, "operations": [*rough, doc]}],
        "proof": {"cell_mm": cell},
    }
    return open_job(job_from_data(data), file.parent, MemoryStore())


def path_of(plan):
    setup = plan.job.setups[0]
    return plan.path(setup, setup.operations[-1])


def face(plan, normal, height):
    """The level face at a height of the part, or another by its normal."""
    found = [
        f
        for f in plan.workspace.part().faces
        if f.kind == "plane" and f.normal is not None and np.allclose(f.normal, normal, atol=1e-6)
    ]
    return next(f.id for f in found if height is None or abs(f.origin[2] - height) < 1e-6)


@pytest.mark.parametrize(("width", "below", "point"), [(0.5, 0.4, 90.0), (1.0, 1.0, 90.0), (0.8, 0.5, 60.0)])
def test_tip_and_middle_follow_from_width_and_point(tmp_path, width, below, point):
    file = drilled(tmp_path, [])
    tool = make_tool("chamfer", 10.0, point_deg=point, flute_length=10.0, stick_out=40.0)
    plan = planner(file, [{"face": face(planner(file, []), [0, 0, 1], 20.0)}], tool, width=width, below=below)
    path = path_of(plan)
    points = cutting(path)
    tan = math.tan(math.radians(point / 2))
    assert points[:, 2] == pytest.approx(-width / tan - below, abs=1e-6)
    assert off(points, BLOCK) == pytest.approx(below * tan, abs=0.01)
    a, b = path.tip[:-1][path.kind[1:] == Motion.FEED], path.tip[1:][path.kind[1:] == Motion.FEED]
    assert (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() < 0  # climb, common practice, no source


def test_a_sharp_edge_is_broken_by_its_width_and_that_is_no_overcut(tmp_path):
    file = drilled(tmp_path, [])
    top = face(planner(file, []), [0, 0, 1], 20.0)
    plan = planner(file, [{"face": top}], width=1.1, below=0.6)
    proof = Prover(plan).prove(plan.job.effective_releases()[0])
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] < 0.02
    # a prism of width²/2 round about, less what its corners share (a third of width³ each, by Cavalieri)
    wanted = 0.5 * 1.1**2 * 200.0 - 4 * 1.1**3 / 3.0
    assert proof.facts["removed_mm3"] == pytest.approx(wanted, rel=0.03)


def test_a_chamfer_cut_too_deep_is_still_overcut():
    zone = EdgeZone(LineString([(0, 0), (10, 0)]), 0.0, 1.0, 1.0)
    on, deep = np.array([[5.0, 0.5, -0.5]]), np.array([[5.0, 0.6, -0.6]])
    assert zone.corrected(on, np.array([-0.5])) == pytest.approx([0.0])
    assert zone.corrected(deep, np.array([-0.6])) == pytest.approx([-0.2 / math.sqrt(2)])
    far = np.array([[5.0, 3.0, -0.5], [5.0, 0.5, -4.0]])
    assert zone.corrected(far, np.array([-0.5, -0.5])).tolist() == [-0.5, -0.5]


def test_a_chamfer_of_the_model_is_cut_to_size(tmp_path):
    file = drilled(tmp_path, [cylinder(30, 20, 0, 8.0, 20), cone(30, 20, 19.0, 8.0, 9.0, 1.0)])
    lean = next(f.id for f in planner(file, []).workspace.part().faces if f.kind == "cone")
    bore = {
        "name": "Bore",
        "strategy": "bore_milling",
        "tool": 2,
        "holes": [{"at": [0, 0], "diameter": 16.0, "depth": 20.0, "through": True}],
    }
    plan = planner(file, [{"face": lean}], rough=[bore], below=0.5)
    points = cutting(path_of(plan))
    assert points[:, 2] == pytest.approx(-1.5, abs=1e-6)
    assert np.hypot(points[:, 0], points[:, 1]) == pytest.approx(7.5, abs=0.011)
    proof = Prover(plan).prove(plan.job.effective_releases()[0])
    assert proof.stops() == [] and proof.facts["deviation"]["max_overcut_mm"] <= 0.011
    assert {f["face"]: f for f in proof.facts["deviation"]["by_face"]}[lean]["share_on_size"] > 0.97


def test_what_would_touch_a_neighbouring_wall_is_left_and_named(tmp_path):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    # a step 4 mm wide under a wall 10 mm high: the cutter, 10 mm wide, cannot stand over the step's lower
    # edge
    step = BRepPrimAPI_MakeBox(gp_Pnt(0, 36, 10), 60.0, 4.0, 10.0).Shape()
    groove = BRepPrimAPI_MakeBox(gp_Pnt(20, 0, 14), 4.0, 36.0, 6.0).Shape()
    file = drilled(tmp_path, [step, groove])
    low, high = (face(planner(file, []), [0, 0, 1], z) for z in (10.0, 20.0))
    with pytest.raises(FenrikError, match="none of the edges"):
        path_of(planner(file, [{"face": low}], width=0.5, below=0.5))
    path = path_of(planner(file, [{"face": low}, {"face": high}], width=0.5, below=0.5))
    assert cutting(path)[:, 2] == pytest.approx(-1.0, abs=1e-6)
    (left,) = [n for n in path.notes if n.kind == "edge_left"]
    assert left.place[2] == pytest.approx(-10.0)


def test_several_passes_come_nearer_in_even_steps_also_inside(tmp_path):
    file = drilled(tmp_path, [cylinder(30, 20, 0, 8.0, 20), cone(30, 20, 18.5, 8.0, 9.5, 1.5)])
    lean = next(f.id for f in planner(file, []).workspace.part().faces if f.kind == "cone")
    path = path_of(planner(file, [{"face": lean}], passes=3, below=0.5))
    middles = [
        float(np.hypot(*path.tip[(path.run == run) & (path.kind == Motion.FEED), :2].T).mean())
        for run in sorted({int(r) for r in path.run[path.kind == Motion.FEED]})
    ]
    assert middles == pytest.approx([6.5, 7.0, 7.5], abs=0.011)  # a third of 1.5 mm each


def test_a_piece_of_an_edge_beside_a_wall_is_left_and_the_rest_is_cut(tmp_path):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    # half of the block stands 10 mm lower: its edges along Y = 0 and 40 run up to the wall at X = 30
    file = drilled(tmp_path, [BRepPrimAPI_MakeBox(gp_Pnt(30, 0, 10), 30.0, 40.0, 10.0).Shape()])
    low = [{"face": face(planner(file, []), [0, 0, 1], 10.0)}]
    # the shank is as thick as the cutter: where stock stood higher than its flutes, the edge would be left
    exact = {"allowance_radial": 0.0, "allowance_axial": 0.0}
    rough = [{"name": "Rough", "strategy": "level_roughing", "tool": 2, "parameters": exact}]
    with pytest.raises(FenrikError, match="shank of tool 1 would touch all along"):
        path_of(planner(file, low, width=0.5, below=0.5))
    path = path_of(planner(file, low, rough=rough, width=0.5, below=0.5))
    points = cutting(path)
    assert points[:, 0].max() == pytest.approx(30.5, abs=0.05)
    beside = points[np.abs(points[:, 1]) > 20.4]
    assert 4.0 < beside[:, 0].min() < 5.2  # the cutter, 10 mm wide, keeps off the wall
    assert [n.kind for n in path.notes if n.kind == "edge_left"] == ["edge_left"]


@pytest.mark.parametrize(
    ("change", "word"),
    [
        ({"below": 0.01}, "thick there"),
        ({"width": 4.0, "below": 2.0}, "needs a cone"),
        ({"walls": []}, "has no edges"),
        ({"walls": [{"face": 999}]}, "does not exist"),
    ],
)
def test_what_cannot_be_is_named_with_a_remedy(tmp_path, change, word):
    file = drilled(tmp_path, [])
    walls = change.pop("walls", [{"face": face(planner(file, []), [0, 0, 1], 20.0)}])
    with pytest.raises(FenrikError) as caught:
        path_of(planner(file, walls, **change))
    assert word in caught.value.message and caught.value.remedy


def test_a_chamfer_of_another_angle_asks_for_its_tool(tmp_path):
    file = drilled(tmp_path, [cylinder(30, 20, 0, 8.0, 20), cone(30, 20, 18.0, 8.0, 9.0, 2.0)])
    lean = next(f.id for f in planner(file, []).workspace.part().faces if f.kind == "cone")
    with pytest.raises(FenrikError, match=r"53\.1"):
        path_of(planner(file, [{"face": lean}]))


def edge(plan, kind, *ends):
    """The edge of a kind whose ends are as given, in either order, in the part frame; of a circle its centre
    and radius."""
    for e in plan.workspace.part().edges:
        if e.kind != kind:
            continue
        if kind == "circle":
            if np.allclose(e.centre, ends[0]) and abs(e.radius - ends[1]) < 1e-6:
                return e.id
        elif {tuple(np.round(p, 6)) for p in (e.start, e.end)} == set(ends):
            return e.id
    raise AssertionError(ends)


def test_one_edge_is_broken_and_the_others_stay(tmp_path):
    plan = planner(drilled(tmp_path, []), [])
    right = edge(plan, "line", (60.0, 0.0, 20.0), (60.0, 40.0, 20.0))
    plan = planner(tmp_path / "block.step", [{"edge": right}], width=1.1, below=0.6)
    points = cutting(path_of(plan))
    assert points[:, 0] == pytest.approx(30.6, abs=0.01) and points[:, 2] == pytest.approx(-1.7, abs=1e-6)
    assert np.ptp(points[:, 1]) == pytest.approx(40.0, abs=0.3)
    proof = Prover(plan).prove(plan.job.effective_releases()[0])
    assert proof.stops() == []
    # a prism of width²/2 along the edge
    assert proof.facts["removed_mm3"] == pytest.approx(0.5 * 1.1**2 * 40.0, rel=0.03)


def test_the_mouth_of_a_bore_is_an_edge(tmp_path):
    file = drilled(tmp_path, [cylinder(20, 20, 5, 6.0, 15)])
    mouth = edge(planner(file, []), "circle", (20.0, 20.0, 20.0), 6.0)
    points = cutting(path_of(planner(file, [{"edge": mouth}], width=0.4, below=0.5)))
    away = np.hypot(points[:, 0] + 10.0, points[:, 1])
    assert away == pytest.approx(6.0 - 0.5, abs=0.01)


def test_a_profile_along_an_edge_is_that_along_its_wall(tmp_path):
    from tests.core.test_profile import OUTLINE
    from tests.core.test_profile import planner as along

    plan = along(drilled(tmp_path, []), OUTLINE)
    wall = face(plan, [1, 0, 0], None)
    foot = edge(plan, "line", (60.0, 0.0, 0.0), (60.0, 40.0, 0.0))
    paths = [path_of(along(tmp_path / "block.step", [pick])) for pick in ({"face": wall}, {"edge": foot})]
    assert np.allclose(paths[0].tip, paths[1].tip, atol=1e-9)


def test_edges_are_broken_in_every_part_of_an_array(tmp_path):
    plan = planner(drilled(tmp_path, []), [])
    right = edge(plan, "line", (60.0, 0.0, 20.0), (60.0, 40.0, 20.0))
    doc = planner(tmp_path / "block.step", [{"edge": right}]).job.model_dump(mode="json")
    doc["setups"][0] |= {"array": {"columns": 2, "rows": 1, "gap_x": 15.0, "gap_y": 15.0}}
    plan = open_job(job_from_data(doc), tmp_path, MemoryStore())
    points = cutting(path_of(plan))
    middle = 0.5 * (points[:, 0].min() + points[:, 0].max())
    assert points[points[:, 0] > middle, 0].min() - points[points[:, 0] < middle, 0].max() == pytest.approx(
        75.0, abs=1e-3
    )


@pytest.mark.parametrize(
    ("ends", "word"),
    [
        (((60.0, 0.0, 0.0), (60.0, 40.0, 0.0)), "No wall falls from edge"),
        (((60.0, 0.0, 0.0), (60.0, 0.0, 20.0)), "is not level"),
        (None, "does not exist: the part has 12 edges"),
    ],
)
def test_an_edge_that_cannot_be_broken_is_named(tmp_path, ends, word):
    plan = planner(drilled(tmp_path, []), [])
    number = 99 if ends is None else edge(plan, "line", *ends)
    plan = planner(tmp_path / "block.step", [{"edge": number}])
    with pytest.raises(FenrikError, match=word) as met:
        path_of(plan)
    assert met.value.where == "setups[0].operations[0].walls[0].edge"
    assert met.value.remedy


def test_a_wall_pick_is_one_thing():
    from fenrik.core.job.document.picks import WallPick

    for wrong in ({}, {"face": 1, "edge": 2}, {"edge": 2, "outline": True}):
        with pytest.raises(ValueError, match="give one of face, edge and outline"):
            WallPick(**wrong)


@pytest.mark.parametrize(
    ("part", "edge"),
    [("plate_b", 15), ("plate_b", 18), ("plate_b", 26), ("bearing_bracket", 2), ("bearing_bracket", 43)],
)
def test_an_edge_ends_where_the_cone_would_reach_what_is_not_picked(part, edge):
    """Edges that run on smoothly, into an inner corner, and round a boss beside a rib, each picked alone:
    only they are broken, as the proof with its own measure says."""
    long = make_tool("chamfer", 10.0, point_deg=90.0, flute_length=45.0, number=1, stick_out=60.0)
    plan = planner(MODELS / f"{part}.step", [{"edge": edge}], long, cell=0.6, width=0.3)
    proof = Prover(plan).prove(plan.job.effective_releases()[0])
    stops = [f for f in proof.facts["findings"] if f["severity"] == "stop"]
    assert [f["words"] for f in stops if f["kind"] != "bending"] == []  # it cuts deep in full stock
    assert proof.facts["deviation"]["max_overcut_mm"] < 0.005
    path = path_of(plan)
    picked = plan.workspace.part().edges[edge - 1]
    driven = path.moves.lengths()[path.kind == Motion.FEED].sum()
    assert driven > 0.3 * picked.length


def test_a_way_of_which_only_the_way_down_is_left_is_a_failure():
    """The shank would touch all along the edge, 20 mm down in full stock."""
    plan = planner(MODELS / "bearing_bracket.step", [{"edge": 2}], width=0.3)
    with pytest.raises(FenrikError, match="all along the way"):
        path_of(plan)


def test_edges_that_are_not_broken_at_all_are_counted_and_stop_the_program():
    plan = planner(MODELS / "plate_b.step", [{"edge": 15}, {"edge": 9}, {"edge": 17}], cell=1.5)
    proof = Prover(plan).prove(plan.job.effective_releases()[0])
    (told,) = [f for f in proof.facts["findings"] if f["kind"] == "missing_edges"]
    assert told["severity"] == "stop"
    assert told["words"].startswith("'Edges' breaks 2 of 3: edge 9 at ")

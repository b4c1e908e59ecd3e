"""Finishing against exact bodies: inner corners, constant-Z passes, steep and flat together; what a tool is
too short for."""

import math

import numpy as np
import pytest
import trimesh

from fenrik.core.cutting.clearance import Reach, kept_clear
from fenrik.core.cutting.creases import creases
from fenrik.core.cutting.drop import DropCutter, Profile
from fenrik.core.cutting.topology import prepare
from fenrik.core.errors import ComputeError, DocumentError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.planes import Plane
from fenrik.core.proof.reach import reachable
from fenrik.core.stock.heightmap import HeightMap, pieces_of
from fenrik.core.strategies.kit.linking import Linker, flutes_over
from fenrik.core.strategies.kit.touching import cut_out, dense_track
from tests.conftest import make_tool, mesh_of

BALL = make_tool("ball", 6)


def surface(height, size=40.0, n=81):
    """A height field over a square as a mesh of the core."""
    x, y = np.meshgrid(np.linspace(-size / 2, size / 2, n), np.linspace(-size / 2, size / 2, n))
    index = np.arange(n * n).reshape(n, n)
    a, b, c, d = (index[s].ravel() for s in (np.s_[:-1, :-1], np.s_[:-1, 1:], np.s_[1:, 1:], np.s_[1:, :-1]))
    vertices = np.column_stack([x.ravel(), y.ravel(), height(x, y).ravel()])
    faces = np.vstack([np.column_stack([a, b, c]), np.column_stack([a, c, d])])
    return mesh_of(trimesh.Trimesh(vertices, faces, process=False))


def pocket(size=30.0, wall=20.0, depth=8.0, floor=4.0):
    """A square pocket with sharp corners in a block, exact planes."""
    block = trimesh.creation.box((size + wall, size + wall, depth + floor))
    block.apply_translation((0, 0, -(depth + floor) / 2))
    hole = trimesh.creation.box((size, size, depth))
    hole.apply_translation((0, 0, -depth / 2 + 1e-9))
    return trimesh.boolean.difference([block, hole], engine="manifold")


def job_of(folder, body, operations, tools, **more):
    body.export(folder / "body.stl")
    setup = {"name": "Top", "operations": operations, "stock": more.pop("stock", {"kind": "box"})}
    document = {
        "fenrik": 1,
        "name": "finishing",
        "part": {"file": "body.stl"},
        "setups": [setup],
        "tools": [t.model_dump() for t in tools],
        "proof": {"cell_mm": 0.25, "tolerance_mm": 0.03},
        **more,
    }
    return open_job(job_from_data(document), folder, MemoryStore())


@pytest.mark.parametrize("angle_deg", [0.0, 17.0, 45.0, 80.0])
def test_the_valley_of_a_groove_is_found_where_it_is(angle_deg):
    """Two planes of 30° meet in a line: a ball touches both exactly over it."""
    c, s = math.cos(math.radians(angle_deg)), math.sin(math.radians(angle_deg))
    # facets along the line, so that it is exact whatever its direction
    across, along = np.array([-20.0, 0.3, 20.6]), np.array([-40.0, 40.0])
    u, v = np.meshgrid(across, along)
    z = np.abs(u - 0.3) * math.tan(math.radians(30))
    vertices = np.column_stack([(u * c - v * s).ravel(), (u * s + v * c).ravel(), z.ravel()])
    faces = [[0, 1, 4], [0, 4, 3], [1, 2, 5], [1, 5, 4]]
    cutter = DropCutter(prepare(mesh_of(trimesh.Trimesh(vertices, faces, process=False))), Profile(3, 3))
    lines = creases(cutter, np.array([-10.0, -10.0]), np.array([10.0, 10.0]), 0.4, math.radians(20), -50.0)
    assert len(lines) == 1
    off = lines[0] @ np.array([c, s]) - 0.3
    assert np.median(np.abs(off)) < 2e-4 and np.abs(off).max() < 3e-3  # a hundredth of the grid at the ends
    length = np.hypot(*(lines[0][-1] - lines[0][0]))
    assert length > 18.0


def test_a_smooth_bowl_has_no_inner_corner():
    cutter = DropCutter(prepare(surface(lambda x, y: 0.02 * (x**2 + y**2))), Profile(3, 3))
    assert (
        creases(cutter, np.array([-15.0, -15.0]), np.array([15.0, 15.0]), 0.5, math.radians(20), -50.0) == []
    )


def test_the_corner_of_a_pocket_floor_is_followed_a_radius_from_the_walls():
    cutter = DropCutter(prepare(mesh_of(pocket())), Profile(3, 3))
    lines = creases(cutter, np.array([-16.0, -16.0]), np.array([16.0, 16.0]), 0.4, math.radians(20), -50.0)
    points = np.concatenate(lines)
    inside = np.abs(points).max(axis=1)
    assert np.median(np.abs(inside - 12.0)) < 5e-3  # 15 less the ball's radius, a hair off the wall
    assert sum(np.hypot(*np.diff(line, axis=0).T).sum() for line in lines) > 0.9 * 4 * 24.0


def plan_of_cone(folder, tool, **parameters):
    """A cone of 60° on a plate: radius 12 at Z -20.8, tip at 0 less a flat of radius 2."""
    slope = math.tan(math.radians(60))
    profile = [(0, 0), (2, 0), (12, -10 * slope), (20, -10 * slope), (20, -25), (0, -25)]
    cone = trimesh.creation.revolve(np.array(profile[::-1], dtype=float), sections=720)
    values = {"spaced_by": "step", "step_down": 2.0, "flat_levels": False, **parameters}
    operation = {"name": "Walls", "strategy": "constant_z", "tool": 1, "parameters": values}
    plan = job_of(folder, cone, [operation], [tool])
    setup = plan.job.setups[0]
    path = plan.path(setup, setup.operations[0])
    top = plan.setups.clamped(setup).part_high[2]  # program zero lies on the stock
    moved = path.with_moves(tip=path.tip - [0, 0, top])
    return plan, moved, slope


@pytest.mark.parametrize("kind", ["ball", "flat", "corner"])
def test_constant_z_runs_at_the_exact_offset_of_a_cone(tmp_path, kind):
    """A cutter with corner radius r touches a cone of slope a: its corner's centre is r off along the
    normal."""
    tool = make_tool(kind, 6, 1.0 if kind == "corner" else 0.0)
    _, path, slope = plan_of_cone(tmp_path, tool)
    a = math.atan(slope)
    r, flat = tool.corner_radius, tool.radius - tool.corner_radius
    level = np.concatenate([[False], np.diff(path.tip[:, 2]) == 0.0])  # not on the ramps
    rows = level & (path.kind == Motion.FEED) & (path.tip[:, 2] < -3.0 - r) & (path.tip[:, 2] > -15.0)
    tip = path.tip[rows]
    # the point of contact lies r (1 - cos a) over the tip and flat + r sin a inside the tool's axis
    contact_z = tip[:, 2] + r * (1 - math.cos(a))
    expected = 2.0 - contact_z / slope + flat + r * math.sin(a)
    off = np.hypot(tip[:, 0], tip[:, 1]) - expected
    assert rows.sum() > 15  # whole arcs
    assert off.min() > -0.006 and off.max() < 0.012  # never into the cone by more than its facets and chords


def test_constant_z_climbs_goes_down_and_ramps(tmp_path):
    """Common practice, no source: round an outside wall a clockwise spindle climbs clockwise (wall on the
    right)."""
    _, path, _ = plan_of_cone(tmp_path, BALL, ramp_deg=5.0)
    feed = path.kind == Motion.FEED
    turning = 0.0
    for i in np.flatnonzero(feed[1:]) + 1:
        (ax, ay), (bx, by) = path.tip[i - 1, :2], path.tip[i, :2]
        turning += math.atan2(ax * by - ay * bx, ax * bx + ay * by)
    assert turning < -2 * math.pi * 5
    z = path.tip[feed, 2]
    assert (np.diff(z) <= 1e-6).all()  # one region: only down
    step = np.diff(path.tip, axis=0)
    falls = feed[1:] & feed[:-1] & (step[:, 2] < -1e-9)
    slope = -step[falls, 2] / np.hypot(*step[falls, :2].T)
    assert falls.any() and slope.max() <= math.tan(math.radians(5.0)) + 1e-6


def test_a_helix_goes_down_without_a_level_step(tmp_path):
    _, path, _ = plan_of_cone(tmp_path, BALL, descent="helix")
    step = np.diff(path.tip, axis=0)
    falls = (path.kind[1:] == Motion.FEED) & (step[:, 2] < -1e-9)
    assert falls.sum() > 200


def test_nothing_steep_enough_says_what_to_change(tmp_path):
    plate = trimesh.creation.box((30, 30, 5))
    operation = {
        "name": "Walls",
        "strategy": "constant_z",
        "tool": 1,
        "keep_in": [{"polygon": [[-5, -5], [5, -5], [5, 5], [-5, 5]]}],
    }
    plan = job_of(tmp_path, plate, [operation], [BALL])
    with pytest.raises(ComputeError, match=r"steeper than 45.*") as raised:
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    assert "steep from" in raised.value.remedy


def dome_on_a_block(folder, operation, **tool):
    """A half ball of radius 10 on an upright round post of 12 mm under it, and its faces as a solid has them:
    (plan, path in program coordinates with the dome's foot at 0, ids of the dome's faces)."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Fuse
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    post = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(0, 0, -12), gp_Dir(0, 0, 1)), 10.0, 12.0).Shape()
    dome = BRepPrimAPI_MakeSphere(gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)), 10.0, 0.0, math.pi / 2).Shape()
    writer = STEPControl_Writer()
    writer.Transfer(BRepAlgoAPI_Fuse(post, dome).Shape(), STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(folder / "dome.step"))
    document = {
        "fenrik": 1,
        "name": "dome",
        "part": {"file": "dome.step"},
        "tools": [make_tool(**{"kind": "ball", "diameter": 6, **tool}).model_dump()],
        "setups": [{"name": "Top", "operations": []}],
    }
    part = open_job(job_from_data(document), folder, MemoryStore()).workspace.part()
    faces = [f.id for f in part.faces if f.kind == "sphere"]
    document["setups"][0]["operations"] = [{"name": "Finish", "tool": 1, "faces": faces, **operation}]
    plan = open_job(job_from_data(document), folder, MemoryStore())
    setup = plan.job.setups[0]
    path = plan.path(setup, setup.operations[0])
    top = plan.setups.clamped(setup).part_high[2]
    return plan, path.with_moves(tip=path.tip - [0, 0, top - 10.0])


SURFACES = [
    ("constant_z", {"steep_from_deg": 0.0, "flat_levels": False}, 1.0),
    ("parallel_finishing", {"spaced_by": "stepover", "stepover": 0.8, "arcs": False}, 1.0),
    ("constant_cusp", {"cusp": 0.05, "steep_to_deg": 85.0}, 5.0),
]
"""Strategies, their parameters, and how far over the dome's foot their lowest contact ends at most, mm."""


@pytest.mark.parametrize("kind", ["ball", "corner", "taper_ball"])
@pytest.mark.parametrize(("strategy", "parameters", "ends"), SURFACES, ids=[s[0] for s in SURFACES])
def test_a_surface_is_cut_where_the_chosen_faces_are_touched_and_nowhere_else(
    tmp_path, strategy, parameters, ends, kind
):
    """The contact of a ball on a sphere is exact: its centre lies on the sphere of both radii. On the post
    under the dome the tool's middle would be as far out, but lower than the contact allows."""
    tool = {"ball": {}, "corner": {"kind": "corner", "corner_radius": 1.0}}.get(kind)
    if tool is None:
        tool = {"kind": "taper_ball", "corner_radius": 1.0, "taper_deg": 5.0, "flute_length": 26.0}
    overlap = 0.3
    operation = {"strategy": strategy, "parameters": {**parameters, "face_overlap": overlap}}
    plan, path = dome_on_a_block(tmp_path, operation, **tool)
    assembly = plan.job.tools[0]
    rows = path.kind == Motion.FEED
    tips = path.tip[rows]
    assert len(tips) > 50
    corner = assembly.corner_radius
    # over the whole dome and, beyond its foot, no further down than the overlap
    assert tips[:, 2].max() > 9.5
    contact_at_foot = -corner
    assert tips[:, 2].min() >= contact_at_foot - overlap - 0.05
    assert tips[:, 2].min() < contact_at_foot + ends
    if kind == "ball":
        away = np.linalg.norm(tips + np.array([0, 0, corner]), axis=1)[tips[:, 2] + corner > 0]
        # ramps between levels lie over the dome
        assert away.min() > 12.98 and np.median(np.abs(away - 13.0)) < 0.01


def test_a_pass_on_chosen_faces_takes_a_share_of_what_it_took_to_the_foot(tmp_path):
    """The same dome with borders in plan view instead: every pass goes down the post to the table."""
    parameters = {"steep_from_deg": 30.0, "flat_levels": False}
    _, chosen = dome_on_a_block(tmp_path, {"strategy": "constant_z", "parameters": parameters})
    border = {"keep_in": [{"stock": True, "offset": 3.2}], "faces": []}
    _, all_of_it = dome_on_a_block(tmp_path, {"strategy": "constant_z", "parameters": parameters} | border)
    length = [p.moves.lengths()[p.kind == Motion.FEED].sum() for p in (chosen, all_of_it)]
    assert length[0] < 0.6 * length[1]
    assert chosen.tip[:, 2].min() > all_of_it.tip[:, 2].min() + 5.0


def test_a_bottom_over_the_chosen_faces_is_told_as_a_height_of_the_tip(tmp_path):
    operation = {
        "strategy": "constant_z",
        "heights": {"bottom": {"over": "part_top", "offset": 5.0}},
        "parameters": {"steep_from_deg": 45.0},
    }
    with pytest.raises(ComputeError, match=r"bottom .* Z .* height of the tip") as raised:
        dome_on_a_block(tmp_path, operation)
    assert "bottom" in raised.value.remedy


def test_a_face_that_does_not_exist_is_named(tmp_path):
    with pytest.raises(DocumentError, match=r"Face 99 does not exist"):
        dome_on_a_block(tmp_path, {"strategy": "constant_z", "faces": [99]})


def test_steep_and_flat_passes_cover_a_dome_without_a_gap(tmp_path):
    """A dome of radius 15: walls steeper than 45° by constant Z, the rest by parallel passes, 10 µm cusps;
    judged on the posted text by the stock."""
    angle = np.linspace(0, math.pi / 2, 90)
    dome = np.column_stack([15 * np.cos(angle), 15 * np.sin(angle)])
    profile = np.vstack([[0, -6], [22, -6], [22, 0], [15, 0], dome[1:-1], [0, 15]])
    body = trimesh.creation.revolve(profile, sections=360)
    keep = [{"polygon": [[-18.6, -18.6], [18.6, -18.6], [18.6, 18.6], [-18.6, 18.6]]}]
    rough = {"name": "Rough", "strategy": "level_roughing", "tool": 2, "parameters": {"step_down": 4.0}}
    steep = {
        "name": "Steep",
        "strategy": "constant_z",
        "tool": 1,
        "keep_in": keep,
        "parameters": {"steep_from_deg": 45.0},
    }
    flat = {
        "name": "Flat",
        "strategy": "parallel_finishing",
        "tool": 1,
        "keep_in": keep,
        "parameters": {"flat_to_deg": 45.0},
    }
    plan = job_of(
        tmp_path, body, [rough, steep, flat], [BALL, make_tool("flat", 10, number=2, flute_length=25)]
    )
    proof = Prover(plan).prove(plan.job.effective_releases()[0])
    deviation = proof.facts["deviation"]
    assert proof.stops() == []
    assert deviation["max_overcut_mm"] <= 0.011
    spots = [w for w in deviation["worst"] if np.hypot(*w["place"][:2]) < 14.0]
    assert spots == []  # no place on the dome is farther off than 30 µm


@pytest.mark.parametrize(("angle_deg", "plane"), [(0.0, Plane.ZX), (90.0, Plane.YZ), (30.0, None)])
def test_parallel_passes_over_a_dome_are_arcs_in_their_plane(tmp_path, angle_deg, plane):
    """The ball's centre runs at the exact distance R + r from the dome's; every pass over it is one or a few
    arcs."""
    angle = np.linspace(0, math.pi / 2, 90)
    dome = np.column_stack([15 * np.cos(angle), 15 * np.sin(angle)])
    body = trimesh.creation.revolve(
        np.vstack([[0, -6], [22, -6], [22, 0], [15, 0], dome[1:-1], [0, 15]]), sections=360
    )
    ends = [[-8.0, -8.0], [8.0, -8.0], [8.0, 8.0], [-8.0, 8.0]]
    moves = {}
    for arcs in (True, False) if plane is not None else (True,):
        values = {"spaced_by": "stepover", "stepover": 1.0, "angle_deg": angle_deg, "arcs": arcs}
        operation = {
            "name": "F",
            "strategy": "parallel_finishing",
            "tool": 1,
            "parameters": values,
            "keep_in": [{"polygon": ends}],
        }
        plan = job_of(tmp_path, body, [operation], [BALL])
        path = plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
        cut = path.kind == Motion.FEED
        moves[arcs] = int(cut.sum())
        pieces, owner = pieces_of(path, 1e-4)
        middle = plan.setups.clamped(plan.job.setups[0]).part_high[2] - 15.0
        driven = pieces[cut[1:][owner], 3:] + [0.0, 0.0, 3.0 - middle]  # the ball's centre
        off = np.linalg.norm(driven, axis=1) - 18.0
        assert (
            np.abs(off).max() <= plan.job.setups[0].operations[0].tolerance_mm + 0.0012
        )  # the facets' own sagitta
        assert set(path.plane[path.turn != 0].tolist()) == ({plane} if arcs and plane is not None else set())
    if plane is not None:
        assert moves[False] >= 2.5 * moves[True]


@pytest.mark.parametrize("strategy", ["parallel_finishing", "constant_cusp"])
def test_limits_of_steepness_keep_a_balls_middle_from_cutting(tmp_path, strategy):
    """On a dome the steepness is the contact's angle from the axis: asin(d / (R + r)) at the distance d."""
    angle = np.linspace(0, math.pi / 2, 90)
    dome_ = np.column_stack([15 * np.cos(angle), 15 * np.sin(angle)])
    body = trimesh.creation.revolve(
        np.vstack([[0, -6], [22, -6], [22, 0], [15, 0], dome_[1:-1], [0, 15]]), sections=360
    )
    if strategy == "parallel_finishing":
        values = {"flat_from_deg": 15.0, "flat_to_deg": 40.0, "overlap_deg": 0.0, "cusp": 0.05}
    else:
        values = {"steep_from_deg": 15.0, "steep_to_deg": 40.0, "cusp": 0.05}
    keep = [{"polygon": [[-12, -12], [12, -12], [12, 12], [-12, 12]]}]
    operation = {"name": "F", "strategy": strategy, "tool": 1, "parameters": values, "keep_in": keep}
    plan = job_of(tmp_path, body, [operation], [BALL])
    path = plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    pieces, owner = pieces_of(path, 1e-3)
    cut = pieces[(path.kind[1:] == Motion.FEED)[owner], 3:]
    steep = np.degrees(np.arcsin(np.clip(np.hypot(cut[:, 0], cut[:, 1]) / 18.0, 0, 1)))
    margin = 1.5 if strategy == "parallel_finishing" else 2.5  # half a stepover, or a cell of the grid
    assert steep.min() >= 15.0 - margin and steep.max() <= 40.0 + margin
    reach = margin + math.degrees(
        1.1 / 18.0
    )  # and nothing between lies farther from a pass than one stepover
    assert steep.min() <= 15.0 + reach and steep.max() >= 40.0 - reach


def walled():
    """A wall 30 mm high beside level ground, the wall at x = 0."""
    ground = trimesh.creation.box((40, 40, 5))
    ground.apply_translation((20, 0, -2.5))
    wall = trimesh.creation.box((10, 40, 35))
    wall.apply_translation((-5, 0, 12.5))
    return trimesh.boolean.union([ground, wall], engine="manifold")


def test_the_lack_of_shank_and_holder_is_exact():
    """Tool of 6 mm with a shank of 10 from 12 up and a holder of 30 from 25 up, along a wall of 30: at 4 mm
    from it the shank lacks 18 mm, at 10 mm only the holder, 5 mm, at 20 mm nothing."""
    tool = make_tool("flat", 6, flute_length=12.0, shank_diameter=10.0, stick_out=25.0)
    tool = tool.model_copy(
        update={"holder": [tool.holder[0].model_copy(update={"diameter_low": 30.0, "diameter_high": 30.0})]}
    )
    reach = Reach(prepare(mesh_of(walled())), tool)
    lack = reach.lack(np.array([[4.0, 0, 0], [10.0, 0, 0], [20.0, 0, 0]]))
    assert lack.shank == pytest.approx([18.0, 0.0, 0.0], abs=1e-9)
    assert lack.holder == pytest.approx([5.0, 5.0, 0.0], abs=1e-9)


@pytest.mark.parametrize("when", ["trim", "raise"])
def test_a_path_is_kept_clear_and_says_which_stick_out_would_do(when):
    tool = make_tool("ball", 6, flute_length=20.0, shank_diameter=6.0, stick_out=25.0)
    topology = prepare(mesh_of(walled()))
    path = PathBuilder()
    path.rapid(30, 0, 50)
    path.feed(30, 0, 0, 100, Motion.PLUNGE)
    path.feed(3.0, 0, 0, 500)
    path.feed(3.0, 10, 0, 500)
    path.feed(30, 10, 0, 500)
    path.rapid(30, 10, 50)
    made = path.build()
    assert Reach(topology, tool).lack(made.tip).most.max() == pytest.approx(5.0)
    free = kept_clear(made, topology, tool, when, 50.0)
    note = free.notes[-1]
    assert note.kind == "short" and note.stick_out == pytest.approx(30.0)
    assert note.against == "part"
    dense = np.concatenate([np.linspace(a, b, 60) for a, b in zip(free.tip[:-1], free.tip[1:], strict=True)])
    assert Reach(topology, tool).lack(dense).most.max() <= 0.05 + 1e-9
    if when == "trim":
        assert np.abs(free.tip[free.kind == Motion.FEED, 2]).max() == 0.0
    else:
        assert free.tip[:, 0].min() == pytest.approx(3.0)  # still goes there, higher


@pytest.mark.parametrize("when", ["trim", "raise"])
def test_a_path_is_kept_clear_of_the_stock_that_still_stands(when):
    """A block of 40 mm: a slot 30 deep with a stick-out of 25 runs the holder 5 mm into the block's top, the
    same slot in the middle of ground that an earlier path cleared 10 deep, as wide as the holder, is free."""
    tool = make_tool("flat", 8, flute_length=22.0, shank_diameter=8.0, stick_out=25.0)
    ground = trimesh.creation.box((120, 80, 5)).apply_translation((0, 0, -42.5))
    topology = prepare(mesh_of(ground))
    low, high = np.array([-60.0, -40, -40]), np.array([60.0, 40, 0])
    path = PathBuilder()
    path.rapid(-40, 0, 50)
    for z in (-10.0, -20.0, -30.0):
        path.feed(-40, 0, z, 100, Motion.PLUNGE)
        path.feed(40, 0, z, 500)
        path.feed(-40, 0, z, 500)
    path.rapid(-40, 0, 50)
    made = path.build()
    assert kept_clear(made, topology, tool, when, 50.0) is made  # the part is far below
    block = HeightMap.of_box(low, high, 0.4)
    free = kept_clear(made, topology, tool, when, 50.0, block)
    note = free.notes[-1]
    assert note.part == "holder" and note.stick_out == pytest.approx(30.0, abs=0.2)
    assert note.against == "stock"
    cutting = free.tip[free.kind == Motion.FEED, 2]
    assert cutting.min() == pytest.approx(-20.0 if when == "trim" else -25.0, abs=0.2)
    opened = block.copy()
    opened.heights[:] = -10.0
    assert kept_clear(made, topology, tool, when, 50.0, opened) is made


def test_long_enough_tools_change_nothing():
    made = PathBuilder()
    made.rapid(30, 0, 50)
    made.feed(5, 0, 40, 100)
    path = made.build()
    assert kept_clear(path, prepare(mesh_of(walled())), BALL, "trim", 50.0) is path


def test_what_a_ball_reaches_of_a_pocket():
    """Floors and walls, but not the last radius into a sharp corner; undercuts never."""
    topology = prepare(mesh_of(pocket()))
    points = np.array(
        [[0, 0, -8.0], [15.0, 0, -2.0], [14.0, 0, -8.0], [15.0, 0, -7.0], [0, 25.0, -3], [0, 0, -12.0]]
    )
    normals = np.array([[0, 0, 1.0], [-1, 0, 0], [0, 0, 1], [-1, 0, 0], [0, 1, 0], [0, 0, -1]])
    assert reachable(points, normals, topology, {BALL.profile}, 0.01).tolist() == [
        True,
        True,
        False,
        False,
        True,
        False,
    ]
    flat = make_tool("flat", 6)
    assert reachable(points, normals, topology, {flat.profile}, 0.01).tolist() == [
        True,
        True,
        True,
        True,
        True,
        False,
    ]


def test_rest_clearing_cuts_where_the_larger_tool_could_not(tmp_path):
    """A pocket of 30 x 30 mm, cleared with 12 mm, leaves its four corners: the 5 mm tool stays there."""
    first = {
        "name": "Clear",
        "strategy": "bounded_clearing",
        "tool": 1,
        "parameters": {"stepover": 4.0, "step_down": 8.0},
    }
    rest = {
        "name": "Rest",
        "strategy": "rest_clearing",
        "tool": 2,
        "parameters": {"stepover": 1.5, "step_down": 8.0, "step_up": 8.0, "thinnest": 0.8},
    }
    tools = [make_tool("flat", 12, flute_length=20), make_tool("flat", 5, number=2)]
    plan = job_of(tmp_path, pocket(wall=10.0), [first, rest], tools)
    setup = plan.job.setups[0]
    path = plan.path(setup, setup.operations[1])
    cuts = path.tip[path.kind == Motion.FEED]
    cuts = cuts[np.abs(cuts[:, :2]).max(axis=1) < 15.0]
    assert len(cuts) > 20
    # the corners that 12 mm leaves begin where a circle of radius 6 leaves the walls
    corner = np.sqrt(((15.0 - np.abs(cuts[:, :2])) ** 2).sum(axis=1))
    assert corner.max() < 6.0 * math.sqrt(2) + 2.5
    proof = Prover(plan).prove(plan.job.effective_releases()[0])
    load = proof.facts["operations"][1]["load"]
    assert proof.stops() == []
    assert load["time_in_cut_s"] > 0


def test_pieces_of_a_track_keep_its_upright_steps():
    """Points over each other in plan view belong to the track: lengths along it count them."""
    track = np.array([[0.0, 0, 0], [4, 0, 0], [4, 0, 5], [8, 0, 5], [8, 0, -3], [12, 0, -3]])
    dense = dense_track(track, 0.3)
    assert np.linalg.norm(np.diff(dense, axis=0), axis=1).max() <= 0.3 + 1e-12
    assert all((np.abs(dense - point).max(axis=1) < 1e-12).any() for point in track)
    pieces = cut_out(track, dense, (dense[:, 0] > 2.9) & (dense[:, 0] < 9.05), 0.5)
    assert len(pieces) == 1
    expected = np.array([[3.0, 0, 0], *track[1:5].tolist(), [9.0, 0, -3]])
    assert np.abs(pieces[0] - expected).max() < 0.3


def test_the_rest_of_a_wider_ball_is_cut_where_that_could_not_touch(tmp_path):
    """A floor beside an upright wall: a ball of 12 touches it from 6 mm off the wall on, one of 6 from 3 mm
    on. The rest on the floor lies between, and reaches a little beyond."""
    from tests.core.test_holes import drilled
    from tests.core.test_shapes import box_of

    file = drilled(tmp_path, [box_of(20, -1, 8, 50, 50, 20)])
    document = {
        "fenrik": 1,
        "name": "rest",
        "part": {"file": file.name},
        "tools": [BALL.model_dump()],
        "setups": [{"name": "Top", "operations": [], "zero": {"of": "part", "x": "low", "y": "low"}}],
    }
    part = open_job(job_from_data(document), tmp_path, MemoryStore()).workspace.part()
    floor = next(f.id for f in part.faces if f.normal and f.normal[2] > 0.99 and abs(f.origin[2] - 8) < 1e-6)
    parameters = {"spaced_by": "stepover", "stepover": 0.5, "arcs": False, "rest_of": 12.0}
    operation = {"name": "Rest", "strategy": "parallel_finishing", "tool": 1, "parameters": parameters}
    document["setups"][0]["operations"] = [operation | {"faces": [floor]}]
    plan = open_job(job_from_data(document), tmp_path, MemoryStore())
    path = plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    low = path.tip[(path.kind == Motion.FEED) & (np.abs(path.tip[:, 2] + 12.0) < 1e-3)]
    off = low[:, 0] - 20.0
    assert off.min() == pytest.approx(3.0, abs=0.02)
    assert 6.0 - 0.3 < off.max() < 6.0 + 0.6 + 0.3
    assert path.tip[path.kind == Motion.FEED][:, 0].max() < 20.0 + 7.0  # nothing at the outer edges
    document["setups"][0]["operations"] = [operation]
    with pytest.raises(ComputeError, match="none are chosen"):
        bare = open_job(job_from_data(document), tmp_path, MemoryStore())
        bare.path(bare.job.setups[0], bare.job.setups[0].operations[0])


@pytest.mark.parametrize(("neck", "kinds"), [(5.0, [Motion.LINK, Motion.RAPID]), (6.0, [Motion.RAPID])])
def test_flutes_wider_than_their_neck_come_up_at_feed_under_stock(neck, kinds):
    """Stock up to 0 all round, the tip at -30 under flutes of 18: they are clear of it at -18."""
    tool = make_tool("flat", 6, shank_diameter=neck, stick_out=60)
    path = PathBuilder()
    path.rapid(10.0, 10.0, -30.0)
    link = Linker(
        path, HeightMap(np.zeros((40, 40)), 0.0, 0.0, 0.5), None, 3.0, 500.0, 200.0, flutes_over(tool)
    )
    link.up(10.0)
    built = path.build()
    assert built.kind[1:].tolist() == kinds and built.tip[-1].tolist() == [10.0, 10.0, 10.0]
    if len(kinds) > 1:
        assert -18.0 <= built.tip[1, 2] < -17.0

"""Interval dexels against exact formulas, manifold3d and brute-force sweeping."""

import math

import manifold3d as m3
import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.model.distance import DistanceField
from fenrik.core.model.reading import read_model, working_mesh
from fenrik.core.stock.cuts import Cuts
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.surface import all_places, bricks, joined, surface
from tests.conftest import MODELS, make_tool, mesh_of
from tests.oracles import cut_ends, mill_distance, sweep_errors

LOW, HIGH = np.array([0.0, 0.0, 0.0]), np.array([40.0, 30.0, 16.0])
BOX = 40.0 * 30.0 * 16.0
FLAT, BALL, CORNER = make_tool("flat", 8), make_tool("ball", 6), make_tool("corner", 8, 1.5)
SHAPED = [
    make_tool("taper", 8, 0.5, taper_deg=15, tip_diameter=3),
    make_tool("taper_ball", 8, 1.0, taper_deg=10),
    make_tool("chamfer", 8, point_deg=90, tip_diameter=1),
    make_tool("drill", 6, point_deg=118),
    make_tool("lollipop", 8, 4.0, flute_length=7.0, shank_diameter=4),
    make_tool("t_slot", 10, 0.5, flute_length=4, shank_diameter=5),
]


def cut(tool, moves, cell=0.25, rapid=False):
    stock = Stock.of_box(LOW, HIGH, cell)
    pieces = np.array(moves, dtype=float)
    removal = stock.cut(pieces, tool_bodies(tool), np.full(len(pieces), rapid))
    return stock, removal


def test_slot_has_its_exact_volume_in_all_directions():
    """A level slot of a flat mill: width x length x depth plus the two half ends inside the block."""
    stock, removal = cut(FLAT, [[10, 15, 10, 30, 15, 10]], cell=0.1)
    exact = (8 * 20 + math.pi * 16) * 6
    for volume in stock.volumes():
        assert BOX - volume == pytest.approx(exact, rel=2e-3)
    assert BOX - stock.volume() == pytest.approx(exact, rel=6e-4)
    assert removal.volume.sum() == pytest.approx(BOX - stock.volume(), rel=1e-7)  # ends are float32


def test_ball_groove_has_its_exact_volume():
    """Along the whole block: half circle plus rectangle, times the length."""
    stock, _ = cut(BALL, [[-10, 15, 11, 50, 15, 11]])
    exact = 40 * (math.pi * 9 / 2 + 6 * 2)
    assert BOX - stock.volume() == pytest.approx(exact, rel=1e-3)


def test_cutting_again_and_in_pieces_changes_nothing():
    moves = [[5, 5, 9, 35, 25, 5]]
    whole, _ = cut(CORNER, moves)
    parts = np.linspace(moves[0][:3], moves[0][3:], 41)
    split, _ = cut(CORNER, np.hstack([parts[:-1], parts[1:]]))
    assert split.volume() == pytest.approx(whole.volume(), rel=2e-6)
    before = whole.volume()
    removal = whole.cut(np.array(moves), tool_bodies(CORNER), np.array([False]))
    assert whole.volume() == before
    assert removal.volume.sum() == 0.0


def manifold_tool(tool, facets=256):
    bodies = []
    for kind, z0, z1, r0, r1, _ in tool_bodies(tool):
        if kind == 0:
            bodies.append(m3.Manifold.cylinder(z1 - z0, r0, r1, facets).translate((0, 0, z0)))
        elif kind == 2:
            bodies.append(m3.Manifold.sphere(r1, facets).translate((0, 0, r1)))
        else:
            steps = [(r0 + r1 * math.sin(a), r1 - r1 * math.cos(a)) for a in np.linspace(0, math.pi / 2, 65)]
            section = m3.CrossSection([[(0.0, 0.0), *steps, (0.0, r1)]])
            bodies.append(m3.Manifold.revolve(section, facets))
    return bodies


@pytest.mark.parametrize("tool", [FLAT, BALL, CORNER, *SHAPED], ids=lambda t: t.kind)
@pytest.mark.parametrize(
    "move", [[8, 8, 9, 30, 22, 9], [8, 8, 14, 30, 22, 6], [20, 15, 15, 20, 15, 7], [10, 10, 6, 30, 12, 13]]
)
def test_removed_volume_agrees_with_manifold3d(tool, move):
    """The sweep of a convex body is the hull of its two ends (manifold3d's own booleans and volume)."""
    stock, _ = cut(tool, [move], cell=0.1)
    block = m3.Manifold.cube(tuple(HIGH))
    left = block
    for body in manifold_tool(tool):
        left -= m3.Manifold.batch_hull([body.translate(move[:3]), body.translate(move[3:])])
    assert stock.volume() == pytest.approx(left.volume(), abs=2e-3 * (BOX - left.volume()) + 0.05)


def depth_in(tool, d, up):
    """Some measure of how deep points at distance d from the axis and height `up` lie in a tool; its sign is
    right."""
    c, r, tip = tool.corner_radius, tool.radius, tool.tip_diameter / 2
    if tool.kind == "lollipop":
        head = r - np.hypot(d, up - r)
    else:
        flat = tip if tool.kind in ("taper", "taper_ball", "chamfer", "drill") else r - c
        over = np.clip(d - flat, 0, None)
        low = c - np.sqrt(np.maximum(0, c**2 - over**2))
        if tool.kind in ("taper", "taper_ball", "chamfer", "drill"):
            lean = math.radians(tool.taper_deg or tool.point_deg / 2)
            start = flat + c * math.cos(lean)
            low = np.where(d > start, c * (1 - math.sin(lean)) + (d - start) / math.tan(lean), low)
        head = np.where(d < r, np.minimum(up - low, r - d), -1.0)
        head = np.minimum(head, tool.flute_length - up)
    neck = np.minimum(tool.shank_diameter / 2 - d, np.minimum(up - tool.flute_length, tool.stick_out - up))
    return np.maximum(head, neck)


@settings(max_examples=90, deadline=None)
@given(
    st.sampled_from([FLAT, BALL, CORNER, *SHAPED]),
    st.tuples(st.floats(5, 35), st.floats(5, 25), st.floats(4, 15)),
    st.tuples(st.floats(5, 35), st.floats(5, 25), st.floats(4, 15)),
)
def test_every_node_agrees_with_brute_force_sweeping(tool, a, b):
    """Nodes well inside the sweep are gone, nodes well outside stay (2000 positions along the move)."""
    stock, _ = cut(tool, [[*a, *b]], cell=1.0)
    positions = np.linspace(a, b, 2001)
    z_ends, _, z_counts = stock.rays[2].dense()
    rng = np.random.default_rng(0)
    for _ in range(60):
        i, j = rng.integers(0, stock.shape[0]), rng.integers(0, stock.shape[1])
        x, y = LOW[:2] + (np.array([i, j]) + 0.5) * stock.cell
        height = rng.uniform(0.1, 15.9)
        d = np.hypot(positions[:, 0] - x, positions[:, 1] - y)
        up = height - positions[:, 2]
        depth = depth_in(tool, d, up).max()
        if abs(depth) < 0.02:
            continue
        ends, count = z_ends[j, i], z_counts[j, i]
        inside = any(ends[2 * k] < height < ends[2 * k + 1] for k in range(count))
        assert inside == (depth < 0)


def test_solid_stock_has_the_volume_of_its_solid():
    """Against OpenCASCADE's exact volume."""
    part = read_model(MODELS / "plate_b.step")
    stock = Stock.of_mesh(working_mesh(part, 0.01), 0.5)
    for volume in stock.volumes():
        assert volume == pytest.approx(part.volume, rel=3e-3)


def test_contact_of_holder_and_rapid_is_seen_and_grazing_is_not():
    short = make_tool("flat", 8, stick_out=9.0, flute_length=8.0)
    _, removal = cut(short, [[20, 15, 2, 25, 15, 2]])
    assert removal.overlap[0, 2] > 1.0  # the holder's face lies at Z 11, the block reaches 16
    _, removal = cut(FLAT, [[20, 15, 30, 20, 15, 15.9]], rapid=True)
    assert removal.overlap[0, 0] == pytest.approx(0.1, abs=1e-4)
    stock, _ = cut(FLAT, [[20, 15, 8, 30, 15, 8]])
    again = stock.cut(np.array([[30, 15, 8, 30, 15, 40.0]]), tool_bodies(FLAT), np.array([True]))
    assert again.overlap.max() == 0.0


@pytest.mark.parametrize("tool", [FLAT, CORNER], ids=["flat", "corner"])
def test_nothing_stays_in_the_joint_of_two_bodies(tool):
    """Rows of rays exactly at the height where flutes and shank, or corner and side, meet on a level move."""
    stock = Stock.of_box(LOW, np.array([40.0, 30.0, 40.0]), 0.5)
    for joint in (tool.corner_radius, tool.flute_length):
        tip = 0.25 + 0.5 * round((8.0 - 0.25) / 0.5) - (joint % 0.5)
        move = np.array([[10.0, 15, tip, 30, 15, tip]])
        stock.cut(move, tool_bodies(tool), np.array([False]))
        again = stock.cut(np.array([[30.0, 15, tip, 30, 15, tip + 40]]), tool_bodies(tool), np.array([True]))
        assert again.volume.sum() == 0.0


def cut_with_cuts(strokes, cell=0.25, low=LOW, high=HIGH):
    """A stock cut by (tool, moves) one after the other, and what its tags stand for."""
    stock, cuts, tag = Stock.of_box(low, high, cell), Cuts(), 0
    for tool, moves in strokes:
        pieces = np.array(moves, dtype=float)
        stock.cut(pieces, tool_bodies(tool), np.zeros(len(pieces), dtype=bool), tag)
        cuts.add(pieces, tool_bodies(tool))
        tag += len(pieces)
    return stock, cuts


def swept_distance(strokes, points, steps=4001):
    """Distance of points from the skin of what strokes leave of the block: the box less every sweep, from
    positions along the moves (brute force; near the skin, away from where two surfaces meet)."""
    inside = np.minimum(points - LOW, HIGH - points).min(axis=1)
    for tool, moves in strokes:
        for move in np.array(moves, dtype=float):
            tips = move[:3] + np.linspace(0, 1, steps)[:, None] * (move[3:] - move[:3])
            for n, p in enumerate(points):
                d, up = np.hypot(*(p[:2] - tips[:, :2]).T), p[2] - tips[:, 2]
                inside[n] = min(inside[n], mill_distance(tool, d, up).min())
    return np.abs(inside)


STROKES = [
    (FLAT, [[-6, 15, 9.1, 20, 15, 9.1], [20, 15, 9.1, 24, 36, 9.1]]),
    (CORNER, [[30, -5, 6.3, 33, 20, 6.3]]),
    (BALL, [[5, 4, 11, 36, 6, 8]]),
]


def test_sharp_edges_stay_sharp_and_vertices_lie_on_the_true_surface():
    """p99 of the vertices' distance from the true skin is under 0.05 cell, and next to none is further
    off."""
    stock, cuts = cut_with_cuts(STROKES)
    skin = surface(stock, cuts)
    pick = np.random.default_rng(5).choice(len(skin.vertices), 3000, replace=False)
    off = swept_distance(STROKES, skin.vertices[pick])
    assert np.quantile(off, 0.99) <= 0.05 * stock.cell
    assert off.max() < 0.6 * stock.cell
    # the upper edge of the slot along Y = 11, exactly where floor of the block and wall meet
    edge = skin.vertices[
        (np.abs(skin.vertices[:, 1] - 11.0) < 0.12)
        & (np.abs(skin.vertices[:, 2] - 16.0) < 0.12)
        & (skin.vertices[:, 0] > 1)
        & (skin.vertices[:, 0] < 15)
    ]
    assert len(edge) > 50
    assert np.abs(edge[:, 1] - 11.0).max() < 1e-4
    assert np.abs(edge[:, 2] - 16.0).max() < 1e-4
    blunt = surface(stock)
    off = swept_distance(STROKES, blunt.vertices[pick[pick < len(blunt.vertices)]])
    assert np.quantile(off, 0.99) > 0.05 * stock.cell  # the check can fail


def test_rebuilt_in_part_is_rebuilt_whole_bit_for_bit():
    high = np.array([60.0, 50.0, 20.0])
    first, cuts = cut_with_cuts(STROKES[:2], low=LOW, high=high)
    before = bricks(first, cuts, all_places(first.shape))
    move = np.array([[8.0, 40, 12, 14, 42, 12]])
    first.cut(move, tool_bodies(BALL), np.array([False]), sum(len(p) for p in cuts.parts))
    cuts.add(move, tool_bodies(BALL))
    whole = bricks(first, cuts, all_places(first.shape))
    changed = {p for p in whole if not whole[p].same(before[p])}
    assert 0 < len(changed) < len(whole) / 2
    part = before | bricks(first, cuts, changed)
    a, b = joined(part, first.shape), joined(whole, first.shape)
    assert np.array_equal(a.vertices, b.vertices) and np.array_equal(a.quads, b.quads)


def tilted(rng, turn_deg, length=1.0, lean_deg=35):
    """A move (12,) near the middle of the block with its axis leaning and turning about a direction of its
    own."""
    tip = np.array([rng.uniform(14, 26), rng.uniform(10, 20), rng.uniform(6, 12)])
    step = rng.normal(size=3)
    lean, heading = math.radians(rng.uniform(0, lean_deg)), rng.uniform(0, 2 * math.pi)
    axis = np.array([math.sin(lean) * math.cos(heading), math.sin(lean) * math.sin(heading), math.cos(lean)])
    about = np.cross(axis, rng.normal(size=3))
    about /= np.linalg.norm(about)
    a = math.radians(turn_deg)
    other = axis * math.cos(a) + np.cross(about, axis) * math.sin(a)
    return np.concatenate([tip, axis, tip + length * step / np.linalg.norm(step), other])


@pytest.mark.parametrize("turn_deg", [0.0, 2.0, 6.0])
@pytest.mark.parametrize("tool", [FLAT, BALL, CORNER], ids=["flat", "ball", "corner"])
def test_a_tilted_and_turning_tool_takes_what_it_touches_and_no_more(tool, turn_deg):
    rng = np.random.default_rng(int(turn_deg) + 7)
    errors = []
    for _ in range(4):
        move = tilted(rng, turn_deg, length=1.0 if turn_deg else 5.0)
        stock = Stock.of_box(LOW, HIGH, 0.25)
        stock.cut(move[None, :], tool_bodies(tool), np.array([False]))
        errors.append(sweep_errors(tool, move, cut_ends(stock)))
    off = np.concatenate(errors)
    assert len(off) > 3000
    assert off.max() <= (0.005 if turn_deg else 0.0005)
    assert np.quantile(np.abs(off), 0.999) <= (0.01 if turn_deg else 0.0001)


def test_an_upright_axis_in_the_general_kernel_takes_what_the_upright_one_takes():
    for tool in (FLAT, BALL, CORNER, *SHAPED):
        piece = np.array([[12.0, 10, 9, 16, 13, 7.5]])
        general = np.hstack([piece[:, :3], [[0, 0, 1.0]], piece[:, 3:], [[0, 0, 1.0]]])
        one, other = Stock.of_box(LOW, HIGH, 0.5), Stock.of_box(LOW, HIGH, 0.5)
        one.cut(piece, tool_bodies(tool), np.array([False]))
        other.cut(general, tool_bodies(tool), np.array([False]))
        assert BOX - other.volume() == pytest.approx(BOX - one.volume(), rel=2e-3)


@pytest.mark.parametrize("tool", [FLAT, BALL, CORNER], ids=["flat", "ball", "corner"])
def test_surface_is_closed_and_its_points_are_exact(tool):
    stock, _ = cut(tool, [[8, 8, 9, 30, 22, 9], [30, 22, 9, 10, 24, 6]])
    skin = surface(stock)
    body = trimesh.Trimesh(skin.vertices, skin.triangles(), process=False)
    assert body.is_watertight
    assert body.volume == pytest.approx(stock.volume(), rel=1e-3)
    assert (skin.tags >= -1).all()
    floor = skin.points[(skin.axes == 2) & (skin.tags == 0)]
    if tool.kind == "flat":
        assert floor[:, 2].min() == pytest.approx(9.0, abs=1e-5)


def test_signed_distance_agrees_with_trimesh_and_the_sphere():
    ball = trimesh.creation.icosphere(3, 10)
    field = DistanceField(mesh_of(ball))
    points = np.random.default_rng(2).uniform(-14, 14, (3000, 3))
    distance, _, _ = field.signed(points)
    inside = ball.contains(points)
    assert ((distance < 0) == inside)[np.abs(distance) > 1e-9].all()
    assert np.abs(distance) == pytest.approx(np.abs(np.linalg.norm(points, axis=1) - 10), abs=0.09)
    # brute force over all triangles with trimesh's own closest point per triangle
    for p, d in zip(points[:40], distance[:40], strict=True):
        nearest = trimesh.triangles.closest_point(ball.triangles, np.tile(p, (len(ball.faces), 1)))
        assert abs(d) == pytest.approx(np.linalg.norm(nearest - p, axis=1).min(), abs=1e-9)


PECKS = [(56.0, 52.8), (52.8, 49.6), (50.1, 46.65), (46.65, 43.2), (43.7, 40.25), (40.25, 36.8)]


@pytest.mark.parametrize("cell", [0.6, 0.45])
def test_a_drill_that_lies_takes_its_cone_to_the_rim_from_every_ray(cell):
    """In pecks along X, every ray against cone and cylinder in closed form. A ray that only the cone's rim
    meets, at the end of a piece, was left whole once."""
    drill = tool_bodies(make_tool("drill", 16, point_deg=140.0, flute_length=80, stick_out=88))
    stock = Stock.of_box(np.array([-55.0, -40.0, -60.0]), np.array([55.0, 40.0, 0.0]), cell)
    slope = np.tan(np.radians(70.0))
    for begin, tip in PECKS:
        stock.cut(
            np.array([[begin, 0, -26, 1, 0, 0, tip, 0, -26, 1, 0, 0]], dtype=float), drill, np.zeros(1, bool)
        )
        for d, (u, v) in enumerate(((1, 2), (0, 2), (0, 1))):
            ends, _, counts = stock.rays[d].dense()
            nv, nu = counts.shape
            at_u = stock.origin[u] + (np.arange(nu) + 0.5) * cell
            at_v = stock.origin[v] + (np.arange(nv) + 0.5) * cell
            uu, vv = np.meshgrid(at_u, at_v)
            if d == 0:
                r = np.hypot(uu, vv + 26.0)
                low, high = tip + r / slope, np.where(r < 8.0, 55.0, -np.inf)
            else:
                wide = np.clip((uu - tip) * slope, 0.0, 8.0)
                aside = vv + 26.0 if d == 1 else vv
                half = np.sqrt(np.maximum(0.0, wide**2 - aside**2))
                middle = 0.0 if d == 1 else -26.0
                low, high = middle - half, middle + half
            spans = ends.reshape(nv, nu, -1, 2)
            there = np.arange(spans.shape[2]) < counts[:, :, None]
            over = np.minimum(spans[..., 1], high[..., None]) - np.maximum(spans[..., 0], low[..., None])
            assert np.where(there, over, 0.0).max() < 0.02

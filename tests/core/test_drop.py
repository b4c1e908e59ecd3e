"""The drop cutter against exact bodies and against slow brute force that shares nothing with it."""

import math

import numpy as np
import pytest
import shapely
import trimesh
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from fenrik.core.cutting.drop import DropCutter, Profile
from fenrik.core.cutting.topology import prepare
from fenrik.core.model.reading import read_model, working_mesh
from tests.conftest import MODELS, mesh_of

DEG = math.pi / 180
CUTTERS = [
    Profile(3, 3),
    Profile(3, 1),
    Profile(3, 0),
    Profile(5, 0.5),
    Profile(0.7, 0.7),
    Profile(4, 1, 80 * DEG, 0.0),  # tapered ball
    Profile(4, 0.5, 75 * DEG, 1.5),  # tapered, with a corner radius
    Profile(4, 0, 60 * DEG, 2.0),  # tapered, sharp
    Profile(3, 0, 45 * DEG, 0.4),  # chamfer cutter with a small flat
    Profile(3, 0, 31 * DEG, 0.0),  # drill point
    Profile(3, 0, 45 * DEG, 0.0).grown(0.3),  # a point that leaves an allowance: tip and rim rounded
    Profile(4, 1, 80 * DEG, 0.0).grown(-0.2),
]


def lift(d, profile):
    """Height of the underside over the tip, section by section."""
    over = np.maximum(0.0, d - profile.flat)
    arc = profile.corner - np.sqrt(np.maximum(0.0, profile.corner**2 - over**2))
    if not profile.tapered:
        return arc
    phi = profile.steepness
    start = profile.flat + profile.corner * math.sin(phi)
    cone = profile.corner * (1 - math.cos(phi)) + math.tan(phi) * (d - start)
    low = np.where(d <= start, arc, cone)
    centre = profile.radius - profile.rim
    end = centre + profile.rim * math.sin(phi)
    if profile.rim > 0:
        middle = (
            profile.corner * (1 - math.cos(phi)) + math.tan(phi) * (end - start) + profile.rim * math.cos(phi)
        )
        low = np.where(d > end, middle - np.sqrt(np.maximum(0.0, profile.rim**2 - (d - centre) ** 2)), low)
    return low


def touching(steep, profile):
    """Distance from the axis and height at which ground of a steepness (n,) rad touches: where the underside
    has it."""
    d = profile.flat + profile.corner * np.sin(steep)
    up = profile.corner * (1 - np.cos(steep))
    if not profile.tapered:
        return d, up
    phi = profile.steepness
    start = profile.flat + profile.corner * math.sin(phi)
    centre = profile.radius - profile.rim
    end = centre + profile.rim * math.sin(phi)
    middle = (
        profile.corner * (1 - math.cos(phi)) + math.tan(phi) * (end - start) + profile.rim * math.cos(phi)
    )
    over = steep > phi
    return np.where(over, centre + profile.rim * np.sin(steep), d), np.where(
        over, middle - profile.rim * np.cos(steep), up
    )


def brute_tip(vertices, triangles, x, y, profile):
    """Highest tip over every triangle by maximising over its points: facet by the contact normal,
    edges by golden section, vertices directly."""
    best = -math.inf
    a, b, c = (vertices[triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    facing = normal[:, 2] > 1e-12
    n, a_, b_, c_ = normal[facing], a[facing], b[facing], c[facing]
    flat = np.hypot(n[:, 0], n[:, 1])
    heading = np.divide(n[:, :2], flat[:, None], out=np.zeros_like(n[:, :2]), where=flat[:, None] > 1e-12)
    away, up = touching(np.arctan2(flat[:], n[:, 2]), profile)
    contact = np.array([x, y]) - np.where(flat > 1e-12, away, 0.0)[:, None] * heading
    inside = np.ones(len(n), bool)
    for p, q in ((a_, b_), (b_, c_), (c_, a_)):
        side = (q[:, 0] - p[:, 0]) * (contact[:, 1] - p[:, 1]) - (q[:, 1] - p[:, 1]) * (
            contact[:, 0] - p[:, 0]
        )
        inside &= side >= -1e-12
    if inside.any():
        z = a_[:, 2] - (n[:, 0] * (contact[:, 0] - a_[:, 0]) + n[:, 1] * (contact[:, 1] - a_[:, 1])) / n[:, 2]
        best = max(best, float((z - up)[inside].max()))
    p = np.concatenate([a, b, c])
    q = np.concatenate([b, c, a])
    # edges that do not come under the cutter's box in plan view cannot touch it
    here = np.array([x, y])
    under = (np.minimum(p, q)[:, :2] <= here + profile.radius) & (
        np.maximum(p, q)[:, :2] >= here - profile.radius
    )
    p, q = p[under.all(axis=1)], q[under.all(axis=1)]
    if not len(p):
        return best

    def tip(t):
        at = p + t[:, None] * (q - p)
        d = np.hypot(at[:, 0] - x, at[:, 1] - y)
        return np.where(d <= profile.radius, at[:, 2] - lift(d, profile), -np.inf)

    # the stretch of each edge under the cutter, then golden section on the concave tip height
    run = q[:, :2] - p[:, :2]
    square = np.maximum((run**2).sum(1), 1e-300)
    foot = ((np.array([x, y]) - p[:, :2]) * run).sum(1) / square
    off2 = ((p[:, :2] + foot[:, None] * run - np.array([x, y])) ** 2).sum(1)
    half = np.sqrt(np.maximum(0.0, profile.radius**2 - off2) / square) * (1 - 1e-13)
    low, high = np.clip(foot - half, 0, 1), np.clip(foot + half, 0, 1)
    gold = (math.sqrt(5) - 1) / 2
    low0, high0 = low.copy(), high.copy()
    for _ in range(90):
        s, t = high - gold * (high - low), low + gold * (high - low)
        left = tip(s) > tip(t)
        high, low = np.where(left, t, high), np.where(left, low, s)
    for t in (0.5 * (low + high), low0, high0, np.zeros(len(p)), np.ones(len(p))):
        best = max(best, float(tip(t).max()))
    return best


def rough_surface(seed, n=14, size=20.0):
    rng = np.random.default_rng(seed)
    x, y = np.meshgrid(np.linspace(0, size, n), np.linspace(0, size, n))
    z = rng.uniform(0, 5, x.shape)
    vertices = np.column_stack([x.ravel(), y.ravel(), z.ravel()])
    index = np.arange(n * n).reshape(n, n)
    a, b, c, d = (index[s].ravel() for s in (np.s_[:-1, :-1], np.s_[:-1, 1:], np.s_[1:, 1:], np.s_[1:, :-1]))
    return trimesh.Trimesh(
        vertices, np.vstack([np.column_stack([a, b, c]), np.column_stack([a, c, d])]), process=False
    )


@pytest.mark.parametrize("profile", CUTTERS, ids=str)
@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10_000), x=st.floats(-1, 21), y=st.floats(-1, 21))
def test_agrees_with_brute_force_on_a_rough_surface(profile, seed, x, y):
    # beside the ground by its very radius the cutter meets it or not, as the rounding has it
    beside = math.hypot(max(-x, x - 20.0, 0.0), max(-y, y - 20.0, 0.0))
    assume(abs(beside - profile.radius) > 1e-9)
    body = rough_surface(seed % 7)
    cutter = DropCutter(prepare(mesh_of(body)), profile)
    expected = brute_tip(body.vertices, body.faces, x, y, profile)
    assert cutter.tip(np.array([[x, y]]), -50.0)[0] == pytest.approx(max(expected, -50.0), abs=1e-9)


@pytest.mark.parametrize("profile", CUTTERS, ids=str)
def test_agrees_with_brute_force_on_a_cad_mesh(profile):
    mesh = working_mesh(read_model(MODELS / "plate_b.step"), 0.05)
    cutter = DropCutter(prepare(mesh), profile)
    low, high = mesh.bounds
    points = np.random.default_rng(3).uniform(low[:2] - 2, high[:2] + 2, (40, 2))
    got = cutter.tip(points, -100.0)
    expected = [max(-100.0, brute_tip(mesh.vertices, mesh.triangles, x, y, profile)) for x, y in points]
    assert got == pytest.approx(expected, abs=1e-9)


def dome():
    """A dome of radius 15 from strips of four-sided facets, each in two triangles that lie in one plane but
    for the rounding of an STL file."""
    angle = np.linspace(0, math.pi / 2, 90)
    profile = np.column_stack([15 * np.cos(angle), 15 * np.sin(angle)])
    profile = np.vstack([[0, -6], [22, -6], [22, 0], [15, 0], profile[1:-1], [0, 15]])
    body = trimesh.creation.revolve(profile, sections=360)
    body.vertices = body.vertices.astype(np.float32).astype(np.float64)
    return mesh_of(body)


@pytest.mark.parametrize("profile", [Profile(3, 3), Profile(4, 1), Profile(12, 12)], ids=str)
def test_nothing_is_missed_exactly_between_two_facets(profile):
    """Whatever is touched at the borders of a facet holds the cutter up, to the last digit of the place."""
    mesh = dome()
    topology = prepare(mesh)
    cutter = DropCutter(topology, profile)
    corners, normal = topology.facets, topology.facet_normals
    middle = corners.mean(axis=1)
    heading = normal[:, :2] / np.maximum(np.hypot(normal[:, 0], normal[:, 1]), 1e-12)[:, None]
    shift = profile.flat * heading + profile.corner * normal[:, :2]
    for side in range(3):
        touched = 0.7 * corners[:, side] + 0.3 * corners[:, (side + 1) % 3]
        outward = touched[:, :2] - middle[:, :2]
        outward /= np.linalg.norm(outward, axis=1, keepdims=True)
        least = touched[:, 2] + profile.corner * (normal[:, 2] - 1.0)
        for nudge in (0.0, 1e-11, 1e-9, 1e-8, 1e-7):
            lack = least - cutter.tip(touched[:, :2] + shift + nudge * outward)
            assert lack.max() <= 1e-8 + 100 * nudge


@pytest.mark.parametrize("profile", CUTTERS, ids=str)
@pytest.mark.parametrize("slope_deg", [0, 10, 35, 60])
def test_exact_on_a_plane(profile, slope_deg):
    """Tip over a plane of slope a: the highest of x tan a + d tan a - h(d) over the underside, from its
    section."""
    t = math.tan(math.radians(slope_deg))
    vertices = np.array([[-50, -50, -50 * t], [50, -50, 50 * t], [50, 50, 50 * t], [-50, 50, -50 * t]])
    body = trimesh.Trimesh(vertices, [[0, 1, 2], [0, 2, 3]], process=False)
    away, up = touching(np.array([math.radians(slope_deg)]), profile)
    expected = 2.0 * t + float(away[0] * t - up[0])
    got = DropCutter(prepare(mesh_of(body)), profile).tip(np.array([[2.0, 1.0]]))[0]
    assert got == pytest.approx(expected, abs=1e-12)


@pytest.mark.parametrize("by", [0.2, 0.7])
@pytest.mark.parametrize("profile", CUTTERS, ids=str)
def test_a_grown_cutter_is_its_offset(profile, by):
    """The section grown by shapely's buffer, with the tip put back to 0, against the profile grown by
    `by`."""
    d = np.linspace(-profile.radius, profile.radius, 4001)
    section = shapely.Polygon(
        [(profile.radius, 40.0), (-profile.radius, 40.0), *zip(d, lift(np.abs(d), profile), strict=True)]
    )
    offset = section.buffer(by, quad_segs=500)
    grown = profile.grown(by)
    for at in np.linspace(0, 0.98 * (profile.radius + by), 23):
        line = shapely.LineString([(at, -5.0), (at, 20.0)])
        low = offset.intersection(line).bounds[1]
        assert grown.height(at) - by == pytest.approx(low, abs=1e-3)
    assert profile.grown(by).grown(-by).height(0.6 * profile.radius) == pytest.approx(
        profile.height(0.6 * profile.radius), abs=1e-9
    )


def _error_on(make, exact, profile, points):
    errors = []
    for level in (0, 1):
        cutter = DropCutter(prepare(mesh_of(make(level))), profile)
        errors.append(float(np.abs(cutter.tip(points) - exact(points)).max()))
    return errors


def test_converges_to_the_exact_sphere():
    """Ball on ball: the tip runs on a sphere of radius 10 + 3 about the centre."""
    profile = Profile(3, 3)
    points = np.random.default_rng(1).uniform(-6, 6, (300, 2))
    coarse, fine = _error_on(
        lambda k: trimesh.creation.icosphere(4 + k, 10.0),
        lambda p: np.sqrt(13.0**2 - (p**2).sum(1)) - 3.0,
        profile,
        points,
    )
    assert fine < 0.01
    assert coarse / fine == pytest.approx(4.0, rel=0.35)  # second order in the facet size


def test_converges_to_the_exact_lying_cylinder():
    """Bull-nose across a lying cylinder of radius 10 on its crest line: the flat rests on the crest."""

    def make(k):
        body = trimesh.creation.cylinder(10.0, 60.0, sections=2 ** (7 + 2 * k))
        return body.apply_transform(trimesh.transformations.rotation_matrix(math.pi / 2, [0, 1, 0]))

    points = np.column_stack([np.linspace(-20, 20, 40), np.linspace(3.5, 9, 40)])
    profile = Profile(3, 1)
    # section through the axis of tool and cylinder: corner circle centre is 2 + 1 from the axis side
    exact = lambda p: np.sqrt(11.0**2 - (p[:, 1] - 2.0) ** 2) - 1.0  # noqa: E731
    coarse, fine = _error_on(make, exact, profile, points)
    assert fine < 2e-3
    assert fine < coarse / 8


def test_converges_to_the_exact_torus():
    """A ball over a lying torus (20, 5): the tip runs on the torus with tube radius 5 + 3."""
    profile = Profile(3, 3)
    angle = np.linspace(0, 300, 4000)
    radius = np.linspace(13, 27, 4000)
    points = np.column_stack([radius * np.cos(angle), radius * np.sin(angle)])
    coarse, fine = _error_on(
        lambda k: trimesh.creation.torus(20.0, 5.0, 128 * 2**k, 64 * 2**k),
        lambda p: np.sqrt(8.0**2 - (np.hypot(p[:, 0], p[:, 1]) - 20.0) ** 2) - 3.0,
        profile,
        points,
    )
    assert fine < 0.012
    assert coarse / fine > 3.0


@settings(max_examples=30, deadline=None)
@given(st.floats(0, 2), st.integers(0, 5), st.floats(2, 18), st.floats(2, 18))
def test_allowance_is_the_grown_cutter(allowance, seed, x, y):
    topology = prepare(mesh_of(rough_surface(seed)))
    plain = DropCutter(topology, Profile(2, 2)).tip(np.array([[x, y]]))[0]
    left = DropCutter(topology, Profile(2, 2), allowance, allowance).tip(np.array([[x, y]]))[0]
    assert left >= plain + allowance - 1e-9


@settings(max_examples=25, deadline=None)
@given(
    st.integers(0, 8),
    st.sampled_from([Profile(2, 2), Profile(2, 0.5), Profile(2, 0), Profile(2, 0, 0.8, 0.0)]),
    st.floats(0, 6.28),
    st.sampled_from([0.003, 0.02]),
)
def test_worst_place_of_every_chord_is_found_however_coarse_the_scan(seed, profile, angle, tolerance):
    """The scan looks at the ends only: what holds the track is the exact worst place of every chord."""
    cutter = DropCutter(prepare(mesh_of(rough_surface(seed))), profile)
    middle, way = np.array([10.0, 10.0]), np.array([math.cos(angle), math.sin(angle)])
    a, b = middle - 7 * way, middle + 7 * way
    track = cutter.along(a, b, 100.0, tolerance, -50.0)
    s = np.hypot(*(track[:, :2] - a).T)
    dense = np.linspace(0, s[-1], 15_000)
    heights = cutter.tip(a + dense[:, None] * way, -50.0)
    line = shapely.LineString(np.column_stack([s, track[:, 2]]))
    assert shapely.distance(shapely.points(dense, heights), line).max() <= tolerance


@pytest.mark.parametrize("profile", [Profile(3, 3), Profile(4, 1), Profile(3, 0)], ids=str)
def test_track_stays_within_the_tolerance_of_a_dense_scan(profile):
    mesh = working_mesh(read_model(MODELS / "bearing_bracket.step"), 0.0035)
    cutter = DropCutter(prepare(mesh), profile)
    tolerance = 0.0055
    for start, end in (
        ((20.0, 15.0), (100.0, 66.0)),
        ((-2.0, 40.0), (122.0, 40.0)),
        ((30.0, 0.0), (30.0, 80.0)),
    ):
        a, b = np.array(start), np.array(end)
        track = cutter.along(a, b, 0.2, tolerance, 0.0)
        s = np.hypot(*(track[:, :2] - a).T)
        dense = np.linspace(0, s[-1], 12_000)
        heights = cutter.tip(a + (dense / s[-1])[:, None] * (b - a), 0.0)
        on_path = np.interp(dense, s, track[:, 2])
        line = shapely.LineString(np.column_stack([s, track[:, 2]]))
        away = shapely.distance(shapely.points(dense, heights), line)
        above = heights > on_path
        assert away[above].max() <= tolerance  # the exact track never lies further inside the part's side
        assert away[~above].max() <= tolerance

"""Constant-cusp finishing: the ridges between passes, measured on exact spheres and slopes; the distance it
stands on."""

import math

import numpy as np
import pytest
import trimesh
from scipy.spatial import cKDTree

from fenrik.core.cutting.surface_distance import distances, level_lines
from fenrik.core.errors import ComputeError
from fenrik.core.motion.moves import Motion
from fenrik.core.stock.heightmap import pieces_of
from tests.conftest import make_tool
from tests.core.test_finishing import job_of

BALL = make_tool("ball", 6)
CUSP = 0.01


def ridges(path, spots):
    """How much (n,) mm the ball leaves over exact spots of the part: the nearest of its positions, every 0.05
    mm."""
    pieces, owner = pieces_of(path, 0.0005)
    pieces = pieces[path.kind[owner + 1] == Motion.FEED]
    steps = np.maximum(1, np.ceil(np.linalg.norm(pieces[:, 3:] - pieces[:, :3], axis=1) / 0.05)).astype(int)
    row = np.repeat(np.arange(len(pieces)), steps)
    share = (np.arange(len(row)) - np.repeat(np.cumsum(steps) - steps, steps) + 1)[:, None] / steps[row][
        :, None
    ]
    centres = pieces[row, :3] + share * (pieces[row, 3:] - pieces[row, :3]) + [0, 0, BALL.radius]
    return cKDTree(centres).query(spots)[0] - BALL.radius


def plan_of(folder, body, **parameters):
    keep = [{"polygon": [[-9, -9], [9, -9], [9, 9], [-9, 9]]}]
    operation = {
        "name": "Even",
        "strategy": "constant_cusp",
        "tool": 1,
        "keep_in": keep,
        "parameters": {"cusp": CUSP, **parameters},
    }
    plan = job_of(folder, body, [operation], [BALL])
    setup = plan.job.setups[0]
    return plan.path(setup, setup.operations[0]), plan.setups.clamped(setup)


def revolved(points):
    return trimesh.creation.revolve(np.array(points, dtype=float), sections=240)


@pytest.mark.parametrize("bulging", [True, False])
def test_ridges_on_a_sphere_have_the_wanted_height_everywhere(tmp_path, bulging):
    """A dome and a bowl of radius 15: parallel passes at the flat stepover would leave ridges 20 to 140 % off
    there."""
    angle = np.linspace(0.0, math.radians(45), 80)
    if bulging:
        arc = np.column_stack([15 * np.sin(angle), 15 * np.cos(angle) - 15])
    else:
        arc = np.column_stack([15 * np.sin(angle), -15 * np.cos(angle) + 11])
    rim = [[20, arc[-1, 1]], [20, -12], [0, -12]]
    body = revolved(np.vstack([arc, rim])[::-1])
    path, clamped = plan_of(tmp_path, body)
    rng = np.random.default_rng(2)
    azimuth, polar = (
        rng.uniform(0, 2 * np.pi, 800),
        np.arccos(rng.uniform(math.cos(math.radians(26)), 1, 800)),
    )
    direction = np.column_stack(
        [np.sin(polar) * np.cos(azimuth), np.sin(polar) * np.sin(azimuth), np.cos(polar)]
    )
    spots = np.array([0, 0, -15.0]) + 15 * direction if bulging else np.array([0, 0, 11.0]) - 15 * direction
    spots = spots @ clamped.setup_from_part[:3, :3].T + clamped.setup_from_part[:3, 3]
    left = ridges(path, spots)
    slack = 0.006  # facets, chords and the spacing of positions
    assert left.min() > -slack
    assert np.percentile(left, 99) <= 1.05 * CUSP + 0.003
    assert np.percentile(left, 90) > 0.4 * CUSP  # and not by needlessly narrow passes


def test_distance_on_a_slope_is_that_in_space():
    """On a plane of 50° the distance from its lower edge is the length of the slope, to the hops' 1.4 %."""
    step, slope = 0.25, math.tan(math.radians(50))
    x = step * np.arange(81)
    heights = np.tile(x * slope, (81, 1))
    allowed = np.ones_like(heights, dtype=bool)
    sources = np.zeros_like(allowed)
    sources[:, 0] = True
    found = distances(heights, step, allowed, sources, np.full_like(heights, 1.0))
    assert found[40] == pytest.approx(x / math.cos(math.radians(50)), rel=1e-9)
    point = np.zeros_like(allowed)
    point[40, 40] = True
    away = distances(np.zeros_like(heights), step, allowed, point, np.full_like(heights, 1.0))
    gx, gy = np.meshgrid(x - x[40], x - x[40])
    exact = np.hypot(gx, gy)
    far = exact > 2.0
    assert (away[far] / exact[far]).min() >= 1.0 - 1e-9
    assert (away[far] / exact[far]).max() <= 1.014


def test_level_lines_are_closed_round_a_peak():
    x = np.linspace(-5, 5, 101)
    gx, gy = np.meshgrid(x, x)
    lines = level_lines(np.hypot(gx, gy), -5.0, -5.0, 0.1, np.array([2.0, 3.0]))
    assert [level for level, _ in lines] == [2.0, 3.0]
    for level, points in lines:
        assert np.hypot(*points.T) == pytest.approx(level, abs=0.02)
        assert np.allclose(points[0], points[-1])


def test_a_flat_cutter_is_refused(tmp_path):
    operation = {"name": "Even", "strategy": "constant_cusp", "tool": 1}
    plan = job_of(tmp_path, trimesh.creation.box((20, 20, 5)), [operation], [make_tool("flat", 6)])
    with pytest.raises(ComputeError, match="flat") as raised:
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])
    assert "ball mill" in raised.value.remedy

"""What flank milling can be told, on the guide vane and on foreign parts: steps, allowance, direction, leads,
kinds of tools, what it refuses, and what the next operation finds of its work."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
import trimesh

from fenrik.core.errors import ComputeError, DocumentError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posting import post
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from fenrik.core.posting.writing.dialect import dialects
from tests.conftest import MODELS, make_tool

VANE = "guide_vane.step"


def plan(part=VANE, faces=(1,), tool=None, folder=MODELS, more=(), machine="swivel_head_500", **doc) -> Paths:
    """A job with one wall, or several, and operations after it."""
    tool = tool or make_tool("flat", 10, flute_length=45.0)
    operation = {"name": "wall", "strategy": "flank_milling", "tool": 1}
    operation |= {"walls": [{"face": f} for f in faces]} | doc
    setup = {"name": "Top", "machine": machine, "placement": {"z": 60.0}, "operations": [operation, *more]}
    document = {
        "fenrik": 2,
        "name": "flank",
        "part": {"file": part},
        "tools": [tool.model_dump()],
        "setups": [setup],
        "releases": [{"name": "wall", "setup": "Top", "dialect": "plain_iso"}],
    }
    return open_job(job_from_data(document), folder, MemoryStore())


def made(job: Paths):
    setup = job.job.setups[0]
    return job.path(setup, setup.operations[0])


@cache
def vane(**parameters):
    return made(plan(parameters={"step_down": 20.0} | parameters))


def passes(path) -> list[np.ndarray]:
    """The rows of every pass, from where it comes to the wall to where it leaves it."""
    return [np.flatnonzero((path.run == n) & (path.kind == Motion.FEED)) for n in np.unique(path.run)]


def test_steps_go_down_the_wall_evenly_and_end_at_its_foot():
    path = vane(step_down=13.0)
    rows = passes(path)
    assert len(rows) == 3  # 38.3 mm of wall in steps of at most 13
    lowest = [path.tip[r, 2].mean() for r in rows]
    assert np.diff(lowest) == pytest.approx([-12.7, -12.7], abs=0.25)
    job = plan()
    foot = job.setups.clamped(job.job.setups[0]).part_low[2] + 18.0  # the root over the plate's bottom
    # the rim is at the foot; the tip, in the tool's middle, as much higher as the wall leans
    assert (path.tip[rows[-1], 2] > foot - 0.01).all() and (path.tip[rows[-1], 2] < foot + 0.7).all()
    assert len(passes(vane(step_down=500.0))) == 1


def test_the_tip_goes_below_the_foot_as_far_as_it_is_told():
    plain, below = vane(), vane(below=2.0)
    last = [p.tip[passes(p)[-1], 2].mean() for p in (plain, below)]
    assert last[0] - last[1] == pytest.approx(2.0, abs=0.05)


def test_an_allowance_keeps_the_tool_off_by_itself():
    plain, off = vane(), vane(allowance=0.3)
    a, b = (p.tip[passes(p)[-1]] for p in (plain, off))
    away = [float(np.linalg.norm(b - spot, axis=1).min()) for spot in a[2:-2]]
    assert min(away) > 0.29
    # square to the wall the ways are 0.3 apart, between two poses of the other way less than along it
    from shapely import LineString, Point

    other = LineString(b[:, :2])
    apart = [other.distance(Point(*spot[:2])) for spot in a[2:-2]]
    assert apart == pytest.approx([0.3] * len(apart), abs=0.03)


def test_climb_leaves_the_wall_on_the_right_and_conventional_on_the_left():
    """Common practice, no source."""
    for direction, spindle, right in (
        ("climb", "clockwise", True),
        ("conventional", "clockwise", False),
        ("climb", "counter_clockwise", False),
    ):
        path = made(plan(parameters={"step_down": 40.0, "direction": direction}, spindle=spindle))
        rows = passes(path)[0]
        way = path.tip[rows[-1]] - path.tip[rows[0]]
        inward = -path.tip[rows[len(rows) // 2]]  # the vane stands about the zero
        cross = way[0] * inward[1] - way[1] * inward[0]
        assert (cross < 0) == right


def test_it_comes_and_leaves_in_line_by_its_lead():
    for share in (0.0, 0.7, 1.5):
        path = vane(lead_share=share)
        for rows in passes(path):
            if share == 0.0:
                assert (path.kind[rows[0] - 1], path.kind[rows[-1] + 1]) == (Motion.PLUNGE, Motion.LINK)
                continue
            on = path.tip[rows[0] - 1] - path.tip[rows[0] - 2]
            along = path.tip[rows[0]] - path.tip[rows[0] - 1]
            off = path.tip[rows[-1] + 1] - path.tip[rows[-1]]
            assert np.linalg.norm(on) == pytest.approx(10.0 * share, abs=1e-6)
            assert np.linalg.norm(off) == pytest.approx(10.0 * share, abs=1e-6)
            turn = float(on @ along) / np.linalg.norm(on) / np.linalg.norm(along)
            assert turn > np.cos(np.radians(12.0))  # in line but for the wall's twist


def test_between_passes_the_tool_is_over_the_stock_and_the_clearance_bounds_its_rapids():
    job = plan(parameters={"step_down": 20.0})
    setup = job.job.setups[0]
    path, heights = made(job), job.tasks.heights(job.tasks.task(setup, setup.operations[0]))
    rapid = np.flatnonzero(path.kind == Motion.RAPID)[1:]
    turned = np.abs(path.moves.axes[rapid] - path.moves.axes[rapid - 1]).max(axis=1) > 1e-9
    turning = rapid[turned]
    assert len(turning) and (path.tip[turning, 2] >= heights.clearance).all()
    assert (path.tip[turning - 1, 2] >= heights.clearance).all()


@pytest.mark.parametrize(
    "tool",
    [
        make_tool("ball", 10, flute_length=45.0),
        make_tool("corner", 10, 1.5, flute_length=45.0),
        make_tool("taper", 14, 0.0, taper_deg=4.0, tip_diameter=6.0, flute_length=58.0, stick_out=75.0),
        make_tool("taper_ball", 14, 3.0, taper_deg=4.0, flute_length=62.0, stick_out=80.0),
    ],
    ids=lambda t: t.kind,
)
def test_other_kinds_lie_along_the_wall_with_their_straight_side(tool):
    path = made(plan(tool=tool, parameters={"step_down": 60.0}))
    (note,) = [n for n in path.notes if n.kind == "flank"]
    assert note.overcut < 1e-4 and note.left < (0.02 if tool.taper_deg else 0.002)
    straight = vane(step_down=60.0)
    # at the same place of the wall a taper leans off the straight tool by its own angle
    one, other = (p.moves.axes[passes(p)[0][0]] for p in (path, straight))
    apart = float(np.degrees(np.arccos(np.clip(one @ other, -1, 1))))
    assert apart == pytest.approx(tool.taper_deg, abs=0.5)


def test_what_twists_is_told_and_what_does_not_is_not():
    (note,) = vane().notes
    what, _ = note.words("Wall")
    assert what.startswith(
        "'Wall': face 1 twists by up to 10.9° from foot to top; the straight tool leaves up"
    )
    (plain,) = made(plan("drafted_lug.step", (3,))).notes
    assert plain.words("Wall") is None and plain.left < 1e-6
    even = made(plan(parameters={"overcut": 0.5})).notes[0]
    assert "cuts in by up to 0.000" in even.words("Wall")[0]
    assert even.overcut == pytest.approx(even.left, rel=0.3)


def test_several_walls_are_finished_one_after_the_other():
    path = made(plan(faces=(1, 9), parameters={"step_down": 40.0}))
    assert len(path.notes) == 2
    starts = np.flatnonzero((path.kind[1:] == Motion.FEED) & (path.kind[:-1] == Motion.LEAD))
    assert len(starts) == 2
    sides = np.sign(path.tip[starts + 2, 1])
    assert sides[0] != sides[1]  # of the vane


@pytest.mark.parametrize("part", ["drafted_lug.step", "tapered_cap.step"])
def test_walls_of_parts_that_nobody_here_drew(part):
    """Every plane or cone that rises is laid along exactly, in whatever place and size."""
    tool = make_tool("flat", 2, flute_length=15.0, stick_out=18.0) if part == "tapered_cap.step" else None
    faces = [f for f in plan(part).workspace.part().faces if f.kind in ("plane", "cone")]
    done = 0
    for face in faces:
        try:
            path = made(plan(part, (face.id,), tool))
        except (ComputeError, DocumentError) as error:
            assert error.remedy
            continue
        assert path.notes[0].overcut < 1e-6 and path.notes[0].left < 1e-6
        done += 1
        if done == 12:
            break
    assert done >= 8


@pytest.mark.parametrize(
    ("part", "faces", "words"),
    [
        ("drafted_lug.step", (2,), "Face 2 lies square to the tool and is no wall"),
        ("drafted_lug.step", (4,), "Face 4 is not ruled: its straightest lines bend by"),
        ("drafted_lug.step", (11,), "straight lines of face 11 rise by 0° only"),
        (VANE, (99,), "Face 99 does not exist"),
    ],
)
def test_faces_that_are_no_such_walls_are_refused_by_name(part, faces, words):
    with pytest.raises((ComputeError, DocumentError), match=words) as caught:
        made(plan(part, faces))
    assert caught.value.where.startswith("setups[0].operations[0]")
    assert caught.value.remedy


def test_a_mesh_an_edge_and_nothing_at_all_are_refused(tmp_path):
    trimesh.creation.box((30, 20, 10)).export(tmp_path / "box.stl")
    with pytest.raises(DocumentError, match="is a mesh"):
        made(plan("box.stl", (1,), folder=tmp_path))
    with pytest.raises(DocumentError, match="is a face"):
        made(plan(walls=[{"edge": 1}]))
    with pytest.raises(ComputeError, match="has no wall"):
        made(plan(faces=()))
    high = make_tool("ball", 40, flute_length=45.0, stick_out=90.0)
    with pytest.raises(ComputeError, match=r"begins 20.00 mm over its tip"):
        made(plan(tool=high, parameters={"step_down": 8.0}))
    with pytest.raises(ComputeError, match="does not follow a measured engagement"):
        made(plan(feed_follows="engagement"))


def test_the_operation_after_it_finds_the_stock_as_it_left_it():
    after = {"name": "after", "strategy": "level_roughing", "tool": 1, "parameters": {"step_down": 10.0}}
    job = plan(parameters={"step_down": 20.0}, more=(after,))
    setup = job.job.setups[0]
    before, later = (job.stock_before(setup, o) for o in setup.operations)
    gone = (before.heights - later.heights[2:-2, 2:-2]) > 5.0  # a projected map has two cells more around
    area = float(gone.sum()) * before.cell**2
    # about the way of the tool, 64 mm and its leads, as wide as the tool, less what a cell's corner hides
    assert 0.6 * 10.0 * 64.0 < area < 1.3 * 10.0 * 84.0


@pytest.mark.parametrize("moving", ["machine", "tool_point"])
@pytest.mark.parametrize("feed", ["per_minute", "inverse_time"])
@pytest.mark.parametrize("units", ["mm", "inch"])
def test_every_way_of_writing_is_read_back_as_planned(moving, feed, units):
    decimals = 4 if units == "inch" else 3
    changes = {"id": "own", "moving": moving, "feed_moving": feed, "units": units, "decimals": decimals}
    job = plan(parameters={"step_down": 20.0}, machine="tilting_table_320")
    dialects()["own"] = dialects()["plain_iso"].model_copy(update=changes)
    try:
        program = post(job, job.job.releases[0].model_copy(update={"dialect": "own"}))
    finally:
        del dialects()["own"]
    assert [f.words for f in program.findings] == []
    assert ("G93" in program.text) == (feed == "inverse_time")
    assert ("G43.4" in program.text) == (moving == "tool_point")
    assert ("G20" in program.text) == (units == "inch")


def test_an_upright_wall_needs_no_rotary_joint():
    job = plan(faces=(2,), parameters={"step_down": 10.0}, machine="column_mill_500")
    program = post(job, job.job.releases[0])
    assert program.findings == [] and len(program.motion) > 8
    assert program.motion.turning is None and "A" not in program.text.split("M3")[1].split("(")[0]

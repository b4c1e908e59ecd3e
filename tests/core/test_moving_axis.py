"""An operation whose tool axis moves, from its path to proved rotary words: on three kinds of mills, written
in two ways, read back forward, against brute force, Pinocchio and words worked out by hand."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import CubicSpline

from fenrik.core.errors import DocumentError, PostError
from fenrik.core.frames import transform
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.papers import setup_sheet
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.programs.posting import post
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.setups.raw import raw_map
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.choosing import chosen
from fenrik.core.machines.following import Driving, followed, for_choice
from fenrik.core.machines.inverse import rotaries
from fenrik.core.machines.library import machines
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.model.ruled import Rulings
from fenrik.core.motion.moves import turned_evenly
from fenrik.core.posting.compare import compare
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.proof.limits import limit_findings
from fenrik.core.proof.load import loads
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.tooling.materials import material
from tests.conftest import ROOT, make_tool
from tests.core.test_machines import pose_in_pinocchio

MILLS = ["tilting_table_320", "swivel_head_500", "fork_head_1500"]
DIALECTS = ["plain_iso", "plain_iso_plane"]


@cache
def planned(machine: str, dialect: str = "plain_iso", face: int = 1, **more: object) -> Paths:
    """The guide vane with nothing but one of its walls, on a machine."""
    doc = yaml.safe_load((ROOT / "examples" / "guide_vane.yaml").read_text())
    setup = doc["setups"][0]
    setup["machine"], setup["operations"] = machine, setup["operations"][1:]
    doc["releases"][0]["dialect"] = dialect
    setup["operations"][0]["walls"] = [{"face": face}]
    for key, value in more.items():
        setup["operations"][0][key] = value
    return open_job(job_from_data(doc), ROOT / "examples", MemoryStore())


@cache
def posted(machine: str, dialect: str) -> tuple[Paths, Posted]:
    plan = planned(machine, dialect)
    return plan, post(plan, plan.job.releases[0])


def rulings_of_wall(plan: Paths) -> Rulings:
    """The straight lines of the wall, setup frame."""
    setup = plan.job.setups[0]
    inputs = plan.tasks.inputs(
        plan.tasks.task(setup, setup.operations[0]), raw_map(plan.setups.clamped(setup))
    )
    return inputs.ruled[0].rulings


def wall_points(plan: Paths) -> np.ndarray:
    """A dense grid (n, 3) on the wall, setup frame."""
    rulings = rulings_of_wall(plan)
    stations, s = np.arange(len(rulings)), np.linspace(0, len(rulings) - 1, 300)
    low, high = (CubicSpline(stations, e)(s) for e in (rulings.low, rulings.high))
    return (low[:, None] + np.linspace(0, 1, 40)[None, :, None] * (high - low)[:, None]).reshape(-1, 3)


def nearest(points: np.ndarray, poses: np.ndarray, length: float) -> np.ndarray:
    """How near (n,) the axis of the tool, from its tip `length` up, comes to points along poses (m, 12):
    positions every 0.2 mm, each point against each. Brute force."""
    out = np.full(len(points), np.inf)
    for pose in poses:
        steps = max(1, int(np.ceil(np.linalg.norm(pose[6:9] - pose[:3]) / 0.2)))
        for share in np.arange(steps + 1) / steps:
            at = pose[:6] + share * (pose[6:] - pose[:6])
            axis = at[3:] / np.linalg.norm(at[3:])
            away = points - at[:3]
            up = away @ axis
            off = np.linalg.norm(away - up[:, None] * axis, axis=1)
            out = np.minimum(out, np.where((up >= 0) & (up <= length), off, np.inf))
    return out


@pytest.mark.parametrize("machine", MILLS)
@pytest.mark.parametrize("dialect", DIALECTS)
def test_the_posted_motion_leaves_the_wall_on_size(machine, dialect):
    plan, program = posted(machine, dialect)
    assert program.findings == []  # the text means what was planned, forward through the machine
    tool, tolerance = plan.job.tool(4), plan.job.setups[0].operations[0].tolerance_mm
    poses, owner = program.motion.in_setup(0.001)
    off = nearest(wall_points(plan), poses[~program.motion.rapid[owner]], tool.flute_length) - tool.radius
    assert off.min() > -0.6 * tolerance  # leads, chords and the control's own way between poses
    assert off.max() < tolerance + 0.012  # and the grid of the brute force


@pytest.mark.parametrize("machine", MILLS)
def test_joints_along_the_program_are_those_of_pinocchio(machine):
    _, program = posted(machine, "plain_iso")
    side = program.program.steps[0].side
    mill, turning = side.on.machine, program.motion.turning
    length, half = program.program.steps[0].tool.gauge_length, turning.joints.shape[1] // 2
    for row in np.linspace(0, len(turning.poses) - 1, 25).astype(int):
        values = dict(zip(mill.chain.names, turning.joints[row, half:].tolist(), strict=True))
        pose = side.on.setup_from_work @ pose_in_pinocchio((mill.joints, mill.work, mill.tool), values)
        assert np.abs(pose[:3, 3] - length * pose[:3, 2] - turning.poses[row, 6:9]).max() < 1e-9
        assert np.abs(pose[:3, 2] - turning.poses[row, 9:]).max() < 1e-12


def test_words_of_a_leaning_pose_by_hand():
    """Tilting table: A turns the table about an axis through Z 45, C about its middle. The tip in the table's
    coordinates, turned by C, then by A about that axis, is where the spindle has to be (geometry)."""
    _, program = posted("tilting_table_320", "plain_iso")
    step = program.program.steps[0]
    moving, on, length = step.side.moving, step.side.on, step.tool.gauge_length
    row = len(moving.tips) // 2
    names = [j.letter for j in on.machine.rotary]
    angles = dict(zip(names, np.radians(moving.angles[row]), strict=True))
    x, y, z = on.work_from_setup[:3, :3] @ moving.tips[row] + on.work_from_setup[:3, 3]
    c, s = np.cos(angles["C"]), np.sin(angles["C"])
    x, y = c * x + s * y, -s * x + c * y  # the table turns the other way than the tool as the work sees it
    c, s = np.cos(angles["A"]), np.sin(angles["A"])
    y, z = c * y + s * (z - 45.0), -s * y + c * (z - 45.0) + 45.0
    zero = on.work_from_setup[:3, 3]
    assert moving.words(on, length)[row] == pytest.approx(np.array([x, y, z]) - zero, abs=1e-9)
    sine = np.sin(angles["A"])
    wanted = np.array([np.sin(angles["C"]) * sine, -np.cos(angles["C"]) * sine, np.cos(angles["A"])])
    assert moving.axes[row] == pytest.approx(wanted, abs=2e-5)  # angles are written in thousandths


def test_both_ways_of_writing_take_the_same_time():
    times = [posted("tilting_table_320", d)[1].time_s for d in DIALECTS]
    assert times[0] == pytest.approx(times[1], rel=0.03)
    machine, point = (posted("tilting_table_320", d)[1].text for d in DIALECTS)
    assert "G93" in machine and "G94" in machine.split("G93")[1] and "G43.4" not in machine
    assert "G43.4 H4" in point and "G49" in point.split("G43.4")[1] and "G93" not in point


@pytest.mark.parametrize("face", [1, 9], ids=["hollow", "bulging"])
def test_the_fastest_contact_goes_at_the_operations_feed(face):
    """Of the last pass, whose side touches both rails: how far the place of each rail that is nearest to the
    axis moves on, over the time that the tip's feed gives the move."""
    plan = planned("swivel_head_500", face=face, feed_mm_min=400.0)
    setup = plan.job.setups[0]
    operation = setup.operations[0]
    path, rulings = plan.path(setup, operation), rulings_of_wall(plan)
    rows = np.flatnonzero((path.kind == 1) & (path.run == path.run.max()))
    rows = np.concatenate([[rows[0] - 1], rows])
    stations, s = np.arange(len(rulings)), np.linspace(0, len(rulings) - 1, 20_001)
    rails = [CubicSpline(stations, rulings.points(share))(s) for share in (rulings.foot, rulings.top)]
    ways = []
    for rail in rails:
        touched = []
        for tip, axis in zip(path.tip[rows], path.moves.axes[rows], strict=True):
            arm = rail - tip
            touched.append(rail[np.argmin(np.linalg.norm(arm - (arm @ axis)[:, None] * axis, axis=1))])
        ways.append(np.linalg.norm(np.diff(touched, axis=0), axis=1))
    minutes = np.linalg.norm(np.diff(path.tip[rows], axis=0), axis=1) / path.feed[rows[1:]]
    assert np.maximum(*ways) / minutes == pytest.approx(np.full(len(minutes), 400.0), rel=0.01)


def test_round_a_tight_corner_the_tip_goes_no_faster_than_the_machine():
    plan = planned("tilting_table_320", face=9, feed_mm_min=14900.0)
    program = post(plan, plan.job.releases[0])
    on = program.program.steps[0].side.on
    assert program.findings == []
    assert [f for f in limit_findings(program.run(plan.job.tools), on) if f.kind == "feed"] == []
    assert program.motion.feed.max() < 15000.0 * 1.01
    assert program.program.steps[0].path.feed.max() > 15000.0  # what the contact would allow


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        (lambda t: t.replace("A-", "A-1", 1), "pose"),  # where it stands before the first move
        (lambda t: t.replace(" A-7.2", " A-7.3", 1), "pose"),
        (lambda t: _without_first_feed(t), "no F"),
        (lambda t: t.replace("G93\n", "G93 G2\n", 1), "arc|feed|F"),
    ],
)
def test_a_text_that_was_tampered_with_is_found(wrong, words):
    _, program = posted("tilting_table_320", "plain_iso")
    text = wrong(program.text)
    assert text != program.text
    whole = program.program
    reader = Reader(whole.change_heights(), 0.5, whole.registers(), whole.control())
    try:
        reader.read(text)
    except PostError as error:
        assert any(w in error.what for w in words.split("|"))
        return
    told = compare(whole.planned(), reader.programmed, 0.001).differences
    assert any(w in one.words for one in told for w in words.split("|"))


def _without_first_feed(text: str) -> str:
    head, rest = text.split("G93\n", 1)
    lines = rest.split("\n")
    first = next(i for i, line in enumerate(lines) if " F" in line)
    lines[first] = lines[first].rsplit(" F", 1)[0]
    return f"{head}G93\n" + "\n".join(lines)


def test_what_cannot_be_is_told_with_its_reason():
    plan = planned("tilting_table_320", "inch_radius")
    with pytest.raises(PostError, match=r"hollow wall' moves the tool's axis.*inch_radius") as caught:
        post(plan, plan.job.releases[0])
    assert caught.value.remedy.startswith("Use plain_iso or plain_iso_plane, or say in")
    plan = planned("column_mill_500")
    with pytest.raises(DocumentError, match=r"cannot lean the tool as .*hollow wall' asks: .*no rotary"):
        post(plan, plan.job.releases[0])
    job = planned("tilting_table_320").job
    own = machines()["tilting_table_320"].model_dump() | {"id": "stiff"}
    for joint in own["joints"]:
        joint |= {"low": -3.0, "high": 3.0} if joint["letter"] == "A" else {}
    setup = job.setups[0].model_copy(update={"machine": "stiff"})
    plan = open_job(
        job.model_copy(update={"machines": [Machine(**own)], "setups": [setup]}),
        ROOT / "examples",
        MemoryStore(),
    )
    with pytest.raises(DocumentError, match=r"A would have to stand at .* beyond its range of -3° to 3°"):
        post(plan, plan.job.releases[0])


def arc_of_axes(lean: float, past: float, n: int = 12) -> tuple[np.ndarray, np.ndarray]:
    """A straight way of the tip whose axis passes the upright at `past` degrees, leaning up to `lean`."""
    across = np.radians(np.linspace(-lean, lean, n))
    axes = np.column_stack([np.sin(across), np.full(n, np.sin(np.radians(past))), np.cos(across)])
    axes /= np.linalg.norm(axes, axis=1, keepdims=True)
    tips = np.column_stack([np.linspace(-20, 20, n), np.zeros(n), np.full(n, 5.0)])
    return tips, axes


@settings(max_examples=15, deadline=None)
@given(
    lean=st.floats(4.0, 15.0),
    past=st.sampled_from([0.0, 0.02, 0.3, 2.0]),
    machine=st.sampled_from(MILLS),
    point=st.booleans(),
)
def test_what_a_control_drives_stays_with_the_plan_near_the_pole(lean, past, machine, point):
    """Dense oversampling between poses finds no more than the tolerance, however fast a joint must swing."""
    mill = machines()[machine]
    on = OnMachine(mill, transform(np.eye(3), (10.0, -20.0, 100.0)))
    tips, axes = arc_of_axes(lean, past)
    cutting = np.ones(len(tips), dtype=np.bool_)
    rows, share = for_choice(mill, axes, cutting)
    before = np.maximum(rows - 1, 0)
    tips = tips[before] + share[:, None] * (tips[rows] - tips[before])
    axes = turned_evenly(axes[before], axes[rows], share)
    weight = np.where(np.arange(len(rows)) > 0, 1000.0, 1.0)
    angles, reached = chosen(rotaries(mill.chain, axes), mill.rotary_limits, np.zeros(2), weight)
    assert reached.all()
    how, tolerance = Driving(on, 150.0, point, 30.0), 0.01
    whole = np.full(len(tips), tolerance)
    done = followed(how, tips, axes, angles, whole, np.ones(len(tips), dtype=np.bool_))
    for at in np.linspace(0.05, 0.95, 19):
        tip, axis = how.driven(done.tips, done.angles, float(at))
        off = tip - (done.tips[:-1] + at * (done.tips[1:] - done.tips[:-1]))
        lean_off = axis - turned_evenly(done.axes[:-1], done.axes[1:], np.full(len(tip), at))
        for reach in (0.0, 30.0):
            assert np.linalg.norm(off + reach * lean_off, axis=1).max() < 1.3 * tolerance
    assert np.abs(np.diff(done.angles, axis=0)).max() < 181.0  # no joint turns back while it cuts


def test_a_program_of_the_wall_is_proved_and_says_what_the_operator_sets():
    plan = planned("tilting_table_320")
    release = plan.job.releases[0]
    proof = Prover(plan).prove(release)
    assert [f["words"] for f in proof.facts["findings"] if f["severity"] == "stop"] == []
    assert proof.facts["deviation"]["max_overcut_mm"] < 0.011
    assert (proof.facts["moving"], proof.facts["feed"]) == ("machine", "inverse_time")
    sheet = setup_sheet(plan, release, proof)
    for words in ("H4 ", "G93", "worked out for this place of the zero"):
        assert words in sheet


def test_a_feed_for_which_a_joint_is_too_slow_is_told_with_what_comes_of_it():
    """The wall at a feed for which the table would have to spin: a caution with joint, speed and limit,
    and the program takes as long as the joint needs."""
    plan = planned("tilting_table_320", feed_mm_min=14000.0)
    program = post(plan, plan.job.releases[0])
    on = program.program.steps[0].side.on
    found = [f for f in limit_findings(program.run(plan.job.tools), on) if f.kind == "joint_speed"]
    assert found and found[0].severity == "caution" and "of its feed there" in found[0].words
    joint = next(j for j in on.machine.joints if found[0].words.startswith(f"{j.letter} would have to go"))
    assert found[0].limit == joint.speed < found[0].measure
    start, end, owner, asked = on.driven(program.motion, {4: plan.job.tool(4).gauge_length}, 0.02)
    place = on.machine.place(joint.letter)
    needed = np.zeros(len(program.motion))
    np.add.at(needed, owner, np.abs(end - start)[:, place] / joint.speed * 60.0)
    assert (program.times + 1e-9 >= needed).all()
    assert (asked > 0).any() and np.isnan(asked).any()
    slow = planned("tilting_table_320")
    calm = post(slow, slow.job.releases[0])
    assert not [f for f in limit_findings(calm.run(slow.job.tools), on) if f.kind == "joint_speed"]


def test_the_load_of_a_turning_tool_goes_with_its_contact_not_with_its_tip():
    """A tool that turns about its tip and cuts up its side: the tip hardly moves, the chips are those of the
    place that moves."""
    tool = make_tool("flat", 10, flute_length=30.0)
    lean = np.radians(np.linspace(8.0, 0.0, 17))
    axes = np.column_stack([np.zeros_like(lean), np.sin(lean), np.cos(lean)])
    tips = np.column_stack([np.linspace(0.0, 0.4, 17), np.zeros(17), np.zeros(17)])
    pieces = np.hstack([tips[:-1], axes[:-1], tips[1:], axes[1:]])
    # a slab beside the tool, met by its side 10 to 20 mm up as it comes upright
    low, high = np.array([-15.0, -8.0, 10.0]), np.array([15.0, -3.0, 20.0])
    still = np.zeros(len(pieces), dtype=np.bool_)
    stock = Stock.of_box(low, high, 0.2)
    removal = stock.cut(pieces, tool_bodies(tool), still)
    assert removal.volume[:, 0].sum() > 20.0
    feed, rpm = np.full(len(pieces), 30.0), np.full(len(pieces), 6000.0)
    seen = loads(pieces, still, feed, rpm, removal, stock.cell, tool, material("aluminium_wrought"))
    cuts = seen.rate > 0
    # the tip goes 0.025 mm a piece, the place 15 mm up about 0.13: five times as fast
    tip = np.linalg.norm(np.diff(tips, axis=0), axis=1)
    seconds = tip / 30.0 * 60.0
    assert seen.rate[cuts].sum() * seconds[cuts].mean() / 60.0 == pytest.approx(
        removal.volume[cuts, 0].sum() / 1000.0, rel=0.35
    )

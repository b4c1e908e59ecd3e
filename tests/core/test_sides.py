"""Work from several sides: paths, stock, posted rotary words, what they mean when read back, and the
proof."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import DocumentError, PostError
from fenrik.core.frames import apply, invert, rotation_up, transform
from fenrik.core.job.cutting.kept import KeptCuts
from fenrik.core.job.document.reading import dump_job, job_data, job_from_data, load_job, parse_job
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.model.simple_solids import box_mesh, joined_meshes
from fenrik.core.motion.program_motion import Turning
from fenrik.core.posting.compare import compare
from fenrik.core.posting.program import Program, SidePose, Step
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.posting.writing.dialect import dialect
from fenrik.core.posting.writing.writer import plane_angles, write
from fenrik.core.proof.fixture import against_fixture
from fenrik.core.stock.cuts import Cuts
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.heightmap import projected_map
from fenrik.core.stock.surface import surface
from tests.conftest import ROOT, make_tool
from tests.core.test_posting import some_path

TURNING = [m.id for m in machines().values() if len(m.rotary) == 2]
DIALECTS = ("plain_iso", "plain_iso_plane")
STORE = MemoryStore()
"""Shared: the paths of an example do not depend on its machine's joints."""


def gauge(machine="tilting_table_320", dialect_id="plain_iso", **changes):
    """The example's job on a machine, in a dialect; `changes` of its setup."""
    data = job_data(load_job(ROOT / "examples" / "gauge_block.yaml"))
    data["setups"][0] |= {
        "machine": machine,
        "placement": {"z": 200.0 if "table" not in machine else 80.0},
        **changes,
    }
    data["releases"][0]["dialect"] = dialect_id
    return job_from_data(data)


def prover(job, store=None):
    return Prover(open_job(job, ROOT / "examples", store if store is not None else STORE))


@pytest.mark.parametrize("machine", TURNING)
@pytest.mark.parametrize("dialect_id", DIALECTS)
def test_a_bore_in_a_face_at_30_degrees_is_made_on_size_on_every_machine(machine, dialect_id):
    job = gauge(machine, dialect_id)
    proof = prover(job).prove(job.effective_releases()[0])
    facts = proof.facts
    assert proof.stops() == []
    assert facts["deviation"]["share_within_tolerance"] > 0.999
    assert facts["deviation"]["max_overcut_mm"] < 0.005 and facts["deviation"]["max_leftover_mm"] < 0.05
    by_face = {f["face"]: f for f in facts["deviation"]["by_face"]}
    assert {3, 8, 9} <= set(by_face) and all(by_face[f]["share_on_size"] > 0.99 for f in (3, 8, 9))
    text = facts["text"]
    assert ("G68.2" in text) == (dialect_id == "plain_iso_plane") == ("G53.1" in text)
    assert text.index("G0 G53 Z0.") < text.index("T3 M6")  # nothing turns before Z is up


def test_the_words_of_the_gauge_bore_are_those_worked_out_by_hand():
    """See `test_machines`: A30 and C0 with the mouth at X 0, Y 19.519, Z -13.369; 1 mm over it the drill
    begins."""
    job = gauge()
    text = prover(job).prove(job.effective_releases()[0]).facts["text"]
    part = text[text.index("(Clear the gauge face)") :]
    assert part.splitlines()[2:5] == ["M11", "G0 A30.000", "M10"]
    bore = text[text.index("(Drill the gauge bore)") :]
    drilled = re.search(r"G81 X(\S+) Y(\S+) Z(\S+) R(\S+)", bore)
    x, y, _, r = (float(v) for v in drilled.groups())
    # the height from which it goes at feed is rounded up to a tenth, in the side's own frame
    assert (x, y) == (0.0, 19.519) and -12.369 <= r <= -12.2689


unit_vectors = (
    st.tuples(*(st.floats(-1, 1) for _ in range(3))).map(np.array).filter(lambda v: np.linalg.norm(v) > 0.1)
)


def program(machine, frames, as_plane, seeds):
    """Random paths on sides of a part that stands somewhere on a machine."""
    on = OnMachine(machines()[machine], transform(rotation_up((0, 0, 1), 0.3), (12.0, -31.0, 150.0)))
    axes = np.array([on.work_from_setup[:3, :3] @ f[:3, 2] for f in frames])
    positions, reached = on.machine.rotary_positions(axes)
    if not reached.all():
        return None
    steps = []
    for i, (frame, angles, seed) in enumerate(zip(frames, positions, seeds, strict=True)):
        side = SidePose(frame, on, np.round(angles, 3) + 0.0, as_plane)
        tool = make_tool("flat", 8, number=1 + i % 2)
        steps.append(Step(f"Op {i}", tool, some_path(seed), 4000.0, True, "flood", "G54", None, side))
    return Program("Test", 7, "part.step", "Top", "stock", "G54", steps, 120.0)


@pytest.mark.parametrize("machine", TURNING)
@pytest.mark.parametrize("dialect_id", DIALECTS)
@settings(max_examples=20, deadline=None)
@given(
    directions=st.lists(unit_vectors, min_size=1, max_size=3),
    seed=st.integers(0, 10_000),
    turn=st.floats(-3, 3),
)
def test_what_the_posted_words_mean_is_the_path_on_its_side(machine, dialect_id, directions, seed, turn):
    frames = [transform(rotation_up(d, turn).T, (3.0, 4.0 * i, -5.0)) for i, d in enumerate(directions)]
    made = program(machine, frames, dialect_id.endswith("plane"), range(seed, seed + len(frames)))
    if made is None:
        return
    words = dialect(dialect_id)
    reader = Reader(made.change_heights(), 0.5, {}, made.control())
    motion = reader.read(write(made, words))
    found = compare(made.planned(), reader.programmed, words.resolution_mm)
    assert found.differences == []
    assert isinstance(motion.turning, Turning)
    for i, (step, frame) in enumerate(zip(made.steps, frames, strict=True)):
        rows = np.flatnonzero((found.step_of == i) & ~motion.turning.aside)
        # every end of the path in the side's frame has an end of the text there, within the rounding of words
        # and angles
        want, got = apply(frame, step.path.tip), motion.places[rows]
        slack = 2 * words.resolution_mm + 3e-5 * (1.0 + np.abs(want).max() + 200.0)
        away = np.linalg.norm(want[:, None] - got[None], axis=2).min(axis=1)
        assert away.max() < slack
        axes = np.array([motion.turning.frames[f].axis for f in motion.moves.sides[rows]])
        assert axes == pytest.approx(np.tile(frame[:3, 2], (len(rows), 1)), abs=3e-5)


@pytest.mark.parametrize(
    ("dialect_id", "wrong"),
    [
        ("plain_iso", lambda t: t.replace("A30.000", "A31.000")),
        ("plain_iso", lambda t: t.replace("A30.000", "A-30.000")),
        ("plain_iso", lambda t: t.replace("G0 A30.000\n", "")),
        ("plain_iso_plane", lambda t: t.replace("J30.000", "J29.900")),
        ("plain_iso_plane", lambda t: t.replace("I0.000 J30.000", "I180.000 J30.000")),
        ("plain_iso_plane", lambda t: re.sub(r"G68\.2.*\nG53\.1\n", "", t)),
    ],
)
def test_a_text_that_turns_wrongly_is_not_the_plan(dialect_id, wrong):
    job = gauge(dialect_id=dialect_id)
    posted = prover(job).post(job.effective_releases()[0])
    text = wrong(posted.text)
    assert text != posted.text
    reader = Reader(posted.program.change_heights(), 0.5, {}, posted.program.control())
    try:
        reader.read(text)
    except PostError:
        return  # the control stops
    found = compare(posted.program.planned(), reader.programmed, posted.dialect.resolution_mm)
    assert found.differences != [] or reader.findings != []


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ("G0 X0 Y0 Z10.\nG1 A10. F100.\n", "on the way of a cut"),
        ("G0 A10. X5.\n", "from an unknown place"),
        ("G91\nG0 A10.\n", "by steps"),
        ("G0 A10. B5.\n", "address B"),
        ("G0 A10.\nG68.2 X0 Y0 Z0 I0 J10. K0\n", "position is not known"),
        ("G53.1\n", "tilted plane that is not there"),
        ("G0 A0. C0.\nG0 X0 Y0\nG43 H1 Z300.\nG68.2 X0 Y0 Z0 I0 J0 K0\nG0 A5.\n", "in a tilted plane"),
        (
            "G0 A0. C0.\nG0 X0 Y0\nG43 H1 Z300.\nG68.2 X0 Y0 Z0 I0 J0 K0\nG0 G53 Z0.\n",
            "upper end in a tilted plane",
        ),
    ],
)
def test_what_a_control_with_rotary_joints_does_not_take(body, words):
    made = program("tilting_table_320", [np.eye(4)], False, [1])
    text = f"G21 G90 G17 G94\nG0 G53 Z0.\nT1 M6\nG54\nS1000 M3\n{body}M30\n"
    with pytest.raises(PostError, match=words):
        Reader(made.change_heights(), 0.5, {}, made.control()).read(text)


@given(unit_vectors, st.floats(-3, 3))
def test_three_angles_give_the_rotation_back(direction, turn):
    rotation = rotation_up(direction, turn).T
    a, b, c = np.radians(plane_angles(rotation))

    def about(axis, angle):
        out, (i, j) = np.eye(3), {"z": (0, 1), "x": (1, 2)}[axis]
        out[i, i] = out[j, j] = np.cos(angle)
        out[j, i], out[i, j] = np.sin(angle), -np.sin(angle)
        return out

    assert about("z", a) @ about("x", b) @ about("z", c) == pytest.approx(rotation, abs=1e-8)


@given(unit_vectors, st.integers(0, 10_000))
@settings(max_examples=25, deadline=None)
def test_the_planning_map_of_a_side_never_shows_less_than_there_is(direction, seed):
    rng = np.random.default_rng(seed)
    low, high, cell = np.array([-20.0, -15.0, -12.0]), np.array([20.0, 15.0, 0.0]), 0.5
    stock = Stock.of_box(low, high, cell)
    moves = rng.uniform(low, high, (8, 3))
    axis = np.array([0.6, 0.0, 0.8]) if seed % 2 else np.array([0.0, 0.0, 1.0])
    poses = np.hstack([moves[:-1], np.tile(axis, (7, 1)), moves[1:], np.tile(axis, (7, 1))])
    stock.cut(poses, tool_bodies(make_tool("ball", 6)), np.zeros(7, dtype=bool))
    matrix = transform(rotation_up(direction, 0.4), (1.0, 2.0, 3.0))
    corners = apply(
        matrix, np.array([[x, y, z] for x in (-20, 20) for y in (-15, 15) for z in (-12, 0)], dtype=float)
    )
    seen = projected_map(stock, corners.min(axis=0), corners.max(axis=0), matrix, 0.4)
    ends, _, counts = stock.rays[2].dense()
    points = []
    for j, i in zip(*np.nonzero(counts), strict=True):
        for n in range(counts[j, i]):
            a, b = ends[j, i, 2 * n : 2 * n + 2]
            x, y = low[:2] + (np.array([i, j]) + 0.5) * cell
            points += [(x, y, z) for z in np.append(np.arange(a, b, 0.3), b)]
    inside = apply(matrix, np.array(points))
    col = np.floor((inside[:, 0] - seen.x0) / seen.cell).astype(int)
    row = np.floor((inside[:, 1] - seen.y0) / seen.cell).astype(int)
    over = seen.heights[row, col] - inside[:, 2]
    assert over.min() > -1e-9
    # and not much more: over the cells that hold material, the least excess of their points is some cells
    flat = row * seen.heights.shape[1] + col
    least = np.full(seen.heights.size, np.inf)
    np.minimum.at(least, flat, over)
    assert np.median(least[np.isfinite(least)]) < 6.0 * cell


@pytest.mark.parametrize("axis", [(0.0, -0.5, np.sqrt(0.75)), (0.6, 0.0, 0.8), (0.48, 0.6, 0.64)])
def test_what_a_leaning_mill_cut_has_its_true_faces_and_sharp_edges(axis):
    """A slot by a flat mill that leans: floor and walls are planes that can be written down."""
    axis, cell = np.array(axis), 0.25
    stock, cuts = Stock.of_box(np.array([-15.0, -15.0, -10.0]), np.array([15.0, 15.0, 0.0]), cell), Cuts()
    along = np.cross(axis, [0.3, 1.0, 0.2])
    along /= np.linalg.norm(along)
    start = -40.0 * along - 3.0 * axis
    pose = np.hstack([start, axis, start + 80.0 * along, axis])[None]
    stock.cut(pose, tool_bodies(make_tool("flat", 6)), np.zeros(1, dtype=bool))
    cuts.add(pose, tool_bodies(make_tool("flat", 6)))
    skin, aside = surface(stock, cuts), np.cross(axis, along)
    height, off = (skin.vertices - start) @ axis, (skin.vertices - start) @ aside
    box = np.abs(
        np.array(
            [
                np.abs(skin.vertices[:, 0]) - 15,
                np.abs(skin.vertices[:, 1]) - 15,
                skin.vertices[:, 2],
                skin.vertices[:, 2] + 10,
            ]
        )
    ).min(axis=0)
    cut = (box > 1.5 * cell) & (np.abs(off) < 3.0 + cell) & (height > -cell)
    assert cut.sum() > 500
    away = np.minimum(np.where(np.abs(off) <= 3.0 + 1e-6, np.abs(height), np.inf), np.abs(np.abs(off) - 3.0))
    assert np.quantile(away[cut], 0.99) < 0.02 and away[cut].max() < 0.4 * cell
    corner = cut & (np.abs(height) < 0.02) & (np.abs(np.abs(off) - 3.0) < 0.02)
    assert corner.sum() > 50  # the edge between floor and wall is there as an edge


def test_a_fixture_in_the_way_of_a_leaning_tool_or_of_the_turning_is_found():
    job = gauge()
    posted = prover(job).post(job.effective_releases()[0])
    run = posted.run(job.tools)
    far = box_mesh(np.array([-40.0, 60.0, -41.0]), np.array([40.0, 90.0, -20.0]))
    assert against_fixture(run, far) == []
    # a bar over the leaning face, which only the tools that lean come to
    bar = box_mesh(np.array([-5.0, -60.0, -8.0]), np.array([5.0, -36.0, 0.0]))
    numbered = [replace(m, face_ids=np.full(len(m.triangles), i)) for i, m in enumerate((far, bar), 1)]
    found = against_fixture(run, joined_meshes(numbered), ["Rail", "Bar"])
    assert all("into the fixture (Bar) near" in f.words for f in found)
    assert found and {f.severity for f in found} == {"stop"}
    assert {f.operation for f in found} <= {
        "Clear the gauge face",
        "Spot the gauge bore",
        "Drill the gauge bore",
    }


def test_what_a_setup_with_sides_leaves_is_what_the_next_begins_with():
    data = job_data(gauge())
    data["releases"] = []
    data["setups"].append(
        {
            "name": "Bottom",
            "up": {"axis": "-z"},
            "stock": {"kind": "carried", "setup": "Top"},
            "operations": [{"name": "Nothing", "strategy": "facing", "tool": 3, "enabled": False}],
        }
    )
    job = job_from_data(data)
    planner = open_job(job, ROOT / "examples", STORE)
    done = Prover(planner).prove(job.effective_releases()[0]).facts
    left = planner.setups.raw_dexels(job.setup("Bottom"), 0.5).volume()
    assert left == pytest.approx(done["stock_volume_mm3"] - done["removed_mm3"], rel=2e-3)


def test_what_was_cut_is_kept_under_where_it_was_cut_not_under_its_words_alone():
    """In a tilted plane a side's words are the same wherever the side lies."""
    job = gauge(dialect_id="plain_iso_plane")
    prove = prover(job)
    posted, planner = prove.post(job.effective_releases()[0]), prove.paths
    run = posted.run(job.tools)
    motion, setups = run.motion, planner.setups

    def keys(motion):
        clamped, material = setups.clamped(posted.setup), setups.material(posted.setup)
        return KeptCuts(MemoryStore(), clamped, 0.3, run.with_motion(motion), material).keys

    frames = list(motion.turning.frames)
    last = int(motion.moves.sides[~motion.rapid][-1])  # of the last bore
    shifted = frames[last].setup_from_rows.copy()
    shifted[0, 3] += 1.0
    frames[last] = replace(frames[last], setup_from_rows=shifted)
    moved = replace(motion, turning=replace(motion.turning, frames=tuple(frames)))
    assert [a == b for a, b in zip(keys(motion), keys(moved), strict=True)] == [True] * 4 + [False]


def test_sides_that_cannot_be_reached_are_refused_with_the_joint_and_its_range():
    data = job_data(gauge(sides=[{"name": "Gauge face", "up": {"axis": "-z"}}]))
    data["setups"][0]["stock"] = {"kind": "box", "allowance": {"z_low": 2.0}}
    below = {"name": "Face the bottom", "strategy": "facing", "tool": 3, "side": "Gauge face"}
    data["setups"][0]["operations"] = [data["setups"][0]["operations"][0], below]
    job = job_from_data(data)
    with pytest.raises(
        DocumentError, match=r"'Gauge face'.*A would have to stand at -180.00°, 60.00° beyond"
    ) as caught:
        prover(job, MemoryStore()).post(job.effective_releases()[0])
    assert caught.value.where == "setups[0].sides[0]"
    job = gauge("column_mill_500")
    with pytest.raises(DocumentError, match="has no rotary joint"):
        prover(job).post(job.effective_releases()[0])
    for changes, words in (
        ({"sides": []}, "works from the side 'Gauge face', which the setup does not have"),
        ({"sides": [{"name": "Gauge face", "up": {"face": 3}}] * 2}, "side 'Gauge face' is used twice"),
    ):
        with pytest.raises(DocumentError, match=words):
            gauge(**changes)


def test_only_what_a_side_changes_is_computed_anew():
    job, store = gauge(), MemoryStore()
    planner = open_job(job, ROOT / "examples", store)
    keys = [planner.keys.path(job.setups[0], o) for o in job.setups[0].operations]
    turned = gauge(
        sides=[{"name": "Gauge face", "up": {"face": 3}, "turn_deg": 10.0, "origin": [0.0, -30.0, 20.0]}]
    )
    other = open_job(turned, ROOT / "examples", store)
    after = [other.keys.path(turned.setups[0], o) for o in turned.setups[0].operations]
    assert [a == b for a, b in zip(keys, after, strict=True)] == [True, True, False, False, False]


def test_a_document_of_the_first_version_is_taken_over():
    text = "fenrik: 1\nname: Old\nsetups:\n- {name: Top, machine: column_mill_800}\n"
    job = parse_job(text)
    assert job.fenrik == 2 and job.setups[0].machine == "column_mill_800" and job.setups[0].sides == []
    assert dump_job(job).startswith("fenrik: 2\n") and parse_job(dump_job(job)) == job
    for version in (0, 3, True, "1", None):
        with pytest.raises(DocumentError, match="this Fenrik reads 2 and all before it"):
            job_from_data({"fenrik": version, "name": "X"})


def test_the_frame_of_a_side_stands_square_to_its_face_with_its_zero_on_it():
    job = gauge()
    planner = open_job(job, ROOT / "examples", STORE)
    seen, clamped = planner.setups.seen(job.setups[0], "Gauge face"), planner.setups.clamped(job.setups[0])
    assert seen.setup_from_side[:3, 2] == pytest.approx([0.0, -0.5, np.sqrt(0.75)], abs=1e-9)
    assert apply(invert(seen.setup_from_part), np.zeros((1, 3)))[0] == pytest.approx([0.0, -30.0, 20.0])
    # the part's box along the side's axes: its highest corner is where the leaning face meets the top, at Z 0
    assert (
        0.0 <= seen.part_high[2] <= planner.workspace.part().mesh.deviation + 1e-6
    )  # no lower: the bores are not flat
    assert np.linalg.norm(seen.stock_high - seen.stock_low) > np.linalg.norm(
        clamped.stock_high - clamped.stock_low
    )


def test_the_same_operations_indexed_and_in_separate_clampings_leave_the_same_stock():
    """The gauge block once from its side on the tilting table, once clamped anew with the leaning face up."""
    indexed = gauge()
    data = job_data(gauge())
    top, own = data["setups"][0], data["setups"][0]["operations"]
    leaning = {**top, "name": "Leaning", "up": {"face": 3}, "stock": {"kind": "carried", "setup": "Top"}}
    leaning["zero"] = {"of": "point", "point": top["sides"][0]["origin"]}
    leaning["operations"] = [{**o, "side": None} for o in own if o.get("side")]
    top["operations"] = [o for o in own if not o.get("side")]
    top["sides"], leaning["sides"], data["releases"] = [], [], []
    data["setups"] = [{**top, "machine": "column_mill_800"}, {**leaning, "machine": "column_mill_800"}]
    apart = job_from_data(data)
    one = prover(indexed).prove(indexed.effective_releases()[0])
    own_prover = prover(apart)
    two = [own_prover.prove(r) for r in apart.effective_releases()]
    assert one.stops() == [] and all(p.stops() == [] for p in two)
    removed = sum(p.facts["removed_mm3"] for p in two)
    assert one.facts["removed_mm3"] == pytest.approx(removed, rel=2e-3)  # two lattices of 0.3 mm
    sizes = [{f["face"]: f for f in p.facts["deviation"]["by_face"]} for p in (one, two[-1])]
    assert set(sizes[0]) == set(sizes[1])
    for face, row in sizes[0].items():
        other = sizes[1][face]
        assert row["leftover_mm"] == pytest.approx(other["leftover_mm"], abs=0.005)
        assert row["overcut_mm"] == pytest.approx(other["overcut_mm"], abs=0.005)


def with_one_tool(dialect_id, **changes):
    """The gauge block's top faced and its leaning face cleared with the same mill, from side to side."""
    data = job_data(gauge(dialect_id=dialect_id, **changes))
    own = data["setups"][0]["operations"]
    wanted = ("Face the top", "Clear the gauge face")
    data["setups"][0]["operations"] = [o for o in own if o["name"] in wanted]
    return job_from_data(data)


@pytest.mark.parametrize("dialect_id", DIALECTS)
def test_the_way_from_side_to_side_goes_over_the_safe_body(dialect_id):
    """The table, 320 mm wide, turns about A 45 mm over its top's joint: its rim is farthest out."""
    store = MemoryStore()
    upper = with_one_tool(dialect_id)
    over = with_one_tool(dialect_id, between_sides={"over": "safe_body", "room": 15.0})
    one, two = (prover(j, store).prove(j.effective_releases()[0]) for j in (upper, over))
    assert one.stops() == two.stops() == []
    assert [f for f in two.facts["findings"] if f["kind"] == "difference"] == []
    mine = prover(over, store)
    body, setup = mine.paths.setups.safe_body(over.setups[0]), over.setups[0]
    on = mine.paths.setups.on_machine(setup)
    # by brute force: no place of table and stock gets over the height less the room, wherever A and C stand
    clamped = mine.paths.setups.clamped(setup)
    rim = np.array([[160 * np.cos(t), 160 * np.sin(t), 0] for t in np.linspace(0, 2 * np.pi, 73)])
    corners = np.array([clamped.stock_low, clamped.stock_high])
    box = np.array([[x, y, z] for x in corners[:, 0] for y in corners[:, 1] for z in corners[:, 2]])
    highest = -np.inf
    for a in np.arange(-120.0, 30.1, 5.0):
        for c in np.arange(0.0, 360.0, 15.0):
            place = invert(on.frame(on.machine.rotary_at({"A": a, "C": c}), 0.0).setup_from_rows)
            turned = apply(place, np.vstack([box, apply(on.setup_from_work, rim)]))
            highest = max(highest, float(turned[:, 2].max()))
    assert highest <= body.top - 15.0 + 1e-6
    assert highest > body.top - 15.0 - 60.0
    # in the text: up to that height, the table, over the start, and no way to the machine's upper end
    lines = two.facts["text"].split("\n")
    turn = next(i for i, line in enumerate(lines) if line.startswith("G0 A30.000"))
    before = [line for line in lines[turn - 4 : turn] if line.startswith("G0 Z")]
    assert before[-1] == f"G0 Z{body.top:.3f}"
    assert "G53 Z0." not in "".join(lines[turn - 3 : turn + 4])
    assert two.facts["time_s"] < one.facts["time_s"]
    assert two.facts["removed_mm3"] == pytest.approx(one.facts["removed_mm3"], rel=1e-9)


def test_a_safe_body_where_the_tool_turns_or_too_small_is_refused():
    head = gauge("fork_head_1500", between_sides={"over": "safe_body"})
    with pytest.raises(DocumentError, match="the tool turns as well") as refused:
        prover(head).paths.setups.safe_body(head.setups[0])
    assert refused.value.where == "setups[0].between_sides"
    small = gauge(between_sides={"over": "safe_body", "radius": 100.0})
    with pytest.raises(DocumentError, match=r"radius of 100 mm is less than .* get 166.4 mm out"):
        prover(small).paths.setups.safe_body(small.setups[0])


@pytest.mark.parametrize("dialect_id", DIALECTS)
def test_brakes_are_off_while_joints_turn_and_on_while_the_tool_cuts(dialect_id):
    job = gauge(dialect_id=dialect_id)
    lines = prover(job).prove(job.effective_releases()[0]).facts["text"].split("\n")
    turn = next(i for i, line in enumerate(lines) if line.startswith("G0 A30.000"))
    assert lines[turn - 1] == "M11" and lines[turn + 1] == "M10"
    # between two turns nothing is said again
    assert lines.count("M11") == lines.count("M10") == sum(line.startswith("G0 A") for line in lines)


def test_a_machine_without_brakes_has_no_words_for_them():
    job = gauge("swivel_head_500")
    text = prover(job).prove(job.effective_releases()[0]).facts["text"]
    assert "M10" not in text and "M11" not in text


def test_a_text_that_turns_a_joint_under_its_brake_gets_a_finding():
    job = gauge()
    mine = prover(job)
    posted = mine.post(job.effective_releases()[0])
    wrong = posted.text.replace("M11\nG0 A30.000", "G0 A30.000")
    for text, found in ((posted.text, []), (wrong, ["turns A, which its brake holds (M10)"])):
        reader = Reader(posted.program.change_heights(), 2.0, {}, posted.program.control())
        reader.read(text)
        assert [words for _, words in reader.findings] == found


def test_a_dialect_without_rotary_words_is_refused_where_the_machine_has_to_turn(tmp_path):
    text = (ROOT / "src/fenrik/core/posting/writing/dialects/plain_iso.toml").read_text("utf-8")
    upright = re.sub(r'(?m)^tilted = "\w+"', 'tilted = "none"', text)
    assert upright != text
    (tmp_path / "upright.toml").write_text(upright, "utf-8")
    (tmp_path / "models").mkdir()
    model = ROOT / "examples" / "models" / "gauge_block.step"
    (tmp_path / "models" / "gauge_block.step").write_bytes(model.read_bytes())
    job = gauge(dialect_id="upright.toml")
    mine = Prover(open_job(job, tmp_path, STORE))
    with pytest.raises(
        PostError, match=r"'Clear the gauge face' has .* stand at .*A 30.000°.* no rotary words"
    ):
        mine.post(job.effective_releases()[0])
    # from above it does
    only = job_data(job)
    only["setups"][0]["operations"] = only["setups"][0]["operations"][:1]
    above = job_from_data(only)
    assert "A30" not in Prover(open_job(above, tmp_path, STORE)).post(above.effective_releases()[0]).text


def turned_again(dialect_id="plain_iso", machine="tilting_table_320", **how):
    """A hole in the block's front, made again with the work turned on about the machine's axis."""
    data = job_data(gauge(dialect_id=dialect_id, machine=machine))
    setup = data["setups"][0]
    setup["sides"] = [{"name": "Front", "up": {"axis": "-y"}}]
    hole = {"at": [0.0, -20.0], "top": 30.0, "diameter": 8.0, "depth": 6.0}
    setup["operations"] = [
        {"name": "Drill", "strategy": "drilling", "tool": 31, "side": "Front", "holes": [hole]}
    ]
    setup["repeats"] = [{"name": "Round about", "operations": ["Drill"]}] if how else []
    if how:
        setup["repeats"][0]["how"] = {"kind": "rotary", "joint": "C", **how}
    return job_from_data(data)


@pytest.mark.parametrize("dialect_id", DIALECTS)
def test_the_table_is_turned_on_and_the_same_is_done_again(dialect_id):
    """Front and back of the block lie alike about C: twice the same words, twice the hole."""
    once, twice = turned_again(dialect_id), turned_again(dialect_id, count=2)
    store = MemoryStore()
    one, two = (prover(j, store).prove(j.effective_releases()[0]) for j in (once, twice))
    for proof in (one, two):  # the design has no hole there
        assert {s["kind"] for s in proof.stops()} == {"overcut"}
    assert two.facts["removed_mm3"] == pytest.approx(2.0 * one.facts["removed_mm3"], rel=1e-3)
    assert store.computed["track"] == 2  # once for each document: not again for the second time
    lines = two.facts["text"].split("\n")
    at = [float(m.group(1)) for m in (re.match(r"G0 .*\bC(-?[\d.]+)", line) for line in lines) if m]
    assert len(at) >= 2 and abs(at[1] - at[0]) == pytest.approx(180.0)
    cycles = [line for line in lines if "G81" in line]
    assert len(cycles) == 2
    if dialect_id == "plain_iso":
        assert cycles[0] == cycles[1]
    names = [o["name"] for o in two.facts["operations"]]
    assert names == ["Drill", "Drill, C +180°"]


def test_what_is_turned_into_the_way_is_found_by_the_proof():
    """The block is longer than wide: turned by 90 degrees its end stands where the drill comes down."""
    job = turned_again(count=4)
    proof = prover(job, MemoryStore()).prove(job.effective_releases()[0])
    stops = [s for s in proof.stops() if s["kind"] != "overcut"]
    assert stops and {s["kind"] for s in stops} <= {"rapid", "shank", "holder"}
    assert {s["operation"] for s in stops} == {"Drill"}
    kept = job_data(job)
    kept["setups"][0]["repeats"][0]["leave_out"] = [2, 4]
    kept = job_from_data(kept)
    left = prover(kept, MemoryStore()).prove(kept.effective_releases()[0]).stops()
    assert {s["kind"] for s in left} == {"overcut"}


def test_later_operations_know_what_was_cut_with_the_work_turned_on():
    """The planning stock of the back, worked as a side of its own, shows the hole of the second time."""
    data = job_data(turned_again(count=2))
    setup = data["setups"][0]
    setup["sides"].append({"name": "Back", "up": {"axis": "+y"}})
    setup["operations"].append({"name": "Face", "strategy": "facing", "tool": 3, "side": "Back"})
    job = job_from_data(data)
    paths = prover(job, MemoryStore()).paths
    own = paths.job.setups[0]
    stock = paths.stock_before(own, own.operations[1])
    # Y of the back's frame points down
    assert 20.0 < float(stock.top_at(np.array([[0.0, 20.0]]), 0.5)[0]) < 30.0 - 5.0
    assert float(stock.top_at(np.array([[20.0, 20.0]]), 0.5)[0]) == pytest.approx(30.0, abs=0.01)


@pytest.mark.parametrize(
    ("machine", "how", "words"),
    [
        (
            "tilting_table_320",
            {"joint": "A", "count": 2},
            "has to be the rotary joint that carries the work, and that is C",
        ),
        ("fork_head_1500", {"joint": "C", "count": 2}, "it has none that a program turns on"),
        ("column_mill_800", {"joint": "C", "count": 2}, "it has none that a program turns on"),
    ],
)
def test_only_the_joint_that_carries_the_work_turns_it_on(machine, how, words):
    job = turned_again(machine=machine, **how)
    with pytest.raises(DocumentError, match=words) as refused:
        prover(job, MemoryStore()).post(job.effective_releases()[0])
    assert refused.value.where == "setups[0].repeats[0].how.joint"


@pytest.mark.parametrize("machine", ["tilting_table_320", "inclined_rotary_400", "column_mill_500_rotary"])
def test_nothing_gets_out_of_the_safe_body_between_the_steps_in_which_it_was_looked_for(machine):
    job = gauge(machine, between_sides={"over": "safe_body", "room": 0.0})
    setups, setup = prover(job).paths.setups, job.setups[0]
    body, on, clamped = setups.safe_body(setup), setups.on_machine(setup), setups.clamped(setup)
    box = box_mesh(clamped.stock_low, clamped.stock_high).vertices
    way = (body.high - body.low) / np.linalg.norm(body.high - body.low)
    first = on.machine.in_chain[0].letter
    for turn in np.arange(0.0, 360.0, 0.7):
        turned = apply(on.turned_on(first, turn), box)
        if len(on.machine.rotary) == 1:
            turned = box  # the joint is the one that the body lies about
        along = (turned - body.low) @ way
        away = np.linalg.norm(turned - body.low - along[:, None] * way, axis=1)
        assert away.max() <= body.radius + 1e-9
        assert along.min() >= -1e-9 and along.max() <= np.linalg.norm(body.high - body.low) + 1e-9

"""Programs of an arm: what is written, what a control of the cell makes of it, and what is proved."""

from __future__ import annotations

import re
from copy import deepcopy
from functools import cache
from typing import Any

import numpy as np
import pytest

from fenrik.core.errors import DocumentError, PostError
from fenrik.core.job.cutting.proofs import Proof
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.programs.arm_lines import Way, lines_of, with_ways
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.cell import Cell
from fenrik.core.machines.holding import Held, held_along
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.moves import Motion
from fenrik.core.posting.arms.compare import compare_arm
from fenrik.core.posting.arms.dialect import ArmDialect
from fenrik.core.posting.arms.moves import tool_frame
from fenrik.core.posting.arms.reader import ArmReader
from tests.arms import two_cuts
from tests.examples import example, proof_of, prover_of

STORE = MemoryStore()
CELL = machines()["pedestal_arm_1800"]


def document(**arm: object) -> dict[str, Any]:
    """The foam dome roughed only, coarsely."""
    data = example("foam_dome")
    data["proof"] = {"cell_mm": 3.0, "tolerance_mm": 0.3}
    setup = data["setups"][0]
    setup["operations"] = setup["operations"][:1]
    setup["operations"][0]["parameters"]["step_down"] = 50.0
    setup["operations"][0]["arm"] = arm or {"search": "spin"}
    return data


def proved(data: dict[str, Any]) -> Proof:
    return proof_of(data, STORE)


@cache
def posted(dialect: str = "plain_arm") -> Posted:
    data = document()
    data["releases"][0]["dialect"] = dialect
    mine = prover_of(data, STORE)
    return mine.post(mine.job.effective_releases()[0])


def kinds(proof: Proof) -> set[str]:
    return {f["kind"] for f in proof.facts["findings"]}


def differences(files: list[tuple[str, str]], of: Posted) -> list[str]:
    """What the comparison says of other files than those that were written."""
    side = of.program.steps[0].side
    reader = ArmReader(CELL, side.on.setup_from_work)
    reader.read(files)
    words = of.dialect
    assert isinstance(words, ArmDialect)
    found = compare_arm(of.program.steps, reader, side.on.work_from_setup, words)
    return [d.words for d in found.differences]


def test_the_tools_frame_is_that_of_the_drawing():
    """On paper: the flange at (1420, 0, 2020) looks along X with its own X down; the gauge line at (1600, 0,
    1940) leans by 45°, the tip 175 mm below it along the spindle. So in the flange the tip is 203.744 along X
    and 303.744 along Z, and the tool points 45° between them (ISO 9787: Z out of the tool)."""
    frame = tool_frame(CELL, 175.0)
    along = 175.0 * np.sqrt(0.5)
    assert frame[:3, 3] == pytest.approx([80.0 + along, 0.0, 180.0 + along], abs=1e-9)
    assert frame[:3, 2] == pytest.approx([np.sqrt(0.5), 0.0, np.sqrt(0.5)], abs=1e-12)
    text = posted().text
    assert f"TOOL 1 X {80.0 + along:.3f} Y 0.000 Z {180.0 + along:.3f} A 0.0000 B -45.0000 C 180.0000" in text
    # fixed axes X, Y, Z (ISO 9787): turned by -45° about Y, then by half a turn about Z, Z points there
    c = np.sqrt(0.5)
    about_y = np.array([[c, 0.0, -c], [0.0, 1.0, 0.0], [c, 0.0, c]])
    assert np.diag([-1.0, -1.0, 1.0]) @ about_y[:, 2] == pytest.approx(frame[:3, 2])


def test_a_program_says_frames_joints_straight_moves_and_the_tables_angle_on_each():
    text = posted().text
    assert "OBJECT ON E1 X 0.000 Y 0.000 Z 115.000 A 0.0000 B 0.0000 C 0.0000" in text
    straight = re.findall(r"^STRAIGHT .*$", text, re.M)
    number = r"-?\d+\.\d+"
    shape = rf"STRAIGHT X {number} Y {number} Z {number} A {number} B {number} C {number} E1 {number} "
    assert len(straight) > 1000
    assert all(re.fullmatch(rf"{shape}(RAPID|F {number})", line) for line in straight)
    # upright, the tool points down: half a turn about X
    assert all(" A 180.0000 B 0.0000 " in line for line in straight)
    home = "JOINTS J1 0.0000 J2 -25.0000 J3 35.0000 J4 0.0000 J5 35.0000 J6 0.0000 E1 0.0000"
    lines = [line for line in text.splitlines() if line.startswith("JOINTS")]
    assert lines[0] == lines[-1] == home


def test_a_long_program_is_files_that_the_first_one_calls():
    of = posted("quaternion_arm")
    first, *others = of.files
    assert len(others) > 3
    names = [name.removesuffix(".txt") for name, _ in others]
    assert re.findall(r"^CALL (\S+)$", first[1], re.M) == names
    for name, text in of.files:
        lines = text.splitlines()
        assert (
            len(lines) <= 1000 and lines[0] == f"PROGRAM {name.removesuffix('.txt')}" and lines[-1] == "END"
        )
    # the same motion as in few long files, as exact as it is written
    a, b = of.motion, posted().motion
    assert len(a) == len(b)
    assert np.abs(a.places - b.places).max() < 0.002
    assert np.abs(a.leans - b.leans).max() < 1e-5
    assert np.abs(a.feed - b.feed).max() < 0.1


@pytest.mark.parametrize("dialect", ["plain_arm", "quaternion_arm"])
def test_what_is_read_back_is_what_was_planned(dialect):
    of = posted(dialect)
    assert of.findings == [] and of.comparison.differences == []
    assert set(of.comparison.step_of.tolist()) == {0}
    turning = of.motion.turning
    assert turning is not None
    # joints and poses of every piece belong together, by the chain's forward kinematics
    side = of.program.steps[0].side
    rows = np.linspace(0, len(turning.poses) - 1, 400).astype(int)
    k = len(CELL.in_chain)
    tips, axes = side.on.tips(turning.joints[rows, k:], of.program.steps[0].tool.gauge_length)
    assert np.abs(tips - turning.poses[rows, 6:9]).max() < 2e-3
    assert np.abs(axes - turning.poses[rows, 9:]).max() < 1e-5
    # no jump from piece to piece
    assert np.abs(turning.joints[1:, :k] - turning.joints[:-1, k:]).max() < 1e-9
    assert np.abs(turning.poses[1:, :3] - turning.poses[:-1, 6:9]).max() < 2e-3


TAMPERED = {
    "a place": (r"STRAIGHT X (-?\d+\.\d)(\d\d) Y", r"STRAIGHT X \g<1>99 Y", "differs from the planned one"),
    "a direction": (r" C (-?\d+)\.0000 E1", r" C \1.0500 E1", "turned"),
    "the table": (r"E1 0\.0000 F", "E1 0.0100 F", "the table stands"),
    "a feed": (r" F 3545\.0", " F 3600.0", "feed is"),
    "rapid": (r" F 3545\.0", " RAPID", "exchanged"),
    "joints": (r"J4 -1(\d\d)\.(\d+) J5", r"J4 -1\1.9999 J5", "a joint ends"),
    "a tool": (r"TOOL 1 X 203\.744", "TOOL 1 X 203.844", "frame of tool 1"),
    "the object": (r"Z 115\.000 A", "Z 115.500 A", "object frame"),
    "the spindle": (r"SPINDLE 7960", "SPINDLE 7060", "spindle"),
    "the sense of turning": (r"RIGHT", "LEFT", "spindle"),
    "a move": (r"STRAIGHT .*F 3545\.0\n", "", "planned"),
}


@pytest.mark.parametrize("what", TAMPERED)
def test_a_text_that_says_something_else_is_told(what):
    pattern, to, words = TAMPERED[what]
    of = posted()
    files = list(of.files)
    for i, (name, text) in enumerate(files):
        changed = re.sub(pattern, to, text, count=1)
        if changed != text:
            files[i] = (name, changed)
            break
    else:
        pytest.fail(f"nothing in the text is {pattern}")
    found = differences(files, of)
    assert found and words in found[0], found


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("GO X 1", "does not know"),
        ("STRAIGHT X 1 Y 2 A 0 B 0 C 0 E1 0 RAPID", "X, Y and Z"),
        ("STRAIGHT X 1 Y 2 Z 3 A 0 B 0 E1 0 RAPID", "neither as A, B and C"),
        ("STRAIGHT X 1 Y 2 Z 3 Q1 1 Q2 1 Q3 0 Q4 0 E1 0 RAPID", "unit quaternion"),
        ("STRAIGHT X 1 Y 2 Z 3 A 0 B 0 C 0 RAPID", "E1"),
        ("STRAIGHT X 1 Y 2 Z 3 A 0 B 0 C 0 E1 0", "RAPID, F and V"),
        ("STRAIGHT X 1 Y 2 Z 3 A 0 B 0 C 0 E1 0 F 0", "no feed"),
        ("STRAIGHT X 1 X 2 Y 2 Z 3 A 0 B 0 C 0 E1 0 RAPID", "'X 2'"),
        ("JOINTS J1 0 J2 0 J3 0 J4 0 J5 0 E1 0", "J6"),
        ("JOINTS J1 zero", "'J1 zero'"),
        ("SPINDLE 100", "SPINDLE OFF"),
        ("CALL nowhere", "none of the files"),
        ("CALL foam_dome", "calls itself"),
        ("OBJECT X 0 Y 0 Z 0 A 0 B 0 C 0", "E1"),
        ("END\nPAUSE", "after END"),
        ("WAIT long", "seconds"),
    ],
)
def test_what_a_control_does_not_take_names_its_line(line, words):
    text = "PROGRAM foam_dome\nOBJECT ON E1 X 0 Y 0 Z 0 A 0 B 0 C 0\nTOOL 1 X 0 Y 0 Z 100 A 0 B 0 C 0\n"
    text += "JOINTS J1 0 J2 0 J3 0 J4 0 J5 45 J6 0 E1 0\n" + line + "\nEND\n"
    with pytest.raises(PostError, match=re.escape(words)) as caught:
        ArmReader(CELL, np.eye(4)).read([("foam_dome.txt", text)])
    assert "Line " in caught.value.what


def test_a_program_that_does_not_end_is_told():
    with pytest.raises(PostError, match="END is missing"):
        ArmReader(CELL, np.eye(4)).read([("a.txt", "PROGRAM a\nPAUSE\n")])


def test_moving_with_the_spindle_at_rest_is_told():
    of = posted()
    files = [(n, t.replace("SPINDLE 7960 RIGHT", "SPINDLE OFF")) for n, t in of.files]
    reader = ArmReader(CELL, of.program.steps[0].side.on.setup_from_work)
    reader.read(files)
    assert reader.findings and "spindle at rest" in reader.findings[0][1]


def test_the_arm_cuts_what_a_mill_cuts_with_the_same_path():
    """The same operation on a column mill: consistency of two ways that share neither writer nor reader."""
    arm = proved(document())
    data = document()
    data["setups"][0]["machine"] = "column_mill_800"
    data["releases"][0]["dialect"] = "plain_iso"
    mill = proved(data)
    assert arm.facts["removed_mm3"] == pytest.approx(mill.facts["removed_mm3"], rel=1e-4)
    own, theirs = (p.facts["operations"][0] for p in (arm, mill))
    assert own["cutting_length_mm"] == pytest.approx(theirs["cutting_length_mm"], rel=1e-4)
    # the load counts all that the operation does, not only the way home
    load = own["load"]
    assert load["time_in_cut_s"] == pytest.approx(theirs["load"]["time_in_cut_s"], rel=0.1)
    assert load["time_in_cut_s"] + load["time_in_air_s"] == pytest.approx(own["time_s"], rel=1e-3)
    assert arm.facts["findings"] == [f for f in arm.facts["findings"] if f["severity"] == "note"]


def test_a_wrist_near_its_singular_posture_is_found_with_moment_and_remedy():
    """This spindle leans by 45°: with the spin held at zero the wrist of an upright tool lies in line."""
    data = document(search="none", spin_deg=0.0)
    data["setups"][0]["placement"] = {"z": 60.0}
    proof = proved(data)
    found = {f["kind"]: f for f in proof.facts["findings"]}
    singular = found["singular"]
    assert singular["severity"] == "caution" and "wrist" in singular["words"] and "J5" in singular["words"]
    assert singular["time_s"] > 0.0 and singular["operation"] == "Rough the dome" and singular["place"]
    assert "spin be searched" in singular["remedy"]
    assert found["joint_speed"]["measure"] > found["joint_speed"]["limit"]
    assert found["travel"]["severity"] == "stop" and "°" in found["travel"]["words"]


def test_places_that_the_arm_does_not_get_to_stop_the_release():
    data = document(search="none", spin_deg=60.0)
    data["setups"][0]["placement"] = {"x": 400.0}
    proof = proved(data)
    reach = next(f for f in proof.facts["findings"] if f["kind"] == "reach")
    assert reach["severity"] == "stop" and "does not get to" in reach["words"] and reach["move"] > 0
    assert reach["place"][0] > 0.0 and "Turn the table" in reach["remedy"]
    # turned by half a turn the part is on the near side
    data["setups"][0]["operations"][0]["arm"] = {"search": "spin", "table_deg": 180.0}
    assert kinds(proved(data)) <= {"left_unfinished"}


def test_an_arm_that_reaches_nothing_is_refused_with_what_lacks():
    data = document()
    data["setups"][0]["placement"] = {"x": 2500.0}
    with pytest.raises(DocumentError, match=r"reaches no place of 'Rough the dome'.*mm farther") as caught:
        proved(data)
    assert caught.value.where.startswith("setups[0].operations[0]")


def test_dialects_and_machines_that_do_not_fit_are_refused():
    data = document()
    data["releases"][0]["dialect"] = "plain_iso"
    with pytest.raises(DocumentError, match=r"is an arm.*plain_arm or quaternion_arm"):
        proved(data)
    data = document()
    data["setups"][0]["machine"] = "column_mill_800"
    with pytest.raises(DocumentError, match=r"'plain_arm' cannot say what moves.*is no arm"):
        proved(data)
    data["releases"] = []
    assert proved(data).facts["dialect"] == "plain_iso"
    data = document()
    data["releases"] = []
    assert proved(data).facts["dialect"] == "plain_arm"


@pytest.mark.parametrize(
    ("change", "words"),
    [({"split": "tool"}, "split by its lines"), ({"options": {"rapid_feed_mm_min": 9000.0}}, "joints can")],
)
def test_what_an_arms_program_has_not_is_refused(change, words):
    data = document()
    data["releases"][0] |= change
    with pytest.raises(DocumentError, match=words):
        proved(data)


ROUND = {"kind": "round", "begin": (0, 0, 0), "radius": 1.0}


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"home": {"J9": 1.0}}, "J9"),
        ({"bodies": [ROUND | {"joint": "J9", "end": (0, 0, 1)}]}, "J9"),
        ({"bodies": [ROUND | {"end": (0, 0, 0)}]}, "no length"),
    ],
)
def test_a_cell_that_cannot_be_is_refused(change, words):
    data = document()
    data["machines"] = [{**CELL.model_dump(mode="json"), "id": "own", **change}]
    with pytest.raises(DocumentError, match=words):
        job_from_data(data)


def test_an_arm_of_another_build_is_refused_with_the_reason():
    data = document()
    own = deepcopy(CELL.model_dump(mode="json")) | {"id": "own"}
    next(j for j in own["joints"] if j["name"] == "J6")["point"] = (1420.0, 80.0, 2020.0)
    data["machines"], data["setups"][0]["machine"] = [own], "own"
    with pytest.raises(DocumentError, match="axes of its wrist miss each other by"):
        proved(data)


def test_a_leaning_side_and_a_moving_wall_are_driven_too():
    """The guide vane of the shop, its wall by the side of the tool, and a side that leans: both with the
    table held; nothing is gouged, and every block ends where it was planned."""
    data = example("guide_vane")
    data["proof"]["cell_mm"] = 0.6
    setup = data["setups"][0]
    setup["machine"] = "pedestal_arm_1800"
    setup["operations"][0]["parameters"]["step_down"] = 16.0
    data["releases"][0]["dialect"] = "plain_arm"
    proof = proved(data)
    assert [f["words"] for f in proof.facts["findings"] if f["severity"] == "stop"] == []
    assert proof.facts["deviation"]["max_overcut_mm"] < 0.02
    wall = next(f for f in proof.facts["deviation"]["by_face"] if f["face"] == 1)
    assert wall["share_on_size"] > 0.97
    assert proof.facts["moving"] == "arm"


def test_a_first_place_out_of_reach_is_sent_to_all_the_same():
    """So that the control finds it: no joints lead there, and none are made up."""
    cell = Cell(OnMachine(CELL, np.eye(4)), 150.0)
    tips = np.column_stack([np.linspace(2500.0, 0.0, 60), np.zeros(60), np.full(60, 200.0)])
    axes, none = np.tile([0.0, 0.0, 1.0], (60, 1)), np.zeros(60)
    kind = np.full(60, Motion.FEED, dtype=np.int8)
    way = Way(tips, axes, kind, none + 1000.0, none, none == 0.0)
    holding = held_along(cell, tips, axes, none > 0.0, Held(0.0, 60.0))
    assert not holding.holds[0] and holding.holds[-1]
    moves = with_ways(cell, lines_of(cell, way, holding, 50.0, 0.05), way, holding)
    assert moves.by_joints[0] and not moves.by_joints[1:-1].any()
    assert moves.tips[1].tolist() == tips[0].tolist()
    assert moves.joints[0] == pytest.approx(CELL.at_home)


def test_a_leap_to_another_posture_is_a_move_of_the_joints():
    cell, tips, axes, loose = two_cuts()
    holding = held_along(cell, tips, axes, loose, Held(0.0, 0.0))
    kind = np.where(loose, Motion.RAPID, Motion.FEED).astype(np.int8)
    none = np.zeros(len(tips))
    way = Way(tips, axes, kind, none + 1000.0, none, none == 0.0)
    moves = with_ways(cell, lines_of(cell, way, holding, 50.0, 0.05), way, holding)
    (leap,) = np.flatnonzero(np.diff(holding.leg)).tolist()
    inner = np.flatnonzero(moves.by_joints[2:-1]) + 2
    assert len(inner) == 1 and moves.rapid[inner[0]]
    assert moves.joints[inner[0]] == pytest.approx(holding.joints[leap + 1])
    # and it ends where the path goes on
    tip, _ = cell.at(moves.joints[inner])
    assert tip[0] == pytest.approx(tips[leap + 1], abs=1e-6)


def test_the_way_to_a_path_and_back_stands_off_along_the_axis():
    """In and out by moves of the joints, and between them and the path straight along the tool's axis."""
    moves = posted().program.steps[0].arm
    assert moves is not None
    assert moves.by_joints.tolist().count(True) == 3
    assert moves.by_joints[0] and moves.by_joints[1] and moves.by_joints[-1]
    assert moves.tips[1] - moves.tips[2] == pytest.approx([0.0, 0.0, 100.0])
    assert moves.tips[-2] - moves.tips[-3] == pytest.approx([0.0, 0.0, 100.0])
    assert moves.joints[0] == pytest.approx(CELL.at_home)

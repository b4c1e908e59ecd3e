"""Face work on a lathe with a driven tool: X and C in place of X and Y."""

from __future__ import annotations

import math
import re
from copy import deepcopy
from functools import cache
from typing import Any

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import ComputeError, DocumentError, PostError
from fenrik.core.frames import transform
from fenrik.core.job.cutting.proofs import Proof
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.machines.polar import divided, nearest_to_axis, polar, unwound
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.setups.round_stock import RoundStock, round_mesh
from tests.core.test_machines import pose_in_pinocchio
from tests.examples import example, proof_of, prover_of

LATHE = machines()["driven_lathe_250"]
STORE = MemoryStore()


def on(x: float = 0.0, y: float = 0.0, z: float = 80.0) -> OnMachine:
    return OnMachine(LATHE, transform(np.eye(3), np.array([x, y, z])))


def document() -> dict[str, Any]:
    """The six-flat flange, proved coarsely."""
    data = example("six_flat_flange")
    data["proof"]["cell_mm"] = 0.5
    return data


def proved(data: dict[str, Any]) -> Proof:
    return proof_of(data, STORE)


@cache
def posted() -> Posted:
    mine = prover_of(document(), STORE)
    return mine.post(mine.job.effective_releases()[0])


@settings(max_examples=60, deadline=None)
@given(*[st.floats(-60.0, 60.0)] * 3, st.floats(-20.0, 20.0))
def test_a_place_of_the_face_comes_before_the_tool(x, y, z, aside):
    """By Pinocchio's forward kinematics, with the setup's zero off the spindle's axis."""
    place, at = np.array([[x, y, z]]), on(aside, -aside)
    far, angle = polar(at, place)
    joints = at.joints_at(place, angle[:, None], 120.0)
    values = dict(zip(LATHE.chain.names, joints[0], strict=True))
    assert values["X"] == pytest.approx(far[0], abs=1e-9) and far[0] >= 0.0
    assert far[0] == pytest.approx(math.hypot(x + aside, y - aside), abs=1e-9)
    pose = pose_in_pinocchio((LATHE.joints, LATHE.work, LATHE.tool), values)
    tip = pose[:3, 3] - 120.0 * pose[:3, 2] - np.array([aside, -aside, 80.0])
    assert tip == pytest.approx(place[0], abs=1e-9)


def test_places_on_paper():
    """The work turned by a quarter brings its Y before the tool; X is written as a diameter."""
    far, angle = polar(on(), np.array([[20.0, 0.0, 0.0], [0.0, 15.0, 0.0], [-10.0, 0.0, 0.0]]))
    assert far.tolist() == [20.0, 15.0, 10.0]
    assert angle[:2] == pytest.approx([0.0, 90.0])
    assert abs(angle[2]) == pytest.approx(180.0)
    words = on().words(on().joints_at(np.array([[0.0, 15.0, 3.0]]), angle[1:2, None], 100.0), 100.0)
    assert words[0] == pytest.approx([15.0, 0.0, 3.0])


@settings(max_examples=40, deadline=None)
@given(
    st.lists(st.tuples(st.floats(-50, 50), st.floats(-50, 50)), min_size=2, max_size=6), st.floats(0.002, 0.1)
)
def test_an_even_way_of_x_and_c_stays_with_the_straight_one(places, tolerance):
    """Against dense places on the way that the joints drive."""
    tips = np.array([[x, y, 0.0] for x, y in places])
    tips = tips[np.concatenate([[True], np.abs(np.diff(tips, axis=0)).max(axis=1) > 1e-3])]
    if len(tips) < 2:
        return
    done = divided(on(), tips, np.full(len(tips), tolerance), 0.0)
    far, _ = polar(on(), done.tips)
    assert np.abs(np.diff(done.angles)).max() <= 180.0 + 1e-9
    share = np.linspace(0.0, 1.0, 21)[:, None]
    for i in range(len(done.tips) - 1):
        radius = far[i] + share[:, 0] * (far[i + 1] - far[i])
        angle = np.radians(done.angles[i] + share[:, 0] * (done.angles[i + 1] - done.angles[i]))
        if min(far[i], far[i + 1]) <= 1e-9:
            continue
        driven = np.column_stack([radius * np.cos(angle), radius * np.sin(angle)])
        a, b = done.tips[i, :2], done.tips[i + 1, :2]
        straight = a + share * (b - a)
        assert np.linalg.norm(driven - straight, axis=1).max() < 1.1 * tolerance


def test_the_work_turns_on_over_whole_turns_and_stays_where_the_tool_is_on_its_axis():
    turn = np.linspace(0.0, 6.0 * np.pi, 200)
    round_ = 20.0 * np.column_stack([np.cos(turn), np.sin(turn), 0.0 * turn])
    angles = unwound(on(), round_, 0.0)
    assert abs(angles[-1] - angles[0]) == pytest.approx(1080.0)
    through = np.array([[10.0, 0.0, 0.0], [0.0, 0.0, 0.0], [0.0, 0.0, 5.0], [0.0, 10.0, 0.0]])
    angles = unwound(on(), through, 0.0)
    assert angles[0] == angles[1] == angles[2] and abs(angles[3] - angles[2]) == pytest.approx(90.0)


def test_how_near_a_way_comes_to_the_axis():
    tips = np.array([[10.0, 5.0, 0.0], [-10.0, 5.0, 0.0], [-10.0, 20.0, 0.0]])
    assert nearest_to_axis(on(), tips) == pytest.approx([5.0, math.hypot(10.0, 5.0)])


def test_no_place_beside_the_plane_of_x_and_z_is_reached():
    with pytest.raises(ComputeError, match="beside the plane"):
        on().joints_at(np.array([[10.0, 10.0, 0.0]]), np.zeros((1, 1)), 100.0)


def test_the_lathe_cuts_what_a_mill_cuts_by_x_and_y():
    """The same stock, as cut by a column mill: the posted texts share no coordinate but Z."""
    lathe = proved(document())
    data = document()
    data["setups"][0]["machine"] = "column_mill_500"
    mill = proved(data)
    assert lathe.facts["removed_mm3"] == pytest.approx(mill.facts["removed_mm3"], rel=5e-5)
    for a, b in zip(lathe.facts["operations"], mill.facts["operations"], strict=True):
        assert a["removed_mm3"] == pytest.approx(b["removed_mm3"], rel=1e-4)
        assert a["cutting_length_mm"] == pytest.approx(b["cutting_length_mm"], rel=1e-3)
    one, other = (p.facts["deviation"] for p in (lathe, mill))
    assert one["max_overcut_mm"] < 0.01 and other["max_overcut_mm"] < 0.01
    assert one["share_within_tolerance"] == pytest.approx(other["share_within_tolerance"], abs=1e-3)
    assert [f for f in lathe.facts["findings"] if f["severity"] != "note"] == []


def test_its_program_says_diameters_and_c_and_the_feed_of_the_contact():
    """Each block at feed lasts as long as the tip's way on the part takes at the planned feed, whatever the
    joints do; closed form from the words alone."""
    text = posted().text
    assert not re.search(r"^[^(]*Y", re.sub(r"\([^)]*\)", "", text), re.M)
    here: dict[str, float] = {}
    feeds, motion, inverse = [], 0, False
    for line in re.sub(r"\([^)]*\)", "", text).splitlines():
        words = {a: float(v) for a, v in re.findall(r"([XZCFG])(-?\d+\.?\d*)", line)}
        inverse = (inverse or "G93" in line) and "G94" not in line
        if words.get("G") in (0.0, 1.0):
            motion = int(words["G"])
        before, here = here, here | {a: v for a, v in words.items() if a in "XZC"}
        if "F" in words and inverse and motion == 1 and len(before) == 3:
            a, b = (
                np.array([w["X"] / 2 * math.cos(t), w["X"] / 2 * math.sin(t), w["Z"]])
                for w, t in ((before, math.radians(before["C"])), (here, math.radians(here["C"])))
            )
            way = float(np.linalg.norm(b - a))
            if way > 0.3:
                feeds.append(way * words["F"])
    planned = {round(m.feed, 1) for s in posted().program.steps for m in [_Feed(f) for f in s.path.feed]}
    off = [min(abs(f / p - 1.0) for p in planned if p > 0) for f in feeds]
    assert len(feeds) > 500 and max(off) < 0.01


class _Feed:
    def __init__(self, feed: float) -> None:
        self.feed = float(feed)


def test_the_flats_come_out_on_size_by_the_words_alone():
    """From the text: the tool's middle stays its radius off the hexagon (shapely), along each flat."""
    tool, here, tips, motion = 0, {}, [], 0
    for line in re.sub(r"\([^)]*\)", "", posted().text).splitlines():
        words = {a: float(v) for a, v in re.findall(r"([XZCTG])(-?\d+\.?\d*)", line)}
        tool = int(words.get("T", tool))
        if words.get("G") in (0.0, 1.0):
            motion = int(words["G"])
        before, here = here, here | {a: v for a, v in words.items() if a in "XZC"}
        if tool != 2 or motion != 1 or len(before) < 3 or here["Z"] > -11.9:
            continue
        for share in np.linspace(0.0, 1.0, 9):
            x, c = (before[a] + share * (here[a] - before[a]) for a in "XC")
            turn = math.radians(c)
            tips.append((x / 2.0 * math.cos(turn), x / 2.0 * math.sin(turn)))
    places = np.array(tips)
    turn = np.radians(30.0 + 60.0 * np.arange(6))
    normal = np.column_stack([np.cos(turn), np.sin(turn)])
    off = places @ normal.T - 23.0 - 5.0  # half across the flats, the tool's radius
    corner = 23.0 / math.cos(math.radians(30.0))
    hub = shapely.Polygon([(corner * math.cos(a), corner * math.sin(a)) for a in turn - math.radians(30.0)])
    assert shapely.distance(hub, shapely.points(places)).min() > 5.0 - 0.011
    for k in range(6):
        along = places[np.abs(off[:, k]) < 0.012] @ np.array([-normal[k, 1], normal[k, 0]])
        reach = 23.0 * math.tan(math.radians(30.0))
        assert along.min() < -reach + 0.5 and along.max() > reach - 0.5


def test_a_cut_through_the_middle_is_refused_with_its_reason():
    data = document()
    setup = data["setups"][0]
    setup["stock"] |= {"bore": 0.0, "z_high": 2.0}
    slow = LATHE.model_dump(mode="json") | {"id": "slow"}
    slow["joints"][0]["speed"] = 6000.0
    data["machines"], setup["machine"] = [slow], "slow"
    setup["operations"] = [{"name": "Face", "strategy": "facing", "tool": 1}]
    with pytest.raises(PostError, match=r"'Face' cuts .* mm from the axis of C.*has to stay") as caught:
        proved(data)
    assert "lower the feed" in caught.value.remedy
    # far enough from it, it is taken
    setup["operations"][0]["keep_out"] = [{"polygon": [[-12, -12], [12, -12], [12, 12], [-12, 12]]}]
    assert "stop" not in {f["severity"] for f in proved(data).facts["findings"]}


def test_a_part_wider_than_its_stock_is_refused_with_its_width():
    data = document()
    data["setups"][0]["stock"]["diameter"] = 88.0
    with pytest.raises(DocumentError, match=r"90\.\d+ mm wide about the axis.*diameter of 88 mm") as caught:
        proved(data)
    assert caught.value.where == "setups[0].stock.diameter" and "mm or more" in caught.value.remedy


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"bore": 30.0}, "material in the stock's bore of 30 mm"),
        ({"bore": 95.0}, "as wide as the stock"),
        ({"centre": [3.0, 0.0, 0.0]}, "wide about the axis"),
    ],
)
def test_stock_that_cannot_be_is_refused(change, words):
    data = document()
    data["setups"][0]["stock"] |= change
    with pytest.raises(DocumentError, match=words):
        proved(data)


def test_round_stock_holds_one_part():
    data = document()
    data["setups"][0]["array"] = {"columns": 2, "rows": 1}
    with pytest.raises(DocumentError, match="holds one part"):
        proved(data)


def test_what_no_block_of_x_and_c_says_is_refused():
    data = document()
    data["releases"][0]["dialect"] = "plain_iso_plane"
    with pytest.raises(PostError, match=r"driven by X and C.*has no way") as caught:
        proved(data)
    assert "plain_iso" in caught.value.remedy
    data = document()
    data["setups"][0]["operations"][1]["parameters"] = {"correction": "control"}
    with pytest.raises(PostError, match="correct the radius"):
        proved(data)


def test_a_dwell_that_no_block_says_is_refused():
    data = document()
    setup = data["setups"][0]
    hole = {"at": [34.0, 0.0], "top": -12.0, "diameter": 12.0, "depth": 5.0}
    bored = {"cycle": "counterbore", "dwell": 0.5}
    setup["operations"] = [
        {"name": "Drill", "strategy": "drilling", "tool": 1, "holes": [hole], "parameters": bored}
    ]
    with pytest.raises(PostError, match="stands at the bottom"):
        proved(data)


def test_a_side_that_looks_elsewhere_is_refused():
    data = document()
    setup = data["setups"][0]
    setup["sides"], setup["stock"]["diameter"] = [{"name": "Flank", "up": {"face": 5}}], 96.0
    setup["operations"] = [{"name": "Face", "strategy": "facing", "tool": 1, "side": "Flank"}]
    with pytest.raises(DocumentError, match="works along its spindle's axis"):
        proved(data)


@pytest.mark.parametrize(
    ("block", "words"), [("G1 Y3. F100.", "no such joint"), ("G2 X20. C30. I5. J0. F100.", "on an arc")]
)
def test_a_control_without_y_does_not_take_it(block, words):
    step = posted().program.steps[0]
    start = "%\nO1\nG21 G90 G17 G40 G49 G80 G94\nT1 M6\nG54\nS1000 M3\nG0 C0.\nG0 X90.\nG43 H1 Z5.\n"
    reader = Reader({"G54": 100.0}, 0.5, {}, posted().program.control())
    with pytest.raises(PostError, match=words):
        reader.read(f"{start}{block}\nM30\n%\n")
    assert step.tool.number == 1


def test_a_tube_has_the_volume_of_a_tube():
    """Closed form, and outside of the cylinder by no more than its facets."""
    stock = RoundStock(kind="round", diameter=90.0, bore=26.0)
    mesh = round_mesh(stock, np.array([3.0, -4.0]), -10.0, 30.0)
    corners = mesh.vertices[mesh.triangles]
    volume = np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])).sum() / 6.0
    assert volume == pytest.approx(math.pi / 4.0 * (90.0**2 - 26.0**2) * 40.0, rel=3e-5)
    far = np.hypot(*(mesh.vertices[:, :2] - [3.0, -4.0]).T)
    assert set(np.round(far, 2)) == {13.0, 45.0} and far.max() < 45.001
    # closed: every edge is there once in each sense
    edges = np.concatenate([mesh.triangles[:, [i, (i + 1) % 3]] for i in range(3)])
    there = {tuple(e) for e in edges.tolist()}
    assert len(there) == len(edges) and all((b, a) in there for a, b in there)


def test_which_machines_are_lathes():
    assert [m.id for m in machines().values() if m.is_lathe] == ["driven_lathe_250"]
    own = deepcopy(LATHE.model_dump(mode="json"))
    own["tool"]["at"] = [0.0, 5.0, 0.0]  # the tool does not pass over the axis
    changed = type(LATHE).model_validate(own)
    assert not changed.is_lathe and "Y" in changed.lack


def test_a_round_part_is_as_wide_as_it_is():
    """The size that a user reads is that of the exact faces, not of the mesh between its corners."""
    size = prover_of(document(), STORE).paths.workspace.part().summary()["size"]
    assert size == pytest.approx([90.0, 90.0, 26.0], abs=1e-6)

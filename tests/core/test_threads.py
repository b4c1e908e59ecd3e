"""Threads: dimensions by ISO 724 and ASME B1.1, taps in step, milled grooves measured in the stock, and their
proof."""

import math

import numpy as np
import pytest

from fenrik.core.errors import FenrikError
from fenrik.core.features.threads import thread
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.proof.threads import ThreadZone
from fenrik.core.stock.dexels import Stock, tool_bodies
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled

TAP = make_tool(
    "tap", 8.0, number=2, thread_pitch=1.25, flute_length=24.0, shank_diameter=6.0, stick_out=45.0
)


def thread_mill(rows=1, pitch=2.0, diameter=16.0, **more):
    flutes = max(rows * pitch, 3.0)
    return make_tool(
        "thread_mill",
        diameter,
        thread_pitch=pitch,
        thread_rows=rows,
        flute_length=flutes,
        shank_diameter=diameter - 1.3 * pitch - 0.1,
        stick_out=45.0,
        **more,
    )


@pytest.mark.parametrize(
    ("name", "major", "pitch", "pitch_diameter", "minor"),
    [  # ISO 724 (from memory); ASME B1.1 basic sizes in inches (from memory)
        ("M8", 8.0, 1.25, 7.188, 6.647),
        ("M10", 10.0, 1.5, 9.026, 8.376),
        ("M12", 12.0, 1.75, 10.863, 10.106),
        ("M8 x 1", 8.0, 1.0, 7.350, 6.917),
        ("M30x2", 30.0, 2.0, 28.701, 27.835),
        ("M20", 20.0, 2.5, 18.376, 17.294),
        ("1/4-20", 6.35, 1.27, 0.2175 * 25.4, 0.1959 * 25.4),
        ("1-8 UNC", 25.4, 3.175, 0.9188 * 25.4, 0.8647 * 25.4),
        ("#10-32", 4.826, 0.79375, 0.1697 * 25.4, 0.1562 * 25.4),
        ("1 1/4-7", 31.75, 25.4 / 7, 1.1572 * 25.4, 1.0954 * 25.4),
    ],
)
def test_dimensions_of_threads_by_their_names(name, major, pitch, pitch_diameter, minor):
    found = thread(name)
    assert (found.major, found.pitch) == pytest.approx((major, pitch))
    assert found.pitch_diameter == pytest.approx(pitch_diameter, abs=0.003)
    assert found.minor == pytest.approx(minor, abs=0.003)
    assert found.root < found.minor < found.tapping_drill < found.major


@pytest.mark.parametrize("name", ["", "8", "M", "M0.1", "M31", "G1/2", "1/4"])
def test_text_that_names_no_thread_says_how_to_write_one(name):
    with pytest.raises(FenrikError) as caught:
        thread(name)
    assert caught.value.remedy


def job(file, tools, *operations, **setup):
    """A block's job; its zero is the middle of its top."""
    return {
        "fenrik": 1,
        "name": "threads",
        "part": {"file": file.name},
        "tools": [t.model_dump(mode="json") for t in tools],
        "setups": [{"name": "Top", "stock": {"kind": "box"}, "operations": list(operations), **setup}],
        "proof": {"cell_mm": 0.5},
    }


def planned(folder, data):
    planner = open_job(job_from_data(data), folder, MemoryStore())
    setup = planner.job.setups[0]
    return planner, planner.path(setup, setup.operations[-1])


def hole(diameter, depth=20.0, through=True, top=0.0):
    return {"at": [0, 0], "top": top, "diameter": diameter, "depth": depth, "through": through}


def threaded(tmp_path, tool, holes, cut=(), **parameters):
    """The path of one thread in a block 60 x 40 x 20."""
    file = drilled(tmp_path, cut)
    operation = {
        "name": "Thread",
        "strategy": "thread_milling",
        "tool": 1,
        "holes": holes,
        "parameters": parameters,
    }
    return planned(tmp_path, job(file, [tool], operation))


DEEP = 9.0


def walls(path, tool, bored=0.0):
    """Heights (n,) and the radius (n,) of the wall about the axis at the angles 0 and 90° that the path
    leaves in a block; nan where there is none."""
    low, high = np.array([-16.05, -16.05, -DEEP]), np.array([16.05, 16.05, 0.0])
    stock = Stock.of_box(low, high, 0.1)  # a ray of either direction lies on the axis
    if bored:
        down = np.array([[0.0, 0.0, 5.0, 0.0, 0.0, -30.0]])
        drill = make_tool("flat", bored, flute_length=40.0, stick_out=90.0)
        stock.cut(down, tool_bodies(drill), np.array([False]))
    points = path.divided(np.where(path.turn != 0, 90, 1))[0].tip
    stock.cut(
        np.hstack([points[:-1], points[1:]]), tool_bodies(tool), np.zeros(len(points) - 1, dtype=np.bool_)
    )
    count = round(DEEP / 0.1)
    heights = -DEEP + (np.arange(count) + 0.5) * 0.1
    out = []
    for direction in (0, 1):
        ends, _, counts = stock.rays[direction].dense()
        wall = np.full(count, np.nan)
        for k in range(count):
            pieces = ends[k, 160, : 2 * counts[k, 160]].reshape(-1, 2)
            for a, b in pieces:
                if bored and a > 0:
                    wall[k] = np.fmin(wall[k], a)
                elif not bored and a < 0 < b:
                    wall[k] = b
        out.append(wall)
    return heights, out[0], out[1]


def crossings(heights, wall, level):
    """Heights of the middles of the grooves in a wall."""
    deep = wall > level
    edges = np.flatnonzero(np.diff(deep.astype(int)))
    rows = [edges[i : i + 2] for i in range(0 if not deep[0] else 1, len(edges) - 1, 2)]
    return np.array([0.5 * (heights[a] + heights[b]) + 0.05 for a, b in rows])


@pytest.mark.parametrize(
    ("rows", "hand", "direction"), [(1, "left", "climb"), (3, "right", "climb"), (1, "right", "conventional")]
)
def test_a_milled_groove_has_depth_pitch_and_hand_of_its_thread(tmp_path, rows, hand, direction):
    tool = thread_mill(rows)
    file_cut = [cylinder(30, 20, 0, 14.0, 20)]
    _, path = threaded(
        tmp_path, tool, [hole(28.0)], file_cut, thread="M30 x 2", hand=hand, direction=direction, start_deg=0
    )
    heights, at_x, at_y = walls(path, tool, bored=28.0)
    assert np.nanmax(at_x) == pytest.approx(15.0, abs=0.01) and np.nanmin(at_x) == pytest.approx(
        14.0, abs=0.01
    )
    first, second = (crossings(heights, w, 14.5) for w in (at_x, at_y))
    assert len(first) >= 3 and np.allclose(np.diff(first), 2.0, atol=0.11)
    phase = (
        second[:, None] - first[None, :]
    ) % 2.0  # a quarter turn on, a right-hand groove stands P/4 higher
    assert np.allclose(phase, 0.5 if hand == "right" else 1.5, atol=0.11)
    assert np.allclose(first % 2.0, 0.0, atol=0.06) or np.allclose(
        first % 2.0, 2.0, atol=0.06
    )  # begins at 0° at the top


def sense(path):
    """+1 where the level turns go counter-clockwise."""
    return int(np.sign(path.turn[(path.kind == 1) & (path.turn != 0)].sum()))


def rises(path):
    cutting = np.flatnonzero(path.kind == 1)
    return float(path.tip[cutting[-1], 2] - path.tip[cutting[0], 2]) > 0


def test_the_trades_example_of_a_one_inch_thread_with_ten_to_the_inch(tmp_path):
    # common practice, no source: pitch 0.100 in; 0.300 in of cutting length are 3 active teeth; a right-hand
    # internal thread cut upward from below is climb milling; it runs out above the bore and starts below it
    tool = thread_mill(rows=round(0.300 / 0.100), pitch=2.54, diameter=16.0)
    bore = thread("1-10").tapping_drill
    _, path = threaded(
        tmp_path, tool, [hole(bore, 25.4 / 2)], [cylinder(30, 20, 0, bore / 2, 20)], thread="1-10"
    )
    assert thread("1-10").pitch == pytest.approx(2.54)
    assert sense(path) == 1 and rises(path)
    cutting = path.kind == 1
    assert path.tip[cutting, 2].min() + 0.5 * 2.54 < -12.7 < path.tip[cutting, 2].min() + 3.0 * 2.54
    assert path.tip[cutting, 2].max() + 2.5 * 2.54 > 0.0
    runs = np.unique(path.tip[(path.kind == 1) & (np.abs(path.tip[:, 1]) < 1e-6), 2].round(4))
    assert len(runs) >= 3


@pytest.mark.parametrize(("side", "turn"), [("internal", 1), ("external", -1)])
@pytest.mark.parametrize("hand", ["right", "left"])
def test_climb_is_climb_inside_and_outside_for_both_hands(tmp_path, side, turn, hand):
    # common practice, no source: clockwise spindle, material to the right of the way when climbing
    pick = hole(28.0) if side == "internal" else hole(30.0, through=False, depth=12.0)
    _, path = threaded(tmp_path, thread_mill(), [pick], thread="M30 x 2", side=side, hand=hand)
    assert sense(path) == turn
    assert rises(path) == ((side == "internal") == (hand == "right"))


def test_an_external_thread_has_its_root_and_its_phase(tmp_path):
    tool = thread_mill()
    _, path = threaded(
        tmp_path,
        tool,
        [hole(30.0, through=False, depth=12.0)],
        thread="M30 x 2",
        side="external",
        passes=2,
        spring_passes=1,
    )
    heights, at_x, at_y = walls(path, tool)
    cut = heights > -8.0
    assert np.nanmin(at_x[cut]) == pytest.approx(thread("M30 x 2").root / 2, abs=0.01)
    first, second = (crossings(heights[cut], -w[cut], -14.4) for w in (at_x, at_y))
    assert np.allclose((second[:, None] - first[None, :]) % 2.0, 0.5, atol=0.11)


def test_a_tapered_thread_widens_towards_its_upper_end(tmp_path):
    tool = thread_mill()
    _, path = threaded(
        tmp_path, tool, [hole(28.0)], [cylinder(30, 20, 0, 14.0, 20)], thread="M30 x 2", taper=1 / 16
    )
    heights, at_x, _ = walls(path, tool, bored=28.0)
    high, low = (np.nanmax(at_x[np.abs(heights - z) < 1.05]) for z in (-1.5, -7.5))
    assert 2 * (high - low) == pytest.approx(6.0 / 16, abs=0.13)  # grooves are met within half a pitch


@pytest.mark.parametrize(
    ("tool", "pick", "parameters", "word"),
    [
        (thread_mill(pitch=1.5), hole(28.0), {"thread": "M30 x 2"}, "pitch of 1.5"),
        (thread_mill(), hole(25.0), {"thread": "M30 x 2"}, "27.835"),
        (thread_mill(diameter=28.0), hole(28.0), {"thread": "M30 x 2"}, "does not go down"),
        (thread_mill(rows=3), hole(28.0), {"thread": "M30 x 2", "taper": 0.0625}, "rows"),
        (thread_mill(), hole(28.0), {}, "does not know its thread"),
        (thread_mill(), hole(26.0), {"thread": "M30 x 2", "side": "external"}, "external"),
        (thread_mill(), hole(28.0, depth=2.0, through=False), {"thread": "M30 x 2", "runout": 0}, "no room"),
    ],
)
def test_what_does_not_fit_is_named_with_a_remedy(tmp_path, tool, pick, parameters, word):
    with pytest.raises(FenrikError) as caught:
        threaded(tmp_path, tool, [pick], **parameters)
    assert word in caught.value.message and caught.value.remedy
    assert caught.value.where == "setups[0].operations[0]"


def test_a_bored_and_threaded_hole_is_proved_and_its_groove_is_no_overcut(tmp_path):
    file = drilled(tmp_path, [cylinder(30, 20, 0, 14.0, 20)])
    mill = make_tool("flat", 16.0, number=3, flute_length=40.0)
    picks = [
        {"face": f.id}
        for f in open_job(job_from_data(job(file, [mill])), tmp_path, MemoryStore()).workspace.part().faces
        if f.kind == "cylinder"
    ]
    bore = {"name": "Bore", "strategy": "bore_milling", "tool": 3, "holes": picks[:1]}
    cut = {
        "name": "Thread",
        "strategy": "thread_milling",
        "tool": 1,
        "holes": picks[:1],
        "parameters": {"thread": "M30 x 2"},
    }
    data = job(file, [thread_mill(), mill], bore, cut)
    planner = open_job(job_from_data(data), tmp_path, MemoryStore())
    prover = Prover(planner)
    proof = prover.prove(planner.job.effective_releases()[0])
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] < 0.02
    assert proof.facts["operations"][1]["removed_mm3"] == pytest.approx(
        # the groove's section, a trapezium down to the root of P/8 by flanks of 30° (ISO 68-1), about its own
        # centre
        math.pi * 2 * 14.45 * 20.0 / 2.0 * (1.0 * (0.25 + 1.0 * math.tan(math.radians(30)))),
        rel=0.08,
    )


def test_a_tap_is_driven_in_step_and_read_back(tmp_path):
    file = drilled(tmp_path, [cylinder(15, 20, 0, 3.4, 20), cylinder(45, 20, 0, 3.4, 20)])
    picks = [{"at": [x, 0], "top": 0, "diameter": 6.8, "depth": 20, "through": True} for x in (-15, 15)]
    drill = make_tool("drill", 6.8, number=3, point_deg=118.0, flute_length=40.0, stick_out=50.0)
    operations = [
        {"name": "Drill", "strategy": "drilling", "tool": 3, "holes": picks},
        {"name": "Tap", "strategy": "tapping", "tool": 2, "holes": picks},
    ]
    for dialect, feed in (("plain_iso", 1.25), ("inch_radius", 1.25 / 25.4)):
        data = job(file, [TAP, drill], *operations)
        data["releases"] = [{"name": "r", "setup": "Top", "dialect": dialect}]
        planner = open_job(job_from_data(data), tmp_path, MemoryStore())
        proof = Prover(planner).prove(planner.job.releases[0])
        assert proof.stops() == []
        rpm = planner.tasks.task(planner.job.setups[0], planner.job.setups[0].operations[1]).spindle_rpm
        line = next(t for t in proof.facts["text"].splitlines() if "G84" in t)
        assert float(line.split("F")[1]) == pytest.approx(rpm * feed, abs=0.06)
        assert (
            float(line.split("Z")[1].split()[0]) * (1 if dialect == "plain_iso" else 25.4)
            < -20.0 - 2.5 * 1.25
        )


@pytest.mark.parametrize("changes", [{}, {"when_short": "raise"}, {"feed_follows": "engagement"}])
def test_a_tap_too_short_is_never_trimmed_raised_or_adapted(tmp_path, changes):
    file = drilled(tmp_path, [cylinder(30, 20, 0, 3.4, 20)])
    short = TAP.model_copy(update={"flute_length": 8.0, "shank_diameter": 7.5, "stick_out": 14.0})
    pick = {"at": [0, 0], "top": 0, "diameter": 6.8, "depth": 20, "through": True}
    drill = make_tool("drill", 6.8, number=3, point_deg=118.0, flute_length=40.0, stick_out=50.0)
    operations = [
        {"name": "Drill", "strategy": "drilling", "tool": 3, "holes": [pick]},
        {"name": "Tap", "strategy": "tapping", "tool": 2, "holes": [pick], **changes},
    ]
    planner = open_job(job_from_data(job(file, [short, drill], *operations)), tmp_path, MemoryStore())
    proof = Prover(planner).prove(planner.job.effective_releases()[0])
    assert "G84" in proof.facts["text"]
    assert {s["kind"] for s in proof.stops()} >= {"holder"}


def test_a_tap_out_of_step_or_turning_the_wrong_way_is_found():
    from fenrik.core.frames import transform
    from fenrik.core.machines.library import machine
    from fenrik.core.machines.on_machine import OnMachine
    from fenrik.core.posting.reading.readback import Reader
    from fenrik.core.proof.limits import limit_findings
    from fenrik.core.proof.run import Run

    text = (
        "G21 G90 G94 G17 G54\nT2 M6\nS500 M3\nG0 X0 Y0\nG43 H2 Z5.\nG99 G84 X0 Y0 Z-10. R5. F{}\nG80\nM30\n"
    )
    for feed, wrong in (("625.", 0), ("600.", 1)):
        motion = Reader(50.0).read(text.format(feed))
        on = OnMachine(machine("column_mill_500", ""), transform(np.eye(3), (0.0, 0.0, 100.0)))
        none = np.zeros(len(motion))
        run = Run(motion, none.astype(np.int32), ["tap"], {2: TAP}, none, none)
        found = limit_findings(run, on)
        assert [f.kind for f in found] == ["feed"] * wrong
    reader = Reader(50.0)
    reader.read(text.format("625.").replace("G84", "G74"))
    assert any("other way" in words for _, words in reader.findings)


@pytest.mark.parametrize(
    ("pick", "parameters", "spindle", "word"),
    [
        (hole(6.5), {}, "clockwise", "Drill it to 6.75"),
        (hole(7.6), {}, "clockwise", "Drill it to 6.75"),
        (hole(6.8), {}, "counter_clockwise", "clockwise"),
        (hole(6.8, 15.0, through=False), {"thread_depth": 14.0}, "clockwise", "Thread at most 10.62 mm"),
    ],
)
def test_a_tap_that_does_not_fit_says_what_would(tmp_path, pick, parameters, spindle, word):
    file = drilled(tmp_path, [])
    operation = {
        "name": "Tap",
        "strategy": "tapping",
        "tool": 2,
        "holes": [pick],
        "parameters": parameters,
        "spindle": spindle,
    }
    with pytest.raises(FenrikError) as caught:
        planned(tmp_path, job(file, [TAP], operation))
    assert word in caught.value.remedy


def test_a_groove_beyond_its_thread_is_still_overcut():
    zone = ThreadZone(0.0, 0.0, -20.0, 2.0, 13.9, 15.0, True)
    at = np.array([[14.5, 0.0, -5.0], [15.2, 0.0, -5.0], [15.1, 0.0, -1e-4], [0.0, 18.0, -5.0]])
    # in the groove; too deep; a hair into the top beside it, which is no worse for the thread; another place
    given = np.array([-0.5, -1.2, -1e-4, -0.3])
    assert zone.corrected(at, given) == pytest.approx([0.0, -0.2, -1e-4, -0.3])

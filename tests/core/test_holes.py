"""Holes: found on models that nobody here drew and on solids of exact size; their use by tables; cycles and
their text."""

import math
from importlib.resources import files
from itertools import pairwise, product
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import ComputeError, DocumentError, FenrikError, PostError
from fenrik.core.features.hole_use import COARSE, UNIFIED_COARSE, drill_size, major, source_of, uses
from fenrik.core.features.holes import alike, find_holes, holes_from_bytes, holes_to_bytes
from fenrik.core.job.document.reading import job_data, job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.reading import read_model
from fenrik.core.motion.moves import Motion
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.strategies.holes.drilling import shortest
from tests.conftest import MODELS, make_tool

# what a person reads off the drawings of these models: (number alike, diameter, shape, through, depth of
# first section)
KNOWN = {
    "bearing_bracket.step": [(4, 9.0, "plain", True, 14.0), (1, 26.0, "counterbored", True, 20.3374)],
    "motor_bracket.step": [(4, 3.3, "plain", True, 3.0), (1, 32.0, "plain", True, 3.0)],
    "ribbed_flange.step": [
        (1, 20.0, "plain", True, 34.0), (1, 73.0, "plain", False, 15.0), (6, 6.0, "counterbored", True, 4.0),
    ],
    "plate_a.step": [(1, 5.5, "countersunk", True, 2.85), (1, 5.5, "plain", True, 18.0)],
    "plate_b.step": [(1, 12.0, "plain", True, 36.0), (4, 13.0, "plain", True, 6.0)],
    "pillow_block.step": [(4, 3.0, "counterbored", True, 3.0), (1, 8.0, "counterbored", True, 7.0)],
    "angled_bracket.step": [
        (1, 33.0, "plain", True, 6.0), (1, 12.0, "plain", True, 13.0), (2, 8.0, "counterbored", True, 4.0),
    ],
    "curved_support.step": [(1, 20.0, "plain", True, 32.0), (1, 35.0, "plain", True, 60.0)],
}  # fmt: skip


@pytest.mark.parametrize("name", KNOWN)
def test_holes_of_models_that_nobody_here_drew(name):
    groups = alike(find_holes(read_model(MODELS / name)))
    seen = [
        (len(g), g[0].diameter, g[0].shape, g[0].through, pytest.approx(g[0].sections[0].bottom, abs=1e-3))
        for g in groups
    ]
    assert seen == KNOWN[name]


def fused(*shapes):
    """Solids joined to one, without seams in its faces."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Fuse
    from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain

    body = shapes[0]
    for other in shapes[1:]:
        body = BRepAlgoAPI_Fuse(body, other).Shape()
    simple = ShapeUpgrade_UnifySameDomain(body)
    simple.Build()
    return simple.Shape()


def drilled(folder: Path, cut) -> Path:
    """A block 60 x 40 x 20 with its corner at the origin, less the solids that `cut` makes; as a STEP
    file."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    shape = BRepPrimAPI_MakeBox(60.0, 40.0, 20.0).Shape()
    for tool in cut:
        shape = BRepAlgoAPI_Cut(shape, tool).Shape()
    writer = STEPControl_Writer()
    writer.Transfer(shape, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(folder / "block.step"))
    return folder / "block.step"


def cylinder(x, y, z, radius, height, direction=(0, 0, 1)):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(*direction)), radius, height).Shape()


def cone(x, y, z, low, high, height):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    return BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1)), low, high, height).Shape()


def test_blind_holes_with_points_chamfers_and_cross_holes(tmp_path):
    point = 4.25 * math.tan(math.radians(31))  # 118°: 0.300 D (geometry)
    file = drilled(
        tmp_path,
        [
            cylinder(15, 20, 8, 4.25, 12),
            cone(15, 20, 8 - point, 0.0, 4.25, point),  # Ø8.5, 12 deep, with its point
            cylinder(40, 10, 5, 2.5, 15),
            cone(40, 10, 19.5, 2.5, 3.0, 0.5),  # Ø5 flat, edge broken by 0.5
            cylinder(45, 30, 0, 3.0, 20),
            cylinder(0, 30, 10, 2.0, 60, (1, 0, 0)),  # Ø6 through, met by a Ø4 cross hole
        ],
    )
    holes = find_holes(read_model(file))
    by_size = {h.diameter: h for h in holes}
    assert set(by_size) == {8.5, 5.0, 6.0, 4.0}
    pointed, flat, through = by_size[8.5], by_size[5.0], by_size[6.0]
    assert not pointed.through and pointed.depth == pytest.approx(12.0) and pointed.shape == "plain"
    assert pointed.sections[-1].bottom - 12.0 == pytest.approx(0.300 * 8.5, abs=0.01)
    assert flat.shape == "chamfered" and flat.sections[0].diameter_top == pytest.approx(6.0)
    assert flat.depth == pytest.approx(15.0) and flat.entries == [[0.0, 0.0, 1.0]]
    assert through.through and len(through.entries) == 2
    assert all(abs(h.axis[0]) == 1.0 for h in holes if h.diameter == 4.0)
    assert holes_from_bytes(holes_to_bytes(holes)) == holes


def test_a_cylinder_in_halves_or_as_a_spline_surface_is_the_same_hole(tmp_path):
    from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
    from OCP.STEPControl import STEPControl_Reader, STEPControl_StepModelType, STEPControl_Writer

    file = drilled(tmp_path, [cylinder(20, 20, 0, 5, 20)])
    plain = find_holes(read_model(file))
    reader = STEPControl_Reader()
    reader.ReadFile(str(file))
    reader.TransferRoots()
    writer = STEPControl_Writer()
    splines = BRepBuilderAPI_NurbsConvert(reader.OneShape(), True).Shape()
    writer.Transfer(splines, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(tmp_path / "splines.step"))
    part = read_model(tmp_path / "splines.step")
    assert {f.kind for f in part.faces} == {"plane", "cylinder"}
    found = find_holes(part)
    assert [(h.diameter, h.depth, h.through) for h in found] == [(10.0, 20.0, True)]
    assert found[0].mouth == pytest.approx(plain[0].mouth, abs=1e-4)


def test_a_boss_and_a_rounded_corner_are_no_holes(tmp_path):
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    pocket = BRepPrimAPI_MakeBox(gp_Pnt(10, 10, 10), 30.0, 20.0, 10.0).Shape()
    ring = BRepAlgoAPI_Cut(pocket, cylinder(25, 20, 10, 5, 10)).Shape()  # a boss stands in the pocket
    slot = cylinder(50, 10, 10, 4, 10)  # the end of a slot that leaves through the side
    channel = BRepPrimAPI_MakeBox(gp_Pnt(46, 0, 10), 8.0, 10.0, 10.0).Shape()
    assert find_holes(read_model(drilled(tmp_path, [ring, slot, channel]))) == []


@pytest.mark.parametrize(
    ("diameter", "purpose", "name"),
    [
        (3.3, "thread", "M4"),
        (5.0, "thread", "M6"),
        (6.8, "thread", "M8"),
        (8.5, "thread", "M10"),
        (10.2, "thread", "M12"),
        (0.201 * 25.4, "thread", "1/4-20"),
        (5.5, "clearance", "M5"),
        (6.6, "clearance", "M6"),
        (9.0, "clearance", "M8"),
        (11.0, "clearance", "M10"),
        (13.5, "clearance", "M12"),
        (15.5, "clearance", "M14"),
        (17.5, "clearance", "M16"),
        (22.0, "clearance", "M20"),
        (7.77, "plain", ""),
        (26.0, "milled", ""),
    ],
)
def test_the_use_of_a_size_is_what_the_tables_say(diameter, purpose, name):
    """ISO 2306 (D - P), ASME B1.1, ISO 273 medium; 3/8 in is reamed and over an inch is milled (common
    practice, no source)."""
    first = uses(diameter, inch="-" in name)[0]
    assert (first.purpose, first.name) == (purpose, name)
    assert first.table


def test_clearance_holes_are_those_of_the_standard():
    """ISO 273, from memory: fine, medium and coarse from M12 to M16, where the table of the package has
    others; and a through hole on a medium size is no tapping drill of another thread."""
    series = {"fine": (13.0, 15.0, 17.0), "medium": (13.5, 15.5, 17.5), "coarse": (14.5, 16.5, 18.5)}
    for fit, sizes in series.items():
        for bolt, size in zip(("M12", "M14", "M16"), sizes, strict=True):
            assert f"clears {bolt}, {fit} series" in " ".join(u.words for u in uses(size))
    assert not any(u.name == "M12" for u in uses(14.0) if u.purpose == "clearance")
    assert [u.name for u in uses(17.5)][:2] == ["M16", "M20"]
    assert uses(17.5, through=False)[0].name == "M20"


@pytest.mark.parametrize(
    ("diameter", "through", "inch", "first"),
    [
        (13.5, True, False, ("clearance", "M12")),
        (14.5, True, False, ("clearance", "M12")),
        (7.0, True, False, ("clearance", "M6")),
        (7.0, False, False, ("plain", "")),
        (13.494, False, False, ("plain", "")),
        (13.494, False, True, ("thread", "5/8-11")),
        (0.375 * 25.4, False, True, ("fit", "9.525")),
        (0.375 * 25.4, False, False, ("plain", "")),
        (4.2, True, False, ("thread", "M5")),
        (6.8, True, False, ("thread", "M8")),
    ],
)
def test_a_through_hole_on_a_clearance_size_is_plain_and_inch_or_fine_threads_wait_to_be_asked_for(
    diameter, through, inch, first
):
    """ISO 273 and ASME B1.1, from memory; which of two uses comes first is common practice, no source. Ø4.2
    is the coarse clearance of M3.5, a second choice, and no thread M5 is given up for it."""
    offered = uses(diameter, through, inch=inch)
    assert (offered[0].purpose, offered[0].name) == first
    assert any(u.name == "5/8-11" for u in offered) or abs(diameter - 13.494) > 0.01


def test_every_column_of_the_tables_has_its_source():
    folder = files("fenrik.core.features").joinpath("tables")
    for table in ("tap_hole_sizes", "clearance_hole_sizes", "drill_sizes"):
        columns = folder.joinpath(f"{table}.csv").read_text("utf-8").splitlines()[0].split(",")[1:]
        assert all(source_of(table, column.strip()) for column in columns)


def test_a_blind_hole_clears_no_bolt_and_sizes_of_drills_are_read():
    assert "clearance" not in {u.purpose for u in uses(9.0, through=False)}
    assert drill_size("#7") == pytest.approx(0.201 * 25.4)
    assert drill_size("F") == pytest.approx(0.257 * 25.4)
    assert drill_size("1 1/8") == pytest.approx(1.125 * 25.4)
    with pytest.raises(KeyError):
        drill_size("#99")


@pytest.mark.parametrize("thread", [*COARSE, *UNIFIED_COARSE])
def test_tapping_drills_leave_a_usual_share_of_the_thread(thread):
    """D - P within the table's rounding (ISO 2306); shares of the thread's depth, 1.0825 P (ISO 724): 60 to
    97 %."""
    from fenrik.core.features.hole_use import _tapping

    inch = thread in UNIFIED_COARSE
    name = f"{thread}-{UNIFIED_COARSE[thread]}" if inch else thread
    sizes = [size for size, known, *_ in _tapping() if known == name]
    assert sizes
    if not inch:
        assert min(abs(s - (float(thread[1:]) - COARSE[thread])) for s in sizes) <= 0.101  # 12.1 for M14
    pitch = 25.4 / UNIFIED_COARSE[thread] if inch else COARSE[thread]
    assert all(0.60 <= (major(thread) - size) / (1.0825 * pitch) <= 0.97 for size in sizes)


def way(places, order):
    """Length of the way through places (n, 2) in an order."""
    return sum(math.dist(places[a], places[b]) for a, b in pairwise(order))


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.floats(-50, 50), st.floats(-50, 50)), min_size=1, max_size=30))
def test_the_order_of_holes_is_a_round_of_all_and_no_longer_than_the_nearest_each_time(places):
    points = np.array(places)
    order = shortest(points)
    assert sorted(order) == list(range(len(points)))
    left, nearest = set(range(len(points))) - {order[0]}, [order[0]]
    while left:
        nearest.append(min(left, key=lambda i: float(np.hypot(*(points[i] - points[nearest[-1]])))))
        left.remove(nearest[-1])
    assert way(points, order) <= way(points, nearest) + 1e-6


BLOCK: list[bytes] = []
STORE = MemoryStore()
NONE = dict.fromkeys(("x_low", "x_high", "y_low", "y_high", "z_low", "z_high"), 0.0)


def block(tmp_path, operations, dialect="plain_iso", **more):
    """A block with two Ø8.5 holes 12 deep with points, a Ø6 through hole, and tools for them."""
    if not BLOCK:  # made and read once; the store knows it by its bytes
        point = 4.25 * math.tan(math.radians(31))
        cut = [cylinder(45, 30, 0, 3.0, 20)]
        for x, y in ((15, 10), (15, 30)):
            cut += [cylinder(x, y, 8, 4.25, 12), cone(x, y, 8 - point, 0.0, 4.25, point)]
        BLOCK.append(drilled(tmp_path, cut).read_bytes())
    (tmp_path / "block.step").write_bytes(BLOCK[0])
    tools = [
        make_tool("chamfer", 10, number=1, point_deg=90, flute_length=10, stick_out=40),
        make_tool("drill", 8.5, number=2, point_deg=118, flute_length=50, stick_out=60),
        make_tool("drill", 6, number=3, point_deg=118, flute_length=50, stick_out=60),
    ]
    document = {
        "fenrik": 1,
        "name": "holes",
        "part": {"file": "block.step"},
        "tools": [t.model_dump() for t in tools],
        "setups": [{"name": "Top", "stock": {"kind": "box", "allowance": NONE}, "operations": operations}],
        "proof": {"cell_mm": 0.25},
        "releases": [{"name": "r", "setup": "Top", "dialect": dialect}],
        **more,
    }
    return Prover(open_job(job_from_data(document), tmp_path, STORE))


def hole_op(name, tool, faces, **parameters):
    return {
        "name": name,
        "strategy": "drilling",
        "tool": tool,
        "holes": [{"face": f} for f in faces],
        "parameters": parameters,
    }


def faces_of(tmp_path, diameter):
    drilled_part = block(tmp_path, [])
    return [h.faces[0] for h in drilled_part.paths.workspace.holes() if h.diameter == diameter]


@pytest.mark.parametrize(
    ("cycle", "dialect"),
    [
        *product(["drill", "peck", "chip_break", "ream"], ["plain_iso", "inch_radius"]),
        ("deep", "plain_iso"),  # in moves in every dialect
    ],
)
def test_every_cycle_is_proved_from_its_posted_text(tmp_path, cycle, dialect):
    """Canned or in moves, the text means the planned way; nothing is overcut and the holes are cut to their
    depth."""
    wide = faces_of(tmp_path, 8.5)
    pecks = {
        "peck": {"peck": 2.5},
        "chip_break": {"peck": 2.5},
        "deep": {"first_peck": 5.0, "least_peck": 2.0},
    }
    parameters = {"cycle": cycle} | pecks.get(cycle, {})
    operations = [hole_op("Spot", 1, wide, cycle="spot"), hole_op("Make", 2, wide, **parameters)]
    prover = block(tmp_path, operations, dialect)
    release = prover.job.releases[0]
    proof = prover.prove(release)
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.012
    removed = sum(o["removed_mm3"] for o in proof.facts["operations"])
    exact = 2 * (math.pi * 4.25**2 * 12 + math.pi * 4.25**3 * math.tan(math.radians(31)) / 3)
    assert removed == pytest.approx(exact, rel=0.02)
    text = prover.post(release).text
    if cycle == "deep":  # no canned cycle has pecks that get shorter
        assert not any(code in text for code in ("G81", "G83", "G73"))
        return
    code = {"drill": "G81", "peck": "G83", "chip_break": "G73", "ream": "G85"}[cycle]
    assert (code in text) == (dialect == "plain_iso")
    if dialect == "plain_iso":
        lines = text.splitlines()
        at = next(i for i, line in enumerate(lines) if code in line)
        assert lines[at].startswith("G98") and lines[at + 1].split()[0][0] == "X" and lines[at + 2] == "G80"


def test_depths_of_points_and_through_holes(tmp_path):
    """The full diameter goes 1 mm beyond a through hole, a 118° point 0.300 D further (geometry)."""
    narrow = faces_of(tmp_path, 6.0)
    for cycle, parameters, deepest in (
        ("drill", {}, -20.0 - 1.0 - 3 * math.tan(math.radians(31))),
        ("drill", {"breakthrough": 0.0}, -20.0 - 3 * math.tan(math.radians(31))),
        ("spot", {"spot_diameter": 5.0}, -2.5),
    ):
        prover = block(
            tmp_path, [hole_op("A", 1 if cycle == "spot" else 3, narrow, cycle=cycle, **parameters)]
        )
        setup = prover.job.setups[0]
        path = prover.paths.path(setup, setup.operations[0])
        assert path.tip[:, 2].min() == pytest.approx(deepest, abs=6e-4)


def test_a_spot_leaves_the_chamfer_that_the_model_has(tmp_path):
    """A 90° point as deep as the chamfer's radius: Ø6 at the mouth of a Ø5 hole is 3 mm deep."""
    drilled(tmp_path, [cylinder(40, 10, 5, 2.5, 15), cone(40, 10, 19.5, 2.5, 3.0, 0.5)])
    document = job_data(block(tmp_path, []).job)
    drilled(tmp_path, [cylinder(40, 10, 5, 2.5, 15), cone(40, 10, 19.5, 2.5, 3.0, 0.5)])
    plan = open_job(job_from_data(document), tmp_path, MemoryStore())
    document["setups"][0]["operations"] = [
        hole_op("Spot", 1, plan.workspace.holes()[0].faces[:1], cycle="spot")
    ]
    prover = Prover(open_job(job_from_data(document), tmp_path, MemoryStore()))
    setup = prover.job.setups[0]
    assert prover.paths.path(setup, setup.operations[0]).tip[:, 2].min() == pytest.approx(-3.0, abs=1e-3)
    assert prover.prove(prover.job.releases[0]).facts["deviation"]["max_overcut_mm"] <= 0.011


def test_pecks_of_a_deep_hole_get_shorter_down_to_the_least(tmp_path):
    wide = faces_of(tmp_path, 8.5)[:1]
    deep = hole_op("Deep", 2, wide, cycle="deep", first_peck=5.0, peck_share=0.6, least_peck=2.0)
    plan = block(tmp_path, [deep]).paths
    setup = plan.job.setups[0]
    path = plan.path(setup, setup.operations[0])
    ends = path.tip[path.kind == Motion.PLUNGE, 2]
    # from 1 mm over the top: 5, 3, 2 (1.8 would be less than the least), 2 and so on to the modelled tip at
    # 12 + 2.554
    tip = -12.0 - 4.25 * math.tan(math.radians(31))
    assert ends == pytest.approx([-4.0, -7.0, -9.0, -11.0, -13.0, tip], abs=1e-3)
    downs = np.flatnonzero(path.kind == Motion.PLUNGE)
    assert path.tip[downs[1:] - 1, 2] == pytest.approx(
        ends[:-1] + 0.5, abs=1e-9
    )  # back to just over the last depth
    assert path.tip[downs[1:] - 2, 2] == pytest.approx(1.0)  # and out of the hole in between


@pytest.mark.parametrize("dialect", ["plain_iso", "inch_radius"])
def test_a_boring_head_widens_a_hole_that_is_there(tmp_path, dialect):
    """Ø8.5 drilled, bored to Ø8.6 in a part whose hole is that wide: in at feed, a stop, out at feed; the
    posted text proved."""
    file = drilled(tmp_path, [cylinder(20, 20, 8, 4.3, 12), cylinder(20, 20, 6, 4.0, 2)])
    head = make_tool("boring", 8.6, number=4, flute_length=4.0, shank_diameter=7.0, stick_out=50, teeth=1)
    drill = make_tool("drill", 8.0, number=3, point_deg=118, flute_length=50, stick_out=60)
    document = job_data(block(tmp_path, [], dialect).job)
    document["tools"] = [t.model_dump(mode="json") for t in (drill, head)]
    file.write_bytes(drilled(tmp_path, [cylinder(20, 20, 0, 4.3, 20)]).read_bytes())
    plan = open_job(job_from_data(document), tmp_path, MemoryStore())
    faces = plan.workspace.holes()[0].faces[:1]
    bore = hole_op("Bore", 4, faces, cycle="bore", breakthrough=0.5, dwell=0.4)
    document["setups"][0]["operations"] = [hole_op("Drill", 3, faces, cycle="drill"), bore]
    prover = Prover(open_job(job_from_data(document), tmp_path, MemoryStore()))
    proof = prover.prove(prover.job.releases[0])
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.012
    ring = math.pi * (4.3**2 - 4.0**2) * 20.0
    assert proof.facts["operations"][1]["removed_mm3"] == pytest.approx(ring, rel=0.05)
    text = prover.post(prover.job.releases[0]).text
    assert ("G89" in text and "P0.40" in text) == (dialect == "plain_iso")
    # without the drilled hole there is nothing to widen
    document["setups"][0]["operations"] = [bore]
    plan = open_job(job_from_data(document), tmp_path, MemoryStore())
    with pytest.raises(ComputeError, match=r"There is no hole yet that tool 4 could bore at Hole Ø8\.6"):
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])


def test_a_countersink_is_as_wide_as_the_model_or_as_asked(tmp_path):
    """A 90° cone of Ø9 over a Ø5 hole: the tip is half the diameter deep (geometry)."""
    document = job_data(block(tmp_path, []).job)
    drilled(
        tmp_path,
        [cylinder(40, 10, 5, 2.5, 15), cone(40, 10, 18, 2.5, 4.5, 2.0), cylinder(20, 10, 5, 2.5, 15)],
    )
    plan = open_job(job_from_data(document), tmp_path, MemoryStore())
    sunk, plain = sorted(
        plan.workspace.holes(), key=lambda h: h.shape != "countersunk" and h.shape == "plain"
    )
    assert len(sunk.faces) > len(plain.faces)

    def path(hole, **parameters):
        document["setups"][0]["operations"] = [
            hole_op("Sink", 1, hole.faces[:1], cycle="countersink", **parameters)
        ]
        plan = open_job(job_from_data(document), tmp_path, MemoryStore())
        return plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])

    assert path(sunk).tip[:, 2].min() == pytest.approx(-4.5, abs=1e-3)
    assert path(plain, spot_diameter=7.0).tip[:, 2].min() == pytest.approx(-3.5, abs=1e-3)
    for parameters, words in (
        ({}, "has no countersink in the model"),
        ({"spot_diameter": 4.0}, "is no wider than"),
        ({"spot_diameter": 12.0}, r"needs a countersink of 12.00 mm; tool 1 is 10 mm wide"),
    ):
        with pytest.raises(ComputeError, match=words):
            path(plain, **parameters)


def test_what_does_not_fit_is_named_and_the_rest_goes_on(tmp_path):
    narrow = faces_of(tmp_path, 6.0)
    prover = block(tmp_path, [hole_op("A", 2, narrow)])
    setup = prover.job.setups[0]
    with pytest.raises(ComputeError, match=r"8.5 mm wide and does not fit Hole Ø6, through"):
        prover.paths.path(setup, setup.operations[0])
    prover = block(tmp_path, [hole_op("A", 2, [1])])
    with pytest.raises(DocumentError, match="Face 1 is no wall of a round hole"):
        prover.paths.path(prover.job.setups[0], prover.job.setups[0].operations[0])
    prover = block(tmp_path, [hole_op("A", 3, [])])
    with pytest.raises(FenrikError, match="Drilling has no hole"):
        prover.paths.path(prover.job.setups[0], prover.job.setups[0].operations[0])


def test_a_hole_across_the_tool_is_refused(tmp_path):
    cross = find_holes(read_model(MODELS / "plate_a.step"))[0]
    document = {
        "fenrik": 1,
        "name": "x",
        "part": {"file": "plate_a.step"},
        "tools": [make_tool("flat", 4).model_dump()],
        "setups": [{"name": "Top", "operations": [hole_op("A", 1, cross.faces)]}],
    }
    plan = open_job(job_from_data(document), MODELS, MemoryStore())
    with pytest.raises(DocumentError, match=r"leans by 90\.0°"):
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])


HEAD = "G21 G90 G17\nT1 M6\nS1000 M3\nG0 X0 Y0\nG43 H1 Z10.\n"


def test_cycles_mean_the_standards_moves():
    """G83 goes out to R after every peck and back to just over the last depth; G73 only lifts; G98 returns to
    where the cycle began, G99 to R (ISO 6983-1; from memory)."""
    text = HEAD + "G99 G83 X5. Y6. Z-5. R1. Q2. F100.\nG80\nM30\n"
    motion = Reader(50.0, 0.5).read(text)
    assert motion.tip[:, 2].tolist() == [10, 10, 1, -1, 1, -0.5, -3, 1, -2.5, -5, 1]
    assert motion.rapid.tolist() == [True, True, True, False, True, True, False, True, True, False, True]
    motion = Reader(50.0, 0.5).read(HEAD + "G98 G73 X5. Y6. Z-4. R1. Q3. F100.\nX8.\nG80\nM30\n")
    assert motion.tip[:, 2].tolist() == [10, 10, 1, -2, -1.5, -4, 10, 10, 1, -2, -1.5, -4, 10]
    motion = Reader(50.0).read(HEAD + "G99 G82 Z-4. R1. P0.5 F100.\nG80\nG4 P2.\nM30\n")
    assert motion.dwell.sum() == pytest.approx(2.5)
    motion = Reader(50.0).read(HEAD + "G99 G89 Z-4. R1. P0.5 F100.\nG1 X3.\nM30\n")
    assert motion.rapid.tolist()[-3:] == [False, False, False] and motion.dwell.sum() == pytest.approx(0.5)
    motion = Reader(50.0).read(HEAD + "G99 G85 Z-4. R1. F100.\nG1 X3.\nM30\n")
    assert motion.rapid.tolist()[-3:] == [False, False, False]  # in, out, and the line that ends the cycle


@pytest.mark.parametrize(
    ("block_", "words"),
    [
        ("G81 Z-4. F100.", "without R"),
        ("G83 Z-4. R1. F100.", "without Q"),
        ("G81 Z4. R1. F100.", "not below R"),
        ("G18 G81 Z-4. R1. F100.", "outside the plane"),
        ("G87 Z-4. R1. F100.", "from below"),
        ("G4 S1.", "dwell without one of P"),
    ],
)
def test_wrong_cycles_are_refused(block_, words):
    with pytest.raises(PostError, match=words):
        Reader(50.0).read(HEAD + block_ + "\nM30\n")


@pytest.mark.parametrize("direction", ["climb", "conventional"])
@pytest.mark.parametrize("spindle", ["clockwise", "counter_clockwise"])
def test_a_milled_hole_has_its_size_and_climb_turns_the_right_way(tmp_path, direction, spindle):
    """Inside, counter-clockwise is climb milling for a cutter that turns clockwise (common practice, no
    source); the volume is the cylinder's."""
    drilled(tmp_path, [cylinder(30, 20, 8, 9.0, 12)])
    mill = make_tool("flat", 8, number=1, flute_length=20)
    operation = {
        "name": "Mill",
        "strategy": "bore_milling",
        "tool": 1,
        "spindle": spindle,
        "holes": [{"at": [0, 0], "diameter": 18.0, "depth": 12.0}],
        "parameters": {"direction": direction},
    }
    document = {
        "fenrik": 1,
        "name": "bore",
        "part": {"file": "block.step"},
        "tools": [mill.model_dump()],
        "setups": [{"name": "Top", "stock": {"kind": "box", "allowance": NONE}, "operations": [operation]}],
        "proof": {"cell_mm": 0.2},
    }
    prover = Prover(open_job(job_from_data(document), tmp_path, MemoryStore()))
    setup = prover.job.setups[0]
    path = prover.paths.path(setup, setup.operations[0])
    turns = set(path.turn[path.turn != 0].tolist())
    assert turns == {1 if (direction == "climb") == (spindle == "clockwise") else -1}
    proof = prover.prove(prover.job.effective_releases()[0])
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.011
    assert proof.facts["operations"][0]["removed_mm3"] == pytest.approx(math.pi * 81 * 12, rel=2e-3)
    ring = path.feed[path.kind == 1]
    assert (
        ring.max() < prover.paths.tasks.task(setup, setup.operations[0]).feed
    )  # the edge runs faster than the middle


def test_a_bore_too_narrow_for_its_mill_says_which_tool_would_do(tmp_path):
    prover = block(tmp_path, [hole_op("A", 2, [1])])
    document = job_data(prover.job)
    document["tools"] = [make_tool("flat", 6, number=2).model_dump()]
    document["setups"][0]["operations"] = [
        {"name": "A", "strategy": "bore_milling", "tool": 2, "holes": [{"face": faces_of(tmp_path, 6.0)[0]}]}
    ]
    plan = open_job(job_from_data(document), tmp_path, MemoryStore())
    with pytest.raises(
        ComputeError, match=r"no room to circle in Hole Ø6, through .* Use a tool of 4.8 mm or less"
    ):
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])

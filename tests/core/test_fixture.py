"""What holds the stock: its shape, paths that keep clear of it, the proof that sees it, the sheet that shows
it."""

import base64

import numpy as np
import pytest
import trimesh

from fenrik.core.errors import ComputeError, DocumentError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.papers import setup_sheet
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from fenrik.core.pictures.drawing import FIXTURE
from fenrik.core.setups.jaws import jaws_meshes
from fenrik.core.setups.pieces import Jaws
from tests.conftest import make_tool, mesh_of
from tests.core.test_holes import cylinder, drilled
from tests.core.test_pictures import pixels_of, share
from tests.core.test_profile import cutting, rounded_box

HOLDER = [{"length": 30.0, "diameter_low": 40.0, "diameter_high": 40.0}]
MILL = make_tool("flat", 8.0, number=1, flute_length=26.0, stick_out=45.0)
JAWS = {
    "kind": "jaws",
    "name": "Jaws",
    "along": "x",
    "grip": 5.0,
    "length": 80.0,
    "thickness": 20.0,
    "height": 30.0,
}


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    """A block 60 x 40 x 20 with a pocket 8 deep and a hole through it."""
    cuts = [rounded_box(10, 10, 12, 24, 20, 8, 5.0), cylinder(50, 20, 0, 3.0, 20)]
    return drilled(tmp_path_factory.mktemp("held"), cuts)


def planner(file, fixture, operations, **setup):
    """Program zero is the middle of the top of the stock, 2 mm larger than the part beside it and 1 mm
    above."""
    data = {
        "fenrik": 1,
        "name": "held",
        "part": {"file": file.name},
        "tools": [MILL.model_dump(mode="json")],
        "setups": [{"name": "Top", "fixture": fixture, "operations": operations, **setup}],
        "proof": {"cell_mm": 0.5},
    }
    return open_job(job_from_data(data), file.parent, MemoryStore())


def side(**more):
    return {
        "name": "Sides",
        "strategy": "profile",
        "tool": 1,
        "walls": [{"outline": True}],
        "parameters": {"step_down": 25.0},
    } | more


def proved(plan):
    return Prover(plan).prove(plan.job.effective_releases()[0])


def fixture_stops(proof):
    return [f for f in proof.stops() if f["kind"] == "fixture"]


@pytest.mark.parametrize("along", ["x", "y"])
def test_jaws_stand_at_the_sides_of_the_stock_and_grip_it_from_below(block, along):
    plan = planner(block, [JAWS | {"along": along}], [])
    clamped = plan.setups.clamped(plan.job.setups[0])
    mesh = trimesh.Trimesh(clamped.fixture.vertices, clamped.fixture.triangles)
    # two boxes of 80 x 20 x 30, closed and the right way out
    assert mesh.is_watertight and mesh.volume == pytest.approx(2 * 80 * 20 * 30)
    low, high = clamped.stock_low, clamped.stock_high
    across, mine = ("yx".index(along), "xy".index(along))
    assert mesh.bounds[:, 2].tolist() == pytest.approx([low[2] + 5 - 30, low[2] + 5])
    assert mesh.bounds[:, across] == pytest.approx([low[across] - 20, high[across] + 20])
    assert mesh.bounds[:, mine].tolist() == pytest.approx([-40.0, 40.0])
    # nothing of them is in the stock
    inside = mesh.contains(np.array([[0.0, 0.0, low[2] + 2.0]]))
    assert not inside.any()


def test_a_profile_keeps_clear_of_the_jaws_and_says_what_it_leaves(block):
    free, held = planner(block, [], [side()]), planner(block, [JAWS], [side()])
    bottom = held.setups.clamped(held.job.setups[0]).part_low[2]
    for plan, deep in ((free, True), (held, False)):
        setup = plan.job.setups[0]
        points = cutting(plan.path(setup, setup.operations[0]))
        beside_jaws = points[(np.abs(points[:, 1]) > 20.0) & (np.abs(points[:, 0]) < 25.0)]
        assert (beside_jaws[:, 2].min() < bottom + 4.0) == deep
        if not deep:  # over the jaws, with a millimetre of room
            jaws = held.setups.clamped(setup).stock_low[2] + 5.0
            assert beside_jaws[:, 2].min() == pytest.approx(jaws + 1.0)
    proof = proved(held)
    assert fixture_stops(proof) == []
    left = {one["why"]: one for one in proof.facts["deviation"]["left"]}
    # the mill, 8 mm, does not get between the jaws, for which paths keep 1 mm of room, and the walls, 2 mm
    # away
    assert left["held"]["more_mm"] == pytest.approx(7.0, abs=0.01)
    words = next(f["words"] for f in proof.facts["findings"] if f["kind"] == "left_held")
    assert "what holds the stock keeps the tools off" in words and "With 7 mm more of room" in words


def test_with_as_much_more_stock_as_was_said_nothing_is_held(block):
    wide = {"kind": "box", "allowance": {"x_low": 2, "x_high": 2, "y_low": 9.1, "y_high": 9.1, "z_high": 1}}
    proof = proved(planner(block, [JAWS], [side()], stock=wide))
    assert "held" not in {one["why"] for one in proof.facts["deviation"]["left"]}


def test_a_path_that_runs_into_a_clamp_is_a_stop_with_its_place(block):
    # planned without it, then a clamp is put where the profile goes
    plan = planner(block, [], [side()])
    setup = plan.job.setups[0]
    path = plan.path(setup, setup.operations[0])
    clamp = {"kind": "block", "name": "Clamp", "low": [31.5, -8.0, -30.0], "high": [60.0, 8.0, 10.0]}
    far = clamp | {"name": "Far stop", "low": [-80.0, -8.0, -30.0], "high": [-60.0, 8.0, 10.0]}
    held = planner(
        block,
        [far, clamp],
        [side(heights={"clearance": {"over": "stock_top", "offset": 30.0}})],
        stock={"kind": "box", "allowance": {"x_high": 1.0}},
    )
    other = held.job.setups[0]
    held.store.put(held.keys.path(other, other.operations[0]), "path", path.to_bytes())
    proof = proved(held)
    stops = fixture_stops(proof)
    assert stops and stops[0]["operation"] == "Sides"
    assert "The cutter of 'Sides' runs into the fixture (Clamp) at" in stops[0]["words"]
    x, y, z = stops[0]["place"]
    assert x > 27.0 and abs(y) < 13.0 and z < 10.0  # within the tool's radius of the clamp
    assert stops[0]["measure"] == pytest.approx(10.0 - path.tip[:, 2].min(), abs=1e-6)


def test_shank_and_holder_are_looked_at_too_and_an_operation_keeps_them_off(block):
    """A pocket beside a tall block: a short tool's holder would meet it."""
    tall = {"kind": "block", "name": "Stop", "low": [-45.0, -30.0, -20.0], "high": [-32.5, 30.0, 40.0]}
    pocket = {
        "name": "Pocket",
        "strategy": "level_roughing",
        "tool": 1,
        "keep_in": [{"polygon": [[-20, -10], [4, -10], [4, 10], [-20, 10]]}],
        "heights": {"clearance": {"over": "stock_top", "offset": 60.0}},
    }
    plan = planner(block, [tall], [pocket])
    tool = MILL.model_dump(mode="json") | {"holder": HOLDER, "stick_out": 27.0}
    doc = plan.job.model_dump(mode="json") | {"tools": [tool]}
    short = open_job(job_from_data(doc), block.parent, MemoryStore())
    setup = short.job.setups[0]
    path = short.path(setup, setup.operations[0])
    short_note = next(n for n in path.notes if n.kind == "short")
    assert (short_note.part, short_note.against) == ("holder", "part or the fixture")
    assert fixture_stops(proved(short)) == []
    # what was planned as if nothing stood there runs into it
    free = open_job(
        job_from_data(doc | {"setups": [doc["setups"][0] | {"fixture": []}]}), block.parent, MemoryStore()
    )
    wrong = free.path(free.job.setups[0], free.job.setups[0].operations[0])
    short = open_job(job_from_data(doc), block.parent, MemoryStore())
    setup = short.job.setups[0]
    short.store.put(short.keys.path(setup, setup.operations[0]), "path", wrong.to_bytes())
    met = next(f for f in fixture_stops(proved(short)) if "The holder of 'Pocket'" in f["words"])
    assert met["bodies"] == ("holder", "fixture")
    # a stick-out longer by what the holder lacks keeps it off
    longer = met["mend"]["tool"]["stick_out"]
    assert longer == pytest.approx(27.0 + met["measure"] + 2.0, abs=0.06)
    doc |= {"tools": [tool | {"stick_out": longer}]}
    held = open_job(job_from_data(doc), block.parent, MemoryStore())
    setup = held.job.setups[0]
    held.store.put(held.keys.path(setup, setup.operations[0]), "path", wrong.to_bytes())
    assert not any("holder" in f["words"] for f in fixture_stops(proved(held)))


def test_rapids_from_place_to_place_go_over_the_clamps(block):
    clamp = {"kind": "block", "name": "Clamp", "low": [-6.0, -30.0, 0.0], "high": [6.0, 30.0, 15.0]}
    holes = [{"at": [x, 0.0], "top": 0.0, "diameter": 8.0, "depth": 5.0} for x in (-20.0, 20.0)]
    drill = {"name": "Holes", "strategy": "drilling", "tool": 1, "holes": holes}
    plan = planner(
        block, [clamp], [drill | {"heights": {"clearance": {"over": "stock_top", "offset": 30.0}}}]
    )
    setup = plan.job.setups[0]
    path = plan.path(setup, setup.operations[0])
    across = (path.tip[:-1, 0] * path.tip[1:, 0] < 0) & (path.kind[1:] == Motion.RAPID)
    assert across.any() and path.tip[1:][across, 2].min() >= 16.0
    assert fixture_stops(proved(plan)) == []
    low = planner(block, [clamp], [drill])
    with pytest.raises(
        DocumentError, match=r"clearance height Z 10.000 is not above the fixture, whose top is Z 16.000"
    ):
        low.path(low.job.setups[0], low.job.setups[0].operations[0])


def test_a_solid_from_a_file_is_turned_and_put_in_its_place(block):
    solid = {
        "kind": "solid",
        "name": "Plate",
        "file": block.name,
        "at": [100.0, 0.0, -50.0],
        "turn_deg": 90.0,
    }
    plan = planner(block, [solid], [])
    held = plan.setups.clamped(plan.job.setups[0]).fixture
    # the block's own corners (0, 0, 0) and (60, 40, 20), turned by 90 degrees: x from -40 to 0, y from 0 to
    # 60
    assert held.bounds[0] == pytest.approx([60.0, 0.0, -50.0], abs=1e-6)
    assert held.bounds[1] == pytest.approx([100.0, 60.0, -30.0], abs=1e-6)


def test_the_setup_sheet_names_and_draws_the_fixture(block):
    plan = planner(block, [JAWS], [side()])
    release = plan.job.effective_releases()[0]
    sheet = setup_sheet(plan, release, proved(plan))
    assert "Jaws: jaws along X, 80 long, grip 5 from the underside" in sheet
    assert "none drawn" not in sheet
    drawn = pixels_of(base64.b64decode(sheet.split("data:image/png;base64,")[1].split('"')[0]))
    assert share(drawn, FIXTURE).sum() > 1000


@pytest.mark.parametrize(
    ("piece", "words", "where"),
    [
        (
            {"kind": "block", "name": "B", "low": [0, 0, -10], "high": [5, 5, 5]},
            r"'B' stands 5.000 mm in the stock",
            "fixture[0]",
        ),
        (JAWS | {"grip": 30.0}, "'Jaws' grip 30 mm of a stock that is 21.000 mm high", "fixture[0].grip"),
        ({"kind": "solid", "name": "S", "file": "no.step"}, "'no.step' does not exist", "fixture[0].file"),
    ],
)
def test_what_cannot_be_is_named_with_a_remedy(block, piece, words, where):
    plan = planner(block, [piece], [])
    with pytest.raises(DocumentError, match=words) as met:
        plan.setups.clamped(plan.job.setups[0])
    assert met.value.where == f"setups[0].{where}" and met.value.remedy


def test_a_block_without_size_and_a_name_twice_are_refused(block):
    with pytest.raises(DocumentError, match="no size along Z: from 5 to 5"):
        planner(block, [{"kind": "block", "name": "B", "low": [0, 0, 5], "high": [5, 5, 5]}], [])
    with pytest.raises(DocumentError, match="Jaws"):
        planner(block, [JAWS, JAWS], [])


def test_with_a_wall_at_the_jaws_nothing_can_be_cut_there(block):
    """Stock as large as the part: the jaws are at its walls themselves."""
    none = dict.fromkeys(("x_low", "x_high", "y_low", "y_high", "z_low", "z_high"), 0.0)
    wide = JAWS | {"grip": 19.0, "length": 200.0}
    plan = planner(
        block,
        [wide, wide | {"name": "Others", "along": "y"}],
        [side()],
        stock={"kind": "box", "allowance": none},
    )
    with pytest.raises(ComputeError, match="cannot follow the outline"):
        plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])


def stepped():
    """A stock as an earlier setup left it: 60 x 30 up to 8 mm, 60 x 20 over it, its underside at Z 0."""
    foot = trimesh.creation.box(bounds=[[-30, -10, 0], [30, 10, 4]])
    body = trimesh.creation.box(bounds=[[-30, -15, 4], [30, 15, 12]])
    return mesh_of(trimesh.boolean.union([foot, body], engine="manifold"))


@pytest.mark.parametrize(("grip", "half"), [(3.0, 10.0), (6.0, 15.0)])
def test_jaws_close_on_the_stock_as_it_stands(grip, half):
    """Where they grip the foot only they stand at its sides, not at those of the whole stock."""
    stock = stepped()
    near, far = (m.bounds for m in jaws_meshes(Jaws(**JAWS | {"grip": grip}), stock, 0.0))
    assert float(near[1][1]) == pytest.approx(-half)
    assert float(far[0][1]) == pytest.approx(half)


def test_jaws_with_nothing_between_them_say_so():
    arch = trimesh.boolean.difference(
        [
            trimesh.creation.box(bounds=[[-30, -15, 0], [30, 15, 12]]),
            trimesh.creation.box(bounds=[[-20, -16, -1], [20, 16, 6]]),
        ],
        engine="manifold",
    )
    stock = mesh_of(arch)
    with pytest.raises(DocumentError, match="grip nothing") as raised:
        jaws_meshes(Jaws(**JAWS | {"length": 30.0}), stock, 0.0)
    assert "longer jaws" in raised.value.remedy
    assert len(jaws_meshes(Jaws(**JAWS | {"length": 50.0}), stock, 0.0)) == 2

"""Fixtures by name: vices, steps, soft jaws, clamps, plates; where they put the stock; bodies held against
trimesh and manifold3d."""

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import DocumentError
from fenrik.core.frames import apply, invert
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.proof.standing import standing_findings
from fenrik.core.setups.fixture import GAP_MM, fixture_mesh
from fenrik.core.setups.held_in import Fixture, HeldIn, seated
from tests.conftest import make_tool, mesh_of
from tests.core.test_holes import cylinder, drilled

VICE = {"kind": "vice", "name": "Vice", "grip": 6.0, "length": 100.0}
"""Jaws 40 high on a base of 70: tops at 110, the stock sits on 104."""
PLATE = {"kind": "plate", "name": "Plate", "low": [-150, -100, 0], "high": [150, 100, 30]}


def box(low, high):
    return mesh_of(trimesh.creation.box(bounds=[low, high]))


def drawn(fixture, held, stock, gap=0.0):
    """The seat, and the fixture's mesh with its pieces apart, in the fixture's frame."""
    fixture, held = Fixture(**fixture), HeldIn(fixture=fixture["name"], **held)
    seat = seated(fixture, held, stock)
    here = stock.moved(invert(seat.setup_from_fixture))
    mesh = fixture_mesh(fixture.pieces, {}, here, 0.0, gap)
    return seat, here, trimesh.Trimesh(mesh.vertices, mesh.triangles)


def one(*pieces, **more):
    return {"name": "One", "pieces": list(pieces), **more}


def solid(mesh):
    """The pieces of a mesh as one body, by manifold3d."""
    parts = mesh.split(only_watertight=True)
    assert sum(len(p.faces) for p in parts) == len(mesh.faces), "every piece is closed"
    return trimesh.boolean.union(list(parts), engine="manifold")


def common(a, b):
    """Volume mm³ that two bodies share."""
    both = trimesh.boolean.intersection([a, b], engine="manifold", check_volume=False)
    return abs(both.volume) if len(both.faces) else 0.0


@pytest.mark.parametrize("form", ["hard", "stepped", "soft"])
@pytest.mark.parametrize("turn", [0.0, 90.0, 180.0, -90.0])
def test_a_vice_holds_the_stock_against_its_fixed_jaw_whatever_its_width(form, turn):
    for wide in (20.0, 55.5, 148.0):
        low, high = (7.0, -3.0, -18.0), (7.0 + 60, -3.0 + wide, 2.0)
        if turn in (90.0, -90.0):
            high = (7.0 + wide, -3.0 + 60, 2.0)
        stock = box(low, high)
        at = {"x": 40.0, "y": -25.0, "z": 5.0, "turn_deg": turn}
        seat, here, mesh = drawn(one(VICE | {"form": form}), {"on_table": at}, stock)
        a, b = here.bounds
        # 6 of the stock between the jaws, its side on the fixed one, its middle at theirs
        assert a[2] == pytest.approx(104.0)
        assert a[1] == pytest.approx(0.0, abs=1e-9)
        assert 0.5 * (a[0] + b[0]) == pytest.approx(0.0, abs=1e-9)
        # the moving jaw is as far off as the stock is wide; soft ones stand farther in beside it
        level = mesh.section([0, 0, 1], [0, 0, 107.0]).vertices
        far = level[level[:, 1] > 0.5 * wide][:, 1].min()
        assert far == pytest.approx(wide - (3.0 if form == "soft" else 0.0), abs=1e-6)
        body = solid(mesh)
        held = trimesh.Trimesh(here.vertices, here.triangles)
        assert common(body, held) < 1e-3
        # the fixture's zero stands where the document says, on the table
        zero = apply(seat.setup_from_fixture, np.zeros((1, 3)))[0] + seat.table_from_setup
        assert zero == pytest.approx([40.0, -25.0, 5.0])
        corner = apply(seat.setup_from_fixture, np.array([[1.0, 0.0, 0.0]]))[0] + seat.table_from_setup - zero
        assert corner == pytest.approx([np.cos(np.radians(turn)), np.sin(np.radians(turn)), 0.0], abs=1e-12)


def test_steps_and_soft_jaws_carry_the_stock_from_below():
    stock = box((-30, -20, 0), (30, 20, 25))
    bodies = {}
    for form in ("hard", "stepped", "soft"):
        _, _, mesh = drawn(one(VICE | {"form": form, "ledge": 4.0}), {}, stock)
        bodies[form] = solid(mesh)
        under = trimesh.creation.box(bounds=[[-30, 0, 100], [30, 40, 104]])
        # two ledges of 4 under a stock 60 long, or none
        want = 0.0 if form == "hard" else 2 * 4.0 * 60.0 * 4.0
        assert common(bodies[form], under) == pytest.approx(want, abs=1e-3)
    # beside the stock soft jaws stand as far in as their ledges
    beside = trimesh.creation.box(bounds=[[30, 0, 104], [50, 40, 110]])
    assert common(bodies["stepped"], beside) == pytest.approx(0.0, abs=1e-3)
    assert common(bodies["soft"], beside) == pytest.approx(2 * 20.0 * 4.0 * 6.0, abs=1e-3)


def test_soft_jaws_are_cut_to_the_outline_of_what_they_hold():
    round_stock = mesh_of(trimesh.creation.cylinder(radius=25.0, height=20.0, sections=96))
    _, here, mesh = drawn(one(VICE | {"form": "soft", "ledge": 10.0}), {}, round_stock)
    held = trimesh.Trimesh(here.vertices, here.triangles)
    body = solid(mesh)
    assert common(body, held) < 1e-2
    # grown by a tenth the stock meets the nest along the arc within 10 mm of either side
    grown = held.copy()
    grown.apply_translation(-here.bounds[0] * [0, 0, 1])
    grown.vertices[:, :2] = (grown.vertices[:, :2] - [0, 25.0]) * 1.004 + [0, 25.0]
    grown.apply_translation(here.bounds[0] * [0, 0, 1])
    arc = 2 * 2 * 25.0 * np.arccos(15.0 / 25.0)
    assert common(body, grown) == pytest.approx(arc * 0.1 * 6.0, rel=0.05)


def test_a_vice_that_does_not_open_so_far_says_so():
    with pytest.raises(DocumentError, match=r"opens 50 mm; the stock is 60\.00 mm wide there"):
        drawn(one(VICE | {"opening": 50.0}), {}, box((0, 0, 0), (60, 60, 20)))
    drawn(one(VICE | {"opening": 60.0}), {}, box((0, 0, 0), (60, 60, 20)))


def test_a_vice_that_grips_nothing_says_so():
    stock = box((0, 0, 0), (60, 60, 20))
    with pytest.raises(DocumentError, match="nothing is left between the jaws"):
        drawn(one(VICE), {"in_fixture": [0, 0, 6.0]}, stock)
    with pytest.raises(DocumentError, match="grip nothing"):
        drawn(one(VICE), {"in_fixture": [200.0, 0, 0]}, stock)
    with pytest.raises(DocumentError, match="meet under a stock"):
        drawn(one(VICE | {"form": "stepped", "ledge": 30.0}), {}, stock)


def test_on_parallels_a_stock_sits_higher_and_less_of_it_is_held():
    _, here, _ = drawn(one(VICE), {"in_fixture": [12.0, 0.0, 2.5]}, box((0, 0, 0), (60, 40, 20)))
    assert here.bounds[0] == pytest.approx([-30 + 12.0, 0.0, 106.5])


def test_a_clamp_is_as_high_as_the_stock_is_under_it():
    stairs = trimesh.boolean.union(
        [
            trimesh.creation.box(bounds=[[-40, -20, 0], [40, 20, 10]]),
            trimesh.creation.box(bounds=[[-10, -20, 0], [40, 20, 30]]),
        ],
        engine="manifold",
    )
    fixture = one(
        PLATE,
        {"kind": "clamp", "name": "Left", "at": [-30, 0], "towards_deg": 180.0, "reach": 10.0},
        {"kind": "clamp", "name": "Right", "at": [30, 0], "reach": 10.0},
        seat=[0, 0, 30],
    )
    _, here, mesh = drawn(fixture, {}, mesh_of(stairs))
    assert here.bounds[0] == pytest.approx([-40, -20, 30])
    held = trimesh.Trimesh(here.vertices, here.triangles)
    body = solid(mesh)
    assert common(body, held) < 1e-3
    over = body.vertices
    left, right = over[over[:, 0] < -32], over[over[:, 0] > 32]
    # bar of 16 over 10 and 30 of stock on the plate, nut 15 over that
    assert left[:, 2].max() == pytest.approx(30 + 10 + 16 + 15)
    assert right[:, 2].max() == pytest.approx(30 + 30 + 16 + 15)


@pytest.mark.parametrize(
    ("clamp", "words"),
    [
        ({"at": [80.0, 0.0]}, "nothing of the stock under"),
        ({"at": [-10.0, 0.0]}, "would stand in the stock"),
        ({"at": [30.0, 0.0], "towards_deg": 180.0}, "would stand in the stock"),
    ],
)
def test_a_clamp_that_cannot_hold_says_why(clamp, words):
    fixture = one(PLATE, {"kind": "clamp", "name": "Clamp", **clamp}, seat=[0, 0, 30])
    with pytest.raises(DocumentError, match=words):
        drawn(fixture, {}, box((-40, -20, 0), (40, 20, 10)))


@settings(max_examples=40, deadline=None)
@given(
    st.floats(-180, 180), st.floats(-300, 300), st.floats(-300, 300), st.floats(0, 200), st.floats(-50, 50)
)
def test_the_two_frames_are_those_of_the_document(turn, x, y, z, off):
    """A point of the fixture, through the stock's frame and the work offset, lies on the table where it lies
    when it is turned and moved there at once."""
    at = {"x": x, "y": y, "z": z, "turn_deg": turn}
    stock = box((12, -5, -30), (72, 35, 0))
    seat, here, _ = drawn(one(PLATE, seat=[10, 20, 30]), {"on_table": at, "in_fixture": [off, 0, 1]}, stock)
    points = np.array([[0.0, 0, 0], [10, 0, 0], [0, 7, 0], [3, 4, 5]])
    through = apply(seat.setup_from_fixture, points) + seat.table_from_setup
    c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
    at_once = points @ np.array([[c, s, 0], [-s, c, 0], [0, 0, 1]]) + [x, y, z]
    assert np.abs(through - at_once).max() < 1e-9
    # the middle of the stock's underside sits on the seat
    a, b = here.bounds
    assert [0.5 * (a[0] + b[0]), 0.5 * (a[1] + b[1]), a[2]] == pytest.approx([10 + off, 20, 31], abs=1e-9)


def test_what_paths_keep_clear_of_is_larger_all_round():
    stock = box((-30, -20, 0), (30, 20, 25))
    for form in ("hard", "stepped", "soft"):
        fixture = one(VICE | {"form": form})
        _, _, plain = drawn(fixture, {}, stock)
        _, _, clear = drawn(fixture, {}, stock, GAP_MM)
        assert clear.bounds[0] == pytest.approx(plain.bounds[0] - GAP_MM)
        assert clear.bounds[1][:2] == pytest.approx(plain.bounds[1][:2] + GAP_MM)


@pytest.fixture(scope="module")
def part(tmp_path_factory):
    """A block 60 x 40 x 20 with a bore."""
    return drilled(tmp_path_factory.mktemp("part"), [cylinder(50, 20, 0, 3.0, 20)])


def job(part, **setup):
    data = {
        "fenrik": 1,
        "name": "held",
        "part": {"file": part.name},
        "fixtures": [one(VICE), {"name": "Plate", "pieces": [PLATE], "seat": [0, 0, 30]}],
        "setups": [{"name": "Top", **setup}],
    }
    return open_job(job_from_data(data), part.parent, MemoryStore())


def test_a_job_puts_its_setup_where_the_fixture_has_it(part):
    held = job(part, held_in={"fixture": "One"})
    clamped = held.setups.clamped(held.job.setups[0])
    # stock 64 x 44 x 21 on a seat 104 over the table, zero in the middle of its top
    assert clamped.table_from_setup == pytest.approx([0.0, 22.0, 104.0 + 21.0])
    turned = job(part, turn_deg=90.0, held_in={"fixture": "One", "on_table": {"turn_deg": 90.0}})
    clamped = turned.setups.clamped(turned.job.setups[0])
    assert clamped.table_from_setup == pytest.approx([-22.0, 0.0, 125.0])
    high = clamped.fixture.bounds[1]
    assert high[2] == pytest.approx(-21.0 + 6.0), "the jaws' tops, 6 over the stock's underside"
    # `placement` does not count where a fixture holds it
    far = job(part, held_in={"fixture": "One"}, placement={"x": 200.0})
    assert far.setups.clamped(far.job.setups[0]).table_from_setup == pytest.approx([0.0, 22.0, 125.0])


def test_pieces_of_its_own_come_on_top_of_the_fixture(part):
    clamp = {"kind": "clamp", "name": "Clamp", "at": [22.0, 0.0], "reach": 10.0}
    held = job(part, held_in={"fixture": "Plate"}, fixture=[clamp])
    clamped = held.setups.clamped(held.job.setups[0])
    low, high = clamped.fixture.bounds
    # the plate's underside and the clamp's heel are on the table, 30 + 21 under program zero
    assert low[2] == pytest.approx(-51.0)
    assert high[2] == pytest.approx(31.0)


def test_a_fixture_that_the_job_does_not_have_is_refused(part):
    with pytest.raises(
        DocumentError, match="held in the fixture 'Two', which the job does not have"
    ) as refused:
        job(part, held_in={"fixture": "Two"})
    assert "One, Plate" in str(refused.value)


def test_a_block_of_a_fixture_in_the_stock_is_refused(part):
    held = job(part, held_in={"fixture": "Plate", "in_fixture": [0, 0, -5.0]})
    with pytest.raises(DocumentError, match=r"'Plate' stands 5\.000 mm in the stock") as refused:
        held.setups.clamped(held.job.setups[0])
    assert refused.value.where == "fixtures[1].pieces[0]"


def standing(part, **held):
    """What the proof of facing says of how the fixture stands."""
    operation = {"name": "Face the top", "strategy": "facing", "tool": 1}
    tool = make_tool("flat", 16.0, number=1, flute_length=30.0, stick_out=50.0).model_dump(mode="json")
    data = job(part, held_in=held).job.model_dump(mode="json") | {"tools": [tool], "proof": {"cell_mm": 1.5}}
    data["setups"][0]["operations"] = [operation]
    mine = open_job(job_from_data(data), part.parent, MemoryStore())
    found = Prover(mine).prove(mine.job.effective_releases()[0]).facts["findings"]
    return [f for f in found if f["kind"] == "standing"]


def test_a_fixture_that_hangs_over_the_table_is_told_with_the_place_that_is_right(part):
    assert standing(part, fixture="One") == []
    (found,) = standing(part, fixture="One", on_table={"x": 3.0, "z": 5.0})
    assert (found["severity"], found["mend"]["placement"]) == ("caution", {"z": 0.0})
    assert "'One' hangs 5.00 mm over the table" in found["words"]


def test_pieces_that_go_into_the_table_stop_the_program(part):
    jaws = {"kind": "jaws", "name": "Jaws", "height": 40.0}
    opened = job(part, placement={"z": 30.0}, fixture=[jaws])
    clamped = opened.setups.clamped(opened.job.setups[0])
    (found,) = standing_findings(clamped.fixture, float(clamped.table_from_setup[2]), None)
    # jaws 40 high grip 5 of a stock that sits 30 over the table
    assert (found.severity, found.measure) == ("stop", pytest.approx(5.0))

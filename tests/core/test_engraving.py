"""Engraving: letters, edges and outlines at their depth, measured in the stock, and the proof of them."""

import math

import numpy as np
import pytest
import shapely
from shapely.geometry import LineString, MultiLineString

from fenrik.core.errors import FenrikError
from fenrik.core.job.cutting.cutting import cut_stock
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.lettering.letters import lettering
from fenrik.core.motion.moves import Motion
from fenrik.core.proof.engravings import EngravingZone
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled

POINT = make_tool("chamfer", 6.0, point_deg=60.0, flute_length=6.0)
BALL = make_tool("ball", 2.0, flute_length=6.0)


@pytest.fixture(scope="module")
def plate(tmp_path_factory):
    """The block of 60 x 40 x 20 with a pocket round about (45, 20), Ø16 and 5 deep."""
    return drilled(tmp_path_factory.mktemp("plate"), [cylinder(45, 20, 15, 8, 5)])


def prover(file, lines, tool=POINT, **parameters):
    operation = {"name": "Mark", "strategy": "engraving", "tool": 1, "lines": lines, "parameters": parameters}
    data = {
        "fenrik": 1,
        "name": "Marked",
        "part": {"file": file.name},
        "tools": [tool.model_dump(mode="json")],
        "setups": [
            {
                "name": "Top",
                "operations": [operation],
                "stock": {"kind": "box", "allowance": {"z_high": 0.0}},
                "zero": {"of": "part", "x": "low", "y": "low", "z": "high"},
            }
        ],
        "proof": {"cell_mm": 0.125},
    }
    return Prover(open_job(job_from_data(data), file.parent, MemoryStore()))


def path_of(file, lines, tool=POINT, **parameters):
    plan = prover(file, lines, tool, **parameters).paths
    return plan.path(plan.job.setups[0], plan.job.setups[0].operations[0])


TEXT = {"text": "Ø8 H7", "at": [5.0, 25.0], "height": 6.0}


def test_capitals_have_their_height_and_words_their_place():
    strokes = lettering("AHO", 7.0, (10.0, 20.0))
    points = np.vstack(strokes)
    assert points.min(axis=0) == pytest.approx((10.0, 20.0)) and points[:, 1].max() == pytest.approx(27.0)
    width = np.ptp(points[:, 0])
    # three letters of 6 and two gaps of 2 in units of a tenth of the height (ISO 3098, from memory)
    assert width == pytest.approx(0.7 * (3 * 6 + 2 * 2))
    middle = np.vstack(lettering("AHO", 7.0, (10.0, 20.0), 90.0, "middle"))
    assert middle.max(axis=0) == pytest.approx((10.0, 20.0 + 0.5 * width))
    right = np.vstack(lettering("AHO", 7.0, (10.0, 20.0), 0.0, "right"))
    assert right[:, 0].max() == pytest.approx(10.0)
    assert np.vstack(lettering("A\nB", 10.0))[:, 1].min() == pytest.approx(-16.0)
    assert lettering("   ", 5.0) == []


def test_every_letter_is_drawn_within_its_lines_and_no_two_are_alike():
    from fenrik.core.lettering.letters import _font

    seen = {}
    for letter in _font()["glyphs"]:
        drawn = MultiLineString([s for s in lettering(letter, 10.0)])
        low, high = drawn.bounds[1], drawn.bounds[3]
        assert low >= -3.01 and high <= 12.01, letter
        assert drawn.bounds[0] >= 0 and drawn.bounds[2] <= 8.01, letter
        if letter.isupper() and letter not in "ÄÖÜØQ":
            assert (low, high) == pytest.approx((0.0, 10.0), abs=0.01), letter
        for other, known in seen.items():
            if np.abs(np.subtract(drawn.bounds, known.bounds)).max() > 0.3:
                continue
            assert shapely.hausdorff_distance(drawn, known, densify=0.02) > 0.3, (letter, other)
        seen[letter] = drawn


def test_a_letter_that_does_not_exist_is_named():
    with pytest.raises(FenrikError, match=r"no letter for '漢' in the text"):
        lettering("No. 漢", 4.0)


def test_text_is_driven_at_its_depth_along_its_strokes(plate):
    path = path_of(plate, [TEXT], depth=0.3, passes=2)
    cut = path.kind == Motion.FEED
    assert sorted(set(np.round(path.tip[cut, 2], 6))) == [-0.3, -0.15]
    strokes = lettering("Ø8 H7", 6.0, (5.0, 25.0))
    wanted = sum(LineString(s).length for s in strokes)
    assert path.moves.lengths()[cut].sum() == pytest.approx(2 * wanted, rel=2e-3)
    rows = np.flatnonzero(cut)
    assert max(MultiLineString(strokes).distance(shapely.Point(path.tip[i, :2])) for i in rows) < 0.01
    assert (path.turn[cut] != 0).any()  # bowls are arcs
    # between strokes it is over the part
    assert (path.tip[path.kind == Motion.RAPID, 2] > 0).all()


@pytest.mark.parametrize(("tool", "depth"), [(POINT, 0.5), (BALL, 0.4)])
def test_the_groove_is_proved_and_is_no_overcut(plate, tool, depth):
    checked = prover(
        plate, [{"points": [[5, 5], [25, 5], [25, 15], [5, 15]], "closed": True}], tool, depth=depth
    )
    proof = checked.prove(checked.job.effective_releases()[0])
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] < 0.012
    # the section of the groove: a triangle under a point of 60°, a segment of a circle under a ball
    angle = math.acos(1.0 - depth)
    section = (
        depth**2 * math.tan(math.radians(30)) if tool is POINT else angle - math.sin(angle) * math.cos(angle)
    )
    cut = cut_stock(checked.paths, checked.post(checked.job.effective_releases()[0]))
    # seen along the tool; along the groove a ray sees its section in steps of the cell
    seen = cut.stock.volumes()[2] - cut.done.last.volumes()[2]
    assert seen == pytest.approx(60.0 * section, rel=0.02)


def test_a_groove_that_is_deeper_or_beside_its_line_counts_as_overcut():
    zone = EngravingZone(
        LineString([(0, 0), (10, 0)]),
        0.5,
        np.linspace(0, 3, 100),
        np.linspace(0, 3, 100) * math.tan(math.radians(60)),
    )
    points = np.array(
        [[5, 0, -0.5], [5, 0, -0.6], [5, 0.1, -0.3], [5, 0.1, -0.45], [5, 2, -0.2], [5, 0, 0.0]]
    )
    distance = points[:, 2].copy()
    # under a point of 60° the groove is 0.5 - 0.1 tan 60° = 0.327 deep 0.1 mm beside its line
    assert zone.corrected(points, distance) == pytest.approx([0, -0.1, 0, -0.123, -0.2, 0], abs=2e-3)


def test_the_border_of_a_face_and_an_edge_are_followed(plate):
    part = prover(plate, [TEXT]).paths.workspace.part()
    edge = next(e for e in part.edges if e.kind == "circle" and e.centre[2] > 19)
    rim = path_of(plate, [{"edge": edge.id}], depth=0.2)
    cut = rim.kind == Motion.FEED
    assert np.hypot(*(rim.tip[cut, :2] - (45.0, 20.0)).T) == pytest.approx(8.0, abs=0.01)
    assert rim.moves.lengths()[cut].sum() == pytest.approx(16 * math.pi, rel=1e-3)
    top = next(f for f in part.faces if f.kind == "plane" and f.normal[2] > 0.9 and f.low[2] > 19)
    both = path_of(plate, [{"face": top.id}], depth=0.2)
    assert both.moves.lengths()[both.kind == Motion.FEED].sum() == pytest.approx(200 + 16 * math.pi, rel=1e-3)


def test_on_a_curved_face_the_depth_is_kept_along_the_tool(tmp_path):
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Common
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    log = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(-5, 20, -10), gp_Dir(1, 0, 0)), 30.0, 70.0).Shape()
    over = BRepAlgoAPI_Common(BRepPrimAPI_MakeBox(60.0, 40.0, 20.0).Shape(), log)
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut

    file = drilled(
        tmp_path, [BRepAlgoAPI_Cut(BRepPrimAPI_MakeBox(60.0, 40.0, 20.0).Shape(), over.Shape()).Shape()]
    )
    path = path_of(
        file,
        [{"points": [[30, 10], [30, 30]]}],
        make_tool("chamfer", 6.0, point_deg=40.0, flute_length=9.0),
        depth=0.25,
    )
    cut = path.kind == Motion.FEED
    # the top of a cylinder of radius 30 about the line 10 mm under the block
    wanted = -30.0 + np.sqrt(900.0 - (path.tip[cut, 1] - 20.0) ** 2) - 0.25
    assert path.tip[cut, 2] == pytest.approx(wanted, abs=0.01)


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ({"text": "FAR TOO LONG", "at": [5, 2], "height": 9.0}, "The text 'FAR TOO LONG' leaves the part at"),
        ({"points": [[30, 20], [45, 20]]}, "Line 1 goes over a wall at X 3"),
        ({"points": [[38.2, 10], [38.2, 30]]}, "goes over a wall|comes too near to a wall"),
        ({"points": [[44, 20], [46, 20], [46, 26.8]]}, "Line 1 comes too near to a wall at X 46.00 Y 2"),
        ({"edge": 400}, "Edge 400 does not exist: the part has"),
        ({"face": 99}, "border of face 99 does not exist"),
    ],
)
def test_what_cannot_be_engraved_is_named(plate, line, words):
    with pytest.raises(FenrikError, match=words) as caught:
        path_of(plate, [line])
    assert caught.value.remedy


def test_a_line_is_one_thing_and_a_text_has_a_place(plate):
    for wrong in ({"edge": 1, "face": 2}, {"text": "A"}, {"edge": 1, "at": [0, 0]}, {}):
        with pytest.raises(FenrikError, match="lines"):
            prover(plate, [wrong])


def test_strokes_are_driven_by_the_nearest_next_one(plate):
    lines = [{"points": [[x, 5], [x, 10]]} for x in (5, 45, 15, 35, 25)]
    path = path_of(plate, lines)
    starts = [round(float(x)) for x in path.tip[path.kind == Motion.FEED, 0]]
    assert starts == [5, 15, 25, 35, 45]
    assert path.moves.lengths()[path.kind == Motion.RAPID].sum() < 200


def test_a_seam_of_a_round_face_is_no_line_and_says_so(plate):
    part = prover(plate, [TEXT]).paths.workspace.part()
    seam = next(e for e in part.edges if len(set(e.faces)) == 1)
    with pytest.raises(FenrikError, match=rf"Edge {seam.id} bounds nothing"):
        path_of(plate, [{"edge": seam.id}])

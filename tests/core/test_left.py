"""What a program leaves, and why: out of sight, out of the tools' reach, or in reach and not finished."""

import math

import numpy as np
import pytest
import trimesh

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.proof.left import Spots, left_findings, left_of, spots_on
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled
from tests.core.test_profile import rounded_box

NONE = {side: 0.0 for side in ("x_low", "x_high", "y_low", "y_high", "z_low", "z_high")}


@pytest.fixture(scope="module")
def proved(tmp_path_factory):
    """A block with a pocket of corners R2 that a tool of 10 mm makes, a shallow one that nothing cuts, and a
    bore from the side; its proof and its faces by what they belong to."""
    cuts = [
        rounded_box(6, 8, 10, 26, 24, 10, 2.0),
        rounded_box(38, 8, 17, 16, 24, 3, 6.0),
        cylinder(-1, 20, 4, 2.0, 62, (1, 0, 0)),
    ]
    file = drilled(tmp_path_factory.mktemp("left"), cuts)
    tool = make_tool("flat", 10.0, number=1, flute_length=26.0, stick_out=50.0)
    data = {
        "fenrik": 1,
        "name": "left",
        "part": {"file": file.name},
        "tools": [tool.model_dump(mode="json")],
        "setups": [{"name": "Top", "stock": {"kind": "box", "allowance": NONE}, "operations": []}],
        "proof": {"cell_mm": 0.5},
    }
    part = open_job(job_from_data(data), file.parent, MemoryStore()).workspace.part()
    flat = {round(f.origin[2], 3): f.id for f in part.faces if f.kind == "plane" and f.normal[2] > 0.9}
    faces = {
        "floor": flat[10.0],
        "shallow": flat[17.0],
        "corners": {
            f.id for f in part.faces if f.kind == "cylinder" and f.hollow and abs(f.radius - 2) < 1e-3
        },
    }
    bore = {f.id for f in part.faces if f.kind == "cylinder" and abs(f.axis[0]) > 0.9}
    faces |= {"corners": faces["corners"] - bore, "bore": bore}
    data["setups"][0]["operations"] = [
        {
            "name": "Clear",
            "strategy": "bounded_clearing",
            "tool": 1,
            "keep_in": [{"faces": [faces["floor"]]}],
            "parameters": {"allowance_radial": 0.3, "allowance_axial": 0.0},
        },
        {
            "name": "Walls",
            "strategy": "profile",
            "tool": 1,
            "walls": [{"face": faces["floor"]}],
            "parameters": {"step_down": 20.0},
        },
    ]
    planner = open_job(job_from_data(data), file.parent, MemoryStore())
    return Prover(planner).prove(planner.job.effective_releases()[0]), faces, part


def test_the_report_says_what_is_left_and_why(proved):
    proof, faces, part = proved
    left = {one["why"]: one for one in proof.facts["deviation"]["left"]}
    assert set(left) == {"hidden", "narrow", "unfinished"}
    assert set(left["hidden"]["faces"]) == faces["bore"]
    # a tool of radius 5 in a corner of 2 touches neither the corner, nor 3 mm of the walls beside it (but for
    # where its circle is still within the tolerance of them), nor the floor in it
    assert faces["corners"] < set(left["narrow"]["faces"])
    narrow = 4 * (10 * (0.5 * math.pi * 2 + 2 * (3 - math.sqrt(2 * 5 * 0.01))) + (1 - math.pi / 4) * (25 - 4))
    assert left["narrow"]["share"] == pytest.approx(narrow / sum(f.area for f in part.faces), rel=0.05)
    assert (
        faces["shallow"] in left["unfinished"]["faces"] and faces["floor"] not in left["unfinished"]["faces"]
    )
    assert left["unfinished"]["most_mm"] == pytest.approx(3.0, abs=0.25 * 0.5**2 / 3.0)
    # their areas by hand: floor and walls of the shallow one, the bore's walls between the block's sides and
    # the pocket
    area = sum(f.area for f in part.faces)
    shallow = 16 * 24 - (4 - math.pi) * 36 + (2 * (4 + 12) + 2 * math.pi * 6) * 3
    rim = 0.5 * (2 * (4 + 12) + 2 * math.pi * 6)  # under it, by a cell, the top beside a spot is on size
    assert left["unfinished"]["share"] == pytest.approx((shallow - 0.5 * rim) / area, abs=0.5 * rim / area)
    assert left["hidden"]["share"] == pytest.approx(4 * math.pi * 60 / area, rel=0.05)
    notes = [f for f in proof.facts["findings"] if f["kind"].startswith("left_")]
    assert {f["severity"] for f in notes} == {"note"} and len(notes) == 3
    words = next(f["words"] for f in notes if f["kind"] == "left_unfinished")
    assert "with up to 3.0 mm of stock" in words and str(faces["shallow"]) in words


def test_little_is_not_told_and_a_rim_names_no_face():
    count = 10_000
    spots = Spots(
        np.zeros((count, 3)),
        np.tile([0.0, 0.0, 1.0], (count, 1)),
        np.repeat([1, 2], count // 2).astype(np.int32),
    )
    over, reached = np.zeros(count), np.ones(count, dtype=bool)

    class Reach:
        """The tools reach what is said, the smallest cutter half of the rest, a needle only where that
        does."""

        smallest_mm = 2.0

        def tools(self, points, normals):
            return reached

        def smallest(self, points, normals):
            return np.arange(len(points)) % 2 == 0

        def needle(self, points, normals):
            return np.full(len(points), seen)

        def unheld(self, points, normals):
            return np.zeros(len(points), dtype=bool)

        def lacking(self, points):
            return 0.0

    seen = False

    def told():
        return left_of(spots, over, Reach(), 0.01).left

    over[:15] = 0.5  # 0.15 % of all
    assert told() == []
    over[:200] = 0.5  # 2 % of all, 4 % of face 1
    (one,) = told()
    assert (one.why, one.faces) == ("unfinished", []) and one.share == pytest.approx(0.02)
    over[:400], reached[:400] = 0.5, False
    (one,) = told()
    assert (one.why, one.faces, one.most_mm) == ("hidden", [1], 0.5)
    (finding,) = left_findings(left_of(spots, over, Reach(), 0.01))
    assert finding.words == (
        "Left: 4.0 % of the surface on face 1, with up to 0.50 mm of stock on it: it is not seen from "
        "above in this setup."
    )


def test_what_a_smaller_cutter_would_reach_is_told_both_ways():
    count = 1000
    spots = Spots(np.zeros((count, 3)), np.tile([0.0, 0.0, 1.0], (count, 1)), np.ones(count, dtype=np.int32))
    over = np.zeros(count)
    over[:400] = 0.3  # of these 100 are in reach of the tools, 75 of the smallest cutter

    class Reach:
        smallest_mm = 2.0

        def tools(self, points, normals):
            return np.arange(count) >= 300

        def smallest(self, points, normals):
            return np.arange(len(points)) < 75

        def needle(self, points, normals):
            return np.ones(len(points), dtype=bool)

        def unheld(self, points, normals):
            return np.zeros(len(points), dtype=bool)

        def lacking(self, points):
            return 0.0

    left = left_of(spots, over, Reach(), 0.01)
    assert left.share_of_reachable == pytest.approx(600 / 700)
    assert left.share_of_smallest == pytest.approx(600 / 775)
    narrow = next(one for one in left.left if one.why == "narrow")
    assert (narrow.share, narrow.smaller) == (pytest.approx(0.3), pytest.approx(0.25))
    words = next(f.words for f in left_findings(left) if f.kind == "left_narrow")
    assert "Ø2 mm, would touch 25 % of it" in words


def test_spots_are_spread_evenly_by_area_and_lie_on_their_faces():
    # a box of 4 x 2 x 1 by hand: the areas of its sides are 8, 8, 4, 4, 2, 2 of 28
    body = trimesh.creation.box((4.0, 2.0, 1.0))
    ids = np.array(
        [int(np.argmax(np.abs(n))) * 2 + int(n.sum() > 0) for n in body.face_normals], dtype=np.int32
    )
    spots = spots_on(TriangleMesh(body.vertices, body.faces.astype(np.int32), ids), 28_000)
    assert np.bincount(spots.faces).tolist() == pytest.approx([2000, 2000, 4000, 4000, 8000, 8000], abs=2)
    half = np.array([2.0, 1.0, 0.5])
    for face in range(6):
        mine = spots.points[spots.faces == face]
        axis, sign = face // 2, 2 * (face % 2) - 1
        assert np.allclose(mine[:, axis], sign * half[axis])
        assert np.allclose(spots.normals[spots.faces == face], sign * np.eye(3)[axis])
        for other in {0, 1, 2} - {axis}:
            tenths = np.histogram(mine[:, other], bins=10, range=(-half[other], half[other]))[0]
            assert tenths.min() > 0.9 * tenths.mean() and tenths.max() < 1.1 * tenths.mean()

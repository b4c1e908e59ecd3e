"""Pockets, slots, bosses, tops and broken edges: what is found on parts whose features are known, in any
position, and the operations that are proposed for them."""

from dataclasses import replace

import numpy as np
import pytest

from fenrik.core.errors import FenrikError
from fenrik.core.features.feature import features_alike, features_from_bytes, features_to_bytes
from fenrik.core.features.holes import find_holes
from fenrik.core.features.made import made_already
from fenrik.core.features.shapes import find_features
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proposing.whole_part import propose_features
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.reading import read_model
from fenrik.core.progress import SILENT
from tests.conftest import MODELS
from tests.core.test_holes import cylinder
from tests.core.test_profile import rounded_box


def box_of(x, y, z, dx, dy, dz):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    return BRepPrimAPI_MakeBox(gp_Pnt(x, y, z), dx, dy, dz).Shape()


def shape_of(cuts, adds=()):
    """A block 120 x 80 x 30 less and plus solids."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
    from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain

    shape = box_of(0, 0, 0, 120, 80, 30)
    for cut in cuts:
        shape = BRepAlgoAPI_Cut(shape, cut).Shape()
    for add in adds:
        shape = BRepAlgoAPI_Fuse(shape, add).Shape()
    simple = ShapeUpgrade_UnifySameDomain(shape)
    simple.Build()
    return simple.Shape()


def written(folder, shape, name="part.step", turn=None):
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    if turn is not None:
        shape = BRepBuilderAPI_Transform(shape, turn, True).Shape()
    writer = STEPControl_Writer()
    writer.Transfer(shape, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(folder / name))
    return folder / name


def obround(x, y, z, length, width, depth):
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Fuse
    from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain

    r = 0.5 * width
    body = box_of(x + r, y, z, length - width, width, depth)
    for cx in (x + r, x + length - r):
        body = BRepAlgoAPI_Fuse(body, cylinder(cx, y + r, z, r, depth)).Shape()
    simple = ShapeUpgrade_UnifySameDomain(body)
    simple.Build()
    return simple.Shape()


def everything():
    """A closed pocket with a round island, a step in its floor, an open pocket, a slot, a slot right through,
    a boss."""
    cuts = [
        rounded_box(10, 10, 18, 40, 30, 12, 6.0),
        obround(60, 12, 22, 40, 10, 8),
        obround(60, 30, 0, 30, 8, 30),
        rounded_box(90, 50, 20, 60, 60, 10, 6.0),
        rounded_box(16, 16, 12, 12, 12, 6, 3.0),
    ]
    adds = [cylinder(40, 30, 18, 4, 9), cylinder(30, 60, 30, 8, 5)]
    return shape_of(cuts, adds)


def found(path):
    part = read_model(path, "part", None, 1.0, False)
    return find_features(part, find_holes(part))


def known(features):
    """Kind and sizes of all but tops and the outside."""
    return sorted(
        (f.kind, round(f.length, 1), round(f.width, 1), round(f.depth, 2), round(f.radius, 2), len(f.islands))
        for f in features
        if f.kind not in ("top", "outside")
    )


WANTED = sorted(
    [
        ("pocket", 40.0, 30.0, 12.0, 6.0, 1),
        ("pocket", 12.0, 12.0, 6.0, 3.0, 0),
        ("slot", 40.0, 10.0, 8.0, 5.0, 0),
        ("through pocket", 30.0, 8.0, 30.0, 4.0, 0),
        ("open pocket", 30.0, 30.0, 10.0, 6.0, 0),
        ("boss", 8.0, 8.0, 9.0, 4.0, 0),
        ("boss", 16.0, 16.0, 5.0, 8.0, 0),
    ]
)


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    return tmp_path_factory.mktemp("shapes")


def test_every_feature_is_found_with_its_sizes_and_its_direction(folder):
    features = found(written(folder, everything()))
    assert known(features) == WANTED
    assert all(
        np.allclose(f.axis, [0, 0, 1])
        for f in features
        if f.kind in ("pocket", "slot", "boss", "open pocket")
    )
    outside = [f for f in features if f.kind == "outside"]
    assert len(outside) == 1 and (outside[0].length, outside[0].width) == pytest.approx((120.0, 80.0))
    tops = [f for f in features if f.kind == "top" and f.axis[2] > 0.99]
    assert len(tops) >= 2  # the block's and the boss's
    assert features_from_bytes(features_to_bytes(features)) == features


@pytest.mark.parametrize("degrees", [90.0, 37.0])
def test_the_part_may_lie_in_any_position(folder, degrees):
    from OCP.gp import gp_Ax1, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec

    turn, shift = gp_Trsf(), gp_Trsf()
    turn.SetRotation(gp_Ax1(gp_Pnt(3, -2, 5), gp_Dir(1, 2, 3)), np.radians(degrees))
    shift.SetTranslation(gp_Vec(-40, 17, 250))
    features = found(written(folder, everything(), f"turned{degrees}.step", shift.Multiplied(turn)))
    assert known(features) == WANTED
    u = np.array([1, 2, 3]) / np.sqrt(14)
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    z = np.array([0, 0, 1.0])
    up = c * z + s * np.cross(u, z) + (1 - c) * np.dot(u, z) * u  # Rodrigues
    assert all(np.allclose(f.axis, up, atol=1e-6) for f in features if f.kind in ("pocket", "slot"))


def test_alike_ones_come_in_groups(folder):
    cuts = [obround(10 + 30 * i, 10 + 20 * j, 22, 24, 8, 8) for i in range(3) for j in range(2)]
    features = found(written(folder, shape_of([*cuts, obround(10, 60, 20, 24, 8, 10)]), "slots.step"))
    groups = {g[0].words(): len(g) for g in features_alike([f for f in features if f.kind == "slot"])}
    assert groups == {"slot 24 x 8, 8 deep, corners R4": 6, "slot 24 x 8, 10 deep, corners R4": 1}


def test_chamfers_and_small_roundings_are_broken_edges(folder):
    from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer, BRepFilletAPI_MakeFillet
    from OCP.TopAbs import TopAbs_ShapeEnum

    from fenrik.core.model.brep import sub_shapes

    def edges(shape):
        from OCP.TopoDS import TopoDS

        return [TopoDS.Edge(e) for e in sub_shapes(shape, TopAbs_ShapeEnum.TopAbs_EDGE)]

    block = shape_of([])
    for maker, size, kind, words in (
        (BRepFilletAPI_MakeChamfer, 1.0, "chamfer", "chamfer 1 wide"),
        (BRepFilletAPI_MakeFillet, 2.0, "fillet", "fillet R2"),
    ):
        made = maker(block)
        made.Add(size, edges(block)[0])
        features = found(written(folder, made.Shape(), f"{kind}.step"))
        broken = [f for f in features if f.kind in ("chamfer", "fillet")]
        assert [f.words() for f in broken] == [words]


def test_the_bearing_bracket_has_its_slots_bosses_and_body():
    part = read_model(MODELS / "bearing_bracket.step", "b", None, 1.0, False)
    features = find_features(part, find_holes(part))
    words = [f.words() for f in features if f.kind not in ("top",)]
    assert words.count("boss Ø15, 4 high") == 4
    assert sum(w.startswith("slot 38 x 13") for w in words) == 2
    assert "outside 120 x 80, 10 high" in words


def planner(path, **more):
    data = {
        "fenrik": 1,
        "name": "shapes",
        "part": {"file": path.name},
        "proof": {"cell_mm": 0.5},
        "setups": [{"name": "Top", "operations": [], "zero": {"of": "part", "x": "low", "y": "low"}}],
        **more,
    }
    return open_job(job_from_data(data), path.parent, MemoryStore())


@pytest.mark.parametrize(
    ("kind", "length", "strategies"),
    [
        ("slot", 40.0, ["slot_milling", "profile"]),
        ("pocket", 12.0, ["bounded_clearing", "rest_clearing", *["profile"] * 2, *["level_roughing"] * 2]),
        ("outside", 120.0, ["profile"]),
    ],
)
def test_a_feature_is_planned_proved_and_comes_out_on_size(folder, kind, length, strategies):
    path = written(folder, everything(), "plan.step")
    plan = planner(path)
    feature = next(f for f in plan.workspace.features() if f.kind == kind and abs(f.length - length) < 0.1)
    made = propose_features(plan, plan.job.setups[0], [feature])
    chosen = [o.strategy for o in made.operations]
    assert [s for s in strategies if s != "rest_clearing"] == [s for s in chosen if s != "rest_clearing"]
    plan = planner(
        path,
        tools=[t.model_dump(mode="json") for t in made.tools],
        setups=[
            {
                "name": "Top",
                "operations": [o.model_dump(mode="json") for o in made.operations],
                "zero": {"of": "part", "x": "low", "y": "low"},
            }
        ],
    )
    facts = Prover(plan).prove(plan.job.effective_releases()[0]).facts
    assert not [f for f in facts["findings"] if f["severity"] == "stop"]
    assert facts["deviation"]["max_overcut_mm"] < 0.011
    setup = plan.job.setups[0]
    clamped = plan.setups.clamped(setup)
    left = replace(
        clamped, stock_mesh=plan.setups.earlier.surface(setup, SILENT).moved(clamped.setup_from_part)
    )
    made_faces = made_already(
        plan.workspace.part(), plan.workspace.part().mesh.moved(clamped.setup_from_part), left
    )
    flat = [w for w in feature.walls if plan.workspace.part().face(w).kind == "plane"]
    assert {feature.floor, *flat} - {0} <= made_faces
    others = [
        f for f in plan.workspace.features() if f.kind in ("pocket", "slot", "open pocket") and f != feature
    ]
    assert not {f.floor for f in others} & made_faces  # what was not chosen stays


def test_a_feature_that_looks_away_is_refused(folder):
    plan = planner(written(folder, everything(), "away.step"))
    plan = open_job(
        plan.job.model_copy(
            update={
                "setups": [
                    plan.job.setups[0].model_copy(
                        update={"up": plan.job.setups[0].up.model_copy(update={"axis": "-z"})}
                    )
                ]
            }
        ),
        folder,
        MemoryStore(),
    )
    slot = next(f for f in plan.workspace.features() if f.kind == "slot")
    with pytest.raises(
        FenrikError, match=r"slot 40 x 10, 8 deep, corners R5 .* neither from above nor from a side of 'Top'"
    ):
        propose_features(plan, plan.job.setups[0], [slot])

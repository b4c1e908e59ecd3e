"""Reading models: right facts from good files, clear words for bad ones."""

import json

import numpy as np
import pytest
import trimesh
from OCP.Interface import Interface_Static
from OCP.STEPControl import STEPControl_Controller, STEPControl_StepModelType, STEPControl_Writer

from fenrik.core.errors import FileError
from fenrik.core.model import brep
from fenrik.core.model.measure import Pick, measure
from fenrik.core.model.part_model import PartModel
from fenrik.core.model.reading import read_model, working_mesh
from tests.conftest import MODELS, NASTY

INDEX = {row["file"]: row for row in json.loads((MODELS / "index.json").read_text())}
STEPS = sorted(f for f in INDEX if f.endswith(".step"))


@pytest.mark.parametrize("file", STEPS)
def test_step_facts_agree_with_the_published_index(file):
    """Volume, size and number of faces against the index that came with the models."""
    part = read_model(MODELS / file)
    row = INDEX[file]
    assert part.volume == pytest.approx(row["volume_mm3"], rel=1e-6)
    assert len(part.faces) == row["faces"]
    low = np.min([f.low for f in part.faces], axis=0)
    high = np.max([f.high for f in part.faces], axis=0)
    assert high - low == pytest.approx(row["dims_mm"], abs=0.02)


@pytest.mark.parametrize("file", ["plate_a.step", "tapered_cap.step", "bearing_bracket.step"])
def test_working_mesh_is_closed_and_holds_its_deflection(file):
    part = read_model(MODELS / file)
    mesh = working_mesh(part, 0.005)
    body = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    assert body.is_watertight
    assert mesh.deviation <= 0.005
    assert body.volume == pytest.approx(part.volume, rel=1e-3)


def test_part_survives_being_stored():
    part = read_model(MODELS / "plate_a.step")
    again = PartModel.from_bytes(part.to_bytes())
    assert again.summary() == part.summary()
    assert again.faces == part.faces
    assert (again.mesh.triangles == part.mesh.triangles).all()
    assert working_mesh(again, 0.01).deviation <= 0.01


def test_inch_file_comes_out_in_millimetres(tmp_path):
    """The same numbers declared as inches give 25.4 times the size (25.4 mm is an inch, exactly)."""
    text = (MODELS / "plate_a.step").read_text()
    metre = next(line for line in text.split(";") if "SI_UNIT(.MILLI.,.METRE.)" in line.replace(" ", ""))
    number = metre.split("=")[0].strip()
    inch = (
        f"{number} = ( CONVERSION_BASED_UNIT('INCH',#99001) LENGTH_UNIT() NAMED_UNIT(#99003) );\n"
        "#99001 = LENGTH_MEASURE_WITH_UNIT(LENGTH_MEASURE(25.4),#99002);\n"
        "#99002 = ( LENGTH_UNIT() NAMED_UNIT(*) SI_UNIT(.MILLI.,.METRE.) );\n"
        "#99003 = DIMENSIONAL_EXPONENTS(1.,0.,0.,0.,0.,0.,0.)"
    )
    path = tmp_path / "inch.step"
    path.write_text(text.replace(metre, "\n" + inch))
    small, large = read_model(MODELS / "plate_a.step"), read_model(path)
    assert large.file_unit == "inch"
    assert large.size == pytest.approx(25.4 * small.size, rel=1e-6)


@pytest.mark.parametrize(
    ("file", "words"),
    [
        ("empty.obj", "is empty"),
        ("box.3mf", "a 3MF file"),
        ("box_utf16.obj", "UTF-16"),
        ("malformed.obj", "neither STEP nor STL"),
        ("two_solids.stl", "2 separate bodies"),
    ],
)
def test_nasty_files_are_refused_by_name_with_a_remedy(file, words):
    with pytest.raises(FileError) as caught:
        read_model(NASTY / file)
    assert words in caught.value.what
    assert file in caught.value.what
    assert caught.value.remedy


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (
            b"Drawn in our shop".ljust(72) + b"S      1\n" + b"1H,,1H;".ljust(72) + b"G      1\n",
            "an IGES file",
        ),
        (b"0\nSECTION\n2\nHEADER\n0\nENDSEC\n0\nEOF\n", "a DXF drawing"),
        (b'<?xml version="1.0"?><svg xmlns="http://www.w3.org/2000/svg"/>', "an SVG drawing"),
        (b"# shop\no bracket\nv 0 0 0\n", "an OBJ file"),
        (b"# a note of the shop\n", "a text file"),
        (b"ply\nformat ascii 1.0\n", "a PLY file"),
        (b"%PDF-1.7\n", "a PDF"),
        (b"PK\x03\x04" + bytes(22) + b"drawing.txt", "a ZIP archive"),
        (b"\x00\x01\x02", ""),
    ],
)
def test_a_refused_format_is_named(tmp_path, content, words):
    path = tmp_path / "model.any"
    path.write_bytes(content)
    with pytest.raises(FileError) as caught:
        read_model(path)
    assert (f"looks like {words}." in caught.value.what) if words else ("looks" not in caught.value.what)
    assert "STEP" in caught.value.remedy


@pytest.mark.parametrize("share", [0.02, 0.3, 0.7, 0.98])
def test_truncated_step_is_refused(tmp_path, share):
    content = (MODELS / "plate_a.step").read_bytes()
    path = tmp_path / "cut.step"
    path.write_bytes(content[: int(share * len(content))])
    with pytest.raises(FileError) as caught:
        read_model(path)
    assert "cut.step" in caught.value.what
    assert caught.value.remedy


def test_truncated_binary_stl_is_refused(tmp_path):
    path = tmp_path / "cut.stl"
    content = trimesh.creation.box((10, 10, 10)).export(file_type="stl")
    path.write_bytes(content[:400])
    with pytest.raises(FileError, match="cut off"):
        read_model(path)


def test_wrongly_named_file_is_told_by_its_content(tmp_path):
    path = tmp_path / "really_step.stl"
    path.write_bytes((MODELS / "plate_a.step").read_bytes())
    assert read_model(path).kind == "brep"


def test_open_stl_is_refused(tmp_path):
    body = trimesh.creation.box((10, 10, 10))
    body.update_faces(np.arange(len(body.faces)) != 3)
    body.export(tmp_path / "open.stl")
    with pytest.raises(FileError, match="open"):
        read_model(tmp_path / "open.stl")


def test_open_step_shell_asks_for_healing_and_several_solids_for_a_choice(tmp_path):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    from fenrik.core.model import brep

    def write(shapes, name):
        writer = STEPControl_Writer()
        for shape in shapes:
            writer.Transfer(shape, STEPControl_StepModelType.STEPControl_AsIs)
        writer.Write(str(tmp_path / name))
        return tmp_path / name

    box = BRepPrimAPI_MakeBox(10.0, 20.0, 30.0).Shape()
    loose = write(brep.faces_of(box), "loose.step")
    with pytest.raises(FileError, match="no solid") as caught:
        read_model(loose)
    assert "heal" in caught.value.remedy
    assert read_model(loose, heal=True).volume == pytest.approx(6000.0)
    holed = write(brep.faces_of(box)[:-1], "holed.step")
    with pytest.raises(FileError, match="do not close"):
        read_model(holed, heal=True)
    second = BRepPrimAPI_MakeBox(gp_Pnt(50, 0, 0), gp_Pnt(52, 2, 2)).Shape()
    both = write([box, second], "two.step")
    with pytest.raises(FileError, match="holds 2 solids") as caught:
        read_model(both)
    assert "part.solid" in caught.value.remedy
    assert "1: 10 x 20 x 30 mm at (0, 0, 0); 2: 2 x 2 x 2 mm at (50, 0, 0)" in caught.value.what
    assert [b["low"][0] for b in caught.value.offer["solids"]] == pytest.approx([0.0, 50.0], abs=1e-6)
    assert [b["size"] for b in read_model(both, solid=1, scale=2.0).summary()["bodies"]] == [
        pytest.approx([20, 40, 60]),
        pytest.approx([4, 4, 4]),
    ]
    assert read_model(both, solid=2).volume == pytest.approx(8.0)
    with pytest.raises(FileError, match="Solid 7"):
        read_model(both, solid=7)


def test_implausible_scale_is_a_caution(tmp_path):
    trimesh.creation.box((0.1, 0.1, 0.05)).export(tmp_path / "tiny.stl")
    part = read_model(tmp_path / "tiny.stl")
    assert [p.severity for p in part.problems] == ["caution"]
    assert "part.scale" in part.problems[0].remedy
    assert not read_model(tmp_path / "tiny.stl", scale=1000).problems


def test_stl_box_has_six_planar_faces_and_twelve_edges(tmp_path):
    trimesh.creation.box((10, 20, 30)).export(tmp_path / "box.stl")
    part = read_model(tmp_path / "box.stl")
    assert [f.kind for f in part.faces] == ["plane"] * 6
    assert len(part.edges) == 12
    assert part.volume == pytest.approx(6000)


def test_measuring_parallel_planes_and_bores_is_exact():
    part = read_model(MODELS / "bearing_bracket.step")
    planes = {round(f.low[2], 3): f for f in part.faces if f.kind == "plane" and f.low[2] == f.high[2]}
    rows = measure(part, [Pick((0, 0, 0), planes[0.0].id), Pick((1, 2, 2), planes[16.0].id)])
    values = {r["label"]: r["value"] for r in rows}
    assert values["Distance of the planes"] == pytest.approx(16.0, abs=1e-9)
    assert values["Distance of the points"] == pytest.approx(3.0)
    seat = next(f for f in part.faces if f.kind == "cylinder" and f.radius == pytest.approx(18.5))
    bore = next(f for f in part.faces if f.kind == "cylinder" and f.radius == pytest.approx(4.5))
    values = {
        r["label"]: r["value"] for r in measure(part, [Pick((0, 0, 0), seat.id), Pick((0, 0, 0), bore.id)])
    }
    assert values["Distance of the axes"] == pytest.approx(np.hypot(50.5, 26.0), abs=1e-6)
    assert values["Angle"] == pytest.approx(0.0, abs=1e-6)
    assert seat.hollow and values[f"Face {seat.id}: diameter"] == pytest.approx(37.0)


@pytest.mark.parametrize("unit", ["MM", "INCH"])
@pytest.mark.parametrize(
    ("schema", "named"),
    [
        ("AP203", "CONFIG_CONTROL_DESIGN"),
        ("AP214IS", "AUTOMOTIVE_DESIGN"),
        ("AP242DIS", "AP242_MANAGED_MODEL_BASED_3D_ENGINEERING"),
    ],
)
def test_every_step_protocol_in_both_units_gives_the_same_solid(tmp_path, schema, named, unit):
    """Files written by OCCT under each application protocol of ISO 10303; names of schemas by the
    standard."""
    part = read_model(MODELS / "plate_a.step")
    path = tmp_path / f"{schema}_{unit}.step"
    STEPControl_Controller.Init_s()
    before = {key: Interface_Static.CVal_s(key) for key in ("write.step.schema", "write.step.unit")}
    try:
        Interface_Static.SetCVal_s("write.step.schema", schema)
        Interface_Static.SetCVal_s("write.step.unit", unit)
        writer = STEPControl_Writer()
        writer.Transfer(brep.from_bytes(part.brep), STEPControl_StepModelType.STEPControl_AsIs)
        writer.Write(str(path))
    finally:
        for key, value in before.items():
            Interface_Static.SetCVal_s(key, value)
    assert named in path.read_text()
    again = read_model(path)
    assert again.file_unit == {"MM": "millimetre", "INCH": "inch"}[unit]
    assert again.volume == pytest.approx(part.volume, rel=1e-9)
    assert len(again.faces) == len(part.faces)
    assert not again.problems

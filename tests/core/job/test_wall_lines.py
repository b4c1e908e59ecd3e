"""Lines of walls: free-form walls against their analytic twins, tall fins, walls of many triangles."""

import math

import numpy as np
import pytest
import shapely

from fenrik.core.job.tasks.wall_lines import wall_of
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.reading import read_model


def written(folder, shape, name):
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    writer = STEPControl_Writer()
    writer.Transfer(shape, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(folder / name))
    return read_model(folder / name)


def flange():
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    def post(x, y, z, radius, height):
        return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1)), radius, height).Shape()

    body = BRepAlgoAPI_Fuse(post(0, 0, 0, 40, 10), post(0, 0, 10, 20, 25)).Shape()
    for k in range(6):
        a = k * math.pi / 3
        body = BRepAlgoAPI_Cut(body, post(30 * math.cos(a), 30 * math.sin(a), -1, 3.3, 12)).Shape()
    return BRepAlgoAPI_Cut(body, post(0, 0, -1, 12, 40)).Shape()


def test_a_free_form_flange_has_the_walls_of_its_analytic_twin(tmp_path):
    from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert

    shape = flange()
    twin = written(tmp_path, BRepBuilderAPI_NurbsConvert(shape, True).Shape(), "twin.step")
    own = written(tmp_path, shape, "own.step")
    lines = []
    for model in (own, twin):
        mesh = model.mesh
        walls = [wall_of(mesh, f.id) for f in model.faces if f.kind in ("cylinder", "free-form")]
        lines.append(shapely.union_all([w.line for w in walls]))
    assert lines[0].hausdorff_distance(lines[1]) < 0.2  # chords of two meshes
    assert lines[0].length == pytest.approx(lines[1].length, rel=2e-3)
    pieces = [len(shapely.get_coordinates(line)) for line in lines]
    assert pieces[1] < 3 * pieces[0]


def wavering(columns, rows, waver):
    """An upright wall over half a circle of radius 30, its inner points off it by up to `waver` mm, as a
    free-form surface wavers."""
    a, z = np.meshgrid(np.linspace(0, math.pi, columns), np.linspace(0, 50, rows))
    r = 30.0 + waver * np.sin(z / 2.0) * np.cos(7.0 * a)
    points = np.column_stack([(r * np.cos(a)).ravel(), (r * np.sin(a)).ravel(), z.ravel()])
    index = np.arange(columns * rows).reshape(rows, columns)
    p, q, s, t = (index[k].ravel() for k in (np.s_[:-1, :-1], np.s_[:-1, 1:], np.s_[1:, 1:], np.s_[1:, :-1]))
    triangles = np.vstack([np.column_stack([p, q, s]), np.column_stack([p, s, t])]).astype(np.int32)
    return TriangleMesh(points, triangles, np.ones(len(triangles), dtype=np.int32), 0.01)


@pytest.mark.parametrize(("columns", "rows"), [(200, 40), (400, 100)])
def test_a_wall_that_wavers_is_a_line_of_few_pieces(columns, rows):
    """The borders of 16 000 and 79 000 triangles, not their every edge; each point within the waver of the
    circle."""
    wall = wall_of(wavering(columns, rows, 1e-3), 1)
    points = shapely.get_coordinates(wall.line)
    assert len(points) < 12 * columns
    assert np.abs(np.hypot(*points.T) - 30.0).max() < 2e-3 + 30 * (1 - math.cos(math.pi / columns))
    assert wall.line.bounds == pytest.approx((-30.0, 0.0, 30.0, 30.0), abs=5e-3)
    assert (wall.low, wall.high) == pytest.approx((0.0, 50.0), abs=1e-9)

"""Where clearing goes down: a helix into full ground, the hole where one has been drilled before."""

import numpy as np
import pytest
import trimesh

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.heightmap import pieces_of
from tests.conftest import make_tool

TOOL = make_tool("flat", 8)


def pocketed(bore: float | None, folder) -> Paths:
    """A block with a closed pocket of 60 x 40 x 12; its stock is the block, with a bore of some diameter or
    none."""
    block = trimesh.creation.box(bounds=[[-40, -30, -20], [40, 30, 0]])
    pocket = trimesh.creation.box(bounds=[[-30, -20, -12], [30, 20, 5]])
    trimesh.boolean.difference([block, pocket], engine="manifold").export(folder / "part.stl")
    if bore:
        hole = trimesh.creation.cylinder(bore / 2, 24.0, sections=128).apply_translation([5.0, 3.0, 0.0])
        block = trimesh.boolean.difference([block, hole], engine="manifold")
    block.export(folder / "blank.stl")
    operation = {
        "name": "op",
        "strategy": "bounded_clearing",
        "tool": 1,
        "parameters": {
            "step_down": 12.0,
            "step_up": 12.0,
            "stepover": 3.0,
            "allowance_radial": 0.0,
            "allowance_axial": 0.0,
        },
    }
    document = {
        "fenrik": 1,
        "name": "entries",
        "part": {"file": "part.stl"},
        "tools": [TOOL.model_dump()],
        "setups": [
            {"name": "Top", "stock": {"kind": "solid", "file": "blank.stl"}, "operations": [operation]}
        ],
    }
    return open_job(job_from_data(document), folder, MemoryStore())


@pytest.mark.parametrize("bore", [None, 6.0, 12.0])
def test_a_predrilled_hole_that_is_wide_enough_takes_the_place_of_the_helix(bore, tmp_path):
    plan = pocketed(bore, tmp_path)
    setup = plan.job.setups[0]
    path = plan.path(setup, setup.operations[0])
    entries = path.kind == Motion.ENTRY
    if bore == 12.0:
        assert not entries.any()
        first = int(np.flatnonzero(path.tip[:, 2] < -11.9)[0])
        down = path.tip[first]
        middle = plan.setups.clamped(setup).setup_from_part @ np.array([5.0, 3.0, 0.0, 1.0])
        assert np.hypot(*(down[:2] - middle[:2])) <= 2.0 + 0.3  # the cutter stands within the hole
    else:
        assert entries.any()
    clamped = plan.setups.clamped(setup)
    stock = Stock.of_mesh(clamped.stock_mesh, 0.5)
    pieces, owner = pieces_of(path, 0.002)
    removal = stock.cut(pieces, tool_bodies(TOOL), path.kind[owner + 1] == Motion.RAPID)
    # straight down the cutter meets next to nothing
    step = pieces[:, 3:] - pieces[:, :3]
    plunging = (np.hypot(step[:, 0], step[:, 1]) < 1e-9) & (step[:, 2] < 0)
    assert removal.volume[plunging, 0].max(initial=0.0) < 1.0
    assert removal.volume[:, 0].sum() == pytest.approx(
        60 * 40 * 12 * (1.0 if not bore else 1 - np.pi * bore**2 / 4 / 2400), rel=0.04
    )

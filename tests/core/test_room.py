"""Clearing for which a tool is too wide says so and offers the widest that works; what needs nothing is no
failure."""

import pytest

from fenrik.core.errors import ComputeError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import make_tool
from tests.core.test_holes import drilled
from tests.core.test_profile import rounded_box

NONE = {side: 0.0 for side in ("x_low", "x_high", "y_low", "y_high", "z_low", "z_high")}
CLEARING = ["level_roughing", "bounded_clearing"]


@pytest.fixture(scope="module")
def slotted(tmp_path_factory):
    """A block with a closed slot 8 mm wide, 30 long, 8 deep."""
    return drilled(tmp_path_factory.mktemp("slot"), [rounded_box(14, 16, 12, 30, 8, 8, 3.9)])


def cleared(file, strategy, diameter, **parameters):
    tool = make_tool("flat", diameter, flute_length=26.0, stick_out=60.0)
    area = {"polygon": [[-17, -5], [15, -5], [15, 5], [-17, 5]]}
    doc = {"name": "Clear", "strategy": strategy, "tool": 1, "parameters": parameters, "keep_in": [area]}
    data = {
        "fenrik": 1,
        "name": "slot",
        "part": {"file": file.name},
        "tools": [tool.model_dump(mode="json")],
        "setups": [{"name": "Top", "stock": {"kind": "box", "allowance": NONE}, "operations": [doc]}],
    }
    planner = open_job(job_from_data(data), file.parent, MemoryStore())
    setup = planner.job.setups[0]
    return planner.path(setup, setup.operations[0])


@pytest.mark.parametrize("strategy", CLEARING)
def test_a_slot_too_narrow_for_the_mill_offers_one_that_clears_it(slotted, strategy):
    with pytest.raises(ComputeError, match="Tool 1 of 12 mm has no room in the ground about X") as caught:
        cleared(slotted, strategy, 12.0)
    wide = caught.value.offer["tool_at_most"]
    # 8 mm less the allowance of 0.3 mm on both walls, less what an entry needs
    assert 5.8 <= wide <= 7.4 and f"{wide:g} mm or less" in caught.value.remedy
    assert len(cleared(slotted, strategy, wide)) > 10


@pytest.mark.parametrize("strategy", CLEARING)
def test_a_block_without_anything_to_clear_is_no_failure(tmp_path, strategy):
    path = cleared(drilled(tmp_path, []), strategy, 12.0)
    assert len(path) < 2 and path.notes[-1].kind == "empty"

"""A failed operation says what is wrong, leaves the others alone, and is not tried again before something
changes."""

import numpy as np
import pytest

from fenrik.core.errors import ComputeError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled

TOOLS = [
    make_tool("flat", 8.0, number=1, flute_length=26.0, stick_out=50.0),
    make_tool("flat", 10.0, number=2, flute_length=26.0, stick_out=50.0),
]
WHERE = "setups[0].operations[1]"


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    """A block with a bore of 9 and one of 16 mm."""
    return drilled(
        tmp_path_factory.mktemp("block"), [cylinder(15, 20, 8, 4.5, 12), cylinder(40, 20, 8, 8, 12)]
    )


def document(block, **second):
    """Faces the block, mills the small bore with a tool that is too wide for it, then the large one."""
    holes = sorted(job(block, []).workspace.holes(), key=lambda h: h.diameter)
    small, large = ([{"face": h.faces[0]}] for h in holes)
    operations = [
        {"name": "Face", "strategy": "facing", "tool": 1},
        {"name": "Small bore", "strategy": "bore_milling", "tool": 2, "holes": small} | second,
        {"name": "Large bore", "strategy": "bore_milling", "tool": 1, "holes": large},
    ]
    return job(block, operations)


def job(block, operations, store=None):
    data = {
        "fenrik": 1,
        "name": "failing",
        "part": {"file": block.name},
        "tools": [t.model_dump(mode="json") for t in TOOLS],
        "setups": [{"name": "Top", "operations": operations}],
    }
    return open_job(job_from_data(data), block.parent, store or MemoryStore())


def test_the_others_are_computed_as_if_it_were_not_there(block):
    plan, without = document(block), document(block, enabled=False)
    setup = plan.job.setups[0]
    with pytest.raises(ComputeError, match="Tool 2 of 10 mm has no room") as met:
        plan.path(setup, setup.operations[1])
    assert met.value.where == WHERE
    path = plan.path(setup, setup.operations[2])
    other = without.job.setups[0]
    assert np.array_equal(path.tip, without.path(other, other.operations[2]).tip)
    assert len(path) > 10


def test_a_program_is_not_written_without_it(block):
    plan = document(block)
    with pytest.raises(ComputeError, match="Tool 2 of 10 mm has no room"):
        Prover(plan).post(plan.job.effective_releases()[0])


def test_why_it_failed_is_kept_until_something_changes(block):
    plan = document(block)
    tried = []
    for again in range(3):
        own = plan._computed
        plan._computed = lambda t, i, p, own=own: (tried.append(t.operation.name), own(t, i, p))[1]
        setup = plan.job.setups[0]
        if again == 0:
            assert plan.failure(setup, setup.operations[1]) is None  # not known before it was tried
        with pytest.raises(ComputeError) as met:
            plan.path(setup, setup.operations[1])
        offer = met.value.offer
        assert offer and 0 < offer["tool_at_most"] < 9.0
        failed = plan.failure(setup, setup.operations[1])
        assert failed is not None and failed.as_dict() == met.value.as_dict() and failed.where == WHERE
        plan = job(block, [o.model_dump(mode="json") for o in setup.operations], plan.store)
    assert tried == ["Face", "Small bore"]
    # it stands where the operation stands now: one that is switched off in front of it changes no path
    first = plan.job.setups[0].operations[0].model_dump(mode="json") | {"name": "Off", "enabled": False}
    moved = job(
        block, [first, *(o.model_dump(mode="json") for o in plan.job.setups[0].operations)], plan.store
    )
    setup = moved.job.setups[0]
    assert moved.failure(setup, setup.operations[2]).where == "setups[0].operations[2]"
    # with the tool that fits it is another operation
    right = document(block, tool=1)
    mended = job(block, [o.model_dump(mode="json") for o in right.job.setups[0].operations], plan.store)
    setup = mended.job.setups[0]
    assert mended.failure(setup, setup.operations[1]) is None
    assert len(mended.path(setup, setup.operations[1])) > 10

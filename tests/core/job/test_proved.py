"""What is mended of a whole plan before it is offered, and what is told instead."""

import pytest

from fenrik.core.job.document.job import OperationDoc
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.proposing.proved import mended, propose_proved
from fenrik.core.job.proposing.recipes import Proposal
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import MODELS, make_tool


def plan(**tool):
    made = make_tool("flat", 10, number=4, **tool)
    operation = OperationDoc(name="Clear", strategy="bounded_clearing", tool=4)
    return Proposal("whole", tools=[made], operations=[operation])


def stop(kind, measure, limit=None, operation="Clear"):
    return {"kind": kind, "operation": operation, "measure": measure, "limit": limit, "feed": 1000.0}


def test_a_tool_that_bends_too_far_gets_a_lower_feed_once():
    """Bending goes with the feed to the power of 0.75 (Kienzle, mc about 0.25): half as much again over the
    limit, and a fifth under it, ask for (0.8 / 1.5) ** (4 / 3) of the feed."""
    proposal = plan()
    assert mended(proposal, stop("bending", 0.45, 0.3))
    assert proposal.operations[0].feed_mm_min == pytest.approx(1000.0 * (0.8 / 1.5) ** (4 / 3), abs=1.0)
    assert not mended(proposal, stop("bending", 0.45, 0.3))


@pytest.mark.parametrize("kind", ["shank", "rapid"])
def test_a_neck_that_touches_is_made_slimmer_but_not_without_end(kind):
    proposal = plan(shank_diameter=9.5)
    assert mended(proposal, stop(kind, 0.1))
    assert 8.5 <= proposal.tools[0].shank_diameter < 9.5
    assert not all(mended(proposal, stop(kind, 0.1)) for _ in range(5))
    assert proposal.tools[0].shank_diameter >= 8.5


def test_a_holder_that_touches_gets_the_stick_out_that_lacked():
    proposal = plan(stick_out=50.0)
    assert mended(proposal, stop("holder", 3.0))
    assert proposal.tools[0].stick_out == pytest.approx(55.0)


@pytest.mark.parametrize(
    ("kind", "field", "measure"), [("feed", "feed_mm_min", 1200.0), ("spindle", "spindle_rpm", 30000.0)]
)
def test_a_feed_or_speed_beyond_the_machine_is_set_to_what_it_has(kind, field, measure):
    proposal = plan()
    assert mended(proposal, stop(kind, measure, 900.0))
    assert getattr(proposal.operations[0], field) == 900.0


def test_holes_that_a_short_tool_leaves_get_the_stick_out_that_would_do():
    proposal = plan(stick_out=50.0)
    assert mended(proposal, stop("missing", 50.0, 56.5))
    assert proposal.tools[0].stick_out == 58.5
    assert not mended(proposal, stop("missing", 58.5, 56.5))


def test_a_feed_that_is_not_the_operations_own_is_not_touched():
    """Too fast are its links then, whose feed is another field."""
    assert not mended(plan(), stop("feed", 5000.0, 4000.0))


def test_what_cannot_be_mended_changes_nothing():
    proposal = plan()
    before = (list(proposal.tools), list(proposal.operations))
    assert not mended(proposal, stop("overcut", 0.2)) and not mended(
        proposal, stop("shank", 1.0, operation="X")
    )
    assert (proposal.tools, proposal.operations) == before


def test_an_operation_with_nothing_to_do_goes_with_a_word():
    setup = {"name": "Top", "machine": "column_mill_800"}
    document = {
        "fenrik": 1,
        "name": "plate",
        "part": {"file": "plate_a.step"},
        "setups": [setup],
        "proof": {"cell_mm": 1.5},
    }
    job = job_from_data(document)
    proposal = propose_proved(job, job.setups[0], MODELS, MemoryStore())
    assert any(w.startswith("'Finish floors' is not needed") for w in proposal.words)
    assert "Finish floors" not in [o.name for o in proposal.operations]
    assert len(proposal.words) == len(set(proposal.words))

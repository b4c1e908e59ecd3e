"""Whole plans of shapes with the traits that foreign parts stumbled over: each is offered without a stop, and
its trait is dealt with."""

from collections import Counter

import pytest

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proposing.proved import propose_proved
from fenrik.core.job.proposing.recipes import with_proposal
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.shapes import SHAPES, write

REACHED = {"fins": 0.99, "free_form_flange": 0.99, "clearance_plate": 0.99, "hinge": 0.95, "relief": 0.9}
"""Share on size of what the tools reach; the lug stands deeper than its mill is long."""


@pytest.fixture(scope="module", params=list(SHAPES))
def planned(request, tmp_path_factory):
    """A shape's name, the planner of its proposed plan, the proposal, and the proof of it."""
    folder, name = tmp_path_factory.mktemp("shapes"), request.param
    file = write(name, folder)
    document = {
        "fenrik": 2,
        "name": name,
        "part": {"file": file.name},
        "setups": [{"name": "Top", "machine": "column_mill_800"}],
        "proof": {"cell_mm": 1.0},
    }
    job, store = job_from_data(document), MemoryStore()
    proposal = propose_proved(job, job.setups[0], folder, store)
    planner = open_job(with_proposal(job, job.setups[0], proposal), folder, store)
    return name, planner, proposal, Prover(planner).prove(planner.job.effective_releases()[0])


def test_the_plan_of_a_shape_with_a_trait_holds(planned):
    name, planner, proposal, proof = planned
    assert not [words for words in proposal.words if words.startswith("Stop:")]
    assert proof.stops() == []
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.011
    assert proof.facts["deviation"]["share_of_reachable"] >= REACHED.get(name, 0.0)
    {
        "fins": _fins, "lug_on_end": _lug, "clearance_plate": _plate, "free_form_flange": _flange,
        "relief": _relief, "hinge": _hinge,
    }[name](planner, proposal, proof)  # fmt: skip


def _strategies(planner):
    return Counter(o.strategy for o in planner.job.setups[0].operations if o.enabled)


def _fins(planner, proposal, proof):
    """The gaps of 6 mm are cut to their ground by a mill that fits and does not whip."""
    assert proof.facts["deviation"]["share_of_smallest"] >= 0.99
    assert not [f for f in proof.facts["findings"] if f["kind"] == "bending" and f["severity"] == "stop"]


def _lug(planner, proposal, proof):
    """It stands 55 mm tall: what the mill is too short for is said where it is proposed."""
    assert any("short of the depth" in words for words in proposal.words)
    assert any("Ø14" in words and "not seen" in words for words in proposal.words)


def _plate(planner, proposal, proof):
    """Ten holes on clearance sizes are plain holes: none is tapped, none is reamed, all are drilled."""
    assert not {"tapping", "thread_milling"} & set(_strategies(planner))
    drilled = [o for o in planner.job.setups[0].operations if o.name.startswith("Drill")]
    assert sum(len(o.holes) for o in drilled) == 10
    assert not [f for f in proof.facts["findings"] if f["kind"] == "unconfirmed"]


def _flange(planner, proposal, proof):
    """B-splines that are planes and cylinders are taken as such."""
    assert Counter(f.kind for f in planner.workspace.part().faces) == {"cylinder": 9, "plane": 3}
    assert len(planner.workspace.holes()) == 7


def _relief(planner, proposal, proof):
    """The letters want a smaller ball than the field: smaller ones follow, and what is left is told of
    both."""
    balls = {
        planner.job.tool(o.tool).diameter for o in planner.job.setups[0].operations if "curved" in o.name
    }
    assert len(balls) > 1 and min(balls) <= 4.0
    assert any("in reach of the balls taken" in words for words in proposal.words)
    narrow = next(f for f in proof.facts["findings"] if f["kind"] == "left_narrow")
    assert "The smallest cutters of the shelf" in narrow["words"]


def _hinge(planner, proposal, proof):
    """Facets are knuckles, a pin's bore and screw holes."""
    kinds = Counter(f.kind for f in planner.workspace.part().faces)
    assert kinds["cylinder"] >= 6 and kinds["free-form"] == 0
    words = [hole.words() for hole in planner.workspace.holes()]
    assert Counter(words) == {"Ø6, through": 1, "Ø5.5, through": 3}

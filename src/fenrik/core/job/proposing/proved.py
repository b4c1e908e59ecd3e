"""A whole plan that is computed and proved before it is offered: operations that have nothing to do go, what
its proof stops is mended where a tool or a feed can do it, and the rest is said."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from fenrik.core.errors import Cancelled, FenrikError
from fenrik.core.job.document.job import Job, SetupDoc
from fenrik.core.job.opening import open_job
from fenrik.core.job.proposing.recipes import Proposal, with_proposal
from fenrik.core.job.proposing.whole_part import propose_part
from fenrik.core.job.proving.mending import mend_of
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import Store, key_of
from fenrik.core.job.workspace.files import JobFiles
from fenrik.core.progress import SILENT, Progress

ROUNDS = 3
"""Times that a plan is proved, mended in between."""
Stop = dict[str, Any]
"""A stop of a proof as plain data, with the `feed` mm/min of its operation."""


def proposal_key(job: Job, setup: SetupDoc) -> str:
    """Key under which a proved proposal is kept: all of the document counts."""
    return key_of("whole", [job.model_dump(mode="json"), setup.name])


def propose_proved(
    job: Job, setup: SetupDoc, files: Path | JobFiles, store: Store, progress: Progress = SILENT
) -> Proposal:
    """A whole plan for what is seen from a setup, computed and proved. Raises ComputeError where the part is
    not readable, Cancelled."""
    progress.step(0.0, "choosing operations and tools")
    proposal = propose_part(open_job(job, files, store), setup)
    for number in range(ROUNDS):
        if not proposal.operations:
            return proposal
        stage = progress.stage(0.05 + 0.95 * number / ROUNDS, 0.05 + 0.95 * (number + 1) / ROUNDS)
        _without_idle(job, setup, files, store, proposal, stage.stage(0.0, 0.6))
        stops = _stops(job, setup, files, store, proposal, stage.stage(0.6, 1.0))
        changed = [mended(proposal, stop) for stop in stops]
        if not any(changed):
            proposal.words += [f"Stop: {stop['words']} {stop['remedy']}".strip() for stop in stops]
            break
    return replace(proposal, words=list(dict.fromkeys(proposal.words)))


def _without_idle(
    job: Job, setup: SetupDoc, files: Path | JobFiles, store: Store, proposal: Proposal, progress: Progress
) -> None:
    """Computes the proposed operations; those that fail or cut nothing go, with a word."""
    wanted = [o for o in proposal.operations if o.enabled]
    paths = open_job(with_proposal(job, setup, proposal), files, store)
    for i, operation in enumerate(wanted):
        stage = progress.stage(i / len(wanted), (i + 1) / len(wanted))
        stage.step(0.0, f"'{operation.name}'")
        own = paths.job.setup(setup.name)
        mine = next(o for o in own.operations if o.name == operation.name)
        try:
            path, why = paths.path(own, mine, stage), "there is nothing for it to cut"
        except Cancelled:
            raise
        except FenrikError as error:
            path, why = None, error.what
        if path is None or len(path) < 2:
            proposal.operations.remove(operation)
            proposal.words.append(f"'{operation.name}' is not needed: {why}")
            # those that follow stand on what cuts before them
            paths = open_job(with_proposal(job, setup, proposal), files, store)


def _stops(
    job: Job, setup: SetupDoc, files: Path | JobFiles, store: Store, proposal: Proposal, progress: Progress
) -> list[Stop]:
    """What stops the proof of the setup's program, of the proposed operations."""
    trial = with_proposal(job, setup, proposal).model_copy(update={"releases": []})
    release = next((r for r in trial.effective_releases() if r.setup == setup.name), None)
    if release is None:
        return []
    proof = Prover(open_job(trial, files, store)).prove(release, progress)
    feeds = {o["name"]: o["feed_mm_min"] for o in proof.facts["operations"]}
    own = {o.name for o in proposal.operations}
    stops = [s for s in proof.stops() if s["operation"] in own]
    return [{**s, "feed": feeds.get(s["operation"])} for s in stops]


def mended(proposal: Proposal, stop: Stop) -> bool:
    """Changes the proposal so that a stop should go; whether it could. A feed is lowered once, and only tools
    of the proposal itself are changed."""
    place = next((i for i, o in enumerate(proposal.operations) if o.name == stop["operation"]), None)
    if place is None:
        return False
    operation = proposal.operations[place]
    own = next((i for i, t in enumerate(proposal.tools) if t.number == operation.tool), None)
    mend = mend_of(stop, None if own is None else proposal.tools[own], stop["feed"]) or {}
    if "operation" in mend and operation.feed_mm_min is None:
        proposal.operations[place] = operation.model_copy(update=mend["operation"])
        return True
    if "tool" in mend and own is not None:
        proposal.tools[own] = proposal.tools[own].model_copy(update=mend["tool"])
        return True
    return False

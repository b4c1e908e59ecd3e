"""Routes of jobs: documents, revisions, runs."""

from __future__ import annotations

import json
from typing import Annotated, Any

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel, Field

from fenrik.app.jobs import opened
from fenrik.app.shapes import Fault, JobState
from fenrik.core.job.document.job import VERSION
from fenrik.core.job.document.reading import dump_job
from fenrik.web.deps import JSON, Number, Service, Text, Who, download

router = APIRouter(tags=["jobs"])


class JobListed(BaseModel):
    """A job in the list: the names of its machines, the target of what is computed for it now (empty where
    nothing is); `problem` says why it cannot be opened."""

    id: int
    name: str
    updated: str
    problem: str
    revision: int
    machines: list[str]
    working: str


class JobAnswer(BaseModel):
    """A job's document and its place among the revisions."""

    id: int
    revision: int
    can_undo: bool
    can_redo: bool
    document: dict[str, Any]


class NewJob(BaseModel):
    """Name of a new job."""

    name: Annotated[Text, Field(max_length=200)]


class Save(BaseModel):
    """A changed document and the revision it was made on."""

    revision: Annotated[int, Field(ge=1, le=2**31 - 1)]
    document: dict[str, Any]


class Step(BaseModel):
    """Undo or redo, `anyway`: also when the change is somebody else's."""

    anyway: bool = False


class RunAnswer(BaseModel):
    """A piece of background work."""

    id: int
    target: str
    revision: int
    state: str
    fraction: float
    words: str
    error: Fault | None


class Start(BaseModel):
    """What to compute: part, plan, prove, or a whole plan for a setup by its place ("whole:0")."""

    target: Annotated[Text, Field(max_length=20)]


class UsageAnswer(BaseModel):
    """How much the results of all computations take, and the most that they may take, in bytes."""

    results: int
    limit: int


@router.get("/usage")
def usage(jobs: Service) -> UsageAnswer:
    """What is kept on the disk."""
    kept = jobs.store.usage()
    return UsageAnswer(results=kept.bytes, limit=kept.limit)


@router.get("/jobs")
def list_jobs(jobs: Service) -> list[JobListed]:
    """All jobs, newest change first."""
    return [JobListed(**row) for row in jobs.listing()]


@router.post("/jobs")
def create_job(jobs: Service, body: NewJob, who: Who) -> JobAnswer:
    """A new, empty job."""
    return JobAnswer(**jobs.create({"fenrik": VERSION, "name": body.name}, who))


@router.get("/jobs/{job_id}")
def get_job(jobs: Service, job_id: Number) -> JobAnswer:
    """One job."""
    return JobAnswer(**jobs.get(job_id))


@router.delete("/jobs/{job_id}")
def delete_job(jobs: Service, job_id: Number) -> None:
    """Deletes a job."""
    jobs.remove(job_id)


@router.put("/jobs/{job_id}/document")
def save_document(jobs: Service, job_id: Number, body: Save, who: Who) -> JobAnswer:
    """Saves a changed document as a new revision, which is the one that is answered."""
    return JobAnswer(**jobs.save(job_id, body.revision, body.document, who))


@router.post("/jobs/{job_id}/undo")
def undo(jobs: Service, job_id: Number, who: Who, body: Step | None = None) -> JobAnswer:
    """Back to the revision before. Refused when the change that it takes back is somebody else's."""
    return JobAnswer(**jobs.step(job_id, -1, who, anyway=body is not None and body.anyway))


@router.post("/jobs/{job_id}/redo")
def redo(jobs: Service, job_id: Number, who: Who, body: Step | None = None) -> JobAnswer:
    """Forward to the revision after."""
    return JobAnswer(**jobs.step(job_id, 1, who, anyway=body is not None and body.anyway))


@router.get("/jobs/{job_id}/document.yaml", response_class=Response)
def export_document(jobs: Service, job_id: Number) -> Response:
    """The document as the command line takes it."""
    text = dump_job(opened(jobs.stored(job_id)))
    return download(text, "application/yaml", f"job_{job_id}.yaml")


@router.get("/jobs/{job_id}/document.json", response_class=Response)
def stored_document(jobs: Service, job_id: Number) -> Response:
    """The document as it is stored, also of a job that cannot be opened."""
    text = json.dumps(jobs.stored(job_id), indent=2, ensure_ascii=False) + "\n"
    return download(text, JSON, f"job_{job_id}.json")


@router.get("/jobs/{job_id}/state", response_model=JobState)
def get_state(jobs: Service, job_id: Number, request: Request) -> Response:
    """What is computed, stale, missing or failing, with what follows from the decisions."""
    state = jobs.answers.state(jobs.asked(job_id))
    tag = f'"{state.fingerprint}"'
    headers = {"ETag": tag, "Cache-Control": "private, no-cache"}
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304, headers=headers)
    return Response(state.text, media_type=JSON, headers=headers)


@router.get("/jobs/{job_id}/runs")
def list_runs(jobs: Service, job_id: Number) -> list[RunAnswer]:
    """The newest run of every target."""
    return [RunAnswer(**r) for r in jobs.runs.newest(job_id)]


@router.post("/jobs/{job_id}/runs")
def start_run(jobs: Service, job_id: Number, body: Start) -> RunAnswer:
    """Starts background work."""
    return RunAnswer(**jobs.runs.start(job_id, body.target))


@router.post("/runs/{run_id}/cancel")
def cancel_run(jobs: Service, run_id: Number) -> RunAnswer:
    """Asks a run to stop."""
    return RunAnswer(**jobs.runs.cancel(run_id))

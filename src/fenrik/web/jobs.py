"""Routes of jobs: documents, files, runs."""

from __future__ import annotations

import io
import zipfile
from typing import Any

from fastapi import APIRouter, Response, UploadFile
from pydantic import BaseModel

from fenrik.app.states import job_state
from fenrik.core.errors import DocumentError, InputError
from fenrik.core.job.document import Job
from fenrik.core.job.reading import dump_job, job_data, parse_job
from fenrik.core.model.reading import kind_of
from fenrik.web.deps import Service

router = APIRouter(tags=["jobs"])


class JobListed(BaseModel):
    """A job in the list."""

    id: int
    name: str
    updated: str


class JobAnswer(BaseModel):
    """A job's document and its place among the revisions."""

    id: int
    revision: int
    can_undo: bool
    can_redo: bool
    document: dict[str, Any]


class NewJob(BaseModel):
    """Name of a new job."""

    name: str


class Save(BaseModel):
    """A changed document and the revision it was made on."""

    revision: int
    document: dict[str, Any]


class RunAnswer(BaseModel):
    """A piece of background work."""

    id: int
    target: str
    revision: int
    state: str
    fraction: float
    words: str
    error: dict[str, Any] | None


class Start(BaseModel):
    """What to compute: part, plan or prove."""

    target: str


@router.get("/jobs")
def list_jobs(jobs: Service) -> list[JobListed]:
    """All jobs, newest change first."""
    return [JobListed(**row) for row in jobs.listing()]


@router.post("/jobs")
def create_job(jobs: Service, body: NewJob) -> JobAnswer:
    """A new, empty job."""
    return JobAnswer(**jobs.get(jobs.create({"fenrik": 1, "name": body.name})))


@router.post("/jobs/import")
async def import_job(jobs: Service, files: list[UploadFile]) -> JobAnswer:
    """A job from its document with the models it names, or from the archive that export gives."""
    contents = {(f.filename or "file"): await f.read() for f in files}
    for name, content in list(contents.items()):
        if content[:4] == b"PK\x03\x04":
            contents |= _unzipped(name, content)
            del contents[name]
    documents = [n for n in contents if n.lower().endswith((".yaml", ".yml", ".json"))]
    if len(documents) != 1:
        raise InputError(
            f"{len(documents)} job documents were given ({', '.join(contents) or 'no file'}).",
            remedy="Choose one YAML or JSON document together with its models.",
        )
    try:
        text = contents[documents[0]].decode("utf-8")
    except UnicodeDecodeError as error:
        raise DocumentError(f"'{documents[0]}' is not UTF-8 text.", remedy="Save it as UTF-8.") from error
    job = parse_job(text, documents[0])
    wanted = _model_files(job)
    found = {n: _content_of(n, contents) for n in wanted}
    missing = [n for n, c in found.items() if c is None]
    if missing:
        raise InputError(
            f"The document names {', '.join(missing)}, which was not given.",
            remedy="Choose the models together with it.",
        )
    job_id = jobs.create(job_data(job))
    for wanted_name, model in found.items():
        jobs.add_file(job_id, wanted_name, model or b"")
    if job.part is not None:
        jobs.start(job_id, "part")
    return JobAnswer(**jobs.get(job_id))


def _unzipped(name: str, content: bytes) -> dict[str, bytes]:
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            total = sum(i.file_size for i in archive.infolist())
            if total > 400e6:
                raise InputError(
                    f"The archive '{name}' unpacks to {total / 1e6:.0f} MB.", remedy="Give the files singly."
                )
            return {i.filename: archive.read(i) for i in archive.infolist() if not i.is_dir()}
    except zipfile.BadZipFile as error:
        raise InputError(f"The archive '{name}' is damaged.", remedy="Export it again.") from error


def _model_files(job: Job) -> list[str]:
    """The files that a job needs: its part, and the solids of stocks and fixtures."""
    names = [job.part.file] if job.part else []
    names += [s.stock.file for s in job.setups if s.stock.kind == "solid"]
    return names + [f.file for s in job.setups for f in s.fixture if f.kind == "solid"]


def _content_of(name: str, contents: dict[str, bytes]) -> bytes | None:
    short = name.replace("\\", "/").rsplit("/", 1)[-1]
    return contents.get(name) or next((c for n, c in contents.items() if n.rsplit("/", 1)[-1] == short), None)


@router.get("/jobs/{job_id}")
def get_job(jobs: Service, job_id: int) -> JobAnswer:
    """One job."""
    return JobAnswer(**jobs.get(job_id))


@router.delete("/jobs/{job_id}")
def delete_job(jobs: Service, job_id: int) -> None:
    """Deletes a job."""
    jobs.remove(job_id)


@router.put("/jobs/{job_id}/document")
def save_document(jobs: Service, job_id: int, body: Save) -> JobAnswer:
    """Saves a changed document as a new revision."""
    return JobAnswer(**jobs.save(job_id, body.revision, body.document))


@router.post("/jobs/{job_id}/undo")
def undo(jobs: Service, job_id: int) -> JobAnswer:
    """Back to the revision before."""
    return JobAnswer(**jobs.step(job_id, -1))


@router.post("/jobs/{job_id}/redo")
def redo(jobs: Service, job_id: int) -> JobAnswer:
    """Forward to the revision after."""
    return JobAnswer(**jobs.step(job_id, 1))


@router.get("/jobs/{job_id}/document.yaml")
def export_document(jobs: Service, job_id: int) -> Response:
    """The document as the command line takes it."""
    return _download(dump_job(jobs.job(job_id)).encode(), "application/yaml", f"job_{job_id}.yaml")


@router.get("/jobs/{job_id}/export.zip")
def export_archive(jobs: Service, job_id: int) -> Response:
    """The document and the models it names in one archive."""
    job = jobs.job(job_id)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("job.yaml", dump_job(job))
        for name in dict.fromkeys(_model_files(job)):
            archive.writestr(name, jobs.file(job_id, name))
    return _download(out.getvalue(), "application/zip", f"job_{job_id}.zip")


def _download(content: bytes, kind: str, name: str) -> Response:
    return Response(
        content, media_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


@router.post("/jobs/{job_id}/part")
async def upload_part(jobs: Service, job_id: int, file: UploadFile) -> JobAnswer:
    """Takes a model file as the job's part and starts reading it; what it is, its content tells."""
    content = await file.read()
    name = file.filename or "model"
    kind_of(content[:2048], len(content), name)
    stored = jobs.add_file(job_id, name, content)
    present = jobs.get(job_id)
    document = {**present["document"], "part": {"file": stored}}
    answer = jobs.save(job_id, present["revision"], document)
    jobs.start(job_id, "part")
    return JobAnswer(**answer)


@router.post("/jobs/{job_id}/files")
async def upload_file(jobs: Service, job_id: int, file: UploadFile) -> str:
    """Keeps a further model file (a stock's solid) and returns its name."""
    content = await file.read()
    name = file.filename or "model"
    kind_of(content[:2048], len(content), name)
    return jobs.add_file(job_id, name, content)


@router.get("/jobs/{job_id}/state")
def get_state(jobs: Service, job_id: int) -> dict[str, Any]:
    """What is computed, stale, missing or failing, with what follows from the decisions."""
    return job_state(jobs, job_id)


@router.get("/jobs/{job_id}/runs")
def list_runs(jobs: Service, job_id: int) -> list[RunAnswer]:
    """The newest run of every target."""
    return [RunAnswer(**r) for r in jobs.runs(job_id)]


@router.post("/jobs/{job_id}/runs")
def start_run(jobs: Service, job_id: int, body: Start) -> RunAnswer:
    """Starts background work."""
    return RunAnswer(**jobs.start(job_id, body.target))


@router.post("/runs/{run_id}/cancel")
def cancel_run(jobs: Service, run_id: int) -> RunAnswer:
    """Asks a run to stop."""
    return RunAnswer(**jobs.cancel(run_id))

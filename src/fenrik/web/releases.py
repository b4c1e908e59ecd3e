"""Routes of releases: programs and papers as they are now, and those that were kept."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import asdict, replace
from typing import Annotated, Literal

from fastapi import APIRouter, Query, Response
from fastapi.responses import HTMLResponse
from pydantic import BaseModel, Field

from fenrik.app.kept import (
    check_not_blocked,
    compare_kept,
    keep_release,
    kept_releases,
    kept_row,
    proved_release,
    sheet_of,
)
from fenrik.app.shapes import KeptProof
from fenrik.web.deps import Number, Service, Text, data, download

router = APIRouter(tags=["releases"])


class Keep(BaseModel):
    """The release to keep, and what is to be remembered about it."""

    name: Annotated[Text, Field(max_length=100)]
    notes: Annotated[Text, Field(max_length=2000)] = ""


class Kept(BaseModel):
    """A release that was kept: its number in the job, what it was, when, from which revision."""

    number: int
    name: str
    revision: int
    notes: str
    at: str
    file: str
    setup: str
    dialect: str
    time_s: float
    lines: int
    stops: int
    operations: list[str]


class LineChange(BaseModel):
    """A line of a comparison with its numbers in the first and the second program."""

    kind: Literal["same", "out", "in", "gap"]
    first: int | None
    second: int | None
    text: str


@router.get("/jobs/{job_id}/releases/{name}/program", response_class=Response)
def program(jobs: Service, job_id: Number, name: Text) -> Response:
    """The proved program's text, or an archive where it is split. Refused while a finding says that it must
    not be run as posted, and while any of its setups is not proved."""
    proved = proved_release(jobs, job_id, name)
    check_not_blocked(proved)
    files = proved.first.facts["files"]
    if len(files) == 1:
        return download(files[0][1], "text/plain", files[0][0])
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for file, text in files:
            archive.writestr(file, text)
    return download(out.getvalue(), "application/zip", f"{name}.zip")


@router.get("/jobs/{job_id}/releases/{name}/sheet", response_class=HTMLResponse)
def sheet(
    jobs: Service, job_id: Number, name: Text, setup: Annotated[Text | None, Query(max_length=200)] = None
) -> HTMLResponse:
    """The setup sheet as a printable page; of a release in several setups that of one, open: the first."""
    proved = proved_release(jobs, job_id, name, setup)
    return _paper(sheet_of(jobs, replace(proved, proofs=[proved.first]))[0])


@router.get("/jobs/{job_id}/kept")
def list_kept(jobs: Service, job_id: Number) -> list[Kept]:
    """What was kept of a job, the newest first."""
    return [Kept(**row) for row in kept_releases(jobs, job_id)]


@router.post("/jobs/{job_id}/kept")
def keep(jobs: Service, job_id: Number, body: Keep) -> Kept:
    """Keeps a proved release with its text, its sheet and its proof under the next number."""
    return Kept(**keep_release(jobs, job_id, body.name, body.notes))


@router.get("/jobs/{job_id}/kept/{number}/program")
def kept_program(jobs: Service, job_id: Number, number: Number) -> Response:
    """The text of a kept release."""
    row = kept_row(jobs, job_id, number)
    return download(row.text, "text/plain", row.proof["file"])


@router.get("/jobs/{job_id}/kept/{number}/sheet")
def kept_sheet(jobs: Service, job_id: Number, number: Number) -> HTMLResponse:
    """The setup sheet of a kept release as it was then."""
    return _paper(kept_row(jobs, job_id, number).sheet)


@router.get("/jobs/{job_id}/kept/{number}/proof", response_model=KeptProof)
def kept_proof(jobs: Service, job_id: Number, number: Number) -> Response:
    """What the proof of a kept release said: operations, times, deviation, findings."""
    return data(json.dumps(kept_row(jobs, job_id, number).proof).encode())


@router.get("/jobs/{job_id}/kept/{first}/against/{second}")
def compare(jobs: Service, job_id: Number, first: Number, second: Number) -> list[LineChange]:
    """What changed in the text from one kept release to another, block numbers apart; empty when nothing
    did."""
    return [LineChange(**asdict(line)) for line in compare_kept(jobs, job_id, first, second)]


def _paper(html: str) -> HTMLResponse:
    """A page that runs nothing and loads nothing."""
    policy = (
        "default-src 'none'; style-src 'unsafe-inline'; img-src data:; frame-ancestors 'none'; "
        "base-uri 'none'"
    )
    return HTMLResponse(html, headers={"Content-Security-Policy": policy})

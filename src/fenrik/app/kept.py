"""Releases that were handed out and are kept: numbered within their job, unchanged ever after, compared line by line."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session, col, func, select

from fenrik.app.jobs import Jobs
from fenrik.app.tables import JobRow, KeptReleaseRow
from fenrik.core.errors import Conflict, NotFound
from fenrik.core.job.document import ReleaseDoc
from fenrik.core.job.papers import setup_sheet
from fenrik.core.job.planning import Planner
from fenrik.core.job.proving import Proof, Prover
from fenrik.core.posting.lines import Line, line_changes

KEPT_FACTS = (
    "setup",
    "file",
    "dialect",
    "zero",
    "time_s",
    "removed_mm3",
    "deviation",
    "findings",
    "operations",
    "cell_mm",
)
"""Of a proof's facts those that are kept in the row; the whole proof stays under its key as well."""
BLOCKING = ("difference", "controller")
"""Kinds of findings with which a program is not handed out: it does not mean what was planned."""


def proved_release(
    jobs: Jobs, planner: Planner, name: str, setup: str | None = None
) -> tuple[Proof, ReleaseDoc, str]:
    """A release's proof (of what runs in a setup, open: in its first), the release and the proof's key. Raises NotFound
    where it is unknown or not proved."""
    prover = Prover(planner)
    release = next((r for r in planner.job.effective_releases() if r.name == name), None)
    if release is None:
        raise NotFound(f"There is no release '{name}'.", remedy="Choose one of the job's releases.")
    if setup is not None and setup not in release.setups:
        raise NotFound(
            f"Release '{name}' does not run in '{setup}'.", remedy=f"It runs in {', '.join(release.setups)}."
        )
    key = prover.release_key(release, setup)
    return jobs.proof(key), release, key


def check_not_blocked(proof: Proof, name: str) -> None:
    """Raises NotFound where the text does not mean what was planned."""
    blocking = [f for f in proof.facts["findings"] if f["kind"] in BLOCKING]
    if blocking:
        raise NotFound(
            f"Release '{name}' is blocked: {blocking[0]['words']}",
            remedy="Correct the dialect and prove it again.",
        )


def keep_release(jobs: Jobs, job_id: int, name: str, notes: str) -> dict[str, Any]:
    """Keeps a proved release of the job's present revision under the next number. Raises NotFound, and Conflict where the
    very same is kept already."""
    with jobs.planner(job_id) as planner:
        proof, release, key = proved_release(jobs, planner, name)
        parts = [proved_release(jobs, planner, name, setup)[0] for setup in release.setups]
        for part in parts:
            check_not_blocked(part, name)
        sheet = "\n".join(setup_sheet(planner, release, part) for part in parts)
    with Session(jobs.engine) as session:
        job = session.get(JobRow, job_id, with_for_update=True)  # numbers are given one after the other
        if job is None:
            raise NotFound(f"There is no job {job_id}.", remedy="Choose one from the list.")
        same = session.exec(
            select(KeptReleaseRow).where(KeptReleaseRow.job_id == job_id, KeptReleaseRow.proof_key == key)
        ).first()
        if same is not None:
            raise Conflict(
                f"This release is kept already, as no. {same.number}.",
                remedy="Change something, or use that one.",
            )
        last = session.exec(
            select(func.max(KeptReleaseRow.number)).where(KeptReleaseRow.job_id == job_id)
        ).one()
        row = KeptReleaseRow(
            job_id=job_id, number=(last or 0) + 1, revision=job.revision, notes=notes, release=release.model_dump(mode="json"),
            proof={k: proof.facts[k] for k in KEPT_FACTS} | {"findings": _all(parts, "findings"), "operations": _all(parts, "operations")}, proof_key=key, text=proof.facts["text"], sheet=sheet,
        )  # fmt: skip
        session.add(row)
        session.commit()
        return kept_data(row)


def _all(parts: list[Proof], what: str) -> list[dict[str, Any]]:
    """What the proofs of all setups say, none twice."""
    rows = [row for part in parts for row in part.facts[what]]
    return [row for i, row in enumerate(rows) if row not in rows[:i]]


def kept_releases(jobs: Jobs, job_id: int) -> list[dict[str, Any]]:
    """What was kept of a job, the newest first."""
    with Session(jobs.engine) as session:
        wanted = select(KeptReleaseRow).where(KeptReleaseRow.job_id == job_id)
        return [kept_data(r) for r in session.exec(wanted.order_by(col(KeptReleaseRow.number).desc()))]


def kept_row(jobs: Jobs, job_id: int, number: int) -> KeptReleaseRow:
    """One kept release. Raises NotFound."""
    with Session(jobs.engine) as session:
        row = session.get(KeptReleaseRow, (job_id, number))
        if row is None:
            raise NotFound(f"The job has kept no release no. {number}.", remedy="Choose one from the list.")
        return row


def compare_kept(jobs: Jobs, job_id: int, first: int, second: int) -> list[Line]:
    """What changed from one kept release to another. Raises NotFound."""
    a, b = (kept_row(jobs, job_id, n) for n in (first, second))
    return line_changes(a.text, b.text)


def kept_data(row: KeptReleaseRow) -> dict[str, Any]:
    """A kept release as plain data, without its text."""
    findings = row.proof["findings"]
    return {
        "number": row.number,
        "name": row.release["name"],
        "revision": row.revision,
        "notes": row.notes,
        "at": row.at.isoformat(),
        "file": row.proof["file"],
        "setup": row.proof["setup"],
        "dialect": row.proof["dialect"],
        "time_s": row.proof["time_s"],
        "lines": row.text.count("\n"),
        "stops": sum(f["severity"] == "stop" for f in findings),
        "operations": [o["name"] for o in row.proof["operations"]],
    }

"""Releases that were handed out and are kept: numbered within their job, unchanged ever after, compared line
by line."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from sqlmodel import Session, col, func, select

from fenrik.app.answers import Asked
from fenrik.app.jobs import Jobs
from fenrik.app.tables import JobRow, KeptReleaseRow
from fenrik.core.errors import Conflict, NotFound
from fenrik.core.job.cutting.proofs import Proof
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
BLOCKING = ("difference", "controller", "reach")
"""Kinds of findings with which a program is not handed out: it does not mean what was planned, or the arm
does not get to where it is sent."""


@dataclass(frozen=True)
class Proved:
    """A proved release of a job's present document: its proofs, one for every setup that runs in it, in their
    order."""

    name: str
    about: Asked
    proofs: list[Proof]

    @property
    def first(self) -> Proof:
        """The proof of its first setup, whose facts hold the text."""
        return self.proofs[0]


def proved_release(jobs: Jobs, job_id: int, name: str, setup: str | None = None) -> Proved:
    """A release with its proofs (of one setup, where it is named). Raises NotFound where it is unknown or not
    proved."""
    about = jobs.asked(job_id)
    rows = [r for r in jobs.answers.state(about).data["releases"] if r["name"] == name]
    if not rows:
        raise NotFound(f"There is no release '{name[:60]}'.", remedy="Choose one of the job's releases.")
    chosen = [r for r in rows if setup is None or r["setup"] == setup]
    if not chosen:
        known = ", ".join(r["setup"] for r in rows)
        raise NotFound(
            f"Release '{name}' does not run in '{(setup or '')[:80]}'.", remedy=f"It runs in {known}."
        )
    for row in chosen:
        if row["state"] != "ready":
            raise NotFound("The release has not been proved yet.", remedy="Prove it.")
    return Proved(name, about, [jobs.answers.proof(row["key"]) for row in chosen])


def check_not_blocked(proved: Proved) -> None:
    """Raises NotFound where the text does not mean what was planned."""
    blocking = [f for p in proved.proofs for f in p.facts["findings"] if f["kind"] in BLOCKING]
    if blocking:
        raise NotFound(
            f"Release '{proved.name}' is blocked: {blocking[0]['words']}",
            remedy="Correct its text or the dialect, and prove it again.",
        )


def sheet_of(jobs: Jobs, proved: Proved) -> tuple[str, dict[str, Any]]:
    """The setup sheets of a release as one HTML page, and the release as the document has it."""
    keys = [p.key for p in proved.proofs]
    answer = json.loads(
        jobs.answers.ask(
            "sheet", proved.about, release=proved.name, keys=keys, revision=proved.about.revision
        )
    )
    return answer["sheet"], answer["release"]


def keep_release(jobs: Jobs, job_id: int, name: str, notes: str) -> dict[str, Any]:
    """Keeps a proved release of the job's present revision under the next number. Raises NotFound, and
    Conflict where the very same is kept already."""
    proved = proved_release(jobs, job_id, name)
    check_not_blocked(proved)
    sheet, release = sheet_of(jobs, proved)
    proof, proofs = proved.first, proved.proofs
    with Session(jobs.engine) as session:
        job = session.get(JobRow, job_id, with_for_update=True)  # numbers are given one after the other
        if job is None:
            raise NotFound(f"There is no job {job_id}.", remedy="Choose one from the list.")
        same = session.exec(
            select(KeptReleaseRow).where(
                KeptReleaseRow.job_id == job_id, KeptReleaseRow.proof_key == proof.key
            )
        ).first()
        if same is not None:
            raise Conflict(
                f"This release is kept already, as revision {same.number}.",
                remedy="Change something, or use that one.",
            )
        last = session.exec(
            select(func.max(KeptReleaseRow.number)).where(KeptReleaseRow.job_id == job_id)
        ).one()
        facts = {k: proof.facts[k] for k in KEPT_FACTS}
        row = KeptReleaseRow(
            job_id=job_id,
            number=(last or 0) + 1,
            revision=proved.about.revision,
            notes=notes,
            release=release,
            proof=facts | {"findings": _all(proofs, "findings"), "operations": _all(proofs, "operations")},
            proof_key=proof.key,
            results=[key for p in proofs for key in p.results()],
            text=proof.facts["text"],
            sheet=sheet,
        )
        session.add(row)
        session.flush()
        kept = kept_data(row)
        session.commit()
        return kept


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

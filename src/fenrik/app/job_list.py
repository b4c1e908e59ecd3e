"""All jobs at a glance: what the front page lists."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Engine, cast, func, select
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlmodel import Session, col

from fenrik.app.runs import OPEN_STATES
from fenrik.app.tables import JobRow, RevisionRow, RunRow
from fenrik.core.job.document.job import SetupDoc
from fenrik.core.machines.library import machines

USUAL = str(SetupDoc.model_fields["machine"].default)
"""The machine of a setup whose document names none."""


def job_list(engine: Engine) -> list[dict[str, Any]]:
    """All jobs, newest change first: id, name, when and at which revision, the names of their machines, what
    is computed for them now; `problem` says why one cannot be opened."""
    present = (
        select(
            JobRow,
            _all("$.setups[*].machine"),
            _all("$.setups[*].name"),
            _all("$.machines[*].id"),
            _all("$.machines[*].name"),
        )
        .join(RevisionRow, isouter=True, onclause=_is_present())
        .order_by(col(JobRow.updated).desc())
    )
    working = (
        select(col(RunRow.job_id), col(RunRow.target))
        .where(col(RunRow.state).in_(OPEN_STATES))
        .order_by(col(RunRow.id).desc())
    )
    with Session(engine) as session:
        at_work = {job: target for job, target in session.execute(working)}
        return [
            {
                "id": row.id,
                "name": row.name,
                "updated": row.updated.isoformat(),
                "problem": row.problem,
                "revision": row.revision,
                "machines": _names(
                    used or [], len(setups or []), dict(zip(ids or [], names or [], strict=False))
                ),
                "working": at_work.get(row.id or 0, ""),
            }
            for row, used, setups, ids, names in session.execute(present)
        ]


def _all(path: str) -> Any:
    return func.jsonb_path_query_array(col(RevisionRow.document), cast(path, JSONPATH))


def _is_present() -> Any:
    return (col(RevisionRow.job_id) == col(JobRow.id)) & (col(RevisionRow.number) == col(JobRow.revision))


def _names(used: list[str], setups: int, own: dict[str, str]) -> list[str]:
    """The names of a job's machines, each once; ids that nobody knows stay as they are."""
    all_used = [*used, *([USUAL] if len(used) < setups else [])]
    library = machines()
    return list(dict.fromkeys(own.get(m) or (library[m].name if m in library else m) for m in all_used))

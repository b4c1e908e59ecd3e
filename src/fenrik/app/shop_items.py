"""Fixtures and machines that the shop keeps beside its jobs for later ones, with the files that they name."""

from __future__ import annotations

from typing import Any, Literal

from sqlmodel import Session, col, select

from fenrik.app.jobs import Jobs, opened
from fenrik.app.tables import ShopItemRow
from fenrik.core.errors import Conflict, InputError, NotFound
from fenrik.core.machines.machine import Machine
from fenrik.core.setups.held_in import Fixture

Kind = Literal["fixture", "machine"]
MOST_ITEMS = 500
"""A shop keeps no more of a kind than these."""


def shop_items(jobs: Jobs, kind: Kind) -> list[dict[str, Any]]:
    """What is kept of a kind, the one kept last first: `id` and `item`."""
    with Session(jobs.engine) as session:
        wanted = select(ShopItemRow).where(ShopItemRow.kind == kind).order_by(col(ShopItemRow.at).desc())
        return [{"id": row.id, "item": row.item} for row in session.exec(wanted)]


def keep_item(jobs: Jobs, kind: Kind, job_id: int, name: str) -> dict[str, Any]:
    """Keeps a fixture or a machine of a job, with its files; one of the same name takes the place of what was
    kept under it. Raises Conflict, NotFound, and InputError where the job lacks a file."""
    plain = _of_job(jobs, kind, job_id, name)
    known = jobs.files.names(job_id)
    files = {}
    for body in _with_files(plain):
        if body["file"] not in known:
            raise InputError(f"The job has no file '{body['file']}'.", remedy="Upload it again.")
        files[body["file"]] = known[body["file"]]
    with Session(jobs.engine) as session:
        mine = session.exec(select(ShopItemRow).where(ShopItemRow.kind == kind)).all()
        row = next((r for r in mine if r.name == name), None)
        if row is None and len(mine) >= MOST_ITEMS:
            raise Conflict(f"{MOST_ITEMS} are kept already.", remedy="Remove one that is not used.")
        row = row or ShopItemRow(kind=kind, name=name, item=plain)
        row.item, row.files = plain, files
        session.add(row)
        session.commit()
        return {"id": row.id, "item": plain}


def take_item(jobs: Jobs, kind: Kind, number: int, job_id: int) -> dict[str, Any]:
    """What is kept, for use in a job, which gets its files; their names in it are those of the job. Raises
    NotFound."""
    with Session(jobs.engine) as session:
        row = session.get(ShopItemRow, number)
        if row is None or row.kind != kind:
            raise NotFound(f"The {kind} is not kept any more.", remedy="Reload the page.")
        item, files = row.item, dict(row.files)
    names = {name: jobs.files.share(job_id, name, digest) for name, digest in files.items()}
    for body in _with_files(item):
        body["file"] = names[body["file"]]
    return item


def drop_item(jobs: Jobs, kind: Kind, number: int) -> None:
    """Keeps it no longer; jobs that use it have their own copy. Raises NotFound."""
    with Session(jobs.engine) as session:
        row = session.get(ShopItemRow, number)
        if row is None or row.kind != kind:
            raise NotFound(f"The {kind} is not kept any more.", remedy="Reload the page.")
        session.delete(row)
        session.commit()


def _of_job(jobs: Jobs, kind: Kind, job_id: int, name: str) -> dict[str, Any]:
    """What a job's document has of a kind under a name, as plain data."""
    job = opened(jobs.stored(job_id))
    mine: list[Fixture] | list[Machine] = job.fixtures if kind == "fixture" else job.machines
    item = next((i for i in mine if i.name == name), None)
    if item is None:
        raise NotFound(f"The job has no {kind} '{name}'.", remedy="Reload the page.")
    return item.model_dump(mode="json")


def _with_files(item: dict[str, Any]) -> list[dict[str, Any]]:
    """The pieces of a fixture, or the bodies of a machine, that are solids of files."""
    return [body for body in (item.get("pieces") or item.get("bodies") or []) if body.get("file")]

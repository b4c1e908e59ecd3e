"""The shop's own tools, kept beside its jobs for later ones."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session, col, select

from fenrik.app.jobs import Jobs
from fenrik.app.tables import ShopToolRow
from fenrik.core.errors import Conflict, NotFound
from fenrik.core.tooling.assembly import Assembly

MOST_TOOLS = 2000
"""A shop keeps no more than these."""


def shop_tools(jobs: Jobs) -> list[dict[str, Any]]:
    """The kept tools, the one kept last first: `id` and `tool`."""
    with Session(jobs.engine) as session:
        rows = session.exec(select(ShopToolRow).order_by(col(ShopToolRow.id).desc()))
        return [{"id": row.id, "tool": row.tool} for row in rows]


def keep_tool(jobs: Jobs, tool: Assembly) -> dict[str, Any]:
    """Keeps a tool; one of the same name takes the place of what was kept under it. Raises Conflict."""
    plain = tool.model_copy(update={"to_check": False}).model_dump(mode="json")
    with Session(jobs.engine) as session:
        known = session.exec(select(ShopToolRow)).all()
        row = next((r for r in known if r.tool.get("name") == tool.name), None)
        if row is None and len(known) >= MOST_TOOLS:
            raise Conflict(f"{MOST_TOOLS} tools are kept already.", remedy="Remove one that is not used.")
        row = row or ShopToolRow(tool=plain)
        row.tool = plain
        session.add(row)
        session.commit()
        return {"id": row.id, "tool": plain}


def drop_tool(jobs: Jobs, number: int) -> None:
    """Keeps a tool no longer; jobs that use it have their own copy. Raises NotFound."""
    with Session(jobs.engine) as session:
        row = session.get(ShopToolRow, number)
        if row is None:
            raise NotFound("The tool is not kept any more.", remedy="Reload the page.")
        session.delete(row)
        session.commit()

"""Routes of what the shop keeps beside its jobs."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel

from fenrik.app.shop import drop_tool, keep_tool, shop_tools
from fenrik.core.tooling.assembly import Assembly
from fenrik.web.deps import Number, Service

router = APIRouter(tags=["shop"], prefix="/shop")


class ShopTool(BaseModel):
    """A tool that is kept for later jobs."""

    id: int
    tool: Assembly


@router.get("/tools")
def list_tools(jobs: Service) -> list[ShopTool]:
    """The shop's own tools, the one kept last first."""
    return [ShopTool.model_validate(row) for row in shop_tools(jobs)]


@router.post("/tools")
def keep(jobs: Service, tool: Assembly) -> ShopTool:
    """Keeps a tool for later jobs, in place of one of the same name."""
    return ShopTool.model_validate(keep_tool(jobs, tool))


@router.delete("/tools/{number}")
def drop(jobs: Service, number: Number) -> None:
    """Keeps a tool no longer."""
    drop_tool(jobs, number)

"""Routes of what the shop keeps beside its jobs: tools, fixtures, machines."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from fenrik.app.shop import drop_tool, keep_tool, shop_tools
from fenrik.app.shop_items import drop_item, keep_item, shop_items, take_item
from fenrik.core.machines.machine import Machine
from fenrik.core.setups.held_in import Fixture
from fenrik.core.tooling.assembly import Assembly
from fenrik.web.deps import Number, Service, Text

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


class Named(BaseModel):
    """A fixture of a job by its name, or a machine."""

    name: Annotated[Text, Field(min_length=1, max_length=200)]


class ShopFixture(BaseModel):
    """A fixture that is kept for later jobs."""

    id: int
    item: Fixture


class ShopMachine(BaseModel):
    """A machine that is kept for later jobs."""

    id: int
    item: Machine


@router.get("/fixtures")
def list_fixtures(jobs: Service) -> list[ShopFixture]:
    """The shop's own fixtures, the one kept last first."""
    return [ShopFixture.model_validate(row) for row in shop_items(jobs, "fixture")]


@router.post("/fixtures/of/{job_id}")
def keep_fixture(jobs: Service, job_id: Number, which: Named) -> ShopFixture:
    """Keeps a fixture of a job for later ones, with its files, in place of one of the same name."""
    return ShopFixture.model_validate(keep_item(jobs, "fixture", job_id, which.name))


@router.post("/fixtures/{number}/into/{job_id}")
def take_fixture(jobs: Service, number: Number, job_id: Number) -> Fixture:
    """A kept fixture for use in a job, which gets the files that it names."""
    return Fixture.model_validate(take_item(jobs, "fixture", number, job_id))


@router.delete("/fixtures/{number}")
def drop_fixture(jobs: Service, number: Number) -> None:
    """Keeps a fixture no longer."""
    drop_item(jobs, "fixture", number)


@router.get("/machines")
def list_machines(jobs: Service) -> list[ShopMachine]:
    """The shop's own machines, the one kept last first."""
    return [ShopMachine.model_validate(row) for row in shop_items(jobs, "machine")]


@router.post("/machines/of/{job_id}")
def keep_machine(jobs: Service, job_id: Number, which: Named) -> ShopMachine:
    """Keeps a machine of a job for later ones, with its files, in place of one of the same name."""
    return ShopMachine.model_validate(keep_item(jobs, "machine", job_id, which.name))


@router.post("/machines/{number}/into/{job_id}")
def take_machine(jobs: Service, number: Number, job_id: Number) -> Machine:
    """A kept machine for use in a job, which gets the files that it names."""
    return Machine.model_validate(take_item(jobs, "machine", number, job_id))


@router.delete("/machines/{number}")
def drop_machine(jobs: Service, number: Number) -> None:
    """Keeps a machine no longer."""
    drop_item(jobs, "machine", number)

"""Routes of what ships with Fenrik: machines, materials, tools, strategies, dialects, the schema."""

from __future__ import annotations

from functools import cache
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Response
from pydantic import BaseModel, Field

from fenrik.app.shapes import DialectInfo, Library, StrategyInfo
from fenrik.core.job.document.reading import schema
from fenrik.core.job.document.recipe_data import choices, shipped
from fenrik.core.machines.library import machines
from fenrik.core.posting.arms.dialect import ArmDialect
from fenrik.core.posting.writing.dialect import dialects
from fenrik.core.setups.fixture_library import fixtures
from fenrik.core.strategies.registry import strategies
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.drawing import tool_svg
from fenrik.core.tooling.library import starting_library
from fenrik.core.tooling.materials import materials
from fenrik.core.units import parse_length
from fenrik.web.deps import Text

router = APIRouter(tags=["library"])


class LengthText(BaseModel):
    """A length as typed, and the unit of a bare number."""

    text: Annotated[Text, Field(max_length=200)]
    unit: Annotated[Text, Field(max_length=20)] = "mm"


@router.get("/library")
def library() -> Library:
    """All libraries at once; they change only with the program."""
    return _library()


@cache
def _library() -> Library:
    holes, features = shipped()
    return Library(
        machines=list(machines().values()),
        fixtures=fixtures(),
        materials=list(materials().values()),
        tools=starting_library(),
        dialects=[
            DialectInfo(
                id=d.id,
                name=d.name,
                drives=d.drives,
                units="mm" if isinstance(d, ArmDialect) else d.units,
                extension=d.extension,
                arcs=None if isinstance(d, ArmDialect) else d.arcs,
            )
            for d in dialects().values()
        ],
        recipes=holes,
        recipe_choices=choices(),
        part_recipes=features,
        strategies=[
            StrategyInfo(
                id=s.id,
                title=s.title,
                summary=s.summary,
                kinds=list(s.kinds),
                target=s.target,
                axis=s.axis,
                finishes=s.finishes,
                parameters=s.parameters.model_json_schema(),
            )
            for s in strategies().values()
        ],
    )


@cache
def _schema() -> dict[str, Any]:
    return schema()


@router.get("/schema")
def document_schema() -> dict[str, Any]:
    """The JSON Schema of the job document."""
    return _schema()


@router.post("/tools/drawing")
def tool_drawing(tool: Assembly, unit: Literal["mm", "inch"] = "mm") -> Response:
    """The dimensioned drawing of an assembly as SVG. Wrong dimensions are refused with the reason."""
    return Response(tool_svg(tool, unit), media_type="image/svg+xml")


@router.post("/length")
def length(body: LengthText) -> float:
    """A typed length in mm."""
    return parse_length(body.text, body.unit)

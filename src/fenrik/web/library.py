"""Routes of what ships with Fenrik: machines, materials, tools, strategies, dialects, the schema."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Response
from pydantic import BaseModel

from fenrik.core.job.reading import schema
from fenrik.core.job.recipe_data import choices, shipped
from fenrik.core.machines.library import machines
from fenrik.core.posting.dialect import dialects
from fenrik.core.strategies.registry import strategies
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.drawing import tool_svg
from fenrik.core.tooling.library import starting_library
from fenrik.core.tooling.materials import materials
from fenrik.core.units import parse_length

router = APIRouter(tags=["library"])


class LengthText(BaseModel):
    """A length as typed, and the unit of a bare number."""

    text: str
    unit: str = "mm"


@router.get("/library")
def library() -> dict[str, Any]:
    """All libraries at once; they change only with the program."""
    return {
        "machines": [m.model_dump() for m in machines().values()],
        "materials": [m.model_dump() for m in materials().values()],
        "tools": [t.model_dump() for t in starting_library()],
        "dialects": [
            {"id": d.id, "name": d.name, "units": d.units, "extension": d.extension, "arcs": d.arcs}
            for d in dialects().values()
        ],
        "recipes": [r.model_dump(mode="json") for r in shipped()[0]],
        "recipe_choices": choices(),
        "part_recipes": [r.model_dump(mode="json") for r in shipped()[1]],
        "strategies": [
            {
                "id": s.id,
                "title": s.title,
                "summary": s.summary,
                "kinds": s.kinds,
                "needs_holes": s.needs_holes,
                "places": s.places,
                "needs_lines": s.needs_lines,
                "needs_walls": s.needs_walls,
                "needs_rims": s.needs_rims,
                "parameters": s.parameters.model_json_schema(),
            }
            for s in strategies().values()
        ],
    }


@router.get("/schema")
def document_schema() -> dict[str, Any]:
    """The JSON Schema of the job document."""
    return schema()


@router.post("/tools/drawing")
def tool_drawing(tool: Assembly, unit: str = "mm") -> Response:
    """The dimensioned drawing of an assembly as SVG. Wrong dimensions are refused with the reason."""
    return Response(tool_svg(tool, unit), media_type="image/svg+xml")


@router.post("/length")
def length(body: LengthText) -> float:
    """A typed length in mm."""
    return parse_length(body.text, body.unit)

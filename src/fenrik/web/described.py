"""The interface described (OpenAPI), the job document among it."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi

from fenrik.core.job.document.job import Job

COMPONENTS = "#/components/schemas/{model}"


def described(app: FastAPI) -> dict[str, Any]:
    """The description of all routes; documents, which travel as they are kept, refer to the model of the
    document."""
    if app.openapi_schema is not None:
        return app.openapi_schema
    whole = get_openapi(title=app.title, version=app.version, routes=app.routes)
    parts = whole["components"]["schemas"]
    job = Job.model_json_schema(mode="serialization", ref_template=COMPONENTS)
    for name, schema in job.pop("$defs").items():
        parts.setdefault(name, schema)
    parts["Job"] = job
    for name in ("JobAnswer", "Save"):
        parts[name]["properties"]["document"] = {"$ref": COMPONENTS.format(model="Job")}
    whole["components"]["schemas"] = dict(sorted(parts.items()))
    app.openapi_schema = whole
    return whole

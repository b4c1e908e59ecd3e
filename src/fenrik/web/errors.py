"""One table from error codes to HTTP."""

from __future__ import annotations

from fastapi import FastAPI, Request
from fastapi.responses import JSONResponse

from fenrik.core.errors import FenrikError

STATUS = {
    "input": 422,
    "file": 422,
    "document": 422,
    "compute": 422,
    "not_yet": 409,
    "post": 422,
    "cancelled": 409,
    "application": 409,
    "not_found": 404,
    "conflict": 409,
    "error": 500,
}


def install(app: FastAPI) -> None:
    """Answers every FenrikError with its status and its plain form."""

    @app.exception_handler(FenrikError)
    async def _answer(_request: Request, error: FenrikError) -> JSONResponse:
        return JSONResponse({"error": error.as_dict(), "message": error.message}, STATUS.get(error.code, 500))

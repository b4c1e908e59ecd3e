"""One table from errors to HTTP."""

from __future__ import annotations

import logging

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from psycopg import errors as postgres
from sqlalchemy.exc import DBAPIError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.exceptions import HTTPException

from fenrik.core.errors import FenrikError

log = logging.getLogger(__name__)

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


def answer_of(status: int, code: str, what: str, remedy: str = "", where: str = "") -> JSONResponse:
    """An error as a page reads it."""
    fault = {"code": code, "what": what, "remedy": remedy, "where": where}
    head = f"{where}: {what}" if where else what
    return JSONResponse({"error": fault, "message": f"{head} {remedy}".strip()}, status)


def install(app: FastAPI) -> None:
    """Answers every error with its status and its plain form."""

    @app.exception_handler(FenrikError)
    async def _answer(_request: Request, error: FenrikError) -> JSONResponse:
        return JSONResponse({"error": error.as_dict(), "message": error.message}, STATUS.get(error.code, 500))

    @app.exception_handler(RequestValidationError)
    async def _wrong(_request: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        where = ".".join(str(step)[:40] for step in first["loc"] if step != "body")
        what = str(first["msg"]).removeprefix("Value error, ")
        return answer_of(422, "input", f"{what[:1].upper()}{what[1:300]}.", "Correct the value.", where)

    @app.exception_handler(HTTPException)
    async def _plain(_request: Request, error: HTTPException) -> JSONResponse:
        words = {404: "There is nothing under this address", 405: "This address takes other requests"}
        code = "not_found" if error.status_code == 404 else "input"
        return answer_of(error.status_code, code, f"{words.get(error.status_code, str(error.detail))}.")

    @app.exception_handler(DBAPIError)
    async def _database(_request: Request, error: DBAPIError) -> JSONResponse:
        if isinstance(error.orig, (postgres.DiskFull, postgres.OutOfMemory)):
            return answer_of(
                507,
                "application",
                "The disk is full: nothing was changed.",
                "Make room on the disk; what was saved before is all there.",
            )
        if isinstance(error.orig, postgres.DataError):
            return answer_of(422, "input", "A value of the request cannot be kept.", "Correct it.")
        return _away(error)

    @app.exception_handler(PoolTimeout)
    async def _busy(_request: Request, error: PoolTimeout) -> JSONResponse:
        return _away(error)


def _away(error: Exception) -> JSONResponse:
    log.warning("the database does not answer: %s", str(error).split("\n")[0])
    return answer_of(
        503,
        "application",
        "The database does not answer at the moment.",
        "Try again in a few seconds; what was saved is all there.",
    )

"""What routes share."""

from __future__ import annotations

from collections.abc import AsyncIterator
from pathlib import Path as File
from typing import Annotated
from urllib.parse import quote, unquote

import anyio
from fastapi import Depends, Header, Path, Request, Response
from fastapi.responses import StreamingResponse
from pydantic import AfterValidator, Field

from fenrik.app.jobs import Editor, Jobs
from fenrik.core.job.document.bounds import text_fault

BINARY = "application/octet-stream"
JSON = "application/json"
CHUNK_BYTES = 512 * 1024
FOR_EVER = "private, max-age=31536000, immutable"


def _jobs(request: Request) -> Jobs:
    service: Jobs = request.app.state.jobs
    return service


def _editor(
    x_fenrik_editor: Annotated[str, Header(max_length=40, pattern=r"^[A-Za-z0-9-]*$")] = "",
    x_fenrik_editor_name: Annotated[str, Header(max_length=300)] = "",
) -> Editor:
    name = unquote(x_fenrik_editor_name)
    return Editor(x_fenrik_editor, "" if text_fault(name) else name[:40])


def _storable(text: str) -> str:
    fault = text_fault(text)
    if fault:
        raise ValueError(f"the text holds {fault}")
    return text


Service = Annotated[Jobs, Depends(_jobs)]
Who = Annotated[Editor, Depends(_editor)]
Number = Annotated[int, Path(ge=1, le=2**31 - 1)]
"""The number of a row."""
Key = Annotated[str, Path(max_length=100, pattern=r"^[a-z_]+-[0-9a-f]{40}$")]
"""The key of a result."""
Text = Annotated[str, AfterValidator(_storable)]
FaceId = Annotated[int, Field(ge=0, le=10_000_000)]
Coordinate = Annotated[float, Field(ge=-1e7, le=1e7, allow_inf_nan=False)]


def data(answer: bytes) -> Response:
    """An answer that is JSON already."""
    return Response(answer, media_type=JSON, headers={"Cache-Control": "no-cache"})


def packed(answer: bytes) -> Response:
    """A packed blob that may be kept for ever: its address says what it is of."""
    return Response(answer, media_type=BINARY, headers={"Cache-Control": FOR_EVER})


def as_it_lies(request: Request, file: File, media: str = BINARY, immutable: bool = True) -> Response:
    """A result's file, sent piece by piece as it lies on the disk. Its name tells its content, so a browser
    that has it is told that it is the same."""
    tag = f'"{file.name}"'
    headers = {"ETag": tag, "Cache-Control": FOR_EVER if immutable else "private, no-cache"}
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304, headers=headers)
    opened = file.open("rb")
    size = opened.seek(0, 2)
    opened.seek(0)

    async def pieces() -> AsyncIterator[bytes]:
        with opened:
            while piece := await anyio.to_thread.run_sync(opened.read, CHUNK_BYTES):
                yield piece

    return StreamingResponse(pieces(), media_type=media, headers={**headers, "Content-Length": str(size)})


def download(content: bytes | str, kind: str, name: str) -> Response:
    """A file to be saved under a name."""
    plain = "".join(c if c.isascii() and (c.isalnum() or c in "._-") else "_" for c in name)
    disposition = f"attachment; filename=\"{plain}\"; filename*=UTF-8''{quote(name, safe='')}"
    return Response(content, media_type=kind, headers={"Content-Disposition": disposition})

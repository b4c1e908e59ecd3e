"""What routes share."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request, Response

from fenrik.app.jobs import Jobs

BINARY = "application/octet-stream"


def _jobs(request: Request) -> Jobs:
    service: Jobs = request.app.state.jobs
    return service


Service = Annotated[Jobs, Depends(_jobs)]


def binary(blob: bytes) -> Response:
    """A blob that may be kept for ever: its address holds the hash of its inputs."""
    return Response(
        blob, media_type=BINARY, headers={"Cache-Control": "private, max-age=31536000, immutable"}
    )

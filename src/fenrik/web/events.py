"""Progress as server-sent events."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator

from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse

from fenrik.web.deps import Service

router = APIRouter(tags=["events"])
PAUSE = 0.25


@router.get("/jobs/{job_id}/events")
async def events(jobs: Service, job_id: int, request: Request) -> StreamingResponse:
    """An event ``runs`` with the newest run of every target whenever one changes."""

    async def stream() -> AsyncIterator[str]:
        last, idle = "", 0.0
        yield "retry: 1000\n\n"
        while not await request.is_disconnected():
            text = json.dumps(await asyncio.to_thread(jobs.runs, job_id))
            if text != last:
                last, idle = text, 0.0
                yield f"event: runs\ndata: {text}\n\n"
            elif idle > 15:
                idle = 0.0
                yield ": still here\n\n"
            await asyncio.sleep(PAUSE)
            idle += PAUSE

    return StreamingResponse(stream(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})

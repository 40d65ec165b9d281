"""Live pages: server-sent events that say when something was recorded in a job (WHATWG HTML, 9.2)."""

import asyncio
import time
from collections.abc import AsyncIterator

from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from fairsquare import metrics
from fairsquare.store import jobs
from fairsquare.web.at_the_door import SignInFirst
from fairsquare.web.page import desk_of, session_or_none

router = APIRouter()
STILL_HERE_S = 10.0
"""How often a page that hears nothing is told that it is still heard: what lies between them may cut lines that rest."""
COALESCE_S, COALESCE_ON_BOARD_S = 0.1, 0.03
_SESSION_EVERY_S = 30.0


@router.get("/jobs/{number}/live")
async def live(request: Request, number: str, revision: int = 0, board: bool = False) -> StreamingResponse:
    """Tell of every new revision of a job after `revision`, until the page goes or the session ends; to a `board` sooner."""
    if await run_in_threadpool(session_or_none, request) is None:
        raise SignInFirst
    job = await run_in_threadpool(desk_of(request).database.run, lambda c: jobs.find_job(c, number))
    return StreamingResponse(
        _events(request, job.number, revision, board=board),
        media_type="text/event-stream",
        headers={"cache-control": "no-store", "x-accel-buffering": "no"},
    )


async def _events(request: Request, number: str, revision: int, *, board: bool) -> AsyncIterator[str]:
    bell, asked_at = desk_of(request).bell, time.monotonic()
    yield "retry: 2000\n\n"
    with bell.listen(number) as ear, metrics.LISTENING.track_inprogress():
        while not bell.closed and not await request.is_disconnected():
            ear.rung.clear()
            if ear.revision is not None and ear.revision != revision:
                revision = ear.revision
                yield f"event: changed\ndata: {revision}\n\n"
                await asyncio.sleep(COALESCE_ON_BOARD_S if board else COALESCE_S)
            else:
                yield ": still here\n\n"
            if time.monotonic() - asked_at > _SESSION_EVERY_S:
                asked_at = time.monotonic()
                if await run_in_threadpool(session_or_none, request) is None:
                    return
            try:
                await asyncio.wait_for(ear.rung.wait(), STILL_HERE_S)
            except TimeoutError:
                continue

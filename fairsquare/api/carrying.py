"""A whole job as one file, out and in."""

import tempfile
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Header, Response
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request

from fairsquare.actions import carrying
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given
from fairsquare.files.job_file import job_to_take_in
from fairsquare.workers import Workers

router = APIRouter(prefix="/api/v1", tags=["jobs"])


@router.post("/jobs/{number}/file", response_class=Response)
def whole_job(number: str, desk: At, person: By) -> Response:
    """Make a record of a job, and return the job with its records and photos as a ZIP archive for another shop."""
    return Response(carrying.carry_out(desk, person, number), media_type="application/zip")


@router.post(
    "/jobs/files",
    status_code=201,
    openapi_extra={
        "requestBody": {
            "required": True,
            "description": "the file, as it was made",
            "content": {"application/zip": {"schema": {"type": "string", "format": "binary"}}},
        }
    },
)
async def job_from_file(
    request: Request,
    desk: At,
    person: By,
    request_key: Annotated[str, Header(description="a key of your own, new for each file")],
) -> Given:
    """Take a job in from a file that is whole; the answer names it as it is numbered here."""
    workers: Workers = request.app.state.workers
    with tempfile.NamedTemporaryFile(prefix="fairsquare-job-") as sent:
        async for piece in request.stream():
            await run_in_threadpool(sent.write, piece)
        sent.flush()
        file = await workers.run(person.name, job_to_take_in, Path(sent.name))
    return Given(number=await run_in_threadpool(carrying.carry_in, desk, person, request_key, file))

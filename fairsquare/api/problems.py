"""What the API's description of itself says of answers that are none: every status of every route, and the problem document."""

from typing import Any

from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi
from pydantic import BaseModel, ConfigDict, Field

from fairsquare.core.model import Many
from fairsquare.job.deeds import RIGHTS


class Wrong(BaseModel):
    """A part of a request that is wrong: its field, what stood there, and what would be right."""

    field: str
    value: Any = None
    message: str


class Problem(BaseModel):
    """Why something was not done (RFC 9457): `title` says what was wrong and what would be right."""

    model_config = ConfigDict(extra="allow")

    type: str = Field(pattern="^urn:fairsquare:problem:[a-z-]+$")
    title: str
    status: int = Field(ge=400, le=599)
    detail: str
    errors: Many[Wrong] = ()


_WORDS = {
    "400": "the request cannot be read at all",
    "401": "nobody is signed in, or name, password and code do not go together",
    "403": "the person's role, or the shop's rule for it, does not allow this",
    "404": "there is nothing of that number or name",
    "408": "what is sent came too slowly",
    "409": "it does not go with what stands: somebody was faster, or something is to be done first",
    "413": "what is sent is larger than anything of its kind",
    "422": "something in the request is wrong; `errors` names it",
    "429": "too many tries, or too many of one person's are waiting: later",
    "503": "the database does not answer, or the work broke off: the same request may be sent again",
}
_ALWAYS, _SIGNED, _BODY = ("400", "422", "429", "503"), ("401", "403"), ("408", "413")


def described(app: FastAPI, way_of: Any) -> dict[str, Any]:
    """Return the OpenAPI description of the API, with every status that each of its routes gives."""
    said: dict[str, Any] = get_openapi(
        title=app.title, version=app.version, summary=app.summary, routes=app.routes, openapi_version="3.1.0"
    )
    schemas = said["components"]["schemas"]
    for name in ("HTTPValidationError", "ValidationError"):
        schemas.pop(name, None)
    problem = Problem.model_json_schema(ref_template="#/components/schemas/{model}")
    schemas.update(problem.pop("$defs"))
    schemas["Problem"] = problem
    for path, operations in said["paths"].items():
        for method, operation in operations.items():
            way = way_of(method.upper(), path)
            statuses = {*_ALWAYS}
            statuses |= set(_SIGNED) if way != "open" else {"401"} if path.endswith("/session") else set()
            statuses |= {"404"} if "{" in path else set()
            statuses |= set(_BODY) if "requestBody" in operation else set()
            statuses |= {"409"} if way in RIGHTS or "{number}" in path else set()
            for status in sorted(statuses):
                operation["responses"][status] = {
                    "description": _WORDS[status],
                    "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
                }
    return said

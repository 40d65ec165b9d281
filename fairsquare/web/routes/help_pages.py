"""The page of shortcuts and words, and the API's pages, served from files of ours."""

from typing import Any

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.cut.working import MARKS
from fairsquare.drawings.drill import mark_sign
from fairsquare.store.people import Session
from fairsquare.web.page import render, session_or_none, signed_in

router = APIRouter()


@router.get("/help")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show shortcuts, signs and words."""
    return render(request, "help.html", session, room="help", drill_marks=MARKS, mark_sign=mark_sign)


@router.get("/api/docs")
def api_docs(request: Request) -> Response:
    """Show the API: every operation with what it takes and gives, from the OpenAPI description."""
    spec = request.app.openapi()
    groups: dict[str, list[dict[str, Any]]] = {}
    for path, methods in spec["paths"].items():
        for method, operation in methods.items():
            shown = {
                "method": method.upper(),
                "path": path,
                "summary": operation.get("description") or operation.get("summary", ""),
                "parameters": operation.get("parameters", []),
                "sent": _schema(spec, operation.get("requestBody", {})),
                "given": _schema(spec, _good_answer(operation)),
            }
            groups.setdefault(operation.get("tags", ["other"])[0], []).append(shown)
    return render(request, "api_docs.html", session_or_none(request), spec=spec, groups=groups)


def _good_answer(operation: dict[str, Any]) -> dict[str, Any]:
    return next((answer for code, answer in operation["responses"].items() if code.startswith("2")), {})


def _schema(spec: dict[str, Any], body: dict[str, Any]) -> dict[str, Any] | None:
    """Return the JSON schema of a body, its reference followed once."""
    schema: dict[str, Any] | None = body.get("content", {}).get("application/json", {}).get("schema")
    if schema and "$ref" in schema:
        described: dict[str, Any] = spec["components"]["schemas"][schema["$ref"].rpartition("/")[2]]
        return described
    return schema or None


@router.get("/calculations")
def calculations(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show the catalogue of calculations with their schemas."""
    return render(request, "calculations.html", session, catalogue=CATALOGUE, room="calculations")

"""Answers that say no: problem details (RFC 9457) and OAuth errors (RFC 6749, section 5.2)."""

from collections.abc import Sequence
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

TAG = "tag:enthesis.example,2026:lab:"


class Problem(Exception):
    """An answer that is not a success; rendered as problem details."""

    def __init__(self, status: int, kind: str, detail: str, **more: Any) -> None:
        super().__init__(detail)
        self.status = status
        self.body = {"type": TAG + kind, "title": kind.replace("-", " "), "status": status, "detail": detail, **more}

    def response(self) -> Response:
        headers = {"WWW-Authenticate": "Bearer"} if self.status == 401 else None
        return JSONResponse(self.body, self.status, headers, media_type="application/problem+json")


async def as_problem(request: Request, fault: Exception) -> Response:
    """What every service answers when one of its handlers raises a Problem."""
    if isinstance(fault, Problem):
        return fault.response()
    raise fault


def refused(refused_at: Sequence[str]) -> Problem:
    """Access is refused; which steps refuse is what a lab says and other services keep to themselves."""
    return Problem(403, "refused", "access is refused", refused_at=list(refused_at))


def oauth_error(error: str, description: str, refused_at: Sequence[str] = ()) -> Response:
    """An error of the token endpoint; `refused_at` as in `refused`."""
    body: dict[str, Any] = {"error": error, "error_description": description}
    if refused_at:
        body["refused_at"] = list(refused_at)
    return JSONResponse(body, 400, {"Cache-Control": "no-store"})

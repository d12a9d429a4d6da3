"""Answers that say no, as problem details (RFC 9457), with the challenges of RFC 6750, section 3."""

from collections.abc import Mapping, Sequence
from typing import Any

from starlette.exceptions import HTTPException
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
        """The problem as a response (RFC 9457), with a challenge where one is due."""
        return JSONResponse(self.body, self.status, self._challenge(), media_type="application/problem+json")

    def _challenge(self) -> dict[str, str] | None:
        """RFC 6750, section 3.1: no error where no token was shown."""
        error = {401: "invalid_token", 403: "insufficient_scope"}.get(self.status)
        if error is None:
            return None
        said = self.body["detail"].replace("\\", "").replace('"', "'")
        plain = "".join(one if " " <= one <= "~" else "?" for one in said)
        shown = self.body["type"] != f"{TAG}no-token"
        return {"WWW-Authenticate": f'Bearer error="{error}", error_description="{plain}"' if shown else "Bearer"}


async def as_problem(request: Request, fault: Exception) -> Response:
    """What every service answers when one of its handlers raises a Problem, or where there is no handler."""
    if isinstance(fault, Problem):
        return fault.response()
    if isinstance(fault, HTTPException):
        kinds = {404: "not-found", 405: "method-not-allowed"}
        details = {404: "nothing is here", 405: "this is not done here; `Allow` says what is"}
        kind = kinds.get(fault.status_code, "not-understood")
        found = Problem(fault.status_code, kind, details.get(fault.status_code, fault.detail)).response()
        found.headers.update(fault.headers or {})
        return found
    raise fault


HANDLERS: Mapping[Any, Any] = {Problem: as_problem, HTTPException: as_problem}
"""How a service answers what its handlers raise."""


def refused(refused_at: Sequence[str]) -> Problem:
    """Access is refused; which steps refuse is what a lab says and other services keep to themselves."""
    return Problem(403, "refused", "access is refused", refused_at=list(refused_at))

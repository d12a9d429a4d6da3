"""What is answered where a request is not done: a Status, as every client of a cluster reads it."""

from collections.abc import Mapping, Sequence
from typing import Any

from starlette.responses import JSONResponse, Response

from enthesis_lab.cluster.kinds import Served


class StatusRefusal(Exception):
    """An answer that is not a success, as a Status; `details` are what a client can act on."""

    def __init__(self, code: int, reason: str, message: str, details: Mapping[str, Any] | None = None) -> None:
        super().__init__(message)
        self.code = code
        self.reason = reason
        self.details = details

    def response(self) -> Response:
        """The refusal as a `Status` object."""
        body = {
            "kind": "Status", "apiVersion": "v1", "metadata": {}, "status": "Failure",
            "message": str(self), "reason": self.reason, "code": self.code,
            **({"details": self.details} if self.details else {}),
        }  # fmt: skip
        headers = {"WWW-Authenticate": "Bearer"} if self.code == 401 else None
        return JSONResponse(body, self.code, headers)


def bad(message: str) -> StatusRefusal:
    """400: the request cannot be understood."""
    return StatusRefusal(400, "BadRequest", message)


def not_found(served: Served, name: str) -> StatusRefusal:
    """404: there is no object of that name."""
    details = {"name": name, "group": served.group, "kind": served.plural}
    return StatusRefusal(404, "NotFound", f'{_thing(served)} "{name}" not found', details)


def no_such_resource() -> StatusRefusal:
    """404: nothing is served at that path."""
    return StatusRefusal(404, "NotFound", "the server could not find the requested resource")


def wrong_method() -> StatusRefusal:
    """405: the path does not take that method."""
    return StatusRefusal(405, "MethodNotAllowed", "the server does not allow this method on the requested resource")


def taken(served: Served, name: str) -> StatusRefusal:
    """409: there is an object of that name already."""
    details = {"name": name, "group": served.group, "kind": served.plural}
    return StatusRefusal(409, "AlreadyExists", f'{_thing(served)} "{name}" already exists', details)


def invalid(served: Served, name: str, faults: Sequence[tuple[str, str]]) -> StatusRefusal:
    """An object that is not well formed, with every fault by its field."""
    causes = [
        {"reason": f"FieldValue{what.partition(':')[0].removesuffix(' value').title().replace(' ', '')}",
         "message": what, "field": field}
        for field, what in faults
    ]  # fmt: skip
    told = "; ".join(f"{field}: {what}" for field, what in faults)
    details = {"name": name, "group": served.group, "kind": served.kind, "causes": causes}
    return StatusRefusal(422, "Invalid", f'{served.kind} "{name}" is invalid: {told}', details)


def _thing(served: Served) -> str:
    return f"{served.plural}.{served.group}" if served.group else served.plural

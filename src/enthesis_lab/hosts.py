"""The metadata service of every host of a cloud: says as whom a host runs, and hands out its sessions.

It stands in for a service at a link-local address, so it speaks plain HTTP on loopback. A host's own service is at the
host's address below its own word, which what runs there knows, or the word of the lab's owner; who knows one is taken
for the host.

    GET  /WORD/HOST/about      {"host": …, "identities": [{"address": …, "id": …}]}
    POST /WORD/HOST/session    {"identity": …}  ->  {"access_token", "expires_in", "renew_in", "identity", "host"}
"""

import hmac
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from enthesis_lab.administration import json_body
from enthesis_lab.cloud import CloudServer
from enthesis_lab.deciding import (
    LabCaller,
    LabSurroundings,
    World,
    account_of,
    attached,
    decide,
    exists,
    organisation_of,
    runs_as,
    session_end,
)
from enthesis_lab.faults import faults_of
from enthesis_lab.guarding import owner_only, owners_word
from enthesis_lab.problems import HANDLERS, Problem, refused
from enthesis_lab.running import host_word

REQUIRED = "asked-directly"  # a header that a page or a simple proxy does not send by itself
FORWARDING = ("forwarded", "via", "x-real-ip", "client-ip", "true-client-ip")
KINDS = ("cluster", "host", "pool", "function", "connector")


@dataclass(frozen=True)
class _Out:
    """A session that was handed out: its token, when it began and ends."""

    token: str
    began: float
    ends: float


class HostServer:
    """The services of all hosts of one cloud."""

    def __init__(self, cloud: CloudServer) -> None:
        self.cloud = cloud
        self._out: dict[tuple[str, str], _Out] = {}

    def app(self) -> Starlette:
        """The HTTP interface."""
        routes = [
            Route("/{owner}/{host:path}/about", self._about),
            Route("/{owner}/{host:path}/session", self._session, methods=["POST"]),
        ]
        return Starlette(routes=routes, exception_handlers=HANDLERS)

    def _host(self, request: Request) -> tuple[World, str]:
        """The host that asks, if it asks itself."""
        shown, address = request.path_params["owner"], request.path_params["host"]
        if not hmac.compare_digest(shown.encode(), host_word(owners_word(self.cloud.store), address).encode()):
            owner_only(self.cloud.store, shown)
        headers = request.headers
        carried = [header for header in headers if header in FORWARDING or header.startswith("x-forwarded-")]
        if carried:
            raise Problem(403, "forwarded", f"a request that was forwarded gets nothing here ({', '.join(carried)})")
        if headers.get(REQUIRED) != "yes":
            raise Problem(403, "not-asked-directly", f"a request without `{REQUIRED}: yes` gets nothing here")
        world = self.cloud.world()
        place = exists(world, address)
        mine = place is not None and world.inventory["accounts"][account_of(address)]["provider"] == self.cloud.name
        if place is None or place.kind not in KINDS or not mine:
            raise Problem(404, "not-found", "there is no such host", refused_at=["names"])
        return world, address

    async def _about(self, request: Request) -> Response:
        world, host = self._host(request)
        found = [{"address": statement.body["address"], "id": statement.id} for statement in runs_as(world, host)]
        return JSONResponse({"host": host, "identities": found})

    async def _session(self, request: Request) -> Response:
        """A session as the identity that the host runs as; which one must be said where there are several."""
        world, host = self._host(request)
        body = await json_body(request)
        named = [statement.body["address"] for statement in runs_as(world, host)]
        wanted = body.get("identity", named[0] if len(named) == 1 else None)
        if not isinstance(wanted, str):
            which = f"say as which: {', '.join(named)}" if named else "this host runs as no identity"
            raise Problem(422 if named else 403, "which-identity", which, refused_at=[] if named else ["target-side"])
        network, reference, narrowing = (body.get(name) for name in ("network", "reference", "narrowing"))
        if not isinstance(network, str | None) or not isinstance(reference, str | None):
            raise Problem(422, "not-understood", "`network` and `reference` are texts")
        if narrowing is not None and not _is_narrowing(narrowing):
            raise Problem(422, "not-understood", "`narrowing` maps kinds to lists of verbs")
        if wanted in named and self._runs_without(request, world, host, wanted):
            why = f"{host.rpartition('/')[2]} was started before the attachment"
            raise Problem(403, "refused", why, refused_at=["target-side"])
        around = LabSurroundings(self.cloud.clock.now(), network, reference)  # where a host is, a lab is told
        origin = {
            "kind": "host", "issuer": self.cloud.name, "address": host, "organisation": organisation_of(world, host),
        }  # fmt: skip
        caller = LabCaller("resource", host, provider=self.cloud.name, origin=origin)
        outcome = decide(world.having(wanted), caller, "take-on", wanted, around)
        self.cloud.noted(caller, "take-on", wanted, outcome, around)
        if not outcome.allowed:  # asked anew each time, so that nothing more is handed out once trust has gone
            raise refused(outcome.refused_at)
        out = self._out.get((host, wanted)) if narrowing is None else None
        longest = session_end(outcome, caller, around)
        old = out is None or around.now >= (out.began + out.ends) / 2 or out.ends > longest + 1
        if out is None or old or not self._is_current(world, out, wanted):
            token, life = self.cloud.session_for(world, caller, wanted, outcome, around, narrowing)
            out = _Out(token, around.now, around.now + life)
            if narrowing is None:
                self._out[host, wanted] = out
        return JSONResponse(self._handed(out, host, wanted, around.now), headers={"Cache-Control": "no-store"})

    def _runs_without(self, request: Request, world: World, host: str, identity: str) -> bool:
        """Whether a host keeps what it was started with, and all that attaches an identity to it came later."""
        started = [
            one.as_started for one in faults_of(self.cloud.store)
            if one.as_started and one.meets(f"{self.cloud.name}/hosts", account_of(host), request.url.path)
        ]  # fmt: skip
        if not started:
            return False
        every = [one.id for one, named in attached(world, host) if identity in [who.body["address"] for who in named]]
        written = [self.cloud.store.written_by(one) for one in every]
        return all(last is not None and last[1] > max(started) for last in written)

    def _is_current(self, world: World, out: _Out, identity: str) -> bool:
        """Whether a session that is out already is still of the identity that has this name now."""
        found = world.identity_at(identity)
        return found is not None and self.cloud.signer.verify(out.token, typ="at+jwt")["sub_id"] == found.id

    @staticmethod
    def _handed(out: _Out, host: str, identity: str, now: float) -> Mapping[str, Any]:
        return {
            "access_token": out.token,
            "token_type": "Bearer",
            "expires_in": int(out.ends - now),
            "renew_in": max(0, int((out.began + out.ends) / 2 - now)),
            "identity": identity,
            "host": host,
        }


def _is_narrowing(value: Any) -> bool:
    return isinstance(value, dict) and all(
        isinstance(verbs, list) and all(isinstance(verb, str) for verb in verbs) for verbs in value.values()
    )

"""A watch: what changes in a cluster from a version on, a line of JSON each, for as long as was asked for."""

import asyncio
import json
from collections.abc import AsyncIterator, Callable, Mapping
from dataclasses import dataclass
from typing import Any

from starlette.requests import Request

from enthesis_lab.cluster.kinds import Served
from enthesis_lab.cluster.objects import ObjectChange, Objects
from enthesis_lab.cluster.refusals import StatusRefusal, bad

USUAL, LONGEST = 60, 600  # seconds
STEP = 0.05  # seconds between two looks
Object = dict[str, Any]


@dataclass(frozen=True)
class Watching:
    """A watch of the objects of one kind that are chosen, shown as the client wants them."""

    objects: Objects
    served: Served
    namespace: str | None
    chooses: Callable[[Mapping[str, Any]], bool]
    shown: Callable[[Object], Object]

    def lines(self, request: Request) -> AsyncIterator[bytes]:
        """The events, from the version that is asked for. Refusal where that is too long ago, or no version."""
        query = request.query_params
        begun, seconds = query.get("resourceVersion") or "0", query.get("timeoutSeconds") or str(USUAL)
        if not begun.isdigit() or not seconds.isdigit():
            raise bad("resourceVersion and timeoutSeconds are numbers")
        if begun != "0" and int(begun) < self.objects.forgotten():
            raise StatusRefusal(410, "Expired", f"too old resource version: {begun} ({self.objects.forgotten()})")
        bookmarks = query.get("allowWatchBookmarks") in ("1", "true")
        return self._lines(request, int(begun), min(int(seconds), LONGEST), bookmarks=bookmarks)

    async def _lines(self, request: Request, version: int, seconds: int, *, bookmarks: bool) -> AsyncIterator[bytes]:
        if not version:
            version = self.objects.version()
            for entry in self.objects.listed(self.served, self.namespace)[0]:
                if self.chooses(entry):
                    yield _event("ADDED", self.shown(entry))
        ends = asyncio.get_running_loop().time() + seconds
        while asyncio.get_running_loop().time() < ends and not await request.is_disconnected():
            for change in self.objects.changes(self.served, self.namespace, version):
                version = change.version
                event = self._seen(change)
                if event is not None:
                    yield event
            await asyncio.sleep(STEP)
        if bookmarks:
            meta = {"resourceVersion": str(self.objects.version())}
            kind = {"kind": self.served.kind, "apiVersion": self.served.version}
            yield _event("BOOKMARK", {**kind, "metadata": meta})

    def _seen(self, change: ObjectChange) -> bytes | None:
        """A change as one who watches a choice sees it: what comes into it is added, what leaves it deleted."""
        was = change.before is not None and self.chooses(change.before)
        now = change.after is not None and self.chooses(change.after)
        if now and change.after is not None:
            return _event("MODIFIED" if was else "ADDED", self.shown(change.after))
        if was and change.before is not None:
            gone = {**change.before, "metadata": {**change.before["metadata"], "resourceVersion": str(change.version)}}
            return _event("DELETED", self.shown(gone))
        return None


def _event(kind: str, one: Object) -> bytes:
    return json.dumps({"type": kind, "object": one}).encode() + b"\n"

"""A cluster read on from an earlier survey: what changed since is watched for, and the rest is taken as it was.

Kubernetes documentation, "Kubernetes API Concepts", section "Efficient detection of changes": a watch from the version
of a list tells every change after it. Where a cluster no longer knows that version (410), it is read anew.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import orjson

from enthesis.connectors.cluster.resources import RBAC
from enthesis.connectors.cluster.surveying import (
    BINDINGS,
    GONE,
    NAMES_ONLY,
    ROLES,
    THINGS,
    Cluster,
    ClusterReading,
    paths_of,
)
from enthesis.connectors.http import understood
from enthesis.model.errors import InnerError
from enthesis.ports import Record

SECONDS = 1  # that a watch stays open: the least that can be asked for, after all that is known has been sent
ONE_NAME = NAMES_ONLY.replace("PartialObjectMetadataList", "PartialObjectMetadata")
CHANGES = ("ADDED", "MODIFIED", "DELETED")


class ReadAnew(InnerError):
    """An earlier survey cannot be read on from; the message says why."""

    inner_code = "survey-invalid"


@dataclass
class Refreshed:
    """A cluster, with what an earlier survey said of it: its records without the head, in their order."""

    cluster: Cluster
    earlier: Iterable[Record]
    say: Callable[[str], None] = field(default=lambda text: None)
    what: str = "cluster"

    def __post_init__(self) -> None:
        self.name, self.url = self.cluster.name, self.cluster.url

    @property
    def about(self) -> Record:
        """The line of a survey that describes the cluster."""
        return self.cluster.about

    @understood
    def records(self, step: Callable[[str], None]) -> Iterator[Record]:
        """Everything, as a survey from the beginning has it but for the order."""
        earlier = list(self.earlier)
        try:
            yield from self._read_on(earlier, step)
        except ReadAnew as why:
            self.say(f"{self.name} is read from the beginning: {why}.")
            yield from self.cluster.records(step)

    def _read_on(self, earlier: list[Record], step: Callable[[str], None]) -> Iterator[Record]:
        """Raises ReadAnew before the first record, or never."""
        if not earlier or "read_up_to" not in earlier[-1]:
            raise ReadAnew("the earlier survey does not say up to where it read")
        if any(entry.get("incomplete") for entry in earlier):
            raise ReadAnew("the earlier survey is not whole")
        *earlier, ends = earlier
        reading = ClusterReading(self.cluster, step, lambda meta: False)
        reading.discover()
        step("what changed")
        changed, access = self._changed(ends["read_up_to"])
        cut = next((at for at, one in enumerate(earlier) if one.get("section") == "kinds"), len(earlier))
        things, before = earlier[:cut], earlier[cut:]
        tokens = any(entry.get("section") == "credentials" and _owner(entry) in changed for entry in things)
        tokens |= any(entry.get("section") == "credentials" for listed in changed.values() for entry in listed)
        kept = [entry for entry in things if _owner(entry) not in changed]
        kept += [entry for listed in changed.values() for entry in listed]
        yield from kept
        if access or tokens or ends["resources"] != reading.resources.digest():
            self._know(reading, kept)
            yield from reading.access()
        else:
            yield from before
        yield reading.read_up_to()

    def _changed(self, versions: Mapping[str, str]) -> tuple[dict[str, list[Record]], bool]:
        """What became of each thing that changed, by its address; and whether anything changed about access."""
        watched: list[tuple[str, str, str]] = []
        for base, plurals in {"/api/v1": ("namespaces", *THINGS), f"/apis/{RBAC}/v1": (*ROLES, *BINDINGS)}.items():
            for plural in plurals:
                only = plural in ("namespaces", "serviceaccounts", "secrets")
                accept = ONE_NAME if only else "application/json"
                watched += [(path, plural, accept) for path in paths_of(self.cluster, base, plural)]
        needed = {path for path, plural, _ in watched if plural != "namespaces" or not self.cluster.only}
        if set(versions) != needed or not all(map(str.isdigit, versions.values())):
            raise ReadAnew("the earlier survey read other lists")
        self.cluster.versions = dict(versions)
        with ThreadPoolExecutor(len(watched)) as pool:
            found = list(pool.map(lambda one: self._events(one[0], versions.get(one[0], ""), one[2]), watched))
        changed: dict[str, list[Record]] = {}
        access, words = (
            False,
            ClusterReading(self.cluster, lambda what: None, lambda meta: False),
        )  # it only finds words
        for (_, plural, _), events in zip(watched, found, strict=True):
            access |= bool(events) and (plural in (*ROLES, *BINDINGS) or plural == "namespaces")
            if plural in (*ROLES, *BINDINGS):
                continue
            for kind, one in events:
                records = list(getattr(words, f"of_{plural}")(one))
                changed[str(records[0]["address"])] = [] if kind == "DELETED" else records
        return changed, access

    def _events(self, path: str, version: str, accept: str) -> list[tuple[str, dict[str, Any]]]:
        """What changed in a list after a version. ReadAnew where that is not known any more."""
        if not version:
            return []
        query = f"watch=true&resourceVersion={version}&timeoutSeconds={SECONDS}&allowWatchBookmarks=true"
        out: list[tuple[str, dict[str, Any]]] = []
        answer = self.cluster.answer(f"{path}?{query}", accept)
        if answer.status == GONE:
            raise ReadAnew(f"it no longer knows what {path} was")
        for line in self.cluster.client.expect(answer, 200).content.splitlines():
            event = orjson.loads(line)
            kind, one = event["type"], event["object"]
            if kind not in (*CHANGES, "BOOKMARK"):
                raise ReadAnew(f"it no longer knows what {path} was")
            self.cluster.versions[path] = str(one["metadata"]["resourceVersion"])
            if kind in CHANGES:
                out.append((kind, one))
        return out

    def _know(self, reading: ClusterReading, things: Iterable[Record]) -> None:
        """What the reading of access wants to know of things: the namespaces, and whose tokens secrets hold."""
        stem = f"{self.cluster.address}/namespace/"
        for entry in things:
            address = str(entry.get("address", ""))
            if entry.get("section") == "resources" and address.startswith(stem) and "/" not in address[len(stem) :]:
                reading.namespaces.append(address[len(stem) :])
            elif entry.get("section") == "credentials":
                namespace, _, secret = str(entry["name"]).partition("/")
                whose = str(entry["of"]).rsplit("/", 1)[1]
                reading.token_secrets.setdefault(namespace, {})[secret] = whose


def _owner(record: Record) -> str:
    """The address of the thing that a record is about."""
    held = record.get("held_in") or [""]
    return str(
        record.get("address")
        or record.get("at")
        or (held[0] if record.get("section") == "credentials" else record.get("of"))
    )

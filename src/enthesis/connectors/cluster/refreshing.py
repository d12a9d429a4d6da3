"""A cluster read on from an earlier survey: what changed since is watched for, and the rest is taken as it was.

Kubernetes documentation, "Kubernetes API Concepts", section "Efficient detection of changes": a watch from the version
of a list tells every change after it. Where a cluster no longer knows that version (410), it is read anew.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

from msgspec import ValidationError, convert
from msgspec.json import decode

from enthesis.connectors.cluster.objects import OBJECTS
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
    plain,
)
from enthesis.connectors.http import understood
from enthesis.model.errors import InnerError, RightMissing
from enthesis.ports import Record

SECONDS = 1  # that a watch stays open: the least that can be asked for, after all that is known has been sent
ONE_NAME = NAMES_ONLY.replace("PartialObjectMetadataList", "PartialObjectMetadata")
AT_ONCE = 64  # watches
OF_NAMES = ("namespaces", "serviceaccounts", "secrets")
CHANGES = ("ADDED", "MODIFIED", "DELETED")
Events = list[tuple[str, dict[str, Any]]]
"""The kind of each change, and the object that changed."""


class ReadAnew(InnerError):
    """An earlier survey cannot be read on from; the message says why."""

    inner_code = "survey-invalid"


@dataclass
class Refreshed:
    """A cluster, with what an earlier survey said of it: its records without the head, in their order. `ends` is the
    last of them, and `earlier` those before, which are wanted while the cluster is asked."""

    cluster: Cluster
    ends: Record
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
        try:
            yield from self._read_on(step)
        except ReadAnew as why:
            self.say(f"{self.name} is read from the beginning: {why}.")
            yield from self.cluster.records(step)

    def _read_on(self, step: Callable[[str], None]) -> Iterator[Record]:
        """Raises ReadAnew before the first record, or never."""
        if "read_up_to" not in self.ends:
            raise ReadAnew("the earlier survey does not say up to where it read")
        reading = ClusterReading(self.cluster, step, lambda meta: False)
        step("what changed")
        watched = self._watched(self.ends["read_up_to"])
        with ThreadPoolExecutor(min(len(watched), AT_ONCE)) as pool:
            coming = [(plural, pool.submit(self._events, path, plural)) for path, plural in watched]
            reading.discover()
            earlier = list(self.earlier)
            if any(entry.get("incomplete") for entry in earlier):
                raise ReadAnew("the earlier survey is not whole")
            if self.ends.get("listed_of") != _counted(earlier):
                raise ReadAnew("the earlier survey does not list all roles and bindings")
            told = [(plural, events.result()) for plural, events in coming]
        cut = next((at for at, one in enumerate(earlier) if "listed" in one), len(earlier))
        things, access = earlier[:cut], earlier[cut:]
        changed = self._changed_things(told)
        tokens = any(entry.get("section") == "credentials" and _owner(entry) in changed for entry in things)
        tokens |= any(entry.get("section") == "credentials" for listed in changed.values() for entry in listed)
        kept = [entry for entry in things if _owner(entry) not in changed]
        kept += [entry for listed in changed.values() for entry in listed]
        yield from kept
        of_access = any(
            events for plural, events in told if plural in (*ROLES, *BINDINGS, "namespaces", "serviceaccounts")
        )
        of_access |= any(_has_more(entry) for entry in (*things, *kept) if _owner(entry) in changed)
        if of_access or tokens or self.ends["resources"] != reading.resources.digest():
            self._know(reading, kept)
            reading.as_listed = _as_listed(access, told)
            yield from reading.access()
        else:
            reading.listed.update(self.ends["listed_of"])
            yield from access
        yield reading.read_up_to()

    def _watched(self, versions: Mapping[str, str]) -> list[tuple[str, str]]:
        """The path and the plural of each list that was read. ReadAnew where the survey read others."""
        out: list[tuple[str, str]] = []
        for base, plurals in {"/api/v1": ("namespaces", *THINGS), f"/apis/{RBAC}/v1": (*ROLES, *BINDINGS)}.items():
            for plural in plurals:
                if plural != "namespaces" or not self.cluster.only:
                    out += [(path, plural) for path in paths_of(self.cluster, base, plural)]
        if set(versions) != {path for path, _ in out} or not all(map(str.isdigit, versions.values())):
            raise ReadAnew("the earlier survey read other lists")
        self.cluster.versions = dict(versions)
        return out

    def _events(self, path: str, plural: str) -> Events:
        """What changed in a list since it was read. ReadAnew where the cluster does not know that any more."""
        version = self.cluster.versions[path]
        query = f"watch=true&resourceVersion={version}&timeoutSeconds={SECONDS}&allowWatchBookmarks=true"
        out: Events = []
        try:
            answer = self.cluster.answer(f"{path}?{query}", ONE_NAME if plural in OF_NAMES else "application/json")
        except RightMissing:
            raise ReadAnew(f"we may not watch {path}") from None
        if answer.status == GONE:
            raise ReadAnew(f"it no longer knows what {path} was")
        for line in self.cluster.client.expect(answer, 200).content.splitlines():
            event = decode(line)
            kind, one = event["type"], event["object"]
            if kind not in (*CHANGES, "BOOKMARK"):
                raise ReadAnew(f"it no longer knows what {path} was")
            self.cluster.versions[path] = str(one["metadata"]["resourceVersion"])
            if kind in CHANGES:
                try:
                    out.append((kind, convert(one, OBJECTS[plural])))
                except ValidationError as fault:
                    raise ReadAnew(f"it told of a change in {path} that is not understood") from fault
        return out

    def _changed_things(self, told: Iterable[tuple[str, Events]]) -> dict[str, list[Record]]:
        """What became of each thing that changed, by its address: nothing of what is gone."""
        changed: dict[str, list[Record]] = {}
        words = ClusterReading(self.cluster, lambda what: None, lambda meta: False)  # it only finds words
        for plural, events in told:
            if plural in (*ROLES, *BINDINGS):
                continue
            for kind, one in events:
                records = list(getattr(words, f"of_{plural}")(one))
                changed[str(records[0]["address"])] = [] if kind == "DELETED" else records
        return changed

    def _know(self, reading: ClusterReading, things: Iterable[Record]) -> None:
        """What the reading of access wants to know of things: the namespaces, and whose tokens secrets hold."""
        stem = f"{self.cluster.address}/namespace/"
        for entry in things:
            address = str(entry.get("address", ""))
            if entry.get("section") == "resources" and address.startswith(stem) and "/" not in address[len(stem) :]:
                reading.namespaces.append(address[len(stem) :])
                reading.know_namespace(address[len(stem) :], entry.get("labels") or {})
            elif entry.get("section") == "resources" and "/workload/" in address:
                reading.know_workload(entry)
            elif entry.get("section") == "identities" and address.startswith(stem):
                reading.subjects.there.add(address)
            elif entry.get("section") == "credentials":
                namespace, _, secret = str(entry["name"]).partition("/")
                whose = str(entry["of"]).rsplit("/", 1)[1]
                reading.token_secrets.setdefault(namespace, {})[secret] = whose


def _has_more(record: Record) -> bool:
    """Whether something that runs takes from secrets or has its node, which counts for who may enter it."""
    return record.get("section") == "resources" and "/workload/" in str(record.get("address")) and "live" in record


def _counted(earlier: Iterable[Record]) -> dict[str, int]:
    """How many roles and bindings an earlier survey lists, by their plural."""
    out: Counter[str] = Counter()
    for record in earlier:
        if "listed" in record:
            out[str(record["listed"])] += len(record["objects"])
    return dict(out)


def _as_listed(access: Iterable[Record], told: Iterable[tuple[str, Events]]) -> dict[str, list[Record]]:
    """The roles and bindings that an earlier survey lists, with what changed since."""
    found: dict[str, dict[tuple[str, str], Record]] = {plural: {} for plural in (*ROLES, *BINDINGS)}
    for record in access:
        for one in record.get("objects") or ():
            found[record["listed"]][_called(one)] = one
    for plural, events in told:
        for kind, one in events if plural in found else ():
            if kind == "DELETED":
                found[plural].pop(_called(one), None)
            else:
                found[plural][_called(one)] = plain(one)
    return {plural: list(of_it.values()) for plural, of_it in found.items()}


def _called(one: Mapping[str, Any]) -> tuple[str, str]:
    return one["metadata"].get("namespace") or "", one["metadata"]["name"]


def _owner(record: Record) -> str:
    """The address of the thing that a record is about."""
    held = record.get("held_in") or [""]
    return str(
        record.get("address")
        or record.get("at")
        or (held[0] if record.get("section") == "credentials" else record.get("of"))
    )

"""The keyless ways into an identity: those that it has, and those that its estate is a line or two away from."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from enthesis.files.writing import plain_statement
from enthesis.model.addresses import pool_of, service_account_subject
from enthesis.model.escapes import word
from enthesis.model.estate import Estate, PipelineAccess
from enthesis.model.file_errors import Source
from enthesis.model.sentences import admitted

KEYLESS = ("token", "attached", "certificate", "assertion")
ATTACHABLE = ("host", "pool", "function", "connector")  # kinds with a metadata service of their own


@dataclass(frozen=True, slots=True)
class KeylessWay:
    """A keyless way. `entries` are the lines that the estate lacks for it, by section; `hint` says how to write them,
    where the estate does not know enough. None of both where it has it already."""

    says: str
    entries: tuple[tuple[str, dict[str, Any]], ...] = ()
    source: Source | None = None
    hint: str = ""

    @property
    def is_there(self) -> bool:
        """Whether the way works already, without any new entry."""
        return not self.entries and not self.hint


def keyless_ways(estate: Estate, identity: str, now: datetime) -> list[KeylessWay]:
    """The ways there are at an instant first, then those that are near: by what runs as it, pipeline access, where keys
    are held."""
    there = [
        KeylessWay(f"it admits {admitted(plain_statement('trusts', trust)['admits'])}", (), trust.source)
        for trust in estate.trusts
        if trust.of == identity and trust.admits.form in KEYLESS and trust.in_force(now)
    ]
    if identity in estate.identities and estate.identities[identity].is_person:
        organisation = estate.organisations.get(estate.organisation_of(identity))
        if organisation is not None and organisation.directory is not None:
            return [
                KeylessWay(
                    f"people of @{organisation.name} sign in: enthesis sign-in --organisation {word(organisation.name)}"
                )
            ]
        return [KeylessWay("people sign in", hint=f"write where: directory, at the organisation of {identity}")]
    near: dict[str, KeylessWay] = {}
    for way in (
        *_by_what_runs(estate, identity),
        *_by_pipeline_access(estate, identity),
        *_by_holders(estate, identity),
    ):
        near.setdefault(repr(way.entries) + way.hint, way)
    has = [plain_statement("trusts", trust) for trust in estate.trusts if trust.of == identity]
    lacking = [way for way in near.values() if not any(_says_so(has, entry) for _, entry in way.entries)]
    return [*there, *lacking]


def _says_so(has: list[dict[str, Any]], entry: dict[str, Any]) -> bool:
    return any(body["admits"] == entry.get("admits") for body in has)


def _by_what_runs(estate: Estate, identity: str) -> Iterator[KeylessWay]:
    running = [address for address, one in estate.resources.items() if identity in one.runs_as]
    running += [
        str(attachment.what)
        for attachment in estate.attachments
        if identity in attachment.runs_as and isinstance(attachment.what, str)
    ]
    if running:
        entry = {"of": identity, "admits": {"attached": True}, "session": "1h"}
        yield KeylessWay(f"{running[0]} runs as it, and takes it on by its metadata service", (("trusts", entry),))


def _by_pipeline_access(estate: Estate, identity: str) -> Iterator[KeylessWay]:
    for access in estate.pipeline_access.values():
        if access.of == identity:
            yield KeylessWay(
                f"the runs that may use {access.name} show their own token",
                (("trusts", keyless_trust(estate, access)),),
            )


def _by_holders(estate: Estate, identity: str) -> Iterator[KeylessWay]:
    """Where its keys are held: a host can run as it, a workload of a cluster and a run show tokens of their own."""

    for credential in estate.credentials.values():
        for place in credential.held_at if credential.of == identity else ():
            yield from ways_of_place(estate, identity, place)


def ways_of_place(
    estate: Estate, identity: str, place: str, subjects: Iterable[str] | None = None
) -> Iterator[KeylessWay]:
    """How what runs at a place can take on an identity by itself: a host, a pool, a service account of a cluster, or
    the runs of an issuer; of these the `subjects`, or those that journeys show."""
    parts = place.split("/")
    issuer = next((issuer for issuer in estate.issuers.values() if issuer.cluster == "/".join(parts[:3])), None)
    if place in estate.issuers:
        yield from _by_runs(estate, identity, place, shown_subjects(estate, identity, place, subjects))
    elif issuer is not None and len(parts) > 6 and parts[5] == "identity":
        claims = {"sub": service_account_subject(place), "aud": estate.system_of(identity)}
        entry = {"of": identity, "admits": {"token": issuer.name, "claims": claims}, "session": "15m"}
        yield KeylessWay(f"{place} shows the token that its cluster gives it", (("trusts", entry),))
    elif place in estate.resources and parts[1] in ATTACHABLE:
        pool = pool_of(place)  # members come and go: their pool is what a statement names
        runs = {"what": pool or place, "runs_as": identity}
        entry = {"of": identity, "admits": {"attached": pool or place}, "session": "1h"}
        says = f"{place} runs as it, and takes it on by its metadata service"
        yield KeylessWay(says, (("attachments", runs), ("trusts", entry)))


def shown_subjects(estate: Estate, identity: str, issuer: str, subjects: Iterable[str] | None = None) -> list[str]:
    """The subjects of the runs that are meant: those given, else those of journeys that take on the identity."""
    if subjects is not None:
        return sorted(set(subjects))
    shown = {
        sub
        for journey in estate.journeys.values()
        if (journey.origin.form, journey.origin.whom, journey.expect) == ("token", issuer, "allowed")
        and any(hop.identity == identity for hop in journey.through)
        if isinstance(sub := journey.origin.shows.get("sub"), str)
    }
    return sorted(shown)


def _by_runs(estate: Estate, identity: str, issuer: str, subjects: list[str]) -> Iterator[KeylessWay]:
    """The runs of a pipeline service with these subjects; where there is none, how to find out."""
    says = f"runs at {issuer} show their own token"
    for sub in subjects:
        claims = {"sub": sub, "aud": estate.system_of(identity)}
        yield KeylessWay(
            f"the run {sub} shows its own token",
            (("trusts", {"of": identity, "admits": {"token": issuer, "claims": claims}, "session": "15m"}),),
        )
    if not subjects:
        yield KeylessWay(
            says, hint="`enthesis admit --from-token FILE` writes the trust for just the run that needs it"
        )


# -- pipeline access --------------------------------------------------------------------------------------------------


def keyless_trust(estate: Estate, access: PipelineAccess) -> dict[str, Any]:
    """The trust that makes pipeline access unnecessary: on the token of the very runs that may use it."""
    claims = plain_statement("pipeline_access", access)["admits"]
    claims = claims if "aud" in claims else {**claims, "aud": estate.system_of(access.of)}
    return {"of": access.of, "admits": {"token": access.at, "claims": claims}, "session": "15m"}


def other_ways(estate: Estate, access: PipelineAccess) -> tuple[str, ...]:
    """What works for a run of another organisation, which can use no pipeline access of ours."""
    return (
        f"a trust of {access.of} in the other organisation's own issuer, with `reference` agreed between both",
        "one secret in one store that both organisations may read, rather than one copy each",
    )

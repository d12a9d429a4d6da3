"""From keyed to keyless: where each keyed credential stands on its way, what its next safe step is, and what it lacks.

The stages are planned, keyless (the way is in place live), proved (it was tried live), idle (the key has not been used
since), disabled, and deleted. A key that was used since its keyless way was proved is never disabled.
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any

from enthesis.access.attributes import kind_name
from enthesis.access.compiling import Compiled, compile_estate
from enthesis.access.names.standing import why_shut
from enthesis.access.questions import Question
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import USE_KEY, Chains
from enthesis.chains.invariants import decide
from enthesis.cleaning.needs import declared_place, flat
from enthesis.conditions.patterns import matches
from enthesis.files.editing import Addition, Edit, Replacement
from enthesis.files.writing import plain_statement
from enthesis.model.addresses import account_of, service_account_subject
from enthesis.model.conditions import Glob
from enthesis.model.estate import (
    Accepted,
    Attempt,
    Context,
    Credential,
    Elsewhere,
    Estate,
    Grant,
    Hop,
    Origin,
    Retiring,
    boundary_of,
)
from enthesis.model.vocabulary import RETIRING, Form, Holding
from enthesis.proposals.credentials import Credentialed
from enthesis.surveys.statements import statement_key
from enthesis.text.times import duration_text, time_from, time_text
from enthesis.trusts.keyless import KeylessWay, shown_subjects, ways_of_place
from enthesis.verdicts.judge import Judge

PLANNED, KEYLESS, PROVED, IDLE, DISABLED, DELETED = RETIRING
FOLLOWING = dict(pairwise(RETIRING))
STEP_OF = {
    PLANNED: "describe or find the keyless way",
    KEYLESS: "prove the keyless way live",
    PROVED: "note that the key is idle",
    IDLE: "disable the key",
    DISABLED: "delete the key",
}

Use = tuple[str, str]
"""A verb and a target."""
MOST_ACCEPTED = 20  # callers that break one invariant by way of keys


@dataclass(frozen=True, slots=True)
class RetiringBounds:
    """How long a key must have been idle before it is disabled, and how long a disabled key is kept."""

    idle: timedelta = timedelta(days=14)
    keep: timedelta = timedelta(days=30)


@dataclass(frozen=True, slots=True)
class Holder:
    """Where a key is held, and the origins that what runs there has without it; `hint` where none is known."""

    place: str
    origins: tuple[Origin, ...] = ()
    hint: str = ""


@dataclass(frozen=True, slots=True)
class Standing:
    """One keyed credential on its way. `stage` is '' where it is not on one. `does` says the next step, '' at the end,
    and `to` the stage that it leads to, which is its own where only the files change. `waits` says what the step waits
    for, '' where it is ready. `takes_on` is the identity that replaces the key, and `split` why that is not
    the one of the key; `holders` have the origins that take it on. `edits` describe the way where the files lack it."""

    name: str
    of: str
    form: str
    stage: str = ""
    since: datetime | None = None
    does: str = ""
    to: str = ""
    waits: str = ""
    takes_on: str = ""
    holders: tuple[Holder, ...] = ()
    split: tuple[str, ...] = ()
    edits: tuple[Edit, ...] = ()
    uses: tuple[Use, ...] = ()
    kept: Credentialed | None = None
    source: str = ""

    @property
    def ready(self) -> bool:
        """Whether the next step can be done now."""
        return bool(self.does) and not self.waits

    @property
    def origins(self) -> tuple[Origin, ...]:
        """The origins of everything that holds the credential."""
        return tuple(origin for holder in self.holders for origin in holder.origins)


@dataclass(frozen=True, slots=True)
class LiveKeys:
    """What is known beside the files: the estate as it is live and the keys it keeps, by the names that the files have
    for them (None where no live system was asked), and what recorded use says each key did, None without a log, with
    when it last did."""

    now: datetime
    live: Estate | None = None
    keys: Mapping[str, Credentialed] | None = None
    used: Mapping[str, Mapping[Use, float]] | None = None
    bounds: RetiringBounds = RetiringBounds()


def standings(estate: Estate, names: Iterable[str], known: LiveKeys) -> list[Standing]:
    """Where credentials stand, in the order of their names."""
    looking = _StandingSearch(estate, known)
    return [looking.standing(name) for name in sorted(set(names))]


def candidates(estate: Estate, known: LiveKeys) -> list[str]:
    """The keyed credentials that work, as far as is known, and are on no way yet."""
    out = []
    compiled = compile_estate(estate)
    for name, one in estate.credentials.items():
        gone = known.keys is not None and (name not in known.keys or known.keys[name].disabled)
        if name not in estate.retiring and not gone and not why_shut(compiled, one, known.now):
            out.append(name)
    return out


def stage_edits(estate: Estate, name: str, stage: str, now: datetime, **more: Any) -> list[Edit]:
    """The edits that write down a stage; '' takes the credential off its way. `more` are other fields, None for out."""
    found = estate.retiring.get(name)
    if found is None:
        said = {name: value for name, value in more.items() if value is not None}
        return [Addition("retiring", name, {"stage": stage, "since": time_text(now), **said})]
    fields = {"stage": stage, "since": time_text(now), **more}
    return [Replacement.at(found.source, (at,), to) for at, to in fields.items()]


def disabled_edits(estate: Estate, name: str, *, disabled: bool) -> list[Edit]:
    """The edit that describes a credential as disabled, or as working."""
    found = estate.credentials.get(name)
    if found is None or found.disabled == disabled:
        return []
    at = found.source
    return [Replacement.at(at, ("disabled",), True if disabled else None)]


class _StandingSearch:
    """Looks at one credential after the other, with both estates compiled once."""

    def __init__(self, estate: Estate, known: LiveKeys) -> None:
        self.estate = estate
        self.known = known
        self.compiled = compile_estate(estate)
        self.judge = Judge(self.compiled)
        self.live = Judge(compile_estate(known.live)) if known.live is not None else None
        self.taken = set(estate.identities)

    def standing(self, name: str) -> Standing:
        credential = self.estate.credentials.get(name)
        retiring = self.estate.retiring.get(name)
        if credential is None:
            at = retiring or Retiring(name, "")
            return Standing(name, "", "", at.stage, at.since, source=str(at.source))
        kept = self.known.keys.get(name) if self.known.keys is not None else None
        uses = tuple(sorted((self.known.used or {}).get(name, {})))
        takes_on = (retiring.identity if retiring is not None else None) or credential.of
        holders = tuple(_holders(self.estate, credential, takes_on))
        found = Standing(
            name, credential.of, credential.form, retiring.stage if retiring else "",
            retiring.since if retiring else None, takes_on=takes_on, holders=holders, uses=uses, kept=kept,
            source=str(credential.source),
        )  # fmt: skip
        if retiring is None or retiring.stage == DELETED:
            return found
        found = replace(found, does=STEP_OF[retiring.stage], to=FOLLOWING[retiring.stage])
        if retiring.stage == PLANNED:
            return self._planned(credential, retiring, found)
        return self._with_key(retiring, found)

    # -- the keyless way ------------------------------------------------------------------------------------------

    def _planned(self, credential: Credential, retiring: Retiring, found: Standing) -> Standing:
        """The lines that the files lack for the keyless way; else whether it is in place live."""
        hints = [holder.hint for holder in found.holders if holder.hint]
        if not found.holders:
            return replace(found, waits="nothing says where it is held: write `held_in`")
        if hints:
            return replace(found, waits=hints[0])
        split: tuple[str, ...] = ()
        edits: list[Edit] = []
        if retiring.identity is None and not credential.of.startswith("@"):
            split = tuple(_other_work(self.estate, credential, found.origins))
        if split:
            if not found.uses:
                lacks = "no log says" if self.known.used is None else "the log does not say"
                waits = f"{credential.of} also does other work ({split[0]}), and {lacks} what this key is used for"
                return replace(found, split=split, waits=f"{waits}: --usage FILE")
            takes_on = _fresh_name(self.taken, credential)
            self.taken.add(takes_on)
            edits += _split(self.compiled, self.judge, credential, takes_on, found.uses, self.known.now)
            edits += stage_edits(self.estate, credential.name, PLANNED, self.known.now, identity=takes_on)
            holders = tuple(_holders(self.estate, credential, takes_on))
            found = replace(found, split=split, takes_on=takes_on, holders=holders)
        edits += self._lines(found)
        if edits:
            return replace(found, edits=tuple(edits), does="describe the keyless way in the files", to=PLANNED)
        refused = self._refused(self.judge, found)
        if refused:
            return replace(found, waits=f"it is described and refused all the same: {refused}")
        does = "note that the keyless way is in place"
        if self.live is None:
            return replace(found, does=does, waits="no live system was asked")
        if self._refused(self.live, found):
            return replace(found, does=does, waits="the way is not in place live yet: enthesis propose, enthesis enact")
        return replace(found, does=does)

    def _lines(self, found: Standing) -> list[Edit]:
        """What the files lack so that every holder takes on the identity by itself; the narrowest that does."""
        out: dict[str, Addition] = {}
        for holder in found.holders:
            if found.takes_on in self.estate.identities and all(
                not self._refused(self.judge, found, origin) for origin in holder.origins
            ):
                continue
            for way in _ways(self.estate, found, holder):
                for section, entry in way.entries:
                    if not _is_said(self.estate, section, entry):
                        out.setdefault(repr((section, entry)), Addition(section, "", entry))
        return _one_of_each(self.estate, list(out.values()), found.name)

    def _refused(self, judge: Judge, found: Standing, only: Origin | None = None) -> str:
        """Who of the origins cannot take the identity on, and where it is refused; '' where all can."""
        for origin in found.origins if only is None else (only,):
            question = Question(origin, (Hop(found.takes_on),), None, Context(), self.known.now)
            verdict = judge.judge(question)
            if not verdict.allowed:
                return f"{origin.whom} at {', '.join(verdict.refused_at)}"
        return ""

    # -- the key --------------------------------------------------------------------------------------------------

    def _with_key(self, retiring: Retiring, found: Standing) -> Standing:
        """The next step once the keyless way is in place, and what it waits for."""
        now, bounds = self.known.now, self.known.bounds
        since = retiring.since or now
        if self.known.keys is None:
            return replace(found, waits="no live system was asked")
        if found.kept is None and retiring.stage != DISABLED:
            return replace(found, waits="no live system has this key: enthesis credential lists those there are")
        if retiring.stage == DISABLED:
            until = since + bounds.keep
            waits = f"disabled for {duration_text(bounds.keep)}, at {time_text(until)}" if now < until else ""
            return replace(found, waits=waits)
        if retiring.stage not in (PROVED, IDLE):
            return found
        used = last_use(found, self.known)
        proved = retiring.proved or since
        idle_at = (used or proved) + bounds.idle
        if used is not None and used >= proved:
            found = replace(found, does="prove the keyless way again", to=PROVED)
            if now < idle_at:
                told = f"used on {time_text(used)}, since the keyless way was proved: find what still uses it"
                return replace(found, waits=f"{told}; idle at {time_text(idle_at)}")
            return found
        if now < idle_at:
            return replace(found, waits=f"not used for {duration_text(bounds.idle)}, at {time_text(idle_at)}")
        return found


def last_use(found: Standing, known: LiveKeys) -> datetime | None:
    """When a key was used last, as what keeps it says, and the log; None where it never was, as far as is known."""
    kept = time_from(found.kept.last_used) if found.kept is not None and found.kept.last_used else None
    logged = (datetime.fromtimestamp(int(at), UTC) for at in (known.used or {}).get(found.name, {}).values())
    return max((at for at in (kept, *logged) if at is not None), default=None)


def _one_of_each(estate: Estate, added: Sequence[Addition], key: str) -> list[Edit]:
    """Additions of which no two are one statement: trusts of an identity in the runs of one issuer are put together, by
    all of their subjects; one that the estate has another of gets a name of its own."""
    there = {statement_key("trusts", plain_statement("trusts", one)) for one in estate.trusts}
    out: list[Edit] = [one for one in added if one.section != "trusts"]
    alike: dict[str, list[Mapping[str, Any]]] = {}
    for one in added:
        if one.section == "trusts":
            alike.setdefault(statement_key("trusts", one.entry), []).append(one.entry)
    for known_by, entries in alike.items():
        first = dict(entries[0])
        subjects = [one["admits"]["claims"]["sub"] for one in entries if "claims" in one["admits"]]
        if len(subjects) > 1:
            claims = {**first["admits"]["claims"], "sub": sorted(subjects)}
            first["admits"] = {**first["admits"], "claims": claims}
        named = {"name": f"instead-of-{key}"} if known_by in there else {}
        out.append(Addition("trusts", "", {**named, **first}))
    return out


# -- who holds a key ------------------------------------------------------------------------------------------------


def _holders(estate: Estate, credential: Credential, identity: str) -> Iterator[Holder]:
    """Each place where a credential is held, with what runs there."""
    if credential.of.startswith("@"):
        yield Holder(credential.of, (Origin(Form.PERSON, credential.of, mfa=True, mfa_said=True),))
        return
    for place in credential.held_in:
        if isinstance(place, Elsewhere):
            yield Holder(place.words, hint=f"what is held in {place.words} has no keyless way that is known here")
        else:
            yield _holder(estate, credential, identity, place)


def _holder(estate: Estate, credential: Credential, identity: str, place: str) -> Holder:
    parts = place.split("/")
    if place in estate.issuers:
        subjects = _subjects(estate, credential, place) or shown_subjects(estate, identity, place)
        if not subjects:
            return Holder(
                place, hint=f"which runs at {place} use it is not said: write a journey of one, from its token"
            )
        shows = [{"sub": sub, "aud": estate.system_of(identity)} for sub in subjects]
        return Holder(place, tuple(Origin(Form.TOKEN, place, each) for each in shows))
    issuer = next((issuer for issuer in estate.issuers.values() if issuer.cluster == "/".join(parts[:3])), None)
    if issuer is not None and len(parts) > 6 and parts[5] == "identity":
        claims = {"sub": service_account_subject(place), "aud": estate.system_of(identity)}
        return Holder(place, (Origin(Form.TOKEN, issuer.name, claims),))
    kind = parts[1] if len(parts) > 2 else ""
    if place in estate.resources and kind == "pool":
        members = [resource for resource in estate.resources if resource.startswith(f"{place}/host/")]
        if not members:
            return Holder(place, hint=f"{place} has no member to try it from: name one in `resources`")
        return Holder(place, tuple(Origin(Form.HOST, member) for member in members))
    if place in estate.resources and any(True for _ in ways_of_place(estate, identity, place)):
        return Holder(place, (Origin(Form.HOST, place),))
    return Holder(place, hint=f"what is held in {place} has no keyless way that is known here")


def _subjects(estate: Estate, credential: Credential, issuer: str) -> list[str]:
    """The very runs that may use a credential by pipeline access; none where a pattern lets many."""
    out: set[str] = set()
    for access in estate.pipeline_access.values():
        if access.credential != credential.name or access.at != issuer:
            continue
        said = plain_statement("pipeline_access", access)["admits"].get("sub")
        listed = [said] if isinstance(said, str) else said if isinstance(said, list) else []
        out |= {name for name in listed if isinstance(name, str)}
    return sorted(out)


def _ways(estate: Estate, found: Standing, holder: Holder) -> Iterator[KeylessWay]:
    subjects = [
        str(origin.shows["sub"]) for origin in holder.origins if origin.whom == holder.place and "sub" in origin.shows
    ]
    yield from ways_of_place(estate, found.takes_on, holder.place, subjects or None)


def _is_said(estate: Estate, section: str, entry: Mapping[str, Any]) -> bool:
    """Whether the estate has an entry already."""
    if section == "attachments":
        found = estate.resources.get(str(entry["what"]))
        if found is not None and entry["runs_as"] in found.runs_as:
            return True
        return any(
            _covers(attachment.what, str(entry["what"])) and entry["runs_as"] in attachment.runs_as
            for attachment in estate.attachments
        )
    said = (plain_statement("trusts", trust) for trust in estate.trusts if trust.of == entry["of"])
    return any(body["admits"] == entry["admits"] for body in said)


def _covers(what: str | Glob, address: str) -> bool:
    return matches(what.pattern, address) if isinstance(what, Glob) else what == address


# -- an identity of its own -----------------------------------------------------------------------------------------


def _other_work(estate: Estate, credential: Credential, origins: Sequence[Origin]) -> Iterator[str]:
    """What else an identity is for than the holders of a key; nothing where it is theirs alone."""
    held = set(credential.held_at)
    identity = credential.of
    for keyed in estate.credentials.values():
        if (
            keyed.of == identity
            and keyed.name != credential.name
            and not keyed.disabled
            and not held & set(keyed.held_at)
        ):
            yield f"the credential {keyed.name}"
    for access in estate.pipeline_access.values():
        if access.of == identity and access.credential != credential.name:
            yield f"the pipeline access {access.name}"
    for resource in estate.resources.values():
        if identity in resource.runs_as and not any(_is_in(resource.address, place) for place in held):
            yield f"{resource.address} runs as it"
    for attachment in estate.attachments:
        what = attachment.what.pattern if isinstance(attachment.what, Glob) else attachment.what
        if identity in attachment.runs_as and not any(_is_in(what, place) for place in held):
            yield f"{what} runs as it"
    subjects = {str(origin.shows.get("sub")) for origin in origins if origin.form == Form.TOKEN}
    for trust in estate.trusts:
        if trust.of != identity or trust.admits.form == Form.ATTACHED:
            continue
        said = plain_statement("trusts", trust)["admits"]
        if trust.admits.form == Form.TOKEN and said.get("claims", {}).get("sub") in subjects:
            continue
        yield f"its trust admits {trust.admits.form} {trust.admits.whom}"


def _is_in(address: str, place: str) -> bool:
    return address == place or address.startswith(f"{place}/")


def _fresh_name(taken: Iterable[str], credential: Credential) -> str:
    """The address of an identity for what one key did."""
    stem = f"{credential.of}-{re.sub(r'[^A-Za-z0-9.-]+', '-', credential.name).strip('-')}"
    name, number = stem, 2
    while name in taken:
        name, number = f"{stem}-{number}", number + 1
    return name


def _split(
    compiled: Compiled, judge: Judge, credential: Credential, identity: str, uses: Sequence[Use], now: datetime
) -> list[Edit]:
    """An identity that may do what a key was used for, by the same grants and trusts, and nothing else."""
    estate = compiled.estate
    of = estate.identities[credential.of]
    entry = {"kind": of.kind, "owner": of.owner, "purpose": f"what {credential.name} of {credential.of} was used for"}
    out: list[Edit] = [Addition("identities", identity, {name: said for name, said in entry.items() if said})]
    wanted: dict[tuple[int, str], set[tuple[str, str]]] = {}
    trusts: dict[int, None] = {}
    for verb, target in uses:
        question = Question(Origin(Form.IDENTITY, credential.of), (), Attempt(verb, target), Context(), now)
        for request in flat(judge.judge(question).requests):
            kind, place = kind_name(compiled, request.target), declared_place(compiled, request.target)
            if request.caller != credential.of or kind is None or not place:
                continue
            for step in request.steps:
                taking = request.verb == "take-on" and step.name == "target-side"
                grounds = step.grounds or tuple(miss.ground for miss in step.misses)
                for ground in grounds if step.name in ("target-side", "caller-side") else ():
                    if ground.number is None:
                        continue
                    if taking:
                        trusts[ground.number] = None
                    else:
                        wanted.setdefault((ground.number, place), set()).add((kind, request.verb))
    for number in trusts:
        plain = plain_statement("trusts", estate.trusts[number])
        if estate.trusts[number].admits.form in (Form.IDENTITY, Form.GROUP):
            out.append(Addition("trusts", "", {**_unnamed(plain), "admits": {"identity": identity}}))
    out += _grants(estate, identity, wanted)
    return out


def _grants(estate: Estate, identity: str, wanted: Mapping[tuple[int, str], set[tuple[str, str]]]) -> Iterator[Edit]:
    """Grants of just these permissions, each at its place; the role of the grant itself where it gives just that."""
    stem = identity.rsplit("/", 1)[-1]
    fresh = (name for count in range(1, 10_000) if (name := f"{stem}-{count}") not in estate.roles)
    made: dict[frozenset[tuple[str, str]], str] = {}
    for (number, place), permissions in sorted(wanted.items()):
        its = estate.grants[number].role
        same = frozenset(permissions) == frozenset(estate.permissions_of(its))
        name = its if same else made.get(frozenset(permissions), "")
        if not name:
            name = made[frozenset(permissions)] = next(fresh)
            kinds: dict[str, list[str]] = {}
            for kind, verb in sorted(permissions):
                kinds.setdefault(kind, []).append(verb)
            yield Addition("roles", name, {"allows": kinds})
        yield Addition("grants", "", _grant(estate, estate.grants[number], identity, name, place))


def _grant(estate: Estate, grant: Grant, identity: str, role: str, place: str) -> dict[str, Any]:
    holder = estate.holder_of(grant)
    home = account_of(identity) == account_of(place) or not account_of(place)
    held = holder if grant.held_by is not None or not home or boundary_of(place) != holder else None
    said = replace(grant, to=identity, role=role, at=place, name=None, held_by=held)
    return plain_statement("grants", said)


def _unnamed(entry: Mapping[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in entry.items() if name != "name"}


def acceptances(estate: Estate, names: Sequence[str], now: datetime, last: datetime) -> list[Addition]:
    """The lines that accept, until a `last` time, that callers break invariants by way of keys that are to be retired:
    so that saying where a key is held is not punished."""
    out: list[Addition] = []
    for invariant in estate.invariants:
        known = estate
        for _ in range(MOST_ACCEPTED):
            chains = Chains.from_now_on(Web(compile_estate(known), now.timestamp()))
            found = decide(chains, invariant)
            if found.outcome is not Holding.BROKEN or found.chain is None or not found.chain.by_key:
                break
            used = [target for _, verb, target in chains.steps(found.chain) if verb == USE_KEY and target in names]
            if not used:
                break
            caller = found.chain.start.whom
            because = f"the key {used[0]} is being retired"
            entry = {"invariant": invariant.name, "by": caller, "because": because, "until": time_text(last)}
            out.append(Addition("accepted", "", entry))
            accepted = Accepted(because, last, invariant=invariant.name, by=caller)
            known = replace(known, accepted=(*known.accepted, accepted))
    return out

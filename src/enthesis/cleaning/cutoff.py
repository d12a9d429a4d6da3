"""Access that is withdrawn now: of an identity, a person, a host, a keyed credential or a session.

What closes most comes first: the identity is disabled, its keyed credentials are revoked and its sessions ended; then
its trusts, grants, memberships and attachments are taken away. The files are changed in the same way, so that nothing
is given back by the next proposal.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np

from enthesis.access.compiling import NONE, compile_estate
from enthesis.chains.chains import Chains, ChainStart
from enthesis.chains.reach import Reached, reachable
from enthesis.cleaning.mentions import Mention
from enthesis.conditions.patterns import matches
from enthesis.files.editing import Edit, Removal, Replacement
from enthesis.model.addresses import account_of, pool_of, with_its_pool
from enthesis.model.conditions import Glob
from enthesis.model.estate import Attachment, Credential, Estate, Journey, Resource, boundary_of
from enthesis.model.file_errors import Source
from enthesis.model.sentences import statement_sentence
from enthesis.model.vocabulary import Ending, VerbClass, VerdictStep
from enthesis.proposals.credentials import Credentialed, OpenSession, matching
from enthesis.proposals.steps import CHANGE, CREDENTIALS, REMOVE, SESSIONS, Step
from enthesis.proposals.wanted import wanted
from enthesis.surveys.statements import LiveObject, Surveyed, listed, names_what_is_gone, normalised, without_gone
from enthesis.verdicts.expectations import Judged, judge_journey

FIRST, THEN, LAST = 0, 1, 2  # stages
MOST_COPIED = 50


@dataclass(frozen=True, slots=True)
class Withdrawn:
    """Whose access is withdrawn. `form` is identity, person, resource, credential or session."""

    form: str
    name: str
    of: str = ""  # the identity of a credential or session


@dataclass(frozen=True, slots=True)
class LiveCredential:
    """A keyed credential or session with the provider that keeps it."""

    provider: str
    one: Credentialed | OpenSession


@dataclass(frozen=True, slots=True)
class Copied:
    """Something that may have been copied, why, and what makes the copy worthless."""

    what: str
    why: str
    fix: str


@dataclass(frozen=True, slots=True)
class Cut:
    """What is withdrawn, and what is to be known about it. `foreign` are statements of others that stay, `open` what
    opens all the same and why, `lives_on` what cannot be withdrawn here and until when, `copied` what the target may
    have copied, `ends` the journeys that end otherwise from now on, `runs` what runs as it, `about` what the files say
    about it."""

    target: Withdrawn
    steps: tuple[Step, ...] = ()
    edits: tuple[Edit, ...] = ()
    foreign: tuple[str, ...] = ()
    lives_on: tuple[tuple[str, str], ...] = ()
    copied: tuple[Copied, ...] = ()
    ends: tuple["OtherEnd", ...] = ()
    runs: tuple[str, ...] = ()
    open: tuple[str, ...] = ()
    about: tuple[Mention, ...] = ()

    @property
    def whole(self) -> bool:
        """Whether nothing of the target opens anything afterwards."""
        return not self.foreign and not self.open


@dataclass(frozen=True, slots=True)
class OtherEnd:
    """A journey that ends otherwise once access is withdrawn: how it ends now and then, and whether that is as expected
    (`met`), perhaps since its `refused_at` is written anew."""

    journey: str
    before: str
    after: str
    met: bool


# -- what is withdrawn on the live side -----------------------------------------------------------------------------


def live_steps(
    estate: Estate, target: Withdrawn, surveys: Sequence[Surveyed], kept: Sequence[LiveCredential], *, others: bool
) -> tuple[list[Step], list[str]]:
    """The steps that withdraw a target's access, and the statements of others that would stay. With `others`, those are
    withdrawn too."""
    steps: list[Step] = []
    foreign: list[str] = []
    for surveyed in surveys:
        for statement in surveyed.objects:
            if statement.by_itself or names_what_is_gone(without_gone(statement.body)):
                continue
            step = _step(estate, target, statement)
            if step is None:
                continue
            if not statement.kept_by(estate.name) and not others:
                foreign.append(f"{statement_sentence(statement.collection, statement.body)} ({statement.holder})")
            else:
                steps.append(step)
    return [*map(_revoking, _theirs(estate, target, kept)), *steps], foreign


def unbound_roles(before: Estate, after: Estate, surveys: Sequence[Surveyed]) -> list[Step]:
    """The steps that remove roles of ours which no grant binds any more, once the files are changed."""
    unbound = {statement.key for statement in wanted(before)[0]} - {statement.key for statement in wanted(after)[0]}
    every = (statement for surveyed in surveys for statement in surveyed.objects)
    mine = [
        statement
        for statement in every
        if statement.collection == "roles" and statement.mark == before.name and statement.key in unbound
    ]
    return [replace(_removing(statement), stage=LAST) for statement in mine]


def _step(estate: Estate, target: Withdrawn, statement: LiveObject) -> Step | None:
    """What becomes of a live statement; None where it has nothing to do with the target."""
    name, body, collection = target.name, statement.body, statement.collection
    if target.form in ("identity", "person"):
        if collection == "identities" and body.get("address") == name:
            directory = statement.provider.startswith("@")  # it alone keeps people; a cluster disables nobody
            known = directory or (statement.provider in estate.providers and body.get("kind") != "person")
            return (
                _changing(statement, {**body, "disabled": True}, FIRST) if known and not body.get("disabled") else None
            )
        admits = body.get("admits", {})
        if collection == "trusts" and name in (body.get("of"), admits.get("identity"), admits.get("person")):
            return _removing(statement)
        if collection == "pipeline_access" and body.get("of") == name:
            return _removing(statement)
        if collection == "grants" and body.get("to") == name:
            return _removing(statement)
        if collection == "groups" and name in listed(body.get("members")):
            return _changing(statement, {**body, "members": [each for each in body["members"] if each != name]}, THEN)
        if collection == "attachments" and name in listed(body.get("runs_as")):
            left = [each for each in listed(body["runs_as"]) if each != name]
            return _changing(statement, {**body, "runs_as": left}, THEN) if left else _removing(statement)
    if target.form == "resource":
        if collection == "attachments" and body.get("what") == name:
            return replace(_removing(statement), stage=FIRST)
        if collection == "trusts" and body.get("admits", {}).get("attached") == name:
            return _removing(statement)
    return None


def _changing(statement: LiveObject, body: dict[str, Any], stage: int) -> Step:
    after = normalised(statement.collection, body)
    sentence = statement_sentence(statement.collection, after)
    before = normalised(statement.collection, statement.body)
    more = "disabled" if stage == FIRST else "without it"
    about = (
        CHANGE,
        statement.provider,
        statement.collection,
        statement.holder,
        f"{sentence}: {more}",
        statement.mark or "",
    )
    return Step(*about, after, before, statement.id, statement.etag, stage)


def _removing(statement: LiveObject) -> Step:
    about = (
        REMOVE,
        statement.provider,
        statement.collection,
        statement.holder,
        statement_sentence(statement.collection, statement.body),
    )
    return Step(*about, statement.mark or "", None, dict(statement.body), statement.id, statement.etag, THEN)


def _revoking(kept: LiveCredential) -> Step:
    """A keyed credential that is revoked, or a session that is ended."""
    one = kept.one
    if isinstance(one, OpenSession):
        collection, before = SESSIONS, {"of": one.of}
        sentence = f"the session of {one.of} from {one.began_as}, until {one.ends:%H:%M:%SZ}"
    else:
        collection, before = CREDENTIALS, {"of": one.of, "name": one.name}
        sentence = f"the {one.form} {one.name} of {one.of}"
    about = (REMOVE, kept.provider, collection, boundary_of(one.of), sentence, "")
    return Step(*about, None, before, one.id, "*", FIRST)


def _theirs(estate: Estate, target: Withdrawn, kept: Sequence[LiveCredential]) -> Iterator[LiveCredential]:
    """The keyed credentials and sessions that go with a target; what has the same fingerprint is the same value."""
    described = estate.credentials.get(target.name) if target.form == "credential" else None
    keys = [each.one for each in kept if isinstance(each.one, Credentialed)]
    meant = {one.id for one in keys if target.form == "credential" and _is_meant(estate, target, one)}
    prints = {one.fingerprint for one in keys if one.id in meant}
    if described is not None and described.fingerprint is not None:
        prints.add(described.fingerprint)
    ids = {one.id for one in keys if one.id in meant or (target.form == "credential" and one.fingerprint in prints)}
    for each in kept:
        one = each.one
        if isinstance(one, Credentialed):
            if one.id in ids or (target.form in ("identity", "person") and one.of == target.name):
                yield each
        elif _is_session_of(target, one, ids):
            yield each


def _is_meant(estate: Estate, target: Withdrawn, credential: Credentialed) -> bool:
    described = matching(estate, credential)
    return credential.name == target.name or (described is not None and described.name == target.name)


def _is_session_of(target: Withdrawn, session: OpenSession, keys: set[str]) -> bool:
    if target.form == "session":
        return session.id == target.name
    if target.form == "credential":
        return session.origin.get("credential") in keys
    return target.name in (session.of, session.origin.get("address"), *session.via)


# -- what is written into the files ---------------------------------------------------------------------------------


def file_edits(estate: Estate, target: Withdrawn) -> list[Edit]:
    """The edits of the files that keep the access withdrawn."""
    name = target.name
    out: list[Edit] = []
    if target.form == "credential":
        one = estate.credentials.get(name)
        return [_field(one.source, "disabled", value=True)] if one is not None and not one.disabled else []
    if target.form in ("identity", "person"):
        identity = estate.identities.get(name)
        if identity is not None and not identity.disabled:
            out.append(_field(identity.source, "disabled", value=True))
        mine = [one for one in estate.credentials.values() if one.of == name and not one.disabled]
        out += [_field(one.source, "disabled", value=True) for one in mine]
        out += [_out(grant.source) for grant in estate.grants if grant.to == name]
        out += [_out(one.source) for one in estate.trusts if name in (one.of, one.admits.whom)]
        out += [_out(one.source) for one in estate.pipeline_access.values() if one.of == name]
        for group in estate.groups.values():
            if name in group.members:
                left = [member for member in group.members if member != name]
                out.append(_field(group.source, "members", value=left))
        out += [edit for one in estate.attachments if (edit := _without(one, name)) is not None]
        for resource in estate.resources.values():
            if name in resource.runs_as:
                rest = [one for one in resource.runs_as if one != name]
                out.append(_field(resource.source, "runs_as", value=rest or None))
    if target.form == "resource":
        found = estate.resources.get(name)
        if found is not None and found.runs_as:
            out.append(_field(found.source, "runs_as", value=None))
        out += [_out(one.source) for one in estate.attachments if one.what == name]
        out += [_out(one.source) for one in estate.trusts if (one.admits.form, one.admits.whom) == ("attached", name)]
    return out


def _without(attachment: Attachment, name: str) -> Edit | None:
    if name not in attachment.runs_as:
        return None
    left = [text for text in attachment.runs_as if text != name]
    return _field(attachment.source, "runs_as", value=left) if left else _out(attachment.source)


def _field(source: Source, name: str, *, value: Any) -> Replacement:
    return Replacement.at(source, (name,), value)


def _out(source: Source) -> Removal:
    return Removal.at(source)


# -- what is to be known about it -----------------------------------------------------------------------------------


def starts_of(chains: Chains, target: Withdrawn) -> list[ChainStart]:
    """Where the chains of a target begin; of a host at the host and what it runs as."""
    if target.form == "credential":
        if target.name not in chains.compiled.estate.credentials:
            return []
        found = chains.from_credential(target.name)
        return [found] if found is not None else []
    number = chains.compiled.find(target.of if target.form == "session" else target.name)
    return [chains.from_place(number)] if number != NONE else []


def reached(chains: Chains, target: Withdrawn) -> list[Reached]:
    """Everything that a target can reach. Nothing, once its access is withdrawn."""
    wanted = np.ones(len(chains.compiled.permission_pairs), bool)
    return reachable(chains, starts_of(chains, target), wanted)


def copied(chains: Chains, target: Withdrawn, keys: Iterable[Credential]) -> list[Copied]:
    """What a target may have copied: secrets that it could read, known keys where it could log in, and its own."""
    compiled = chains.compiled
    out: dict[str, Copied] = {}
    inside = {target.name} if target.form == "resource" else set[str]()
    for access in reached(chains, target):
        its_class = {verb: said for (_, verb), said in zip(compiled.permission_pairs, compiled.class_of, strict=True)}
        if "/secret/" in access.target and its_class.get(access.verb) == VerbClass.READ:
            out.setdefault(access.target, Copied(access.target, "could read it", "put another value there"))
        elif its_class.get(access.verb) == VerbClass.RUN:
            inside.add(access.target)
    for credential in keys:
        if credential.disabled:
            continue
        name = credential.name
        revoke = "revoke it, and make a new one where it is still needed"
        told = f"the {credential.form} {name} of {credential.of}"
        held = next((place for place in credential.held_at if place in inside), None)
        if credential.of == target.name:
            out.setdefault(name, Copied(told, "is its own", "it is revoked here"))
        elif held is not None:
            out.setdefault(name, Copied(told, f"is held in {held}", revoke))
    return list(out.values())[:MOST_COPIED]


def ending_otherwise(before: Estate, after: Estate, now: datetime) -> list[OtherEnd]:
    """The journeys whose outcome or reason changes, those that will not be as expected first."""
    old, new = compile_estate(before), compile_estate(after)
    out = []
    for name, journey in before.journeys.items():
        was = judge_journey(old, journey, now)
        if name not in after.journeys:
            continue
        then = judge_journey(new, after.journeys[name], now)
        words = _ended(was), _ended(then)
        if words[0] != words[1] or was.met != then.met:
            out.append(OtherEnd(name, *words, then.met))
    return sorted(out, key=lambda end: end.met)


def _ended(judged: Judged) -> str:
    first = judged.verdict.first_refused
    return str(judged.ending) + (f" at {' and '.join(first.refused_at)}" if first is not None else "")


def refused_now_at_names(before: Estate, after: Estate, now: datetime) -> list[Edit]:
    """The edits of journeys that are refused as expected before, and afterwards at names: what is gone or disabled is
    the reason then, and `refused_at` must say so."""
    old, new = compile_estate(before), compile_estate(after)
    out: list[Edit] = []
    for name, journey in before.journeys.items():
        if journey.expect is not Ending.REFUSED or name not in after.journeys:
            continue
        then = judge_journey(new, after.journeys[name], now)
        if then.met or not judge_journey(old, journey, now).met:
            continue
        first = then.verdict.first_refused
        if first is None or VerdictStep.NAMES not in first.refused_at:
            continue
        still = [str(step) for step in journey.refused_at if step in then.verdict.refused_at]
        steps = [str(VerdictStep.NAMES), *(step for step in still if step != VerdictStep.NAMES)]
        refused_at = tuple(map(VerdictStep, steps))
        if judge_journey(new, replace(after.journeys[name], refused_at=refused_at), now).met:
            value = steps[0] if len(steps) == 1 else steps
            out.append(_field(journey.source, "refused_at", value=value))
    return out


def involving(estate: Estate, target: Withdrawn) -> list[Journey]:
    """The journeys that begin at a target or pass it."""
    name = target.name
    return [
        journey
        for journey in estate.journeys.values()
        if journey.origin.whom == name or any(name in (hop.identity, hop.on) for hop in journey.through)
    ]


def running_as(estate: Estate, target: Withdrawn) -> list[str]:
    """What runs as an identity; of a host, what it runs as."""
    if target.form == "resource":
        found = estate.resources.get(target.name)
        own = list(found.runs_as) if found is not None else []
        pool = pool_of(target.name)
        own += running_as(estate, Withdrawn("resource", pool)) if pool else []
        return [*own, *(name for each in estate.attachments if _covers(each, target.name) for name in each.runs_as)]
    by_resource = [resource.address for resource in estate.resources.values() if target.name in resource.runs_as]
    return [
        *by_resource,
        *(str(_what(attachment)) for attachment in estate.attachments if target.name in attachment.runs_as),
    ]


def still_covering(estate: Estate, target: Withdrawn) -> list[str]:
    """Why a host still runs as something: attachments by a pattern, and those of its pool, are for others as well."""
    if target.form != "resource":
        return []
    out = [
        f"the attachment of {' and '.join(attachment.runs_as)} to {_what(attachment)} covers it: narrow the pattern "
        f"({attachment.source})"
        for attachment in estate.attachments
        if isinstance(attachment.what, Glob) and any(_covers(attachment, name) for name in with_its_pool(target.name))
    ]
    pool = pool_of(target.name)
    shared = running_as(estate, Withdrawn("resource", pool)) if pool else []
    if shared:
        out.append(
            f"it runs as {' and '.join(dict.fromkeys(shared))}, as all of {pool} does: end it there, or leave it out of"
            f" the trust (when: {{caller.address: {{not: {target.name}}}}})"
        )
    return out


def _covers(attachment: Attachment, address: str) -> bool:
    if isinstance(attachment.what, Glob):
        return matches(attachment.what.pattern, address)
    return attachment.what == address


def _what(attachment: Attachment) -> str:
    return attachment.what.pattern if isinstance(attachment.what, Glob) else attachment.what


def target_of(estate: Estate, name: str, sessions: Sequence[OpenSession] = ()) -> Withdrawn | None:
    """What is meant by a name: an identity, person, resource, credential or open session; None where nothing is."""
    identity = estate.identities.get(name)
    if identity is not None:
        return Withdrawn("person" if identity.is_person else "identity", name)
    if name in estate.credentials:
        return Withdrawn("credential", name, estate.credentials[name].of)
    resource: Resource | None = estate.resources.get(name)
    if resource is not None and account_of(name):
        return Withdrawn("resource", name)
    found = next(
        (session for session in sessions if session.id == name or (len(name) >= 8 and session.id.startswith(name))),
        None,
    )
    return Withdrawn("session", found.id, found.of) if found is not None else None

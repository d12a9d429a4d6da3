"""The looks of a sweep: each finds one kind of thing that should not stay, and says how to settle it."""

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from datetime import UTC, datetime, timedelta

import numpy as np

from enthesis.access.attributes import kind_name
from enthesis.access.compiling import NONE
from enthesis.access.names.standing import why_shut
from enthesis.access.target_side.keys import USES_OF_KEYS
from enthesis.chains.shared_logins import ON, opened_there
from enthesis.cleaning.findings import GRAVITY, Finding, Fix, Opens, Sweeping
from enthesis.files.writing import plain_statement
from enthesis.model.addresses import account_of, contains
from enthesis.model.catalogue import Catalogue
from enthesis.model.conditions import Glob
from enthesis.model.escapes import word
from enthesis.model.estate import Credential, Estate, Grant
from enthesis.model.file_errors import Source
from enthesis.model.sentences import statement_sentence, verb_words
from enthesis.model.vocabulary import VerbClass
from enthesis.surveys.survey import Said
from enthesis.text.times import duration_text, time_text
from enthesis.trusts.keyless import keyless_ways
from enthesis.trusts.named import why_nobody
from enthesis.trusts.risks import Risk, says_who

Look = Callable[[Sweeping], Iterator[Finding]]
Halves = dict[str, set[tuple[str, str]]]
"""Grants that have not ended, by whom they are to: at which place, held by whom."""
NO_TRUST_NEEDED = ("person", "cluster-service-account")  # people sign in, and a cluster's workloads are not described
NOWHERE = Source("", 0, 0)
CHANGING_OWN = ("change-access", "change-role", "change-trust", "change-members", "issue")


# -- keyed credentials ------------------------------------------------------------------------------------------------


def working(sweeping: Sweeping) -> Iterator[Credential]:
    """The keyed credentials that still open something."""
    for credential in sweeping.estate.credentials.values():
        if not why_shut(sweeping.chains.compiled, credential, sweeping.now):
            yield credential


def _of_key(sweeping: Sweeping, code: str, credential: Credential, message: str, *fixes: Fix) -> Finding:
    """A finding about a credential; revoking it is always one of the fixes."""
    owner = sweeping.estate.identities.get(credential.of)
    return Finding(
        code,
        f"the {credential.form} {credential.name} of {credential.of} {message}",
        (credential.name, credential.of),
        (credential.name,),
        sweeping.source(credential.source),
        credential.of,
        credential.created,
        (owner.owner or "") if owner is not None else "",
        (*fixes, _revoking(sweeping, credential)),
    )


def _day(instant: datetime) -> str:
    return time_text(instant)[:10]


def _revoking(sweeping: Sweeping, credential: Credential) -> Fix:
    command = f"enthesis credential revoke {word(credential.name)} --of {word(credential.of)}"
    return Fix(f"revoke it: `{command}`", sweeping.changed(credential.source, "disabled", True))


def _old_keys(sweeping: Sweeping) -> Iterator[Finding]:
    for credential in working(sweeping):
        if credential.created is not None and sweeping.now - credential.created > sweeping.bounds.older_than:
            fix = Fix("make a new one with an end, move what uses it, then revoke this one")
            yield _of_key(
                sweeping, "key-old", credential, f"was made on {_day(credential.created)} and still works", fix
            )


def _unused_keys(sweeping: Sweeping) -> Iterator[Finding]:
    bound = sweeping.bounds.unused_for
    for credential in working(sweeping):
        if credential.last_used is not None and sweeping.now - credential.last_used > bound:
            yield _of_key(sweeping, "key-unused", credential, f"was last used on {_day(credential.last_used)}")
        elif (
            credential.last_used is None
            and sweeping.knows_use
            and credential.created
            and sweeping.now - credential.created > bound
        ):
            yield _of_key(sweeping, "key-unused", credential, "has never been used")


def _copied_keys(sweeping: Sweeping) -> Iterator[Finding]:
    for credential in working(sweeping):
        if len(credential.held_in) > 1:
            places = " and ".join(map(str, credential.held_in))
            fix = Fix("give each place a way of its own, so that one can be closed without the others")
            yield _of_key(sweeping, "key-copied", credential, f"is held in {places}", fix)


def _two_ends(sweeping: Sweeping) -> Iterator[Finding]:
    """Credentials of one fingerprint are one value: the earlier end ends nothing."""
    by_print: dict[str, list[Credential]] = {}
    for credential in sweeping.estate.credentials.values():
        if credential.fingerprint is not None:
            by_print.setdefault(credential.fingerprint, []).append(credential)
    for alike in by_print.values():
        ends = {credential.expires for credential in alike}
        if len(alike) < 2 or len(ends) < 2:
            continue
        for credential in alike:
            if credential in working(sweeping):
                others = " and ".join(other.name for other in alike if other is not credential)
                until = time_text(credential.expires) if credential.expires is not None else "never"
                fix = Fix("look which end is the real one, and describe the value once")
                message = f"has the same fingerprint as {others} and another end ({until})"
                yield _of_key(sweeping, "key-two-ends", credential, message, fix)


def _needless_keys(sweeping: Sweeping) -> Iterator[Finding]:
    for credential in working(sweeping):
        way = next((way for way in keyless_ways(sweeping.estate, credential.of, sweeping.now) if way.is_there), None)
        if way is not None:
            yield _of_key(sweeping, "key-needless", credential, f"works although there is a keyless way: {way.says}")


def _keys_on_machines(sweeping: Sweeping) -> Iterator[Finding]:
    estate = sweeping.estate
    for credential in working(sweeping):
        owner = estate.identities.get(credential.of)
        held = [place for place in credential.held_at if place in estate.resources]
        if owner is not None and owner.is_person and held:
            fix = Fix("let what runs there run as an identity of its own")
            message = f"is a person's, and {held[0]} holds it"
            yield _of_key(sweeping, "key-on-machine", credential, message, fix)


# -- identities -------------------------------------------------------------------------------------------------------


def _idle_identities(sweeping: Sweeping) -> Iterator[Finding]:
    """Identities of workloads that nothing can be: no trust, nothing that runs as it, no key that works."""
    estate, compiled = sweeping.estate, sweeping.chains.compiled
    used = {trust.of for trust in estate.trusts if trust.in_force(sweeping.now)}
    used |= {compiled.places.names[one] for its in compiled.runs_as.values() for one in its}
    used |= {one.of for one in working(sweeping)}
    bound = Counter(grant.to for grant in estate.grants)
    for address, one in estate.identities.items():
        if one.kind in NO_TRUST_NEEDED or one.disabled or address in used or sweeping.is_outside(address):
            continue
        if "/database/" in estate.system_of(address):  # who is let in as one of its own, its server says
            continue
        more = f"; {bound[address]} of its grants stay" if bound[address] else ""
        yield Finding(
            "identity-idle",
            f"nothing can run as {address} or take it on{more}",
            (address,),
            source=sweeping.source(one.source),
            at=address,
            owner=one.owner or "",
            fixes=(Fix("write its trust, or take it out of the files with its grants; `enact --prune` removes it"),),
        )


def _idle_trusts(sweeping: Sweeping) -> Iterator[Finding]:
    """Trusts that nobody whom they name can come by."""
    for trust in sweeping.estate.trusts:
        if not trust.in_force(sweeping.now) or sweeping.is_outside(trust.of):
            continue
        why = why_nobody(sweeping.chains.compiled, trust)
        if why:
            names = tuple(name for name in (trust.name, trust.of) if name is not None)
            said = statement_sentence("trusts", plain_statement("trusts", trust))
            yield _written(sweeping, "trust-idle", f"{said} admits nobody: {why}", names, trust.source, trust.of)


def _unowned(sweeping: Sweeping) -> Iterator[Finding]:
    fixes = {
        lacks: (Fix(f"write its {lacks.replace(' and no ', ' and ')}, or remove it"),)
        for lacks in ("owner", "purpose", "owner and no purpose")
    }
    for address, one in sweeping.estate.identities.items():
        if (one.owner and one.purpose) or one.kind in NO_TRUST_NEEDED or sweeping.is_outside(address):
            continue
        lacks = " and no ".join(name for name in ("owner", "purpose") if not getattr(one, name))
        message = f"{address} has no {lacks}"
        its = (address,)
        source = sweeping.source(one.source)
        yield Finding("identity-unowned", message, its, its, source, address, fixes=fixes[lacks])


def _disabled_bound(sweeping: Sweeping) -> Iterator[Finding]:
    """What is still written about disabled identities, all of one together."""
    estate = sweeping.estate
    off = {address for address, one in estate.identities.items() if one.disabled}
    left: dict[str, list[tuple[str, Source]]] = {}
    for grant in estate.grants:
        if grant.to in off:
            left.setdefault(grant.to, []).append((f"the grant of {grant.role} at {grant.at}", grant.source))
    for trust in estate.trusts:
        if trust.of in off:
            left.setdefault(trust.of, []).append(("a trust", trust.source))
    for attachment in estate.attachments:
        for address in off.intersection(attachment.runs_as):
            alone = attachment.source if len(attachment.runs_as) == 1 else NOWHERE
            left.setdefault(address, []).append((f"the attachment to {attachment.what}", alone))
    for address, statements in left.items():
        one = estate.identities[address]
        edits = tuple(edit for _, source in statements for edit in sweeping.removal(source))
        told = ", ".join(said for said, _ in statements[:3]) + (", …" if len(statements) > 3 else "")
        yield Finding(
            "identity-disabled-bound",
            f"{address} is disabled and still has {told}",
            (address,),
            source=sweeping.source(one.source),
            at=address,
            owner=one.owner or "",
            fixes=(Fix("take these statements out; `enact --prune` removes them", edits),),
        )


def _tied_to_nothing(sweeping: Sweeping) -> Iterator[Finding]:
    for address, one in sweeping.estate.identities.items():
        if one.tied_to is not None and one.tied_to not in sweeping.estate.resources:
            yield Finding(
                "identity-tied-to-nothing",
                f"{address} is tied to {one.tied_to}, which does not exist",
                (address, one.tied_to),
                source=sweeping.source(one.source),
                at=address,
                owner=one.owner or "",
                fixes=(Fix("take it out of the files with its grants; `enact --prune` removes it"),),
            )


def _own_access(sweeping: Sweeping) -> Iterator[Finding]:
    """Workloads that directly may change what they may do: at themselves, their groups, or where their grants are."""
    chains, estate = sweeping.chains, sweeping.estate
    web, compiled = chains.web, chains.compiled
    wanted = np.array([verb in CHANGING_OWN for _, verb in compiled.permission_pairs], bool)
    able = (compiled.role_allows & wanted).any(axis=1)
    live = able[compiled.grant_role] & compiled.grants_in_force(web.now) & (compiled.grant_to != NONE)
    if not live.any():
        return
    people, _ = web.grants_held(np.flatnonzero(live))
    workloads = np.unique(people[~compiled.is_person[people]])
    rows = web.rows_of(workloads, wanted)
    seen: set[int] = set()
    for who, permission, target in zip(rows.who.tolist(), rows.permission.tolist(), rows.target.tolist(), strict=True):
        address = compiled.places.names[who]
        verb = compiled.permission_pairs[permission][1]
        if who in seen or target >= web.places or address not in estate.identities:
            continue
        place = compiled.places.names[int(web.target_place[target])]
        if not _is_own(sweeping, address, verb, place) or web.row_requirement(who, permission, target) is None:
            continue
        seen.add(who)
        one = estate.identities[address]
        yield Finding(
            "own-access",
            f"{address} may {verb_words(verb)} {place}, and so change its own access",
            (address,),
            (address,),
            sweeping.source(one.source),
            address,
            owner=one.owner or "",
            fixes=(Fix("let another identity, or people with an approval, change that"),),
        )


def _is_own(sweeping: Sweeping, address: str, verb: str, place: str) -> bool:
    """Whether a change at a place can change what an identity may do."""
    if verb in ("change-trust", "issue"):
        return place == address
    if verb == "change-members":
        compiled = sweeping.chains.compiled
        return compiled.find(place) in compiled.groups_of(compiled.find(address))
    return verb == "change-access" or contains(place, address)


# -- grants and trusts ------------------------------------------------------------------------------------------------


def _ended(sweeping: Sweeping) -> Iterator[Finding]:
    for grant in sweeping.estate.grants:
        if grant.until is not None and not grant.in_force(sweeping.now):
            said = f"the grant of {grant.role} to {grant.to} at {grant.at}"
            names = tuple(name for name in (grant.name, grant.to, grant.role) if name is not None)
            yield _written(
                sweeping, "grant-ended", f"{said} ended {time_text(grant.until)}", names, grant.source, grant.to
            )
    for trust in sweeping.estate.trusts:
        if trust.until is not None and not trust.in_force(sweeping.now):
            names = tuple(name for name in (trust.name, trust.of) if name is not None)
            said = f"a trust of {trust.of} ended {time_text(trust.until)}"
            yield _written(sweeping, "grant-ended", said, names, trust.source, trust.of)

    for ceiling in sweeping.estate.ceilings:
        for one in ceiling.for_a_while:
            if not one.in_force(sweeping.now):
                who = one.who.pattern if isinstance(one.who, Glob) else one.who
                said = f"the exception of {who} from the ceiling {ceiling.name} ended {time_text(one.until)}"
                yield _written(sweeping, "grant-ended", said, (ceiling.name, who), one.source, who)


def _written(
    sweeping: Sweeping,
    code: str,
    message: str,
    names: tuple[str, ...],
    source: Source,
    of: str,
    more: Iterable[Fix] = (),
) -> Finding:
    """A finding about a statement that does nothing; taking it out takes nothing from any caller."""
    one = sweeping.estate.identities.get(of)
    fixes = (*more, Fix("take it out; `enact --prune` removes it", sweeping.removal(source)))
    owner = (one.owner or "") if one is not None else ""
    return Finding(code, message, names, source=sweeping.source(source), at=of, owner=owner, fixes=fixes)


def _without_effect(sweeping: Sweeping) -> Iterator[Finding]:
    """Grants to nobody, halves of a crossing without the other, and keys that their provider manages."""
    estate = sweeping.estate
    halves: Halves = {}
    crossing: list[Grant] = []
    for grant in estate.grants:
        if not grant.in_force(sweeping.now):
            continue
        alone = not estate.is_of_many(grant.to)
        if alone and grant.at.startswith(grant.to[: grant.to.find("/") + 1]):
            continue  # in one account
        halves.setdefault(grant.to, set()).add((grant.at, estate.holder_of(grant)))
        crossing.append(grant)
    for grant in crossing:
        why, more = _why_no_effect(sweeping, grant, halves)
        if why:
            names = tuple(name for name in (grant.name, grant.to, grant.role) if name is not None)
            said = f"the grant of {grant.role} to {grant.to} at {grant.at}"
            yield _written(
                sweeping, "grant-without-effect", f"{said} has no effect: {why}", names, grant.source, grant.to, more
            )


def _why_no_effect(sweeping: Sweeping, grant: Grant, halves: Halves) -> tuple[str, tuple[Fix, ...]]:
    """Why a grant gives nothing to any caller, and what would give it effect; '' where it may give something."""
    estate = sweeping.estate
    if estate.is_of_many(grant.to):
        group = estate.groups.get(grant.to)
        empty = group is not None and not group.members and group.where is None
        return (f"{grant.to} has no members", ()) if empty else ("", ())
    ours, theirs = account_of(grant.to), account_of(grant.at)
    if ours == theirs:
        return "", ()
    account, other = estate.accounts.get(ours), estate.accounts.get(theirs)
    if account is None or other is None or account.provider != other.provider:
        return "", ()
    allowed = estate.permissions_of(grant.role)
    key = estate.resources.get(grant.at)
    uses = {verb for kind, verb in allowed if kind == "key"}
    if key is not None and key.by_provider and uses and uses <= set(USES_OF_KEYS):
        fix = Fix("encrypt with a key that the account manages (managed_by: account)")
        return f"{grant.at} is managed by its provider, so no other account can use it", (fix,)
    if ("identity", "take-on") in allowed:
        return "", ()  # the other half of taking on is a trust
    return _lacks_its_half(sweeping, grant, halves, account.name, other.name)


def _lacks_its_half(
    sweeping: Sweeping, grant: Grant, halves: Halves, ours: str, theirs: str
) -> tuple[str, tuple[Fix, ...]]:
    """Why a grant in a crossing gives nothing without another one. Halves that others write count as given, or are
    waited for, as a handoff says."""
    estate, compiled = sweeping.estate, sweeping.chains.compiled
    holder = estate.holder_of(grant)
    if not estate.crosses(ours, theirs):
        if holder != ours:
            return "", ()
        edits = () if estate.administered_by_others(theirs) else sweeping.changed(grant.source, "held_by", theirs)
        return f"{theirs} decides there alone, and this grant is held by {ours}", (Fix(f"let {theirs} hold it", edits),)
    needs = theirs if holder == ours else ours
    above = {needs, *estate.boundary_above(needs)}
    groups = {compiled.places.names[number] for number in compiled.groups_of(compiled.find(grant.to))}
    answered = any(
        by in above and (contains(at, grant.at) or contains(grant.at, at) or at in above)
        for to in (grant.to, *groups)
        for at, by in halves.get(to, ())
    )
    if answered or estate.administered_by_others(needs):
        return "", ()
    return f"{needs} does not grant its half", (_other_half(sweeping, grant, needs),)


def _other_half(sweeping: Sweeping, grant: Grant, holder: str) -> Fix:
    entry = {**plain_statement("grants", grant), "held_by": holder}
    entry.pop("name", None)
    edits = () if sweeping.estate.administered_by_others(holder) else sweeping.addition("grants", entry)
    return Fix(f"let {holder} grant its half too", edits)


# -- what services share ----------------------------------------------------------------------------------------------


def _shared_logins(sweeping: Sweeping) -> Iterator[Finding]:
    for address, one in sweeping.estate.resources.items():
        if one.shared_login == ON:
            fix = Fix("switch it off there, and write it down", sweeping.changed(one.source, "shared_login", "off"))
            message = f"{address} has a login that people share"
            yield Finding(
                "shared-login", message, (address,), source=sweeping.source(one.source), at=address, fixes=(fix,),
                opens=_opened_by_login(sweeping.estate.catalogue, address),
            )  # fmt: skip


def _opened_by_login(catalogue: Catalogue, address: str) -> Opens:
    """The worst that can be done with the shared login of something, and how many verbs it is for."""
    pairs = opened_there(catalogue, address)
    gravity = {pair: GRAVITY[catalogue.verbs_of(pair[0])[pair[1]]] for pair in pairs}
    if not gravity:
        return Opens()
    kind, verb = worst = max(pairs, key=gravity.__getitem__)
    target = address if f"/{kind}/" in address else f"{address}/{kind}/…"
    return Opens(gravity[worst], verb, target, len(pairs))


def _open_pipeline_access(sweeping: Sweeping) -> Iterator[Finding]:
    """Stored credentials whose pipeline service says of no run that it is meant."""
    for name, one in sweeping.estate.pipeline_access.items():
        if any(attribute != "aud" and says_who(test) for attribute, test in one.admits):
            continue
        through = (one.credential,) if one.credential is not None else (one.of,)
        owner = sweeping.estate.identities.get(one.of)
        yield Finding(
            "open-pipeline-access",
            f"every run of {one.at} may use {name}, which is {one.of}",
            (name, one.of),
            through,
            sweeping.source(one.source),
            one.at,
            owner=(owner.owner or "") if owner is not None else "",
            fixes=(Fix("name the runs that are meant, e.g. admits: {sub: …}; or let them show their own token"),),
        )


# -- recorded use -----------------------------------------------------------------------------------------------------


def _unused(sweeping: Sweeping) -> Iterator[Finding]:
    """Identities of workloads that did nothing, where the log tells of long enough."""
    usage = sweeping.usage
    if usage is None or usage.span < sweeping.bounds.unused_for:
        return
    last = usage.of_identity()
    since = sweeping.now - sweeping.bounds.unused_for
    for address, one in sweeping.estate.identities.items():
        used = last.get(address)
        if one.is_person or one.disabled or sweeping.is_outside(address):
            continue
        if used is not None and used >= since.timestamp():
            continue
        ago = f"was last used on {_day(datetime.fromtimestamp(used, UTC))}" if used else "was not used"
        length = duration_text(timedelta(days=usage.span.days))
        message = f"{address} {ago}, as the log of {length} tells"
        fix = Fix(f"cut it off: `enthesis cutoff {word(address)}`")
        source = sweeping.source(one.source)
        names = (address,)
        yield Finding("identity-unused", message, names, names, source, address, owner=one.owner or "", fixes=(fix,))


def _wider_than_used(sweeping: Sweeping) -> Iterator[Finding]:
    """Roles of everything, or of everything on a kind, bound at an account or above while one place is used."""
    usage, estate = sweeping.usage, sweeping.estate
    if usage is None:
        return
    compiled = sweeping.chains.compiled
    for grant in estate.grants:
        if not (grant.at in estate.accounts or grant.at.startswith("@")) or "/identity/" in grant.at:
            continue
        role = estate.roles.get(grant.role)
        if role is None or not any(kind == "*" or "*" in listed_verbs(verbs) for kind, verbs in role.allows.items()):
            continue
        number = compiled.find(grant.to)
        people = {compiled.places.names[one] for one in compiled.members.get(number, ())} or {grant.to}
        verbs = {verb for _, verb in estate.permissions_of(grant.role)}
        places = {
            _declared(estate, target)
            for identity, verb, target in (deed.triple for deed in usage.used)
            if identity in people and verb in verbs and contains(grant.at, target)
        }
        if len(places) != 1 or None in places:
            continue
        (place,) = places
        names = tuple(name for name in (grant.name, grant.role, grant.to) if name is not None)
        message = f"{grant.to} has {grant.role} at {grant.at}, and all recorded use is in {place}"
        fix = Fix(f"bind it at {place}", sweeping.changed(grant.source, "at", place))
        through = (grant.to,)
        yield Finding("wider-than-used", message, names, through, sweeping.source(grant.source), grant.at, fixes=(fix,))


def _classes_unused(sweeping: Sweeping) -> Iterator[Finding]:
    """Grants at an account or above of every verb of a class, of which none was used for as long as the log tells."""
    usage, estate = sweeping.usage, sweeping.estate
    if usage is None or usage.span < sweeping.bounds.unused_for:
        return
    compiled, catalogue = sweeping.chains.compiled, estate.catalogue
    for grant in estate.grants:
        if not (grant.at in estate.accounts or grant.at.startswith("@")) or "/identity/" in grant.at:
            continue
        if not grant.in_force(sweeping.now):
            continue
        number = compiled.find(grant.to)
        who = {compiled.places.names[one] for one in compiled.members.get(number, ())} or {grant.to}
        done = {
            (catalogue.verbs_of(kind_name(compiled, deed.target) or "").get(deed.verb))
            for deed in usage.used
            if who & {deed.identity, deed.person} and estate.is_at(grant.at, deed.target)
        }
        given = estate.permissions_of(grant.role)
        unused = [its_class for its_class in _whole_classes(catalogue, given) if its_class not in done]
        if not unused:
            continue
        names = tuple(name for name in (grant.name, grant.role, grant.to) if name is not None)
        classes = " and ".join(unused)
        length = duration_text(timedelta(days=usage.span.days))
        message = f"{grant.to} has every {classes} verb at {grant.at} by {grant.role}, and used none for {length}"
        fix = Fix(f"leave the verbs of class {classes} out of {grant.role}, or run `enthesis trim`")
        yield Finding(
            "class-unused", message, names, (grant.to,), sweeping.source(grant.source), grant.at, fixes=(fix,)
        )


def _whole_classes(catalogue: Catalogue, given: Collection[tuple[str, str]]) -> Iterator[str]:
    """The classes of which all verbs are given: of every kind, or of one that has several."""
    for its_class in VerbClass:
        of_kinds = [
            {(kind, verb) for verb, its in catalogue.verbs_of(kind).items() if its == its_class}
            for kind in catalogue.kinds
        ]
        whole = set().union(*of_kinds)
        if whole and (whole <= set(given) or any(len(of_kind) > 1 and of_kind <= set(given) for of_kind in of_kinds)):
            yield str(its_class)


def listed_verbs(verbs: object) -> tuple[str, ...]:
    """Verbs as a tuple, whether one is written alone or several are listed."""
    return (verbs,) if isinstance(verbs, str) else tuple(verbs) if isinstance(verbs, tuple | list) else ()


def _declared(estate: Estate, target: str) -> str | None:
    """The nearest resource that is declared, at a target or above it."""
    parts = target.split("/")
    above = ("/".join(parts[:count]) for count in range(len(parts), 1, -1))
    return next((place for place in above if place in estate.resources or place in estate.identities), None)


LOOKS: tuple[Look, ...] = (
    _old_keys, _unused_keys, _copied_keys, _two_ends, _needless_keys, _keys_on_machines, _idle_identities, _idle_trusts,
    _unowned, _disabled_bound, _tied_to_nothing, _own_access, _ended, _without_effect, _shared_logins,
    _open_pipeline_access, _unused, _wider_than_used, _classes_unused,
)  # fmt: skip


# -- what others found ------------------------------------------------------------------------------------------------


def of_risks(sweeping: Sweeping, found: Sequence[Risk]) -> Iterator[Finding]:
    """Risks in the text of the estate that a sweep tells too."""
    estate = sweeping.estate
    for risk in found:
        through = tuple(name for name in risk.names if name in estate.credentials)
        through = through or tuple(name for name in risk.names if name in estate.identities or name in estate.groups)
        owner = next((estate.identities[name].owner for name in risk.names if name in estate.identities), None)
        credential = next((estate.credentials[name] for name in risk.names if name in estate.credentials), None)
        fixes = [Fix(risk.remedy)]
        if credential is not None and credential.source == risk.source:
            last = (credential.created or sweeping.now) + estate.longest_key(credential.of)
            edits = sweeping.changed(risk.source, "expires", time_text(last))
            ending = [Fix(f"end it on {_day(last)} at the latest", edits)] if last > sweeping.now else []
            fixes = [*ending, _revoking(sweeping, credential)]
        elif risk.code in ("temporary-endless", "power-unexplained"):
            until = time_text(sweeping.now + timedelta(days=30))
            fixes = [Fix("end it in 30d", sweeping.changed(risk.source, "until", until))]
        yield Finding(
            risk.code, risk.message, risk.names, through, sweeping.source(risk.source), next(iter(risk.names), ""),
            since=credential.created if credential is not None else None, owner=owner or "", fixes=tuple(fixes),
        )  # fmt: skip


def of_survey(sweeping: Sweeping, said: Sequence[Said]) -> Iterator[Finding]:
    """What connectors found while they read: stored tokens, statements that refer to what no longer exists."""
    for one in said:
        at, _, message = one.why.partition(": ")
        through = (at,) if at in sweeping.estate.identities else ()
        yield Finding(one.what, message or one.why, (at,), through, at=at, fixes=(_fix_of(one),))


def _fix_of(said: Said) -> Fix:
    if said.what == "dangling":
        _, _, fix = said.why.rpartition("; ")
        return Fix(fix)
    if said.what == "session-outlives":
        _, _, identifier = said.why.rpartition("; ")
        return Fix(f"end it: enthesis cutoff {identifier} --yes")
    if said.what == "stored-token":
        return Fix("delete the secret, and let workloads use the token that the cluster gives them")
    return Fix("take the grant away, or grant it to those who are meant")

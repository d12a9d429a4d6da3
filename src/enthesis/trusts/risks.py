"""Risks of an estate: what is written without an error, and admits a caller, or lasts longer, than can be meant.

Each has a stable code, a place, a witness where a caller is admitted, and what would fix it. What is past the bound on
work is counted, never guessed.
"""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from functools import cache, cached_property
from itertools import product

import numpy as np

from enthesis.access.attributes import NEVER_SHOWN, caller_fact, organisation_at, provider_at, target_label
from enthesis.access.compiling import NONE, Compiled, CompiledCeiling
from enthesis.access.names.standing import why_fallen
from enthesis.chains.chains import Chains
from enthesis.chains.reach import reachable
from enthesis.conditions.callers import Callers, Shown, one_of_both, one_of_difference
from enthesis.conditions.overlaps import overlaps
from enthesis.conditions.patterns import tokens
from enthesis.conditions.sameness import ALWAYS, names_in, solve_together
from enthesis.conditions.truth import passes
from enthesis.conditions.values import ROOMS, TEXT_ROOM, Room, Want
from enthesis.files.checking import spot
from enthesis.files.conditions import plain_test
from enthesis.files.writing import flow_text
from enthesis.files.yaml_tree import Node
from enthesis.model.addresses import account_of, contains
from enthesis.model.conditions import (
    After,
    AllOf,
    AnyOf,
    Before,
    Conditions,
    Equal,
    Glob,
    Not,
    Present,
    Test,
    literal_pattern,
)
from enthesis.model.errors import Undecided
from enthesis.model.escapes import word
from enthesis.model.estate import DEFAULT_SESSION, Accepted, Ceiling, Estate, Trust
from enthesis.model.file_errors import Source
from enthesis.model.risks import FOUND_BY_SWEEP, LIVE_RISKS
from enthesis.model.vocabulary import BEARERS, FORM_OF_ISSUER, ORIGIN_FORMS, SHOWN_IN, Form, VerbClass
from enthesis.text.times import duration_text, time_text
from enthesis.trusts.admitting import Admissions
from enthesis.trusts.named import barred_from

OUTSIDE_RUNS = ("fork", "merge request", "pull request", "external")  # words in claims of runs that outsiders can start
ANOTHER = "elsewhere.example"
SHORTEST_STEM = 3  # letters; a shorter one before a star is hardly a name
CHANGING = (VerbClass.WRITE, VerbClass.RUN, VerbClass.MANAGE, VerbClass.POWER)  # classes of verbs


@dataclass(frozen=True, slots=True)
class Risk:
    """One risk. `names` are what it is about, for accepting it; `shown` is a caller who is admitted by it.

    `path` leads from the statement to the part of it that is dangerous.
    """

    code: str
    message: str
    source: Source
    names: tuple[str, ...]
    remedy: str
    shown: Shown | None = None
    path: tuple[str, ...] = ()
    accepted: Accepted | None = None


@dataclass(frozen=True, slots=True)
class Risks:
    """All that were found: those that stand, those that are accepted, and how many questions were past the bound."""

    standing: tuple[Risk, ...] = ()
    accepted: tuple[Risk, ...] = ()
    undecided: int = 0


@dataclass
class _RiskSearch:
    """What every look shares."""

    chains: Chains
    estate: Estate
    instant: datetime
    admissions: Admissions
    undecided: int = 0
    forks: Mapping[str, set[tuple[str, str]]] = field(default_factory=dict)

    @cached_property
    def needed(self) -> Mapping[str, timedelta]:
        """By identity, the longest session that a journey which is to be allowed needs of it."""
        out: dict[str, timedelta] = {}
        for journey in self.estate.journeys.values():
            if journey.expect == "allowed" and journey.within is not None:
                for hop in journey.through:
                    out[hop.identity] = max(journey.within, out.get(hop.identity, journey.within))
        return out


def risks(chains: Chains, step: Callable[[str], None] = lambda what: None, *, further: Iterable[Risk] = ()) -> Risks:
    """Every risk of the estate behind these chains, at their instant, with `further` ones that need more than the
    estate; `step` is told what is looked at."""
    estate = chains.compiled.estate
    instant = datetime.fromtimestamp(chains.web.now, UTC)
    looking = _RiskSearch(chains, estate, instant, Admissions(chains.compiled, instant))
    looking.forks = _fork_like(estate)
    found: list[Risk] = []
    for issuer in estate.issuers.values():
        if issuer.shared and not issuer.owned:
            remedy = "say which subjects are ours: owned: {sub: {glob: ours/**}}"
            message = f"{issuer.name} is shared, and the estate does not say which of its subjects are ours"
            found.append(Risk("owned-unsaid", message, issuer.source, (issuer.name,), remedy))
    for trust in estate.trusts:
        step(trust.name or trust.of)
        if not trust.in_force(looking.instant):
            continue
        for look in BEARER_LOOKS if trust.admits.form in BEARERS else NAMED_LOOKS:
            try:
                found += look(looking, trust)
            except Undecided:
                looking.undecided += 1
    wholes = (
        _contained, _never_holding_grants, _origins_forgotten, _endless_keys, _wide_grants, _temporary, _tied_elsewhere,
        _people_missed,
    )  # fmt: skip
    for whole in wholes:
        found += whole(looking)
    return _accepting(looking, [*found, *further])


def lingering(chains: Chains) -> Iterator[Risk]:
    """The risks that a sweep tells too: keys, wide grants and temporary statements without an end."""
    instant = datetime.fromtimestamp(chains.web.now, UTC)
    looking = _RiskSearch(chains, chains.compiled.estate, instant, Admissions(chains.compiled, instant))
    for look in (_endless_keys, _wide_grants, _temporary):
        yield from look(looking)


def _tied_elsewhere(looking: _RiskSearch) -> Iterator[Risk]:
    """Identities that are tied to what is of another account: no group by rule finds them where that is."""
    for identity in looking.estate.identities.values():
        if identity.tied_to is not None and account_of(identity.tied_to) != account_of(identity.address):
            message = f"{identity.address} is tied to {identity.tied_to}, which is of another account"
            remedy = "tie it to a resource of its own account, or leave the tie out"
            names = (identity.address, identity.tied_to)
            yield Risk("tied-elsewhere", message, identity.source, names, remedy, path=("tied_to",))


def _people_missed(looking: _RiskSearch) -> Iterator[Risk]:
    """Ceilings over the callers of an account or unit, and people who hold there directly what those bar: people stand
    in their organisation, so that such a ceiling is not over them."""
    compiled = looking.chains.compiled
    for ceiling, barred in _over_accounts(compiled):
        for number, grant in enumerate(looking.estate.grants):
            if not grant.in_force(looking.instant) or not compiled.inside(barred.place, int(compiled.grant_at[number])):
                continue
            held = compiled.role_mask[int(compiled.grant_role[number])] & barred.refuses
            people = [one for one in _people_of(compiled, grant.to) if not barred.leaves_alone(one, inside=False)]
            if held and people and len(compiled.role_mask) > int(compiled.grant_role[number]):
                more = f" and {len(people) - 1} more" if len(people) > 1 else ""
                message = (
                    f"{ceiling.name} does not bar {people[0]}{more}, who holds {grant.role} at {grant.at} directly"
                )
                remedy = "write a ceiling over targets, or one over the callers of the organisation"
                yield Risk("ceiling-misses-people", message, ceiling.source, (ceiling.name, people[0]), remedy)
                break


def _over_accounts(compiled: Compiled) -> Iterator[tuple[Ceiling, CompiledCeiling]]:
    """The ceilings over the callers of an account or a unit, which no person stands in."""
    for found in compiled.ceilings_over(range(len(compiled.places.names)), ()):
        kind = compiled.kind_names[compiled.places.kind[found.place]]
        if kind in ("account", "unit"):
            yield found.ceiling, found


def _people_of(compiled: Compiled, to: str) -> list[str]:
    """The people that a grant is to."""
    number = compiled.find(to)
    members = compiled.members[number].tolist() if number in compiled.members else [number]
    return [compiled.places.names[one] for one in members if one != NONE and compiled.is_person[one]]


def _endless_keys(looking: _RiskSearch) -> Iterator[Risk]:
    """Keys that open something for longer than a key may."""
    for credential in looking.estate.credentials.values():
        if not credential.opens(looking.instant):
            continue
        bound = looking.estate.longest_key(credential.of)
        if credential.expires is None:
            message = f"the {credential.form} {credential.name} of {credential.of} has no end"
        elif credential.expires - (credential.created or looking.instant) > bound:
            message = (
                f"the {credential.form} {credential.name} of {credential.of} lives longer than {duration_text(bound)}"
            )
        else:
            continue
        keyless = f"`enthesis credential create --of {word(credential.of)}` says a keyless way"
        remedy = f"give it an end, or none at all: {keyless}"
        yield Risk(
            "endless-key", message, credential.source, (credential.name, credential.of), remedy, path=("expires",)
        )


def _wide_grants(looking: _RiskSearch) -> Iterator[Risk]:
    """Grants at an account or above that give everything, or power over access for ever and for no reason."""
    estate, kinds = looking.estate, looking.estate.catalogue.kinds
    everything = {
        (name, verb) for name, kind in kinds.items() for verb, said in kind.verbs.items() if said != VerbClass.POWER
    }
    for grant in estate.grants:
        if not (grant.at.startswith("@") or grant.at in estate.accounts) or "/identity/" in grant.at:
            continue
        if not grant.in_force(looking.instant):
            continue
        names = tuple(name for name in (grant.name, grant.role, grant.to) if name is not None)
        allowed = estate.permissions_of(grant.role)
        if everything <= allowed:
            message = f"{grant.to} may do everything (but what only power verbs do) at {grant.at}, by {grant.role}"
            fix = "bind a role of the verbs that are needed, at the places where they are"
            yield Risk("everything-allowed", message, grant.source, names, fix, path=("role",))
        changes = sorted({verb for _, verb in allowed if verb.startswith("change-") or verb == "issue"})
        if changes and grant.until is None and grant.because is None:
            message = (
                f"{grant.to} can change access at {grant.at} ({', '.join(changes)}), with no end and no reason given"
            )
            fix = "give it an end (until: …), or say why it stays (because: …)"
            yield Risk("power-unexplained", message, grant.source, names, fix, path=("role",))


TEMPORARY = re.compile(
    r"(?<![a-z])(temporary|temporarily|temp|tmp|interim|provisional|for[ -]now|short[ -]term|stop ?gap)(?![a-z])"
)


def _temporary(looking: _RiskSearch) -> Iterator[Risk]:
    """What a name, purpose, label or reason calls temporary, and that has no end."""
    estate = looking.estate

    @cache
    def in_text(text: str) -> str | None:
        found = TEMPORARY.search(text.lower().replace("_", "-"))
        return found.group() if found is not None else None

    def said(*texts: str | None) -> str | None:
        return next((word for text in texts if text is not None and (word := in_text(text)) is not None), None)

    def of_identity(address: str) -> str | None:
        one = estate.identities.get(address)
        return said(address.rsplit("/", 1)[-1], one.purpose, *one.labels, *one.labels.values()) if one else None

    roles = {name: word for name in estate.roles if (word := in_text(name)) is not None}
    called = {address: word for address in estate.identities if (word := of_identity(address)) is not None}
    for grant in estate.grants:
        if grant.until is not None:
            continue
        word = roles.get(grant.role) or called.get(grant.to)
        if word is None and (grant.name is not None or grant.because is not None):
            word = said(grant.name, grant.because)
        if word is not None:
            message = f"the grant of {grant.role} to {grant.to} at {grant.at} is called {word}, and has no end"
            names = tuple(one for one in (grant.name, grant.to, grant.role) if one is not None)
            yield Risk("temporary-endless", message, grant.source, names, "give it an end: until: …")
    for trust in estate.trusts:
        word = said(trust.name, trust.because) or called.get(trust.of)
        if word is not None and trust.until is None:
            message = f"a trust called {word}, and it has no end"
            yield _of(trust, "temporary-endless", message, "give it an end: until: …", path=("of",))
    for credential in estate.credentials.values():
        word = said(credential.name)
        if word is not None and credential.expires is None and not credential.disabled:
            message = f"the credential {credential.name} of {credential.of} is called {word}, and has no end"
            fix = "give it an end: expires: …"
            yield Risk("temporary-endless", message, credential.source, (credential.name, credential.of), fix)


def placed(found: Risks, records: Mapping[Source, Node]) -> Risks:
    """The same, each at the part of its statement that is dangerous, as far as it is known what is written there."""

    def there(risk: Risk) -> Risk:
        return replace(risk, source=spot(records, risk.source, *risk.path))

    return replace(found, standing=tuple(map(there, found.standing)), accepted=tuple(map(there, found.accepted)))


def _accepting(looking: _RiskSearch, found: Sequence[Risk]) -> Risks:
    """The risks with what the estate accepts of them; an acceptance that has ended or fits nothing is not help."""
    standing: list[Risk] = []
    accepted: list[Risk] = []
    used: set[Accepted] = set()
    for risk in found:
        fitting = [
            acceptance
            for acceptance in looking.estate.accepted
            if acceptance.risk == risk.code and acceptance.of in risk.names
        ]
        used.update(fitting)
        lasting = [acceptance for acceptance in fitting if acceptance.in_force(looking.instant)]
        if lasting:
            accepted.append(replace(risk, accepted=lasting[0]))
        elif fitting:
            ended = max(acceptance.until for acceptance in fitting)
            standing.append(replace(risk, message=f"{risk.message}; it was accepted until {time_text(ended)}"))
        else:
            standing.append(risk)
    for acceptance in looking.estate.accepted:
        if (
            acceptance.risk
            and acceptance not in used
            and acceptance.risk not in LIVE_RISKS
            and acceptance.risk not in FOUND_BY_SWEEP
        ):
            message = f"{acceptance.of} has no risk {acceptance.risk} that could be accepted"
            standing.append(Risk("acceptance-idle", message, acceptance.source, (acceptance.of,), "take the entry out"))
    standing.sort(key=lambda risk: (risk.source.file, risk.source.line, risk.code))
    return Risks(tuple(standing), tuple(accepted), looking.undecided)


def _of(
    trust: Trust, code: str, message: str, remedy: str, shown: Shown | None = None, path: tuple[str, ...] = ()
) -> Risk:
    names = tuple(name for name in (trust.name, trust.of) if name is not None)
    path = path or ("admits", SHOWN_IN.get(trust.admits.form, trust.admits.form))
    return Risk(code, f"{trust.of}: {message}", trust.source, names, remedy, shown, path)


# -- trusts that admit bearers --------------------------------------------------------------------------------------


def _never_admits(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    issuer = looking.estate.issuers[str(trust.admits.whom)]
    unissued = [
        name
        for name, test in trust.admits.conditions
        if issuer.claims is not None
        and name not in (*issuer.always_issues, *issuer.claims)
        and passes(test, None) is not True
    ]
    if unissued:
        known = ", ".join(issuer.claims or ()) or "none"
        message = f"{issuer.name} never issues {' and '.join(unissued)}, so no caller is admitted"
        yield _of(trust, "claim-never-issued", message, f"it issues {known}; correct the name, or the issuer's claims")
    elif _stands(looking, trust.of) and looking.admissions.example(trust) is None:
        why = looking.admissions.nobody_because(trust)
        message = f"no caller is ever admitted: {why}" if why else "no caller can ever meet all of its conditions"
        fix = "lift the ceiling, or remove the trust" if why else "correct the conditions, or remove the trust"
        yield _of(trust, "never-holds", message, fix)


def _stands(looking: _RiskSearch, identity: str) -> bool:
    """Whether an identity is neither disabled nor tied to what is not there."""
    compiled = looking.chains.compiled
    return compiled.find(identity) != NONE and not why_fallen(compiled, identity)


def _strangers(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    issuer = looking.estate.issuers[str(trust.admits.whom)]
    if issuer.shared and issuer.owned:
        ours = Callers((issuer.owned,))
        shown = looking.admissions.beyond(trust, ours)
        if shown is not None:
            owned = ", ".join(f"{name}: {flow_text(plain_test(test))}" for name, test in issuer.owned)
            message = f"admits subjects of {issuer.name} that are not ours"
            yield _of(trust, "strangers-admitted", message, f"pin it to ours: {owned}", shown)


def _any_audience(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    if trust.admits.form != Form.TOKEN:
        return
    usual = looking.admissions.rooms(trust)

    def rooms(name: str) -> Room:  # one audience alone: with the right one beside it, another does no harm
        return replace(usual(name), many=False) if name == "aud" else usual(name)

    other = Callers(((("aud", Equal(ANOTHER)),),))
    shown = one_of_both(looking.admissions.callers_of(trust), other, rooms)
    if shown is not None:
        provider = looking.estate.accounts[account_of(trust.of)].provider if account_of(trust.of) else ANOTHER
        message = "admits tokens that were made for any other audience"
        yield _of(trust, "any-audience", message, f"pin it, for example aud: {provider}", shown)


def _cut_short(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    rooms = looking.admissions.rooms(trust)
    for name, test in trust.admits.conditions:
        for pattern in _patterns(test):
            stem = _stem_before_star(pattern)
            if stem is None:
                continue
            head, word, tail = stem
            longer = f"{head}{word}-too"
            wanted = Glob(f"{literal_pattern(longer)}{tail}")
            shown = one_of_both(looking.admissions.callers_of(trust), Callers((((name, wanted),),)), rooms)
            if shown is not None:
                message = f"the pattern {pattern} ends inside a name: {word}-too is admitted like {word}"
                remedy = f"end the name before the star: {literal_pattern(head + word)}/…, or name each one meant"
                path = ("admits", SHOWN_IN[trust.admits.form], name)
                yield _of(trust, "name-cut-short", message, remedy, shown, path)


def _patterns(test: Test) -> Iterator[str]:
    """The patterns that let something in; those behind a `not` do not."""
    if isinstance(test, AnyOf | AllOf):
        for one in test.tests:
            yield from _patterns(one)
    elif isinstance(test, Glob):
        yield test.pattern


def _stem_before_star(pattern: str) -> tuple[str, str, str] | None:
    """What stands before a star inside a name, the begun name, and the pattern after the star; None where none does.

    Only a first star behind plain text: what follows an earlier one is open anyway.
    """
    row = tokens(pattern)
    at = next((number for number, token in enumerate(row) if len(token) == 1 or token in ("**", "??")), None)
    if at is None or row[at] == "??":
        return None
    before = "".join(token[1:] for token in row[:at])
    word = re.split(r"[/:._-]", before)[-1]
    if len(word) < SHORTEST_STEM or not word[-1].isalpha():
        return None
    tail = "".join("?" if part == "??" else part for part in row[at + 1 :])
    return before.removesuffix(word), word, tail


def _only_barred(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    if any(says_who(test) for name, test in trust.admits.conditions if name != "aud"):
        return
    if not any(name != "aud" for name, _ in trust.admits.conditions):
        message = "does not say who is admitted, so every token of its issuer is"
    else:
        message = "says only who is not admitted, so every other caller is"
    yield _of(trust, "only-barred", message, "say who is meant, at least their sub", looking.admissions.example(trust))


def says_who(test: Test) -> bool:
    """Whether a test says who is meant: more than that there is a value, or which values are not."""
    if isinstance(test, AllOf):
        return any(says_who(one) for one in test.tests)
    if isinstance(test, AnyOf):
        return all(says_who(one) for one in test.tests)
    if isinstance(test, Glob):
        return bool(test.pattern.strip("*"))
    return not isinstance(test, Not | Present)


def _fork_like(estate: Estate) -> Mapping[str, set[tuple[str, str]]]:
    """By issuer, the claims and values of runs that another caller's change can start, as far as the estate shows."""
    found: dict[str, set[tuple[str, str]]] = {name: set() for name in estate.issuers}

    listed = {name: (*OUTSIDE_RUNS, *one.outside_runs) for name, one in estate.issuers.items()}

    def note(issuer: str, name: str, value: object) -> None:
        words = listed.get(issuer, OUTSIDE_RUNS)
        if isinstance(value, str) and name not in ("sub", "aud") and any(_has_words(value, word) for word in words):
            found.setdefault(issuer, set()).add((name, value))

    def note_all(issuer: str, conditions: Conditions) -> None:
        for name, test in conditions:
            for value in _values(test):
                note(issuer, name, value)

    for trust in estate.trusts:
        if trust.admits.form in BEARERS:
            note_all(str(trust.admits.whom), trust.admits.conditions)
    for journey in estate.journeys.values():
        if journey.origin.form in BEARERS:
            for name, value in journey.origin.shows.items():
                note(journey.origin.whom, name, value)
    for invariant in estate.invariants:
        start = invariant.claimed.start
        if start is not None and start.form in BEARERS:
            for whom in start.whom:
                note_all(str(whom), start.conditions)
    return found


def _has_words(value: str, words: str) -> bool:
    """Whether a value, split where it has no letters, has these words in a row; `forks` begins with `fork`."""
    found, wanted = (re.findall(r"[a-z]+", text.lower()) for text in (value, words))
    starts = range(len(found) - len(wanted) + 1)
    return any(all(map(str.startswith, found[at:], wanted)) for at in starts) if wanted else False


def _values(test: Test) -> Iterator[object]:
    if isinstance(test, AnyOf | AllOf):
        for one in test.tests:
            yield from _values(one)
    elif isinstance(test, Not):
        yield from _values(test.test)
    elif isinstance(test, Equal):
        yield test.value


def _forks(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    issuer = str(trust.admits.whom)
    rooms = looking.admissions.rooms(trust)
    for name, value in sorted(looking.forks.get(issuer, ())):
        shown = one_of_both(looking.admissions.callers_of(trust), Callers((((name, Equal(value)),),)), rooms)
        what = _can_change(looking, trust.of, issuer) if shown is not None else None
        if what is not None:
            message = f"admits {name} {value}, which an outsider's change can start, and can {what}"
            yield _of(trust, "fork-admitted", message, f"bar it: {name}: {{not: {value}}}, or pin those meant", shown)


def _can_change(looking: _RiskSearch, identity: str, issuer: str) -> str | None:
    """Something that an identity can change, directly or by taking on, where a caller whom an issuer speaks for has
    taken it on; None where it can only look and read."""
    chains, compiled = looking.chains, looking.chains.compiled
    catalogue = looking.estate.catalogue
    changing = [
        verb != "take-on" and catalogue.verbs_of(kind).get(verb) in CHANGING for kind, verb in compiled.permission_pairs
    ]
    wanted = np.array(changing, bool)
    place = compiled.find(identity)
    if place < 0:
        return None
    found = reachable(chains, [chains.from_place(place, issuer)], wanted)
    return f"{found[0].verb} {found[0].target}" if found else None


# -- trusts that admit by name --------------------------------------------------------------------------------------


def _whole_account(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    if trust.admits.form != Form.ACCOUNT:
        return
    estate, account = looking.estate, str(trust.admits.whom)
    taking = {
        grant.to
        for grant in estate.grants
        if account_of(grant.to) == account
        and ("identity", "take-on") in estate.permissions_of(grant.role)
        and contains(grant.at, trust.of)
    }
    journeys = {
        hop.identity
        for journey in estate.journeys.values()
        for hop, following in zip(journey.through, journey.through[1:], strict=False)
        if following.identity == trust.of and account_of(hop.identity) == account
    }
    if estate.administered_by_others(account):
        message = f"admits every identity of {account}, and others decide who that is"
        meant = next(iter(sorted(journeys)), f"{account}/identity/…")
        yield _of(trust, "whole-account", message, f"name the one that is meant: admits: {{identity: {meant}}}")
    elif len(taking | journeys) == 1:
        (one,) = taking | journeys
        message = f"admits every identity of {account}, and only {one} is intended"
        form = "group" if one in estate.groups else "identity"
        yield _of(trust, "whole-account", message, f"name it: admits: {{{form}: {one}}}")


def _no_reference(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    whom = str(trust.admits.whom)
    if trust.admits.form not in (Form.IDENTITY, Form.GROUP, Form.ACCOUNT, Form.PERSON) or not looking.estate.is_outside(
        whom
    ):
        return
    if looking.estate.is_outside(trust.of):
        return
    if not any(name == "reference" and passes(test, None) is not True for name, test in trust.when):
        message = (
            f"admits {whom} of another party without an agreed reference: every caller that can make it ask is admitted"
        )
        yield _of(trust, "no-reference", message, "agree on a text with them: when: {reference: …}")


def _never_by_ceiling(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    """Trusts that name callers whom a ceiling bars one and all; of bearers their own look tells it."""
    if not trust.in_force(looking.instant) or not _stands(looking, trust.of):
        return
    why = barred_from(looking.chains.compiled, trust, looking.instant)
    if why:
        message = f"no caller is ever admitted: {why}"
        yield _of(trust, "never-holds", message, "lift the ceiling, or remove the trust")


def _never_when(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    if trust.when and not _ever(looking, trust.when, trust.until, _callers_meant(looking, trust), trust.of):
        message = "no request can ever meet all of its `when`"
        yield _of(trust, "never-holds", message, "correct the conditions, or remove the trust", path=("when",))


def _callers_meant(looking: _RiskSearch, trust: Trust) -> list[str]:
    """Whom a trust admits by name, as far as it is known; `''` stands for those who are not."""
    compiled, whom = looking.chains.compiled, trust.admits.whom
    if trust.admits.form in (Form.IDENTITY, Form.PERSON):
        return [str(whom)]
    if trust.admits.form == Form.GROUP:
        members = [compiled.places.names[one] for one in compiled.members[compiled.find(str(whom))].tolist()]
        return members if members and not set(members) & set(compiled.to_come) else [""]
    return [""]


def _long_session(looking: _RiskSearch, trust: Trust) -> Iterator[Risk]:
    most = max(DEFAULT_SESSION, looking.needed.get(trust.of, DEFAULT_SESSION))
    if trust.session > most:
        message = f"sessions of {duration_text(trust.session)}, and no journey needs more than {duration_text(most)}"
        remedy = f"shorten it, or write a journey that needs it: within: {duration_text(trust.session)}"
        yield _of(trust, "long-session", message, remedy, path=("session",))


Look = Callable[[_RiskSearch, Trust], Iterator[Risk]]
BEARER_LOOKS: tuple[Look, ...] = (
    _never_admits, _strangers, _any_audience, _cut_short, _only_barred, _forks, _long_session,
)  # fmt: skip
NAMED_LOOKS: tuple[Look, ...] = (_whole_account, _no_reference, _never_by_ceiling, _never_when, _long_session)


# -- the estate as a whole ------------------------------------------------------------------------------------------


def _contained(looking: _RiskSearch) -> Iterator[Risk]:
    """Trusts of one identity of which one admits nobody that the other does not."""
    by_issuer: dict[str, list[tuple[Trust, Callers]]] = {}
    for trust in looking.estate.trusts:
        if trust.admits.form in BEARERS:
            try:
                callers = looking.admissions.callers_of(trust)
            except Undecided:
                looking.undecided += 1
                continue
            if callers:
                by_issuer.setdefault(str(trust.admits.whom), []).append((trust, callers))
    for admitting in by_issuer.values():
        rooms = looking.admissions.rooms(admitting[0][0])
        for pair in overlaps([(trust.of, callers) for trust, callers in admitting], rooms):
            later, earlier = admitting[pair.one], admitting[pair.other]
            try:
                for inner, outer in ((later, earlier), (earlier, later)):
                    if one_of_difference(inner[1], outer[1], rooms) is None:
                        yield _inside(inner[0], outer[0])
                        break
            except Undecided:
                looking.undecided += 1
    yield from _contained_by_name(looking)


def _contained_by_name(looking: _RiskSearch) -> Iterator[Risk]:
    named: dict[tuple[str, str, str], list[Trust]] = {}
    for other in looking.estate.trusts:
        if other.admits.form not in BEARERS:
            key = (other.of, other.admits.form, str(other.admits.whom))
            for before in named.setdefault(key, []):
                if set(before.when) <= set(other.when):
                    yield _inside(other, before)
                    break
            named[key].append(other)


def _inside(inner: Trust, outer: Trust) -> Risk:
    where = outer.name or str(outer.source)
    message = f"this trust admits no caller that the one at {where} does not"
    remedy = "take it out, or take the wider one out if this is what is meant"
    return _of(inner, "trust-in-trust", message, remedy, path=("of",))


def _never_holding_grants(looking: _RiskSearch) -> Iterator[Risk]:
    for grant in looking.estate.grants:
        try:
            to = [""] if looking.estate.is_of_many(grant.to) else [grant.to]
            if grant.when and not _ever(looking, grant.when, grant.until, to):
                message = f"the grant of {grant.role} to {grant.to}: no request can ever meet all of its `when`"
                names = tuple(name for name in (grant.name, grant.to) if name is not None)
                fix = "correct the conditions, or remove the grant"
                yield Risk("never-holds", message, grant.source, names, fix, None, ("when",))
        except Undecided:
            looking.undecided += 1


def _ever(
    looking: _RiskSearch, conditions: Conditions, until: datetime | None, callers: Iterable[str], target: str = ""
) -> bool:
    """Whether some request of one of these callers can meet conditions before an end: from some origin, from now on.

    `''` stands for a caller, or a target, that is not known.
    """
    compiled = looking.chains.compiled
    chain = list(compiled.chain_of(target)) if target else []
    lasting: Conditions = (("time", After(looking.instant)), *([("time", Before(until))] if until else []))
    for caller, form in product(callers, ORIGIN_FORMS):
        left: dict[str, frozenset[tuple[Test, Want]]] = {}
        rooms: dict[str, Room] = {}
        asked = [*conditions, *lasting]
        compared = {other: ALWAYS for _, test in conditions for other in names_in(test)}
        for name, test in (*asked, *compared.items()):
            family, _, rest = name.partition(".")
            if family == "claims" or (name == "mfa" and form != Form.PERSON):
                room = NEVER_SHOWN
            elif family == "caller" and caller:
                room = Room(frozenset(), absent=False, typical=(caller_fact(compiled, caller, rest),))
            elif family == "target" and target:
                room = Room(frozenset(), absent=False, typical=(target_label(compiled, chain, rest.partition(".")[2]),))
            elif name == "provider" and target:
                room = Room(frozenset(), absent=False, typical=(provider_at(compiled, caller, chain),))
            elif family == "origin":
                room = _origin_room(looking.estate, form, rest)
            else:
                room = ROOMS.get(name) or TEXT_ROOM
            left[name] = left.get(name, frozenset()) | {(test, Want.HOLDS)}
            rooms[name] = room
        if solve_together(left, rooms.__getitem__) is not None:
            return True
    return False


def _origin_room(estate: Estate, form: Form, name: str) -> Room:
    """Which values one of `origin.*` can have where a chain starts in a form."""
    if form == Form.IDENTITY or (form in BEARERS and name in ("organisation", "address")):
        return NEVER_SHOWN
    if name == "kind":
        return Room(frozenset(), absent=False, typical=(str(form),))
    if name == "address":
        return TEXT_ROOM
    if name == "organisation":
        return Room(frozenset(), typical=tuple(estate.organisations))
    signs = [
        issuer.name
        for issuer in estate.issuers.values()
        if FORM_OF_ISSUER[issuer.kind] == form or form == Form.WORKLOAD
    ]
    return Room(frozenset(), typical=tuple(estate.providers) if form == Form.HOST else tuple(signs))


def _origins_forgotten(looking: _RiskSearch) -> Iterator[Risk]:
    """Ceilings on the caller's organisation that a foreign origin passes once it has taken on an identity of ours."""
    estate = looking.estate
    about_callers = [
        ceiling
        for ceiling in estate.ceilings
        if any(name == "caller.organisation" for name, _ in ceiling.when)
        and not any(name.startswith("origin.") for name, _ in ceiling.when)
    ]
    for ceiling in about_callers:
        for trust in estate.trusts:
            party = _party(estate, trust)
            if party is None or not _passes_by(looking, ceiling, party, trust.of):
                continue
            what = _barred_within(looking, ceiling, trust.of)
            if what is not None:
                message = (
                    f"{ceiling.name} bars callers of {party}, and one that takes on {trust.of} ({trust.source})"
                    f" passes it as one of ours and can {what}"
                )
                remedy = "ask for the origin besides: origin.organisation in its `when`"
                yield Risk("origin-forgotten", message, ceiling.source, (ceiling.name,), remedy)
                break


def _party(estate: Estate, trust: Trust) -> str | None:
    """The organisation of those whom a trust of ours admits from elsewhere."""
    if trust.admits.form not in (Form.IDENTITY, Form.GROUP, Form.ACCOUNT, Form.PERSON) or estate.is_outside(trust.of):
        return None
    party = estate.organisation_of(str(trust.admits.whom))
    return party if party and party != estate.organisation_of(trust.of) else None


def _passes_by(looking: _RiskSearch, ceiling: Ceiling, party: str, identity: str) -> bool:
    """Whether a ceiling applies to callers of a party, as far as their organisation says, and not to an identity."""
    ours = organisation_at(looking.chains.compiled, identity)
    tests = [test for name, test in ceiling.when if name == "caller.organisation"]
    return all(passes(test, party) is not False for test in tests) and any(
        passes(test, ours) is False for test in tests
    )


def _barred_within(looking: _RiskSearch, ceiling: Ceiling, identity: str) -> str | None:
    """Something that a ceiling bars and an identity can do beneath it."""
    chains, compiled, catalogue = looking.chains, looking.chains.compiled, looking.estate.catalogue
    if ceiling.bars is not None:
        barred = catalogue.permissions(ceiling.bars, power_included=True)
    else:
        barred = frozenset(compiled.permission_pairs) - catalogue.permissions(ceiling.only or {}, power_included=True)
    wanted = np.array([pair in barred for pair in compiled.permission_pairs], bool)
    place = compiled.find(identity)
    if place < 0:
        return None
    for access in reachable(chains, [chains.from_place(place)], wanted):
        above = looking.estate.boundary_above(account_of(access.target))
        if ceiling.over == "callers" or contains(ceiling.at, access.target) or ceiling.at in above:
            return f"{access.verb} {access.target}"
    return None

"""A naive second evaluator: the meaning of a verdict written out with loops, to be compared with the engine.

It knows the model's plain records and nothing else of the product. Nothing in it is quick, on purpose.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address, ip_network
from itertools import product
from typing import Any

from enthesis.model import estate as m
from enthesis.model.conditions import AllOf, AnyOf, Glob, Not, Present, SameAs
from enthesis.model.vocabulary import Form

Truth = bool | None
REFUSED, ALLOWED, NOT_NEEDED, THEIRS, UNKNOWN = "refused", "allowed", "not needed", "theirs", "unknown"
EMPTY: tuple[Any, ...] = (None, "", (), {})
NETWORKS = ("10.1.2.3", "10.2.0.1", "192.0.2.7", "198.51.100.1", "203.0.113.9", "10.0.0.0", "10.255.255.255", "9.0.0.1")
REFERENCES = ("r1", "r2", "r3", "special-1", "x")
AUDIENCES = (
    "north",
    "south",
    "x",
    "nobody",
    "https://north.example/x",
)  # what a workload may ask its cluster's token for, among others


# -- conditions -------------------------------------------------------------------------------------------------


def conj(answers: list[Truth]) -> Truth:
    return False if False in answers else None if None in answers else True


def disj(answers: list[Truth]) -> Truth:
    return True if True in answers else None if None in answers else False


def negated(answer: Truth) -> Truth:
    return None if answer is None else not answer


def globbed(pattern: str, text: str) -> bool:
    """Backtracking, one character at a time."""
    if not pattern:
        return not text
    if pattern.startswith("**"):
        return any(globbed(pattern[2:], text[cut:]) for cut in range(len(text) + 1))
    if pattern[0] == "*":
        for cut in range(len(text) + 1):
            if globbed(pattern[1:], text[cut:]):
                return True
            if cut < len(text) and text[cut] in "/:":
                return False
        return False
    if pattern[0] == "?":
        return bool(text) and text[0] not in "/:" and globbed(pattern[1:], text[1:])
    if pattern[0] == "\\":
        return text[:1] == pattern[1:2] and globbed(pattern[2:], text[1:])
    return text[:1] == pattern[0] and globbed(pattern[1:], text[1:])


def single(test: Any, value: Any) -> Truth:  # noqa: PLR0911  one line a test
    """A test without `not` and `present` of one element."""
    name = type(test).__name__
    if value in EMPTY:
        return None
    if name == "Equal":
        return bool(value == test.value) if type(value) is type(test.value) else None
    if name == "Glob":
        return globbed(test.pattern, value) if isinstance(value, str) else None
    if name == "Within":
        if isinstance(value, str):
            try:
                value = ip_network(ip_address(value))
            except ValueError:
                return None
        if not hasattr(value, "network_address"):
            return None
        alike = [one for one in test.networks if one.version == value.version]
        if any(value.subnet_of(one) for one in alike):
            return True
        return None if any(value.overlaps(one) for one in alike) else False
    if name in ("Before", "After"):
        if not isinstance(value, datetime):
            return None
        return bool(value < test.time if name == "Before" else value >= test.time)
    if not isinstance(value, timedelta):
        return None
    return bool(value > test.duration)


def passes(test: Any, value: Any, facts: Any = None) -> Truth:
    if isinstance(test, SameAs):
        return the_same(value, (facts or {}).get(test.attribute))
    if isinstance(test, AnyOf):
        return disj([passes(one, value, facts) for one in test.tests])
    if isinstance(test, Not):
        return negated(passes(test.test, value, facts))
    if isinstance(test, Present):
        return (value not in EMPTY) is test.wanted
    if isinstance(test, AllOf):
        whole = [passes(one, value, facts) for one in test.tests if isinstance(one, Not | Present)]
        rest = [one for one in test.tests if not isinstance(one, Not | Present)]
        if not rest:
            return conj(whole)
        if isinstance(value, tuple) and value:
            return conj([*whole, disj([conj([one_part(one, part, facts) for one in rest]) for part in value])])
        return conj([*whole, *(one_part(one, value, facts) for one in rest)])
    if isinstance(value, tuple) and value:
        return disj([single(test, part) for part in value])
    return single(test, value)


def one_part(test: Any, part: Any, facts: Any) -> Truth:
    return passes(test, part, facts) if isinstance(test, SameAs) else single(test, part)


def the_same(value: Any, other: Any) -> Truth:
    """Kleene's or over the pairs of elements: unknown of what is absent or of another type."""
    ones, others = ((one if isinstance(one, tuple) else (one,)) or (None,) for one in (value, other))
    pairs = [
        None if one in EMPTY or two in EMPTY or type(one) is not type(two) else one == two
        for one in ones
        for two in others
    ]
    return disj(pairs)


def pointed_at(value: Any, stem: str) -> Iterator[tuple[str, Any]]:
    """What stands in claims, by pointers."""
    pairs = (
        list(value.items()) if isinstance(value, dict) else list(enumerate(value)) if isinstance(value, tuple) else []
    )
    for name, inner in pairs:
        path = stem + "/" + str(name).replace("~", "~0").replace("/", "~1")
        if stem:
            yield path, inner
        yield from pointed_at(inner, path)


# -- places -----------------------------------------------------------------------------------------------------


@dataclass
class Seen:
    """One request as judged: the steps in words, and what else the tests look at."""

    steps: dict[str, str]
    admitting: list[m.Trust] = field(default_factory=list)  # those whose session counts
    life: timedelta | None = None  # of the session that this gives; None: nothing bounds it, or it gives none

    @property
    def refused(self) -> set[str]:
        return {step for step, word in self.steps.items() if word == REFUSED}


@dataclass
class Caller:
    form: str  # bearer, resource, identity
    address: str | None
    session_ends_after: timedelta | None = None  # how old the session may get, for asking
    life: timedelta | None = None  # how long it lives in all, as a trust's end cuts it
    narrowings: tuple[Any, ...] = ()
    has_session: bool = False


class Naive:
    """Judges journeys of one estate at one instant. `pretend` is what all conditions are taken for, if anything."""

    def __init__(self, estate: m.Estate, now: datetime) -> None:
        self.estate = estate
        self.now = now.astimezone(UTC)
        self.known: dict[Any, Any] = {}  # what was found out before; nothing in it depends on the journey
        self.pretend: Truth | str = ""

    def hang_on_a_condition(self, journey: m.Journey) -> list[bool]:
        """For each request, whether all conditions holding and all of them unknown would be told apart."""
        found = []
        for self.pretend in (True, None):
            found.append([bool(seen.refused) for seen in self.judge(journey)])
        self.pretend = ""
        return [one != other for one, other in zip(*found, strict=True)]

    # what there is

    def walk(self, address: str) -> tuple[str, str] | None:
        """Kind and parent of an address that is well formed, else None."""
        kinds = self.estate.catalogue.kinds
        parts = address.split("/")
        if any(part in ("", ".", "..") for part in parts):
            return None
        if address.startswith("@"):
            if len(parts) == 1:
                return "organisation", ""
            if parts[1] in ("identity", "group"):
                return (parts[1], parts[0]) if len(parts) == 3 else None
            return "unit", "/".join(parts[:-1])
        kind, parent, at = "account", "", 1
        while at < len(parts):
            inner = kinds.get(parts[at])
            if inner is None or kind not in inner.within or at + 1 == len(parts):
                return None
            kind, parent = parts[at], "/".join(parts[:at])
            at = len(parts) if inner.leaf else at + 2
        return kind, parent

    def kind_at(self, address: str) -> str | None:
        found = self.walk(address)
        return found[0] if found else None

    def declared(self, address: str) -> bool:
        estate = self.estate
        if address.startswith("@"):
            name, _, unit = address[1:].partition("/")
            if name in estate.organisations and (not unit or unit in estate.organisations[name].units):
                return True
        sections = (estate.accounts, estate.resources, estate.identities, estate.groups)
        return any(address in section for section in sections)

    def exists(self, address: str) -> bool:
        found = self.walk(address)
        if found is None:
            return False
        kind, parent = found
        leaf = kind in self.estate.catalogue.kinds and self.estate.catalogue.kinds[kind].leaf
        member = kind == "host" and self.kind_at(parent) == "pool"
        return self.declared(address) or ((leaf or member) and self.declared(parent))

    def above(self, address: str) -> list[str]:
        if ("above", address) not in self.known:
            self.known["above", address] = self.found_above(address)
        return list(self.known["above", address])

    def found_above(self, address: str) -> list[str]:
        parts = address.split("/")
        if address.startswith("@"):
            if len(parts) == 3 and parts[1] in ("identity", "group"):
                return [address, parts[0]]
            return ["/".join(parts[:n]) for n in range(len(parts), 0, -1)]
        own = ["/".join(parts[:n]) for n in range(len(parts), 0, -1)]
        account = self.estate.accounts.get(parts[0])
        return own + (self.above(account.within) if account else [])

    def account(self, address: str | None) -> str | None:
        return None if not address or address.startswith("@") else address.split("/", maxsplit=1)[0]

    def organisation(self, address: str | None) -> str | None:
        if not address:
            return None
        top = self.above(address)[-1]
        return top[1:] if top.startswith("@") else None

    def provider(self, address: str | None) -> str | None:
        account = self.estate.accounts.get(self.account(address) or "")
        return account.provider if account else None

    def theirs(self, account: str) -> bool:
        found = self.estate.accounts[account]
        outside = self.estate.organisations[self.organisation(account) or ""].outside
        return outside or found.administered_by == "others"

    def runs_as(self, address: str) -> set[str]:
        resource = self.estate.resources.get(address)
        found = set(resource.runs_as) if resource else set()
        for attachment in self.estate.attachments:
            what = attachment.what
            if globbed(what.pattern, address) if isinstance(what, Glob) else what == address:
                found |= set(attachment.runs_as)
        parts = address.split("/")
        if len(parts) == 5 and parts[1] == "pool":
            found |= self.runs_as("/".join(parts[:3]))
        return found

    def in_group(self, caller: str, group: str) -> bool:
        if ("group", caller, group) not in self.known:
            self.known["group", caller, group] = self.found_in_group(caller, group)
        return bool(self.known["group", caller, group])

    def found_in_group(self, caller: str, group: str) -> bool:
        found = self.estate.groups[group]
        for member in found.members:
            if member == caller or (member in self.estate.groups and self.in_group(caller, member)):
                return True
        rule = found.where
        identity = self.estate.identities.get(caller)
        if rule is None or identity is None:
            return False
        organisation = self.estate.organisations.get(self.organisation(caller) or "")
        place = rule.within or self.account(group) or group.split("/", maxsplit=1)[0]
        return (
            organisation is not None
            and not organisation.outside
            and (
                place in self.above(caller)
                or (
                    identity.tied_to is not None
                    and self.account(identity.tied_to) == self.account(caller)
                    and place in self.above(identity.tied_to)
                )
            )
            and (rule.kind is None or rule.kind == identity.kind)
            and all(identity.labels.get(name) == value for name, value in rule.labels.items())
        )

    def lists(self, listed: Any, kind: str, verb: str, star_is_all: bool) -> bool:
        for selector, verbs in listed.items():
            if selector in ("*", kind):
                its_class = self.estate.catalogue.verbs_of(kind).get(verb)
                if verb in verbs or ("*" in verbs and (star_is_all or its_class != "power")):
                    return True
        return False

    def role_lists(self, role: str, kind: str, verb: str) -> bool:
        if ("role", role, kind, verb) not in self.known:
            self.known["role", role, kind, verb] = self.found_in_role(role, kind, verb)
        return bool(self.known["role", role, kind, verb])

    def found_in_role(self, role: str, kind: str, verb: str, seen: frozenset[str] = frozenset()) -> bool:
        if role in seen:
            return False
        found = self.estate.roles[role]
        if self.lists(found.allows, kind, verb, star_is_all=False):
            return True
        return any(self.found_in_role(one, kind, verb, seen | {role}) for one in found.includes)

    # a whole chain

    def judge(self, journey: m.Journey) -> list[Seen]:
        """Each hop, then the attempt; judged on after a refusal."""
        self.origin, self.context = journey.origin, journey.context
        self.time = (journey.context.time or self.now).astimezone(UTC)
        caller = self.bearer()
        requests: list[tuple[str, str, str | None, m.Hop | None]] = [
            (self.running_verb(hop.on), hop.on, None, hop) if hop.on else ("take-on", hop.identity, None, hop)
            for hop in journey.through
        ]
        if journey.attempt:
            requests.append((journey.attempt.verb, journey.attempt.target, journey.attempt.onto, None))
        out = []
        for number, (verb, target, onto, hop) in enumerate(requests):
            last = number == len(requests) - 1
            self.age = (journey.context.session_age or timedelta(0)) if last else timedelta(0)
            self.at_first = number == 0
            seen = self.request(caller, verb, target, onto)
            out.append(seen)
            if verb == "take-on":
                seen.life = self.life(caller, seen, last=last)
            if hop is not None:
                runs = hop.member or hop.on
                if not runs and hop.identity not in self.estate.identities and self.exists(hop.identity):
                    runs = hop.identity  # refused at names, and gone on from as if `on` had been said
                caller = Caller("resource", runs) if runs else self.taken_on(caller, hop, seen)
        return out

    def running_verb(self, resource: str) -> str:
        """The verb by which code is run on something: login where that runs code, else the only one that does."""
        verbs = self.estate.catalogue.verbs_of(self.kind_at(resource) or "")
        running = [verb for verb, its_class in verbs.items() if its_class == "run"]
        return "login" if "login" in running or not running else running[0]

    def bearer(self) -> Caller:
        form, whom = self.origin.form, self.origin.whom
        if form in ("token", "assertion", "certificate"):
            return Caller("bearer", None)
        if form in ("host", "workload"):
            return Caller("resource", whom)
        if form == "credential":
            known = self.estate.credentials.get(whom)
            return Caller("identity", known.of if known else None)
        return Caller("identity", whom, has_session=form == "identity")

    def taken_on(self, caller: Caller, hop: m.Hop, seen: Seen) -> Caller:
        ends = caller.session_ends_after
        if seen.admitting:
            longest = max(trust.session for trust in seen.admitting)
            ends = longest if ends is None else min(ends, longest)
        more = (hop.narrowed,) if hop.narrowed is not None else ()
        return Caller("identity", hop.identity, ends, seen.life, caller.narrowings + more, has_session=True)

    def life(self, caller: Caller, seen: Seen, *, last: bool) -> timedelta | None:
        """How long the session that a hop gives lives from when it was obtained, the longest of those that admit."""
        age = self.context.session_age or timedelta(0)
        began = self.time if last else self.time - age
        parent = caller.life
        if last and parent is not None:
            parent -= age
        if not seen.admitting:
            return parent
        own = max(trust.session if trust.until is None else min(trust.session, trust.until - began)
                  for trust in seen.admitting)  # fmt: skip
        return own if parent is None else min(own, parent)

    # an expectation

    def met(self, journey: m.Journey) -> bool:
        """Whether a journey is as it is expected to be."""
        judged = self.judge(journey)
        refused = set().union(*(seen.refused for seen in judged))
        if refused and self.rests_on_what_was_forgotten(journey):
            return False
        if (journey.expect == "allowed") != (not refused):
            return False
        if "names" in refused and "names" not in journey.refused_at:
            return False
        if not set(journey.refused_at) <= refused:
            return False
        if journey.keyless and journey.origin.form in (Form.CREDENTIAL, Form.IDENTITY):
            return False
        return journey.within is None or self.short_enough(journey, judged, journey.within)

    def short_enough(self, journey: m.Journey, judged: list[Seen], within: timedelta) -> bool:
        if any(seen.life is not None and seen.life > within for seen in judged):
            return False
        credential = (
            self.estate.credentials.get(journey.origin.whom) if journey.origin.form == Form.CREDENTIAL else None
        )
        if credential is None:
            return True
        known = credential.created is not None and credential.expires is not None
        return known and credential.expires - credential.created <= within  # type: ignore[operator]

    def rests_on_what_was_forgotten(self, journey: m.Journey) -> bool:
        """Whether some values of what the journey leaves unsaid would make it allowed."""
        said, origin = journey.context.said, journey.origin
        networks = [None, *map(ip_network, NETWORKS)] if "network" not in said else [journey.context.network]
        references = [None, *REFERENCES] if "reference" not in said else [journey.context.reference]
        mfas = [None, True, False] if origin.form == Form.PERSON and not origin.mfa_said else [origin.mfa]
        for network, reference, mfa in product(networks, references, mfas):
            context = replace(journey.context, network=network, reference=reference)
            tried = replace(journey, origin=replace(origin, mfa=mfa), context=context)
            if not any(seen.refused for seen in self.judge(tried)):
                return True
        return False

    # one request

    def request(self, caller: Caller, verb: str, target: str, onto: str | None, beside: str | None = None) -> Seen:
        steps = dict.fromkeys(
            ("names", "provider", "ceilings", "target-side", "caller-side", "companions", "session"), UNKNOWN
        )
        seen = Seen(steps)
        kind = self.kind_at(target)
        known = (
            (not self.at_first or self.origin_known())
            and (caller.address is None or self.exists(caller.address))
            and (caller.form != "identity" or caller.address in self.estate.identities)
            and self.exists(target)
            and (verb != "take-on" or target in self.estate.identities)
            and verb in self.estate.catalogue.verbs_of(kind or "")
            and (onto is None or self.exists(onto))
        )
        if not known or kind is None:
            steps["names"] = REFUSED
            return seen
        facts = self.facts(caller, target, beside)
        steps["names"] = ALLOWED if self.standing(caller, verb, target, facts) else REFUSED
        steps["provider"] = self.provider_step(caller, verb, target)
        steps["ceilings"] = ALLOWED if self.ceilings_step(caller, verb, target, kind, facts) else REFUSED
        admitting: list[m.Trust] = []
        if verb == "take-on":
            admitting = [one for one in self.estate.trusts if one.of == target and self.admits(one, caller, facts)]
            owner = bool(admitting)
        elif kind == "key" and verb in ("encrypt", "decrypt", "sign") and self.foreign_to(target, caller):
            owner = False
        else:
            owner = self.granted(caller, verb, target, kind, facts, self.owners(target))
        steps["target-side"] = ALLOWED if owner else REFUSED
        steps["caller-side"] = self.caller_step(caller, verb, target, kind, facts, admitting)
        let = self.lets_out(caller, verb, target, kind, facts)
        seen.admitting = [one for one in admitting if one.admits.form != Form.ACCOUNT or let]
        steps["companions"] = self.companions_step(caller, verb, target, kind, onto)
        steps["session"] = self.session_step(caller, verb, kind)
        return seen

    def foreign_to(self, key: str, caller: Caller) -> bool:
        """Whether a key is one that the provider manages, and the caller is not of its account."""
        resource = self.estate.resources.get(key)
        managed = resource is not None and resource.managed_by == "provider"
        return managed and self.account(caller.address) != self.account(key)

    def origin_known(self) -> bool:
        form, whom = self.origin.form, self.origin.whom
        if form in ("token", "assertion", "certificate"):
            return whom in self.estate.issuers
        if form == "credential":
            return whom in self.estate.credentials
        return self.exists(whom) and (form not in ("person", "identity") or whom in self.estate.identities)

    def standing(self, caller: Caller, verb: str, target: str, facts: dict[str, Any]) -> bool:
        for address in (caller.address, target):
            identity = self.estate.identities.get(address or "")
            if identity is not None and identity.disabled:
                return False
            if (
                identity is not None
                and identity.kind == "person"
                and address == target
                and verb in ("run-as", "attach")
            ):
                return False
            if identity is not None and identity.tied_to is not None and not self.exists(identity.tied_to):
                return False
        if self.origin.form == Form.CREDENTIAL and self.at_first:
            credential = self.estate.credentials[self.origin.whom]
            lapsed = credential.expires is not None and credential.expires <= self.time
            if credential.disabled or lapsed:
                return False
            return self.hold(credential.when, facts) is True
        return True

    def facts(self, caller: Caller, target: str, beside: str | None = None) -> dict[str, Any]:
        """Every attribute a condition can speak of; absent ones are left out."""
        origin, context = self.origin, self.context
        facts: dict[str, Any] = {
            "time": self.time,
            "network": context.network,
            "reference": context.reference,
            "provider": self.provider(target) or self.provider(caller.address) or beside,
            "mfa": origin.mfa if origin.form == Form.PERSON else None,
            "session.age": self.age,
        }
        if self.at_first and origin.form in (Form.TOKEN, Form.ASSERTION, Form.CERTIFICATE):
            facts.update({f"claims.{name}": value for name, value in origin.shows.items()})
            facts.update({f"claims.{name}": value for name, value in pointed_at(origin.shows, "")})
        if caller.address is not None:
            facts["caller.address"] = caller.address
            facts["caller.account"] = self.account(caller.address)
            facts["caller.organisation"] = self.organisation(caller.address)
            identity = self.estate.identities.get(caller.address)
            facts["caller.kind"] = identity.kind if identity else self.kind_at(caller.address)
            own = identity or self.estate.resources.get(caller.address)
            for name, value in (own.labels if own else {}).items():
                facts[f"caller.labels.{name}"] = value
        if origin.form != Form.IDENTITY:
            facts["origin.kind"] = str(origin.form)
        if origin.form in (Form.TOKEN, Form.ASSERTION, Form.CERTIFICATE):
            facts["origin.issuer"] = origin.whom
        elif origin.form != Form.IDENTITY:
            address = origin.whom
            if origin.form == Form.CREDENTIAL:
                credential = self.estate.credentials.get(origin.whom)
                address = credential.of if credential else ""
            facts["origin.address"] = address or None
            facts["origin.organisation"] = self.organisation(address)
            if origin.form == Form.HOST:
                facts["origin.issuer"] = self.provider(address)
            if origin.form == Form.WORKLOAD:
                facts["origin.issuer"] = self.cluster_issuer(address)
        for place in reversed(self.above(target)):
            for name, value in self.labels_at(place).items():
                facts[f"target.labels.{name}"] = value
        return facts

    def cluster_issuer(self, workload: str) -> str | None:
        """The issuer of the cluster that a workload runs in."""
        for name, issuer in self.estate.issuers.items():
            if issuer.cluster is not None and issuer.cluster in self.above(workload):
                return name
        return None

    def labels_at(self, place: str) -> Any:
        estate = self.estate
        if place.startswith("@") and place[1:] in estate.organisations:
            return estate.organisations[place[1:]].labels
        for section in (estate.accounts, estate.resources, estate.identities):
            if place in section:
                return section[place].labels
        return {}

    def hold(self, conditions: Any, facts: dict[str, Any], prefix: str = "") -> Truth:
        if conditions and not isinstance(self.pretend, str):
            return self.pretend
        return conj([passes(test, facts.get(prefix + name), facts) for name, test in conditions])

    def provider_step(self, caller: Caller, verb: str, target: str) -> str:
        wanted = self.provider(target)
        if verb == "take-on":
            return ALLOWED
        if wanted is None:
            return NOT_NEEDED
        if caller.address is None:
            return REFUSED
        identity = self.estate.identities.get(caller.address)
        if identity is not None and identity.kind == "person":
            return ALLOWED
        return ALLOWED if self.provider(caller.address) == wanted else REFUSED

    def ceilings_step(self, caller: Caller, verb: str, target: str, kind: str, facts: dict[str, Any]) -> bool:
        own = verb == "take-on" and caller.form == "resource" and target in self.runs_as(caller.address or "")
        for ceiling in self.estate.ceilings:
            if own and ceiling.over == "callers":
                continue  # a resource takes on what it runs as
            beneath = caller.address if ceiling.over == "callers" else target
            if beneath is None or ceiling.at not in self.above(beneath):
                continue
            if any(self.excepted(one, caller.address, ceiling.at, verb, target) for one in ceiling.excepts):
                continue
            if self.hold(ceiling.when, facts) is False:
                continue
            if ceiling.bars is not None and self.lists(ceiling.bars, kind, verb, star_is_all=True):
                return False
            if ceiling.only is not None and not self.lists(ceiling.only, kind, verb, star_is_all=True):
                return False
        return True

    def excepted(self, one: Any, caller: str | None, boundary: str, verb: str, target: str) -> bool:
        if caller is None:
            return False
        if isinstance(one, m.CeilingException):
            if one.until <= self.time or (one.can and verb not in one.can and "*" not in one.can):
                return False
            if one.at and one.at not in self.above(target):
                return False
            one = one.who
        if isinstance(one, Glob):
            return globbed(one.pattern, caller) and boundary in self.above(caller)
        return bool(one == caller)

    def owners(self, target: str) -> set[str]:
        account = self.account(target)
        if account:
            return {account, *self.above(self.estate.accounts[account].within)}
        return {place for place in self.above(target) if "/identity/" not in place and "/group/" not in place}

    def granted(
        self, caller: Caller, verb: str, target: str, kind: str, facts: dict[str, Any], holders: set[str]
    ) -> bool:
        for grant in self.estate.grants:
            if caller.form != "identity" or caller.address is None:
                continue
            named = grant.to == caller.address or (
                grant.to in self.estate.groups and self.in_group(caller.address, grant.to)
            )
            if grant.to in {f"@{name}" for name in self.estate.organisations}:
                named = self.organisation(caller.address) == grant.to.removeprefix("@")
            holder = grant.held_by or self.account(grant.at) or grant.at.split("/identity/")[0].split("/group/")[0]
            if (
                named
                and holder in holders
                and grant.at in self.above(target)
                and self.role_lists(grant.role, kind, verb)
                and (grant.until is None or grant.until > self.time)
                and self.hold(grant.when, facts) is True
            ):
                return True
        return False

    def admits(self, trust: m.Trust, caller: Caller, facts: dict[str, Any]) -> bool:  # noqa: PLR0911
        if trust.until is not None and trust.until <= self.time:
            return False
        form, whom = trust.admits.form, trust.admits.whom
        if form == "token" and caller.form == "resource":
            return self.shows_its_service_account(trust, str(caller.address), facts)
        if self.hold(trust.when, facts) is not True:
            return False
        if form in ("token", "assertion", "certificate"):
            if caller.form != "bearer" or (self.origin.form, self.origin.whom) != (form, whom):
                return False
            return self.in_time() and self.hold(trust.admits.conditions, facts, "claims.") is True
        if caller.address is None or caller.form == "bearer":
            return False
        if form == "attached":
            words = caller.address.split("/")
            if len(words) == 3 and words[1] == "pool":
                return False  # its members ask, never the pool
            if caller.form != "resource" or trust.of not in self.runs_as(caller.address):
                return False
            if whom is True:
                return self.account(caller.address) == self.account(trust.of)
            meant = [caller.address, *(["/".join(words[:3])] if words[1:2] == ["pool"] else [])]
            return any(globbed(whom.pattern, one) if isinstance(whom, Glob) else whom == one for one in meant)
        if caller.form != "identity":
            return False
        if form in ("identity", "person"):
            return caller.address == whom
        person = self.estate.identities[caller.address].kind == "person"
        if not person and self.provider(caller.address) != self.provider(trust.of):
            return False  # another provider vouches for single identities only
        if form == "group":
            return self.in_group(caller.address, str(whom))
        return self.account(caller.address) == whom

    def shows_its_service_account(self, trust: m.Trust, workload: str, facts: dict[str, Any]) -> bool:
        """Whether a workload is admitted by a token of a service account that it runs as, for any one audience."""
        if self.kind_at(workload) != "workload" or trust.admits.whom != self.cluster_issuer(workload):
            return False
        namespace = workload.split("/workload/", maxsplit=1)[0]
        for identity in self.runs_as(workload):
            if not identity.startswith(f"{namespace}/identity/"):
                continue
            words = identity.split("/")
            subject = f"system:serviceaccount:{words[4]}:{words[6]}"
            for audience in AUDIENCES:
                more = {"namespace": subject.split(":")[2], "serviceaccount/name": subject.split(":")[3]}
                shown = {**facts, "claims.sub": subject, "claims.aud": audience}
                shown |= {f"claims./kubernetes.io/{name}": value for name, value in more.items()}
                if (
                    self.hold(trust.when, shown) is True
                    and self.hold(trust.admits.conditions, shown, "claims.") is True
                ):
                    return True
        return False

    def in_time(self) -> bool:
        until, since = self.origin.shows.get("exp"), self.origin.shows.get("nbf")
        now = self.time.timestamp()
        ended = isinstance(until, int | float) and not isinstance(until, bool) and until <= now
        early = isinstance(since, int | float) and not isinstance(since, bool) and since > now
        return not ended and not early

    def caller_step(
        self, caller: Caller, verb: str, target: str, kind: str, facts: dict[str, Any], admitting: list[m.Trust]
    ) -> str:
        own = self.account(caller.address)
        if own is None or caller.form != "identity":
            return NOT_NEEDED
        other, provider = self.account(target), self.provider(target)
        crossing = other is not None and other != own and self.provider(caller.address) == provider
        two_sided = provider is not None and self.estate.providers[provider].style == "two-sided"
        whole_account = bool(admitting) and all(trust.admits.form == Form.ACCOUNT for trust in admitting)
        if not (crossing and two_sided) and not whole_account:
            return NOT_NEEDED
        if self.theirs(own):
            return THEIRS
        return ALLOWED if self.lets_out(caller, verb, target, kind, facts) else REFUSED

    def lets_out(self, caller: Caller, verb: str, target: str, kind: str, facts: dict[str, Any]) -> bool:
        """Whether the caller's side lets it, needed or not."""
        own = self.account(caller.address)
        if own is None or caller.form != "identity":
            return False
        if self.theirs(own):
            return True
        holders = {own, *self.above(self.estate.accounts[own].within)}
        return self.granted(caller, verb, target, kind, facts, holders)

    def companions_step(self, caller: Caller, verb: str, target: str, kind: str, onto: str | None) -> str:
        asked = list(self.companions(caller, verb, target, kind, onto))
        if not asked:
            return NOT_NEEDED
        return ALLOWED if all(asked) else REFUSED

    def companions(self, caller: Caller, verb: str, target: str, kind: str, onto: str | None) -> Iterator[bool]:
        """Whether each further thing that this needs is allowed."""
        its_class = self.estate.catalogue.verbs_of(kind)[verb]
        if its_class in ("read", "write"):
            for place in self.above(target):
                resource = self.estate.resources.get(place)
                if resource is not None and resource.encrypted_by is not None:
                    further = "decrypt" if its_class == "read" else "encrypt"
                    yield self.also(caller, further, resource.encrypted_by)
                    break
        if its_class == "run":
            for identity in sorted(self.runs_as(target)):
                yield self.also(caller, "run-as", identity)
        if verb == "attach" and onto is not None:
            yield self.also(caller, "configure", onto)
        person = self.person_behind()
        if person is not None and verb != "enter":
            mine, other = self.organisation(person), self.organisation(target)
            if other is not None and mine != other:
                at = self.provider(target) or self.provider(caller.address)
                yield self.also(Caller("identity", person), "enter", f"@{other}", at)

    def also(self, caller: Caller, verb: str, target: str, beside: str | None = None) -> bool:
        return not self.request(caller, verb, target, None, beside).refused

    def person_behind(self) -> str | None:
        """The person whose sign-in or keyed credential a chain began with."""
        address: str | None = self.origin.whom
        if self.origin.form == Form.CREDENTIAL:
            known = self.estate.credentials.get(self.origin.whom)
            address = known.of if known else None
        elif self.origin.form != Form.PERSON:
            return None
        known_person = self.estate.identities.get(address or "")
        person = self.origin.form == Form.PERSON or (known_person is not None and known_person.kind == "person")
        return address if person else None

    def session_step(self, caller: Caller, verb: str, kind: str) -> str:
        for narrowing in caller.narrowings:
            if not self.lists(narrowing, kind, verb, star_is_all=False):
                return REFUSED
        if caller.session_ends_after is not None and self.age >= caller.session_ends_after:
            return REFUSED
        return ALLOWED if caller.has_session else NOT_NEEDED

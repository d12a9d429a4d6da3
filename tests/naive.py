"""A naive second evaluator: the meaning of a verdict written out with loops, to be compared with the engine.

It knows the model's plain records and nothing else of the product. Nothing in it is quick, on purpose.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address, ip_network
from typing import Any

from enthesis.model import estate as m
from enthesis.model.conditions import AllOf, AnyOf, Glob, Not, Present

Truth = bool | None
REFUSED, ALLOWED, NOT_NEEDED, THEIRS, UNKNOWN = "refused", "allowed", "not needed", "theirs", "unknown"
EMPTY: tuple[Any, ...] = (None, "", (), {})


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


def passes(test: Any, value: Any) -> Truth:
    if isinstance(test, AnyOf):
        return disj([passes(one, value) for one in test.tests])
    if isinstance(test, Not):
        return negated(passes(test.test, value))
    if isinstance(test, Present):
        return (value not in EMPTY) is test.wanted
    if isinstance(test, AllOf):
        whole = [passes(one, value) for one in test.tests if isinstance(one, Not | Present)]
        rest = [one for one in test.tests if not isinstance(one, Not | Present)]
        if not rest:
            return conj(whole)
        if isinstance(value, tuple) and value:
            return conj([*whole, disj([conj([single(one, part) for one in rest]) for part in value])])
        return conj([*whole, *(single(one, value) for one in rest)])
    if isinstance(value, tuple) and value:
        return disj([single(test, part) for part in value])
    return single(test, value)


# -- places -----------------------------------------------------------------------------------------------------


@dataclass
class Seen:
    """One request as judged: the steps in words, and what else the tests look at."""

    steps: dict[str, str]
    admitting: list[m.Trust] = field(default_factory=list)

    @property
    def refused(self) -> set[str]:
        return {step for step, word in self.steps.items() if word == REFUSED}


@dataclass
class Caller:
    form: str  # bearer, resource, identity
    address: str | None
    session_ends_after: timedelta | None = None
    narrowings: tuple[Any, ...] = ()
    has_session: bool = False


class Naive:
    """Judges journeys of one estate at one instant. `pretend` is what all conditions are taken for, if anything."""

    def __init__(self, estate: m.Estate, now: datetime) -> None:
        self.estate = estate
        self.now = now.astimezone(UTC)
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
        return self.declared(address) or (leaf and self.declared(parent))

    def above(self, address: str) -> list[str]:
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
                place in self.above(caller) or (identity.tied_to is not None and place in self.above(identity.tied_to))
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

    def role_lists(self, role: str, kind: str, verb: str, seen: frozenset[str] = frozenset()) -> bool:
        if role in seen:
            return False
        found = self.estate.roles[role]
        if self.lists(found.allows, kind, verb, star_is_all=False):
            return True
        return any(self.role_lists(one, kind, verb, seen | {role}) for one in found.includes)

    # a whole chain

    def judge(self, journey: m.Journey) -> list[Seen]:
        """Each hop, then the attempt; judged on after a refusal."""
        self.origin, self.context = journey.origin, journey.context
        self.time = (journey.context.time or self.now).astimezone(UTC)
        caller = self.bearer()
        requests: list[tuple[str, str, str | None, m.Hop | None]] = [
            ("take-on", hop.identity, None, hop) for hop in journey.through
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
            if hop is not None:
                caller = self.taken_on(caller, hop, seen)
        return out

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
        return Caller("identity", hop.identity, ends, caller.narrowings + more, has_session=True)

    # one request

    def request(self, caller: Caller, verb: str, target: str, onto: str | None) -> Seen:
        steps = dict.fromkeys(("names", "provider", "ceilings", "owner", "caller", "companions", "session"), UNKNOWN)
        seen = Seen(steps)
        kind = self.kind_at(target)
        known = (
            self.origin_known()
            and (caller.address is None or self.exists(caller.address))
            and (caller.form != "identity" or caller.address in self.estate.identities)
            and self.exists(target)
            and verb in self.estate.catalogue.verbs_of(kind or "")
            and (onto is None or self.exists(onto))
        )
        if not known or kind is None:
            steps["names"] = REFUSED
            return seen
        facts = self.facts(caller, target)
        steps["names"] = ALLOWED if self.standing(caller, target, facts) else REFUSED
        steps["provider"] = self.provider_step(caller, verb, target)
        steps["ceilings"] = ALLOWED if self.ceilings_step(caller, verb, target, kind, facts) else REFUSED
        if verb == "take-on":
            seen.admitting = [one for one in self.estate.trusts if one.of == target and self.admits(one, caller, facts)]
            owner = bool(seen.admitting)
        else:
            owner = self.granted(caller, verb, target, kind, facts, self.owners(target))
        steps["owner"] = ALLOWED if owner else REFUSED
        steps["caller"] = self.caller_step(caller, verb, target, kind, facts, seen.admitting)
        steps["companions"] = self.companions_step(caller, verb, target, kind, onto)
        steps["session"] = self.session_step(caller, verb, kind)
        return seen

    def origin_known(self) -> bool:
        form, whom = self.origin.form, self.origin.whom
        if form in ("token", "assertion", "certificate"):
            return whom in self.estate.issuers
        if form == "credential":
            return whom in self.estate.credentials
        return self.exists(whom) and (form not in ("person", "identity") or whom in self.estate.identities)

    def standing(self, caller: Caller, target: str, facts: dict[str, Any]) -> bool:
        for address in (caller.address, target):
            identity = self.estate.identities.get(address or "")
            if identity is not None and identity.disabled:
                return False
            if identity is not None and identity.tied_to is not None and not self.exists(identity.tied_to):
                return False
        if self.origin.form == "credential":
            credential = self.estate.credentials[self.origin.whom]
            lapsed = credential.expires is not None and credential.expires <= self.time
            if credential.disabled or lapsed:
                return False
            return self.hold(credential.when, facts) is True
        return True

    def facts(self, caller: Caller, target: str) -> dict[str, Any]:
        """Every attribute a condition can speak of; absent ones are left out."""
        origin, context = self.origin, self.context
        facts: dict[str, Any] = {
            "time": self.time,
            "network": context.network,
            "reference": context.reference,
            "mfa": origin.mfa,
            "session.age": self.age,
        }
        if self.at_first and origin.form in ("token", "assertion", "certificate"):
            facts.update({f"claims.{name}": value for name, value in origin.shows.items()})
        if caller.address is not None:
            facts["caller.address"] = caller.address
            facts["caller.account"] = self.account(caller.address)
            facts["caller.organisation"] = self.organisation(caller.address)
            identity = self.estate.identities.get(caller.address)
            facts["caller.kind"] = identity.kind if identity else self.kind_at(caller.address)
            own = identity or self.estate.resources.get(caller.address)
            for name, value in (own.labels if own else {}).items():
                facts[f"caller.labels.{name}"] = value
        if origin.form != "identity":
            facts["origin.kind"] = origin.form
        if origin.form in ("token", "assertion", "certificate"):
            facts["origin.issuer"] = origin.whom
        elif origin.form != "identity":
            address = origin.whom
            if origin.form == "credential":
                credential = self.estate.credentials.get(origin.whom)
                address = credential.of if credential else ""
            facts["origin.address"] = address or None
            facts["origin.organisation"] = self.organisation(address)
        for place in reversed(self.above(target)):
            for name, value in self.labels_at(place).items():
                facts[f"target.labels.{name}"] = value
        return facts

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
        return conj([passes(test, facts.get(prefix + name)) for name, test in conditions])

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
        for ceiling in self.estate.ceilings:
            beneath = caller.address if ceiling.over == "callers" else target
            if beneath is None or ceiling.at not in self.above(beneath):
                continue
            if any(self.excepted(one, caller.address, ceiling.at) for one in ceiling.excepts):
                continue
            if self.hold(ceiling.when, facts) is False:
                continue
            if ceiling.bars is not None and self.lists(ceiling.bars, kind, verb, star_is_all=True):
                return False
            if ceiling.only is not None and not self.lists(ceiling.only, kind, verb, star_is_all=True):
                return False
        return True

    def excepted(self, one: str | Glob, caller: str | None, boundary: str) -> bool:
        if caller is None:
            return False
        if isinstance(one, Glob):
            return globbed(one.pattern, caller) and boundary in self.above(caller)
        return one == caller

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
        if self.hold(trust.when, facts) is not True:
            return False
        form, whom = trust.admits.form, trust.admits.whom
        if form in ("token", "assertion", "certificate"):
            if caller.form != "bearer" or (self.origin.form, self.origin.whom) != (form, whom):
                return False
            return self.in_time() and self.hold(trust.admits.conditions, facts, "claims.") is True
        if caller.address is None or caller.form == "bearer":
            return False
        if form == "attached":
            if caller.form != "resource" or trust.of not in self.runs_as(caller.address):
                return False
            if whom is True:
                return self.account(caller.address) == self.account(trust.of)
            return globbed(whom.pattern, caller.address) if isinstance(whom, Glob) else whom == caller.address
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
        whole_account = bool(admitting) and all(trust.admits.form == "account" for trust in admitting)
        if not (crossing and two_sided) and not whole_account:
            return NOT_NEEDED
        if self.theirs(own):
            return THEIRS
        holders = {own, *self.above(self.estate.accounts[own].within)}
        return ALLOWED if self.granted(caller, verb, target, kind, facts, holders) else REFUSED

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
                    key = resource.encrypted_by
                    managed = self.estate.resources[key].managed_by if key in self.estate.resources else None
                    foreign = managed == "provider" and self.account(caller.address) != self.account(key)
                    further = "decrypt" if its_class == "read" else "encrypt"
                    yield not foreign and not self.request(caller, further, key, None).refused
                    break
        if its_class == "run":
            for identity in sorted(self.runs_as(target)):
                yield not self.request(caller, "use", identity, None).refused
        if verb == "attach" and onto is not None:
            yield not self.request(caller, "configure", onto, None).refused
        if self.origin.form == "person" and verb != "enter":
            mine, other = self.organisation(self.origin.whom), self.organisation(target)
            if other is not None and mine != other:
                person = Caller("identity", self.origin.whom)
                yield not self.request(person, "enter", f"@{other}", None).refused

    def session_step(self, caller: Caller, verb: str, kind: str) -> str:
        for narrowing in caller.narrowings:
            if not self.lists(narrowing, kind, verb, star_is_all=False):
                return REFUSED
        if caller.session_ends_after is not None and self.age >= caller.session_ends_after:
            return REFUSED
        return ALLOWED if caller.has_session else NOT_NEEDED

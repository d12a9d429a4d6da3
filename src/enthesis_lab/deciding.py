"""The lab's own enforcement: one request against the statements it was given, in the seven steps, with loops.

Nothing here is clever on purpose. It is written from the meaning of a verdict alone, so that it can disagree
with the tool.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import Any

from enthesis_lab.conditions import all_hold, matches, seconds
from enthesis_lab.store import Statement

ALLOWED, REFUSED, NOT_NEEDED, THEIRS = "allowed", "refused", "not needed", "theirs"
STEPS = ("names", "provider", "ceilings", "target-side", "caller-side", "companions", "session")
MAX_COMPANIONS = 4  # companions of companions end long before


@dataclass(frozen=True)
class World:
    """What one cloud knows: its inventory, the statements it was given, and the other clouds that it can ask.

    Another cloud is asked about what is its own: who its identities are and what its ceilings let them do, and
    companions at places of its accounts.
    """

    provider: str
    inventory: Mapping[str, Any]
    statements: Mapping[str, tuple[Statement, ...]]
    others: Mapping[str, "World"] = field(default_factory=dict)
    credentials: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)  # keyed ones of every cloud, by id

    def home_of(self, caller: "LabCaller") -> "World":
        """The cloud that vouches for a caller."""
        return self.others.get(caller.provider, self)

    def having(self, address: str) -> "World":
        """The cloud that an address is at, which can ask this one in turn."""
        account = self.inventory["accounts"].get(account_of(address))
        found = self.others.get(account["provider"]) if account else None
        if found is None:
            return self
        around = {name: one for name, one in self.others.items() if name != found.provider}
        return replace(found, others={**around, self.provider: self})

    def of(self, collection: str) -> tuple[Statement, ...]:
        """The statements of a collection."""
        return self.statements.get(collection, ())

    def identity_at(self, address: str) -> Statement | None:
        """The identity at an address, or None."""
        return next((statement for statement in self.of("identities") if statement.body["address"] == address), None)

    def identity(self, identifier: str | None) -> Statement | None:
        """The identity of an id, or None."""
        return next((statement for statement in self.of("identities") if statement.id == identifier), None)


@dataclass(frozen=True)
class LabCaller:
    """Who asks. A bearer has shown a token and taken on nothing yet; it has no address here. A resource is a host or
    anything else that runs.

    `actor` is the chain so far, as it stands in the `act` claim of what the caller gets next.
    """

    form: str  # bearer, resource, identity or person
    address: str = ""
    id: str = ""
    provider: str = ""
    claims: Mapping[str, Any] = field(default_factory=dict)
    issuer: str = ""
    origin: Mapping[str, Any] = field(default_factory=dict)
    actor: Mapping[str, Any] = field(default_factory=dict)
    narrowings: tuple[Mapping[str, list[str]], ...] = ()
    ends: float | None = None
    started: float | None = None
    signed_in: Mapping[str, Any] = field(default_factory=dict)  # of a person: the id of the sign-in, and its end
    sessions: tuple[str, ...] = ()  # the ids of the sessions so far; where one is ended, what came of it is too
    key: str = ""  # the id of the keyed credential that was shown itself
    meant_for_us: bool = True  # of an assertion that is a grant itself: whether an audience of it is this cloud
    first: bool = True  # whether this is the first request of a chain, which shows the origin's credential


@dataclass(frozen=True)
class LabSurroundings:
    """Time in seconds since 1970, and what the request says of itself."""

    now: float
    network: str | None = None
    reference: str | None = None


@dataclass
class Decision:
    """The steps in words, which trusts admitted, and those of them whose sessions count: one in a whole account only
    where that account lets its identity."""

    steps: dict[str, str] = field(default_factory=lambda: dict.fromkeys(STEPS, NOT_NEEDED))
    admitting: list[Statement] = field(default_factory=list)
    counting: list[Statement] = field(default_factory=list)

    @property
    def allowed(self) -> bool:
        """Whether no step refuses."""
        return REFUSED not in self.steps.values()

    @property
    def refused_at(self) -> list[str]:
        """The steps that refuse, in their order."""
        return [step for step in STEPS if self.steps[step] == REFUSED]


@dataclass(frozen=True)
class LabPlace:
    """An address taken apart by the catalogue of the inventory."""

    address: str
    kind: str
    parent: str


def place_of(world: World, address: str) -> LabPlace | None:
    """The place an address names, if it can be one."""
    kinds = world.inventory["catalogue"]["kinds"]
    parts = address.split("/")
    if "" in parts or "." in parts or ".." in parts:
        return None
    if parts[0].startswith("@"):
        if len(parts) == 1:
            return LabPlace(address, "organisation", "")
        if len(parts) == 3 and parts[1] in ("identity", "group"):
            return LabPlace(address, parts[1], parts[0])
        return LabPlace(address, "unit", "/".join(parts[:-1]))
    place = LabPlace(parts[0], "account", "")
    at = 1
    while at < len(parts):
        kind = kinds.get(parts[at])
        if kind is None or place.kind not in kind["in"] or at + 1 >= len(parts):
            return None
        end = len(parts) if kind.get("leaf") else at + 2
        place = LabPlace("/".join(parts[:end]), parts[at], "/".join(parts[:at]))
        at = end
    return place


def declared(world: World, address: str) -> bool:
    """Whether something of that address exists, leaves not counted."""
    inventory = world.inventory
    if address in inventory["accounts"] or address in inventory["resources"]:
        return True
    if address.startswith("@"):
        name, _, rest = address[1:].partition("/")
        organisation = inventory["organisations"].get(name)
        if organisation and (not rest or rest in organisation.get("units", [])):
            return True
    known = (*world.of("identities"), *world.of("groups"))
    return any(statement.body["address"] == address for statement in known)


def exists(world: World, address: str) -> LabPlace | None:
    """The place, if it is declared or is a leaf whose parent is."""
    place = place_of(world, address)
    if place is None:
        return None
    leaf = world.inventory["catalogue"]["kinds"][place.kind].get("leaf", False)
    return place if declared(world, address) or (leaf and declared(world, place.parent)) else None


def account_of(address: str) -> str:
    """The account of an address; '' for what lies in an organisation."""
    return "" if address.startswith("@") else address.split("/", maxsplit=1)[0]


def boundaries_above(world: World, account: str) -> list[str]:
    """The units and the organisation above an account, nearest first."""
    found = world.inventory["accounts"].get(account)
    parts = found["in"].split("/") if found else []
    return ["/".join(parts[:count]) for count in range(len(parts), 0, -1)]


def above(world: World, address: str) -> list[str]:
    """The address and everything it lies in, nearest first, up to the organisation."""
    parts = address.split("/")
    if address.startswith("@"):
        if len(parts) == 3 and parts[1] in ("identity", "group"):
            return [address, parts[0]]
        return ["/".join(parts[:count]) for count in range(len(parts), 0, -1)]
    own = ["/".join(parts[:count]) for count in range(len(parts), 0, -1)]
    return own + boundaries_above(world, parts[0])


def organisation_of(world: World, address: str) -> str:
    """The organisation that an address lies in; '' where there is none."""
    if not address:
        return ""
    top = above(world, address)[-1]
    return top[1:].split("/")[0] if top.startswith("@") else ""


def verbs_of(world: World, kind: str) -> dict[str, str]:
    """The verbs that a kind knows, each with its class."""
    catalogue = world.inventory["catalogue"]
    own = catalogue["kinds"].get(kind, {}).get("verbs", {})
    return {**catalogue["verbs_everywhere"], **own}


def lists(world: World, listed: Mapping[str, Any], kind: str, verb: str, *, all_included: bool) -> bool:
    """Whether a mapping of kinds to verbs lists a verb on a kind."""
    for selector, verbs in listed.items():
        if selector not in ("*", kind):
            continue
        wanted = [verbs] if isinstance(verbs, str) else verbs
        if verb in wanted:
            return True
        if "*" in wanted and (all_included or verbs_of(world, kind).get(verb) != "power"):
            return True
    return False


def role_allows(world: World, role: str, kind: str, verb: str) -> bool:
    """Whether a role (by id), or one it includes, allows a verb on a kind."""
    seen: set[str] = set()
    waiting = [role]
    while waiting:
        identifier = waiting.pop()
        found = next((statement for statement in world.of("roles") if statement.id == identifier), None)
        if found is None or identifier in seen:
            continue
        seen.add(identifier)
        if lists(world, found.body["allows"], kind, verb, all_included=False):
            return True
        waiting.extend(
            statement.id
            for statement in world.of("roles")
            if statement.holder == found.holder and statement.name in found.body.get("includes", [])
        )
    return False


def member_of(world: World, caller: LabCaller, group: str, seen: frozenset[str] = frozenset()) -> bool:
    """Whether a caller is in a group (by id), listed, by a group in it, or by its rule."""
    found = next((statement for statement in world.of("groups") if statement.id == group), None)
    if found is None or group in seen:
        return False
    for member in found.body.get("members", []):
        if member.get("identity") == caller.id and caller.id:
            return True
        if "group" in member and member_of(world, caller, member["group"], seen | {group}):
            return True
    rule = found.body.get("where")
    return rule is not None and found_by(world, caller, rule, found.holder)


def found_by(world: World, caller: LabCaller, rule: Mapping[str, Any], holder: str) -> bool:
    """Whether a group's rule finds this identity."""
    identity = world.identity(caller.id)
    if identity is None:
        return False
    outside = world.inventory["organisations"].get(organisation_of(world, caller.address), {}).get("outside")
    within = rule.get("in", holder)
    labels = identity.body.get("labels", {})
    tied = identity.body.get("tied_to")  # who is tied to a resource of its own account is also where that is
    if tied is not None and account_of(tied) != account_of(caller.address):
        tied = None
    return (
        not outside
        and (within in above(world, caller.address) or (tied is not None and within in above(world, tied)))
        and rule.get("kind", identity.body["kind"]) == identity.body["kind"]
        and all(labels.get(name) == value for name, value in rule.get("labels", {}).items())
    )


def attributes(
    world: World, caller: LabCaller, target: str, around: LabSurroundings, beside: str | None = None
) -> dict[str, Any]:
    """Everything a condition can refer to; what is absent is left out. `beside`: at which provider the request is that
    this one goes with."""
    own, callers = (world.inventory["accounts"].get(account_of(one)) for one in (target, caller.address))
    out: dict[str, Any] = {
        "time": datetime.fromtimestamp(around.now, UTC),
        "provider": own["provider"] if own else callers["provider"] if callers else beside,
        "network": around.network,
        "reference": around.reference,
        "mfa": caller.origin.get("mfa"),
        "session.age": timedelta(seconds=around.now - caller.started if caller.started is not None else 0),
    }
    for name in ("kind", "issuer", "organisation", "address"):
        out[f"origin.{name}"] = caller.origin.get(name)
    if caller.form != "bearer":
        home = world.home_of(caller)
        identity = home.identity(caller.id) if caller.form != "resource" else None
        out["caller.address"] = caller.address
        out["caller.account"] = account_of(caller.address) or None
        out["caller.organisation"] = organisation_of(world, caller.address) or None
        thing = place_of(home, caller.address)
        out["caller.kind"] = identity.body["kind"] if identity else thing.kind if thing else None
        for name, value in _labels(home, caller.address).items():
            out[f"caller.labels.{name}"] = value
    for name, value in caller.claims.items():
        out[f"claims.{name}"] = value
    for pointer, value in _pointed_at(caller.claims, ""):
        out[f"claims.{pointer}"] = value
    for place in reversed(above(world, target)):
        for name, value in _labels(world, place).items():
            out[f"target.labels.{name}"] = value
    return {name: value for name, value in out.items() if value is not None}


def _pointed_at(claims: Any, stem: str) -> Iterator[tuple[str, Any]]:
    """Everything that stands in a claim, by its pointer (RFC 6901); digits index lists."""
    inner = claims.items() if isinstance(claims, Mapping) else enumerate(claims) if isinstance(claims, list) else ()
    for name, value in inner:
        pointer = f"{stem}/" + str(name).replace("~", "~0").replace("/", "~1")
        if stem:
            yield pointer, value
        yield from _pointed_at(value, pointer)


def _labels(world: World, address: str) -> Mapping[str, str]:
    inventory = world.inventory
    name = address[1:] if address.startswith("@") else address
    for section in ("accounts", "resources", "organisations"):
        if name in inventory[section] and (section == "organisations") == address.startswith("@"):
            return inventory[section][name].get("labels", {})  # type: ignore[no-any-return]
    identity = world.identity_at(address)
    return identity.body.get("labels", {}) if identity else {}


def _with_its_pool(world: World, address: str) -> list[str]:
    """The addresses that mean what runs at one: itself, and of a member its pool."""
    place = place_of(world, address)
    pool = place_of(world, place.parent) if place and place.parent else None
    return [address, *([pool.address] if pool is not None and pool.kind == "pool" else [])]


def runs_as(world: World, address: str) -> list[Statement]:
    """The identities that a resource runs as: its own, and for a member of a pool those of the pool."""
    found: list[Statement] = []
    for _, named in attached(world, address):
        found += [statement for statement in named if statement not in found]
    return found


def attached(world: World, address: str) -> Iterator[tuple[Statement, list[Statement]]]:
    """The attachments of a resource, each with the identities that it runs as by that one."""
    running = _with_its_pool(world, address)
    for attachment in world.of("attachments"):
        what = attachment.body["what"]
        hit = account_of(address) == attachment.holder and any(
            matches(what["glob"], name) if isinstance(what, Mapping) else what == name for name in running
        )
        if hit:
            named = map(world.identity, attachment.body["runs_as"])
            yield attachment, [statement for statement in named if statement is not None]


def decide(
    world: World, caller: LabCaller, verb: str, target: str, around: LabSurroundings, *, onto: str = "", depth: int = 0,
    beside: str | None = None,
) -> Decision:  # fmt: skip
    """The verdict on one request, all seven steps judged whatever the earlier ones say."""
    if depth:  # a companion may be at another cloud; what is asked of this one is decided here
        world = world.having(target)
        person = world.identity_at(caller.address) if caller.form == "person" else None
        if person is not None:  # each cloud has ids of its own
            caller = replace(caller, id=person.id, provider=world.provider)
    outcome = Decision()
    steps = outcome.steps
    place = exists(world, target)
    named = place is not None and verb in verbs_of(world, place.kind) and _caller_stands(world, caller)
    named = named and _credential_stands(world, caller, attributes(world, caller, target, around), around)
    if place is not None and place.kind == "identity":
        identity = world.identity_at(target)
        named = named and identity is not None and _identity_stands(world, identity)
        named = named and not (verb in ("run-as", "attach") and target.startswith("@"))  # nothing runs as a person
    if onto:
        named = named and exists(world, onto) is not None
    steps["names"] = ALLOWED if named else REFUSED
    if place is None or verb not in verbs_of(world, place.kind):
        return outcome
    around_it = attributes(world, caller, target, around, beside)
    steps["provider"] = _provider(world, caller, verb, target)
    steps["ceilings"] = ALLOWED if _ceilings_let(world, caller, verb, place, around_it, around) else REFUSED
    if verb == "take-on":
        outcome.admitting = [
            statement for statement in world.of("trusts") if _admits(world, statement, caller, place, around_it, around)
        ]
        steps["target-side"] = ALLOWED if outcome.admitting else REFUSED
        let = _lets_out(world, caller, verb, place, around_it, around) != REFUSED
        outcome.counting = [
            statement for statement in outcome.admitting if let or "account" not in statement.body["admits"]
        ]
    elif _foreign_to_key(world, caller, verb, place):
        steps["target-side"] = REFUSED
    else:
        owners = above(world, target)
        holders = set(owners) | ({account_of(target)} if account_of(target) else set())
        granted = _granted(world, caller, verb, place, holders, around_it, around)
        steps["target-side"] = ALLOWED if granted else REFUSED
    steps["caller-side"] = _callers_side(world, caller, verb, place, outcome, around_it, around)
    if depth < MAX_COMPANIONS:
        at = around_it.get("provider")
        steps["companions"] = _companions(world, caller, verb, place, around, onto, depth, at)
    steps["session"] = _session(world, caller, verb, place, around)
    return outcome


def _caller_stands(world: World, caller: LabCaller) -> bool:
    if caller.form == "bearer":
        return True
    world = world.home_of(caller)
    if caller.form == "resource":
        return exists(world, caller.address) is not None
    identity = world.identity(caller.id)
    return identity is not None and identity.body["address"] == caller.address and _identity_stands(world, identity)


def _credential_stands(world: World, caller: LabCaller, around_it: Mapping[str, Any], around: LabSurroundings) -> bool:
    """Whether the keyed credential that a chain started with is there still, in time, and used as it may be."""
    identifier = caller.origin.get("credential")
    if identifier is None or not caller.first:
        return True
    found = world.credentials.get(identifier)
    if found is None or found["disabled"] or (found["expires"] is not None and found["expires"] <= around.now):
        return False
    return all_hold(found["when"], around_it) is True


def _identity_stands(world: World, identity: Statement) -> bool:
    tied = identity.body.get("tied_to")
    return not identity.body.get("disabled") and (tied is None or exists(world, tied) is not None)


def _provider(world: World, caller: LabCaller, verb: str, target: str) -> str:
    if verb == "take-on" or not account_of(target) or caller.form == "person":
        return ALLOWED
    return ALLOWED if caller.form != "bearer" and caller.provider == world.provider else REFUSED


def _ceilings_let(
    world: World, caller: LabCaller, verb: str, place: LabPlace, around_it: Mapping[str, Any], around: LabSurroundings
) -> bool:
    over = {
        "callers": set(above(world, caller.address)) if caller.address else set(),
        "targets": set(above(world, place.address)),
    }
    home = world.home_of(caller)
    abroad = (
        [statement for statement in home.of("ceilings") if statement.body["over"] == "callers"]
        if home is not world
        else []
    )
    own = verb == "take-on" and caller.form == "resource"
    own = own and place.address in [one.body["address"] for one in runs_as(world, caller.address)]
    for ceiling in (*world.of("ceilings"), *abroad):
        body = ceiling.body
        if body["at"] not in over[body["over"]] or (own and body["over"] == "callers"):
            continue
        if any(_excepted(world, entry, body["at"], caller, verb, place, around) for entry in body.get("except", [])):
            continue
        if all_hold(body.get("when", {}), around_it) is False:
            continue
        if "bars" in body and lists(world, body["bars"], place.kind, verb, all_included=True):
            return False
        if "only" in body and not lists(world, body["only"], place.kind, verb, all_included=True):
            return False
    return True


def _excepted(
    world: World, entry: Any, at: str, caller: LabCaller, verb: str, place: LabPlace, around: LabSurroundings
) -> bool:
    """Whether an exception of a ceiling leaves a caller alone for what is asked."""
    if not caller.address:
        return False
    if isinstance(entry, Mapping) and "who" in entry:
        verbs = entry.get("can", [])
        if not _in_force(entry, around) or (verbs and verb not in verbs and "*" not in verbs):
            return False
        if "at" in entry and entry["at"] not in above(world, place.address):
            return False
        entry = entry["who"]
    if isinstance(entry, Mapping):
        return matches(entry["glob"], caller.address) and at in above(world, caller.address)
    return bool(entry == caller.address)


def _in_force(body: Mapping[str, Any], around: LabSurroundings) -> bool:
    until = body.get("until")
    return until is None or datetime.fromisoformat(until).timestamp() > around.now


def _admits(
    world: World,
    trust: Statement,
    caller: LabCaller,
    place: LabPlace,
    around_it: Mapping[str, Any],
    around: LabSurroundings,
) -> bool:
    body = trust.body
    identity = world.identity_at(place.address)
    if identity is None or body["of"] != identity.id or not _in_force(body, around):
        return False
    admits = body["admits"]
    at_home = caller.form == "person" or (caller.form == "identity" and caller.provider == world.provider)
    signed = admits.get("token", admits.get("assertion"))
    if signed is not None:
        named = {name[len("claims.") :]: value for name, value in around_it.items() if name.startswith("claims.")}
        tests = admits.get("claims", admits.get("attributes", {}))
        hit = caller.form == "bearer" and caller.issuer == signed and all_hold(tests, named, around_it) is True
        # RFC 7522, section 3: an audience names the server; a trust that asks for one names it in its own words
        hit = hit and (caller.meant_for_us or "aud" in tests)
    elif "certificate" in admits:
        tests = {"subject": admits["subject"]} if "subject" in admits else {}
        named = {"subject": around_it.get("claims.subject")}
        hit = caller.form == "bearer" and caller.issuer == admits["certificate"]
        hit = hit and all_hold(tests, named, around_it) is True
    elif "identity" in admits:
        hit = caller.form == "identity" and caller.id == admits["identity"]["id"]
    elif "person" in admits:
        hit = caller.form == "person" and caller.id == admits["person"]["id"]
    elif "attached" in admits:
        hit = _attached(world, admits["attached"], caller, identity)
    elif "group" in admits:
        hit = at_home and member_of(world, caller, admits["group"])
    else:
        hit = at_home and admits.get("account") == account_of(caller.address) != ""
    return hit and all_hold(body.get("when", {}), around_it) is True


def _attached(world: World, what: Any, caller: LabCaller, identity: Statement) -> bool:
    """Whether a caller is a resource that runs as an identity, and one of those that a trust means."""
    if caller.form != "resource" or identity not in runs_as(world, caller.address):
        return False
    if what is True:
        return account_of(caller.address) == account_of(identity.body["address"])
    place = place_of(world, caller.address)
    if place is not None and place.kind == "pool":
        return False  # its members ask, and it never does
    names = _with_its_pool(world, caller.address)
    return any(matches(what["glob"], name) if isinstance(what, Mapping) else what == name for name in names)


def _granted(
    world: World,
    caller: LabCaller,
    verb: str,
    place: LabPlace,
    holders: set[str],
    around_it: Mapping[str, Any],
    around: LabSurroundings,
) -> bool:
    """Whether a grant of one of the holders lets a caller do this. What an organisation grants to an identity of
    another cloud is kept at that one, and counts here too."""
    home = world.home_of(caller)
    kept = [(world, grant) for grant in world.of("grants")]
    kept += [(home, grant) for grant in home.of("grants") if home is not world and grant.holder.startswith("@")]
    return any(
        _names(where, grant.body["to"], caller)
        and grant.holder in holders
        and grant.body["at"] in above(world, place.address)
        and role_allows(where, grant.body["role"], place.kind, verb)
        and _in_force(grant.body, around)
        and all_hold(grant.body.get("when", {}), around_it) is True
        for where, grant in kept
    )


def _names(world: World, to: Mapping[str, str], caller: LabCaller) -> bool:
    if caller.form in ("bearer", "resource") or not caller.id:
        return False
    if "organisation" in to:
        return organisation_of(world, caller.address) == to["organisation"]
    return to["identity"] == caller.id if "identity" in to else member_of(world, caller, to["group"])


def _callers_side(
    world: World,
    caller: LabCaller,
    verb: str,
    place: LabPlace,
    outcome: Decision,
    around_it: Mapping[str, Any],
    around: LabSurroundings,
) -> str:
    own, theirs = account_of(caller.address), account_of(place.address)
    if not own or caller.form == "resource" or caller.provider != world.provider:
        return NOT_NEEDED
    style = world.inventory["providers"][world.provider]["style"]
    crossing = bool(theirs) and own != theirs and style == "two-sided"
    by_account = bool(outcome.admitting) and all(
        "account" in statement.body["admits"] for statement in outcome.admitting
    )
    if not crossing and not by_account:
        return NOT_NEEDED
    return _lets_out(world, caller, verb, place, around_it, around)


def _lets_out(
    world: World, caller: LabCaller, verb: str, place: LabPlace, around_it: Mapping[str, Any], around: LabSurroundings
) -> str:
    """The caller's side, whether it is needed or not, of an identity of an account of this cloud."""
    own = account_of(caller.address)
    if not own or caller.form == "resource" or caller.provider != world.provider:
        return REFUSED
    account = world.inventory["accounts"][own]
    organisation = world.inventory["organisations"].get(organisation_of(world, own), {})
    if account.get("administered_by") == "others" or organisation.get("outside"):
        return THEIRS
    holders = {own, *boundaries_above(world, own)}
    return ALLOWED if _granted(world, caller, verb, place, holders, around_it, around) else REFUSED


def _companions(
    world: World, caller: LabCaller, verb: str, place: LabPlace, around: LabSurroundings, onto: str, depth: int,
    at: str | None,
) -> str:  # fmt: skip
    asked = list(_companion_requests(world, caller, verb, place, onto))
    if not asked:
        return NOT_NEEDED
    for who, further, target in asked:
        if not target or not decide(world, who, further, target, around, depth=depth + 1, beside=at).allowed:
            return REFUSED
    return ALLOWED


def _companion_requests(
    world: World, caller: LabCaller, verb: str, place: LabPlace, onto: str
) -> Iterator[tuple[LabCaller, str, str]]:
    """Who must also be allowed what on what; an empty target stands for one that is never allowed."""
    its_class = verbs_of(world, place.kind)[verb]
    if its_class in ("read", "write"):
        key = _key_above(world, place.address)
        if key:
            yield caller, "decrypt" if its_class == "read" else "encrypt", key
    if its_class == "run":
        for identity in runs_as(world, place.address):
            yield caller, "run-as", identity.body["address"]
    if verb == "attach":
        yield caller, "configure", onto
    origin = caller.origin
    target_organisation = organisation_of(world, place.address)
    if verb != "enter" and origin.get("organisation") != target_organisation:
        person = world.identity_at(str(origin.get("address")))  # who signed in, or whose key was shown
        if target_organisation and person is not None and person.body["kind"] == "person":
            outside = LabCaller("person", person.body["address"], person.id, origin=origin, first=caller.first)
            yield outside, "enter", f"@{target_organisation}"


def _foreign_to_key(world: World, caller: LabCaller, verb: str, place: LabPlace) -> bool:
    """Whether a key that the provider manages is to be used from outside of its account."""
    managed = world.inventory["resources"].get(place.address, {}).get("managed_by")
    used = place.kind == "key" and verb in ("encrypt", "decrypt", "sign") and managed == "provider"
    return used and account_of(caller.address) != account_of(place.address)


def _key_above(world: World, address: str) -> str:
    for place in above(world, address):
        key = world.inventory["resources"].get(place, {}).get("encrypted_by")
        if key:
            return str(key)
    return ""


def _session(world: World, caller: LabCaller, verb: str, place: LabPlace, around: LabSurroundings) -> str:
    if caller.ends is not None and caller.ends <= around.now:
        return REFUSED
    inside = all(lists(world, narrowing, place.kind, verb, all_included=False) for narrowing in caller.narrowings)
    if not inside:
        return REFUSED
    return ALLOWED if caller.ends is not None else NOT_NEEDED


def session_end(outcome: Decision, caller: LabCaller, around: LabSurroundings) -> float:
    """When a session that starts now ends: the longest that an admitting trust gives, within the parent's."""
    ends = []
    for trust in outcome.counting:
        end = around.now + seconds(trust.body.get("session", "1h"))
        until = trust.body.get("until")
        ends.append(min(end, datetime.fromisoformat(until).timestamp()) if until else end)
    longest = min(max(ends), float(caller.signed_in.get("exp", float("inf"))))
    return longest if caller.ends is None else min(longest, caller.ends)

"""One page on an identity, resource, group or role: what it is, who can reach it, and what it can reach."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

import numpy as np

from enthesis.access.arrays import once
from enthesis.access.compiling import NONE, Compiled
from enthesis.access.many import Rows
from enthesis.access.names.standing import why_fallen, why_shut
from enthesis.access.requirements import ALWAYS
from enthesis.access.states import LOOK
from enthesis.chains.access_graph import STANDS_FOR, Web
from enthesis.chains.chains import USE_KEY
from enthesis.conditions.patterns import matcher
from enthesis.files.checking import SHARED_LOGINS
from enthesis.files.conditions import plain_test
from enthesis.files.writing import plain_statement
from enthesis.model import estate as m
from enthesis.model.addresses import account_of, article, contains, is_organisation, pool_of
from enthesis.model.conditions import Conditions, Glob
from enthesis.model.file_errors import Source
from enthesis.model.sentences import admitted, ceiling_words, permissions, tested, verb_words
from enthesis.model.vocabulary import Form
from enthesis.text.times import duration_text, time_text

MOST_ROWS = 4_000  # direct requests that one card looks at
THINGS = ("run-as", "attach", "issue", "change-trust")  # what is done to an identity as a thing


@dataclass(frozen=True, slots=True)
class Item:
    """One thing that a card says, with where it stands. `facts` is the same as data, in the words of the files."""

    text: str
    source: Source | None = None
    facts: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class CardPart:
    """A heading with what stands under it; `none` is said where nothing does. `key` is its name for programs."""

    key: str
    head: str
    items: tuple[Item, ...]
    none: str = ""


@dataclass(frozen=True, slots=True)
class Card:
    """The whole page."""

    name: str
    what: str
    parts: tuple[CardPart, ...]


def card(web: Web, name: str, now: datetime, dangling: Iterable[str] = ()) -> Card | None:
    """The card of a place, role, credential or way in; None where the estate has none of that name. `dangling` are what
    a survey found to refers to what no longer exists."""
    made = _Cards(web, now).card(name)
    told = tuple(Item(text, facts={"says": text}) for text in dangling if name in text)
    if made is None or not told:
        return made
    return replace(made, parts=(*made.parts, CardPart("dangling", "left dangling on the live side", told)))


class _Cards:
    def __init__(self, web: Web, now: datetime) -> None:
        self.web = web
        self.compiled: Compiled = web.compiled
        self.estate = web.compiled.estate
        self.now = now

    def card(self, name: str) -> Card | None:
        estate = self.estate
        if name in estate.identities:
            return self._identity(estate.identities[name])
        if name in estate.groups:
            return self._group(estate.groups[name])
        if name in estate.roles:
            return self._role(estate.roles[name])
        if name in estate.credentials:
            return self._credential(estate.credentials[name])
        if name in estate.pipeline_access:
            return self._pipeline_access(estate.pipeline_access[name])
        ceiling = next((one for one in estate.ceilings if one.name == name), None)
        if ceiling is not None:
            return self._ceiling(ceiling)
        if self.compiled.find(name) != NONE or self.web.targets_at(name):
            return self._place(name)
        return None

    # -- credentials ----------------------------------------------------------------------------------------------

    def _credential(self, credential: m.Credential) -> Card:
        state = why_shut(self.compiled, credential, self.now) or "works, as far as the files say"
        about = [
            Item(f"of {credential.of}", credential.source, plain_statement("credentials", credential)),
            Item(state, facts={"state": state}),
            Item(
                f"created {time_text(credential.created)}" if credential.created else "when it was created is not known"
            ),
            Item(
                f"{'expires' if credential.in_force(self.now) else 'expired'} {time_text(credential.expires)}"
                if credential.expires
                else "has no end"
            ),
            Item(
                f"last used {time_text(credential.last_used)}"
                if credential.last_used
                else "when it was last used is not known"
            ),
            *([Item(f"held in {', '.join(map(str, credential.held_in))}")] if credential.held_in else []),
            *([Item(f"fingerprint {credential.fingerprint}")] if credential.fingerprint else []),
            *([Item(f"works only{self._when(credential.when)[1:]}")] if credential.when else []),
        ]
        access = [
            Item(f"{access.name}, at {access.at}", access.source, {"name": access.name, "at": access.at})
            for access in self.estate.pipeline_access.values()
            if access.credential == credential.name
        ]
        journeys = [
            _journey(journey)
            for journey in self.estate.journeys.values()
            if (journey.origin.form, journey.origin.whom) == ("credential", credential.name)
        ]
        parts = (
            CardPart("about", "what it is", tuple(about)),
            CardPart("pipeline_access", "stored for pipelines", tuple(access)),
            CardPart("journeys", "journeys that start with it", tuple(journeys)),
        )
        return Card(credential.name, f"{article(credential.form)} of {credential.of}", parts)

    def _pipeline_access(self, access: m.PipelineAccess) -> Card:
        shown = [f"{name} {tested(plain_test(test))}" for name, test in access.admits]
        about = [
            Item(
                f"leads to {access.of}, for runs of {access.at}",
                access.source,
                plain_statement("pipeline_access", access),
            ),
            Item(f"by the credential {access.credential}" if access.credential else "by the run's own token"),
        ]
        who = tuple(Item(text, access.source, {"test": text}) for text in shown)
        return Card(
            access.name,
            f"a way into {access.of} that {access.at} keeps",
            (
                CardPart("about", "what it is", tuple(about)),
                CardPart("admits", "which runs may use it", who, "none: it has no condition"),
            ),
        )

    # -- identities -----------------------------------------------------------------------------------------------

    def _identity(self, identity: m.Identity) -> Card:
        number = self.compiled.find(identity.address)
        what = article(identity.kind)
        what += f", {identity.purpose}" if identity.purpose else ""
        parts = [
            CardPart("about", "what it is", tuple(self._about(identity))),
            CardPart(
                "taken_on_by", "who can take it on", tuple(self._trusts(identity.address)), "no caller: it has no trust"
            ),
            CardPart(
                "managed_by",
                "who may run workloads as it, attach it, issue credentials for it or change it",
                (*self._on(number, THINGS), *self._groups_on(identity.address, THINGS)),
                "no caller may run workloads as it, attach it or issue credentials for it",
            ),
            CardPart("grants", "what it may do", tuple(self._grants(number)), "nothing: it holds no grant"),
            CardPart("ceilings", "ceilings over it", tuple(self._ceilings(self.compiled.places.chain(number)))),
            CardPart("takes_on", "identities that it can take on", tuple(self._onward(number))),
            CardPart("runs_as_it", "what runs as it", tuple(self._running(number))),
            CardPart("credentials", "its stored credentials", tuple(self._credentials(identity.address)), "none known"),
            CardPart("referenced_by", "referenced by", tuple(self._spoken_of(identity.address))),
        ]
        return Card(identity.address, what, tuple(parts))

    def _about(self, identity: m.Identity) -> Iterator[Item]:
        facts = {"address": identity.address, **plain_statement("identities", identity)}
        yield Item(f"owner {identity.owner or 'not said'}", identity.source, facts)
        if identity.purpose is None:
            yield Item("purpose not said")
        if identity.absent:
            yield Item("does not exist: statements name it, and whoever creates it gets what they allow")
        if identity.disabled:
            yield Item("disabled: every request from it or to it is refused at names")
        if identity.tied_to is not None:
            there = "" if self.compiled.exists(identity.tied_to) else ", which does not exist"
            yield Item(f"tied to {identity.tied_to}{there}")
        yield from self._labels(identity.labels)
        groups = [
            self.compiled.places.names[number]
            for number in self.compiled.groups_of(self.compiled.find(identity.address))
            if self.compiled.places.names[number] in self.estate.groups
        ]
        if groups:
            yield Item(f"in {', '.join(groups)}", facts={"groups": groups})

    @staticmethod
    def _labels(labels: Mapping[str, str]) -> Iterator[Item]:
        if labels:
            yield Item("labels " + ", ".join(f"{name} {value}" for name, value in labels.items()))

    def _trusts(self, address: str) -> Iterator[Item]:
        for trust in self.estate.trusts:
            if trust.of != address:
                continue
            whom = admitted(plain_statement("trusts", trust)["admits"])
            when = self._when(trust.when)
            text = f"{whom}, for {duration_text(trust.session)}{when}{self._lasting(trust)}"
            yield Item(text, trust.source, {"trust": plain_statement("trusts", trust)})
        number = self.compiled.find(address)
        edges = self.web.backward.edges(np.array([number]))
        edges = edges[self.web.edge_permission[edges] == self.compiled.take_on]
        names = sorted({self.web.node(int(one)).name for one in once(self.web.edge_from[edges]).tolist()})
        if names:
            yield Item(f"so today: {_listed(names)}", facts={"today": names})

    def _lasting(self, one: m.Trust | m.Grant) -> str:
        """Until when a statement is, whether that has come, and why it is there."""
        until = f", until {time_text(one.until)}" if one.until else ""
        ended = "" if one.in_force(self.now) else " (ended)"
        return until + ended + (f", because {one.because}" if one.because else "")

    @staticmethod
    def _when(conditions: Conditions) -> str:
        said = [f"{name} {tested(plain_test(test))}" for name, test in conditions]
        return f", when {' and '.join(said)}" if said else ""

    def _on(self, number: int, verbs: Iterable[str]) -> Iterator[Item]:
        wanted = np.array([verb in verbs for _, verb in self.compiled.permission_pairs])
        yield from self._by_caller(self.web.rows_on(number, wanted), number)

    def _groups_on(self, address: str, verbs: Iterable[str]) -> Iterator[Item]:
        """The groups through which some of those come, each with the grant that says so."""
        above = {self.compiled.places.names[number] for number in self.compiled.chain_of(address)}
        for grant in self.estate.grants:
            allowed = {verb for kind, verb in self.estate.permissions_of(grant.role) if kind == "identity"}
            through = [verb for verb in verbs if verb in allowed]
            if self.estate.is_of_many(grant.to) and grant.at in above and through:
                word = "organisation" if is_organisation(grant.to) else "group"
                said = f"through the {word} {grant.to}: {', '.join(through)}"
                yield Item(said, grant.source, {word: grant.to, "verbs": through})

    def _by_caller(self, rows: Rows, target_itself: int) -> Iterator[Item]:
        """What each caller may do, at a target itself and in it."""
        rows = rows.where(rows.permission != self.compiled.take_on)  # that is by trust, whatever is granted
        more = len(rows) - MOST_ROWS
        if more > 0:
            rows = rows.where(np.arange(len(rows)) < MOST_ROWS)
        found: dict[str, dict[str, list[str]]] = {}
        facts: dict[str, list[dict[str, Any]]] = {}
        columns = (rows.who.tolist(), rows.permission.tolist(), rows.target.tolist(), rows.state.tolist())
        for who, permission, target, state in zip(*columns, strict=True):
            takes = self.web.row_requirement(who, permission, target) if state == LOOK else ALWAYS
            if takes is None:
                continue
            kind, verb = self.compiled.permission_pairs[permission]
            verb += " (on a condition)" if takes else ""
            name = self.web.node(who).name
            where = f"on {article(kind)} in it " if target != target_itself else ""
            found.setdefault(name, {}).setdefault(where, []).append(verb)
            fact = {"verb": self.compiled.permission_pairs[permission][1], "kind": kind, "on_condition": bool(takes)}
            fact |= {"in_it": True} if target != target_itself else {}
            if fact not in facts.setdefault(name, []):
                facts[name].append(fact)
        for name, placed in sorted(found.items()):
            said = "; ".join(where + ", ".join(dict.fromkeys(verbs)) for where, verbs in sorted(placed.items()))
            yield Item(f"{name}: {said}", facts={"caller": name, "may": facts[name]})
        if more > 0:
            yield Item(f"and {more} more that were not looked at: `enthesis reach --to` has them all")

    def _grants(self, number: int) -> Iterator[Item]:
        principals = {self.compiled.places.names[index] for index in (number, *self.compiled.groups_of(number))}
        for grant in self.estate.grants:
            if grant.to not in principals:
                continue
            through = f", through {grant.to}" if grant.to != self.compiled.places.names[number] else ""
            allowed = permissions(plain_statement("roles", self.estate.roles[grant.role])["allows"])
            held = f", held by {self.estate.holder_of(grant)}"
            half = self._half(number, grant)
            more = f"{held}{through}{self._when(grant.when)}{self._lasting(grant)}"
            facts = {
                "grant": {**plain_statement("grants", grant), "held_by": self.estate.holder_of(grant)},
                "allows": plain_statement("roles", self.estate.roles[grant.role])["allows"],
                "half": bool(half),
            }
            yield Item(f"{half}{grant.role} at {grant.at}: {allowed}{more}", grant.source, facts)

    def _half(self, number: int, grant: m.Grant) -> str:
        """What is said of a grant that gives an identity nothing by itself; '' where it gives something."""
        web, compiled = self.web, self.compiled
        caller, target = account_of(compiled.places.names[number]), account_of(grant.at)
        if not grant.in_force(self.now) or caller == target or not caller:
            return ""
        permissions_of = self.estate.permissions_of(grant.role)
        wanted = np.array([pair in permissions_of for pair in compiled.permission_pairs], bool)
        reached = {web.target_name(int(one)) for one in once(web.rows_of(np.array([number]), wanted).target)}
        if ("identity", "take-on") in permissions_of:
            reached |= self._acts_as(compiled.places.names[number])
        if any(contains(grant.at, name) for name in reached):
            return ""
        holder = self.estate.holder_of(grant)
        other = target if account_of(holder) == caller or holder == caller else caller
        return f"half, and nothing without the half of {other or grant.at}: "

    def _onward(self, number: int) -> Iterator[Item]:
        edges = self.web.forward.edges(np.array([number]))
        for edge in edges.tolist():
            takes = self.web.requirement(edge) if self.web.edge_state[edge] == LOOK else ALWAYS
            if takes is None:
                continue
            verb = self.compiled.permission_pairs[int(self.web.edge_permission[edge])][1]
            state = " (on a condition)" if takes else ""
            target = self.web.target_name(int(self.web.edge_target[edge]))
            key = int(self.web.edge_key[edge])
            if key != NONE:
                held, name = self.web.keys.credentials[key], self.web.node(int(self.web.edge_to[edge])).name
                yield Item(
                    f"use the key {held.name}, held in {target}, as {name}{state}",
                    facts={"verb": USE_KEY, "target": held.name, "held_in": target, "on_condition": bool(state)},
                )
                continue
            if self.web.edge_sort[edge] == STANDS_FOR:
                continue
            facts = {"verb": verb, "target": target, "on_condition": bool(state)}
            yield Item(f"{verb_words(verb)} {target}{state}", facts=facts)

    def _running(self, number: int) -> Iterator[Item]:
        for place, identities in self.compiled.runs_as.items():
            if number in identities:
                name = self.compiled.places.names[place]
                known = self.estate.resources.get(name)
                yield Item(name, known.source if known else None, {"resource": name})
        name = self.compiled.places.names[number]
        for attachment in self.estate.attachments:
            if isinstance(attachment.what, Glob) and name in attachment.runs_as:
                yield Item(
                    f"everything that matches {attachment.what.pattern}",
                    attachment.source,
                    {"glob": attachment.what.pattern},
                )

    def _credentials(self, address: str) -> Iterator[Item]:
        for credential in self.estate.credentials.values():
            if credential.of != address:
                continue
            lapses = f"lapses at {time_text(credential.expires)}" if credential.expires else "has no end"
            used = f", last used {time_text(credential.last_used)}" if credential.last_used else ""
            state = ", disabled" if credential.disabled else ""
            held = f", held in {', '.join(map(str, credential.held_in))}" if credential.held_in else ""
            text = f"{credential.name}, {credential.form}: {lapses}{used}{held}{state}"
            facts = {"credential": credential.name, **plain_statement("credentials", credential)}
            yield Item(text, credential.source, facts)
            alike = [
                other.name for other in self.estate.credentials.values()
                if other.name != credential.name and other.fingerprint == credential.fingerprint is not None
            ]  # fmt: skip
            if alike:
                yield Item(
                    f"the same value as {', '.join(alike)}, by its fingerprint: revoke them together",
                    credential.source,
                    {"credential": credential.name, "same_value_as": alike},
                )
        for access in self.estate.pipeline_access.values():
            if access.of == address:
                yield Item(
                    f"pipeline access {access.name} at {access.at}",
                    access.source,
                    {"pipeline_access": access.name, "at": access.at},
                )

    def _spoken_of(self, address: str) -> Iterator[Item]:
        for journey in self.estate.journeys.values():
            names = {journey.origin.whom, *(hop.identity or hop.on for hop in journey.through)}
            target = journey.attempt.target if journey.attempt else ""
            credential = self.estate.credentials.get(journey.origin.whom)
            if journey.origin.form == Form.CREDENTIAL and credential is not None:
                names.add(credential.of)
            if address in names or target == address or target.startswith(address + "/"):
                yield Item(
                    f"the journey {journey.name}, expected {journey.expect}",
                    journey.source,
                    {"journey": journey.name, "expect": journey.expect},
                )
        for invariant in self.estate.invariants:
            claimed = invariant.claimed
            whom = (*claimed.by, *(claimed.start.whom if claimed.start else ()))
            said = any(name == address if isinstance(name, str) else matcher(name.pattern)(address) for name in whom)
            if said or address == claimed.at or address.startswith(claimed.at + "/"):
                yield Item(f"the invariant {invariant.name}", invariant.source, {"invariant": invariant.name})

    # -- groups, roles, places ------------------------------------------------------------------------------------

    def _group(self, group: m.Group) -> Card:
        number = self.compiled.find(group.address)
        parts = [
            CardPart("members", "who is in it", tuple(self._members(group)), "nobody"),
            CardPart(
                "members_if_wider", "who would be in it if its rule were one level wider", tuple(self._wider(group))
            ),
            CardPart(
                "grants", "what it gives", tuple(self._grants_to(group.address)), "nothing: a group alone gives nothing"
            ),
            CardPart(
                "admitted_by",
                "who admits it",
                tuple(
                    Item(
                        f"{trust.of}, for {duration_text(trust.session)}{self._lasting(trust)}",
                        trust.source,
                        {"trust": plain_statement("trusts", trust)},
                    )
                    for trust in self.estate.trusts
                    if (trust.admits.form, trust.admits.whom) == ("group", group.address)
                ),
            ),
            CardPart("changed_by", "who may change its members", tuple(self._on(number, ("change-members",)))),
            CardPart("referenced_by", "referenced by", tuple(self._spoken_of(group.address))),
        ]
        return Card(group.address, "a group", tuple(parts))

    def _members(self, group: m.Group) -> Iterator[Item]:
        names = self.compiled.places.names
        for number in self.compiled.members[self.compiled.find(group.address)].tolist():
            name = names[number]
            why = "listed" if name in group.members else ""
            if not why:
                inner = [
                    member for member in group.members
                    if member in self.estate.groups and number in self.compiled.members[self.compiled.find(member)]
                ]  # fmt: skip
                why = f"through {inner[0]}" if inner else f"found by the rule {_rule(group.where)}"
            yield Item(f"{name}: {why}", group.source, {"member": name, "why": why})

    def _wider(self, group: m.Group) -> Iterator[Item]:
        """For each thing that the rule asks: whom it would find without that, or in the place above."""
        rule = group.where
        if rule is None:
            return
        inside = set(self.compiled.members[self.compiled.find(group.address)].tolist())
        for what, wider in _one_level_wider(rule, group.address):
            found = set(self.compiled.found_by(wider, group.address).tolist()) - inside
            names = sorted(self.compiled.places.names[one] for one in found)
            said = f"{what}: {_listed(names) if names else 'no other'}"
            yield Item(said, group.source, {"rule": what, "further": names})

    def _grants_to(self, address: str) -> Iterator[Item]:
        for grant in self.estate.grants:
            if grant.to == address:
                text = f"{grant.role} at {grant.at}{self._when(grant.when)}{self._lasting(grant)}"
                yield Item(text, grant.source, {"grant": plain_statement("grants", grant)})

    def _allowed_by(self, role: m.Role, allows: dict[str, Any]) -> Iterator[Item]:
        """What a role allows by itself, and with what it includes."""
        if allows or not role.includes:
            yield Item(permissions(allows), role.source, {"allows": allows})
        if role.includes:
            every: dict[str, list[str]] = {}
            for kind, verb in sorted(self.estate.permissions_of(role.name)):
                every.setdefault(kind, []).append(verb)
            yield Item(f"with what it includes: {permissions(every)}", role.source, {"in_all": every})

    def _role(self, role: m.Role) -> Card:
        allows = plain_statement("roles", role)["allows"]
        parts = [
            CardPart("for", "what it is for", (Item(role.description),) if role.description else ()),
            CardPart("allows", "what it allows", tuple(self._allowed_by(role, allows))),
            CardPart("includes", "what it includes", tuple(Item(name, facts={"role": name}) for name in role.includes)),
            CardPart(
                "included_in",
                "included in",
                tuple(
                    Item(one.name, one.source, {"role": one.name})
                    for one in self.estate.roles.values()
                    if role.name in one.includes
                ),
            ),
            CardPart(
                "bound",
                "who has it, and where",
                tuple(
                    Item(
                        f"{grant.to} at {grant.at}, held by {self.estate.holder_of(grant)}{self._when(grant.when)}"
                        f"{self._lasting(grant)}",
                        grant.source,
                        {"grant": {**plain_statement("grants", grant), "held_by": self.estate.holder_of(grant)}},
                    )
                    for grant in self.estate.grants
                    if grant.role == role.name
                ),
                "none: no grant binds it",
            ),
        ]
        return Card(role.name, "a role", tuple(parts))

    def _place(self, name: str) -> Card:
        target = self.web.targets_at(name)[0]
        goal = self.web.goal(target)
        wanted = np.ones(len(self.compiled.permission_pairs), bool)
        rows = self.web.rows_at_or_in(name, wanted)
        parts = [
            CardPart("about", "what it is", tuple(self._about_place(name, target))),
            CardPart(
                "callers", "who may do what here, or in it, directly", tuple(self._by_caller(rows, target)), "nobody"
            ),
            CardPart("ceilings", "ceilings over it", tuple(self._ceilings(goal.chain))),
            CardPart("referenced_by", "referenced by", tuple(self._spoken_of(name))),
        ]
        if is_organisation(name):
            granted = tuple(self._grants(self.compiled.find(name)))
            parts.insert(1, CardPart("grants", "what everybody of it may do", granted))
        return Card(name, article(goal.kind), tuple(parts))

    def _about_place(self, name: str, target: int) -> Iterator[Item]:
        compiled = self.compiled
        resource = self.estate.resources.get(name)
        chain = self.web.goal(target).chain
        own = compiled.labels_at(chain[0])
        above = {label: value for place in reversed(chain) for label, value in compiled.labels_at(place).items()}
        outer = " in ".join(compiled.places.names[place] for place in chain[1:])
        facts = {"address": name, "in": [compiled.places.names[place] for place in chain[1:]],
                 **(plain_statement("resources", resource) if resource else {})}  # fmt: skip
        yield Item(f"in {outer}" if outer else "at the top", resource.source if resource else None, facts)
        yield from self._labels(own)
        inherited = {label: value for label, value in above.items() if label not in own}
        if inherited:
            said = "labels from above " + ", ".join(f"{label} {value}" for label, value in inherited.items())
            yield Item(said, facts={"labels_from_above": inherited})
        key = next((compiled.key_above[place] for place in chain if place in compiled.key_above), NONE)
        if key != NONE:
            managed = ", managed by the provider" if key in compiled.key_by_provider else ""
            facts = {"encrypted_by": compiled.places.names[key], "managed_by_provider": bool(managed)}
            yield Item(f"encrypted by {compiled.places.names[key]}{managed}", facts=facts)
        yield from self._of_kind(name, resource)
        yield from self._runs_as(name)
        if resource is not None and resource.protected:
            yield Item("protected")

    def _of_kind(self, name: str, resource: m.Resource | None) -> Iterator[Item]:
        """What is asked of a key, a registry or a database."""
        kind = self.web.goal(self.web.targets_at(name)[0]).kind
        if kind == "key":
            by_provider = resource is not None and resource.by_provider
            who = "the provider: no caller of another account can use it" if by_provider else "its account"
            yield Item(f"managed by {who}")
            encrypted = [address for address, one in self.estate.resources.items() if one.encrypted_by == name]
            said = f"encrypts {_listed(encrypted)}" if encrypted else "encrypts nothing that is described"
            yield Item(said, facts={"encrypts": encrypted})
        if kind in SHARED_LOGINS:
            login = resource.shared_login if resource is not None else None
            told = f"shared login {login}" if login else "whether its shared login is on is not said"
            yield Item(told, facts={"shared_login": login})
        if resource is not None and resource.url is not None and resource.certificates is None:
            yield Item(f"its own server is {resource.url}; its provider keeps its access", facts={"url": resource.url})
        elif resource is not None and resource.url is not None:
            said = f"its own server keeps its access: {resource.url}, with certificates of {resource.certificates}"
            yield Item(said, facts={"url": resource.url, "certificates": resource.certificates})
            yield Item("a session that is open there goes on after its certificate has ended")

    def _runs_as(self, name: str) -> Iterator[Item]:
        """As whom it acts: an identity of its own, and those that it shares; and of the others why it cannot."""
        found = [self.compiled.places.names[run] for run in self.compiled.runs(name)]
        pool = pool_of(name)
        of_pool = [self.compiled.places.names[run] for run in self.compiled.runs(pool)] if pool else []
        acting = self._acts_as(name)
        for address in found:
            identity = self.estate.identities[address]
            number, here = self.compiled.find(address), self.compiled.find(name)
            others = sum(number in runs for place, runs in self.compiled.runs_as.items() if place != here)
            own = "its own, and gone with it" if identity.tied_to == name else ""
            shared = f"shared with {others} other{'s' if others != 1 else ''}" if others and not own else ""
            through = f"through {pool}" if address in of_pool else ""
            cannot = "" if address in acting else f"cannot act as it: {self._why_not(name, address)}"
            said = ", ".join(name for name in (own, shared, through, cannot) if name)
            facts = {"runs_as": address, "own": bool(own), "shared_with": others, "acts": address in acting}
            yield Item(f"runs as {address}{f': {said}' if said else ''}", identity.source, facts)
        able = [name for name in found if name in acting]
        if len(able) > 1:
            yield Item(f"so it acts as one of {len(able)}, and says each time as which")

    def _acts_as(self, name: str) -> set[str]:
        """The identities that a resource can take on."""
        web, number = self.web, self.compiled.find(name)
        if number == NONE:
            return set()
        edges = web.forward.edges(np.array([number]))
        edges = edges[web.edge_permission[edges] == self.compiled.take_on]
        return {web.target_name(int(one)) for one in web.edge_target[edges].tolist()}

    def _why_not(self, name: str, address: str) -> str:
        """Why a resource cannot take on an identity that it is said to run as."""
        fallen = why_fallen(self.compiled, address)
        if fallen:
            return f"it {fallen}"
        accounts = [self.estate.accounts.get(account_of(text)) for text in (name, address)]
        providers = [account.provider if account is not None else "" for account in accounts]
        if providers[0] != providers[1]:
            return f"it is of another provider, {providers[1] or 'none'}"
        return "no trust of it admits what runs as it here"

    def _ceilings(self, chain: Sequence[int]) -> Iterator[Item]:
        """The ceilings over what callers there do, and over what is done there."""
        for barred in self.compiled.ceilings_over(chain, chain):
            ceiling = barred.ceiling
            what = ceiling_words(plain_statement("ceilings", ceiling))
            said = f"{ceiling.name} over {ceiling.over} at {ceiling.at} {what}{self._when(ceiling.when)}"
            yield Item(said, ceiling.source, {"ceiling": plain_statement("ceilings", ceiling)})

    def _ceiling(self, ceiling: m.Ceiling) -> Card:
        """What a ceiling bars, whom it leaves alone, and which identities and journeys are under it."""
        place = self.compiled.find(ceiling.at)
        plain = plain_statement("ceilings", ceiling)
        about = [
            Item(f"over {ceiling.over} at {ceiling.at}", ceiling.source, {"ceiling": plain}),
            Item(ceiling_words(plain) + self._when(ceiling.when)),
        ]
        spared = []
        for one in ceiling.excepts:
            who = one.who if isinstance(one, m.CeilingException) else one
            said = f"what {who.pattern} names" if isinstance(who, Glob) else who
            if isinstance(one, m.CeilingException):
                for_what = f" for {', '.join(one.can)}" * bool(one.can) + f" at {one.at}" * bool(one.at)
                ended = "" if one.in_force(self.now) else " (ended)"
                said += f"{for_what}, until {time_text(one.until)}{ended}, because {one.because}"
            spared.append(Item(said))
        names, first, end = self.compiled.places.names, self.compiled.first, self.compiled.end
        under = [
            names[one]
            for one in self.compiled.identity_places.tolist()
            if place != NONE and first[place] <= first[one] < end[place]
        ]
        parts = (
            CardPart("about", "what it is", tuple(about)),
            CardPart("except", "whom it leaves alone", tuple(spared), "nobody"),
            CardPart("identities", "identities beneath it", tuple(Item(one) for one in under), "none"),
            CardPart("referenced_by", "referenced by", tuple(self._spoken_of(ceiling.name))),
        )
        return Card(ceiling.name, "a ceiling", parts)


def _journey(journey: m.Journey) -> Item:
    facts = {"journey": journey.name, "expect": journey.expect}
    return Item(f"the journey {journey.name}, expected {journey.expect}", journey.source, facts)


def _listed(names: list[str], most: int = 8) -> str:
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def _one_level_wider(rule: m.GroupRule, group: str) -> Iterator[tuple[str, m.GroupRule]]:
    """The rules that ask one thing less; a place becomes the one that it stands in."""
    if rule.kind is not None:
        yield f"without kind {rule.kind}", replace(rule, kind=None)
    for name, value in rule.labels.items():
        left = {label: its for label, its in rule.labels.items() if label != name}
        yield f"without {name} {value}", replace(rule, labels=left)
    if rule.within is not None and "/" in rule.within:
        parts = rule.within.split("/")
        above = "/".join(parts[: -1 if rule.within.startswith("@") else -2])
        yield f"in {above}", replace(rule, within=above)


def _rule(rule: m.GroupRule | None) -> str:
    if rule is None:
        return ""
    said = [f"kind {rule.kind}"] if rule.kind else []
    said += [f"in {rule.within}"] if rule.within else []
    said += [f"{name} {value}" for name, value in rule.labels.items()]
    return ", ".join(said) or "that finds everybody there"

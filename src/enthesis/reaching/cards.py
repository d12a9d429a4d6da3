"""One page on an identity, resource, group or role: what it is, who comes to it, and what it comes to."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from enthesis.judging.compiling import NONE, Compiled
from enthesis.model import estate as m
from enthesis.model.addresses import article, pool_of
from enthesis.model.conditions import Conditions, Glob
from enthesis.model.mistakes import Source
from enthesis.reaching.web import LOOK, Rows, Web
from enthesis.reading.conditions import plain_test
from enthesis.reading.sentences import admitted, ceiling_words, permissions, tested
from enthesis.reading.shapes import duration_text, time_text
from enthesis.reading.writing import plain_statement
from enthesis.trusting.patterns import matcher

THINGS = ("use", "attach", "issue", "change-trust")  # what is done to an identity as a thing


@dataclass(frozen=True, slots=True)
class Item:
    """One thing that a card says, with where it stands."""

    text: str
    source: Source | None = None


@dataclass(frozen=True, slots=True)
class Part:
    """A heading with what stands under it; `none` is said where nothing does."""

    head: str
    items: tuple[Item, ...]
    none: str = ""


@dataclass(frozen=True, slots=True)
class Card:
    """The whole page."""

    name: str
    what: str
    parts: tuple[Part, ...]


def card(web: Web, name: str, now: datetime) -> Card | None:
    """The card of a place or role; None where the estate has neither."""
    return _Cards(web, now).card(name)


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
        if self.compiled.find(name) != NONE or self.web.targets_at(name):
            return self._place(name)
        return None

    # -- identities -----------------------------------------------------------------------------------------------

    def _identity(self, identity: m.Identity) -> Card:
        number = self.compiled.find(identity.address)
        what = article(identity.kind)
        what += f", {identity.purpose}" if identity.purpose else ""
        parts = [
            Part("what it is", tuple(self._about(identity))),
            Part("who can take it on", tuple(self._trusts(identity.address)), "nobody: it has no trust"),
            Part(
                "who comes to it as a thing",
                (*self._on(number, THINGS), *self._groups_on(identity.address, THINGS)),
                "nobody may use, attach or issue it",
            ),
            Part("what it may do", tuple(self._grants(number)), "nothing: it holds no grant"),
            Part("whom it takes on", tuple(self._onward(number))),
            Part("what runs as it", tuple(self._running(number))),
            Part("its stored credentials", tuple(self._credentials(identity.address)), "none known"),
            Part("who speaks of it", tuple(self._spoken_of(identity.address))),
        ]
        return Card(identity.address, what, tuple(parts))

    def _about(self, identity: m.Identity) -> Iterator[Item]:
        yield Item(f"owner {identity.owner or 'not said'}", identity.source)
        if identity.purpose is None:
            yield Item("purpose not said")
        if identity.disabled:
            yield Item("disabled: every request from it or to it is refused at names")
        if identity.tied_to is not None:
            there = "" if self.compiled.exists(identity.tied_to) else ", which does not exist"
            yield Item(f"tied to {identity.tied_to}{there}")
        yield from self._labels(identity.labels)
        groups = [
            self.compiled.places.names[one] for one in self.compiled.groups_of(self.compiled.find(identity.address))
        ]
        if groups:
            yield Item(f"in {', '.join(groups)}")

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
            until = f", until {time_text(trust.until)}" if trust.until else ""
            ended = " (ended)" if trust.until is not None and trust.until <= self.now else ""
            yield Item(f"{whom}, for {duration_text(trust.session)}{when}{until}{ended}", trust.source)
        number = self.compiled.find(address)
        edges = self.web.backward.edges(np.array([number]))
        edges = edges[self.web.edge_permission[edges] == self.compiled.take_on]
        names = sorted({self.web.node(int(one)).name for one in np.unique(self.web.edge_from[edges]).tolist()})
        if names:
            yield Item(f"so today: {_listed(names)}")

    @staticmethod
    def _when(conditions: Conditions) -> str:
        said = [f"{name} {tested(plain_test(test))}" for name, test in conditions]
        return f", when {' and '.join(said)}" if said else ""

    def _on(self, number: int, verbs: Iterable[str]) -> Iterator[Item]:
        wanted = np.array([verb in verbs for _, verb in self.compiled.permission_pairs])
        yield from self._by_caller(self.web.rows_on(number, wanted))

    def _groups_on(self, address: str, verbs: Iterable[str]) -> Iterator[Item]:
        """The groups through which some of those come, each with the grant that says so."""
        above = {self.compiled.places.names[one] for one in self.compiled.chain_of(address)}
        for grant in self.estate.grants:
            allowed = {verb for kind, verb in self.estate.permissions_of(grant.role) if kind == "identity"}
            through = [verb for verb in verbs if verb in allowed]
            if grant.to in self.estate.groups and grant.at in above and through:
                yield Item(f"through the group {grant.to}: {', '.join(through)}", grant.source)

    def _by_caller(self, rows: Rows) -> Iterator[Item]:
        found: dict[str, list[str]] = {}
        columns = (rows.who.tolist(), rows.permission.tolist(), rows.target.tolist(), rows.state.tolist())
        for who, permission, target, state in zip(*columns, strict=True):
            kind, verb = self.compiled.permission_pairs[permission]
            verb += f" on {article(kind)} in it" if target >= self.web.places else ""
            verb += " (on a condition)" if state == LOOK else ""
            found.setdefault(self.web.node(who).name, []).append(verb)
        for name, verbs in sorted(found.items()):
            yield Item(f"{name}: {', '.join(dict.fromkeys(verbs))}")

    def _grants(self, number: int) -> Iterator[Item]:
        principals = {self.compiled.places.names[one] for one in (number, *self.compiled.groups_of(number))}
        for grant in self.estate.grants:
            if grant.to not in principals:
                continue
            through = f", through {grant.to}" if grant.to != self.compiled.places.names[number] else ""
            ended = " (ended)" if grant.until is not None and grant.until <= self.now else ""
            allowed = permissions(plain_statement("roles", self.estate.roles[grant.role])["allows"])
            held = f", held by {self.estate.holder_of(grant)}"
            until = f", until {time_text(grant.until)}" if grant.until else ""
            text = f"{grant.role} at {grant.at}: {allowed}{held}{through}{self._when(grant.when)}{until}{ended}"
            yield Item(text, grant.source)

    def _onward(self, number: int) -> Iterator[Item]:
        edges = self.web.forward.edges(np.array([number]))
        for edge in edges.tolist():
            verb = self.compiled.permission_pairs[int(self.web.edge_permission[edge])][1]
            state = " (on a condition)" if self.web.edge_state[edge] == LOOK else ""
            yield Item(
                f"{verb.replace('take-on', 'take on')} {self.web.target_name(int(self.web.edge_target[edge]))}{state}"
            )

    def _running(self, number: int) -> Iterator[Item]:
        for place, identities in self.compiled.runs_as.items():
            if number in identities:
                name = self.compiled.places.names[place]
                known = self.estate.resources.get(name)
                yield Item(name, known.source if known else None)
        name = self.compiled.places.names[number]
        for attachment in self.estate.attachments:
            if isinstance(attachment.what, Glob) and name in attachment.runs_as:
                yield Item(f"whatever is like {attachment.what.pattern}", attachment.source)

    def _credentials(self, address: str) -> Iterator[Item]:
        for one in self.estate.credentials.values():
            if one.of != address:
                continue
            lapses = f"lapses at {time_text(one.expires)}" if one.expires else "has no end"
            used = f", last used {time_text(one.last_used)}" if one.last_used else ""
            state = ", disabled" if one.disabled else ""
            held = f", held in {', '.join(one.held_in)}" if one.held_in else ""
            yield Item(f"{one.name}, {one.form}: {lapses}{used}{held}{state}", one.source)
            alike = [
                other.name for other in self.estate.credentials.values()
                if other.name != one.name and other.fingerprint == one.fingerprint is not None
            ]  # fmt: skip
            if alike:
                yield Item(
                    f"the same value as {', '.join(alike)}, by its fingerprint: retire them together", one.source
                )
        for lodged in self.estate.lodged.values():
            if lodged.of == address:
                yield Item(f"lodged at {lodged.at} as {lodged.name}", lodged.source)

    def _spoken_of(self, address: str) -> Iterator[Item]:
        for journey in self.estate.journeys.values():
            names = {journey.origin.whom, *(hop.identity or hop.on for hop in journey.through)}
            target = journey.attempt.target if journey.attempt else ""
            if address in names or target == address or target.startswith(address + "/"):
                yield Item(f"the journey {journey.name}, expected {journey.expect}", journey.source)
        for invariant in self.estate.invariants:
            claimed = invariant.claimed
            whom = (*claimed.by, *(claimed.start.whom if claimed.start else ()))
            said = any(one == address if isinstance(one, str) else matcher(one.pattern)(address) for one in whom)
            if said or address == claimed.at or address.startswith(claimed.at + "/"):
                yield Item(f"the invariant {invariant.name}", invariant.source)

    # -- groups, roles, places ------------------------------------------------------------------------------------

    def _group(self, group: m.Group) -> Card:
        number = self.compiled.find(group.address)
        parts = [
            Part("who is in it", tuple(self._members(group)), "nobody"),
            Part("who would be in it if its rule were one level wider", tuple(self._wider(group))),
            Part("what it gives", tuple(self._grants_to(group.address)), "nothing: a group alone gives nothing"),
            Part(
                "who admits it",
                tuple(
                    Item(f"{trust.of}, for {duration_text(trust.session)}", trust.source)
                    for trust in self.estate.trusts
                    if (trust.admits.form, trust.admits.whom) == ("group", group.address)
                ),
            ),
            Part("who may change its members", tuple(self._on(number, ("change-members",)))),
            Part("who speaks of it", tuple(self._spoken_of(group.address))),
        ]
        return Card(group.address, "a group", tuple(parts))

    def _members(self, group: m.Group) -> Iterator[Item]:
        names = self.compiled.places.names
        for number in self.compiled.members[self.compiled.find(group.address)].tolist():
            name = names[number]
            why = "listed" if name in group.members else ""
            if not why:
                inner = [
                    one for one in group.members
                    if one in self.estate.groups and number in self.compiled.members[self.compiled.find(one)]
                ]  # fmt: skip
                why = f"through {inner[0]}" if inner else f"found by the rule {_rule(group.where)}"
            yield Item(f"{name}: {why}", group.source)

    def _wider(self, group: m.Group) -> Iterator[Item]:
        """For each thing that the rule asks: whom it would find without that, or in the place above."""
        rule = group.where
        if rule is None:
            return
        inside = set(self.compiled.members[self.compiled.find(group.address)].tolist())
        for what, wider in _one_level_wider(rule, group.address):
            found = set(self.compiled.found_by(wider, group.address).tolist()) - inside
            names = sorted(self.compiled.places.names[one] for one in found)
            yield Item(f"{what}: {_listed(names) if names else 'nobody else'}", group.source)

    def _grants_to(self, address: str) -> Iterator[Item]:
        for grant in self.estate.grants:
            if grant.to == address:
                yield Item(f"{grant.role} at {grant.at}{self._when(grant.when)}", grant.source)

    def _role(self, role: m.Role) -> Card:
        parts = [
            Part("what it allows", (Item(permissions(plain_statement("roles", role)["allows"]), role.source),)),
            Part("what it includes", tuple(Item(name) for name in role.includes)),
            Part(
                "included in",
                tuple(Item(one.name, one.source) for one in self.estate.roles.values() if role.name in one.includes),
            ),
            Part(
                "who has it, and where",
                tuple(
                    Item(
                        f"{grant.to} at {grant.at}, held by {self.estate.holder_of(grant)}{self._when(grant.when)}",
                        grant.source,
                    )
                    for grant in self.estate.grants
                    if grant.role == role.name
                ),
                "nobody: it is bound nowhere",
            ),
        ]
        return Card(role.name, "a role", tuple(parts))

    def _place(self, name: str) -> Card:
        target = self.web.targets_at(name)[0]
        goal = self.web.goal(target)
        wanted = np.ones(len(self.compiled.permission_pairs), bool)
        rows = self.web.rows_on(target, wanted)
        if target < self.web.places:  # with what may be done to the leaves in it that nobody declared
            inside = self.web.rows_at(target, wanted)
            rows = inside.where(self.web.target_place[inside.target] == target)
        parts = [
            Part("what it is", tuple(self._about_place(name, target))),
            Part("who may do what here directly", tuple(self._by_caller(rows)), "nobody"),
            Part("ceilings over it", tuple(self._ceilings(goal.chain))),
            Part("who speaks of it", tuple(self._spoken_of(name))),
        ]
        return Card(name, article(goal.kind), tuple(parts))

    def _about_place(self, name: str, target: int) -> Iterator[Item]:
        compiled = self.compiled
        resource = self.estate.resources.get(name)
        chain = self.web.goal(target).chain
        own = compiled.labels_at(chain[0])
        above = {label: value for place in reversed(chain) for label, value in compiled.labels_at(place).items()}
        outer = " in ".join(compiled.places.names[place] for place in chain[1:])
        yield Item(f"in {outer}" if outer else "at the top", resource.source if resource else None)
        yield from self._labels(own)
        inherited = {label: value for label, value in above.items() if label not in own}
        if inherited:
            yield Item("labels from above " + ", ".join(f"{label} {value}" for label, value in inherited.items()))
        key = next((compiled.key_above[place] for place in chain if place in compiled.key_above), NONE)
        if key != NONE:
            managed = ", managed by the provider" if key in compiled.key_by_provider else ""
            yield Item(f"encrypted by {compiled.places.names[key]}{managed}")
        yield from self._runs_as(name)
        if resource is not None and resource.protected:
            yield Item("protected")

    def _runs_as(self, name: str) -> Iterator[Item]:
        """As whom it acts: an identity of its own, and those that it shares."""
        found = [self.compiled.places.names[one] for one in self.compiled.runs(name)]
        pool = pool_of(name)
        of_pool = [self.compiled.places.names[one] for one in self.compiled.runs(pool)] if pool else []
        for address in found:
            identity = self.estate.identities[address]
            number, here = self.compiled.find(address), self.compiled.find(name)
            others = sum(number in runs for place, runs in self.compiled.runs_as.items() if place != here)
            own = "its own, and gone with it" if identity.tied_to == name else ""
            shared = f"shared with {others} other{'s' if others != 1 else ''}" if others and not own else ""
            through = f"through {pool}" if address in of_pool else ""
            said = ", ".join(one for one in (own, shared, through) if one)
            yield Item(f"runs as {address}{f': {said}' if said else ''}", identity.source)
        if len(found) > 1:
            yield Item(f"so it acts as one of {len(found)}, and says each time as which")

    def _ceilings(self, chain: tuple[int, ...]) -> Iterator[Item]:
        for place in chain:
            for barred in self.compiled.ceilings_at.get(place, ()):
                ceiling = barred.ceiling
                if ceiling.over == "resources":
                    what = ceiling_words(plain_statement("ceilings", ceiling))
                    yield Item(f"{ceiling.name} at {ceiling.at} {what}{self._when(ceiling.when)}", ceiling.source)


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

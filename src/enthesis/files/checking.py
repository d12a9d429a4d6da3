"""Looks up every name that an estate's statements use, and checks what no single entry can show."""

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from datetime import timedelta
from typing import Any
from urllib.parse import urlsplit

from enthesis.files.field_types import MOST_HINTED
from enthesis.files.yaml_tree import Node
from enthesis.model import addresses
from enthesis.model.catalogue import EVERYTHING
from enthesis.model.conditions import AllOf, AnyOf, Conditions, Equal, Glob, Not, Test
from enthesis.model.errors import InvalidAddress
from enthesis.model.estate import (
    LONGEST_KEY,
    Admission,
    CeilingException,
    Estate,
    Exchange,
    Group,
    Hop,
    Issuer,
    KindVerbs,
    Origin,
    Resource,
    boundary_of,
)
from enthesis.model.file_errors import FileError, Source
from enthesis.model.foreign_names import one_spelling
from enthesis.model.pointers import as_pointers, claim_at
from enthesis.model.urls import is_safe_url
from enthesis.model.vocabulary import (
    BEARERS,
    ENDING,
    FORM_OF_ISSUER,
    RETIRING,
    SHOWN_IN,
    STATEMENT_SECTIONS,
    Form,
    issuer_kinds,
)
from enthesis.text.nearest import nearest

Named = Mapping[tuple[str, str], Source]
MOST_STEPS = 12  # of a cycle that are told
SSH_KEY = re.compile(r"(ssh-ed25519|ssh-rsa|ecdsa-sha2-nistp(256|384|521)) [A-Za-z0-9+/]{40,}={0,3}( [^\n]*)?")
SHARED_LOGINS = ("registry", "database")  # kinds that can have a login which people share
OWN_SERVERS = {
    "database": "postgresql",
    "host": "ssh",
    "registry": "https",
}  # kinds that can have a server of their own, and how its url begins

CERTIFICATES = {"database": "x509", "host": "ssh"}  # the kind of issuer whose certificates each takes


def is_server_url(url: str, scheme: str) -> bool:
    """Whether a url is one of a server and a name at it, with nothing secret in it."""
    try:
        parts = urlsplit(url)
        port = parts.port or 1
    except ValueError:
        return False
    named = parts.path in ("", "/") if scheme == "https" else parts.path.count("/") == 1 and len(parts.path) > 1
    plain = not (parts.username or parts.password or parts.query or parts.fragment)
    here = scheme == "https" and is_safe_url(url)
    return (parts.scheme == scheme or here) and bool(parts.hostname) and port > 0 and named and plain


def spot(records: Mapping[Source, Node], source: Source, *path: str | int) -> Source:
    """Where what a path of fields and positions leads to stands, as far as it is written."""
    node = records.get(source)
    for word in path:
        value = node.value if node else None
        if isinstance(word, int) and isinstance(value, list):  # noqa: SIM114  one index of each type
            node = value[word]
        elif isinstance(value, dict) and word in value:
            node = value[word]
        else:
            break
    return Source(source.file, node.line, node.column) if node else source


def claim_fault(issuer: Issuer, name: str, value: object) -> tuple[str, str, str] | None:
    """Why an issuer never issues a claim so: a code, the message and what was expected; None where it may.

    `aud` is always issued, as one text or several, and `sub` by an OIDC issuer. Where an issuer lists its claims, it
    issues no others.
    """
    form = "list" if name == "aud" else (issuer.claims or {}).get(name, "text")
    if issuer.claims is not None and name not in (*issuer.always_issues, *issuer.claims):
        return "claim-not-issued", f"{issuer.name} never issues the claim `{name}`", ""
    if isinstance(value, tuple) and form != "list":
        message = f"{issuer.name} issues `{name}` as one value, not as a list"
        return "claim-not-list", message, f"claims: {{{name}: list}} at the issuer, or one value"
    return None


OF_THE_REQUEST = (
    "grant_type", "subject_token", "subject_token_type", "requested_token_type", "actor_token", "client_id",
    "client_secret", "client_assertion", "client_assertion_type", "password", "assertion",
)  # fmt: skip
"""Parameters of a token request that say who asks and what for."""


NAMES = {
    "of": "identity", "runs_as": "identity", "to": "identity, group or organisation",
    "members": "identity or group",
    "role": "role", "includes": "role",
}  # fmt: skip
"""The fields of statements that hold names, with what each names."""


def check(
    estate: Estate, records: Mapping[Source, Node], named_at: Named, broken: Mapping[str, set[str]]
) -> list[FileError]:
    """All errors that show only when the estate is looked at as a whole.

    `broken` are the names, by section, of entries that could not be read: they count as defined.
    """
    checker = _Checker(estate, records, named_at, broken)
    for part in (
        checker.tree,
        checker.kinds,
        checker.names,
        checker.resources,
        checker.identities,
        checker.groups,
        checker.roles,
        checker.trusts,
        checker.grants,
        checker.ceilings,
        checker.further,
        checker.journeys,
        checker.invariants,
        checker.approvals,
        checker.keys,
    ):
        part()
    return list(dict.fromkeys(checker.errors))  # of a list that is several statements, each error once


HELD = "a declared place, an issuer, or {elsewhere: text} for one that has no address"


class _Checker:
    def __init__(
        self,
        estate: Estate,
        records: Mapping[Source, Node],
        named_at: Named,
        broken: Mapping[str, set[str]],
    ) -> None:
        self.estate = estate
        self.records = records
        self.named_at = named_at
        self.errors: list[FileError] = []

        def defined(section: str) -> set[str]:
            return {*getattr(estate, section), *broken.get(section, ())}

        self.providers, self.issuers, self.accounts = map(defined, ("providers", "issuers", "accounts"))
        self.organisations, self.roles_defined = defined("organisations"), defined("roles")
        self.identities_defined, self.groups_defined = defined("identities"), defined("groups")
        self.credentials = defined("credentials")
        self.without_units = {f"@{name}/" for name in broken.get("organisations", ())}
        self.units = {
            f"@{organisation.name}/{unit}"
            for organisation in estate.organisations.values()
            for unit in organisation.units
        }
        self.boundaries = {f"@{name}" for name in self.organisations} | self.units
        self.grantees = self.identities_defined | self.groups_defined
        self.recipients = self.grantees | {f"@{name}" for name in self.organisations}
        self.people = {address for address, one in estate.identities.items() if one.is_person}
        self.people |= broken.get("identities", set())
        self.holders = self.accounts | self.boundaries
        self.declared = self.holders | self.grantees | defined("resources")

    # -- helpers ------------------------------------------------------------------------------------------

    def spot(self, source: Source, *path: str | int) -> Source:
        """Where what a path of fields and positions leads to stands, as far as it is written."""
        return spot(self.records, source, *path)

    def written(self, source: Source, field: str) -> bool:
        """Whether a field is written, be it rightly or wrongly."""
        node = self.records.get(source)
        return node is not None and isinstance(node.value, dict) and field in node.value

    def key(self, source: Source, field: str, name: str) -> Source:
        """Where a key of the mapping in a field stands."""
        node = self.records.get(source)
        inner = node.value.get(field) if node and isinstance(node.value, dict) else None
        if inner is None or not inner.keys or name not in inner.keys:
            return self.spot(source, field)
        return Source(source.file, *inner.keys[name])

    def wrong(self, code: str, message: str, source: Source, expected: str = "", close: tuple[str, ...] = ()) -> None:
        self.errors.append(FileError(code, message, source, expected=expected, nearest=close))

    def is_known(self, name: str, among: Collection[str]) -> bool:
        """Whether a name is one of those, or may be, since what would say so could not be read."""
        return name in among or name.startswith(tuple(self.without_units))

    def known(self, name: str, among: Iterable[str], what: str, source: Source) -> bool:
        """Whether a name is one of those; an error with the nearest ones where it is not."""
        names = among if isinstance(among, Mapping | set | frozenset) else set(among)
        if self.is_known(name, names):
            return True
        self.wrong(
            "unknown-name",
            f"unknown {what} `{name}`",
            source,
            f"{addresses.article(what)} of this estate",
            self._hint(name, names),
        )
        return False

    def place(self, address: str, source: Source, expected: str = "") -> addresses.Place | None:
        """The place at an address that is declared, or is a leaf or a member of a pool whose parent is; None after an
        error."""
        try:
            place = addresses.parse(address, self.estate.catalogue)
        except InvalidAddress as fault:
            known = self._nearest(address)
            self.wrong(
                "wrong-address",
                f"`{address}`: {fault}",
                source,
                expected or "an address such as ACCOUNT/KIND/NAME",
                known,
            )
            return None
        kind = self.estate.catalogue.kinds.get(place.kind)
        comes_and_goes = kind is not None and (kind.leaf or (place.kind == "host" and addresses.is_pool(place.parent)))
        if address in self.declared or (comes_and_goes and place.parent in self.declared):
            return place
        expected = expected or "a declared place"
        self.wrong("unknown-name", f"unknown place `{address}`", source, expected, self._nearest(address))
        return None

    def _nearest(self, address: str) -> tuple[str, ...]:
        return self._hint(address, self.declared)

    def _hint(self, word: str, names: Iterable[str]) -> tuple[str, ...]:
        """What a name could have been meant for; not looked for again and again where all is wrong."""
        return nearest(word, names) if len(self.errors) < MOST_HINTED else ()

    def new_place(self, address: str, source: Source) -> addresses.Place | None:
        """The place a new declaration makes; what it stands in must be declared too."""
        try:
            place = addresses.parse(address, self.estate.catalogue)
        except InvalidAddress as fault:
            self.wrong("wrong-address", f"`{address}`: {fault}", source, "an address such as ACCOUNT/KIND/NAME")
            return None
        spelt = one_spelling(address)
        if spelt != address and addresses.is_named_elsewhere(address):
            message = f"`{address}` is spelt in another way than live systems are told of"
            self.wrong("wrong-address", message, source, f"`{spelt}`")
            return None
        if place.parent and place.parent not in self.declared:
            close = self._nearest(place.parent)
            self.wrong("unknown-name", f"unknown place `{place.parent}`, which contains this", source, "", close)
            return None
        return place

    def identity(self, address: str, source: Source) -> bool:
        return self.known(address, self.identities_defined, "identity", source)

    def kind_verbs(self, listed: KindVerbs | None, source: Source, field: str) -> None:
        """Checks the kinds and verbs of a role, a narrowing or a ceiling."""
        catalogue = self.estate.catalogue
        for kind, verbs in (listed or {}).items():
            at = self.key(source, field, kind)
            if kind != EVERYTHING and not self.known(kind, catalogue.kinds, "kind", at):
                continue
            having = catalogue.all_verbs() if kind == EVERYTHING else catalogue.verbs_of(kind)
            what = "verb" if kind == EVERYTHING else f"verb of kind {kind}"
            for position, verb in enumerate(verbs):
                if verb != EVERYTHING:
                    self.known(verb, having, what, self.spot(source, field, kind, position))
            if not verbs:
                values = self.spot(source, field, kind)
                self.wrong("empty", f"no verb is listed for {kind}", values, "one verb or several")

    def conditions(self, conditions: Conditions, source: Source, field: str) -> None:
        """Checks the accounts and organisations that conditions compare with."""
        for attribute, test in conditions:
            among: Iterable[str] | None = None
            if attribute.endswith(".organisation"):
                among, what = self.organisations, "organisation"
            elif attribute == "caller.account":
                among, what = self.accounts, "account"
            elif attribute == "origin.issuer":
                among, what = self.issuers, "issuer"
            elif attribute == "provider":
                among, what = self.providers, "provider"
            if among is None:
                continue
            for value in _values(test):
                self.known(str(value), among, what, self.spot(source, field, attribute))

    def names(self) -> None:
        """Checks the names of identities, groups and roles that statements hold."""
        among = {
            "identity": self.identities_defined,
            "identity or group": self.grantees,
            "identity, group or organisation": self.recipients,
            "role": self.roles_defined,
        }
        for section, described in STATEMENT_SECTIONS.items():
            entries = getattr(self.estate, section)
            for entry in entries.values() if isinstance(entries, Mapping) else entries:
                for field in (name for name in described.naming if name in NAMES):
                    value, what = getattr(entry, field), NAMES[field]
                    if isinstance(value, str):
                        self.known(value, among[what], what, self.spot(entry.source, field))
                    else:
                        for position, name in enumerate(value):
                            self.known(name, among[what], what, self.spot(entry.source, field, position))

    # -- the parts ----------------------------------------------------------------------------------------

    def tree(self) -> None:
        estate = self.estate
        words = {name for name, kind in estate.catalogue.kinds.items() if "organisation" in kind.within}
        for name, organisation in estate.organisations.items():
            self._simple_name(name, "organisations")
            self._url(organisation.directory, organisation.source, "directory")
            self._url(organisation.people, organisation.source, "people")
            self._longest_key(organisation.longest_key, organisation.source)
            for unit in organisation.units:
                if set(unit.split("/")) & words:
                    at = self.spot(organisation.source, "units")
                    self.wrong("wrong-name", f"a unit cannot be called `{unit}`: that is a kind", at)
        for name, provider in estate.providers.items():
            self._simple_name(name, "providers")
            self._url(provider.url, provider.source)
            self._exchange(provider.exchange)
        for name, issuer in estate.issuers.items():
            self._simple_name(name, "issuers")
            self._url(issuer.url, issuer.source)
            self._exchange(issuer.exchange)
            self._cluster(issuer)
            if issuer.key is not None and not (issuer.kind == "ssh" and SSH_KEY.fullmatch(issuer.key)):
                at = self.spot(issuer.source, "key")
                self.wrong("wrong-key", "this is no public key of an ssh authority", at, "ssh-ed25519 AAAA…")
            if name in self.providers:
                self.wrong("duplicate", f"`{name}` is a provider's name already", self.named_at["issuers", name])
        for name, account in estate.accounts.items():
            self._simple_name(name, "accounts")
            source = account.source
            self._longest_key(account.longest_key, source)
            self.known(account.within, self.boundaries, "organisation or unit", self.spot(source, "in"))
            self.known(account.provider, self.providers, "provider", self.spot(source, "provider"))

    def _simple_name(self, name: str, section: str) -> None:
        if not addresses.is_simple_name(name):
            at = self.named_at[section, name]
            self.wrong(
                "wrong-name",
                f"`{name}` cannot be a name here",
                at,
                "a name without '/' that does not start with '@'",
            )

    def _exchange(self, exchange: Exchange | None) -> None:
        """How a token service wants to be asked names our identities, and holds no secret: the files are shared."""
        if exchange is None:
            return
        for identity in exchange.names:
            self.known(identity, self.estate.identities, "identity", self.spot(exchange.source, "names"))
        for name in exchange.more:
            if name in OF_THE_REQUEST:
                message = f"`{name}` is a parameter that Enthesis sets itself"
                more = "; a secret stands in the file that --client names" if name.startswith("client_") else ""
                self.wrong("wrong-name", message, self.spot(exchange.source, "more"), f"another parameter{more}")

    def _url(self, url: str | None, source: Source, field: str = "url") -> None:
        if url is not None and not is_safe_url(url):
            self.wrong("wrong-url", f"found {url!r}", self.spot(source, field), "an https:// address")

    def kinds(self) -> None:
        for name, kind in self.estate.kinds.items():
            at = self.named_at["kinds", name]
            for within in kind.within:
                self.known(within, self.estate.catalogue.kinds, "kind", at)
            if not name or "/" in name or name == EVERYTHING:
                self.wrong("wrong-name", f"`{name}` cannot be a kind", at)

    def resources(self) -> None:
        estate = self.estate
        for address, resource in estate.resources.items():
            place = self.new_place(address, self.named_at["resources", address])
            if place and place.kind in ("account", "organisation", "unit", "identity", "group"):
                self.wrong(
                    "wrong-kind",
                    f"`{address}` is {addresses.article(place.kind)}, not a resource",
                    self.named_at["resources", address],
                )
            if resource.encrypted_by is not None:
                at = self.spot(resource.source, "encrypted_by")
                key = self.place(resource.encrypted_by, at)
                if key and key.kind != "key":
                    self.wrong("wrong-kind", f"`{resource.encrypted_by}` is a {key.kind}", at, "a key")
            if place and resource.shared_login is not None and place.kind not in SHARED_LOGINS:
                message = f"`{address}` is a {place.kind}, which has no login that people share"
                self.wrong("wrong-kind", message, self.spot(resource.source, "shared_login"), "a registry or database")
            if place and resource.url is not None:
                self._own_server(place, resource)
            if place and resource.runs_as:
                self._runs(place, self.spot(resource.source, "runs_as"))
            for position, identity in enumerate(resource.runs_as):
                self.identity(identity, self.spot(resource.source, "runs_as", position))

    def _own_server(self, place: addresses.Place, resource: Resource) -> None:
        """A server of its own: where it is reached, and whose certificates it takes."""
        scheme = OWN_SERVERS.get(place.kind)
        at = self.spot(resource.source, "url")
        if scheme is None:
            message = f"`{place.address}` is {addresses.article(place.kind)}, whose provider keeps its access"
            self.wrong("wrong-kind", message, at, "one of the kinds " + ", ".join(OWN_SERVERS))
        elif not is_server_url(resource.url or "", scheme):
            form = "" if scheme == "https" else "/NAME"
            self.wrong("wrong-url", f"found {resource.url!r}", at, f"{scheme}://HOST[:PORT]{form}, without a password")
        if place.kind not in CERTIFICATES:
            return
        if resource.certificates is None:
            self.wrong("one-of", "`url` needs `certificates`", resource.source, "certificates: …")
            return
        issuer = self.estate.issuers.get(resource.certificates or "")
        of = self.spot(resource.source, "certificates")
        self.known(resource.certificates or "", self.issuers, "issuer", of)
        kind = CERTIFICATES.get(place.kind, "")
        if issuer is not None and kind and issuer.kind != kind:
            message = f"`{issuer.name}` is an issuer of kind {issuer.kind}"
            self.wrong("wrong-kind", message, of, f"an issuer of kind {kind}")

    def _runs(self, place: addresses.Place, source: Source) -> None:
        """Only what acts can run as an identity."""
        catalogue = self.estate.catalogue
        if not catalogue.acts(place.kind):
            able = [name for name in catalogue.kinds if catalogue.acts(name)]
            message = f"nothing runs on a {place.kind}, so `{place.address}` cannot run as an identity"
            self.wrong("cannot-run", message, source, "one of the kinds " + ", ".join(able))

    def _longest_key(self, length: timedelta | None, source: Source) -> None:
        if length is not None and not timedelta(0) < length <= LONGEST_KEY:
            at = self.spot(source, "longest_key")
            self.wrong("too-long", "a keyed credential lives thirty days at the most", at, "30d or less")

    def identities(self) -> None:
        for address, identity in self.estate.identities.items():
            at = self.named_at["identities", address]
            place = self.new_place(address, at)
            if place is None:
                continue
            if place.kind != "identity":
                message = f"`{address}` is {addresses.article(place.kind)}, not an identity"
                self.wrong("wrong-kind", message, at, "…/identity/NAME")
            elif identity.is_person != address.startswith("@"):
                where = "in an organisation (@NAME/identity/…)" if identity.is_person else "in an account"
                self.wrong(
                    "wrong-kind",
                    f"`{address}` cannot be a {identity.kind}",
                    at,
                    f"a {identity.kind} stands {where}",
                )
            elif (identity.kind == "cluster-service-account") != ("/namespace/" in address):
                expected = "cluster-service-account in a namespace, any other kind outside of one"
                self.wrong("wrong-kind", f"`{address}` cannot be a {identity.kind}", at, expected)
            if identity.tied_to is not None:
                self._well_formed(identity.tied_to, self.spot(identity.source, "tied_to"))
            if identity.tied_to is not None and identity.kind != "managed-identity":
                self.wrong("wrong-kind", "only a managed-identity is tied", self.spot(identity.source, "tied_to"))

    def _well_formed(self, address: str, source: Source) -> None:
        try:
            addresses.parse(address, self.estate.catalogue)
        except InvalidAddress as fault:
            self.wrong("wrong-address", f"`{address}`: {fault}", source, "", self._nearest(address))

    def groups(self) -> None:
        estate = self.estate
        for address, group in estate.groups.items():
            at = self.named_at["groups", address]
            place = self.new_place(address, at)
            if place and place.kind != "group":
                message = f"`{address}` is {addresses.article(place.kind)}, not a group"
                self.wrong("wrong-kind", message, at, "…/group/NAME")
            for position, member in enumerate(group.members):
                spot = self.spot(group.source, "members", position)
                if member in estate.groups and estate.organisation_of(member) != estate.organisation_of(address):
                    self.wrong("other-organisation", f"the group `{member}` is of another organisation", spot)
            if group.where and group.where.within is not None:
                self.place(group.where.within, self.spot(group.where.source, "in"))
            self._rule(group)
        self._cycles()

    def _rule(self, group: Group) -> None:
        """A rule finds some and leaves others: by kind, by labels, or by a place smaller than a boundary."""
        rule = group.where
        if rule is None or rule.kind is not None or rule.labels:
            return
        if rule.within is None or rule.within in self.holders:
            message = "this rule finds every identity there is" + (f" in {rule.within}" if rule.within else "")
            self.wrong("rule-of-everything", message, rule.source, "a kind, labels, or a place within an account")

    def _cycles(self) -> None:
        groups = self.estate.groups
        done: set[str] = set()
        for start in groups:
            path: dict[str, None] = {}
            waiting: list[tuple[str, bool]] = [(start, True)]
            while waiting:
                name, entering = waiting.pop()
                if not entering:
                    path.popitem()
                    done.add(name)
                elif name in path:
                    steps = list(path)
                    steps = [*steps[steps.index(name) :], name]
                    shown = steps if len(steps) <= MOST_STEPS else [*steps[:MOST_STEPS], "…", name]
                    message = f"a group contains itself: {' → '.join(shown)}"
                    self.wrong("group-cycle", message, self.named_at["groups", name])
                    return
                elif name not in done:
                    path[name] = None
                    waiting.append((name, False))
                    waiting.extend((member, True) for member in groups[name].members if member in groups)

    def roles(self) -> None:
        for role in self.estate.roles.values():
            self.kind_verbs(role.allows, role.source, "allows")

    def trusts(self) -> None:
        for trust in self.estate.trusts:
            at = self.spot(trust.source, "of")
            if trust.of.startswith("@") and trust.of in self.identities_defined:
                self.wrong("wrong-kind", "a person cannot be taken on", at)
            self._admission(trust.admits)
            self.conditions(trust.when, trust.source, "when")

    def _admission(self, admits: Admission) -> None:
        estate, source = self.estate, admits.source
        at = self.spot(source, admits.form)
        whom = admits.whom
        if not isinstance(whom, str):
            return
        if admits.form in BEARERS:
            if self.known(whom, self.issuers, "issuer", at) and whom in estate.issuers:
                self._signs(estate.issuers[whom], admits.form, at)
        elif admits.form == Form.IDENTITY:
            if self.identity(whom, at) and whom.startswith("@"):
                self.wrong("wrong-kind", f"`{whom}` is a person", at, f"person: {whom}")
        elif admits.form == Form.GROUP:
            self.known(whom, self.groups_defined, "group", at)
        elif admits.form == Form.ACCOUNT:
            self.known(whom, self.accounts, "account", at)
        elif admits.form == Form.PERSON:
            self.known(whom, self.people, "person", at)
        else:
            self.place(whom, at)

    def _cluster(self, issuer: Issuer) -> None:
        """An issuer may be a cluster's, which then is one that is there."""
        if issuer.cluster is None:
            return
        at = self.spot(issuer.source, "cluster")
        place = self.place(issuer.cluster, at)
        if place and (place.kind != "cluster" or issuer.kind != "oidc"):
            self.wrong(
                "wrong-kind", f"`{issuer.cluster}` is not a cluster, or its issuer not of kind oidc", at, "a cluster"
            )

    def _signs(self, issuer: Issuer, form: Form, source: Source) -> None:
        if FORM_OF_ISSUER[issuer.kind] != form:
            expected = f"an issuer of kind {' or '.join(issuer_kinds(form))}"
            self.wrong("wrong-kind", f"`{issuer.name}` is an issuer of kind {issuer.kind}", source, expected)

    def grants(self) -> None:
        estate = self.estate
        for grant in estate.grants:
            source = grant.source
            to = self.is_known(grant.to, self.recipients)
            at = self.place(grant.at, self.spot(source, "at"))
            self.conditions(grant.when, source, "when")
            if grant.held_by is not None:
                spot = self.spot(source, "held_by")
                held = self.known(grant.held_by, self.holders, "account, organisation or unit", spot)
                if held and to and at:
                    self._holder(grant.to, grant.at, grant.held_by, self.spot(source, "held_by"))
            elif (
                to
                and at
                and not self.written(source, "held_by")
                and addresses.account_of(grant.to)
                and addresses.account_of(grant.at)
            ):
                sides = addresses.account_of(grant.to), addresses.account_of(grant.at)
                if sides[0] != sides[1]:
                    message = f"`{grant.to}` lives in another account than `{grant.at}`, so say who holds this grant"
                    self.wrong("missing-field", message, source, f"held_by: {sides[0]} or held_by: {sides[1]}")

    def _holder(self, to: str, at: str, holder: str, source: Source) -> None:
        sides: set[str] = set()
        if addresses.is_organisation(to):  # its callers stand in any of its accounts and units
            sides |= {name for name in self.accounts if f"@{self.estate.organisation_of(name)}" == to}
            sides |= {unit for unit in self.units if unit.startswith(f"{to}/")}
        for address in (to, at):
            own = boundary_of(address)
            sides |= {own, *self.estate.boundary_above(own)}
            parts = own.split("/")
            sides |= {"/".join(parts[:count]) for count in range(1, len(parts) + 1)} if own.startswith("@") else set()
        if holder not in sides:
            message = f"`{holder}` holds nothing here: neither side of this grant lies in it"
            self.wrong("wrong-holder", message, source, "one of " + ", ".join(sorted(sides)))

    def ceilings(self) -> None:
        estate = self.estate
        for ceiling in estate.ceilings:
            at = self.spot(ceiling.source, "at")
            if ceiling.over != "callers" or ceiling.at not in self.identities_defined:
                self.known(ceiling.at, self.holders, "organisation, unit or account", at)
            self.kind_verbs(ceiling.bars, ceiling.source, "bars")
            self.kind_verbs(ceiling.only, ceiling.source, "only")
            self.conditions(ceiling.when, ceiling.source, "when")
            for position, excepted in enumerate(ceiling.excepts):
                spot = self.spot(ceiling.source, "except", position)
                caller = excepted.who if isinstance(excepted, CeilingException) else excepted
                if isinstance(excepted, CeilingException):
                    for verb in excepted.can:
                        if verb != EVERYTHING:
                            self.known(verb, self.estate.catalogue.all_verbs(), "verb", spot)
                    if excepted.at:
                        self.place(excepted.at, spot)
                place = self.place(caller, spot) if isinstance(caller, str) else None
                if place is not None and place.kind in ("organisation", "unit", "account", "group"):
                    expected = "the address of an identity, person or resource, or {glob: …}"
                    self.wrong(
                        "wrong-kind", f"`{caller}` is never a caller, so this exception has no effect", spot, expected
                    )

    def further(self) -> None:
        estate = self.estate
        for attachment in estate.attachments:
            if isinstance(attachment.what, str):
                at = self.spot(attachment.source, "what")
                place = self.place(attachment.what, at)
                if place is not None:
                    self._runs(place, at)
        for credential in estate.credentials.values():
            self.identity(credential.of, self.spot(credential.source, "of"))
            self.conditions(credential.when, credential.source, "when")
            for position, held in enumerate(credential.held_in):
                if isinstance(held, str) and held not in self.issuers:
                    self.place(held, self.spot(credential.source, "held_in", position), HELD)
        for access in estate.pipeline_access.values():
            self.known(access.at, self.issuers, "issuer", self.spot(access.source, "at"))
            if access.credential is not None:
                self.known(
                    access.credential,
                    estate.credentials,
                    "credential",
                    self.spot(access.source, "credential"),
                )

    def journeys(self) -> None:
        for journey in self.estate.journeys.values():
            source = journey.source
            if journey.refused_at and journey.expect == "allowed":
                self.wrong(
                    "contradiction",
                    "`refused_at` says where it is refused, but it is expected to be allowed",
                    self.spot(source, "refused_at"),
                )
            if not journey.through and not self.written(source, "attempt"):
                self.wrong(
                    "missing-field",
                    "the journey neither takes on nor attempts anything",
                    source,
                    "through: […] or attempt: …",
                )
            if journey.attempt is not None:
                verbs = self.estate.catalogue.all_verbs()
                self.known(journey.attempt.verb, verbs, "verb", self.spot(source, "attempt"))
            for hop in journey.through:
                self.kind_verbs(hop.narrowed, hop.source, "narrowed")
                self._runs_code(hop)
            self._shown(journey.origin)
            if journey.origin.form == Form.IDENTITY and journey.origin.whom in self.people:
                at = self.spot(journey.origin.source, "identity")
                message = f"`{journey.origin.whom}` is a person, who signs in and starts a journey as such"
                self.wrong("wrong-kind", message, at, f"from: {{person: {journey.origin.whom!r}}}")

    def _runs_code(self, hop: Hop) -> None:
        """A hop onto a resource of a kind that code runs on; a name that nothing defines refuses at names."""
        catalogue = self.estate.catalogue
        try:
            kind = addresses.parse(hop.on, catalogue).kind if hop.on else ""
        except InvalidAddress:
            return
        if kind and catalogue.running_verb(kind) is None:
            able = [name for name in catalogue.kinds if catalogue.running_verb(name) is not None]
            message = f"no code runs on {addresses.article(kind)}, so a journey cannot continue from `{hop.on}`"
            self.wrong("cannot-run", message, self.spot(hop.source, "on"), "one of the kinds " + ", ".join(able))

    def _shown(self, origin: Origin) -> None:
        issuer = self.estate.issuers.get(origin.whom) if origin.form in BEARERS else None
        if issuer is None:
            return
        field = SHOWN_IN[origin.form]
        if FORM_OF_ISSUER[issuer.kind] != origin.form:
            self._signs(issuer, origin.form, self.spot(origin.source, origin.form))
        if origin.form == Form.CERTIFICATE:
            return
        for name, value in as_pointers(origin.shows).items():
            fault = claim_fault(issuer, name, value)
            if fault is not None:
                code, message, expected = fault
                close = self._hint(name, issuer.claims or ()) if code == "claim-not-issued" else ()
                written = name if name in origin.shows else next(
                    one for one in origin.shows if claim_at({one: origin.shows[one]}, name) is not None or one in name
                )  # fmt: skip
                self.wrong(code, message, self.spot(origin.source, field, written), expected, close)

    def invariants(self) -> None:
        for invariant in self.estate.invariants:
            claimed = invariant.claimed
            source = claimed.source
            self.place(claimed.at, self.spot(source, "at"))
            for position, verb in enumerate(claimed.can):
                if verb != EVERYTHING:
                    self.known(verb, self.estate.catalogue.all_verbs(), "verb", self.spot(source, "can", position))
            for position, kind in enumerate(claimed.on):
                self.known(kind, self.estate.catalogue.kinds, "kind", self.spot(source, "on", position))
            for position, caller in enumerate(claimed.by):
                if not isinstance(caller, Glob):
                    self.known(caller, self.declared, "caller", self.spot(source, "by", position))
            if claimed.start:
                for position, name in enumerate(claimed.start.whom):
                    self._start(
                        claimed.start.form,
                        name,
                        self.spot(claimed.start.source, claimed.start.form, position),
                    )

    def approvals(self) -> None:
        for approval in self.estate.approvals:
            self.place(approval.at, self.spot(approval.source, "at"))
            self.known(approval.of, self.estate.groups, "group", self.spot(approval.source, "of"))
        for address, approver in self.estate.approvers.items():
            identity = self.estate.identities.get(address)
            at = self.named_at["approvers", address]
            if identity is None or not identity.is_person:
                self.wrong("unknown-name", f"unknown person `{address}`", at, "a person of this estate")
            if not approver.key.startswith(("ssh-ed25519 ", "-----BEGIN PUBLIC KEY-----")):
                found = self.spot(approver.source, "key")
                self.wrong("wrong-type", "found no Ed25519 public key", found, "a public key in OpenSSH or PEM form")
        for name, retiring in self.estate.retiring.items():
            if retiring.stage != RETIRING[-1]:
                self.known(name, self.estate.credentials, "credential", retiring.source)
            if retiring.identity is not None:
                self.identity(retiring.identity, self.spot(retiring.source, "identity"))
        invariants = {one.name for one in self.estate.invariants}
        for acceptance in self.estate.accepted:
            if acceptance.invariant:
                at = self.spot(acceptance.source, "invariant")
                self.known(acceptance.invariant, invariants, "invariant", at)
        for name in self.estate.notice:
            if name not in ENDING:
                at = self.named_at["notice", name]
                self.wrong("unknown-name", f"unknown kind of end `{name}`", at, f"one of {', '.join(ENDING)}")

    def _start(self, form: str, name: str | Glob, source: Source) -> None:
        if isinstance(name, Glob):
            return
        if form in BEARERS:
            self.known(name, self.issuers, "issuer", source)
        elif form == "credential":
            self.known(name, self.credentials, "credential", source)
        elif form in ("person", "identity"):
            self.identity(name, source)
        else:
            self.place(name, source)

    def keys(self) -> None:
        """Statements have keys: two that are the same statement need names to be told apart."""
        estate = self.estate
        self._twice(estate.trusts, lambda trust: (trust.of, trust.admits.form, trust.admits.whom), "trust")
        self._twice(estate.grants, lambda g: (g.to, g.role, g.at, estate.holder_of(g)), "grant")
        self._twice(estate.attachments, lambda one: (one.what, one.runs_as), "attachment")
        for section in ("trusts", "grants", "ceilings", "invariants"):
            seen: dict[str, Source] = {}
            for value in getattr(estate, section):
                if value.name is None:
                    continue
                first = seen.setdefault(value.name, value.source)
                if first is not value.source:
                    at = self.spot(value.source, "name")
                    self.wrong(
                        "duplicate",
                        f"`{value.name}` is named twice under `{section}`: here and at {first}",
                        at,
                    )

    def _twice(self, values: Iterable[Any], key: Callable[[Any], Any], what: str) -> None:
        counted: dict[str, Source] = {}
        for value in values:
            if getattr(value, "name", None) is not None:
                continue
            name = repr(key(value))
            first = counted.setdefault(name, value.source)
            if first is not value.source:
                expected = "a `name` for each, or one of them"
                self.wrong("duplicate", f"duplicate {what}: the same is at {first}", value.source, expected)


def _values(test: Test) -> Iterator[object]:
    """The plain values that a test compares with."""
    if isinstance(test, Equal):
        yield test.value
    elif isinstance(test, AnyOf | AllOf):
        for inner in test.tests:
            yield from _values(inner)
    elif isinstance(test, Not):
        yield from _values(test.test)

"""Whom the bindings of a cluster are for: their subjects, as identities, people and groups of an estate."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from enthesis.model.foreign_names import word_of
from enthesis.ports import Record

ACCOUNTS, OF_NAMESPACE = "system:serviceaccounts", "system:serviceaccounts:"
AUTHENTICATED, UNAUTHENTICATED, MASTERS = "system:authenticated", "system:unauthenticated", "system:masters"
ANONYMOUS, ACCOUNT_USER = "system:anonymous", "system:serviceaccount:"
ANYBODY = "anybody"  # with a space behind it, which no name of the cluster has in an address


@dataclass
class Subjects:
    """The subjects of one cluster, at its address, in an account of an organisation; each has a record once."""

    cluster: str
    account: str
    organisation: str
    made: set[str] = field(default_factory=set)  # groups and people that have a record already
    there: set[str] = field(default_factory=set)  # service accounts that were listed
    absent: set[str] = field(default_factory=set)  # those that are named by bindings and were not
    accounts_known: bool = True  # whether all of them were listed
    only: tuple[str, ...] = ()  # the namespaces that were looked at, where not all were
    authenticated: dict[str, None] = field(default_factory=dict)  # callers that have proved who they are
    everybody: str = ""  # the group of those, if something is for it
    users: dict[str, str] = field(default_factory=dict)  # addresses of users that something is bound to, by name
    posed_groups: set[str] = field(default_factory=set)  # names of groups that a caller may act for
    acting_for: set[str] = field(default_factory=set)  # those that something is bound to

    def of(self, subject: Mapping[str, Any], namespace: str, what: str) -> Iterator[Record]:
        """Records that a subject needs, and last `to`, the address it has; only a reason where it has none."""
        kind, name = subject.get("kind"), str(subject.get("name", ""))
        if kind == "ServiceAccount":
            yield from self._account(str(subject.get("namespace") or namespace), name)
        elif kind == "User" and name:
            yield from self._user(name)
        elif kind == "Group" and name:
            if name == UNAUTHENTICATED:
                says = f"{what} is for everybody, also without any credential"
                yield {"finding": "for-anybody", "at": self.cluster, "says": says}
            yield from self._group(name)
        else:
            yield {"left_out": f"{what}, for {kind} {name!r}", "why": "unknown kind of subject"}

    def _account(self, namespace: str, name: str) -> Iterator[Record]:
        """A service account, also one that is not there (any more)."""
        yield from self._perhaps_absent(account_address(self.cluster, word_of(namespace), word_of(name)))

    def _perhaps_absent(self, address: str) -> Iterator[Record]:
        """An account of the cluster by its address. What is bound to one that does not exist is for whoever creates it,
        and for a token that names it."""
        namespace = address[len(self.cluster) + 11 :].split("/", 1)[0]
        looked_at = self.accounts_known and (not self.only or namespace in self.only)
        if looked_at and address not in self.there and address not in self.absent:
            self.absent.add(address)
            yield {"section": "identities", "address": address, "kind": "cluster-service-account", "absent": True}
        yield {"to": address}

    def _user(self, name: str) -> Iterator[Record]:
        """A user: a service account, a component of the cluster, or a person, known to it by a certificate or another
        issuer."""
        address = user_address(self.cluster, self.account, self.organisation, name)
        if address.startswith(f"{self.cluster}/"):
            yield from self._perhaps_absent(address)
            return
        yield from self._caller(name)[1]
        yield {"to": address}

    def _caller(self, name: str) -> tuple[str, list[Record]]:
        """A user that is not a service account, with its records if it is new."""
        address = self.users[name] = user_address(self.cluster, self.account, self.organisation, name)
        return self._once(address, "person" if address.startswith("@") else "service-account")

    def _group(self, name: str) -> Iterator[Record]:
        """A group: by rule where the cluster itself says who is in it; else with a caller who stands for those
        who sign people in put there."""
        address = f"{self.account}/group/{word_of(name)}"
        if address in self.made:
            yield {"to": address}
            return
        self.made.add(address)
        said: dict[str, Any] = {"section": "groups", "address": address}
        members: list[str] = []
        if name == ACCOUNTS or name.startswith(OF_NAMESPACE):
            inside = f"/namespace/{word_of(name[len(OF_NAMESPACE) :])}" if name != ACCOUNTS else ""
            said["where"] = {"kind": "cluster-service-account", "in": f"{self.cluster}{inside}"}
        elif name in (AUTHENTICATED, MASTERS):  # with its members, when all of them are known
            self.everybody = address if name == AUTHENTICATED else self.everybody
            yield {"to": address}
            return
        else:
            nobody_known = name == UNAUTHENTICATED
            stands, records = self._caller(ANONYMOUS) if nobody_known else self._anybody(f"of {word_of(name)}")
            yield from records
            members.append(stands)
        if name in self.posed_groups:
            self.acting_for.add(name)
            stands, records = self.acting(f"for {word_of(name)}")
            yield from records
            members.append(stands)
        yield {**said, **({"members": members} if members else {})}
        yield {"to": address}

    def masters_there(self, *, acted_for: bool) -> Iterator[Record]:
        """The group that may do everything; `acted_for`: a caller may act for it."""
        stands, records = self._anybody(f"of {MASTERS}")
        members = [stands]
        yield from records
        if acted_for:
            self.acting_for.add(MASTERS)
            stands, records = self.acting(f"for {MASTERS}")
            members.append(stands)
            yield from records
        yield {"section": "groups", "address": f"{self.account}/group/{MASTERS}", "members": members}

    def acting(self, which: str) -> tuple[str, list[Record]]:
        """An identity that stands for callers that act as a user or for a group, with its records if it is new."""
        return self._once(f"{self.account}/identity/{ANYBODY} acting {which}", "service-account")

    def _anybody(self, which: str) -> tuple[str, list[Record]]:
        """A person who stands for those whom only the sign-in service knows."""
        return self._once(f"@{self.organisation}/identity/{ANYBODY} {which}", "person")

    def _once(self, address: str, kind: str) -> tuple[str, list[Record]]:
        """An identity, with its records if it is new."""
        if not address.endswith(f"/{ANONYMOUS}"):
            self.authenticated[address] = None
        if address in self.made:
            return address, []
        self.made.add(address)
        records: list[Record] = [{"section": "identities", "address": address, "kind": kind}]
        if kind != "person":
            records.append({"section": "trusts", "of": address, "admits": {"attached": True}, "live": {}})
        return address, records

    def everybody_there(self) -> Iterator[Record]:
        """The group of everybody who is authenticated, named or not: named anywhere, or not."""
        if not self.everybody:
            return
        _, records = self._anybody("else")
        yield from records
        rule = {"kind": "cluster-service-account", "in": self.cluster}
        yield {"section": "groups", "address": self.everybody, "where": rule, "members": list(self.authenticated)}

    def groups_of(self, to: str) -> Iterator[str]:
        """The groups that a caller, or everybody of a group, is in as the cluster itself says."""
        namespaces, groups = f"{self.cluster}/namespace/", f"{self.account}/group/"
        if to.startswith(namespaces):
            yield f"{groups}{word_of(OF_NAMESPACE)}{to[len(namespaces) :].split('/', 1)[0]}"
        if to.startswith((namespaces, f"{groups}{word_of(OF_NAMESPACE)}")):
            yield f"{groups}{word_of(ACCOUNTS)}"
        if self.everybody and not to.endswith((f"/{ANONYMOUS}", f"/{UNAUTHENTICATED}", self.everybody)):
            yield self.everybody


def user_address(cluster: str, account: str, organisation: str, name: str) -> str:
    """The address of a user: a service account, a component of the cluster, or a person of the organisation."""
    parts = name.split(":")
    if len(parts) == 4 and name.startswith(ACCOUNT_USER):
        return account_address(cluster, word_of(parts[2]), word_of(parts[3]))
    home = account if name.startswith("system:") else f"@{organisation}"
    return f"{home}/identity/{word_of(name)}"


def account_address(cluster: str, namespace: str, name: str) -> str:
    """The address of a service account."""
    return f"{cluster}/namespace/{namespace}/identity/{name}"

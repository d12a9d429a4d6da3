"""How a server lets logins in: its lines of host-based access in their order, and the passwords that work.

Of every role the first line counts that fits the role, the database and where the login comes from; a later one counts
only for what no earlier one takes (PostgreSQL, "The pg_hba.conf File").
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import ip_network

from enthesis.connectors.postgresql.around import not_read
from enthesis.connectors.postgresql.asking import Session
from enthesis.connectors.postgresql.words import LOGINS, MAP, DatabaseRole
from enthesis.model.errors import RightMissing
from enthesis.ports import Record
from enthesis.text.times import time_text

LINES = """
  select {number}, type, database, user_name, address, netmask, auth_method, options, error
  from pg_hba_file_rules order by 1"""
PASSWORDS = "select rolname from pg_authid where rolpassword is not null and rolcanlogin"
TIME = "select now()"
NO_PROOF, NOBODY = "trust", "reject"
BY_PASSWORD = ("password", "md5", "scram-sha-256")
BY_OTHERS = {
    **dict.fromkeys(("ldap", "radius", "pam", "bsd"), "whose password works is kept elsewhere"),
    "gss": "the realm says who that is", "sspi": "the domain says who that is", "ident": "the caller's host says it",
    "peer": "the users of the server's host say it", "cert": "who signs its certificates is not said",
}  # fmt: skip
COVERS: Mapping[str, tuple[str, ...]] = {
    "local": ("local",),
    "host": ("host", "hostssl", "hostnossl", "hostgssenc", "hostnogssenc"),
}
EVERYWHERE, EVERYBODY = "all", "all"
NUMBERED_FROM = 16  # version that numbers the lines of all its files together
MOST = 5  # roles that are named


@dataclass(frozen=True, slots=True)
class AccessLine:
    """A line of host-based access."""

    number: int
    kind: str
    databases: tuple[str, ...]
    users: tuple[str, ...]
    network: str  # `all`, a name, or an address with its mask; '' for sockets
    method: str
    options: tuple[str, ...] = ()

    def takes(self, role: str, roles_of: Iterable[str], database: str) -> bool:
        """Whether it fits a role, which is in these, at a database."""
        known = {role, *roles_of}
        return any(_is_of(word, role, known, database) for word in self.databases) and any(
            _names(word, role, known) for word in self.users
        )

    def covers(self, other: "AccessLine") -> bool:
        """Whether it surely takes all logins that another one would take, as far as where they come from goes."""
        if any(word.startswith("/") for word in (*self.databases, *self.users)):
            return False  # the server reads regular expressions in its own way
        kinds = COVERS.get(self.kind, (self.kind,))
        return other.kind in kinds and _contains(self.network, other.network)


def _is_of(word: str, role: str, known: set[str], database: str) -> bool:
    if word in (EVERYWHERE, database):
        return True
    if word == "sameuser":
        return role == database
    if word in ("samerole", "samegroup"):
        return database in known
    return word.startswith("/") and _fits(word, database)


def _names(word: str, role: str, known: set[str]) -> bool:
    if word in (EVERYBODY, role):
        return True
    return word[1:] in known if word.startswith("+") else word.startswith("/") and _fits(word, role)


def _fits(pattern: str, name: str) -> bool:
    """Whether a regular expression fits; one that cannot be read here does."""
    try:
        return re.search(pattern[1:], name) is not None
    except re.error:
        return True


def _contains(network: str, other: str) -> bool:
    if network in (EVERYWHERE, other):
        return True
    try:
        outer, inner = ip_network(network, strict=False), ip_network(other, strict=False)
    except ValueError:
        return False
    return outer.version == inner.version and inner.subnet_of(outer)  # type: ignore[arg-type]


def counting(lines: Sequence[AccessLine], role: str, roles_of: Iterable[str], database: str) -> list[AccessLine]:
    """The lines by which a role may be let in at a database, of those that stand in this order."""
    found: list[AccessLine] = []
    roles_of = list(roles_of)
    for line in lines:
        if line.takes(role, roles_of, database) and not any(earlier.covers(line) for earlier in found):
            found.append(line)
    return [line for line in found if line.method != NOBODY]


@dataclass
class Doors:
    """How the roles of a server log in at one database."""

    address: str
    database: str
    session: Session
    roles: Sequence[DatabaseRole]
    roles_of: Mapping[int, Sequence[str]]  # by the number of a role, the names of those that it is in
    identities: Mapping[int, str]

    def records(self) -> Iterator[Record]:
        """Passwords that work, lines that want no proof, and what is not read."""
        try:
            lines, wrong = self._lines()
        except RightMissing as fault:
            self.session.connection.rollback()
            yield not_read("how logins are let in", fault.message, self.address, (), of_credentials=True)
            return
        for number, error in wrong:
            what, why = f"line {number} of its host-based access", f"the server cannot read it: {error}"
            yield not_read(what, why, self.address, (), of_credentials=True)
        by_role = {
            role.oid: counting(lines, role.name, self.roles_of.get(role.oid, ()), self.database)
            for role in self.roles
            if role.login
        }
        yield from self._without_proof(lines, by_role)
        yield from self._by_others(lines, by_role)
        yield from self._passwords(by_role)

    def _lines(self) -> tuple[list[AccessLine], list[tuple[int, str]]]:
        number = "rule_number" if self.session.version >= NUMBERED_FROM else "line_number"
        lines, wrong = [], []
        for at, kind, databases, users, address, netmask, method, options, error in self.session.rows(
            LINES.format(number=number)
        ):
            if error is not None:
                wrong.append((at or 0, str(error)))
                continue
            network = f"{address}/{netmask}" if netmask else address or ("" if kind == "local" else EVERYWHERE)
            lines.append(AccessLine(at, kind, tuple(databases), tuple(users), network, method, tuple(options or ())))
        return lines, wrong

    def _let_in(self, line: AccessLine, by_role: Mapping[int, Sequence[AccessLine]]) -> list[DatabaseRole]:
        return [role for role in self.roles if line in by_role.get(role.oid, ())]

    def _said(self, line: AccessLine, let_in: Sequence[DatabaseRole], all_of_them: int) -> str:
        if len(let_in) == all_of_them and EVERYBODY in line.users:
            return EVERYBODY
        names = [role.name for role in let_in]
        return ", ".join(names[:MOST]) + (f" and {len(names) - MOST} more" if len(names) > MOST else "")

    def _without_proof(
        self, lines: Sequence[AccessLine], by_role: Mapping[int, Sequence[AccessLine]]
    ) -> Iterator[Record]:
        for line in lines:
            let_in = self._let_in(line, by_role) if line.method == NO_PROOF else []
            if let_in:
                who = self._said(line, let_in, len(by_role))
                says = f"line {line.number} of its host-based access lets {who} in without any proof ({line.kind})"
                yield {"finding": "login-without-proof", "at": self.address, "says": says}

    def _by_others(self, lines: Sequence[AccessLine], by_role: Mapping[int, Sequence[AccessLine]]) -> Iterator[Record]:
        """Ways in whose callers are not known here."""
        for line in lines:
            let_in = self._let_in(line, by_role)
            ours = line.users == (f"+{LOGINS}",) and f"map={MAP}" in line.options
            if not let_in or ours:
                continue
            what = f"who logs in as {self._said(line, let_in, len(by_role))} by {line.method} (line {line.number})"
            why = BY_OTHERS.get(line.method, "this way of logging in is not known here")
            if line.method not in (*BY_PASSWORD, NO_PROOF):
                by = [self.identities[role.oid] for role in let_in if role.oid in self.identities]
                yield {"left_out": what, "why": why, "at": self.address, "by": sorted(by)}

    def _passwords(self, by_role: Mapping[int, Sequence[AccessLine]]) -> Iterator[Record]:
        asked = [role for role in self.roles if any(line.method in BY_PASSWORD for line in by_role.get(role.oid, ()))]
        if not asked:
            return
        try:
            having = {row[0] for row in self.session.rows(PASSWORDS)}
        except RightMissing as fault:
            self.session.connection.rollback()
            by = [self.identities[role.oid] for role in asked if role.oid in self.identities]
            yield not_read("which passwords work", fault.message, self.address, by, of_credentials=True)
            return
        now = self.session.rows(TIME)[0][0]
        prefix = self.address.rsplit("/", 1)[1] + ":"
        for role in asked:
            if role.name not in having or (role.valid_until is not None and role.valid_until <= now):
                continue
            at = self.identities[role.oid]
            ends = {"expires": time_text(role.valid_until)} if role.valid_until is not None else {}
            yield {"section": "credentials", "name": f"{prefix}{role.name}", "of": at, "form": "password", **ends}
            says = "a password of this role still works: log in with short-lived certificates"
            yield {"finding": "password-works", "at": at, "says": says}

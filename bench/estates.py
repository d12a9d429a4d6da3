"""Large estates made from a seed, as JSON Lines, with the skew that real ones have: few wide roles held by groups, many
narrow grants to single identities in their own account, some crossings, some deep chains, some conditions.

python bench/estates.py [SCALE] > estate.jsonl     (SCALE 1 is 2,000 accounts and 1.4 million statements)
"""

import json
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from random import Random
from typing import Any

ACCOUNTS, IDENTITIES, GRANTS, TRUSTS = 2_000, 200_000, 1_000_000, 200_000  # at scale 1
RESOURCES_EACH = 60  # in an account
KINDS = ("bucket", "secret", "queue", "database", "function")
NARROW = {
    "bucket": ("object-reading", "object-writing"),
    "secret": ("secret-reading",),
    "queue": ("queue-sending", "queue-receiving"),
    "database": ("database-login",),
    "function": ("function-invoking",),
}
ROLES: dict[str, dict[str, Any]] = {
    "object-reading": {"object": ["read", "list"]},
    "object-writing": {"object": ["write", "list"]},
    "secret-reading": {"secret": "read"},
    "queue-sending": {"queue": "send"},
    "queue-receiving": {"queue": "receive"},
    "database-login": {"database": "login"},
    "function-invoking": {"function": "invoke"},
    "taking-on": {"identity": "take-on"},
    "key-using": {"key": ["encrypt", "decrypt"]},
    "looking": {"*": ["describe", "list"]},
    "running": {"host": ["login", "configure"], "identity": "run-as"},
    "administering": {"*": "*"},
}


@dataclass(frozen=True)
class Shape:
    """How many of everything; all of it grows with the scale but the number of units."""

    accounts: int
    identities: int
    grants: int
    trusts: int


def shape(scale: float) -> Shape:
    """The shape at a scale; 1 is the largest that is measured."""
    return Shape(*(max(4, int(count * scale)) for count in (ACCOUNTS, IDENTITIES, GRANTS, TRUSTS)))


class Generated:
    """One estate; `records` gives its statements, the same for the same seed."""

    def __init__(self, scale: float, seed: int = 7) -> None:
        self.shape = shape(scale)
        self.rng = Random(seed)
        self.accounts = [f"account-{n}" for n in range(self.shape.accounts)]
        each = max(1, self.shape.identities // self.shape.accounts)
        self.identities = [f"{account}/identity/runner-{n}" for account in self.accounts for n in range(each)]
        self.each = each
        self.groups = [f"{account}/group/team" for account in self.accounts[:: max(1, len(self.accounts) // 500)]]

    def head(self) -> Iterator[dict[str, Any]]:
        """Organisations, providers, accounts, issuers, roles, ceilings: what stays small."""
        units = [f"unit-{n}" for n in range(20)]
        yield {"section": "organisations", "name": "works", "units": units}
        for name, style in (("north", "two-sided"), ("south", "one-sided")):
            yield {"section": "providers", "name": name, "style": style}
        yield {"section": "issuers", "name": "forge", "kind": "oidc"}
        for number, account in enumerate(self.accounts):
            provider = "north" if number % 3 else "south"
            yield {"section": "accounts", "name": account, "in": f"@works/unit-{number % 20}", "provider": provider}
        for name, allows in ROLES.items():
            yield {"section": "roles", "name": name, "allows": allows}
        for number in range(5):
            bars = {"object": "delete", "bucket": "delete"} if number % 2 else {"secret": "delete"}
            at = f"@works/unit-{number}"
            yield {"section": "ceilings", "name": f"ceiling-{number}", "over": "targets", "at": at, "bars": bars}
        for group in self.groups:
            account = group.split("/", maxsplit=1)[0]
            members = [f"{account}/identity/runner-{n}" for n in range(min(10, self.each))]
            yield {"section": "groups", "address": group, "members": members}

    def resource(self, account: str, number: int) -> str:
        kind = KINDS[number % len(KINDS)]
        return f"{account}/{kind}/thing-{number}"

    def records(self) -> Iterator[dict[str, Any]]:
        """Every statement, in the order in which it would be surveyed."""
        yield from self.head()
        for account in self.accounts:
            yield {"section": "resources", "address": f"{account}/key/main", "managed_by": "account"}
            for number in range(RESOURCES_EACH):
                record: dict[str, Any] = {"section": "resources", "address": self.resource(account, number)}
                if number % 10 == 0:
                    record["encrypted_by"] = f"{account}/key/main"
                yield record
        for address in self.identities:
            yield {"section": "identities", "address": address, "kind": "service-account"}
        for _ in range(self.shape.grants):
            yield self.grant()
        for number in range(self.shape.trusts):
            yield self.trust(number)

    def somebody(self) -> int:
        """An identity by number; some have far more statements than others."""
        return int(len(self.identities) * self.rng.random() ** 1.5)

    def grant(self) -> dict[str, Any]:
        rng = self.rng
        draw = rng.random()
        if draw < 0.002:  # a wide one
            at = f"@works/unit-{rng.randrange(20)}" if draw < 0.0001 else rng.choice(self.accounts)
            to = rng.choice(self.groups) if at.startswith("@") is False else self.identities[self.somebody()]
            role = rng.choice(["looking", "looking", "looking", "administering"])
            return {"section": "grants", "to": to, "role": role, "at": at, "held_by": at}
        to = self.identities[self.somebody()]
        own = to.split("/", maxsplit=1)[0]
        if draw < 0.12:  # what lets it take on another
            other = self.identities[self.somebody()]
            return {"section": "grants", "to": to, "role": "taking-on", "at": other, "held_by": own}
        crosses = draw < 0.17
        account = rng.choice(self.accounts) if crosses else own
        if draw > 0.97:
            return {"section": "grants", "to": to, "role": "key-using", "at": f"{account}/key/main"}
        number = rng.randrange(RESOURCES_EACH)
        role = rng.choice(NARROW[KINDS[number % len(KINDS)]])
        record: dict[str, Any] = {"section": "grants", "to": to, "role": role, "at": self.resource(account, number)}
        if crosses:
            record["held_by"] = rng.choice([own, account])
        if draw > 0.93:
            record["when"] = {"network": {"within": "10.0.0.0/8"}}
        return record

    def trust(self, number: int) -> dict[str, Any]:
        rng = self.rng
        of = self.identities[number % len(self.identities)]
        draw = rng.random()
        if draw < 0.55:
            sub = f"project/{rng.randrange(50_000)}/branch/main"
            return {"section": "trusts", "of": of, "session": "15m",
                    "admits": {"token": "forge", "claims": {"sub": sub, "aud": "north"}}}  # fmt: skip
        if draw < 0.58:
            return {"section": "trusts", "of": of, "admits": {"group": rng.choice(self.groups)}}
        if draw < 0.59:
            return {"section": "trusts", "of": of, "admits": {"account": rng.choice(self.accounts)}}
        if draw < 0.62:  # a deep chain: each takes on the next
            return {
                "section": "trusts",
                "of": of,
                "admits": {"identity": self.identities[number % len(self.identities) - 1]},
            }
        return {"section": "trusts", "of": of, "admits": {"identity": self.identities[self.somebody()]}}


def lines(scale: float, seed: int = 7) -> Iterator[str]:
    """The estate as JSON Lines."""
    for record in Generated(scale, seed).records():
        yield json.dumps(record, separators=(",", ":"))


if __name__ == "__main__":
    for text in lines(float(sys.argv[1]) if len(sys.argv) > 1 else 0.01):
        print(text)

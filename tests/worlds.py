"""Random small estates with every feature in play, and journeys through them that are about as often allowed as not.

Everything hangs together on purpose: few names, many statements about them, so that rules meet.
"""

from itertools import product
from random import Random
from typing import Any

PROVIDERS = {"north": {"style": "two-sided"}, "south": {"style": "one-sided"}}
LABELS: tuple[dict[str, str], ...] = (
    {},
    {"tier": "high"},
    {"tier": "low"},
    {"coast": "north", "tier": "high"},
    {"coast": ""},
)
TIMES = ("2026-06-01T00:00:00Z", "2027-06-01T00:00:00Z")
NETWORKS = ("10.0.0.0/8", "10.1.0.0/16", "192.0.2.7")
CALLED_FROM = ("10.1.2.3", "10.2.0.1", "192.0.2.7", "10.0.0.0/7", "10.0.0.0", "10.255.255.255", "9.255.255.255",
               "10.1.255.255", "10.2.0.0", "192.0.2.6", None)  # fmt: skip
SESSIONS = ("15m", "1h", "4h")
AGES = ("10m", "15m", "20m", "30m", "1h", "2h", "4h", "5h")  # among them just as long as sessions last
SERVICE_ACCOUNT = "system:serviceaccount:s:j"  # how the cluster's tokens name its one service account
SUBJECTS = ("tides/main", "tides/try", "tidewater/main", "other/main")
VERBS = {
    "object": ("read", "write", "list", "delete"),
    "bucket": ("describe", "delete", "configure"),
    "key": ("encrypt", "decrypt"),
    "secret": ("read", "list"),
    "host": ("login", "configure", "describe"),
    "identity": ("take-on", "run-as", "attach", "describe"),
    "queue": ("send", "receive"),
    "workload": ("create", "list"),
}


class World:
    """One estate as plain data, drawn from `rng`."""

    live = False  # whether a lab's clouds are to enforce it

    def __init__(self, rng: Random) -> None:
        self.rng = rng
        self.accounts = {
            "aa": ("@one/u", "north"),
            "bb": ("@one/u/v", "north"),
            "cc": ("@one", "south"),
            "dd": ("@two", "north"),
            "ee": ("@two", "south"),
        }
        self.identities = [f"{account}/identity/i{n}" for account in self.accounts for n in range(2)]
        if not self.live:
            self.identities.append("cc/cluster/k/namespace/s/identity/j")
        self.people = ["@one/identity/p", "@two/identity/q"]
        self.groups = ["aa/group/g", "@one/group/h", "bb/group/r"]
        self.hosts = [f"{account}/host/x" for account in self.accounts] + ["aa/pool/l/host/y"]
        self.workload = "cc/cluster/k/namespace/s/workload/w"
        self.data = self._estate()
        self.made = 0

    def some(self, values: Any, most: int = 2) -> list[Any]:
        return self.rng.sample(list(values), self.rng.randint(1, min(most, len(values))))

    def maybe(self, chance: float, make: Any) -> dict[str, Any]:
        return make() if self.rng.random() < chance else {}

    def test(self, attribute: str, depth: int = 0) -> Any:
        """A test that fits its attribute, now and then one of another type."""
        rng = self.rng
        if depth < 2 and rng.random() < 0.25:
            inner = self.test(attribute, depth + 1)
            if rng.random() < 0.5 and "present" not in repr(inner):
                return {"not": inner}
            return [inner, self.test(attribute, depth + 1)]
        if rng.random() < 0.08:
            return {"present": True}
        if attribute == "time":
            return rng.choice([{"before": TIMES[1]}, {"after": TIMES[0]}, {"after": TIMES[0], "before": TIMES[1]}])
        if attribute == "network":
            return {"within": self.some(NETWORKS)}
        if attribute == "session.age":
            return {"longer_than": rng.choice(["5m", "30m"])}
        if attribute == "mfa":
            return True
        words: dict[str, list[Any]] = {
            "reference": ["r1", "r2", {"glob": "r*"}],
            "caller.account": list(self.accounts),
            "caller.organisation": ["one", "two", {"same_as": "origin.organisation"}],
            "caller.kind": ["service-account", "host", "person"],
            "caller.address": [*self.identities, {"glob": "aa/**"}, {"same_as": "origin.address"}],
            "caller.labels.tier": ["high", "low", {"same_as": "target.labels.tier"}],
            "target.labels.coast": ["north"],
            "target.labels.tier": ["high", "low", {"same_as": "caller.labels.tier"}],
            "provider": ["north", "south", {"not": "north"}],
            "origin.kind": ["token", "person", "host", "credential", "workload"],
            "origin.issuer": ["forge", "grid", ["forge", "kiln"]],
            "origin.organisation": ["one", "two"],
            "origin.address": [*self.people, {"glob": "**/host/*"}],
            "claims.sub": [*SUBJECTS, {"glob": "tides/*"}, {"glob": "**/main", "not": "other/main"}],
            "cluster.sub": [SERVICE_ACCOUNT, {"glob": "system:serviceaccount:s:*"}, {"glob": "**:t:*"}],
            "cluster.aud": ["north", "x", {"glob": "*"}, {"not": "north"}],
            "claims.aud": ["north", "south", {"glob": "n*"}],
            "claims.event": [
                "push",
                {"not": "fork"},
                {"glob": "pu??"},
                7,
                {"same_as": "target.labels.tier"},
                {"not": {"same_as": "claims.sub"}},
            ],
            "claims./access/role": ["dev", {"glob": "d*"}, {"not": "ops"}, {"same_as": "claims.event"}],
            "claims.teams": ["red", ["red", "blue"], {"not": "blue"}, {"same_as": "claims.event"}],
        }
        return rng.choice(words[attribute])

    def when(self, chance: float = 0.4) -> dict[str, Any]:
        names = [
            "time", "network", "mfa", "reference", "session.age", "caller.account", "caller.organisation",
            "caller.kind", "caller.address", "caller.labels.tier", "target.labels.coast", "target.labels.tier",
            "origin.kind", "origin.issuer", "origin.organisation", "origin.address", "claims.sub", "provider",
        ]  # fmt: skip
        return self.maybe(chance, lambda: {"when": {name: self.test(name) for name in self.some(names)}})

    def claims(self) -> dict[str, Any]:
        names = ["sub", "aud", "event", "teams", "/access/role"]
        return {name: self.test(f"claims.{name}") for name in self.some(names, 3)}

    def permissions(self, *, ceiling: bool = False) -> dict[str, Any]:
        rng = self.rng
        if rng.random() < (0.25 if not ceiling else 0.05):
            return {"*": rng.choice(["*", ["*", "take-on", "run-as"], ["read", "write", "list"]])}
        return {kind: "*" if rng.random() < 0.2 else self.some(VERBS[kind], 3) for kind in self.some(VERBS, 3)}

    def until(self) -> dict[str, Any]:
        return self.maybe(0.15, lambda: {"until": self.rng.choice(TIMES)})

    def _estate(self) -> dict[str, Any]:
        rng = self.rng
        buckets = [f"{account}/bucket/b" for account in self.accounts]
        keys = [f"{account}/key/k" for account in self.accounts]
        secrets = [f"{account}/secret/s" for account in self.accounts] + ["cc/cluster/k/namespace/s/secret/t"]
        resources: dict[str, Any] = {
            "cc/cluster/k": {}, "cc/cluster/k/namespace/s": {}, "aa/pool/l": {},
            "aa/queue/q": {}, "dd/queue/q": {"encrypted_by": "dd/key/k"}, "dd/pool/m": {},
        }  # fmt: skip
        resources[self.workload] = self.maybe(0.0 if self.live else 0.7, lambda: {"runs_as": [self.identities[-1]]})
        for key in keys:
            resources[key] = {"managed_by": rng.choice(["account", "account", "provider"])}
        for holder in (*buckets, *secrets):
            resources[holder] = self.maybe(0.4, lambda: {"encrypted_by": rng.choice(keys)})
        for host in self.hosts:
            own = host.split("/", maxsplit=1)[0]
            resources[host] = self.maybe(
                0.7,
                lambda own=own: {
                    "runs_as": self.some(
                        [one for one in self.identities if one.startswith(own) or rng.random() < 0.1] or self.identities
                    )
                },
            )
        for pool in ("aa/pool/l", "dd/pool/m"):  # the second has no members yet
            near = [one for one in self.identities if one.startswith(pool[:2])]
            resources[pool] = self.maybe(0.5, lambda near=near: {"runs_as": self.some(near)})
        for place in resources.values():
            place.update(self.maybe(0.3, lambda: {"labels": rng.choice(LABELS)}))
        identities: dict[str, Any] = {}
        for one in self.identities:
            kind = (
                "cluster-service-account"
                if "/namespace/" in one
                else rng.choice(["service-account", "instance-role", "managed-identity"])
            )
            identities[one] = {
                "kind": kind,
                **self.maybe(0.4, lambda: {"labels": rng.choice(LABELS)}),
                **self.maybe(0.05, lambda: {"disabled": True}),
            }
            if kind == "managed-identity" and rng.random() < 0.3:
                identities[one]["tied_to"] = rng.choice([*self.hosts, "aa/host/gone"])
        for person in self.people:
            identities[person] = {"kind": "person", **self.maybe(0.4, lambda: {"labels": rng.choice(LABELS)})}
        return {
            "estate": "random",
            "organisations": {
                "one": {"units": {"u": ["v"]}, **self.maybe(0.4, lambda: {"labels": rng.choice(LABELS)})},
                "two": {"outside": rng.random() < 0.4},
            },
            "providers": PROVIDERS,
            "accounts": {
                name: {"in": place, "provider": provider, **self.maybe(0.1, lambda: {"administered_by": "others"}),
                       **self.maybe(0.3, lambda: {"labels": rng.choice(LABELS)})}
                for name, (place, provider) in self.accounts.items()
            },
            "issuers": {
                "forge": {
                    "kind": "oidc",
                    "claims": {"sub": "text", "event": "text", "teams": "list", "exp": "text", "/access/role": "text"},
                },
                "grid": {"kind": "oidc", "cluster": "cc/cluster/k"},
                "kiln": {"kind": "saml"},
                "seal": {"kind": "x509"},
            },
            "resources": resources,
            "identities": identities,
            "groups": {
                "aa/group/g": {"members": self.some([*self.identities, *self.people, "bb/group/r"], 3)},
                "@one/group/h": {"where": self.rule(["@one", "@one/u", "cc"]), "members": self.some(self.people)},
                "bb/group/r": {"where": self.rule(["bb", "@one"])},
                "bb/group/nobody": {},
            },
            "trusts": self.trusts(),
            "roles": self.roles(),
            "grants": self.grants([*buckets, *secrets, *keys]),
            "ceilings": [self.ceiling(n) for n in range(rng.choice([0, 1, 1, 2]))],
            "attachments": self.attachments(),
            "credentials": {
                "key1": {"of": rng.choice(self.identities), "form": "access-key", **self.when(0.3),
                         **self.held([*buckets, *secrets, *self.hosts])},
                "key2": {"of": rng.choice(self.identities), "form": "static-token", "disabled": rng.random() < 0.5,
                         "expires": rng.choice(TIMES)},
                "key3": {"of": rng.choice(self.people), "form": "password", **self.lifetime()},
                "key4": {"of": rng.choice(self.identities), "form": "client-secret", **self.lifetime(),
                         **self.held([*secrets, "dd/pool/m", *self.hosts])},
            },
        }  # fmt: skip

    def held(self, places: list[str]) -> dict[str, Any]:
        """Where a key is kept, as often as not; drawn apart, so that nothing else of a world hangs on it."""
        apart = Random(hash((self.rng.getstate()[1][:8], len(places))))
        return {"held_in": apart.sample(places, apart.randint(1, 2))} if apart.random() < 0.6 else {}

    def lifetime(self) -> dict[str, Any]:
        """When a credential was made and when it ends, each said or not; of an hour, a month or more."""
        rng = self.rng
        return {
            **self.maybe(0.7, lambda: {"created": "2026-05-31T23:00:00Z"}),
            **self.maybe(
                0.7, lambda: {"expires": rng.choice(["2026-06-01T00:00:00Z", "2026-06-30T23:00:00Z", *TIMES])}
            ),
        }

    def rule(self, places: list[str]) -> dict[str, Any]:
        if self.rng.random() < 0.2:
            return {"in": "aa/pool/l"}
        kind = self.rng.choice(["service-account", "person", "instance-role", "managed-identity"])
        tier: dict[str, Any] = {"labels": {"tier": "high"}}
        narrowed: list[dict[str, Any]] = [{"kind": kind}, tier, {"kind": kind, **tier}]
        return {**self.maybe(0.6, lambda: {"in": self.rng.choice(places)}), **self.rng.choice(narrowed)}

    def trusts(self) -> list[dict[str, Any]]:
        rng = self.rng
        out = []
        for number in range(rng.randint(12, 26)):
            of = rng.choice(self.identities)
            choices: list[dict[str, Any]] = [
                {"token": "forge", "claims": self.claims()},
                {"token": "forge", "claims": {"sub": rng.choice(SUBJECTS)}},
                {"token": "grid", "claims": {"sub": self.test("cluster.sub"), "aud": self.test("cluster.aud")}},
                {"assertion": "kiln", "attributes": {"team": "red"}},
                {"certificate": "seal", "subject": {"glob": "spiffe://one/**"}},
                {"identity": rng.choice(self.identities)},
                {"identity": rng.choice(self.identities)},
                {"group": rng.choice(self.groups)},
                {"account": rng.choice(list(self.accounts))},
                {"attached": True},
                {"attached": rng.choice([*self.hosts, {"glob": "*/host/*"}, {"glob": "**/y"}])},
                {"person": rng.choice(self.people)},
            ]
            if self.live:
                choices = [one for one in choices if "certificate" not in one and one.get("token") != "grid"]
            admits = rng.choice(choices)
            session = rng.choice(SESSIONS)
            out.append({"name": f"t{number}", "of": of, "admits": admits, "session": session,
                        **self.when(0.3), **self.until()})  # fmt: skip
        return out

    def roles(self) -> dict[str, Any]:
        out: dict[str, Any] = {f"r{n}": {"allows": self.permissions()} for n in range(5)}
        out["takes"] = {"allows": {"identity": ["take-on", "run-as"]}}
        out["stores"] = {"allows": {"object": ["read", "write"], "key": ["encrypt", "decrypt"]}}
        out["both"] = {"allows": {"organisation": ["enter"]}, "includes": ["takes", "r0", "both"]}
        out["enters"] = {"allows": {"organisation": "enter"}}
        return out

    def grants(self, things: list[str]) -> list[dict[str, Any]]:
        rng = self.rng
        places = [
            *things, *things, *self.identities, *self.accounts, *self.hosts, "@one", "@one/u", "@one/u/v", "@two",
            "aa/bucket/b/object/p", "aa/bucket/b/object/p/q", "cc/cluster/k", "cc/cluster/k/namespace/s", self.workload,
        ]  # fmt: skip
        out = []
        for number in range(rng.randint(30, 60)):
            to, at = (
                rng.choice([*self.identities, *self.identities, *self.people, *self.groups, "@one", "@two"]),
                rng.choice(places),
            )
            sides = [side for side in map(self._side, (to, at)) if side]
            holders = [place for side in sides for place in side]
            grant = {"name": f"g{number}", "to": to, "role": rng.choice(["takes", "stores", "both", "enters", "r0",
                     "r1", "r2", "r3", "r4"]), "at": at, **self.when(0.3), **self.until()}  # fmt: skip
            own = [one.split("/", maxsplit=1)[0] for one in (to, at) if not one.startswith("@")]
            if (len(own) == 2 and own[0] != own[1]) or rng.random() < 0.2:
                grant["held_by"] = rng.choice(holders)
            out.append(grant)
        return out

    def spread(self, grants: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """The grants, of which some are to several, or at several places, of one account: each a grant of its own."""
        seen: set[tuple[Any, ...]] = set()
        return [self._spread(grant, seen) for grant in grants]

    def _spread(self, grant: dict[str, Any], seen: set[tuple[Any, ...]]) -> dict[str, Any]:
        if self.rng.random() < 0.85:
            return grant
        out = {name: value for name, value in grant.items() if name != "name"}
        for field, among in (("to", self.identities), ("at", [f"{name}/bucket/b" for name in self.accounts])):
            near = [one for one in among if one.split("/", 1)[0] == grant[field].split("/", 1)[0]]
            more = [one for one in near if one != grant[field]]
            out[field] = [grant[field], *(more[:1] if self.rng.random() < 0.7 else [])]
        keys = {(to, out["role"], at) for to, at in product(out["to"], out["at"])}
        if keys & seen:
            return grant
        seen |= keys
        return out

    def _side(self, address: str) -> list[str]:
        """Who may hold a grant on this side."""
        outer = address.split("/identity/", maxsplit=1)[0].split("/group/", maxsplit=1)[0]
        first = outer if address.startswith("@") else address.split("/", maxsplit=1)[0]
        top = self.accounts[first][0] if first in self.accounts else first
        parts = top.split("/")
        above = ["/".join(parts[:n]) for n in range(len(parts), 0, -1)]
        return [first, *above] if first in self.accounts else above

    def ceiling(self, number: int) -> dict[str, Any]:
        rng = self.rng
        over = rng.choice(["callers", "targets"])
        at = rng.choice(["@one", "@one/u", "aa", "cc", "@two", *(self.identities[:2] if over == "callers" else [])])
        what = rng.choice(["bars", "bars", "bars", "only"])
        listed = self.permissions(ceiling=True) if what == "bars" else {"*": "*", "key": ["decrypt"]}
        if what == "only" and rng.random() < 0.5:
            listed = {"identity": "*", "object": "*", "key": "*", "host": "*"}
        spared = self.maybe(0.3, lambda: {"except": [rng.choice([self.identities[0], {"glob": "**/i1"}])]})
        if apart := self.for_a_while(number):
            spared = {"except": [*spared.get("except", []), apart]}
        return {"name": f"c{number}", "over": over, "at": at, what: listed, **self.when(0.4), **spared}

    def for_a_while(self, number: int) -> dict[str, Any]:
        """An exception that ends, as often as not; drawn apart, so that nothing else of a world hangs on it."""
        apart = Random(hash((self.rng.getstate()[1][:8], number)))
        if apart.random() < 0.5:
            return {}
        more: dict[str, Any] = {"can": apart.sample(["read", "write", "take-on", "delete", "list"], 2)}
        if apart.random() < 0.5:
            more["at"] = apart.choice(["aa", "@one", "cc", "bb/bucket/b"])
        who = apart.choice([*self.identities, *self.people, {"glob": "**/i1"}, {"glob": "**"}])
        chosen = {name: value for name, value in more.items() if apart.random() < 0.7}
        return {"who": who, **chosen, "until": apart.choice(TIMES), "because": "for a while"}

    def attachments(self) -> list[dict[str, Any]]:
        rng = self.rng
        whats = [self.hosts[0], {"glob": "aa/**"}, {"glob": "*/host/x"}, self.workload]
        chosen = rng.sample(whats, rng.randint(0, 2))
        return [{"what": what, "runs_as": self.some(self.identities)} for what in chosen]

    # -- support ------------------------------------------------------------------------------------------------

    def support(self, journey: dict[str, Any], chance: float = 0.9) -> None:
        """Adds statements by which a journey would be allowed, each left out now and then."""
        rng = self.rng
        origin = journey["from"]
        form = next(name for name in origin if name not in ("claims", "attributes", "subject", "mfa"))
        at = "" if form in ("token", "assertion", "certificate") else origin[form]
        at = self.held_by(at) if form == "credential" else at
        good = self.good(journey, form)
        for number, hop in enumerate(journey["through"]):
            if not isinstance(hop, str) and "on" in hop:
                onward = journey["through"][number + 1] if number + 1 < len(journey["through"]) else None
                if onward in self.identities and hop["on"] in self.data["resources"] and hop["on"] != self.workload:
                    self.data["resources"][hop["on"]].setdefault("runs_as", [onward])
                verb = "login" if "/host/" in hop["on"] or "/workload/" in hop["on"] else "configure"
                self.support_request(at, verb, hop["on"], good, chance)
                at = hop["on"]
                continue
            of = hop if isinstance(hop, str) else hop["identity"]
            admits: dict[str, Any] = {"identity": at}
            if not at:
                shown = {name: origin[name] for name in origin if name != form}
                plain = {name: value for name, value in shown.get("claims", {}).items() if isinstance(value, str)}
                admits = {form: origin[form], **({"claims": {n: v for n, v in plain.items() if v}} if plain else {})}
            elif at.startswith("@"):
                admits = {"person": at}
            elif at not in self.identities:
                admits = {"attached": rng.choice([at, True])}
                if at == self.workload and rng.random() < 0.6:
                    admits = {"token": "grid", "claims": {"sub": SERVICE_ACCOUNT, "aud": rng.choice(["north", "x"])}}
                    self.data["resources"][at]["runs_as"] = [self.identities[-1]]
                elif at in self.data["resources"] and of in self.identities:
                    self.data["resources"][at].setdefault("runs_as", [of])
            elif rng.random() < 0.3:
                admits = {"account": at.split("/", maxsplit=1)[0]}
                if rng.random() < 0.3 and of in self.identities:  # a second trust, of the same session or another
                    self.add("trusts", of=of, admits={"identity": at}, session=rng.choice(SESSIONS))
            unknown = admits.get("token") == "forgery" or at.endswith(("/typo", "/gone"))
            if of in self.identities and not unknown and rng.random() < chance:
                self.add("trusts", of=of, admits=admits, session=rng.choice(SESSIONS), **good())
            self.support_request(at, "take-on", of, good, chance)
            at = of
        if "attempt" in journey:
            verb, _, rest = journey["attempt"].partition(" ")
            target, _, onto = rest.partition(" to ")
            self.support_request(at, verb, target, good, chance)
            if onto:
                self.support_request(at, "configure", onto, good, chance)
        behind = origin[form] if form == "person" else at if at in self.people else None
        if form == "credential":
            behind = self.held_by(origin[form])
        if behind in self.people:
            for organisation in ("@one", "@two"):
                self.grant(behind, "enters", organisation, organisation, good, chance)

    def held_by(self, credential: str) -> str:
        """Whose a credential is; somebody's where there is no such credential."""
        return str(self.data["credentials"].get(credential, {"of": "aa/identity/i0"})["of"])

    def support_request(self, at: str, verb: str, target: str, good: Any, chance: float) -> None:
        rng = self.rng
        known = at in self.identities or at in self.people
        sides = [target.split("/", maxsplit=1)[0]] + ([at.split("/", maxsplit=1)[0]] if known else [])
        if not known or sides[0] not in (*self.accounts, "@one", "@two") or verb == "push":
            return
        kind = "organisation" if target.startswith("@") else target.split("/")[-2] if "/" in target else "account"
        kind = "object" if "/object/" in target else kind
        role = f"does-{verb}-{kind}"
        self.data["roles"].setdefault(role, {"allows": {"*": [verb]} if kind != "organisation" else {kind: verb}})
        top = self.accounts[sides[0]][0] if sides[0] in self.accounts else sides[0]
        holder = rng.choice([sides[0], sides[0], top])
        if verb != "take-on":
            self.grant(at, role, target, holder, good, chance)
        if sides[-1] != sides[0] and not sides[-1].startswith("@"):
            self.grant(at, role, target, sides[-1], good, chance)
        place = self.data["resources"].get(target.split("/object/", maxsplit=1)[0], {})
        if place.get("encrypted_by") and verb in ("read", "write", "send", "receive"):
            further = "decrypt" if verb in ("read", "receive") else "encrypt"
            self.support_request(at, further, place["encrypted_by"], good, chance)
        for one in self.runs_as(target) if verb in ("login", "configure", "create") else ():
            self.support_request(at, "run-as", one, good, 0.97)

    def runs_as(self, resource: str) -> list[str]:
        """What a resource runs as, by itself, its pool and attachments."""
        pool = resource.split("/host/", maxsplit=1)[0] if "/pool/" in resource else ""
        found = [one for place in (resource, pool) for one in self.data["resources"].get(place, {}).get("runs_as", ())]
        for attachment in self.data["attachments"]:
            what = attachment["what"]
            glob = what["glob"] if isinstance(what, dict) else ""
            near = (
                resource.startswith("aa/")
                if glob == "aa/**"
                else resource.endswith("/host/x") and "/pool/" not in resource
            )
            if what == resource or (glob and near):
                found += attachment["runs_as"]
        return list(dict.fromkeys(found))

    def grant(self, to: str, role: str, at: str, holder: str, good: Any, chance: float) -> None:
        if self.rng.random() < chance and not any(one.endswith(("/typo", "/gone")) for one in (to, at)):
            self.data["roles"].setdefault(role, {"allows": {"*": ["read"]}})
            self.add("grants", to=to, role=role, at=at, held_by=holder, **good())

    def add(self, section: str, **entry: Any) -> None:
        self.made += 1
        self.data[section].append({"name": f"more-{self.made}", **entry})

    def good(self, journey: dict[str, Any], form: str) -> Any:
        """Makes conditions: usually ones that this journey meets, now and then any."""
        rng, context = self.rng, journey["context"]

        def make() -> dict[str, Any]:
            if rng.random() < 0.1:
                return self.when(1.0)
            if rng.random() < 0.45:
                return {}
            fitting: dict[str, Any] = {
                "time": {"after": "2025-01-01T00:00:00Z", "before": "2028-01-01T00:00:00Z"},
                "session.age": {"not": {"longer_than": "6h"}},
                "network": {"within": [context.get("network") or "10.0.0.0/8", "198.51.100.0/24"]},
                "reference": [context.get("reference") or "r1", {"glob": "special-*"}],
                "origin.kind": [form, "host"],
            }
            if rng.random() < 0.9:  # what is absent makes a test unknown
                fitting = {name: test for name, test in fitting.items() if context.get(name, name) is not None}
                fitting = {n: t for n, t in fitting.items() if n not in ("network", "reference") or n in context}
                if form == "identity":
                    del fitting["origin.kind"]
            return {"when": {name: fitting[name] for name in self.some(fitting)}}

        return make

    # -- journeys -------------------------------------------------------------------------------------------------

    def journey(self) -> dict[str, Any]:
        """A journey that follows the statements more often than chance would."""
        rng = self.rng
        origin, at = self.origin()
        through: list[Any] = []
        bearer = "token" in origin or "assertion" in origin or "certificate" in origin
        for _ in range(rng.choice([1 if bearer and (self.live or rng.random() < 0.9) else 0, 1, 1, 1, 2, 3])):
            if (at in self.identities or at in self.people) and rng.random() < 0.15:
                places = [*self.hosts, *self.hosts, self.workload, "aa/pool/l", "aa/host/gone"]
                if at in self.identities and rng.random() < 0.95:  # mostly of its own provider
                    home = self.accounts[at[:2]][1]
                    places = [one for one in places if self.accounts[one[:2]][1] == home]
                at = rng.choice(places)
                through.append({"on": at})
                if rng.random() < 0.9:
                    own = [one for one in self.identities if one[:2] == at[:2]]
                    at = rng.choice(self.data["resources"].get(at, {}).get("runs_as") or [self.sound(rng.choice(own))])
                    through.append(at)
                continue
            at = self.next_hop(origin, at)
            through.append({"identity": at, "narrowed": rng.choice([{"*": ["*", "take-on"]}, {"object": ["read"]}])}
                           if rng.random() < 0.1 else at)  # fmt: skip
        if through and isinstance(through[-1], dict) and "on" in through[-1] and rng.random() < 0.9:
            at = self.sound(rng.choice(self.identities))
            through.append(at)
        entry: dict[str, Any] = {"from": origin, "through": through, "expect": "allowed", "context": self.context()}
        if not self.live:
            entry |= self.expectation()
        if not through or rng.random() < 0.8:
            entry["attempt"] = self.attempt(at)
        if rng.random() < 0.85:
            self.support(entry)
        return entry

    def expectation(self) -> dict[str, Any]:
        """What is expected, met or not."""
        rng = self.rng
        out: dict[str, Any] = {"expect": rng.choice(["allowed", "refused"])}
        if out["expect"] == "refused" and rng.random() < 0.5:
            out["refused_at"] = self.some(
                ("names", "provider", "ceilings", "target-side", "target-side", "caller-side", "session")
            )
        return {
            **out,
            **self.maybe(0.2, lambda: {"keyless": True}),
            **self.maybe(0.4, lambda: {"within": rng.choice(["5m", "15m", "1h", "2h", "4h", "30d"])}),
        }

    def context(self) -> dict[str, Any]:
        rng = self.rng
        return {
            **self.maybe(0.5, lambda: {"time": rng.choice(["2026-01-01T00:00:00Z", "2027-01-01T00:00:00Z", TIMES[1]])}),
            **self.maybe(0.7, lambda: {"network": rng.choice(CALLED_FROM)}),
            **self.maybe(0.7, lambda: {"reference": rng.choice(["r1", "r2", "x", None])}),
            **self.maybe(0.3, lambda: {"session_age": rng.choice(AGES)}),
        }

    def origin(self) -> tuple[dict[str, Any], str]:
        rng = self.rng
        forms = ["token", "token", "assertion", "certificate", "host", "person", "credential", "identity", "identity"]
        form = rng.choice(
            ["token", "token", "assertion", "certificate", "host", "person", "identity"]
            if self.live
            else [*forms, "workload"]
        )
        if form == "token":
            claims = {
                "sub": rng.choice([*SUBJECTS, "tides/main"]),
                "aud": rng.choice(["north", ["south", "north"], "x"]),
                **self.maybe(0.5, lambda: {"access": {"role": rng.choice(["dev", "ops", "push"])}}),
                **self.maybe(0.8, lambda: {"event": rng.choice(["push", "fork", "push", 7, None, ""])}),
                **self.maybe(
                    0.0 if self.live else 0.1,
                    lambda: {"exp": rng.choice([1780272000, 1780272001, 1811808000, 4000000000])},
                ),
                **self.maybe(0.6, lambda: {"teams": rng.choice(["red", ["red", "blue"], ["green", 3], []])}),
            }
            if rng.random() < 0.1:
                claims.pop("sub")
            return {"token": "forge" if self.live or rng.random() < 0.97 else "forgery", "claims": claims}, ""
        if form == "assertion":
            audience = {"aud": "north"} if self.live else {}
            return {"assertion": "kiln", "attributes": {"team": rng.choice(["red", "blue"]), **audience}}, ""
        if form == "certificate":
            return {"certificate": "seal", "subject": rng.choice(["spiffe://one/a", "spiffe://two/a"])}, ""
        if form == "host":
            host = rng.choice([*self.hosts, "aa/host/gone"] if rng.random() < 0.1 else self.hosts)
            return {"host": host}, host
        if form == "workload":
            work = rng.choice([self.workload, "cc/cluster/k/namespace/s/workload/other"])
            return {"workload": work}, work
        if form == "person":
            person = rng.choice(self.people)
            return {"person": person, **self.maybe(0.7, lambda: {"mfa": rng.choice([True, False, None])})}, person
        if form == "credential":
            name = rng.choice(["key1", "key2", "key3", "key4"] if rng.random() < 0.97 else ["key5"])
            return {"credential": name}, self.held_by(name)
        one = rng.choice(self.identities) if rng.random() < 0.97 else "aa/identity/typo"
        return {"identity": one}, one

    def next_hop(self, origin: dict[str, Any], at: str) -> str:
        """An identity that some trust gives to whoever is here, more often than not."""
        rng = self.rng
        if rng.random() < 0.02:
            return "aa/identity/typo"
        fitting = [
            trust["of"]
            for trust in self.data["trusts"]
            for form, whom in trust["admits"].items()
            if (not at and form in origin and form in ("token", "assertion", "certificate"))
            or (at and whom == at)
            or (form == "group" and at.split("/", maxsplit=1)[0] in ("aa", "bb", "@one"))
            or (form == "account" and at.startswith(f"{whom}/"))
            or (form == "attached" and "/host/" in at)
            or (whom == "grid" and at == self.workload)
        ]
        if fitting and rng.random() < 0.5:
            return str(rng.choice(fitting))
        return self.sound(rng.choice(self.identities))

    def sound(self, identity: str) -> str:
        """The identity, or another where this one is disabled: such would refuse too often."""
        for other in (identity, *self.identities):
            entry = self.data["identities"][other]
            if not entry.get("disabled") and "tied_to" not in entry:
                return str(other)
        return identity

    def attempt(self, at: str) -> str:
        rng = self.rng
        groups = {
            "aa/group/g": ("aa/", "bb/", "@"),
            "@one/group/h": ("aa/", "bb/", "cc/", "@one"),
            "bb/group/r": ("bb/", "aa/"),
        }
        account = {name: provider for name, (_, provider) in self.accounts.items()}
        own = [
            grant for grant in self.data["grants"]
            if grant["to"] == at or at.startswith(groups.get(grant["to"], ("-",)))
        ]  # fmt: skip
        kinds = dict.fromkeys(("bucket", "key", "secret", "host", "identity", "object"))
        for _ in range(8):
            place = rng.choice(own)["at"] if own and rng.random() < 0.6 else rng.choice(list(self.data["resources"]))
            target = self.beneath(place)
            homes = [account.get(side.split("/", maxsplit=1)[0]) for side in (at, target)]
            if at and not at.startswith("@") and homes[0] != homes[1] and rng.random() < 0.9:
                continue
            kind = next(word for word in reversed(target.split("/")[1::2]) if word) if "/" in target else "account"
            kind = "object" if "/object/" in target else kind
            if kind in VERBS or kind in kinds:
                break
        else:
            target, kind = "aa/bucket/b", "bucket"
        verb = rng.choice(VERBS.get(kind, ("describe",)))
        if target.startswith("@"):
            return f"enter {target}"
        if verb == "attach":
            return f"attach {target} to {rng.choice([*self.hosts, 'aa/host/gone'])}"
        return f"{verb if rng.random() < 0.98 else 'push'} {target}"

    def beneath(self, place: str) -> str:
        """Something at or below a place."""
        rng = self.rng
        known = [*self.data["resources"], *self.data["identities"]]
        accounts = {"@one": ("aa", "bb", "cc"), "@one/u": ("aa", "bb"), "@one/u/v": ("bb",), "@two": ("dd", "ee")}
        tops = accounts.get(place, (place,))
        if place in ("@one", "@two") and rng.random() < 0.2:
            return place
        inside = [one for one in known if any(one == top or one.startswith(f"{top}/") for top in tops)] or [place]
        target = str(rng.choice(inside))
        if target.endswith("/bucket/b") and rng.random() < 0.8:
            target += rng.choice(["/object/p/q/r", "/object/p", "/object/z"])
        return target


class LiveWorld(World):
    """One of the kinds of statement that the lab's clouds enforce, all of it ours, with journeys from tokens, hosts and
    people."""

    live = True

    def journey(self) -> dict[str, Any]:
        while True:
            entry = super().journey()
            entry["context"] = {
                name: entry["context"][name] for name in ("network", "reference") if name in entry["context"]
            }
            text = repr(entry)
            if "host" in entry["from"] and not entry["through"]:
                continue  # a host has nothing to show before it has taken on an identity
            if not any(word in text for word in ("cluster", "typo", "/gone", "push ", "10.0.0.0/7")):
                return entry

    def plain(self) -> dict[str, Any]:
        """The estate, without what no cloud of the lab can hold: what names an identity or group of another cloud, and
        grants in the cluster."""
        data = self.data
        for entry in (*data["organisations"].values(), *data["accounts"].values()):
            entry.pop("outside", None)
            entry.pop("administered_by", None)
        for group in data["groups"].values():
            if group.get("where") == {}:
                group["where"] = {"kind": "instance-role"}
        members = data["groups"]["aa/group/g"]["members"]
        data["groups"]["aa/group/g"]["members"] = [one for one in members if self.cloud(one) in ("north", "")]

        def in_one_cloud(*addresses: str) -> bool:
            return len({self.cloud(one) for one in addresses} - {""}) <= 1

        grants = [
            one for one in data["grants"]
            if in_one_cloud(one["to"], one["at"], one.get("held_by", "@")) and not one["at"].startswith("cc/cluster")
            if self.cloud(one["to"]) in ("", *self.clouds_below(one.get("held_by", one["at"])))
        ]  # fmt: skip
        trusts = [one for one in data["trusts"] if in_one_cloud(one["of"], one["admits"].get("group", "@"))]
        for host, entry in data["resources"].items():
            if "runs_as" in entry:
                entry["runs_as"] = [one for one in entry["runs_as"] if self.cloud(one) == self.cloud(host)]
        attachments = []
        for one in data["attachments"]:
            at = self.cloud(one["what"]) if isinstance(one["what"], str) else self.cloud("aa")
            runs_as = [name for name in one["runs_as"] if self.cloud(name) == at]
            if runs_as and one["what"] != self.workload and one["what"] != {"glob": "*/host/x"}:
                attachments.append({**one, "runs_as": runs_as})
        return {**data, "grants": grants, "trusts": trusts, "credentials": {}, "attachments": attachments}

    def cloud(self, address: str) -> str:
        """The provider that an address is at; '' for organisations, their people and their groups."""
        return self.accounts.get(address.split("/", maxsplit=1)[0], ("", ""))[1]

    def clouds_below(self, boundary: str) -> set[str]:
        """The providers of the accounts in an organisation or unit, or the one of an account."""
        if not boundary.startswith("@"):
            return {self.cloud(boundary)}
        top = boundary.split("/identity/", maxsplit=1)[0].split("/group/", maxsplit=1)[0]
        return {cloud for place, cloud in self.accounts.values() if f"{place}/".startswith(f"{top}/")}

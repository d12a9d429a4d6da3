"""Estates made at random: every section, every operator, and names that are hard to write down."""

from typing import Any

from hypothesis import strategies as st

HARD = [
    "on",
    "no",
    "1e5",
    "0o17",
    "null",
    "~",
    " a",
    "a ",
    "#",
    "a: b",
    "*",
    "?",
    "\\",
    "a\\*b",
    "'",
    '"',
    "12",
    "-",
    "🌊",
]
NAME = st.one_of(
    st.sampled_from(["left", "right", "tides", "main", *HARD]),
    st.text(st.characters(exclude_categories=["Cs"]), min_size=1, max_size=6),
)
SEGMENT = NAME.filter(lambda name: "/" not in name and not name.startswith("@") and name not in (".", ".."))
TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=8)
TIME = st.datetimes().map(lambda time: time.replace(microsecond=0).isoformat() + "Z")
DURATION = st.sampled_from(["15m", "1h", "90s", "1h30m", "30d"])
NETWORK = st.sampled_from(["10.0.0.0/8", "2001:db8::/32", "192.0.2.1"])
PATTERN = st.sampled_from(["tides/**", "a*", "\\*?", "project/*/x", "**"])


def escaped(text: str) -> str:
    return "".join("\\" + char if char in "*?\\" else char for char in text)


PLAIN = st.one_of(
    TEXT.map(escaped), st.integers(-9, 9), st.booleans(), st.floats(allow_nan=False, allow_infinity=False)
)


def nested(inner: st.SearchStrategy[Any]) -> st.SearchStrategy[Any]:
    return st.one_of(
        st.lists(inner, min_size=1, max_size=3),
        st.builds(lambda one: {"not": one}, inner.filter(lambda test: "present" not in repr(test))),
    )


TESTS: st.SearchStrategy[Any] = st.recursive(
    st.one_of(
        PLAIN,
        st.builds(lambda pattern: {"glob": pattern}, PATTERN),
        st.builds(lambda network: {"within": network}, NETWORK),
        st.just({"present": True}),
    ),
    nested,
    max_leaves=4,
)
CLAIMS = st.dictionaries(NAME, TESTS, max_size=3)


def tests_of(leaf: st.SearchStrategy[Any]) -> st.SearchStrategy[Any]:
    return st.recursive(st.one_of(leaf, st.just({"present": True})), nested, max_leaves=4)


WHEN = st.fixed_dictionaries(
    {},
    optional={
        "time": tests_of(st.builds(lambda one, two: {"before": one, "after": two}, TIME, TIME)),
        "network": tests_of(st.builds(lambda network: {"within": network}, NETWORK)),
        "mfa": tests_of(st.booleans()),
        "session.age": tests_of(st.builds(lambda length: {"longer_than": length}, DURATION)),
        "caller.labels.x": tests_of(st.one_of(TEXT.map(escaped), st.builds(lambda one: {"glob": one}, PATTERN))),
        "claims.z": TESTS,
    },
)


def some(values: list[str]) -> st.SearchStrategy[str]:
    return st.sampled_from(values).map(escaped)


@st.composite
def estates(draw: st.DrawFn) -> dict[str, Any]:
    """The plain data of an estate that the reader accepts."""

    def maybe(strategy: st.SearchStrategy[Any]) -> Any:
        return draw(st.one_of(st.none(), strategy))

    organisation = draw(SEGMENT)
    units = draw(st.lists(SEGMENT.filter(lambda name: name not in ("identity", "group")), unique=True, max_size=2))
    accounts = draw(st.lists(SEGMENT, unique=True, min_size=1, max_size=3))
    boundary = [f"@{organisation}", *(f"@{organisation}/{unit}" for unit in units)]
    buckets = [f"{account}/bucket/{draw(SEGMENT)}" for account in accounts]
    identities = [f"{account}/identity/{draw(SEGMENT)}" for account in accounts]
    roles = draw(st.lists(NAME, unique=True, min_size=1, max_size=3))
    issuer = draw(SEGMENT.filter(lambda name: name != "north"))
    where = [*boundary, *accounts, *buckets, *identities, *(f"{bucket}/object/a/b" for bucket in buckets)]

    def clean(entry: dict[str, Any]) -> dict[str, Any]:
        return {name: value for name, value in entry.items() if value is not None}

    def trust(of: str) -> dict[str, Any]:
        admits = draw(
            st.one_of(
                CLAIMS.map(lambda claims: {"token": escaped(issuer), "claims": claims}),
                some(identities).map(lambda one: {"identity": one}),
                some(accounts).map(lambda one: {"account": one}),
                st.sampled_from([{"attached": True}, {"attached": {"glob": "a/**"}}]),
            )
        )
        more = {"when": maybe(WHEN), "session": maybe(DURATION), "until": maybe(TIME)}
        return clean({"of": escaped(of), "admits": admits, **more})

    def grant(number: int, to: str) -> dict[str, Any]:
        account = to.split("/", maxsplit=1)[0]
        at = draw(some([place for place in where if place.split("/")[0] == account or place.startswith("@")]))
        more = {"when": maybe(WHEN), "until": maybe(TIME)}
        return clean({"name": f"grant {number}", "to": escaped(to), "role": draw(some(roles)), "at": at, **more})

    def journey() -> dict[str, Any]:
        shown = draw(st.dictionaries(NAME.filter(lambda name: name != "aud"), PLAIN, max_size=2))
        origin = {"token": escaped(issuer), "claims": {**shown, "aud": [escaped(draw(NAME))]}}
        expect = draw(st.sampled_from(["allowed", "refused"]))
        because = maybe(st.sampled_from(["names", ["target-side", "caller-side"]])) if expect == "refused" else None
        context = maybe(st.sampled_from([{"network": None}, {"network": "10.0.0.1", "session_age": "5m"}]))
        hops = draw(st.lists(some(identities), max_size=2))
        attempt = f"write {escaped(buckets[0])}/object/x"
        more = {"refused_at": because, "context": context, "keyless": maybe(st.booleans()), "within": maybe(DURATION)}
        return clean({"from": origin, "through": hops, "attempt": attempt, "expect": expect, **more})

    permission = st.sampled_from([{"object": ["read", "write"]}, {"*": ["*"]}, {"identity": ["take-on"], "key": "*"}])
    return {
        "estate": draw(NAME),
        "organisations": {organisation: {"units": units}},
        "providers": {"north": {"style": draw(st.sampled_from(["two-sided", "one-sided"]))}},
        "accounts": {name: {"in": escaped(draw(st.sampled_from(boundary))), "provider": "north"} for name in accounts},
        "issuers": {issuer: clean({"kind": "oidc", "owned": maybe(CLAIMS)})},
        "resources": {name: {"labels": draw(st.dictionaries(NAME, TEXT, max_size=2))} for name in buckets},
        "identities": {
            name: clean({"kind": "service-account", "owner": maybe(TEXT), "disabled": maybe(st.booleans())})
            for name in identities
        },
        "roles": {name: {"allows": draw(permission)} for name in roles},
        "trusts": [trust(one) for one in identities],
        "grants": [grant(number, one) for number, one in enumerate(identities)],
        "ceilings": [
            clean(
                {
                    "name": "c",
                    "over": "callers",
                    "at": draw(some(accounts)),
                    "bars": draw(permission),
                    "when": maybe(WHEN),
                }
            )
        ],
        "journeys": {draw(NAME): journey()},
        "invariants": [
            {
                "name": "i",
                "never": {
                    "from": {"token": escaped(issuer), "claims": draw(CLAIMS)},
                    "can": ["write"],
                    "at": escaped(accounts[0]),
                },
            }
        ],
    }

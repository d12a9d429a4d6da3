"""The sections of an estate: which fields each entry has, and how they become the model's records."""

from collections.abc import Mapping
from dataclasses import dataclass
from math import isfinite
from typing import Any

from enthesis.files.conditions import TEST_SCHEMA, ConditionsShape, plain_test
from enthesis.files.nodes import Node
from enthesis.files.shapes import (
    MISSING,
    Choice,
    Count,
    Duration,
    Field,
    Flag,
    ListOf,
    MapOf,
    Name,
    NameOrGlob,
    NetworkText,
    Notes,
    Record,
    Text,
    Time,
    described,
)
from enthesis.model import estate as m
from enthesis.model.addresses import escaped, unescaped
from enthesis.model.catalogue import Kind
from enthesis.model.errors import InvalidAddress
from enthesis.model.mistakes import Source
from enthesis.model.risks import FOUND_BY_SWEEP, RISKS
from enthesis.model.words import (
    ADMITTED_FORMS,
    CLIENT_SHOWN,
    FORM_OF_ISSUER,
    NAMES_IN,
    ORIGIN_FORMS,
    RETIRING,
    SHOWN_IN,
    STEPS,
    TOKEN_TYPES,
)

NAME = Name()
TEXT = Text()
LABELS = MapOf(TEXT, "label")
KIND_VERBS = MapOf(ListOf(TEXT, or_one=True), "kind")
ALLOWING = ConditionsShape(allowing=True)
BARRING = ConditionsShape()
CLAIM_TESTS = ConditionsShape(free=True, allowing=True)
FREE_CLAIMS = ConditionsShape(free=True)


@dataclass(frozen=True)
class UnitsShape:
    """The units of an organisation: names, or names to the same again; read as paths."""

    expected: str = "names of units, or names to the units below them"

    def read(self, node: Node, notes: Notes) -> Any:
        out: dict[str, None] = {}
        return tuple(out) if self._collect(node, notes, "", out) else MISSING

    def _collect(self, node: Node, notes: Notes, above: str, out: dict[str, None]) -> bool:
        if node.value is None:
            return True
        if isinstance(node.value, dict):
            pairs = [(name, inner, inner) for name, inner in node.value.items()]
        elif isinstance(node.value, list):
            pairs = [(item.value, item, None) for item in node.value]
        else:
            notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=self.expected)
            return False
        sound = True
        for name, at, inner in pairs:
            if not isinstance(name, str) or not name or "/" in name or name.startswith("@"):
                notes.wrong("wrong-name", f"found {described(name)}", at, expected="the name of a unit")
                sound = False
                continue
            if above + name in out:
                notes.wrong("duplicate", f"the unit {above + name} is named twice", at)
                sound = False
            out[above + name] = None
            sound = (inner is None or self._collect(inner, notes, above + name + "/", out)) and sound
        return sound

    def plain(self, value: tuple[str, ...]) -> Any:
        tree: dict[str, Any] = {}
        for path in value:
            level = tree
            for part in path.split("/"):
                level = level.setdefault(part, {})
        return _lists_where_flat(tree)

    def schema(self) -> dict[str, Any]:
        return {"$ref": "#/$defs/units"}


def _lists_where_flat(tree: dict[str, Any]) -> Any:
    if any(tree.values()):
        return {name: _lists_where_flat(inner) for name, inner in tree.items()}
    return list(tree)


@dataclass(frozen=True)
class ClaimsShown:
    """What a credential shows: any JSON value under each name; null is absent on purpose."""

    expected: str = "a mapping of names to values"

    def read(self, node: Node, notes: Notes) -> Any:
        if not isinstance(node.value, dict):
            return notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=self.expected)
        out = {key: self._value(item, notes) for key, item in node.value.items()}
        return MISSING if MISSING in out.values() else out

    def _value(self, node: Node, notes: Notes) -> Any:
        value = node.value
        if isinstance(value, list):
            items = [self._value(item, notes) for item in value]
            return MISSING if MISSING in items else tuple(items)
        if isinstance(value, dict):
            return self.read(node, notes)
        if isinstance(value, str):
            try:
                return unescaped(value)
            except InvalidAddress as fault:
                return notes.wrong("pattern-in-plain-string", str(fault), node, expected="a value")
        if isinstance(value, float) and not isfinite(value):
            return notes.wrong("wrong-type", "a token cannot carry this number", node, expected="a value")
        return value

    def plain(self, value: Any) -> Any:
        if isinstance(value, Mapping):
            return {key: self.plain(item) for key, item in value.items()}
        if isinstance(value, tuple):
            return [self.plain(item) for item in value]
        return escaped(value) if isinstance(value, str) else value

    def schema(self) -> dict[str, Any]:
        return {"type": "object"}


@dataclass(frozen=True)
class SubjectShown:
    """The subject of a certificate: one name or several (URIs, principals)."""

    expected: str = "a name, or a list of names"

    def read(self, node: Node, notes: Notes) -> Any:
        names = ListOf(NAME, or_one=True).read(node, notes)
        return MISSING if names is MISSING else {"subject": names}

    def plain(self, value: Mapping[str, Any]) -> Any:
        return ListOf(NAME, or_one=True).plain(value["subject"])

    def schema(self) -> dict[str, Any]:
        return ListOf(NAME, or_one=True).schema()


@dataclass(frozen=True)
class SubjectTest:
    """The test that the subject of a certificate must pass."""

    expected: str = "a test of the certificate's subject"

    def read(self, node: Node, notes: Notes) -> Any:
        return CLAIM_TESTS.read(Node({"subject": node}, node.line, node.column, None), notes)

    def plain(self, value: Any) -> Any:
        return plain_test(value[0][1])

    def schema(self) -> dict[str, Any]:
        return {"$ref": "#/$defs/test"}


@dataclass(frozen=True)
class Nullable:
    """A value, or null for absent on purpose."""

    item: Any

    @property
    def expected(self) -> str:
        return f"{self.item.expected}, or null"

    def read(self, node: Node, notes: Notes) -> Any:
        return None if node.value is None else self.item.read(node, notes)

    def plain(self, value: Any) -> Any:
        return None if value is None else self.item.plain(value)

    def schema(self) -> dict[str, Any]:
        return {"anyOf": [self.item.schema(), {"type": "null"}]}


@dataclass(frozen=True)
class AttachedShape:
    """`attached`: true, an address or a pattern."""

    expected: str = "true, an address, or {glob: pattern}"

    def read(self, node: Node, notes: Notes) -> Any:
        return True if node.value is True else NameOrGlob(self.expected).read(node, notes)

    def plain(self, value: Any) -> Any:
        return True if value is True else NameOrGlob().plain(value)

    def schema(self) -> dict[str, Any]:
        return {"anyOf": [{"const": True}, NameOrGlob().schema()]}


@dataclass(frozen=True)
class HopShape:
    """A hop: an identity, an identity narrowed to some permissions, or a resource that code is run on."""

    expected: str = "an identity, {identity: …, narrowed: …}, or {on: RESOURCE}"

    def read(self, node: Node, notes: Notes) -> Any:
        if isinstance(node.value, dict):
            return (ON if "on" in node.value else HOP).read(node, notes)
        name = NAME.read(node, notes)
        return MISSING if name is MISSING else m.Hop(name, source=notes.source(node))

    def plain(self, value: m.Hop) -> Any:
        if value.on:
            return ON.plain(value)
        return escaped(value.identity) if value.narrowed is None else HOP.plain(value)

    def schema(self) -> dict[str, Any]:
        return {"anyOf": [NAME.schema(), HOP.schema(), ON.schema()]}


HOP = Record("a hop", (Field("identity", NAME, required=True), Field("narrowed", KIND_VERBS, required=True)), m.Hop)
ON = Record("a hop onto a resource", (Field("on", NAME, required=True),), m.Hop)


@dataclass(frozen=True)
class AttemptShape:
    """An attempt: `verb address`, or `attach IDENTITY to RESOURCE`."""

    expected: str = "`verb address`, or `attach IDENTITY to RESOURCE`"

    def read(self, node: Node, notes: Notes) -> Any:
        if not isinstance(node.value, str):
            return notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=self.expected)
        try:
            return attempt_from(node.value, notes.source(node))
        except InvalidAddress as fault:
            return notes.wrong("wrong-attempt", str(fault), node, expected=self.expected)

    def plain(self, value: m.Attempt) -> Any:
        tail = f" to {escaped(value.onto)}" if value.onto is not None else ""
        return f"{value.verb} {escaped(value.target)}{tail}"

    def schema(self) -> dict[str, Any]:
        return {"type": "string", "pattern": r"^\S+ .+$"}


def attempt_from(text: str, source: Source = m.NOWHERE) -> m.Attempt:
    """The attempt that a text like `write ADDRESS` names; InvalidAddress where it names none."""
    verb, space, rest = text.partition(" ")
    if not verb or not space or not rest.strip():
        raise InvalidAddress(f"found the text '{text}'")
    if verb != "attach":
        return m.Attempt(verb, unescaped(rest.strip()), source=source)
    target, word, onto = rest.strip().rpartition(" to ")
    if not word or not target or not onto:
        raise InvalidAddress("`attach` names no resource to attach to")
    return m.Attempt(verb, unescaped(target.strip()), unescaped(onto.strip()), source=source)


def _admission(**values: Any) -> m.Admission:
    source = values.pop("source")
    for form, shown in SHOWN_IN.items():
        if form in values:
            return m.Admission(form, values[form], values.get(shown, ()), source=source)
    ((form, whom),) = values.items()
    return m.Admission(form, whom, source=source)


def _admission_apart(value: m.Admission) -> dict[str, Any]:
    shown = SHOWN_IN.get(value.form)
    more = {shown: value.conditions} if shown and value.conditions else {}
    return {value.form: value.whom, **more}


ADMISSION = Record(
    "whom a trust admits",
    (
        Field("token", NAME, says="the issuer of the token"),
        Field("claims", CLAIM_TESTS),
        Field("assertion", NAME, says="the issuer of the SAML assertion"),
        Field("attributes", CLAIM_TESTS),
        Field("certificate", NAME, says="the certificate authority"),
        Field("subject", SubjectTest()),
        Field("identity", NAME),
        Field("group", NAME),
        Field("account", NAME, says="every identity of this account that the account itself lets"),
        Field("attached", AttachedShape(), says="whatever runs as the identity"),
        Field("person", NAME),
    ),
    _admission,
    one_of=(ADMITTED_FORMS,),
    apart=_admission_apart,
    goes_with={shown: form for form, shown in SHOWN_IN.items()},
)


def _origin(**values: Any) -> m.Origin:
    source = values.pop("source")
    shows = values.pop("claims", None) or values.pop("attributes", None) or values.pop("subject", None) or {}
    said = "mfa" in values
    mfa = values.pop("mfa", None)
    form = next(name for name in ORIGIN_FORMS if name in values)
    return m.Origin(form, values[form], shows, mfa, said, source=source)


def _origin_apart(value: m.Origin) -> dict[str, Any]:
    shown = SHOWN_IN.get(value.form)
    out: dict[str, Any] = {value.form: value.whom}
    if shown and value.shows:
        out[shown] = value.shows
    if value.mfa_said:
        out["mfa"] = value.mfa
    return out


ORIGIN = Record(
    "an origin",
    (
        Field("token", NAME),
        Field("claims", ClaimsShown()),
        Field("assertion", NAME),
        Field("attributes", ClaimsShown()),
        Field("certificate", NAME),
        Field("subject", SubjectShown()),
        Field("host", NAME),
        Field("workload", NAME),
        Field("person", NAME),
        Field("mfa", Nullable(Flag())),
        Field("credential", NAME),
        Field("identity", NAME),
    ),
    _origin,
    one_of=(ORIGIN_FORMS,),
    apart=_origin_apart,
    goes_with={**{shown: form for form, shown in SHOWN_IN.items()}, "mfa": "person"},
)

CONTEXT_NAMES = ("time", "network", "reference", "session_age")


def _context(**values: Any) -> m.Context:
    return m.Context(**values, said=frozenset(name for name in CONTEXT_NAMES if name in values))


CONTEXT = Record(
    "a context",
    (
        Field("time", Nullable(Time())),
        Field("network", Nullable(NetworkText())),
        Field("reference", Nullable(NAME)),
        Field("session_age", Nullable(Duration())),
    ),
    _context,
    apart=lambda value: {name: getattr(value, name) for name in CONTEXT_NAMES if name in value.said},
)


def _start(**values: Any) -> m.Start:
    source = values.pop("source")
    conditions = values.pop("claims", None) or values.pop("attributes", None) or values.pop("subject", ())
    ((form, whom),) = values.items()
    return m.Start(form, whom, conditions, source=source)


def _start_apart(value: m.Start) -> dict[str, Any]:
    shown = SHOWN_IN.get(value.form)
    more = {shown: value.conditions} if shown and value.conditions else {}
    return {value.form: value.whom, **more}


NAMES_OR_GLOBS = ListOf(NameOrGlob(), or_one=True)
START = Record(
    "where chains start",
    (
        *(Field(form, NAMES_OR_GLOBS) for form in ORIGIN_FORMS),
        Field("claims", FREE_CLAIMS),
        Field("attributes", FREE_CLAIMS),
        Field("subject", SubjectTest()),
    ),
    _start,
    one_of=(ORIGIN_FORMS,),
    apart=_start_apart,
    goes_with={shown: form for form, shown in SHOWN_IN.items()},
)
_CLAIMED = (
    Field("can", ListOf(TEXT, or_one=True), required=True),
    Field("on", ListOf(TEXT, or_one=True)),
    Field("at", NAME, required=True),
)
NEVER = Record(
    "what must never be",
    (Field("from", START, attr="start"), Field("by", NAMES_OR_GLOBS), *_CLAIMED),
    m.Claimed,
)
ONLY = Record("who alone may", (Field("by", NAMES_OR_GLOBS, required=True), *_CLAIMED), m.Claimed)


def _invariant(**values: Any) -> m.Invariant:
    form = "never" if "never" in values else "only"
    return m.Invariant(values["name"], form, values[form], source=values["source"])


def _kind(**values: Any) -> Kind:
    del values["source"]
    return Kind(values["name"], values.get("within", ()), values.get("leaf", False), values["verbs"])


@dataclass(frozen=True)
class Section:
    """One section: a list of entries, or a mapping from names (`key`: the attribute a name becomes)."""

    record: Record
    key: str | None = None
    addressed: bool = False


BECAUSE = Field("because", TEXT, says="why it is there; kept in the files alone")


def _until(*more: Field) -> tuple[Field, ...]:
    return (*more, Field("when", ALLOWING), Field("until", Time()))


EXCHANGE = Record(
    "how a token service wants to be asked",
    (
        Field("names_in", Choice(NAMES_IN), says="the parameter that names what is wanted; default resource"),
        Field("named", TEXT, says="how an identity is called there, with {address}, {account}, {name}, {url}"),
        Field("names", MapOf(TEXT, "identity"), says="identities that are called otherwise there"),
        Field("client", Choice(CLIENT_SHOWN), says="how a client shows itself; default: as the server offers"),
        Field("shown_as", Choice(TOKEN_TYPES), says="the type that a token is shown as; default jwt"),
        Field("wanted", Choice((*TOKEN_TYPES, "none")), says="the type that is asked for; default access-token"),
        Field("more", MapOf(TEXT, "parameter"), says="further parameters of the request"),
    ),
    m.Exchange,
)
SECTIONS: dict[str, Section] = {
    "organisations": Section(
        Record(
            "an organisation",
            (
                Field("units", UnitsShape()),
                Field("outside", Flag()),
                Field("labels", LABELS),
                Field("directory", TEXT, says="the url where its people sign in"),
                Field("longest_key", Duration(), says="how long a keyed credential may live; 30d at the most"),
            ),
            m.Organisation,
        ),
        "name",
    ),
    "providers": Section(
        Record(
            "a provider",
            (
                Field("style", Choice(("two-sided", "one-sided")), required=True),
                Field("url", TEXT),
                Field("exchange", EXCHANGE),
            ),
            m.Provider,
        ),
        "name",
    ),
    "accounts": Section(
        Record(
            "an account",
            (
                Field("in", NAME, attr="within", required=True),
                Field("provider", NAME, required=True),
                Field("labels", LABELS),
                Field("administered_by", Choice(("us", "others"))),
                Field("longest_key", Duration()),
            ),
            m.Account,
        ),
        "name",
    ),
    "issuers": Section(
        Record(
            "an issuer",
            (
                Field("kind", Choice(tuple(FORM_OF_ISSUER)), required=True),
                Field("url", TEXT),
                Field("shared", Flag()),
                Field("owned", FREE_CLAIMS),
                Field("claims", MapOf(Choice(("text", "list")), "claim")),
                Field("audiences", ListOf(TEXT)),
                Field("cluster", NAME),
                Field(
                    "outside_runs",
                    ListOf(TEXT, or_one=True),
                    says="words in claims of runs that changes from outside can start, e.g. contribution",
                ),
                Field("exchange", EXCHANGE),
            ),
            m.Issuer,
        ),
        "name",
    ),
    "resources": Section(
        Record(
            "a resource",
            (
                Field("labels", LABELS),
                Field("encrypted_by", NAME),
                Field("managed_by", Choice(("account", "provider"))),
                Field("runs_as", ListOf(NAME, or_one=True)),
                Field("protected", Flag()),
                Field(
                    "shared_login", Choice(("on", "off")), says="of a registry or database: a login that people share"
                ),
            ),
            m.Resource,
        ),
        "address",
        addressed=True,
    ),
    "identities": Section(
        Record(
            "an identity",
            (
                Field("kind", Choice(m.IDENTITY_KINDS), required=True),
                Field("owner", TEXT),
                Field("purpose", TEXT),
                Field("labels", LABELS),
                Field("tied_to", NAME),
                Field("disabled", Flag()),
                Field("environment", TEXT),
            ),
            m.Identity,
        ),
        "address",
        addressed=True,
    ),
    "groups": Section(
        Record(
            "a group",
            (
                Field("members", ListOf(NAME)),
                Field(
                    "where",
                    Record(
                        "a group's rule",
                        (
                            Field("kind", Choice(m.IDENTITY_KINDS)),
                            Field("in", NAME, attr="within"),
                            Field("labels", LABELS),
                        ),
                        m.GroupRule,
                    ),
                ),
            ),
            m.Group,
        ),
        "address",
        addressed=True,
    ),
    "roles": Section(
        Record("a role", (Field("allows", KIND_VERBS, required=True), Field("includes", ListOf(NAME))), m.Role),
        "name",
    ),
    "trusts": Section(
        Record(
            "a trust",
            (
                Field("name", TEXT),
                Field("of", NAME, required=True),
                Field("admits", ADMISSION, required=True),
                *_until(),
                Field("session", Duration()),
                BECAUSE,
            ),
            m.Trust,
        )
    ),
    "grants": Section(
        Record(
            "a grant",
            _until(
                Field("name", TEXT),
                Field("to", NAME, required=True),
                Field("role", NAME, required=True),
                Field("at", NAME, required=True),
                Field("held_by", NAME),
                BECAUSE,
            ),
            m.Grant,
        )
    ),
    "ceilings": Section(
        Record(
            "a ceiling",
            (
                Field("name", TEXT, required=True),
                Field("over", Choice(("callers", "targets")), required=True),
                Field("at", NAME, required=True),
                Field("bars", KIND_VERBS),
                Field("only", KIND_VERBS),
                Field("except", ListOf(NameOrGlob(), or_one=True), attr="excepts"),
                Field("when", BARRING),
            ),
            m.Ceiling,
            one_of=(("bars", "only"),),
        )
    ),
    "attachments": Section(
        Record(
            "an attachment",
            (
                Field("what", NameOrGlob(), required=True),
                Field("runs_as", ListOf(NAME, or_one=True), required=True),
                BECAUSE,
            ),
            m.Attachment,
        )
    ),
    "credentials": Section(
        Record(
            "a credential",
            (
                Field("of", NAME, required=True),
                Field(
                    "form",
                    Choice(("access-key", "client-secret", "static-token", "password", "certificate")),
                    required=True,
                ),
                Field("created", Time()),
                Field("expires", Time()),
                Field("last_used", Time()),
                Field("disabled", Flag()),
                Field("when", ALLOWING),
                Field("held_in", ListOf(TEXT, or_one=True)),
                Field("fingerprint", TEXT),
            ),
            m.Credential,
        ),
        "name",
    ),
    "pipeline_access": Section(
        Record(
            "a pipeline access",
            (
                Field("at", NAME, required=True),
                Field("of", NAME, required=True),
                Field("admits", CLAIM_TESTS, required=True),
                Field("credential", NAME),
            ),
            m.PipelineAccess,
        ),
        "name",
    ),
    "journeys": Section(
        Record(
            "a journey",
            (
                Field("from", ORIGIN, attr="origin", required=True),
                Field("through", ListOf(HopShape())),
                Field("attempt", AttemptShape()),
                Field("context", CONTEXT),
                Field("expect", Choice(("allowed", "refused")), required=True),
                Field("refused_at", ListOf(Choice(STEPS), or_one=True)),
                Field("keyless", Flag()),
                Field("within", Duration()),
            ),
            m.Journey,
        ),
        "name",
    ),
    "invariants": Section(
        Record(
            "an invariant",
            (Field("name", TEXT, required=True), Field("never", NEVER), Field("only", ONLY)),
            _invariant,
            one_of=(("never", "only"),),
            apart=lambda value: {"name": value.name, value.form: value.claimed},
        )
    ),
    "accepted": Section(
        Record(
            "an accepted risk",
            (
                Field(
                    "risk",
                    Choice((*(code for code in RISKS if code != "acceptance-idle"), *FOUND_BY_SWEEP)),
                    required=True,
                    says="the code of a risk that `check` tells, or of a finding of `sweep`",
                ),
                Field("of", TEXT, required=True),
                Field("because", TEXT, required=True),
                Field("until", Time(), required=True),
            ),
            m.Accepted,
        )
    ),
    "approvals": Section(
        Record(
            "an approval",
            (Field("at", NAME, required=True), Field("by", Count(), required=True), Field("of", NAME, required=True)),
            m.Approval,
        )
    ),
    "approvers": Section(
        Record("an approver", (Field("key", TEXT, required=True),), m.Approver),
        "address",
    ),
    "notice": Section(
        Record(
            "a notice",
            (
                Field(
                    "before",
                    ListOf(Duration(), or_one=True),
                    required=True,
                    says="how long before such an end `calendar` tells of it, e.g. [90d, 30d, 7d]",
                ),
            ),
            m.Notice,
        ),
        "name",
    ),
    "retiring": Section(
        Record(
            "a credential that is retired",
            (
                Field("stage", Choice(RETIRING), required=True),
                Field("since", Time(), says="when it came to this stage"),
                Field("proved", Time(), says="when the keyless way was proved live"),
                Field("identity", NAME, says="what its holder takes on instead, where that is another identity"),
            ),
            m.Retiring,
        ),
        "name",
    ),
    "kinds": Section(
        Record(
            "a kind",
            (
                Field("in", ListOf(TEXT), attr="within"),
                Field("leaf", Flag()),
                Field(
                    "verbs",
                    MapOf(Choice(("look", "read", "write", "run", "manage", "power")), "verb"),
                    required=True,
                ),
            ),
            _kind,
        ),
        "name",
    ),
}


def schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of a file of an estate."""
    properties: dict[str, Any] = {
        "estate": {"type": "string", "description": "the name of the estate"},
        "ignore": {
            "type": "array",
            "items": {"type": "string"},
            "description": "globs of files in the folder that are no part of the estate; in estate.yaml alone",
        },
    }
    for name, section in SECTIONS.items():
        entry = section.record.schema()
        if section.key:
            if not entry.get("required"):
                entry = {"anyOf": [entry, {"type": "null"}]}
            properties[name] = {"type": "object", "additionalProperties": entry}
        else:
            properties[name] = {"type": "array", "items": entry}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A file of an Enthesis estate",
        "type": "object",
        "properties": properties,
        "additionalProperties": False,
        "$defs": {
            "test": TEST_SCHEMA,
            "units": {
                "anyOf": [
                    {"type": "array", "items": {"type": "string", "pattern": "^[^@/][^/]*$"}},
                    {
                        "type": "object",
                        "propertyNames": {"pattern": "^[^@/][^/]*$"},
                        "additionalProperties": {"anyOf": [{"$ref": "#/$defs/units"}, {"type": "null"}]},
                    },
                ]
            },
        },
    }

"""The sections of an estate: which fields each entry has, and how they become the model's records."""

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import product
from math import isfinite
from typing import Any

from enthesis.files.conditions import TEST_SCHEMA, ConditionsShape, plain_test
from enthesis.files.field_types import (
    MISSING,
    Choice,
    Count,
    Duration,
    Field,
    Flag,
    ListOf,
    MapOf,
    Name,
    NameOrElsewhere,
    NameOrGlob,
    NetworkText,
    Notes,
    Record,
    Text,
    Time,
    described,
)
from enthesis.files.yaml_tree import Node
from enthesis.model import estate as m
from enthesis.model.addresses import escaped, unescaped
from enthesis.model.catalogue import Kind
from enthesis.model.errors import InvalidAddress
from enthesis.model.file_errors import Source
from enthesis.model.risks import FOUND_BY_SWEEP, RISKS
from enthesis.model.vocabulary import (
    ADMITTED_FORMS,
    CLIENT_SHOWN,
    FORM_OF_ISSUER,
    NAMES_IN,
    ORIGIN_FORMS,
    RETIRING,
    SHOWN_IN,
    STEPS,
    TOKEN_TYPES,
    Ending,
    Form,
    VerbClass,
)

NAME = Name()
TEXT = Text()
LABELS = MapOf(TEXT, "label")
KIND_VERBS = MapOf(ListOf(TEXT, or_one=True), "kind")
ALLOWING = ConditionsShape(allowing=True)
BARRING = ConditionsShape()
CLAIM_TESTS = ConditionsShape(free=True, allowing=True)
FREE_CLAIMS = ConditionsShape(free=True, by_itself=True)
CLAIMS_OF_RUNS = ConditionsShape(free=True, allowing=True, by_itself=True)


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
class CallerOrException:
    """A caller, by address or `{glob: pattern}`, or an exception that ends."""

    expected: str = "an address, {glob: pattern}, or {who, can, at, until, because}"

    def read(self, node: Node, notes: Notes) -> Any:
        if isinstance(node.value, dict) and list(node.value) != ["glob"]:
            return EXCEPTION.read(node, notes)
        return NameOrGlob(self.expected).read(node, notes)

    def plain(self, value: Any) -> Any:
        return EXCEPTION.plain(value) if isinstance(value, m.CeilingException) else NameOrGlob().plain(value)

    def schema(self) -> dict[str, Any]:
        return {"anyOf": [NameOrGlob().schema(), EXCEPTION.schema()]}


EXCEPTION = Record(
    "an exception",
    (
        Field("who", NameOrGlob(), required=True, says="the caller, by address or pattern"),
        Field("can", ListOf(TEXT, or_one=True), says="the verbs that it is for; default: all"),
        Field("at", NAME, says="the place that it is for, with everything in it; default: anywhere"),
        Field("until", Time(), required=True, says="when it ends"),
        Field("because", TEXT, required=True, says="why it is there"),
    ),
    m.CeilingException,
)


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


HOP = Record(
    "a hop",
    (
        Field("identity", NAME, required=True, says="the identity to take on"),
        Field("narrowed", KIND_VERBS, required=True, says="the only verbs by kind that the session allows"),
    ),
    m.Hop,
)
ON = Record("a hop onto a resource", (Field("on", NAME, required=True, says="the resource to run code on"),), m.Hop)


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
    ((word, whom),) = values.items()
    return m.Admission(Form(word), whom, source=source)


def _admission_apart(value: m.Admission) -> dict[str, Any]:
    shown = SHOWN_IN.get(value.form)
    more = {shown: value.conditions} if shown and value.conditions else {}
    return {str(value.form): value.whom, **more}


ADMISSION = Record(
    "whom a trust admits",
    (
        Field("token", NAME, says="the issuer of the token"),
        Field("claims", CLAIM_TESTS, says="tests of the token's claims; each must hold"),
        Field("assertion", NAME, says="the issuer of the SAML assertion"),
        Field("attributes", CLAIM_TESTS, says="tests of the assertion's attributes; each must hold"),
        Field("certificate", NAME, says="the certificate authority"),
        Field("subject", SubjectTest(), says="a test of the certificate's subject"),
        Field("identity", NAME, says="an identity by its address"),
        Field("group", NAME, says="every member of a group"),
        Field("account", NAME, says="every identity of this account that the account itself lets"),
        Field("attached", AttachedShape(), says="whatever runs as the identity"),
        Field("person", NAME, says="a person by their address"),
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
    out: dict[str, Any] = {str(value.form): value.whom}
    if shown and value.shows:
        out[shown] = value.shows
    if value.mfa_said:
        out["mfa"] = value.mfa
    return out


ORIGIN = Record(
    "an origin",
    (
        Field("token", NAME, says="an issuer that signed a token"),
        Field("claims", ClaimsShown(), says="the claims that the token shows; null: absent"),
        Field("assertion", NAME, says="an issuer that signed an assertion"),
        Field("attributes", ClaimsShown(), says="the attributes that the assertion shows"),
        Field("certificate", NAME, says="a certificate authority"),
        Field("subject", SubjectShown(), says="the subject that the certificate shows"),
        Field("host", NAME, says="a host, pool, function or connector"),
        Field("workload", NAME, says="a workload of a cluster"),
        Field("person", NAME, says="a person who is signed in"),
        Field("mfa", Nullable(Flag()), says="whether a second factor was used; null: unknown"),
        Field("credential", NAME, says="a keyed credential by its name"),
        Field("identity", NAME, says="an identity, as its administrators may call as it"),
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
        Field("time", Nullable(Time()), says="when the request is made; default: now"),
        Field("network", Nullable(NetworkText()), says="where the caller is"),
        Field("reference", Nullable(NAME), says="the agreed reference that is sent along"),
        Field("session_age", Nullable(Duration()), says="how old the session is"),
    ),
    _context,
    apart=lambda value: {name: getattr(value, name) for name in CONTEXT_NAMES if name in value.said},
)


def _start(**values: Any) -> m.Start:
    source = values.pop("source")
    conditions = values.pop("claims", None) or values.pop("attributes", None) or values.pop("subject", ())
    ((form, whom),) = values.items()
    return m.Start(Form(form), whom, conditions, source=source)


def _start_apart(value: m.Start) -> dict[str, Any]:
    shown = SHOWN_IN.get(value.form)
    more = {shown: value.conditions} if shown and value.conditions else {}
    return {str(value.form): value.whom, **more}


NAMES_OR_GLOBS = ListOf(NameOrGlob(), or_one=True)
START = Record(
    "where chains start",
    (
        *(
            Field(str(form), NAMES_OR_GLOBS, says=f"callers that start as {form}: names or patterns")
            for form in ORIGIN_FORMS
        ),
        Field("claims", FREE_CLAIMS, says="tests of claims; any other claim is free"),
        Field("attributes", FREE_CLAIMS, says="tests of attributes; any other is free"),
        Field("subject", SubjectTest(), says="a test of the certificate's subject"),
    ),
    _start,
    one_of=(ORIGIN_FORMS,),
    apart=_start_apart,
    goes_with={shown: form for form, shown in SHOWN_IN.items()},
)
_CLAIMED = (
    Field("can", ListOf(TEXT, or_one=True), required=True, says="verbs, or one of them"),
    Field("on", ListOf(TEXT, or_one=True), says="kinds; default: every kind"),
    Field("at", NAME, required=True, says="the place, with everything in it, or a list of places"),
)
NEVER = Record(
    "what must never be",
    (
        Field("from", START, attr="start", says="where chains start"),
        Field("by", NAMES_OR_GLOBS, says="callers by address or pattern"),
        *_CLAIMED,
    ),
    m.Claimed,
)
ONLY = Record(
    "who alone may",
    (Field("by", NAMES_OR_GLOBS, required=True, says="callers by address or pattern"), *_CLAIMED),
    m.Claimed,
)


def _invariant(**values: Any) -> m.Invariant:
    form = "never" if "never" in values else "only"
    return m.Invariant(values["name"], form, values[form], source=values["source"])


def _kind(**values: Any) -> Kind:
    del values["source"]
    return Kind(values["name"], values.get("within", ()), values.get("leaf", False), values["verbs"])


@dataclass(frozen=True)
class Section:
    """One section: a list of entries, or a mapping from names (`key`: the attribute a name becomes).

    An entry may have a list in the fields of `spread`: it is a statement of its own for each value.
    """

    record: Record
    key: str | None = None
    addressed: bool = False
    spread: tuple[str, ...] = ()

    def read(self, node: Node, notes: Notes) -> list[Any]:
        """The values of one entry of a list; none where it has an error."""
        lists = {name: found for name in self.spread if (found := _list_in(node, name)) is not None}
        if not lists:
            value = self.record.read(node, notes)
            return [] if value is MISSING else [value]
        if not self._can_be_spread(node, lists, notes):
            return []
        out, told = [], len(notes.errors)
        for positions in product(*(range(len(found)) for found in lists.values())):
            part = tuple(zip(lists, positions, strict=True))
            ones = {name: lists[name][position] for name, position in part}
            value = self.record.read(node._replace(value={**node.value, **ones}), notes, part=part)  # type: ignore[dict-item]
            out += [] if value is MISSING else [value]
        notes.errors[told:] = dict.fromkeys(notes.errors[told:])  # what is wrong with all is said once
        return out

    def _can_be_spread(self, node: Node, lists: Mapping[str, list[Node]], notes: Notes) -> bool:
        entries: Any = node.value
        sound = True
        for name, found in lists.items():
            if not found:
                notes.wrong("empty", f"an empty list in `{name}`", entries[name], expected="one value or several")
                sound = False
            first: dict[object, Node] = {}
            for one in found:
                if isinstance(one.value, str) and first.setdefault(one.value, one) is not one:
                    notes.wrong("duplicate", f"`{one.value}` is listed twice in `{name}`", one)
                    sound = False
        if "name" in entries:
            message = f"one name for the several statements of this list in `{' and '.join(lists)}`"
            notes.wrong("wrong-name", message, entries["name"], expected="no name here, or each statement on its own")
            sound = False
        return sound

    def schema(self) -> dict[str, Any]:
        """The JSON Schema of an entry."""
        out = self.record.schema()
        for name in self.spread:
            properties = out.get("properties") or next(one for one in out["allOf"] if "properties" in one)["properties"]
            of_one = {key: value for key, value in properties[name].items() if key != "description"}
            many = {"type": "array", "minItems": 1, "uniqueItems": True, "items": of_one}
            says = {key: value for key, value in properties[name].items() if key == "description"}
            properties[name] = {"anyOf": [of_one, many], **says}
        return out


def _list_in(node: Node, name: str) -> list[Node] | None:
    """The list in a field of an entry; None where there is none."""
    found = node.value.get(name) if isinstance(node.value, dict) else None
    return found.value if found is not None and isinstance(found.value, list) else None


BECAUSE = Field("because", TEXT, says="why it is there; kept in the files alone")


def _until(*more: Field) -> tuple[Field, ...]:
    return (
        *more,
        Field("when", ALLOWING, says="conditions; it counts only where they hold"),
        Field("until", Time(), says="when it ends; default: never"),
    )


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
                Field("units", UnitsShape(), says="the units below it, as names or as a tree"),
                Field("outside", Flag(), says="true: another party, whose statements are never written; default false"),
                Field("labels", LABELS, says="labels, which groups by rule and conditions can use"),
                Field("directory", TEXT, says="the url where its people sign in"),
                Field(
                    "people",
                    TEXT,
                    says="the base url of its directory's SCIM service, where people and groups are kept in step",
                ),
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
                Field(
                    "style",
                    Choice(("two-sided", "one-sided")),
                    required=True,
                    says="two-sided: a crossing needs a grant on both sides; one-sided: the target's side is enough",
                ),
                Field("url", TEXT, says="where it is, for work on live systems without a lab"),
                Field("exchange", EXCHANGE, says="how its token service wants to be asked, if not as usual"),
            ),
            m.Provider,
        ),
        "name",
    ),
    "accounts": Section(
        Record(
            "an account",
            (
                Field("in", NAME, attr="within", required=True, says="the organisation or unit that it belongs to"),
                Field("provider", NAME, required=True, says="the provider that it is at"),
                Field("labels", LABELS, says="labels, which groups by rule and conditions can use"),
                Field(
                    "administered_by",
                    Choice(("us", "others")),
                    says="who writes its statements; default: us, or others where its organisation is outside",
                ),
                Field("longest_key", Duration(), says="how long a keyed credential may live there; 30d at most"),
            ),
            m.Account,
        ),
        "name",
    ),
    "issuers": Section(
        Record(
            "an issuer",
            (
                Field(
                    "kind",
                    Choice(tuple(FORM_OF_ISSUER)),
                    required=True,
                    says="what it signs: tokens (oidc), assertions (saml) or certificates (x509, ssh)",
                ),
                Field("url", TEXT, says="its issuer identifier, where its keys are found"),
                Field("shared", Flag(), says="true: other organisations use it too; default false"),
                Field(
                    "owned",
                    FREE_CLAIMS,
                    says="tests that hold for our callers alone, where the issuer is shared",
                ),
                Field(
                    "claims",
                    MapOf(Choice(("text", "list")), "claim"),
                    says="the claims that it issues, each as one text or as a list; default: any",
                ),
                Field("audiences", ListOf(TEXT), says="the audiences that it issues tokens for; default: any"),
                Field("key", TEXT, says="of an ssh authority: its public key, as OpenSSH writes it"),
                Field("cluster", NAME, says="the cluster whose service accounts it signs for"),
                Field(
                    "outside_runs",
                    ListOf(TEXT, or_one=True),
                    says="words in claims of runs that changes from outside can start, e.g. contribution",
                ),
                Field("exchange", EXCHANGE, says="how it wants to be asked for a client's token"),
            ),
            m.Issuer,
        ),
        "name",
    ),
    "resources": Section(
        Record(
            "a resource",
            (
                Field("labels", LABELS, says="labels, which groups by rule and conditions can use"),
                Field("encrypted_by", NAME, says="the key that encrypts what is stored in it"),
                Field(
                    "managed_by",
                    Choice(("account", "provider")),
                    says="who manages a key: account, or provider (then no other account can use it)",
                ),
                Field("runs_as", ListOf(NAME, or_one=True), says="identities that what runs on it has"),
                Field("protected", Flag(), says="true: a risk is reported where access to it widens; default false"),
                Field(
                    "shared_login", Choice(("on", "off")), says="of a registry or database: a login that people share"
                ),
                Field(
                    "url",
                    TEXT,
                    says="where its own server is reached: postgresql://HOST[:PORT]/NAME of a database, "
                    "ssh://HOST[:PORT]/USER of a host, https://HOST[:PORT] of a registry",
                ),
                Field(
                    "certificates",
                    NAME,
                    says="the issuer whose certificates that server takes: x509 for a database, ssh for a host",
                ),
            ),
            m.Resource,
            goes_with={"certificates": "url"},
        ),
        "address",
        addressed=True,
    ),
    "identities": Section(
        Record(
            "an identity",
            (
                Field(
                    "kind",
                    Choice(m.IDENTITY_KINDS),
                    required=True,
                    says="what it is; docs/identities/which.md says which for which workload",
                ),
                Field("owner", TEXT, says="who is responsible for it"),
                Field("purpose", TEXT, says="what it is for"),
                Field("labels", LABELS, says="labels, which groups by rule and conditions can use"),
                Field("tied_to", NAME, says="the resource that it is created and deleted with"),
                Field("disabled", Flag(), says="true: it can do nothing; default false"),
                Field("absent", Flag(), says="true: a survey found it named, and not there; default false"),
                Field("environment", TEXT, says="the environment that it is for, e.g. test"),
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
                Field("members", ListOf(NAME), says="its members by address"),
                Field(
                    "where",
                    Record(
                        "a group's rule",
                        (
                            Field("kind", Choice(m.IDENTITY_KINDS), says="only identities of this kind"),
                            Field("in", NAME, attr="within", says="only identities in this place"),
                            Field("labels", LABELS, says="only identities with these labels"),
                        ),
                        m.GroupRule,
                    ),
                    says="its members by rule, besides those that are listed",
                ),
            ),
            m.Group,
        ),
        "address",
        addressed=True,
    ),
    "roles": Section(
        Record(
            "a role",
            (
                Field("allows", KIND_VERBS, required=True, says="verbs by kind"),
                Field("includes", ListOf(NAME), says="roles whose permissions it has too"),
                Field("description", TEXT, says="what it is for, in words; kept in the files alone"),
            ),
            m.Role,
        ),
        "name",
    ),
    "trusts": Section(
        Record(
            "a trust",
            (
                Field("name", TEXT, says="a name, where two statements would have the same key"),
                Field("of", NAME, required=True, says="the identity that is taken on, or a list of them"),
                Field("admits", ADMISSION, required=True, says="who may take it on"),
                *_until(),
                Field("session", Duration(), says="how long a session lives; default 1h"),
                BECAUSE,
            ),
            m.Trust,
        ),
        spread=("of",),
    ),
    "grants": Section(
        Record(
            "a grant",
            _until(
                Field("name", TEXT, says="a name, where two statements would have the same key"),
                Field(
                    "to",
                    NAME,
                    required=True,
                    says="the identity, person, group or organisation (everybody of it) that gets the role; or a list",
                ),
                Field("role", NAME, required=True, says="the role"),
                Field("at", NAME, required=True, says="the place, with everything in it"),
                Field(
                    "held_by",
                    NAME,
                    says="whose half of a crossing it is: an account or organisation; default: that of the place",
                ),
                BECAUSE,
            ),
            m.Grant,
        ),
        spread=("to", "at"),
    ),
    "ceilings": Section(
        Record(
            "a ceiling",
            (
                Field("name", TEXT, required=True, says="its name"),
                Field(
                    "over",
                    Choice(("callers", "targets")),
                    required=True,
                    says="callers: limits what callers of the place can do; targets: what can be done in it",
                ),
                Field("at", NAME, required=True, says="the account, unit or organisation that it limits"),
                Field("bars", KIND_VERBS, says="verbs by kind that are never allowed"),
                Field("only", KIND_VERBS, says="verbs by kind that alone are allowed"),
                Field(
                    "except",
                    ListOf(CallerOrException(), or_one=True),
                    attr="excepts",
                    says="addresses or patterns it does not limit, or {who, can?, at?, until, because} for a while",
                ),
                Field("when", BARRING, says="conditions; it limits only where they hold"),
            ),
            m.Ceiling,
            one_of=(("bars", "only"),),
        )
    ),
    "attachments": Section(
        Record(
            "an attachment",
            (
                Field("what", NameOrGlob(), required=True, says="the resource, or a pattern of resources"),
                Field("runs_as", ListOf(NAME, or_one=True), required=True, says="the identities that run on it"),
                BECAUSE,
            ),
            m.Attachment,
        )
    ),
    "credentials": Section(
        Record(
            "a credential",
            (
                Field("of", NAME, required=True, says="the identity that it is a key of"),
                Field(
                    "form",
                    Choice(("access-key", "client-secret", "static-token", "password", "certificate", "key-pair")),
                    required=True,
                    says="what kind of secret it is",
                ),
                Field("created", Time(), says="when it was created"),
                Field("expires", Time(), says="when it expires; default: never"),
                Field("last_used", Time(), says="when it was last used"),
                Field("disabled", Flag(), says="true: it opens nothing; default false"),
                Field("when", ALLOWING, says="conditions on its use"),
                Field(
                    "held_in",
                    ListOf(NameOrElsewhere(), or_one=True),
                    says="where copies of it are kept: addresses, issuers whose runs have one, other places in words",
                ),
                Field("fingerprint", TEXT, says="what recognises the value, without revealing it"),
            ),
            m.Credential,
        ),
        "name",
    ),
    "pipeline_access": Section(
        Record(
            "a pipeline access",
            (
                Field("at", NAME, required=True, says="the issuer whose runs use it"),
                Field("of", NAME, required=True, says="the identity that it leads to"),
                Field("admits", CLAIMS_OF_RUNS, required=True, says="tests of the claims of the runs that may use it"),
                Field("credential", NAME, says="the keyed credential behind it, if there is one"),
            ),
            m.PipelineAccess,
        ),
        "name",
    ),
    "journeys": Section(
        Record(
            "a journey",
            (
                Field("from", ORIGIN, attr="origin", required=True, says="where the journey starts"),
                Field(
                    "through", ListOf(HopShape()), says="identities to take on, or resources to run code on, in order"
                ),
                Field("attempt", AttemptShape(), says="what is attempted at the end; default: only the hops"),
                Field("context", CONTEXT, says="what surrounds the requests"),
                Field("expect", Choice((Ending.ALLOWED, Ending.REFUSED)), required=True, says="allowed or refused"),
                Field(
                    "refused_at",
                    ListOf(Choice(STEPS), or_one=True),
                    says="the steps where it must be refused; default: any",
                ),
                Field("keyless", Flag(), says="true: its origin must not be a stored secret"),
                Field("within", Duration(), says="the longest lifetime of any session of the journey"),
            ),
            m.Journey,
        ),
        "name",
    ),
    "invariants": Section(
        Record(
            "an invariant",
            (
                Field("name", TEXT, required=True, says="its name"),
                Field("never", NEVER, says="what no chain may reach"),
                Field("only", ONLY, says="who alone may do it"),
            ),
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
                    says="the code of a risk that `check` tells, or of a finding of `sweep`",
                ),
                Field("of", TEXT, says="what the risk or finding is about, as reported"),
                Field("invariant", NAME, says="instead: an invariant that one caller may break for a while"),
                Field("by", TEXT, says="that caller, as `check` names where the chain starts"),
                Field("unread", TEXT, says="instead: what a survey did not read, as it is named there"),
                Field("at", TEXT, says="the place that this is about"),
                Field("because", TEXT, required=True, says="why that is accepted"),
                Field("until", Time(), required=True, says="when the acceptance ends"),
            ),
            m.Accepted,
            one_of=(("risk", "invariant", "unread"), ("of", "by", "at")),
            goes_with={"of": "risk", "by": "invariant", "at": "unread"},
        )
    ),
    "approvals": Section(
        Record(
            "an approval",
            (
                Field("at", NAME, required=True, says="the place where changes need approval"),
                Field("by", Count(), required=True, says="how many people must approve"),
                Field("of", NAME, required=True, says="the group whose members may approve"),
            ),
            m.Approval,
        )
    ),
    "approvers": Section(
        Record(
            "an approver", (Field("key", TEXT, required=True, says="the public key that they sign with"),), m.Approver
        ),
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
                    says="how long before such an end `calendar` gives notice, e.g. [90d, 30d, 7d]",
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
                Field("stage", Choice(RETIRING), required=True, says="the stage that it is at"),
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
                Field("in", ListOf(TEXT), attr="within", says="the kinds that it can be in"),
                Field(
                    "leaf",
                    Flag(),
                    says="true: it contains nothing else, and its name may contain slashes; default false",
                ),
                Field(
                    "verbs",
                    MapOf(Choice(tuple(VerbClass)), "verb"),
                    required=True,
                    says="its verbs, each with its class",
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
            "description": "globs of files in the folder that are not part of the estate; only in estate.yaml",
        },
    }
    for name, section in SECTIONS.items():
        entry = section.schema()
        if section.key:
            if not entry.get("required"):
                entry = {"anyOf": [entry, {"type": "null"}]}
            properties[name] = {"type": "object", "additionalProperties": entry}
        else:
            properties[name] = {"type": "array", "items": entry}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": "urn:enthesis:estate",
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

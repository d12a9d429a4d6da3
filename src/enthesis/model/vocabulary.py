"""The words that every part shares: steps, forms of callers, what each kind of issuer signs, and statement sections."""

from dataclasses import dataclass
from enum import StrEnum


class VerdictStep(StrEnum):
    """A step of a verdict."""

    NAMES = "names"
    PROVIDER = "provider"
    CEILINGS = "ceilings"
    TARGET_SIDE = "target-side"
    CALLER_SIDE = "caller-side"
    COMPANIONS = "companions"
    SESSION = "session"


STEPS = tuple(VerdictStep)
"""The steps of a verdict, in the order in which they are looked at."""


class Outcome(StrEnum):
    """What came of one step of one request."""

    ALLOWED = "allowed"
    REFUSED = "refused"
    NOT_NEEDED = "not needed"
    UNKNOWN = "unknown"
    THEIRS = "theirs"


class Ending(StrEnum):
    """What came of a whole request, chain, journey or trial, judged or tried. Neither of the last two meets an
    expectation."""

    ALLOWED = "allowed"
    REFUSED = "refused"
    UNDECIDED = "not decided"
    WAITING = "waiting"


EARNED = {
    **dict.fromkeys(VerdictStep, frozenset({Outcome.ALLOWED, Outcome.NOT_NEEDED})),
    VerdictStep.NAMES: frozenset({Outcome.ALLOWED}),
    VerdictStep.TARGET_SIDE: frozenset({Outcome.ALLOWED}),
    VerdictStep.CALLER_SIDE: frozenset({Outcome.ALLOWED, Outcome.NOT_NEEDED, Outcome.THEIRS}),
}
"""The outcomes of each step with which a request can be allowed."""


class Holding(StrEnum):
    """What came of an invariant."""

    HOLDS = "holds"
    ACCEPTED = "accepted"  # broken by none but callers who are accepted for a while
    BROKEN = "broken"
    UNDECIDED = "not decided"


class Severity(StrEnum):
    """How grave a finding is, the least first."""

    LOW = "low"
    MEDIUM = "medium"
    HIGH = "high"


class VerbClass(StrEnum):
    """What a verb does to what it is done to. A `*` in a role is every verb but those of class *power*."""

    LOOK = "look"
    READ = "read"
    WRITE = "write"
    RUN = "run"
    MANAGE = "manage"
    POWER = "power"


class Form(StrEnum):
    """What a journey starts with, or whom a trust admits: the word that an estate has for it."""

    TOKEN = "token"  # noqa: S105  a word
    ASSERTION = "assertion"
    CERTIFICATE = "certificate"
    HOST = "host"
    WORKLOAD = "workload"
    PERSON = "person"
    CREDENTIAL = "credential"
    IDENTITY = "identity"
    GROUP = "group"
    ACCOUNT = "account"
    ATTACHED = "attached"
    PIPELINE_ACCESS = "pipeline_access"  # where a chain starts, though no journey does


SHOWN_IN = {Form.TOKEN: "claims", Form.ASSERTION: "attributes", Form.CERTIFICATE: "subject"}
"""The forms of statements by an issuer, with the field of an estate that says what one holds."""
BEARERS = tuple(SHOWN_IN)
RUNNING = (Form.HOST, Form.WORKLOAD)
"""The forms of origins that are resources."""
ORIGIN_FORMS = (*BEARERS, *RUNNING, Form.PERSON, Form.CREDENTIAL, Form.IDENTITY)
"""What a journey can start with."""
ADMITTED_FORMS = (*BEARERS, Form.IDENTITY, Form.GROUP, Form.ACCOUNT, Form.ATTACHED, Form.PERSON)
"""What a trust can admit."""

FORM_OF_ISSUER = {
    "oidc": Form.TOKEN, "saml": Form.ASSERTION, "x509": Form.CERTIFICATE, "ssh": Form.CERTIFICATE
}  # fmt: skip
"""The kinds of issuers, with the form of what each signs."""

NAMES_IN = ("resource", "audience", "scope")
"""The parameters of a token request that can name what is wanted (RFC 8693, section 2.1; RFC 8707)."""
CLIENT_SHOWN = ("none", "basic", "body", "assertion")
"""How a client shows itself: not at all, by its secret in a header or in the body, by a signed assertion."""
TOKEN_TYPES = ("jwt", "id-token", "access-token")
"""Types of tokens (RFC 8693, section 3)."""


@dataclass(frozen=True, slots=True)
class NeededRight:
    """The permission that a change of a statement needs: a verb at what a field names, '' for the holder of the
    statement. `at_boundary` is the verb where an organisation or unit holds it, if that is another one."""

    verb: str
    field: str = ""
    at_boundary: str = ""


@dataclass(frozen=True, slots=True)
class StatementSection:
    """What every part needs to know of a section whose entries are statements that live systems hold.

    `one` is what one entry is called. `known_by` are the fields that make a statement the same one while the rest of it
    changes, unless it has a name. `naming` are the fields that name identities, groups and roles (of a trust also those
    of `admits`), `placed` those whose addresses say which places an entry is about, the first where it counts. Those in
    `one_or_more` may be written as one value or as a list. `opens`: one more can give access; `limits`: one less can.
    `at_issuers`: issuers keep them, not providers. A change needs `right`; making one `making`, where that is another.
    """

    one: str
    known_by: tuple[str, ...]
    right: NeededRight
    making: NeededRight | None = None
    naming: tuple[str, ...] = ()
    placed: tuple[str, ...] = ()
    one_or_more: tuple[str, ...] = ()
    opens: bool = False
    limits: bool = False
    at_issuers: bool = False


STATEMENT_SECTIONS = {
    "identities": StatementSection(
        "identity", ("address",), NeededRight("configure", "address"), NeededRight("create")
    ),
    "groups": StatementSection(
        "group",
        ("address",),
        NeededRight("change-members", "address"),
        NeededRight("create", at_boundary="configure"),
        naming=("members",),
    ),
    "roles": StatementSection(
        "role", ("name",), NeededRight("change-role", at_boundary="change-access"), naming=("includes",)
    ),
    "trusts": StatementSection(
        "trust",
        ("of", "admits"),
        NeededRight("change-trust", "of"),
        naming=("of", "identity", "group", "person"),
        placed=("of", "admits"),
        opens=True,
    ),
    "grants": StatementSection(
        "grant",
        ("to", "role", "at"),
        NeededRight("change-access", "at"),
        naming=("to", "role", "at"),
        placed=("at", "to"),
        opens=True,
    ),
    "ceilings": StatementSection(
        "ceiling",
        ("name",),
        NeededRight("change-ceiling"),
        naming=("at",),
        placed=("at",),
        one_or_more=("except",),
        limits=True,
    ),
    "attachments": StatementSection(
        "attachment",
        ("what",),
        NeededRight("attach", "runs_as"),
        naming=("runs_as",),
        placed=("what", "runs_as"),
        one_or_more=("runs_as",),
        opens=True,
    ),
    "pipeline_access": StatementSection(
        "pipeline access",
        ("name",),
        NeededRight("change-access"),
        naming=("of",),
        placed=("of",),
        opens=True,
        at_issuers=True,
    ),
}
STATEMENTS = tuple(STATEMENT_SECTIONS)
"""The sections whose entries are statements that live systems hold."""
OF_PROVIDERS = tuple(name for name, section in STATEMENT_SECTIONS.items() if not section.at_issuers)
"""Those that providers and clusters hold."""
MAKING_ORDER = tuple(sorted(STATEMENTS, key=lambda name: not STATEMENT_SECTIONS[name].limits))
"""Statements in the order in which they are made: what limits first, what is named before what names it."""
REMOVING_ORDER = MAKING_ORDER[::-1]
"""The order in which they are removed: what opens first, limits last."""
RETIRING = ("planned", "keyless", "proved", "idle", "disabled", "deleted")
"""The stages of a keyed credential on its way to keyless, in their order."""
ENDING = ("credential", "certificate", "grant", "trust", "exception", "acceptance", "handoff")
"""What ends, or is to be looked at again at a time. A `certificate` is a credential of that form."""


NOT_OF_PEOPLE = ("run-as", "attach")
"""The verbs on an identity that no person can be the target of: nothing runs as a person."""


OF_MEMBERS_TO_COME = ("run-as", "attach", "issue")
"""The verbs on an identity that a member to come can be the target of."""


def origin_form(kind: str, *, person: bool) -> Form:
    """What a journey says that starts at a thing of this kind; of identities it matters whether it is a `person`."""
    if kind == "identity":
        return Form.PERSON if person else Form.IDENTITY
    return Form.WORKLOAD if kind == "workload" else Form.HOST


def issuer_kinds(form: Form) -> tuple[str, ...]:
    """The kinds of issuers that sign statements of a form."""
    return tuple(kind for kind, signs in FORM_OF_ISSUER.items() if signs == form)

"""The words that every part shares: steps, forms of callers, what each kind of issuer signs, and statement sections."""

STEPS = ("names", "provider", "ceilings", "target-side", "caller-side", "companions", "session")
"""The steps of a verdict, in the order in which they are looked at."""

SHOWN_IN = {"token": "claims", "assertion": "attributes", "certificate": "subject"}
"""The forms of statements by an issuer, with the field of an estate that says what one holds."""
BEARERS = tuple(SHOWN_IN)
RUNNING = ("host", "workload")
"""The forms of origins that are resources."""
ORIGIN_FORMS = (*BEARERS, *RUNNING, "person", "credential", "identity")
"""What a journey can start with."""
ADMITTED_FORMS = (*BEARERS, "identity", "group", "account", "attached", "person")
"""What a trust can admit."""

FORM_OF_ISSUER = {"oidc": "token", "saml": "assertion", "x509": "certificate", "ssh": "certificate"}
"""The kinds of issuers, with the form of what each signs."""

NAMES_IN = ("resource", "audience", "scope")
"""The parameters of a token request that can name what is wanted (RFC 8693, section 2.1; RFC 8707)."""
CLIENT_SHOWN = ("none", "basic", "body", "assertion")
"""How a client shows itself: not at all, by its secret in a header or in the body, by a signed assertion."""
TOKEN_TYPES = ("jwt", "id-token", "access-token")
"""Types of tokens (RFC 8693, section 3)."""

STATEMENTS = ("identities", "groups", "roles", "trusts", "grants", "ceilings", "attachments")
"""The sections whose entries are statements that providers hold."""
MAKING_ORDER = ("ceilings", "identities", "groups", "roles", "trusts", "grants", "attachments")
"""Statements in the order in which they are made: what limits first, what is named before what names it."""
REMOVING_ORDER = ("attachments", "grants", "trusts", "groups", "roles", "identities", "ceilings")
"""The order in which they are removed: what opens first, limits last."""
RETIRING = ("planned", "keyless", "proved", "idle", "disabled", "deleted")
"""The stages of a keyed credential on its way to keyless, in their order."""
ENDING = ("credential", "certificate", "grant", "trust", "acceptance", "handoff")
"""What ends, or is to be looked at again at a time. A `certificate` is a credential of that form."""


def issuer_kinds(form: str) -> tuple[str, ...]:
    """The kinds of issuers that sign statements of a form."""
    return tuple(kind for kind, signs in FORM_OF_ISSUER.items() if signs == form)

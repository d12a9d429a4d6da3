"""Statements in words: what each one is, and what it gives."""

from collections.abc import Mapping
from typing import Any

VERB_WORDS = {"use-key": "use the key", "take-on": "take on", "run-as": "run as"}
VOUCHES = {"token": "a token of", "assertion": "an assertion of", "certificate": "a certificate of"}


def verb_words(verb: str) -> str:
    """A verb as it is said in a sentence."""
    return VERB_WORDS.get(verb, verb)


def statement_sentence(collection: str, body: Mapping[str, Any]) -> str:
    """The statement in a few words, beginning with what it is."""
    if collection == "identities":
        return f"the {body['kind']} {body['address']}"
    if collection == "groups":
        return f"the group {body['address']}"
    if collection == "roles":
        return f"the role {body['name']}, which {role_words(body)}"
    if collection == "trusts":
        return f"the trust of {_named(body['of'])} in {admitted(body['admits'])}, for {body.get('session', '1h')}"
    if collection == "grants":
        return f"the grant of {body['role']} to {_named(body['to'])} at {body['at']}"
    if collection == "ceilings":
        return f"the ceiling {body['name']} over {body['over']} at {body['at']}, which {ceiling_words(body)}"
    if collection == "pipeline_access":
        tests = " and ".join(f"{name} {tested(test)}" for name, test in (body.get("admits") or {}).items())
        return f"the pipeline access {body['name']} at {body['at']} to {_named(body['of'])}, for runs with {tests}"
    return f"the attachment by which {_named(body['what'])} runs as {_list(body['runs_as'])}"


def role_words(body: Mapping[str, Any]) -> str:
    """What a role does: `allows read on object, and what reading allows`."""
    included = body.get("includes") or ()
    named = [included] if isinstance(included, str) else list(included)
    also = f"what {' and '.join(named)} {'allows' if len(named) == 1 else 'allow'}" if named else ""
    if not body.get("allows"):
        return f"allows {also}" if also else "allows nothing"
    return f"allows {permissions(body['allows'])}" + (f", and {also}" if also else "")


def ceiling_words(body: Mapping[str, Any]) -> str:
    """What a ceiling does: `bars delete on object`."""
    word, listed = ("bars", body["bars"]) if "bars" in body else ("leaves only", body["only"])
    return f"{word} {permissions(listed, power_included=True)}"


def admitted(admits: Mapping[str, Any]) -> str:
    """Whom a trust admits."""
    for form, words in VOUCHES.items():
        if form in admits:
            shown = admits.get("claims", admits.get("attributes", {"subject": admits.get("subject")}))
            tests = " and ".join(f"{name} {tested(test)}" for name, test in shown.items() if test is not None)
            return f"{words} {admits[form]}" + (f" with {tests}" if tests else " with any claims")
    ((form, whom),) = admits.items()
    return admitted_words(form, whom)


def admitted_words(form: str, whom: Any) -> str:
    """Whom a trust of a form admits, without what it asks of them. `whom` may be a pattern, as a mapping."""
    if form in VOUCHES:
        return f"{VOUCHES[form]} {whom}"
    if form == "account":
        return f"any identity that {whom} lets"
    if form == "attached":
        return "whatever runs as it" if whom is True else f"{_named(whom)} running as it"
    return f"anyone in {_named(whom)}" if form == "group" else _named(whom)


def tested(test: Any) -> str:
    """A test in words."""
    if isinstance(test, list):
        return "one of " + ", ".join(tested(one) for one in test)
    if isinstance(test, Mapping):
        words = {
            "glob": "like",
            "not": "not",
            "within": "within",
            "before": "before",
            "after": "from",
            "longer_than": "longer than",
            "same_as": "the same as",
        }
        parts = []
        for operator, operand in test.items():
            if operator == "present":
                parts.append("present" if operand else "absent")
            else:
                parts.append(f"{words.get(operator, operator)} {tested(operand)}")
        return " and ".join(parts)
    return "true" if test is True else "false" if test is False else str(test)


def permissions(listed: Mapping[str, Any], *, power_included: bool = False) -> str:
    """Kinds and verbs in words: `write and list on object`. In roles (`power_included` false) `*` leaves out the verbs
    that give or change access, and it is said."""
    parts = []
    for kind, verbs in listed.items():
        names = [verbs] if isinstance(verbs, str) else list(verbs)
        words = _list(names)
        if "*" in names:
            more = [name for name in names if name != "*"]
            words = "everything" if power_included else "everything but power verbs"
            words += f", and {_list(more)}" if more and not power_included else ""
        parts.append(f"{words} on {'every kind' if kind == '*' else kind}")
    return "; ".join(parts) or "nothing"


def _list(values: Any) -> str:
    names = [values] if isinstance(values, str) else [_named(value) for value in values]
    if not names:
        return "nothing"
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + " and " + names[-1]


def _named(value: Any) -> str:
    if isinstance(value, Mapping):
        return f"{value['gone']} (no longer exists)" if "gone" in value else f"what is like {value.get('glob')}"
    return str(value)


def shown(value: Any) -> str:
    """A value of a statement, in words."""
    if value is None:
        return "nothing"
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{name}: {shown(inner)}" for name, inner in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(shown(inner) for inner in value) + "]"
    return "true" if value is True else "false" if value is False else str(value)

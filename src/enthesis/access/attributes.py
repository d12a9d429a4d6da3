"""The attributes that conditions refer to, each looked up when a condition first asks for it."""

from collections.abc import Callable, Sequence
from datetime import timedelta

from enthesis.access.compiling import NONE, Compiled
from enthesis.access.questions import Question
from enthesis.conditions.sameness import names_in, with_known
from enthesis.conditions.truth import Value
from enthesis.conditions.values import EVERY_TYPE, Room, cells
from enthesis.model.addresses import account_of, parse, service_account_subject
from enthesis.model.conditions import Conditions, SameAs
from enthesis.model.errors import InvalidAddress
from enthesis.model.estate import Estate, Issuer
from enthesis.model.pointers import as_pointers, claim_at
from enthesis.model.vocabulary import BEARERS, Form

AUDIENCE = Room(frozenset(["text"]), absent=False)
NEVER_SHOWN = Room(frozenset(), absent=True)


def claim_room(issuer: Issuer, claim: str) -> Room:
    """Which values a claim of an issuer can have: one, or several where the issuer says `list`, and where it lists its
    claims no others; `aud` is always there, and always may be several."""
    if issuer.kind in ("x509", "ssh"):
        return Room(frozenset(["text"]), absent=False) if claim == "subject" else NEVER_SHOWN
    if claim == "aud":
        return Room(frozenset(["text"]), many=True, absent=False, typical=issuer.audiences)
    if claim == "sub" and issuer.kind == "oidc":
        return Room(frozenset(["text"]), many=(issuer.claims or {}).get(claim) == "list", absent=False)
    if issuer.claims is not None and claim not in issuer.claims:
        return NEVER_SHOWN
    return Room(EVERY_TYPE, many=(issuer.claims or {}).get(claim) == "list")


def shown_in_journeys(estate: Estate, issuer: str) -> dict[str, tuple[Value, ...]]:
    """By claim, the values that the journeys of an estate show of an issuer: real ones, to be tried before others."""
    found: dict[str, dict[Value, None]] = {}
    for journey in estate.journeys.values():
        if journey.origin.form in BEARERS and journey.origin.whom == issuer:
            for name, value in as_pointers(journey.origin.shows).items():
                if not isinstance(value, dict):
                    found.setdefault(name, {})[value] = None
    return {name: tuple(values) for name, values in found.items()}


class RequestAttributes:
    """The attributes of one request. `caller` is '' for a bearer; `first`: it is the hop that shows a token; `beside`:
    the provider at which the request is made that this one goes with."""

    def __init__(
        self, compiled: Compiled, question: Question, caller: str, target: list[int], *, first: bool, age: timedelta,
        beside: str | None = None,
    ) -> None:  # fmt: skip
        self.compiled = compiled
        self.question = question
        self.caller = caller
        self.target = target
        self.first = first
        self.age = age
        self.beside = beside
        self._known: dict[str, Value] = {}

    def get(self, attribute: str) -> Value:
        """The value of an attribute; None where it is absent."""
        if attribute not in self._known:
            self._known[attribute] = self._look_up(attribute)
        return self._known[attribute]

    def claim(self, name: str) -> Value:
        """A claim, an assertion's attribute or a certificate's subject, as the bearer shows it."""
        return self.get(f"claims.{name}")

    def _look_up(self, attribute: str) -> Value:
        question = self.question
        family, dot, rest = attribute.partition(".")
        if attribute == "provider":
            return provider_at(self.compiled, self.caller, self.target, self.beside)
        if not dot:
            return {
                "time": question.time,
                "network": question.context.network,
                "reference": question.context.reference,
                "mfa": question.origin.mfa if question.origin.form == Form.PERSON else None,
            }.get(attribute)
        if family == "claims":
            shown = self.first and question.origin.form in BEARERS
            return claim_at(question.origin.shows, rest) if shown else None
        if family == "session":
            return self.age
        if family == "origin":
            return origin_fact(self.compiled, question, rest)
        if family == "caller":
            return caller_fact(self.compiled, self.caller, rest)
        return target_label(self.compiled, self.target, rest.partition(".")[2])


def caller_fact(compiled: Compiled, caller: str, name: str) -> Value:
    """`caller.*` of an address; None for a bearer."""
    if not caller:
        return None
    if name == "address":
        return caller
    if name == "account":
        return account_of(caller) or None
    number = compiled.find(caller)
    if name == "organisation":
        return organisation_at(compiled, caller)
    if name == "kind":
        known = compiled.identity_kind.get(number)
        return known or kind_name(compiled, caller)
    return compiled.tables.labels.get(caller, {}).get(name.partition(".")[2]) if number != NONE else None


def kind_name(compiled: Compiled, address: str) -> str | None:
    """The kind of thing at an address, declared or not."""
    try:
        return parse(address, compiled.catalogue).kind
    except InvalidAddress:
        return None


def organisation_at(compiled: Compiled, address: str) -> str | None:
    """The name of the organisation that an address belongs to."""
    chain = compiled.chain_of(address)
    top = compiled.places.organisation[chain[0]] if chain else NONE
    return compiled.places.names[top][1:] if top != NONE else None


def origin_fact(compiled: Compiled, question: Question, name: str) -> Value:
    """`origin.*`, carried down the whole chain; absent where a question starts at an identity."""
    origin = question.origin
    if origin.form == Form.IDENTITY:
        return None
    if name == "kind":
        return str(origin.form)  # a value that tests compare: nothing but a text equals a text
    if origin.form in BEARERS:
        return origin.whom if name == "issuer" else None
    address = origin.whom
    if origin.form == Form.CREDENTIAL:
        credential = compiled.estate.credentials.get(origin.whom)
        address = credential.of if credential else ""
    if name == "address":
        return address or None
    if name == "issuer":
        return vouching_for(compiled, origin.form, address)
    return organisation_at(compiled, address) if name == "organisation" and address else None


def vouching_for(compiled: Compiled, form: str, address: str) -> str | None:
    """Who vouches for a host (its provider) or a workload (its cluster's issuer)."""
    if form == "workload":
        return compiled.estate.issuer_of_workload(address)
    account = compiled.estate.accounts.get(account_of(address)) if form == "host" else None
    return account.provider if account is not None else None


def service_account_subjects(compiled: Compiled, workload: str) -> list[str]:
    """The subjects of the tokens that a workload can show: one for each service account that it runs as."""
    return list(map(service_account_subject, service_accounts_of(compiled, workload)))


def service_accounts_of(compiled: Compiled, workload: str) -> list[str]:
    """The service accounts that a workload runs as: those of its own namespace."""
    namespace = workload.split("/workload/", 1)[0]
    names = [compiled.places.names[number] for number in compiled.runs(workload)]
    return [name for name in names if name.startswith(f"{namespace}/identity/")]


def shown_by_workload(subject: str, audience: Value) -> dict[str, Value]:
    """What a workload's token of a service account shows, by the names of claims: it says the account twice."""
    _, _, namespace, name = subject.split(":", 3)
    return {
        "claims.sub": subject,
        "claims.aud": audience,
        "claims./kubernetes.io/namespace": namespace,
        "claims./kubernetes.io/serviceaccount/name": name,
    }


def audiences_for(conditions: Conditions, get: Callable[[str], Value]) -> list[Value]:
    """Audiences that a caller who may choose one would try: one from each cell that the tests of `aud` tell apart.
    `get` answers what the audience can be compared with."""
    tests = [with_known(test, get) for name, test in conditions if name in ("aud", "claims.aud")]
    tests += [with_known(SameAs(name), get) for name, test in conditions if "claims.aud" in names_in(test)]
    return list(cells(tests, AUDIENCE)) if tests else ["any"]


def provider_at(compiled: Compiled, caller: str, target: Sequence[int], beside: str | None = None) -> str | None:
    """The provider at which a request is made: the one of the target's account. For what is in no account the caller's,
    and the one `beside` which a person is to enter an organisation; None where a person asks for it directly."""
    accounts, own = compiled.estate.accounts, compiled.places.names[target[0]] if target else ""
    account = accounts.get(account_of(own)) or accounts.get(account_of(caller))
    return account.provider if account is not None else beside


def target_label(compiled: Compiled, target: Sequence[int], name: str) -> Value:
    """A label of a place, or of the nearest place above it that has it."""
    return next((found for place in target if (found := compiled.labels_at(place).get(name)) is not None), None)

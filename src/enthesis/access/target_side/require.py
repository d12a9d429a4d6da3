"""What it takes that the target's side lets a request of a chain in."""

from collections.abc import Iterator
from itertools import product

from enthesis.access.attributes import audiences_for, service_account_subjects, shown_by_workload
from enthesis.access.granting.require import grants
from enthesis.access.needed import Needed, together
from enthesis.access.requirements import Alternative, Requirement, any_of, holding
from enthesis.access.session.require import require as session
from enthesis.access.target_side.admission import Applicant, lacks
from enthesis.access.target_side.keys import foreign_to_key
from enthesis.conditions.truth import Value
from enthesis.model.conditions import Conditions
from enthesis.model.vocabulary import BEARERS, Form, VerdictStep


def require(needed: Needed) -> Requirement | None:
    """One of the grants that let it; for `take-on` see `trusts`."""
    goal = needed.goal
    if foreign_to_key(needed.compiled, needed.permission, needed.place, needed.node.address, goal.address):
        return None
    return any_of(grants(needed, VerdictStep.TARGET_SIDE))


def trusts(needed: Needed) -> tuple[list[Alternative | None], list[Alternative | None]]:
    """For each way in which a trust admits the caller what it takes: trusts in the caller alone, and trusts in a whole
    account, for which its account's side counts too."""
    compiled, node, goal = needed.compiled, needed.node, needed.goal
    alone: list[Alternative | None] = []
    whole: list[Alternative | None] = []
    if needed.place in needed.powers.identities and not node.bearer:
        alone.append(())
    applicant = Applicant(node.form, node.name, node.place, needed.principals()[1:], node.name)
    for number in compiled.trusts_of(needed.place):
        if not compiled.trust_in_force(number, needed.now):
            continue
        if next(lacks(compiled, number, applicant, needed.place, goal.address), None) is not None:
            continue
        account = compiled.tables.trust_form[number] == Form.ACCOUNT
        (whole if account else alone).extend(_admitting(needed, number))
    return alone, whole


def _admitting(needed: Needed, number: int) -> Iterator[Alternative | None]:
    """What it takes that a trust admits the caller, one way or another; a hop's session must live to the end."""
    compiled, tables, node = needed.compiled, needed.compiled.tables, needed.node
    ends = session(needed, number)
    shown, when = compiled.trust_shown(number), compiled.trust_when(number)
    form, whom = tables.trust_form[number], tables.trust_whom[number]
    if form in BEARERS and not node.bearer:
        named = tuple((f"claims.{name}", test) for name, test in shown)
        for claims in _service_account_claims(needed, (*shown, *when)):
            for way in _showing(needed, (*named, *when), claims):
                yield together([way], ends)
        return
    for join in needed.joining(compiled.find(str(whom))) if form == Form.GROUP else [()]:
        for claimed, held in product(needed.holding(shown, "claims."), needed.holding(when)):
            yield together((join, claimed, held), ends)


def _service_account_claims(needed: Needed, conditions: Conditions) -> Iterator[dict[str, Value]]:
    """What a workload's tokens of its service accounts can show, for whatever audience it asks."""
    for subject in service_account_subjects(needed.compiled, needed.node.name):
        for audience in audiences_for(conditions, needed.get):
            yield shown_by_workload(subject, audience)


def _showing(needed: Needed, conditions: Conditions, claims: dict[str, Value]) -> list[Alternative]:
    def get(name: str) -> Value:
        return claims.get(name) if name.startswith("claims.") else needed.get(name)

    return holding(conditions, get, needed.free, needed.otherwise)

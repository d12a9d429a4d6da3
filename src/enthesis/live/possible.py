"""What is known to be impossible without asking a live system: statements that none holds, journeys that none tries."""

from collections.abc import Iterator, Mapping
from typing import Any

from enthesis.model.addresses import is_pool
from enthesis.model.estate import Estate, Journey
from enthesis.model.sentences import statement_sentence
from enthesis.model.vocabulary import Form
from enthesis.proposals.holding import cloud_objection, directory_objection
from enthesis.proposals.proposing import never_held
from enthesis.trusts.risks import Risk

CANNOT_RUN_CODE = (Form.HOST, Form.WORKLOAD, Form.TOKEN, Form.ASSERTION)  # what has no session yet


def impossible(estate: Estate) -> list[Risk]:
    """The statements that no live side can hold, as risks: whatever the files say, nobody has that access."""
    out = []
    for our, why in never_held(estate, lambda name: _objection(estate, name)):
        sentence = statement_sentence(our.collection, our.body)
        names = (sentence, *(str(our.body[field]) for field in ("name", "to", "of", "at") if field in our.body))
        message = f"{sentence} is not possible: {why}"
        out.append(Risk("not-possible", message, our.source, names, "change it, or remove it"))
    return out


def _objection(estate: Estate, name: str) -> Any:
    """What a system as an estate describes it objects to, by its name: no connection is made."""
    if name in estate.providers:
        return lambda collection, body, allows: cloud_objection(name, collection, body)
    if name.startswith("@"):
        return lambda collection, body, allows: directory_objection(name, collection, body)
    if "/cluster/" in name:
        from enthesis.connectors.cluster.writing import objection as of_cluster  # noqa: PLC0415  only estates with one

        def of_this(collection: str, body: Mapping[str, Any], allows: Mapping[str, Any]) -> str:
            built_in = "/group/system:" in str(body.get("to", ""))  # found there and taken over, never made
            return "" if built_in else of_cluster(name, collection, body, allows)

        return of_this
    if "/database/" in name:
        from enthesis.connectors.postgresql.holding import KnownDatabase  # noqa: PLC0415
        from enthesis.connectors.postgresql.holding import objection as of_database  # noqa: PLC0415

        held = KnownDatabase(name, estate.name, estate.organisation_of(name))
        return lambda collection, body, allows: of_database(held, collection, body, allows)
    return None


def untriable(estate: Estate) -> Iterator[tuple[Journey, str]]:
    """The journeys that `prove` cannot try, whatever live side there is, each with why."""
    for journey in estate.journeys.values():
        why = _why_untriable(estate, journey)
        if why:
            yield journey, why


def _why_untriable(estate: Estate, journey: Journey) -> str:
    origin, first = journey.origin, journey.through[:1]
    pools = list(dict.fromkeys(filter(is_pool, (origin.whom, *(hop.on for hop in journey.through)))))
    if len(pools) > 1:
        return f"it is about each member of {' and of '.join(pools)} together"
    if first and first[0].on and origin.form in CANNOT_RUN_CODE:
        return f"a {origin.form} has no session with which it could run code on {first[0].on}"
    key = estate.credentials.get(origin.whom) if origin.form == Form.CREDENTIAL else None
    if key is not None and "/cluster/" in estate.system_of(key.of):
        return f"a cluster takes no keyed credential, and {key.of} is in one"
    if origin.form == Form.IDENTITY and estate.administered_by_others(origin.whom):
        return f"the administrators of {origin.whom} alone can call as it"
    said = [name.replace("_", " ") for name in ("time", "session_age") if name in journey.context.said]
    return f"it is about another {said[0]}, which cannot be tried now" if said else ""

"""What outlives a change: statements that name what no longer exists, and sessions that are already out."""

from collections.abc import Iterator, Sequence
from datetime import timedelta

from enthesis.model.estate import DEFAULT_SESSION
from enthesis.model.sentences import statement_sentence
from enthesis.proposals.steps import MAKE, Step
from enthesis.surveys.statements import Surveyed, listed, names_what_is_gone, remedy_of
from enthesis.text.times import duration_from, duration_text

USUAL = duration_text(DEFAULT_SESSION)


def dangling(surveys: Sequence[Surveyed], but_of: str | None = None) -> tuple[str, ...]:
    """Statements that name an identity, group or role that no longer exists, each with what to do about it.

    Ids are never used again, so a new identity of the same name inherits nothing of them. `but_of`: not those that
    this estate made, since they are taken away.
    """
    every = (statement for surveyed in surveys for statement in surveyed.objects)
    found = (
        statement
        for statement in every
        if names_what_is_gone(statement.body) and (but_of is None or statement.mark != but_of)
    )
    return tuple(
        f"{statement_sentence(statement.collection, statement.body)} ({statement.holder}); {remedy_of(statement)}"
        for statement in found
    )


def living_on(steps: Sequence[Step], surveys: Sequence[Surveyed]) -> Iterator[tuple[str, str]]:
    """Identities that a person cannot take on any more after these steps, and how long a session as each may live on.

    A session lasts to its end though the trust that gave it has gone; what it may do is judged anew each time.
    """
    sessions: dict[str, str] = {}
    for surveyed in surveys:
        for statement in surveyed.objects:
            if statement.collection == "trusts" and isinstance(statement.body.get("of"), str):
                of = statement.body["of"]
                sessions[of] = max(sessions.get(of, ""), str(statement.body.get("session", USUAL)), key=_length)
    told: dict[str, str] = {}
    for step in steps:
        if step.action == MAKE or step.before is None:
            continue
        if step.collection == "trusts" and isinstance(step.before.get("of"), str) and not _only_longer(step):
            told[step.before["of"]] = str(step.before.get("session", USUAL))
        elif step.collection == "attachments":
            before, after = listed(step.before.get("runs_as")), listed((step.body or {}).get("runs_as"))
            told |= {name: sessions[name] for name in before if name not in after and name in sessions}
    removed = {str((step.before or {}).get("address")) for step in steps if step.body is None}
    # what no longer exists can do nothing at once
    yield from ((name, life) for name, life in told.items() if name not in removed)


def _only_longer(step: Step) -> bool:
    """Whether a change of a trust lets sessions live longer and does nothing else."""
    before, after = dict(step.before or {}), dict(step.body or {})
    was, is_now = str(before.pop("session", USUAL)), str(after.pop("session", USUAL))
    return before == after and _length(is_now) >= _length(was)


def _length(text: str) -> timedelta:
    return duration_from(text) or timedelta(0)

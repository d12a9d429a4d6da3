"""What a cut-off withdraws, what is to be known about it, what was seen afterwards; and the sessions that are open."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from enthesis.cleaning.cutoff import Cut, OtherEnd, Withdrawn
from enthesis.output.differences import difference_json, difference_lines
from enthesis.output.lines import Line, Span, counted, line
from enthesis.output.proposals import danger_lines, kept_where
from enthesis.proposals.credentials import OpenSession
from enthesis.proposals.steps import CREDENTIALS, SESSIONS
from enthesis.text.times import duration_text, time_text

if TYPE_CHECKING:
    from enthesis.change.cutoff import Checked, Planned

FORMS = {
    "identity": "the identity", "person": "the person", "resource": "the resource", "credential": "the credential",
    "session": "the session",
}  # fmt: skip
VERBS = {CREDENTIALS: "revoke", SESSIONS: "end"}


def target_words(target: Withdrawn) -> str:
    """Who or what is withdrawn, in words."""
    return f"{FORMS[target.form]} {target.name}"


def plan_lines(plan: "Planned", *, quiet: bool) -> Iterator[Line]:
    """What will be withdrawn, in its order; then what it takes, who depends on it, and what may have been copied."""
    cut = plan.cut
    if cut.steps:
        yield line(Span(f"To cut off {target_words(cut.target)}: {counted(len(cut.steps), 'step')}.", "strong"))
    elif cut.open:
        own = f"{target_words(cut.target)}"
        yield line(Span(f"Not shut: nothing is {own}'s alone, and it still opens something.", "bad"))
    else:
        yield line(Span(f"Nothing of {target_words(cut.target)} is on the live side.", "strong"))
    for step in cut.steps:
        verb = VERBS.get(step.collection, "remove" if step.body is None else "change")
        where = f"  {step.holder}{kept_where(step.provider, step.holder)}"
        yield line(f"  {verb.ljust(7)}", step.sentence, Span(where, "quiet"))
    if cut.edits:
        changes = counted(len(cut.edits), "change")
        yield line(f"  write  {changes} into the estate's files, so that the next proposal does not restore it")
    if plan.by_hand:
        yield line(Span("  the files have to be changed by hand: ", "doubt"), plan.by_hand)
    yield from known_lines(cut)
    yield from danger_lines(plan.dangers)
    if quiet:
        return
    yield line()
    yield from difference_lines(plan.change)


def known_lines(cut: Cut) -> Iterator[Line]:
    """What is to be known about a cut-off."""
    if cut.foreign:
        yield from _listed("stays, since others made it (--also-others removes it)", cut.foreign, "bad")
    if cut.open:
        yield from _listed("not shut by this", cut.open, "bad")
    if cut.lives_on:
        yield from _listed("lives on", [f"{what}, {until}" for what, until in cut.lives_on], "doubt")
    failing = [end for end in cut.ends if not end.met]
    if failing:
        yield from _listed("journeys that fail from now on", map(_end_words, failing), "doubt")
    as_expected = [end for end in cut.ends if end.met]
    if as_expected:
        yield from _listed("journeys that end differently, and still as expected", map(_end_words, as_expected), "")
    if cut.runs:
        title = "it runs as" if cut.target.form == "resource" else "runs as it"
        yield from _listed(title, cut.runs, "doubt")
    if cut.about and (cut.steps or cut.edits):
        told = [f"{one.what}  {one.source}{'' if one.edit is not None else '  (by hand)'}" for one in cut.about]
        yield from _listed("what the files say about it (--forget takes it out)", told, "")
    if cut.copied:
        yield from _listed(
            "may have been copied", [f"{copied.what}: {copied.why}; {copied.fix}" for copied in cut.copied], "doubt"
        )


def _end_words(end: OtherEnd) -> str:
    return f"{end.journey}: {end.before} before, {end.after} then"


def _listed(title: str, said: Iterable[str], style: str) -> Iterator[Line]:
    yield line()
    yield line(Span(title, style))
    for name in said:
        yield line(f"  {name}")


def plan_json(plan: "Planned") -> dict[str, Any]:
    """The same for a program."""
    cut = plan.cut
    return {
        "target": {"form": cut.target.form, "name": cut.target.name},
        "steps": [
            {
                "does": VERBS.get(step.collection, step.action),
                "what": step.sentence,
                "at": step.provider,
                "holder": step.holder,
            }
            for step in cut.steps
        ],
        "files": sorted(name for name in plan.after if plan.after[name] != plan.before[name]),
        "by_hand": plan.by_hand or None,
        "stays": list(cut.foreign),
        "lives_on": [{"what": what, "until": until} for what, until in cut.lives_on],
        "not_shut": list(cut.open),
        "journeys_that_fail": [end.journey for end in cut.ends if not end.met],
        "journeys": [
            {"journey": end.journey, "before": end.before, "after": end.after, "met": end.met} for end in cut.ends
        ],
        "about": [{"what": one.what, "source": str(one.source), "by_hand": one.edit is None} for one in cut.about],
        "runs": list(cut.runs),
        "may_have_been_copied": [{"what": copied.what, "why": copied.why, "fix": copied.fix} for copied in cut.copied],
        "dangers": [{"name": danger.name, "says": list(danger.says)} for danger in plan.dangers],
        "access": difference_json(plan.change),
    }


def check_sentence(target: Withdrawn, found: "Checked") -> str:
    """Whether anything still opens, in a sentence."""
    if found.got_in:
        return f"Not shut: {counted(len(found.got_in), 'attempt')} of {target_words(target)} still succeeded."
    if found.opens:
        return f"Not shut: {target_words(target)} still has {counted(len(found.opens), 'permission')}."
    if found.session:
        words = target_words(target)
        return f"{words[0].upper()}{words[1:]} is {'still open' if found.kept else 'over'}."
    tried = f"; {counted(len(found.tried), 'attempt')} made live, all refused" if found.tried else ""
    if not found.shut:
        return f"Not known: {target_words(target)} reaches nothing, but not every attempt could be made."
    return f"Shut: {target_words(target)} reaches nothing{tried}."


def check_lines(target: Withdrawn, found: "Checked") -> Iterator[Line]:
    """What still opens after a withdrawal."""
    yield line(Span(check_sentence(target, found), "good" if found.shut else "bad"))
    for said in found.opens:
        yield line("  may still  ", said)
    if found.kept and not found.opens:
        yield line(
            Span(
                f"  {counted(len(found.kept), 'key or session', 'keys and sessions')} there, which open nothing",
                "quiet",
            )
        )
    for proof in found.tried:
        yield line(f"  {proof.outcome.ljust(11)}  {proof.journey}")


def check_json(target: Withdrawn, found: "Checked") -> dict[str, Any]:
    """What still opens after a withdrawal, for a program."""
    return {
        "target": {"form": target.form, "name": target.name},
        "shut": found.shut,
        "says": check_sentence(target, found),
        "opens": list(found.opens),
        "kept": list(found.kept),
        "tried": [{"journey": proof.journey, "outcome": proof.outcome} for proof in found.tried],
    }


def session_lines(found: Sequence[OpenSession], now: datetime) -> Iterator[Line]:
    """The open sessions, those that end last first."""
    yield line(Span(f"{counted(len(found), 'session')} open.", "strong"))
    for session in found:
        via = f" through {' and '.join(session.via)}" if session.via else ""
        left = duration_text(max(session.ends - now, now - now))
        yield line(
            f"  {session.id[:8]}  {session.of} at {session.at}, from {session.began_as}{via}",
            Span(f"  began {session.began:%Y-%m-%d %H:%M:%SZ}, {left} left", "quiet"),
        )


def session_json(session: OpenSession) -> dict[str, Any]:
    """An open session, for a program."""
    return {
        "id": session.id, "at": session.at, "of": session.of, "origin": dict(session.origin), "via": list(session.via),
        "began": time_text(session.began), "ends": time_text(session.ends),
    }  # fmt: skip

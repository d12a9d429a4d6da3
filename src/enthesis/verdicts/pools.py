"""Questions that name a pool: each is about its members, those declared and one to come; the pool itself never asks."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from itertools import islice, product

from enthesis.access.answers import Verdict
from enthesis.access.compared import conditions_in, tests_of
from enthesis.access.compiling import Compiled
from enthesis.access.future_members import ANY, members_to_come
from enthesis.access.questions import Question
from enthesis.conditions.sameness import names_in
from enthesis.conditions.values import TEXT_ROOM, cells
from enthesis.model.addresses import is_pool, pool_of
from enthesis.model.conditions import Test
from enthesis.model.errors import Undecided
from enthesis.model.estate import Hop
from enthesis.model.vocabulary import Ending, Form
from enthesis.verdicts.judge import Judge

MAX_MEMBERS = 5_000  # combinations of members that one question is asked for
MAX_LIKE = 500  # members to come, by what they may be called and labelled, that are tried
LABELS = ("caller.labels.", "target.labels.")


@dataclass(frozen=True, slots=True)
class MemberAnswer:
    """What is answered for some member of each pool that a question names. `to_come`: one of them is not declared."""

    members: tuple[str, ...]
    to_come: bool
    verdict: Verdict

    @property
    def whom(self) -> str:
        """The members in words."""
        return " and ".join(f"a member to come of {pool_of(one)}" if _is_any(one) else one for one in self.members)


def pools_of(compiled: Compiled, question: Question) -> tuple[str, ...]:
    """The declared pools that a question names as who asks, each once; any other is a name that does not exist."""
    named = [hop.on for hop in question.through if is_pool(hop.on)]
    if question.origin.form == Form.HOST and is_pool(question.origin.whom):
        named.insert(0, question.origin.whom)
    return tuple(pool for pool in dict.fromkeys(named) if compiled.exists(pool))


def answers_for_members(compiled: Compiled, question: Question) -> list[MemberAnswer]:
    """The answer for each member, those to come last. Raises Undecided where there are too many."""
    pools = pools_of(compiled, question)
    choices = [[*_declared(compiled, pool), f"{pool}/host/{ANY}"] for pool in pools]
    judge = Judge(compiled)
    out = []
    for number, members in enumerate(product(*choices)):
        if number >= MAX_MEMBERS:
            raise Undecided(f"more than {MAX_MEMBERS} members of {' and '.join(pools)}")
        asked = for_members(question, dict(zip(pools, members, strict=True)))
        out.append(MemberAnswer(members, any(map(_is_any, members)), judge.judge(asked)))
    return sorted(out, key=lambda answer: answer.to_come)


def for_members(question: Question, members: Mapping[str, str]) -> Question:
    """The same question about one member of each pool."""
    origin = replace(question.origin, whom=members.get(question.origin.whom, question.origin.whom))
    return replace(question, origin=origin, through=tuple(_hop(hop, members) for hop in question.through))


def some_member_let_in(compiled: Compiled, question: Question) -> str:
    """A member to come that would be allowed, by a name or labels of its own, in words; '' where there is none.

    A name is chosen for each set of patterns that one can fit, a label for each set of tests. Raises Undecided.
    """
    pools = pools_of(compiled, question)
    coming = members_to_come(compiled.tables)
    if coming.missed:
        raise Undecided(coming.missed)
    names = [[host for host in coming.hosts if pool_of(host) == pool] for pool in pools]
    tests = _label_tests(compiled)
    values = [(None, *cells(list(found), TEXT_ROOM)) for found in tests.values()]
    tables = compiled.tables.with_more({}, {}, [one for of_pool in names for one in of_pool])
    with_them = Compiled(replace(tables, labels=dict(tables.labels)), compiled.mentioned)
    judge = Judge(with_them)
    tried = product(product(*names), product(*values))
    for number, (members, labelled) in enumerate(islice(tried, MAX_LIKE + 1)):
        if number == MAX_LIKE:
            raise Undecided(f"more than {MAX_LIKE} ways to name and label a member")
        labels = {label: str(one) for label, one in zip(tests, labelled, strict=True) if one is not None}
        for member in members:
            with_them.tables.labels[member] = labels
        if judge.judge(for_members(question, dict(zip(pools, members, strict=True)))).allowed:
            said = ", ".join(f"{name} {value}" for name, value in labels.items())
            shown = " and ".join(members)
            return f"{shown}{f' with the labels {said}' if said else ''}"
    return ""


def answer_of_pool(compiled: Compiled, question: Question) -> tuple[Verdict, list[MemberAnswer]]:
    """The verdict on a question, and where it names a pool the answer for each member: the verdict is then that of the
    first who is not allowed. Raises Undecided where there are too many members."""
    if not pools_of(compiled, question):
        return Judge(compiled).judge(question), []
    answers = answers_for_members(compiled, question)
    return next((one for one in answers if not one.verdict.allowed), answers[0]).verdict, answers


def ending_of(answers: list[MemberAnswer]) -> Ending:
    """Allowed or refused where each member is, else not decided: they differ."""
    endings = {answer.verdict.ending for answer in answers}
    return endings.pop() if len(endings) == 1 else Ending.UNDECIDED


def _hop(hop: Hop, members: Mapping[str, str]) -> Hop:
    return replace(hop, member=members[hop.on]) if hop.on in members else hop


def _declared(compiled: Compiled, pool: str) -> Iterator[str]:
    return (address for address in compiled.tables.resources if pool_of(address) == pool)


def _is_any(address: str) -> bool:
    return address.endswith(f"/{ANY}")


def _label_tests(compiled: Compiled) -> dict[str, dict[Test, None]]:
    """By label, the tests that any statement has of a caller's or a target's."""
    tables = compiled.tables
    named = {
        name for when in conditions_in(tables) for attribute, test in when for name in (attribute, *names_in(test))
    }
    found: dict[str, dict[Test, None]] = {}
    for attribute in sorted(named):
        if attribute.startswith(LABELS):
            tests = found.setdefault(attribute.partition(".labels.")[2], {})
            tests |= dict.fromkeys(tests_of(tables, attribute))
    return found

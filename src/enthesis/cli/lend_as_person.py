"""`enthesis lend @PERSON --like IDENTITY`: a program works as a person, and its requests are judged as a workload's."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime

from enthesis.access.questions import Question
from enthesis.live.credential_endpoint import Lent, run_with
from enthesis.live.gateway import Asked, Gateway, Here, Judged, PassedRequest, told
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Attempt, Context, Estate, Hop, Origin
from enthesis.model.vocabulary import Form
from enthesis.output.lines import Line, Span, line
from enthesis.output.streams import put_lines
from enthesis.output.verdicts import first_sentence
from enthesis.ports import PassesOn
from enthesis.verdicts.expectations import rests_on
from enthesis.verdicts.judge import Judge

MOST = 20  # requests that are told


@dataclass(frozen=True)
class Likeness:
    """As which workload requests are judged, what surrounds it where it runs, and whether it bounds them."""

    workload: str
    context: Context
    bounded: bool


def judged_as(estate: Estate, judge: Judge, like: Likeness, now: Callable[[], datetime]) -> Judged:
    """Why the workload would be refused, as the estate says."""

    def why(hops: Sequence[str], asked: Asked) -> str:
        attempt, more = (asked, ()) if isinstance(asked, Attempt) else (None, (asked,))
        through = tuple(map(Hop, (*hops, *more)))
        verdict = judge.judge(Question(Origin(Form.IDENTITY, like.workload), through, attempt, like.context, now()))
        if verdict.allowed:
            return ""
        forgotten = rests_on(judge.compiled, verdict)
        return first_sentence(estate, verdict) + (f" ({forgotten} here: say --network)" if forgotten else "")

    return why


def run_like(command: list[str], lent: Lent, provider: object, judged: Judged, like: Likeness) -> int:
    """Runs a program behind a gateway, and says what would be refused to the workload; the program's exit code, or 1
    where that is 0 and something would be."""
    if not isinstance(provider, PassesOn):
        raise InvalidInput(
            f"{like.workload} is not at a provider whose requests can be read", code="options-conflict",
            remedy="leave out --like",
        )  # fmt: skip
    gateway = Gateway(provider, lent.credential.secret, judged, bounded=like.bounded)
    with gateway.open():
        code = run_with(command, lent, gateway.word, gateway.url)
    put_lines(_told_lines(gateway.seen, like, provider.name), to_error=True)
    return code or int(any(told(gateway.seen)[what] for what in ("fails", "unknown")))


def _told_lines(seen: Sequence[PassedRequest], like: Likeness, provider: str) -> Iterator[Line]:
    if not seen:
        yield line(f"Nothing was judged: the program asked nothing of {provider} through ENTHESIS_PROVIDER_URL.")
        return
    found = told(seen)
    fails, unknown, more = found["fails"], found["unknown"], found["more"]
    count = len(dict.fromkeys(one.what for one in seen))
    things = f"{count} thing{'s' if count != 1 else ''}"
    if fails:
        yield line(
            Span(f"As {like.workload} {len(fails)} of {things} that the program asked for would be refused.", "bad")
        )
    elif unknown:
        yield line(
            Span(f"As {like.workload} what was judged would be let through, and not all could be judged.", "bad")
        )
    else:
        yield line(Span(f"As {like.workload} all of it would be let through: {things}.", "good"))
    for one in fails[:MOST]:
        here = {Here.STOPPED: "stopped here", Here.REFUSED: "refused here too"}.get(one.here, "done here")
        yield line(f"  {one.what} ({here}): {one.why}")
    for one in unknown[:MOST]:
        yield line(f"  {one.what}: not judged{', and stopped here' if one.here is Here.STOPPED else ''}")
    for one in more[:MOST]:
        yield line(f"  {one.what}: refused to the person here, and the workload may")
    left = sum(max(0, len(those) - MOST) for those in (fails, unknown, more))
    if left:
        yield line(f"  and {left} more")

"""Access gained and lost, in sentences, as JSON, and as Markdown for a review."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from enthesis.chains.differences import Difference, Gain
from enthesis.chains.sentences import caller_words, gain_sentences, way_words, with_values
from enthesis.conditions.truth import Value
from enthesis.model.sentences import verb_words
from enthesis.output.lines import Line, Span, counted, line, markdown_text
from enthesis.output.reach import conditions_json

MOST = 40  # sentences of each kind in text and Markdown; JSON has them all


def _with_json(values: Mapping[str, Value]) -> dict[str, Any]:
    said = conditions_json(values)
    return {"with": said["conditions"], **({"before_keys": said["before_keys"]} if "before_keys" in said else {})}


def difference_lines(found: Difference) -> Iterator[Line]:
    """What is gained and lost; the sentence first."""
    if found.undecided:
        said = f"Not decided: {counted(found.undecided, 'comparison')}, because of {found.why}."
        yield line(Span(said, "doubt"))
    yield line(Span(first_sentence(found), "strong"))
    for head, style, gains in (("access gained", "doubt", found.gains), ("access lost", "quiet", found.losses)):
        sentences = gain_sentences(gains)
        if sentences:
            yield line(Span(head, style))
        yield from (line("  ", sentence) for sentence in sentences[:MOST])
        if len(sentences) > MOST:
            yield line(Span(f"  … and {len(sentences) - MOST} more: --format json has them all", "quiet"))


def first_sentence(found: Difference) -> str:
    """The answer in a sentence."""
    gaining, losing = ({caller_words(gain) for gain in side} for side in (found.gains, found.losses))
    if not gaining and not losing:
        return "No other caller gains or loses access." if found.undecided else "No caller gains or loses access."
    parts = []
    if gaining:
        parts.append(f"{counted(len(gaining), 'caller')} {'gains' if len(gaining) == 1 else 'gain'} access")
    if losing:
        parts.append(f"{counted(len(losing), 'caller')} {'loses' if len(losing) == 1 else 'lose'} access")
    return " and ".join(parts) + "."


def barred_lines(gains: Sequence[Gain]) -> Iterable[Line]:
    """The gains that a review bars, a line for each."""
    yield from (line(Span("barred: ", "bad"), sentence) for sentence in gain_sentences(gains))


def gain_json(gain: Gain) -> dict[str, Any]:
    """One difference for a program."""
    return {
        "caller": gain.caller,
        "form": gain.form,
        "verb": gain.verb,
        "target": gain.target,
        **_with_json(gain.values),
        "chain": [{"caller": caller, "verb": verb, "target": target} for caller, verb, target in gain.chain],
    }


def difference_json(found: Difference) -> dict[str, Any]:
    """All of it for a program."""
    return {
        "says": first_sentence(found),
        "gained": [gain_json(gain) for gain in found.gains],
        "lost": [gain_json(gain) for gain in found.losses],
        "undecided": found.undecided,
        "why": found.why,
    }


def difference_markdown(found: Difference) -> Iterable[str]:
    """For a review: a heading, then a table for each side."""
    yield f"**{first_sentence(found)}**"
    for head, gains in (("Access gained", found.gains), ("Access lost", found.losses)):
        if not gains:
            continue
        yield ""
        yield f"### {head}"
        yield ""
        yield "| who | may | where | through | with |"
        yield "|---|---|---|---|---|"
        for gain in gains[:MOST]:
            cells = (
                caller_words(gain), verb_words(gain.verb), gain.target,
                way_words(gain).removeprefix(", through: "), with_values(gain).removeprefix(", with "),
            )  # fmt: skip
            yield "| " + " | ".join(markdown_text(cell) for cell in cells) + " |"
        if len(gains) > MOST:
            yield ""
            yield f"… and {len(gains) - MOST} more."

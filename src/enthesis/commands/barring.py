"""`--fail-on-gain`: gains of access that a review bars."""

from typing import TYPE_CHECKING

from enthesis.commands.common import perhaps

if TYPE_CHECKING:
    from enthesis.model.estate import Estate
    from enthesis.reaching.differing import Difference, Gain


def barred_gains(estate: "Estate", found: "Difference | None", barred: list[str]) -> "list[Gain]":
    """The gains that `'VERB,VERB PLACE'` bars; Mistaken where it names no known verb or place."""
    if not barred or found is None:
        return []
    from enthesis.errors import Mistaken
    from enthesis.judging.compiling import compile_estate

    compiled = compile_estate(estate)
    known = compiled.catalogue.all_verbs()
    out = []
    for text in barred:
        words, _, place = text.strip().partition(" ")
        verbs, place = words.split(","), place.strip()
        for verb in verbs:
            if verb not in known and verb != "*":
                hint = perhaps(verb, known, "expected 'VERB,VERB PLACE'")
                raise Mistaken(f"--fail-on-gain {text}: no verb is called {verb}", remedy=hint)
        if not compiled.exists(place):
            hint = perhaps(place, compiled.places.names, "expected 'VERB,VERB PLACE'")
            raise Mistaken(f"--fail-on-gain {text}: nothing is called {place!r}", remedy=hint)
        at = compiled.chain_of(place)[0]
        out += [
            gain
            for gain in found.gains
            if ("*" in verbs or gain.verb in verbs) and at in compiled.chain_of(gain.target)
        ]
    return out


def put_barred(gains: "list[Gain]", *, to_error: bool) -> None:
    """Says which gains were barred."""
    from enthesis.commands.common import put_lines
    from enthesis.showing.differences import gain_sentences
    from enthesis.showing.lines import Span, line

    for sentence in gain_sentences(gains):
        put_lines([line(Span("barred: ", "bad"), sentence)], to_error=to_error)

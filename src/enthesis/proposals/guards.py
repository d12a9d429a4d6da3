"""`--fail-on-gain`: gains of access that a review bars."""

from enthesis.access.compiling import compile_estate
from enthesis.chains.differences import Difference, Gain
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.text.nearest import perhaps


def barred_gains(estate: Estate, found: Difference | None, barred: list[str]) -> list[Gain]:
    """The gains that `'VERB,VERB PLACE'` bars; InvalidInput where it names no known verb or place."""
    if not barred or found is None:
        return []
    compiled = compile_estate(estate, [text.strip().partition(" ")[2].strip() for text in barred])
    known = compiled.catalogue.all_verbs()
    out = []
    for text in barred:
        words, _, place = text.strip().partition(" ")
        verbs, place = words.split(","), place.strip()
        for verb in verbs:
            if verb not in known and verb != "*":
                hint = perhaps(verb, known, "expected 'VERB,VERB PLACE'")
                raise InvalidInput(f"--fail-on-gain {text}: unknown verb {verb}", code="verb-unknown", remedy=hint)
        if not compiled.exists(place):
            hint = perhaps(place, compiled.places.names, "expected 'VERB,VERB PLACE'")
            raise InvalidInput(f"--fail-on-gain {text}: unknown address {place!r}", code="address-unknown", remedy=hint)
        at = compiled.chain_of(place)[0]
        out += [
            gain
            for gain in found.gains
            if ("*" in verbs or gain.verb in verbs) and at in compiled.chain_of(gain.target)
        ]
    return out

"""Gains of access, in sentences."""

from collections.abc import Sequence

from enthesis.access.future_members import ANY
from enthesis.access.value_words import values_words
from enthesis.chains.differences import Gain
from enthesis.model.addresses import article
from enthesis.model.sentences import verb_words
from enthesis.model.vocabulary import BEARERS


def caller_words(gain: Gain) -> str:
    """Who gains or loses."""
    if gain.form in BEARERS:
        return f"the bearer of {article(gain.form)} of {gain.caller}"
    if gain.form in ("credential", "pipeline_access"):
        return f"the {'pipeline access' if gain.form == 'pipeline_access' else 'credential'} {gain.caller}"
    return f"{gain.caller} (members to come)" if gain.caller.endswith(ANY) else gain.caller


def gain_sentences(gains: Sequence[Gain]) -> list[str]:
    """One sentence for each caller, target and way, with all verbs that go together."""
    groups: dict[tuple[str, str, str, str], list[str]] = {}
    for gain in gains:
        verb = verb_words(gain.verb)
        groups.setdefault((caller_words(gain), gain.target, way_words(gain), with_values(gain)), []).append(verb)
    return [
        f"{caller} may {' and '.join(dict.fromkeys(verbs))} {target}{way}{values}"
        for (caller, target, way, values), verbs in groups.items()
    ]


def way_words(gain: Gain) -> str:
    """By which hops; '' where it is done at once."""
    hops = [f"{verb_words(verb)} {target}" for _, verb, target in gain.chain[:-1]]
    return f", through: {', '.join(hops)}" if hops else ""


def with_values(gain: Gain) -> str:
    """With which values; '' where it depends on none."""
    return f", with {values_words(gain.values)}" if gain.values else ""

"""Asks every provider of an estate what it has now."""

from enthesis.changing.live import Surveyed, across
from enthesis.changing.wanted import holders
from enthesis.errors import Mistaken
from enthesis.model.estate import Estate
from enthesis.ports import Connected, Reporter


def survey(estate: Estate, connected: Connected, reporter: Reporter) -> tuple[Surveyed, ...]:
    """What our accounts have at each provider. Needs the right to read the statements of each."""
    asked = {name: holders(estate, name) for name in estate.providers}
    missing = [name for name, its_holders in asked.items() if its_holders and name not in connected.providers]
    if missing:
        raise Mistaken(f"nothing is known to speak to for the provider {missing[0]}")
    reporter.begin("surveying", sum(1 for its_holders in asked.values() if its_holders))
    found = []
    try:
        for name, its_holders in asked.items():
            if its_holders:
                reporter.step(name)
                found.append(connected.providers[name].survey(its_holders))
    finally:
        reporter.end()
    return across(found)

"""What a command asks about: the estate in a folder, a survey, or one beside the other."""

import os
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

from enthesis.files.cache import TreeCache
from enthesis.files.finding import cache_folder, estate_folder, find_estate
from enthesis.files.folder import packaged_catalogue, read_folder
from enthesis.live.stand_ins import running
from enthesis.model.errors import InvalidEstate, InvalidInput
from enthesis.model.estate import Estate, Identity
from enthesis.output.streams import may_lack
from enthesis.proposals.wanted import kept_where
from enthesis.surveys.survey import Survey, beside, survey_in
from enthesis.surveys.unread import Unread, not_lived_with, systems_not_read
from enthesis.text.nearest import perhaps

FROM_FILES = "the survey did not look at it, so this is as the files say"
PARTY = "ENTHESIS_LAB_PARTY"  # set by `enthesis lab as`, heeded only while a lab runs for the estate


def read_estate(folder: Path) -> Estate:
    """The estate in a folder; InvalidEstate with all errors where it has any."""
    reading = read_folder(folder, cache=cache_folder())
    if reading.estate is None:
        raise InvalidEstate(reading.errors)
    return _as_party(folder, reading.estate)


def _as_party(folder: Path, estate: Estate) -> Estate:
    """The estate as the party of the lab sees it that `enthesis lab as` runs this program for."""
    party = os.environ.get(PARTY, "")
    if not party or running(folder) is None:
        return estate
    return estate.seen_by(party)


class Subject(NamedTuple):
    """What is asked about, the folder of its estate, and the survey that was named, if any.

    Without an estate the folder is that of the survey, which has no lab.
    """

    folder: Path
    estate: Estate
    survey: Survey | None = None


def read_subject(estate: Path | None, live: Path | None) -> Subject:
    """An estate, a survey, or an estate as a survey says it is now."""
    if live is None:
        folder = estate_folder(estate)
        return Subject(folder, read_estate(folder))
    if estate is None and find_estate(Path.cwd()) is None:
        survey = read_live(live)
        return Subject(live.resolve().parent, survey.estate, survey)
    folder = estate_folder(estate)
    described = read_estate(folder)
    survey = read_live(live, described)
    return Subject(folder, beside(described, survey), survey)


def _from_the_files(described: Estate, survey: Survey) -> list[Unread]:
    """The systems, or accounts at them, whose statements are taken from the files, since a survey did not look at them.
    One of keys alone is beside them."""
    if not survey.of_statements:
        return []
    told = {one.what for one in survey.unread}
    holders = {one.name: one.holders for one in survey.looked_at}

    def left(name: str, places: list[str]) -> list[str]:
        if name not in holders:
            return places
        return [place for place in places if place not in holders[name]] if name in described.providers else []

    missing = {name: left(name, places) for name, places in kept_where(described).items() if name not in told}
    unread = systems_not_read({name: places for name, places in missing.items() if places}, ())
    return [replace(one, why=FROM_FILES) for one in unread]


def read_asked(estate: Path | None, live: Path | None, *, ask: bool, quiet: bool = False) -> Subject:
    """The same; with `ask` the estate as its live systems say that it is at this moment."""
    if not ask:
        return read_subject(estate, live)
    if live is not None:
        raise InvalidInput("--ask and --survey exclude each other", code="options-conflict", remedy="give one of them")
    from enthesis.cli.arguments import now  # noqa: PLC0415
    from enthesis.live.live_survey import survey_now  # noqa: PLC0415  loads the connectors
    from enthesis.output.progress import reporter  # noqa: PLC0415

    folder = estate_folder(estate)
    described = read_estate(folder)
    survey = survey_now(described, folder, now(), reporter(quiet=quiet))
    say_partial(survey, described)
    return Subject(folder, beside(described, survey), survey)


def read_live(path: Path, described: Estate | None = None) -> Survey:
    """A survey from its file; InvalidInput where it is not one. What it lacks is said in the answer's first line, but
    for what the estate beside it lives with."""
    survey = survey_in(path, packaged_catalogue(TreeCache(cache_folder())))
    say_partial(survey, described)
    return survey


def say_partial(survey: Survey, described: Estate | None = None) -> None:
    """Lets the answer say what a survey could not read, and what is taken from the files of the estate beside it, but
    for what that estate lives with."""
    from enthesis.cli.arguments import now  # noqa: PLC0415

    may_lack(not_lived_with(survey.unread, described.accepted if described is not None else (), now()))
    if described is not None:
        may_lack(not_lived_with(_from_the_files(described, survey), described.accepted, now()))


def workload_identity(estate: Estate, address: str) -> Identity:
    """The identity of a workload that an address names; InvalidInput where it names none, or a person."""
    found = estate.identities.get(address)
    if found is None or found.is_person:
        workloads = [identity.address for identity in estate.identities.values() if not identity.is_person]
        raise InvalidInput(f"unknown identity {address}", code="identity-unknown", remedy=perhaps(address, workloads))
    return found

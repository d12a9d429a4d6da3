"""The live systems of an estate as a survey of this moment, for questions that are asked of it at once."""

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from enthesis.live.connecting import cluster_of, clusters_reached, connect, databases_reached
from enthesis.live.surveying import SurveyedCloud, Writing, head_of, survey
from enthesis.model.estate import Estate
from enthesis.ports import KeepsKeys, KeepsSessions, Record, Reporter, Surveys
from enthesis.proposals.wanted import kept_where
from enthesis.surveys.statements import Keepers, counting_together
from enthesis.surveys.survey import ASKED_NOW, Survey, read_survey
from enthesis.surveys.unread import systems_not_read


def surveyed_clouds(estate: Estate, folder: Path, reporter: Reporter) -> list[SurveyedCloud]:
    """What the providers and directories of an estate have now, with the keyed credentials that providers keep."""
    connected = connect(estate, folder)
    clouds = replace(connected, clusters={}, databases={})
    if not clouds.administered and (connected.administered or connected.providers):
        return []  # clusters and databases are surveyed by themselves, and some providers cannot be
    urls = {name: getattr(getattr(one, "client", None), "url", "") for name, one in connected.administered.items()}
    found = []
    surveys = survey(estate, clouds, reporter)
    for one in counting_together(surveys, Keepers.of(estate, surveys)):
        provider = connected.administered[one.provider]
        keys = provider.keys(one.holders) if isinstance(provider, KeepsKeys) else None
        sessions = provider.open_sessions(one.holders) if isinstance(provider, KeepsSessions) else []
        found.append(SurveyedCloud(one, urls[one.provider], estate.resources, keys, sessions))
    return found


def as_it_is(head: Sequence[Record], systems: Sequence[Surveys]) -> list[Record]:
    """What an estate says exists, as providers that were asked have it: without the resources that are gone, and of the
    logins that people share whether they are on."""
    asked = [system for system in systems if isinstance(system, SurveyedCloud)]
    shared = {address: on for system in asked for address, on in system.surveyed.shared_logins.items()}
    found = []
    for entry in head:
        address = entry.get("address")
        if entry["section"] == "resources" and any(system.has_gone(str(address)) for system in asked):
            continue
        found.append({**entry, "shared_login": "on" if shared[address] else "off"} if address in shared else entry)
    return found


def survey_now(estate: Estate, folder: Path, now: datetime, reporter: Reporter) -> Survey:
    """A survey of the providers and clusters of an estate, taken now and kept nowhere."""
    clouds = surveyed_clouds(estate, folder, reporter)
    clusters = [
        cluster_of(address, estate.organisation_of(address), folder, None, None, {})
        for address in clusters_reached(estate, folder)
    ]
    systems: list[Surveys] = [*clouds, *clusters, *databases_reached(estate, folder)]
    missing = systems_not_read(kept_where(estate), {system.name for system in systems})
    writing = Writing(estate.name, now, systems, missing)
    lines = writing.lines(as_it_is(list(head_of(estate)), systems), reporter)
    return read_survey((line.decode() for line in lines), ASKED_NOW, estate.catalogue)

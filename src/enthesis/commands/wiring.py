"""Wires connectors to ports: which live systems an estate speaks to."""

import json
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from enthesis.commands.common import lab_state

if TYPE_CHECKING:
    from enthesis.model.estate import Estate
    from enthesis.ports import Connected

LAB = "the lab of this estate"


def connect(estate: "Estate", folder: Path) -> "Connected":
    """The live systems of an estate. While a lab runs for it, the lab's addresses stand in for its urls."""
    from enthesis.connectors.cloud import Cloud
    from enthesis.connectors.http import Client
    from enthesis.connectors.pipeline import Pipeline
    from enthesis.errors import Unreachable
    from enthesis.lab.control import running
    from enthesis.ports import Connected, Secret

    state = lab_state(folder)
    lab = running(state)
    if lab is None:
        raise Unreachable(
            "no lab runs for this estate, and today only a lab can be spoken to", remedy="enthesis lab start"
        )
    sessions: dict[str, dict[str, Secret]] = {}
    for one in json.loads((state / "administrators.json").read_text(encoding="utf-8")):
        if "holder" in one and not estate.administered_by_others(one["holder"]):
            sessions.setdefault(one["cloud"], {})[one["holder"]] = Secret(one["session"])
    providers, issuers = {}, {}
    for service in lab.services:
        name = service["name"]
        client = Client(name, service["url"], authority=lab.authority)
        if service["kind"] == "cloud" and name in estate.providers:
            providers[name] = Cloud(name, client, sessions.get(name, {}))
        elif service["kind"] == "pipeline" and name in estate.issuers:
            issuers[name] = Pipeline(name, client)
    return Connected(providers, issuers, LAB, _LabClock(state))


@dataclass(frozen=True)
class _LabClock:
    """The clock of a lab."""

    state: Path

    def forward(self, by: timedelta) -> None:
        from enthesis.lab.control import clock

        clock(self.state, by.total_seconds())

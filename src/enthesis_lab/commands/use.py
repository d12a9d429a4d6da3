"""`enthesis lab use`: years of plausible use in the lab's records, from a seed."""

from collections.abc import Iterator
from datetime import datetime, timedelta
from random import Random
from typing import Annotated, Any

import numpy as np
import typer

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.reach import reachable
from enthesis.cleaning.findings import LEADING_ON
from enthesis.cli.arguments import now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.files.finding import estate_folder
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import VerbClass
from enthesis.output.lines import counted
from enthesis.output.renderers import TEXT, put_done
from enthesis.text.times import time_text
from enthesis_lab.commands.running import running_lab
from enthesis_lab.running import state_folder

ANY = "…"  # what stands for any leaf in an address that is reached
RARELY = 91  # days between two uses of what a quarterly job does


def use(
    days: Annotated[
        int,
        typer.Option("--days", metavar="COUNT", min=1, max=4000, help="Generate use for this many days, up to now."),
    ] = 400,
    seed: Annotated[int, typer.Option("--seed", metavar="NUMBER", help="The seed of everything random.")] = 0,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Generate a long record of plausible use in the lab.

    Some identities work every day, some every few days; some permissions are used once a quarter, and some never.
    """
    from enthesis_lab.tuning import record_use  # noqa: PLC0415  loads the store of the lab

    folder = estate_folder(estate)
    described = read_estate(folder)
    running_lab(estate)
    rows = list(_rows(described, days, Random(seed), now()))  # noqa: S311  no secret is drawn
    by_provider: dict[str, list[dict[str, Any]]] = {}
    for row in rows:
        by_provider.setdefault(str(row["at"]), []).append(row)
    record_use(state_folder(folder), by_provider)
    said = f"{counted(len(rows), 'request')} of {counted(days, 'day')} recorded."
    put_done(said, output=output, quiet=quiet, requests=len(rows), days=days)


def _rows(estate: Estate, days: int, rng: Random, until: datetime) -> Iterator[dict[str, Any]]:
    """Requests that the estate allows, of each workload some of what it may directly do."""
    chains = Chains(Web(compile_estate(estate), until.timestamp()))
    compiled = chains.compiled
    daily = [  # what programs do day by day: they make and manage nothing, and delete nothing
        its_class not in (VerbClass.MANAGE, VerbClass.POWER) and verb not in ("delete", "describe", *LEADING_ON)
        for (_, verb), its_class in zip(compiled.permission_pairs, compiled.class_of, strict=True)
    ]
    wanted = np.array(daily, bool)
    for address, identity in estate.identities.items():
        system = estate.system_of(address)
        if identity.is_person or identity.disabled or system not in estate.providers or estate.is_outside(address):
            continue
        start = chains.from_place(chains.compiled.find(address))
        direct = [access for access in reachable(chains, [start], wanted) if len(access.steps) == 1]
        if not direct:
            continue
        often, each = rng.choice([1, 1, 2, 5]), rng.sample(direct, max(1, len(direct) // 2))
        rare = rng.choice(each) if len(each) > 1 and rng.random() < 0.5 else None
        for day in range(days):
            for access in each:
                if day % (RARELY if access is rare else often):
                    continue
                at = until - timedelta(days=days - 1 - day, seconds=rng.randint(1, 80_000))
                yield {
                    "time": time_text(at), "caller": address, "identity": address, "verb": access.verb,
                    "target": access.target.replace(ANY, f"{day % 7}"), "outcome": "allowed", "at": system,
                }  # fmt: skip

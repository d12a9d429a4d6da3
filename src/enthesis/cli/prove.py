"""`enthesis prove`: runs journeys with real credentials, the ones that must fail too."""

from pathlib import Path
from typing import Annotated

import typer

from enthesis.cli import completing
from enthesis.cli.admit import chosen
from enthesis.cli.arguments import by_clock_of, now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import (
    ContextOption,
    DatabaseOption,
    EstateOption,
    FormatOption,
    KubeconfigOption,
    QuietOption,
    named_files,
)
from enthesis.cli.store_options import StoreOption, keep_if_any
from enthesis.files.finding import estate_folder
from enthesis.files.saving import write_file
from enthesis.files.writing import estate_digest
from enthesis.live.connecting import Given, connect
from enthesis.live.proving import from_one_member
from enthesis.live.proving import prove as run
from enthesis.live.refusing import (
    Trials,
    expiry_trials,
    near_miss_trials,
    pipeline_access_trials,
    replay_trials,
    shared_login_trials,
    untried_trusts,
)
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate, Journey
from enthesis.model.vocabulary import Ending
from enthesis.output.lines import json_text
from enthesis.output.progress import reporter
from enthesis.output.proofs import (
    first_sentence,
    junit_xml,
    proof_cases,
    proof_lines,
    trial_cases,
    trials_json,
    trials_lines,
    trials_sentence,
)
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.ports import Connected, Reporter
from enthesis.text.nearest import perhaps
from enthesis.text.times import time_text


def prove(
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="NAME",
            autocompletion=completing.journeys,
            help="Only these journeys, or trusts and identities (default: all).",
        ),
    ] = None,
    journey: Annotated[
        list[str] | None,
        typer.Option("--journey", metavar="NAME", autocompletion=completing.journeys, help="The same as NAME."),
    ] = None,
    near_misses: Annotated[
        bool,
        typer.Option("--near-misses", help="Check that callers that differ slightly from an admitted one are refused."),
    ] = False,
    expiry: Annotated[
        bool, typer.Option("--expiry", help="Move the lab's clock, and check that expired credentials open nothing.")
    ] = False,
    replay: Annotated[
        bool, typer.Option("--replay", help="Check that credentials are refused where they were not issued for.")
    ] = False,
    allow_waiting: Annotated[
        bool, typer.Option("--allow-waiting", help="Exit 0 even if some journeys wait for others to write their half.")
    ] = False,
    allow_untried: Annotated[
        bool, typer.Option("--allow-untried", help="Exit 0 even if some trusts could not be tried.")
    ] = False,
    token: Annotated[
        list[str] | None,
        typer.Option(
            "--token",
            metavar="ISSUER=FILE",
            help="Use this token of an issuer; without a lab it is shown to the real system.",
        ),
    ] = None,
    client: Annotated[
        list[str] | None,
        typer.Option("--client", metavar="NAME=FILE", help="A file with a registered client of an issuer or provider."),
    ] = None,
    credential: Annotated[
        list[str] | None,
        typer.Option(
            "--credential",
            metavar="NAME=FILE",
            help="A file with the value of this keyed credential, for its journeys.",
        ),
    ] = None,
    kubeconfig: KubeconfigOption = None,
    database: DatabaseOption = None,
    context: ContextOption = None,
    members: Annotated[
        int | None,
        typer.Option(
            "--members", metavar="COUNT", min=1, help="Try at most this many members of a pool (needed above 50)."
        ),
    ] = None,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
    junit: Annotated[Path | None, typer.Option("--junit", metavar="FILE", help="Also write JUnit XML.")] = None,
    store: StoreOption = None,
) -> None:
    """Run journeys with real credentials and check that each ends as expected.

    Needs no right of our own: each journey uses its workload's. What is written is put back. A refusal meets an
    expectation only where access was refused; whatever could not be tried is unmet. A journey that is refused for want
    of a half that others write is waiting. Exit 1 where anything is unmet or, without --allow-waiting, waits.
    With --near-misses, --expiry or --replay, what must be refused is tried instead, each with a control that must not;
    trusts that could not be tried are named, and exit 1 too without --allow-untried.
    Where the estate has a store, the results are kept there; `history documents` lists them.
    """
    if near_misses + expiry + replay > 1:
        raise InvalidInput(
            "--near-misses, --expiry and --replay are three proofs", code="options-conflict", remedy="one at a time"
        )
    names = [*(names or []), *(journey or [])] or None
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    keys = named_files(credential, "--credential")
    databases = named_files(database, "--database")
    given = Given(named_files(token, "--token"), named_files(client, "--client"), kubeconfig, context, keys, databases)
    connected = connect(described, folder, given)
    progress = reporter(quiet=quiet)
    taken, code = now(), 1
    try:
        if near_misses or expiry or replay:
            what, every = _trials(described, connected, names or [], near_misses, expiry, progress)
            well = not any(trials.unmet or (trials.not_tried and not allow_untried) for trials in every)
            says = trials_sentence(what, every)
            cases, key, lines = trial_cases(every), "trials", trials_lines(what, every)
            results = [trials_json(trials) for trials in every]
        else:
            proofs = run(described, _journeys(described, names or []), connected, now(), progress, members)
            well = all(proof.met or (allow_waiting and proof.outcome is Ending.WAITING) for proof in proofs)
            code = 3 if all(proof.met or proof.not_tried for proof in proofs) else 1
            says = first_sentence(proofs)
            cases, key, lines = proof_cases(proofs), "journeys", proof_lines(proofs)
            results = [proof.as_json() for proof in proofs]
    finally:
        connected.let_go()
    if junit is not None:
        write_file(junit, junit_xml(described.name, cases))
    proof = {"estate": described.name, "spoke_to": connected.spoke_to, "says": says, key: results}
    kept = json_text({**proof, "taken": time_text(taken), "described_by": estate_digest(described)}).encode()
    keep_if_any(folder, store, described.name, "proof", kept)
    beside = f"Tried at {connected.spoke_to}."
    beside += "\nIts clock was moved forward: `enthesis lab clock` says how far it is ahead." if expiry else ""
    put_answer(output, CommandAnswer(lambda: proof, lambda: lines), beside=beside, quiet=quiet)
    if not well:
        raise typer.Exit(code)


def _trials(
    estate: Estate, connected: Connected, names: list[str], near_misses: bool, expiry: bool, progress: Reporter
) -> tuple[tuple[str, str], list[Trials]]:
    """What must be refused, tried; and what that is in words, one and several."""
    if near_misses:
        access = [
            access
            for access in estate.pipeline_access.values()
            if access.admits and (not names or access.name in names)
        ]
        wanted = [name for name in names if name not in estate.pipeline_access]
        trusts = [trust for name in wanted for trust in chosen(estate, name)] if names else list(estate.trusts)
        what = ("near-miss caller", "near-miss callers")
        instant = now()
        of_trusts = near_miss_trials(estate, trusts, connected, instant, progress)
        shared = shared_login_trials(estate, connected) if not names else ()
        return what, [*of_trusts, *pipeline_access_trials(estate, access, connected, instant, progress), *shared]
    journeys = (journey for journey in _journeys(estate, names) if journey.expect == "allowed")
    allowed = [from_one_member(estate, journey, connected) for journey in journeys]
    if expiry:
        what = ("expired credential", "expired credentials")
        tried = [*expiry_trials(estate, allowed, connected, progress)]
    else:
        what = ("replayed credential", "replayed credentials")
        tried = [*replay_trials(estate, allowed, connected, progress)]
    return what, [*tried, *(untried_trusts(estate, allowed) if not names else ())]


def _journeys(estate: Estate, names: list[str]) -> list[Journey]:
    """The journeys of these names, or all; InvalidInput with the nearest where one names none."""
    for name in names:
        if name not in estate.journeys:
            raise InvalidInput(f"unknown journey {name}", code="journey-unknown", remedy=perhaps(name, estate.journeys))
    return [journey for journey in estate.journeys.values() if not names or journey.name in names]

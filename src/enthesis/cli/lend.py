"""`enthesis lend`: a short-lived credential for an identity, for one program or for other people's clients."""

import os
import sys
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import cached_property
from pathlib import Path
from typing import Annotated, NamedTuple, NoReturn

import typer

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.cli import completing
from enthesis.cli.arguments import SurroundingOptions, context_from
from enthesis.cli.estate_loading import read_estate, workload_identity
from enthesis.cli.options import FormatOption, QuietOption, named_files
from enthesis.connectors.cluster.lending import ASKED_BY, VERSIONS, answer_to_client, lent_kubeconfig, version_asked
from enthesis.connectors.cluster.using import LiveCluster
from enthesis.connectors.openssh import LoginHost
from enthesis.files.finding import estate_folder, find_estate
from enthesis.files.saving import write_file
from enthesis.live.clocks import clock_for
from enthesis.live.connecting import Given, cluster_of, connect, own_database
from enthesis.live.credential_endpoint import Lent, become, run_beside, run_with_endpoint, run_with_variable
from enthesis.live.credential_release import certificate_for, shown_to
from enthesis.live.lending import NotLent, lent
from enthesis.live.origins import AtHand, at_hand
from enthesis.live.proving import provider_of
from enthesis.live.stand_ins import running
from enthesis.model.errors import InvalidInput, LiveFailure
from enthesis.model.escapes import word
from enthesis.model.estate import Attempt, Context, Estate, Hop, Origin
from enthesis.output.renderers import TEXT, put_done
from enthesis.output.streams import put_text, remark
from enthesis.output.verdicts import first_sentence
from enthesis.ports import CertifiesLogins, Connected, HeldCredential, Refusal, Surroundings
from enthesis.text.times import duration_from, duration_text
from enthesis.verdicts.expectations import rests_on
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.takeable import refused_by, way_onto

USUAL_LIFE = "15m"
NO_SIGN_IN = "sign in with `enthesis sign-in`, or run this where a workload runs"


def lend(
    identity: Annotated[
        str | None,
        typer.Argument(
            metavar="IDENTITY",
            autocompletion=completing.identities,
            help="The identity that the program runs as.",
        ),
    ] = None,
    command: Annotated[
        list[str] | None, typer.Argument(metavar="-- COMMAND", help="The program, with its arguments.")
    ] = None,
    endpoint: Annotated[
        bool, typer.Option("--endpoint", help="Lend at a loopback endpoint that renews the session, for long runs.")
    ] = False,
    onto: Annotated[
        str | None,
        typer.Option(
            "--for",
            metavar="ADDRESS",
            help="Log in at this database (the program finds it in the variables that PostgreSQL's clients read), or "
            "at this host (the program is ssh, scp or sftp).",
        ),
    ] = None,
    authority: Annotated[
        Path | None,
        typer.Option(
            "--authority",
            metavar="FILE",
            help="With --for HOST: the key of its certificate authority, for a host that no provider certifies for.",
        ),
    ] = None,
    network: Annotated[
        str | None,
        typer.Option(
            "--network",
            metavar="ADDRESS",
            help="With --authority: where the login comes from, and may come from. With --like: where the workload "
            "asks from.",
        ),
    ] = None,
    like: Annotated[
        str | None,
        typer.Option(
            "--like",
            metavar="IDENTITY",
            autocompletion=completing.identities,
            help="With a person: judge each request as if this workload made it, and say what would be refused.",
        ),
    ] = None,
    bounded: Annotated[
        bool, typer.Option("--bounded", help="With --like: refuse here what the workload would be refused.")
    ] = False,
    write_kubeconfig: Annotated[
        Path | None,
        typer.Option("--write-kubeconfig", metavar="FILE", help="Write a kubeconfig that asks here for tokens."),
    ] = None,
    life: Annotated[
        str, typer.Option("--life", metavar="DURATION", help="The lifetime of each token of a cluster.")
    ] = USUAL_LIFE,
    kubeconfig: Annotated[
        Path | None,
        typer.Option("--kubeconfig", metavar="FILE", help="The kubeconfig with which to reach the cluster."),
    ] = None,
    context: Annotated[
        str | None,
        typer.Option("--context", metavar="NAME", help="Use this context of it (default: its current context)."),
    ] = None,
    overwrite: Annotated[
        bool, typer.Option("--overwrite", help="Let --write-kubeconfig overwrite an existing file.")
    ] = False,
    client_version: Annotated[
        str,
        typer.Option(
            "--client-version", metavar="VERSION", help=f"How clients ask for tokens: {' or '.join(VERSIONS)}."
        ),
    ] = VERSIONS[0],
    client: Annotated[
        list[str] | None,
        typer.Option(
            "--client", metavar="PROVIDER=FILE", help="A file with a client that is registered at this provider."
        ),
    ] = None,
    to_client: Annotated[
        str | None,
        typer.Option("--to-client", metavar="VERSION", hidden=True, help="Answer a client of a lent kubeconfig."),
    ] = None,
    estate: Annotated[
        Path | None,
        typer.Option(
            "--estate", metavar="DIR", help="The estate's folder (default: the nearest one upward with an estate.yaml)."
        ),
    ] = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Run a program as an identity with a short-lived credential, nothing on disk.

    The credential comes from the best keyless origin that is available (`enthesis whoami` shows them), by the fewest
    hops that the estate's trusts allow. The program finds it in the variable ENTHESIS_SESSION, or with --endpoint at
    the address in ENTHESIS_METADATA_URL, which works as a host's metadata service does and renews it. Signals and the
    exit code are passed through. Exit 1 if no available origin can take the identity on.

    For a service account of a cluster, --write-kubeconfig writes one whose user asks here for a fresh token
    each time; that needs the right to request its tokens.
    """
    if identity is None:
        raise InvalidInput(
            "it is not said which identity to lend", code="argument-missing", remedy="enthesis lend IDENTITY -- COMMAND"
        )
    if to_client is not None or write_kubeconfig is not None:
        if write_kubeconfig is not None and not overwrite and os.path.lexists(write_kubeconfig):
            raise InvalidInput(
                f"{write_kubeconfig} is there already",
                code="file-exists",
                remedy="name a new file, or say --overwrite",
            )
        lent = _Lent(identity, life, kubeconfig, context, estate)
        if to_client is not None:
            _to_client(lent, to_client)
        elif write_kubeconfig is not None:
            _to_clients(lent, write_kubeconfig, client_version)
            said = f"{write_kubeconfig} lends {identity}, for {life} at a time."
            put_done(said, output=output, quiet=quiet, file=str(write_kubeconfig), identity=identity)
        return
    if not command:
        raise InvalidInput(
            "no program is named",
            code="argument-missing",
            remedy=f"enthesis lend {word(identity)} -- COMMAND, or --write-kubeconfig FILE",
        )
    clients = named_files(client, "--client")
    _fit_together(identity, onto, like, endpoint=endpoint, bounded=bounded)
    if authority is not None:
        _by_authority(identity, command, estate, onto, authority, network, quiet=quiet)
    if onto is not None and "/host/" in onto:
        _to_host(identity, command, estate, onto, quiet=quiet)
    if onto is not None and identity.startswith("@"):
        _to_database(identity, command, estate, clients, onto, quiet=quiet)
    if identity.startswith("@"):
        _as_person(identity, command, estate, clients, like, network, bounded=bounded, quiet=quiet)
    _to_program(identity, command, estate, clients, database=onto, endpoint=endpoint, quiet=quiet)


def _fit_together(identity: str, onto: str | None, like: str | None, *, endpoint: bool, bounded: bool) -> None:
    """InvalidInput where options that were given do not go together."""
    of_person = identity.startswith("@")
    logs_in = onto is not None and ("/host/" in onto or "/database/" in onto)
    if onto is not None and endpoint:
        raise InvalidInput(
            "--endpoint renews a session, and a login has a certificate that is not renewed",
            code="options-conflict",
            remedy="leave out --endpoint",
        )
    if of_person and (endpoint or (onto is not None and not logs_in)):
        raise InvalidInput(
            f"{'--endpoint' if endpoint else '--for'} does not go with a person's sign-in",
            code="options-conflict",
            remedy="leave it out, or lend an identity that the person can take on",
        )
    if bounded and like is None:
        raise InvalidInput(
            "--bounded is by what a workload may do", code="options-conflict", remedy="name it: --like IDENTITY"
        )
    if like is not None and of_person and logs_in:
        raise InvalidInput(
            f"--like judges what is asked of a provider, and a login at {onto} is none of that",
            code="options-conflict",
            remedy="leave out --like",
        )
    if like is not None and not of_person:
        raise InvalidInput(
            "--like compares what a person does with what a workload may",
            code="options-conflict",
            remedy="leave it out, or name a person, such as @ORGANISATION/identity/NAME",
        )


def _by_authority(
    identity: str, command: list[str], estate: Path | None, host: str | None, key: Path, network: str | None,
    *, quiet: bool,
) -> NoReturn:  # fmt: skip
    # loads cryptography, which only this needs
    from enthesis.cli.lend_by_authority import log_in  # noqa: PLC0415

    if host is None or "/host/" not in host:
        raise InvalidInput(
            "--authority is for a login at a host", code="options-conflict", remedy="name it: --for ACCOUNT/host/NAME"
        )
    folder = estate_folder(estate)
    log_in(read_estate(folder), folder, identity, command, host, key, network, quiet=quiet)


# -- to a program ------------------------------------------------------------------------------------------------


def _to_program(
    identity: str,
    command: list[str],
    estate: Path | None,
    clients: Mapping[str, Path],
    *,
    database: str | None,
    endpoint: bool,
    quiet: bool,
) -> None:
    folder = estate_folder(estate)
    described = read_estate(folder)
    workload_identity(described, identity)
    ways = _Ways(described, folder, identity, clients)
    clock = clock_for(described, folder, identity)
    now = clock.now()
    if clock.said():
        remark(clock.said(), quiet=quiet)
    best, got = _by_best_way(ways, now, database)
    more = _login(described, folder, database, got, ways.connected) if database is not None else {}
    lent = Lent(identity, got, *_provider(described, folder, identity), now=clock.now, more=more)
    until = now + got.life
    how = "renewed while it runs" if endpoint else f"until {until:%H:%M:%SZ}"
    over = f", through {' and '.join(best.hops[:-1])}" if len(best.hops) > 1 else ""
    remark(
        f"{command[0]} runs as {identity} for {duration_text(got.life)}, {how}, by {best.origin.where}"
        f" ({best.origin.who}){over}.",
        quiet=quiet,
    )
    if not endpoint:
        run_with_variable(command, lent)

    def again() -> HeldCredential:
        fresh = ways.best(clock.now())
        renewed = ways.walked(fresh) if fresh is not None else None
        if not isinstance(renewed, HeldCredential):
            raise LiveFailure(f"{identity} cannot be taken on any more", code="session-not-renewed")
        return renewed

    raise typer.Exit(run_with_endpoint(command, lent, again))


def _to_database(
    person: str, command: list[str], estate: Path | None, clients: Mapping[str, Path], database: str, *, quiet: bool
) -> NoReturn:
    """Runs a program that logs in at a database as a person, and exits as it does. It gets the login alone."""
    folder = estate_folder(estate)
    described = read_estate(folder)
    own_database(described, database)  # whether it is one
    ways = _Ways(described, folder, person, clients)
    clock = clock_for(described, folder, "")
    sign_in = _session_for(ways, person, clock.now(), database)
    more = _login(described, folder, database, sign_in, ways.connected)
    remark(f"{command[0]} logs in at {database} as {person}, with a certificate for minutes.", quiet=quiet)
    become(command, Lent(person, sign_in, more=more, now=clock.now).environment())


def _as_person(
    person: str, command: list[str], estate: Path | None, clients: Mapping[str, Path], like: str | None,
    network: str | None, *, bounded: bool, quiet: bool,
) -> NoReturn:  # fmt: skip
    """Runs a program with a person's sign-in, and exits as it does."""
    folder = estate_folder(estate)
    described = read_estate(folder)
    ways = _Ways(described, folder, person, clients)
    if like is not None:
        workload_identity(described, like)
    clock = clock_for(described, folder, like or "")
    credential = _signed_in(ways, person, clock.now()).credential
    assert credential is not None  # noqa: S101  as it was found
    lent = Lent(person, credential, *_provider(described, folder, like or person), now=clock.now)
    until = f"{clock.now() + credential.life:%H:%M:%SZ}"
    if like is None:
        several = "" if lent.provider_url else " ENTHESIS_PROVIDER_URL is not set, since there are several providers."
        remark(
            f"{command[0]} runs as {person} until {until}, with that person's rights. A workload may have others: "
            f"--like IDENTITY says what would be refused to it.{several}",
            quiet=quiet,
        )
        run_with_variable(command, lent)
    from enthesis.cli.lend_as_person import Likeness, judged_as, run_like  # noqa: PLC0415  only here

    likeness = Likeness(like, context_from(SurroundingOptions(network=network)), bounded)
    provider = provider_of(described, like, ways.connected)
    shown_to(provider, credential, ways.connected)  # raises where the sign-in is not for this provider
    bound = f", and may do what {like} may" if bounded else ""
    remark(f"{command[0]} runs as {person} until {until}, judged as {like}{bound}.", quiet=quiet)
    raise typer.Exit(run_like(command, lent, provider, judged_as(described, ways.judge, likeness, clock.now), likeness))


def _to_host(identity: str, command: list[str], estate: Path | None, host: str, *, quiet: bool) -> NoReturn:
    """Runs a client of OpenSSH that logs in at a host as an identity or person, and exits as it does."""
    folder = estate_folder(estate)
    described = read_estate(folder)
    ways = _Ways(described, folder, identity)
    at = ways.connected.logins.get(host)
    if not isinstance(at, LoginHost):
        raise InvalidInput(
            f"{host} is not a host that is logged in at here",
            code="host-unknown",
            remedy=f"add it to `resources`: {host}: {{url: ssh://HOST/USER, certificates: ISSUER}}",
        )
    at.command(command, ())  # whether it is a client at all
    clock = clock_for(described, folder, "" if identity.startswith("@") else identity)
    session = _session_for(ways, identity, clock.now(), host)
    provider = provider_of(described, host, ways.connected)
    fitting = shown_to(provider, session, ways.connected)
    if isinstance(fitting, Refusal) or not isinstance(provider, CertifiesLogins):
        raise InvalidInput(f"nothing known certifies logins at {host}", code="system-not-connected")
    with at.ready(provider, fitting, Surroundings()) as options:
        if isinstance(options, Refusal):
            remark(f"No certificate for {host}: refused at {', '.join(options.steps)}.")
            raise typer.Exit(1)
        remark(f"{command[0]} logs in at {host} as {identity}, with a certificate for minutes.", quiet=quiet)
        code = run_beside(at.command(command, options))
    raise typer.Exit(code)


def _session_for(ways: "_Ways", identity: str, now: datetime, address: str) -> HeldCredential:
    """A person's sign-in, or a session as an identity by the best way; exit 1 where there is none, or where the estate
    lets nobody log in at the address that comes so."""
    if identity.startswith("@"):
        mine = _signed_in(ways, identity, now)
        _must_be_let_in(ways, _LendOptions(mine, ()), address, now)
        assert mine.credential is not None  # noqa: S101  as it was found
        return mine.credential
    return _by_best_way(ways, now, address)[1]


def _signed_in(ways: "_Ways", person: str, now: datetime) -> AtHand:
    """The sign-in of a person that is at hand; exit 1 where there is none."""
    found = (one for one in at_hand(ways.estate, ways.folder, now) if one.form == "person" and not one.fault)
    mine = next((one for one in found if one.who == person and one.credential is not None), None)
    if mine is None:
        remark(f"{person} has not signed in here: `enthesis sign-in` first.")
        raise typer.Exit(1)
    return mine


def _must_be_let_in(ways: "_Ways", way: "_LendOptions", address: str, now: datetime) -> None:
    """Exit 1 where the estate refuses a login that comes by this way, whatever is not known here: no client is started
    for it. Says which step refuses, what is missing, and who can give it."""
    origin = way.origin.origin
    if origin is None:
        return
    hops = tuple(map(Hop, way.hops))
    verdict = ways.judge.judge(Question(origin, hops, Attempt("login", address), Context(), now))
    if verdict.first_refused is None or rests_on(ways.judge.compiled, verdict):
        return
    remark(first_sentence(ways.estate, verdict))
    raise typer.Exit(1)


def _by_best_way(ways: "_Ways", now: datetime, address: str | None = None) -> "tuple[_LendOptions, HeldCredential]":
    """The best way to an identity, and a session by it; exit 1 where there is none, or where the estate lets nobody log
    in at an address that comes so."""
    best = ways.best(now)
    if best is None:
        for reason in ways.why_none(now):
            remark(reason)
        raise typer.Exit(1)
    if address is not None:
        _must_be_let_in(ways, best, address, now)
    got = ways.walked(best)
    if not isinstance(got, HeldCredential):
        remark(got)
        raise typer.Exit(1)
    return best, got


@dataclass(frozen=True)
class _LendOptions:
    """An origin at hand that can take on an identity, and the hops from it."""

    origin: AtHand
    hops: tuple[str, ...]


@dataclass
class _Ways:
    """The ways to one identity from what is at hand. The estate is judged, and live systems connected to, once."""

    estate: Estate
    folder: Path
    identity: str
    clients: Mapping[str, Path] = field(default_factory=dict)

    @cached_property
    def judge(self) -> Judge:
        return Judge(compile_estate(self.estate))

    @cached_property
    def connected(self) -> Connected:
        return connect(self.estate, self.folder, Given(clients=self.clients, at_hand=True))

    def best(self, now: datetime) -> _LendOptions | None:
        """The first origin that reaches the identity; None where none does."""
        for one, origin in self._usable(now):
            if one.form == "session" and one.who == self.identity:
                return _LendOptions(one, ())
            hops = way_onto(self.estate, self.judge, origin, self.identity, Context(), now)
            if hops is not None:
                return _LendOptions(one, hops)
        return None

    def why_none(self, now: datetime) -> Iterator[str]:
        """Why no origin at hand reaches the identity, and where to look next."""
        usable = self._usable(now)
        for one, origin in usable:
            verdict = refused_by(self.judge, origin, self.identity, Context(), now)
            steps = ", ".join(verdict.requests[0].refused_at)
            yield f"Not by {one.where} ({one.who}): {self.identity} is refused at {steps}."
        if usable:
            yield f"`enthesis admit {word(self.identity)}` says who is admitted."
            return
        cluster = "/namespace/" in self.identity
        how = "`enthesis lend … --kubeconfig FILE` lends it to clients of its cluster" if cluster else NO_SIGN_IN
        yield f"Nothing that could take on {self.identity} is at hand here: {how}."

    def _usable(self, now: datetime) -> list[tuple[AtHand, Origin]]:
        return [
            (origin, origin.origin)
            for origin in at_hand(self.estate, self.folder, now)
            if not origin.fault
            and origin.origin is not None
            and (origin.credential is not None or origin.service is not None)
        ]

    def walked(self, way: _LendOptions) -> HeldCredential | str:
        """The session of the last hop, or in words that a live system refuses it."""
        origin, rest = way.origin, way.hops
        if origin.service is not None:
            first, rest = (origin.who, rest) if origin.form == "session" else (rest[0], rest[1:])
            handed = origin.service.session(first)
            if isinstance(handed, Refusal):
                return f"No session as {first} by {origin.where}: refused at {', '.join(handed.steps)}."
            shown = handed.credential
        elif origin.credential is not None:
            shown = origin.credential
        else:
            raise LookupError(origin.where)  # nothing of that is usable
        got = lent(self.estate, shown, rest, self.connected) if rest else shown
        if isinstance(got, NotLent):
            return f"{got.identity} was refused at {', '.join(got.refusal.steps)}: {got.refusal.said}."
        return got


def _login(
    estate: Estate, folder: Path, address: str, session: HeldCredential, connected: Connected
) -> Mapping[str, str]:
    """The variables with which a program logs in at a database; exit 1 where its authority refuses the certificate."""
    url, issuer = own_database(estate, address)
    got = certificate_for(issuer, session, connected)
    if isinstance(got, Refusal):
        remark(f"No certificate of {issuer}: refused at {', '.join(got.steps)}: {got.said}.")
        raise typer.Exit(1)
    lab = running(folder)
    # a library that is installed on demand, and that a connection has needed by now
    from enthesis.connectors.postgresql.lending import variables  # noqa: PLC0415

    return variables(lab.url_of(address) or url if lab else url, got, str(lab.authority) if lab else "")


def _provider(estate: Estate, folder: Path, identity: str) -> tuple[str, str]:
    """Where the provider of an identity is, and the authority to trust there if it is a lab's; '' twice where a person
    could speak to several."""
    name = estate.system_of(identity) if not identity.startswith("@") else _only_provider(estate)
    lab = running(folder)
    url = lab.url_of(name) if lab is not None else None
    if lab is not None and url is not None:
        return url, str(lab.authority)
    provider = estate.providers.get(name)
    return (provider.url or "" if provider is not None else ""), ""


def _only_provider(estate: Estate) -> str:
    return next(iter(estate.providers)) if len(estate.providers) == 1 else ""


# -- to clients of a cluster -------------------------------------------------------------------------------------


class _Lent(NamedTuple):
    """Who is lent to clients of a cluster, for how long at a time, and how the cluster is reached."""

    identity: str
    life: str
    kubeconfig: Path | None
    context: str | None
    estate: Path | None

    @property
    def length(self) -> timedelta:
        length = duration_from(self.life)
        if length is None:
            raise InvalidInput(
                f"{self.life} is not a duration", code="duration-invalid", remedy="write it like 15m or 1h"
            )
        return length


def _to_client(lent: _Lent, version: str) -> None:
    """The token for the client that asks, which reads it from a pipe."""
    if sys.stdout.isatty():
        raise InvalidInput(
            "a token is shown on no terminal", code="token-not-shown",
            remedy="use the kubeconfig with a client; it asks here by itself",
        )  # fmt: skip
    asked = version_asked(version, os.environ.get(ASKED_BY, ""))
    cluster, _ = _cluster(lent.identity, lent.estate, lent.kubeconfig, lent.context)
    put_text(answer_to_client(asked, *cluster.token_for(lent.identity, lent.length)))


def _to_clients(lent: _Lent, file: Path, version: str) -> None:
    """Writes the kubeconfig."""
    if version not in VERSIONS:
        raise InvalidInput(
            f"--client-version {version}: not known",
            code="client-version-unknown",
            remedy=f"one of {', '.join(VERSIONS)}",
        )
    cluster, folder = _cluster(lent.identity, lent.estate, lent.kubeconfig, lent.context)
    cluster.token_for(lent.identity, lent.length)  # so that what cannot be lent is said now and not to the client later
    words = ["lend", lent.identity, "--to-client", version, "--life", lent.life, "--quiet"]
    kept = lent.kubeconfig.resolve() if lent.kubeconfig is not None else None
    for option, value in (("--estate", folder), ("--kubeconfig", kept), ("--context", lent.context)):
        words += [option, str(value)] if value is not None else []
    write_file(file, lent_kubeconfig(cluster, lent.identity, words, version).encode(), foreign=True)
    file.chmod(0o600)


def _cluster(
    identity: str, estate: Path | None, kubeconfig: Path | None, context: str | None
) -> tuple[LiveCluster, Path | None]:
    """The cluster that a service account is in, and the folder of the estate whose lab it is perhaps of."""
    parts = identity.split("/")
    if len(parts) != 7 or (parts[1], parts[3], parts[5]) != ("cluster", "namespace", "identity"):
        remedy = "expected ACCOUNT/cluster/NAME/namespace/NAME/identity/NAME"
        raise InvalidInput(
            f"{identity} is not a service account of a cluster", code="service-account-invalid", remedy=remedy
        )
    folder = estate_folder(estate) if estate is not None or find_estate(Path.cwd()) is not None else None
    found = cluster_of("/".join(parts[:3]), "", folder, kubeconfig, context, dict(os.environ))
    return LiveCluster(found), folder

"""`enthesis lend`: a short-lived credential for an identity, for one program or for other people's clients."""

import os
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.commands.common import QuietOption, put_text, remark, write_file

if TYPE_CHECKING:
    from enthesis.commands.origins import AtHand
    from enthesis.connectors.cluster.using import LiveCluster
    from enthesis.model.estate import Estate
    from enthesis.ports import Credential

USUAL_LIFE = "15m"
NO_SIGN_IN = "sign in with `enthesis lend --sign-in`, or run this where a workload runs"


def lend(
    identity: Annotated[
        str | None, typer.Argument(metavar="[IDENTITY]", help="Whom the program is to be, on its way.")
    ] = None,
    command: Annotated[
        list[str] | None, typer.Argument(metavar="[-- COMMAND...]", help="The program, with its arguments.")
    ] = None,
    endpoint: Annotated[
        bool, typer.Option("--endpoint", help="Lend at a loopback endpoint that renews, for long runs.")
    ] = False,
    sign_in: Annotated[
        bool, typer.Option("--sign-in", help="Sign in as a person; kept for eight hours at the most.")
    ] = False,
    forget: Annotated[bool, typer.Option("--forget", help="End the sign-in now.")] = False,
    organisation: Annotated[
        str | None, typer.Option("--organisation", metavar="NAME", help="At whose directory, if there are several.")
    ] = None,
    kubeconfig: Annotated[
        Path | None, typer.Option("--kubeconfig", metavar="FILE", help="Write a kubeconfig that asks here for tokens.")
    ] = None,
    life: Annotated[
        str, typer.Option("--life", metavar="DURATION", help="How long each token of a cluster lives.")
    ] = USUAL_LIFE,
    through: Annotated[
        Path | None,
        typer.Option("--through", metavar="FILE", help="The kubeconfig by which we reach the cluster ourselves."),
    ] = None,
    context: Annotated[
        str | None, typer.Option("--context", metavar="NAME", help="A context of it; default: its current one.")
    ] = None,
    to_client: Annotated[
        bool, typer.Option("--to-client", hidden=True, help="Answer a client that a lent kubeconfig sent here.")
    ] = False,
    estate: Annotated[
        Path | None, typer.Option("--estate", metavar="DIR", help="The estate's folder; default: the nearest upward.")
    ] = None,
    quiet: QuietOption = False,
) -> None:
    """Run a program as an identity, with a short-lived credential and nothing on disk.

    The credential comes from the best keyless origin that is at hand (`enthesis whoami` shows them), by the fewest hops
    that the estate's trusts allow. The program finds it in the variable ENTHESIS_SESSION, or with --endpoint at the
    address in ENTHESIS_METADATA_URL, which speaks as a host's metadata service does and renews it. Signals and
    the exit code are passed through. Exit 1 where no origin at hand can take the identity on.

    For a service account of a cluster, --kubeconfig writes one whose user asks here for a fresh token each time; that
    needs the right to request its tokens.

    Example: enthesis lend build/identity/publisher -- ./publish.sh
    """
    from enthesis.errors import Mistaken

    if sign_in or forget:
        from enthesis.commands.signing_in import forget_sign_in, sign_in_now

        if sign_in and forget:
            raise Mistaken("--sign-in begins and --forget ends", remedy="one at a time")
        (sign_in_now if sign_in else forget_sign_in)(estate, organisation, quiet=quiet)
        if identity is None:
            return
    if identity is None:
        raise Mistaken("nobody is named to lend", remedy="enthesis lend IDENTITY -- COMMAND")
    if to_client or kubeconfig is not None:
        _to_clients(identity, kubeconfig, life, through, context, estate, to_client=to_client, quiet=quiet)
        return
    if not command:
        raise Mistaken("no program is named", remedy=f"enthesis lend {identity} -- COMMAND, or --kubeconfig FILE")
    _to_program(identity, command, estate, endpoint=endpoint, quiet=quiet)


# -- to a program ------------------------------------------------------------------------------------------------


def _to_program(identity: str, command: list[str], estate: Path | None, *, endpoint: bool, quiet: bool) -> None:
    from enthesis.commands.common import estate_folder, read_estate
    from enthesis.commands.origins import at_hand
    from enthesis.commands.running import Lent, run_with_endpoint, run_with_variable
    from enthesis.errors import LiveFailure
    from enthesis.reading.shapes import duration_text

    folder = estate_folder(estate)
    described = read_estate(folder)
    _known(described, identity)
    now = datetime.now(UTC)
    found = _best(described, identity, [one for one in at_hand(described, folder, now) if not one.fault], now)
    if found is None:
        raise typer.Exit(1)
    origin, hops = found
    credential = _obtained(described, folder, origin, hops)
    if credential is None:
        raise typer.Exit(1)
    url, authority = _provider(described, folder, identity)
    lent = Lent(identity, credential, url, authority)
    until = now.replace(microsecond=0) + credential.life
    how = "renewed while it runs" if endpoint else f"until {until:%H:%M:%SZ}"
    remark(
        f"{command[0]} runs as {identity} for {duration_text(credential.life)}, {how}, by {origin.where}"
        f" ({origin.who}){_over(hops)}.",
        quiet=quiet,
    )
    if not endpoint:
        run_with_variable(command, lent)

    def again() -> "Credential":
        instant = datetime.now(UTC)
        usable = [one for one in at_hand(described, folder, instant) if not one.fault]
        fresh = _best(described, identity, usable, instant, told=False)
        got = _obtained(described, folder, *fresh, told=False) if fresh is not None else None
        if got is None:
            raise LiveFailure(f"{identity} cannot be taken on any more")
        return got

    raise typer.Exit(run_with_endpoint(command, lent, again))


def _known(estate: "Estate", identity: str) -> None:
    from enthesis.errors import Mistaken
    from enthesis.reading.shapes import nearest

    if identity not in estate.identities or estate.identities[identity].kind == "person":
        close = nearest(identity, [one for one in estate.identities if not one.startswith("@")])
        raise Mistaken(f"no identity is called {identity}", remedy=f"perhaps {' or '.join(close)}" if close else "")


def _best(
    estate: "Estate", identity: str, origins: "list[AtHand]", now: datetime, *, told: bool = True
) -> "tuple[AtHand, tuple[str, ...]] | None":
    """The first origin that comes to an identity, and how; why none does is said."""
    from enthesis.judging.compiling import compile_estate
    from enthesis.judging.judge import Judge
    from enthesis.judging.taking import refused_by, way_onto
    from enthesis.model.estate import Context

    judge = Judge(compile_estate(estate))
    usable = [one for one in origins if one.origin is not None and (one.credential is not None or one.service)]
    for one in usable:
        if one.origin is None:
            continue
        if one.form == "session" and one.who == identity:
            return one, ()
        hops = way_onto(estate, judge, one.origin, identity, Context(), now)
        if hops is not None:
            return one, hops
    for one in usable if told else ():
        if one.origin is not None:
            verdict = refused_by(judge, one.origin, identity, Context(), now)
            steps = ", ".join(verdict.requests[0].refusing)
            remark(f"Not by {one.where} ({one.who}): {identity} is refused at {steps}.")
    if told and not usable:
        cluster = "/namespace/" in identity
        how = "`enthesis lend … --kubeconfig FILE` lends it to clients of its cluster" if cluster else NO_SIGN_IN
        remark(f"Nothing that could take on {identity} is at hand here: {how}.")
    elif told:
        remark(f"`enthesis admit {identity}` says who is admitted.")
    return None


def _obtained(
    estate: "Estate", folder: Path, origin: "AtHand", hops: tuple[str, ...], *, told: bool = True
) -> "Credential | None":
    """The session of the last hop; None where a live system refuses, which is said."""
    from enthesis.commands.wiring import Given, connect
    from enthesis.ports import Refusal
    from enthesis.working.lending import NotLent, lent

    shown, rest = origin.credential, hops
    if origin.service is not None:
        first = origin.who if origin.form == "session" else hops[0]
        handed = origin.service.session(first)
        if isinstance(handed, Refusal):
            if told:
                remark(f"No session as {first} by {origin.where}: refused at {', '.join(handed.steps)}.")
            return None
        shown, rest = handed.credential, hops if origin.form == "session" else hops[1:]
    if shown is None or not rest:
        return shown
    got = lent(estate, shown, rest, connect(estate, folder, Given(at_hand=True)))
    if isinstance(got, NotLent):
        if told:
            remark(f"{got.identity} was refused at {', '.join(got.refusal.steps)}: {got.refusal.said}.")
        return None
    return got


def _provider(estate: "Estate", folder: Path, identity: str) -> tuple[str, str]:
    """Where the provider of an identity is, and the authority to trust there if it is a lab's."""
    from enthesis.commands.common import lab_state
    from enthesis.lab.control import running

    name = estate.system_of(identity)
    lab = running(lab_state(folder))
    for service in lab.services if lab else ():
        if lab is not None and service["name"] == name:
            return service["url"], str(lab.authority)
    provider = estate.providers.get(name)
    return (provider.url or "" if provider is not None else ""), ""


def _over(hops: tuple[str, ...]) -> str:
    return f", through {' and '.join(hops[:-1])}" if len(hops) > 1 else ""


# -- to clients of a cluster -------------------------------------------------------------------------------------


def _to_clients(
    identity: str,
    kubeconfig: Path | None,
    life: str,
    through: Path | None,
    context: str | None,
    estate: Path | None,
    *,
    to_client: bool,
    quiet: bool,
) -> None:
    from enthesis.connectors.cluster.lending import ASKED_BY, answer_to_client, lent_kubeconfig, version_asked
    from enthesis.errors import Mistaken
    from enthesis.reading.nodes import Node
    from enthesis.reading.shapes import MISSING, Duration, Notes

    length = Duration().read(Node(life, 1, 1), Notes(""))
    if length is MISSING:
        raise Mistaken(f"{life} is no duration", remedy="write it like 15m or 1h")
    cluster, folder = _cluster(identity, estate, through, context)
    if to_client:
        version = version_asked(os.environ.get(ASKED_BY, ""))
        put_text(answer_to_client(version, *cluster.token_for(identity, length)))
        return
    if kubeconfig is None:
        return
    cluster.token_for(identity, length)  # so that what cannot be lent is said now and not to the client later
    words = ["lend", identity, "--to-client", "--life", life, "--quiet"]
    kept = through.resolve() if through is not None else None
    for option, value in (("--estate", folder), ("--through", kept), ("--context", context)):
        words += [option, str(value)] if value is not None else []
    write_file(kubeconfig, lent_kubeconfig(cluster, identity, words).encode())
    kubeconfig.chmod(0o600)
    remark(f"{kubeconfig} lends {identity}, for {life} at a time.", quiet=quiet)


def _cluster(
    identity: str, estate: Path | None, through: Path | None, context: str | None
) -> "tuple[LiveCluster, Path | None]":
    """The cluster that a service account is in, and the folder of the estate whose lab it is perhaps of."""
    from enthesis.commands.common import estate_folder
    from enthesis.commands.wiring import cluster_of
    from enthesis.connectors.cluster.using import LiveCluster
    from enthesis.errors import Mistaken
    from enthesis.reading.finding import find_estate

    parts = identity.split("/")
    if len(parts) != 7 or (parts[1], parts[3], parts[5]) != ("cluster", "namespace", "identity"):
        remedy = "expected ACCOUNT/cluster/NAME/namespace/NAME/identity/NAME"
        raise Mistaken(f"{identity} is no service account of a cluster", remedy=remedy)
    folder = estate_folder(estate) if estate is not None or find_estate(Path.cwd()) is not None else None
    found = cluster_of("/".join(parts[:3]), "", folder, through, context, dict(os.environ))
    return LiveCluster(found), folder

"""`enthesis lend`: a short-lived credential for an identity, handed to other people's clients and kept nowhere."""

import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.commands.common import QuietOption, put_text, remark, write_file

if TYPE_CHECKING:
    from enthesis.connectors.cluster.using import LiveCluster

USUAL_LIFE = "15m"


def lend(
    identity: Annotated[str, typer.Argument(metavar="IDENTITY", help="A service account in a cluster.")],
    kubeconfig: Annotated[
        Path | None, typer.Option("--kubeconfig", metavar="FILE", help="Write a kubeconfig that asks here for tokens.")
    ] = None,
    life: Annotated[str, typer.Option("--life", metavar="DURATION", help="How long each token lives.")] = USUAL_LIFE,
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
        Path | None, typer.Option("--estate", metavar="DIR", help="The estate whose lab is meant, if it is one.")
    ] = None,
    quiet: QuietOption = False,
) -> None:
    """Lend a service account of a cluster: a kubeconfig whose user asks here for a fresh token each time.

    Nothing long-lived is in the file, and no token at all. Needs the right to request tokens of that service account.

    Example: enthesis lend surge/cluster/grid/namespace/nowcast/identity/runner --kubeconfig grid.config
    """
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
        raise Mistaken("nothing to write to", remedy="name a file with --kubeconfig")
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

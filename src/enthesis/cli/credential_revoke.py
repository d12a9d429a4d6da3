"""`enthesis credential revoke`."""

from typing import Annotated

import typer

from enthesis.change.keys import revoke_key
from enthesis.change.preparing import live_side
from enthesis.cli.arguments import by_clock_of, now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import EstateOption, QuietOption
from enthesis.files.finding import estate_folder
from enthesis.live.connecting import Given
from enthesis.output.progress import reporter
from enthesis.output.streams import remark


def revoke(
    name: Annotated[str, typer.Argument(metavar="NAME", help="The name of the keyed credential.")],
    of: Annotated[str | None, typer.Option("--of", metavar="IDENTITY", help="The identity that it belongs to.")] = None,
    at: Annotated[
        str | None, typer.Option("--at", metavar="PROVIDER", help="The provider that keeps it, if several do.")
    ] = None,
    estate: EstateOption = None,
    quiet: QuietOption = False,
) -> None:
    """Revoke a keyed credential: from now on it opens nothing.

    Needs `issue` on the identity. `enthesis credential` lists what there is.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    live = live_side(described, folder, Given(), reporter(quiet=quiet), now, acts=True)
    remark(f"Acting as {live.by}; `enthesis sign-out` ends that.", quiet=not live.by)
    found = revoke_key(described, live.connected, name, of, at)
    remark(f"{found.name} of {found.of} has been revoked: it opens nothing from now on.", quiet=quiet)

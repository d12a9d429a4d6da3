"""`enthesis survey usage`: what live systems have recorded of the use of access."""

from pathlib import Path
from typing import Annotated

import typer

from enthesis.cli.arguments import now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import EstateOption, QuietOption, named_files
from enthesis.files.finding import estate_folder
from enthesis.live.clocks import clock_for
from enthesis.live.connecting import connect
from enthesis.live.usage_logs import collected, from_audit_logs, write_usage
from enthesis.output.lines import counted
from enthesis.output.progress import reporter
from enthesis.output.streams import remark


def usage(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="Write to FILE, as JSON Lines or *.parquet.")],
    audit_log: Annotated[
        list[str] | None,
        typer.Option("--audit-log", metavar="ADDRESS=FILE", help="Read a cluster's use from its audit log instead."),
    ] = None,
    estate: EstateOption = None,
    quiet: QuietOption = False,
) -> None:
    """Write what providers and clusters have recorded of the use of access into a file.

    Needs the right to read those records. `trim`, `sweep` and `credential retire` take the file with --usage.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    progress = reporter(quiet=quiet)
    logs = named_files(audit_log, "--audit-log")
    if logs:
        rows = from_audit_logs(logs, described, progress)
    else:
        rows = collected(described, connect(described, folder), progress)
    count = write_usage(file, rows, described.name, clock_for(described, folder).now() if not logs else now())
    remark(f"{counted(count, 'request')} written to {file}.", quiet=quiet)

"""`enthesis survey compare`: what changed since a survey."""

from collections.abc import Iterable
from pathlib import Path
from typing import Annotated

import typer

from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import (
    DatabaseOption,
    DirectoryOption,
    EstateOption,
    FormatOption,
    HostOption,
    QuietOption,
)
from enthesis.cli.store_options import StoreOption, reading
from enthesis.cli.surveyed_systems import (
    DIGEST,
    ClustersOption,
    FurtherOption,
    IssuersOption,
    NamespacesOption,
    SurveyContextOption,
    SurveyKubeconfigOption,
    SystemsAsked,
    lines_of,
    survey_plan,
)
from enthesis.files.finding import estate_folder
from enthesis.model.errors import InvalidInput
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.output.surveys import comparison_json, comparison_lines
from enthesis.surveys.comparing import compare as compared
from enthesis.surveys.survey import InvalidSurvey


def compare(
    earlier: Annotated[
        str, typer.Argument(metavar="EARLIER", help="A survey: its file, or the digest of one that the store keeps.")
    ],
    later: Annotated[
        Path | None, typer.Argument(metavar="LATER", help="The survey to compare it with (default: survey now).")
    ] = None,
    cluster: ClustersOption = None,
    further: FurtherOption = None,
    namespace: NamespacesOption = None,
    issuer: IssuersOption = None,
    database: DatabaseOption = None,
    directory: DirectoryOption = None,
    host: HostOption = None,
    kubeconfig: SurveyKubeconfigOption = None,
    context: SurveyContextOption = None,
    expect_none: Annotated[bool, typer.Option("--expect-none", help="Exit 1 if anything changed.")] = False,
    output: FormatOption = TEXT,
    estate: EstateOption = None,
    store: StoreOption = None,
    quiet: QuietOption = False,
) -> None:
    """Show what changed since a survey: against a later one, or the live systems now.

    Without a later one the systems are read now, as `enthesis survey` reads them, and no file is written. Exit 3 where
    one of the two is only in part.
    """
    before = _earlier(earlier, estate, store)
    asked = SystemsAsked(cluster, further, namespace, issuer, database, directory, host, kubeconfig, context)
    if later is not None:
        if asked != SystemsAsked():
            raise InvalidInput(
                "two surveys are compared, so no system is read", code="options-conflict",
                remedy="leave the options that name systems out",
            )  # fmt: skip
        after: Iterable[bytes] = lines_of(later)
    else:
        after = list(survey_plan(asked, estate, quiet=quiet).lines(quiet=quiet))
    try:
        found = compared(before, after, (earlier, str(later) if later is not None else "the live side"))
    except InvalidSurvey as fault:
        raise InvalidInput(str(fault), code="survey-invalid") from None
    put_answer(output, CommandAnswer(lambda: comparison_json(found), lambda: comparison_lines(found)))
    if not found.complete:
        raise typer.Exit(3)
    if expect_none and found.differs:
        raise typer.Exit(1)


def _earlier(named: str, estate: Path | None, store: str | None) -> Iterable[bytes]:
    """The lines of an earlier survey: a file, or one that the store keeps, by the beginning of its digest."""
    if not named.startswith(DIGEST) or Path(named).exists():
        return lines_of(Path(named))
    place = estate_folder(estate)
    with reading(place, store) as journal:
        kept = journal.kept(read_estate(place).name, ("survey",)) if journal is not None else []
        found = {document.digest for document in kept if document.digest.startswith(named)}
        content = journal.document(found.pop()) if journal is not None and len(found) == 1 else None
    if content is None:
        raise InvalidInput(
            f"the store keeps no survey {named}, or several whose digests begin like this",
            code="survey-unknown",
            remedy="enthesis history documents lists them",
        )
    return content.splitlines(keepends=True)

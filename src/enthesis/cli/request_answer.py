"""`enthesis request answer`: what we say to another party's request."""

from pathlib import Path
from typing import Annotated

import typer

from enthesis.cli.arguments import now
from enthesis.cli.handoff_documents import KeyOption, SignOption, document_from, handoff_in, write_document
from enthesis.cli.options import QuietOption
from enthesis.model.errors import InvalidInput
from enthesis.output.handoffs import answer_sentence
from enthesis.output.renderers import TEXT, put_done
from enthesis.proposals.handoff_life import HandoffAnswer, HandoffSays
from enthesis.text.times import time_text


def answer(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The document of another party.")],
    says: Annotated[HandoffSays, typer.Argument(metavar="done|refused|changed", help="What we say to it.")],
    out: Annotated[Path, typer.Option("--out", metavar="FILE", help="Write the answer to FILE as JSON.")],
    because: Annotated[
        str, typer.Option("--because", metavar="TEXT", help="The reason, which `refused` and `changed` need.")
    ] = "",
    key: KeyOption = None,
    sign: SignOption = None,
    quiet: QuietOption = False,
) -> None:
    """Answer what another party asks of us: done, refused or changed.

    Contacts no live system, and needs no estate. Who asked takes the answer in with `enthesis request in`.
    """
    taken = handoff_in(file, document_from(file, key))
    if says is not HandoffSays.DONE and not because:
        raise InvalidInput(
            f"{says.value} wants a reason", code="argument-missing", remedy="say it with --because, for who asked"
        )
    made = HandoffAnswer(taken.reference, taken.theirs, says.value, because, time_text(now()))
    write_document(out, made.as_json(), sign)
    put_done(f"{answer_sentence(made)} Written to {out}{', signed' if sign is not None else ''}.",
             output=TEXT, quiet=quiet)  # fmt: skip

"""Documents between parties: read with their signature verified, and written, signed where there is a key."""

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.files.saving import document_in, read_file, write_file
from enthesis.model.errors import InvalidInput
from enthesis.output.lines import json_text
from enthesis.proposals.handoffs import Handoff, handoff_from

MAX_DOCUMENT = 4 * 1024 * 1024  # bytes

KeyOption = Annotated[
    Path | None,
    typer.Option("--key", metavar="FILE", help="Verify the document with this public key of theirs."),
]
SignOption = Annotated[
    Path | None, typer.Option("--sign", metavar="KEY", help="Sign what --out writes with this Ed25519 key.")
]


def write_document(out: Path, said: Mapping[str, Any], sign: Path | None) -> None:
    """Writes a document for another party, signed where there is a key to sign it with."""
    document = json_text(said).encode() + b"\n"
    if sign is not None:
        from enthesis.live.signing import signed  # noqa: PLC0415  loads the libraries of tokens

        document = signed(document, sign)
    write_file(out, document)


def document_from(file: Path, key: Path | None) -> Any:
    """What a document of another party says, signed or not; InvalidInput where it is none, or the signature is not by
    the key."""
    from enthesis.live.signing import opened  # noqa: PLC0415  loads the libraries of tokens

    content = opened(read_file(file, MAX_DOCUMENT), key, str(file))
    try:
        return document_in(content)
    except (ValueError, RecursionError) as fault:
        raise InvalidInput(f"{file}: {fault}", code="handoff-invalid") from None


def handoff_in(file: Path, said: Any) -> Handoff:
    """The handoff that a document holds; InvalidInput where it holds none."""
    try:
        return handoff_from(said)
    except (ValueError, RecursionError) as fault:
        raise InvalidInput(f"{file}: {fault}", code="handoff-invalid") from None

"""The keyed credentials of an estate's files and of live systems, each once, with whether it works and why not."""

from collections.abc import Sequence
from datetime import datetime

from enthesis.access.compiling import Compiled, compile_estate
from enthesis.access.names.standing import why_shut
from enthesis.model.estate import Credential, Estate
from enthesis.proposals.credentials import Credentialed, ListedCredential, matching
from enthesis.text.times import time_from, time_text


def listed(estate: Estate, live: Sequence[tuple[Credentialed, str]] | None, now: datetime) -> list[ListedCredential]:
    """Every keyed credential of the files and of the live side, each once; `live` with where it is kept, None where no
    live system was asked."""
    out: list[ListedCredential] = []
    seen: set[str] = set()
    compiled = compile_estate(estate)
    for kept, at in live or ():
        described = matching(estate, kept)
        if described is not None:
            seen.add(described.name)
        why_not = _why_not(compiled, kept, now)
        out.append(
            ListedCredential(
                kept.name, kept.of, kept.form, not why_not, why_not, at, kept.fingerprint, kept.created, kept.made_by,
                kept.expires, kept.last_used, kept.reason, tuple(map(str, described.held_in)) if described else (),
                str(described.source) if described else "",
            )
        )  # fmt: skip
    for name, one in estate.credentials.items():
        if name not in seen:
            out.append(_described(compiled, one, now, asked=live is not None))
    return sorted(out, key=lambda each: (each.of, each.name))


def _why_not(compiled: Compiled, kept: Credentialed, now: datetime) -> str:
    """Why a credential that a live system keeps opens nothing; '' where it does. What the files do not describe of its
    identity is not known to be wrong."""
    as_described = Credential(kept.name, kept.of, kept.form, expires=time_from(kept.expires), disabled=kept.disabled)
    if as_described.opens(now) and kept.of not in compiled.estate.identities:
        return ""
    return why_shut(compiled, as_described, now)


def _described(compiled: Compiled, credential: Credential, now: datetime, *, asked: bool) -> ListedCredential:
    """A credential that the files have and none of the live systems we asked."""
    why_not = why_shut(compiled, credential, now)
    if not why_not and asked:
        why_not = "no live system has it: remove it from the files"
    created, expires, used = (
        time_text(at) if at else None for at in (credential.created, credential.expires, credential.last_used)
    )
    held_in = tuple(map(str, credential.held_in))
    return ListedCredential(
        credential.name, credential.of, credential.form, False if why_not else None, why_not, "",
        credential.fingerprint, created, "", expires, used, "", held_in, str(credential.source),
    )  # fmt: skip

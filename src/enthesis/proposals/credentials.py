"""Keyed credentials side by side, what the files describe and what live systems keep; and sessions that are open."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from enthesis.files.shapes import time_from, time_text
from enthesis.model.estate import Credential, Estate


@dataclass(frozen=True, slots=True)
class Credentialed:
    """A keyed credential as a live system keeps it; never its value. Times are RFC 3339."""

    id: str
    name: str
    of: str
    form: str
    fingerprint: str
    created: str | None = None
    expires: str | None = None
    last_used: str | None = None
    disabled: bool = False
    reason: str = ""
    made_by: str = ""

    def as_entry(self) -> dict[str, Any]:
        """As an estate has it, with its name; what is not known is left out."""
        names = ("name", "of", "form", "created", "expires", "last_used", "fingerprint")
        said = {name: getattr(self, name) for name in names if getattr(self, name) is not None}
        return {**said, **({"disabled": True} if self.disabled else {})}


@dataclass(frozen=True, slots=True)
class OpenSession:
    """A session that has not ended: at which system, whose, from which origin, through whom, from when until when."""

    id: str
    at: str
    of: str
    origin: Mapping[str, Any]
    via: tuple[str, ...]
    began: datetime
    ends: datetime

    @property
    def began_as(self) -> str:
        """The origin in words: its address or issuer, and what it is."""
        kind = str(self.origin.get("kind", ""))
        whom = str(self.origin.get("address") or self.origin.get("issuer") or "")
        return f"{kind} {whom}".strip() or "no origin that is known"


@dataclass(frozen=True, slots=True)
class ListedCredential:
    """A keyed credential, and what the files and the live systems say about it.

    `works` is None where no live system was asked. `why_not` says why the credential does not work."""

    name: str
    of: str
    form: str
    works: bool | None
    why_not: str = ""
    at: str = ""
    fingerprint: str | None = None
    created: str | None = None
    made_by: str = ""
    expires: str | None = None
    last_used: str | None = None
    because: str = ""
    held_in: tuple[str, ...] = ()
    source: str = ""


def matching(estate: Estate, kept: Credentialed) -> Credential | None:
    """What the files say of a credential that a live system keeps: by its fingerprint, else by name and identity."""
    by_name = estate.credentials.get(kept.name)
    by_print = (
        credential
        for credential in estate.credentials.values()
        if credential.fingerprint == kept.fingerprint is not None
    )
    found = next(by_print, None)
    if found is not None:
        return found
    same = by_name is not None and by_name.of == kept.of and by_name.fingerprint is None
    return by_name if same else None


def listed(estate: Estate, live: Sequence[tuple[Credentialed, str]] | None, now: datetime) -> list[ListedCredential]:
    """Every keyed credential of the files and of the live side, each once; `live` with where it is kept, None where no
    live system was asked."""
    out: list[ListedCredential] = []
    seen: set[str] = set()
    for kept, at in live or ():
        described = matching(estate, kept)
        if described is not None:
            seen.add(described.name)
        why_not = _ended(kept.disabled, time_from(kept.expires), now)
        out.append(
            ListedCredential(
                kept.name, kept.of, kept.form, not why_not, why_not, at, kept.fingerprint, kept.created, kept.made_by,
                kept.expires, kept.last_used, kept.reason, described.held_in if described else (),
                str(described.source) if described else "",
            )
        )  # fmt: skip
    for name, one in estate.credentials.items():
        if name not in seen:
            out.append(_described(one, now, asked=live is not None))
    return sorted(out, key=lambda each: (each.of, each.name))


def _ended(disabled: bool, expires: datetime | None, now: datetime) -> str:
    """Why a credential does not work any more; empty where it works."""
    return "disabled" if disabled else "expired" if expires is not None and expires <= now else ""


def _described(credential: Credential, now: datetime, *, asked: bool) -> ListedCredential:
    """A credential that the files have and none of the live systems we asked."""
    why_not = _ended(credential.disabled, credential.expires, now)
    if not why_not and asked:
        why_not = "no live system has it: remove it from the files"
    created, expires, used = (
        time_text(at) if at else None for at in (credential.created, credential.expires, credential.last_used)
    )
    return ListedCredential(
        credential.name, credential.of, credential.form, False if why_not else None, why_not, "",
        credential.fingerprint, created, "", expires, used, "", credential.held_in, str(credential.source),
    )  # fmt: skip

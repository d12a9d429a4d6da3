"""Keyed credentials side by side, what the files describe and what live systems keep; and sessions that are open."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from enthesis.model.estate import Credential, Estate

DELETED = "(deleted)"  # the name of a key that is not there any more


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
        if self.origin.get("credential"):
            kind = f"credential {self.origin['credential']} of"
        whom = str(self.origin.get("address") or self.origin.get("issuer") or "")
        return f"{kind} {whom}".strip() or "no origin that is known"


def with_names(found: Iterable[OpenSession], keys: Iterable[Credentialed]) -> Iterator[OpenSession]:
    """Sessions with the names of the keys that they began with, which a system tells by their ids: one whose key is
    not there any more says so."""
    names = {key.id: key.name for key in keys}
    for session in found:
        identifier = session.origin.get("credential")
        named = {"credential": names.get(identifier, DELETED)} if identifier else {}
        yield replace(session, origin={**session.origin, **named})


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

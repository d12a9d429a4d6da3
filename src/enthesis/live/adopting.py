"""Takes over what is in a cluster, database or host: writes it into the estate's files, comments and order kept."""

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any, Protocol

from enthesis.files.editing import Addition
from enthesis.files.saving import edit_files, must_be_described
from enthesis.model.addresses import contains
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.ports import Record

ORDER = ("kinds", "resources", "identities", "groups", "trusts", "roles", "grants", "ceilings", "credentials")


class SystemToAdopt(Protocol):
    """A live system of its own that can be taken over: a cluster, a database or a host."""

    def adoptable(self, step: Callable[[str], None]) -> list[Record]:
        """What is there and was not made by us, as the lines of a survey."""


def adopt(
    estate: Estate, folder: Path, address: str, system: SystemToAdopt, say: Callable[[str], None]
) -> tuple[Counter[str], bool]:
    """Writes what is at an address of a cluster, database or host into the estate; how many entries, by section, and
    whether that is all.

    The files are read back first, and nothing is written unless they read without an error.
    """
    records = system.adoptable(lambda what: None)
    additions = _additions(estate, address, records, say)
    edit_files(folder, additions, must_be_described(address))
    missing = [record for record in records if record.get("incomplete")]
    for record in missing:
        say(f"Left out: {record['left_out']}: {record['why']}.")
    return Counter(addition.section for addition in additions), not missing


def place_to_adopt(estate: Estate, address: str) -> str:
    """The cluster, database or host that is taken over, or part of a cluster; InvalidInput where that cannot be."""
    parts = address.split("/")
    system, kind = "/".join(parts[:3]), parts[1] if len(parts) > 1 else ""
    whole = len(parts) == 3 and kind in ("cluster", "database", "host")
    if not whole and not (len(parts) == 5 and (kind, parts[3]) == ("cluster", "namespace")):
        raise InvalidInput(
            f"{address} is neither a cluster nor a namespace, nor a database or host",
            code="cluster-unknown",
            remedy="ACCOUNT/cluster/NAME[/namespace/NAME], ACCOUNT/database/NAME or ACCOUNT/host/NAME",
        )
    if system not in estate.resources and kind == "cluster":
        raise InvalidInput(
            f"the estate has no cluster {system}",
            code="cluster-unknown",
            remedy=f"add it to `resources`: {system}: {{}}",
        )
    return system


def _additions(estate: Estate, address: str, records: list[Record], say: Callable[[str], None]) -> list[Addition]:
    """The entries that the estate lacks, for what is at an address or beneath it, and what those need."""
    plain = [record for record in records if "section" in record and "follows" not in (record.get("live") or {})]
    by_section: dict[str, list[Record]] = {}
    for body in plain:
        by_section.setdefault(body["section"], []).append(body)
    grants = [
        grant
        for grant in by_section.get("grants", [])
        if contains(address, grant["at"]) and not (grant.get("live") or {}).get("came_along")
    ]
    grants = _at_something(grants, by_section, say) if "/cluster/" in address else grants
    roles = {grant["role"] for grant in grants}
    named = {grant["to"] for grant in grants}
    chosen: dict[str, list[Record]] = {
        "resources": [
            resource for resource in by_section.get("resources", []) if contains(address, resource["address"])
        ],
        "identities": [
            identity
            for identity in by_section.get("identities", [])
            if contains(address, identity["address"]) or identity["address"] in named
        ],
        "groups": [
            group
            for group in by_section.get("groups", [])
            if group["address"] in named or contains(address, group["address"])
        ],
        "roles": [role for role in by_section.get("roles", []) if role["name"] in roles],
        "grants": _once(grants),
        "ceilings": [one for one in by_section.get("ceilings", []) if contains(address, one["at"])],
        "credentials": [
            one for one in by_section.get("credentials", []) if contains(address, one["of"]) or "/host/" in address
        ],
    }
    accounts = {identity["address"] for identity in chosen["identities"]}
    chosen["trusts"] = [trust for trust in by_section.get("trusts", []) if trust["of"] in accounts]
    chosen["kinds"] = _kinds(by_section.get("kinds", []), chosen["roles"])
    out: list[Addition] = []
    for section in ORDER:
        for body in chosen[section]:
            key = "address" if section in ("resources", "identities", "groups") else "name"
            name = str(body[key]) if section not in ("trusts", "grants", "ceilings") else ""
            entry = {field: value for field, value in body.items() if field not in ("section", "live", name and key)}
            if not _described(estate, section, name, entry):
                out.append(Addition(section, name, entry))
    return out


def _at_something(
    grants: list[Record], by_section: Mapping[str, list[Record]], say: Callable[[str], None]
) -> list[Record]:
    """The grants at what is there and to whom the cluster itself knows; a rule may name what is not, and an estate
    cannot; and what is described at an account is made by its cloud."""
    listed = {group["address"] for group in by_section.get("groups", []) if "where" not in group or "members" in group}
    there = {entry["address"] for section in ("resources", "identities") for entry in by_section.get(section, [])}
    out: list[Record] = []
    for grant in grants:
        parts = grant["at"].split("/")
        if parts[-2] in ("cluster", "namespace", "secret", "identity") and grant["at"] not in there:
            say(f"Left out: {grant['to']} is granted a role at {grant['at']}, which does not exist.")
        elif grant["to"] in listed or (grant["to"].split("/")[1:2] == ["identity"] and grant["to"][0] != "@"):
            say(f"Left out: {grant['to']} is granted a role at {grant['at']}: its identity is unknown.")
        else:
            out.append(grant)
    return out


def _once(grants: Iterable[Record]) -> list[Record]:
    """Each grant once: two bindings may give the same."""
    return list({(grant["to"], grant["role"], grant["at"]): grant for grant in grants}.values())


def _kinds(kinds: list[Record], roles: list[Record]) -> list[Record]:
    """The kinds and verbs that roles refer to, and no others."""
    verbs: dict[str, set[str]] = {}
    for role in roles:
        for kind, listed in role["allows"].items():
            verbs.setdefault(kind, set()).update(listed)
    out: list[Record] = []
    for kind in kinds:
        needed = {verb: its for verb, its in kind["verbs"].items() if verb in verbs.get(kind["name"], ())}
        if needed:
            out.append({**kind, "verbs": needed})
    return out


def _described(estate: Estate, section: str, name: str, entry: Mapping[str, Any]) -> bool:
    """Whether the estate says it already."""
    if section == "grants":
        return any(
            (grant.to, grant.role, grant.at) == (entry["to"], entry["role"], entry["at"]) for grant in estate.grants
        )
    if section == "trusts":
        return any(trust.of == entry["of"] for trust in estate.trusts)
    if section == "ceilings":
        return any(ceiling.name == entry["name"] for ceiling in estate.ceilings)
    if section == "kinds":
        known = estate.catalogue.verbs_of(name)
        return all(verb in known for verb in entry["verbs"])
    return name in getattr(estate, section)

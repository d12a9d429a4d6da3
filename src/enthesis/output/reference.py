"""What every section, field, kind, verb and code means, as data: for `enthesis help` and the reference pages."""

from collections.abc import Iterator, Mapping
from typing import Any

from enthesis.files.field_types import Field, Record
from enthesis.files.sections import SECTIONS
from enthesis.model.catalogue import Catalogue
from enthesis.model.causes import CAUSES
from enthesis.model.risks import FINDINGS, RISKS

SAYS = {
    "organisations": ("the parties: your organisation and those you work with", "saltmarsh: {units: [field]}"),
    "providers": ("the clouds", "lowland: {style: two-sided}"),
    "accounts": ("the accounts, each at a provider", 'gauges: {in: "@saltmarsh/field", provider: lowland}'),
    "issuers": ("who signs statements about callers", "forge: {kind: oidc, url: https://forge.saltmarsh.example}"),
    "resources": ("what exists already", "gauges/bucket/raw-levels: {labels: {tier: raw}}"),
    "identities": ("what workloads and people are known as", "gauges/identity/collector: {kind: instance-role}"),
    "groups": ("groups of identities", "gauges/group/northern: {where: {labels: {coast: north}}}"),
    "roles": ("named permissions", "page-writing: {allows: {object: [read, write]}}"),
    "trusts": (
        "who may take on an identity",
        "{of: build/identity/publisher, admits: {token: forge, claims: {sub: project/tides/bulletin}}}",
    ),
    "grants": ("who has which role where", "{to: build/identity/publisher, role: page-writing, at: bulletin}"),
    "ceilings": ("what no grant overrides", "{name: no-deletes, over: targets, at: gauges, bars: {object: delete}}"),
    "attachments": ("what runs as which identity", "{what: gauges/host/bench, runs_as: gauges/identity/collector}"),
    "credentials": (
        "keyed credentials, never a value",
        "tape: {of: gauges/identity/archiver, form: access-key, expires: 2027-01-31T00:00:00Z}",
    ),
    "pipeline_access": (
        "what a pipeline service keeps for its runs",
        "archive-way: {at: forge, of: gauges/identity/archiver, admits: {sub: project/tides/archive/branch/main}}",
    ),
    "journeys": (
        "what must be allowed, and what must be refused",
        "publish: {from: {token: forge, claims: {sub: x}}, through: [build/identity/publisher], expect: allowed}",
    ),
    "invariants": (
        "what must hold for every chain",
        "{name: forks, never: {from: {token: forge, claims: {event: fork-merge}}, can: write, at: bulletin}}",
    ),
    "accepted": (
        "risks and findings that are accepted for a while",
        "{risk: any-audience, of: build/identity/publisher, because: moving, until: 2027-05-31T00:00:00Z}",
    ),
    "approvals": ("changes that need a second person", "{at: gauges, by: 2, of: gauges/group/leads}"),
    "approvers": ("the keys with which people approve", '"@saltmarsh/identity/ines": {key: ssh-ed25519 AAAA…}'),
    "notice": ("how long before an end `calendar` reports it", "credential: {before: [90d, 30d, 7d]}"),
    "retiring": ("keyed credentials on their way to keyless", "tape: {stage: planned}"),
    "kinds": ("further kinds of resources", "gauge: {in: [account], verbs: {calibrate: manage}}"),
}
"""What each section is for, and one entry of it."""
CONCEPTS = {
    "verdicts": (
        "A request is allowed when all seven steps allow it: names, provider, ceilings, target-side, caller-side, "
        "companions, session. `enthesis trace` shows each step with the statement that decides it.",
        "docs/concepts/verdicts.md",
    ),
    "sides": (
        "In a crossing (caller and target in different accounts) a two-sided provider wants a grant held by each "
        "account; a one-sided provider wants only that of the target's account.",
        "docs/concepts/sides.md",
    ),
    "conditions": (
        'A condition tests an attribute: a plain value is itself, {glob: "project/*/main"} a pattern (`*` within one '
        "segment, `**` across segments), {not: …}, {within: 10.0.0.0/8}, {before: …}, {after: …}, {longer_than: 15m}, "
        "{present: true}; a list means any of its tests.",
        "docs/concepts/conditions.md",
    ),
    "addresses": (
        "ACCOUNT/KIND/NAME, with further KIND/NAME pairs inside: gauges/bucket/raw-levels/object/2026/a. Organisations "
        "and units begin with @: @saltmarsh/field. People are at @ORGANISATION/identity/NAME.",
        "docs/concepts/estate.md",
    ),
    "exit-codes": (
        "0 as asked; 1 the answer is no; 2 the request or the estate is wrong; 3 a live system could not be reached or "
        "refused us, or not all of it was read; 4 stopped part-way, run again to continue; 70 a fault of Enthesis "
        "itself; 130 interrupted; 141 the reader of the output went away.",
        "docs/interfaces.md",
    ),
    "lab": (
        "Stand-ins for clouds, hosts, clusters, a pipeline service and a directory, on this machine. `enthesis lab "
        "start` starts them for an estate; while they run, they take the place of its live systems.",
        "docs/concepts/lab.md",
    ),
    "variables": (
        "ENTHESIS_TOKEN, ENTHESIS_TOKEN_FILE, ENTHESIS_METADATA_URL, ENTHESIS_CERTIFICATE_FILE and ENTHESIS_SESSION "
        "hold a credential for the program that is run; ENTHESIS_STORE names the store of enactments; NO_COLOR turns "
        "colour off.",
        "docs/interfaces.md",
    ),
}
"""Ideas that no section or command stands for: a text, and the page with the whole story."""


def rows(record: Record, above: str = "") -> Iterator[tuple[str, str, str]]:
    """Every field of a record and of those in it: its path, its value and its meaning, in Markdown."""
    for field in record.fields:
        path = f"{above}{field.name}"
        yield f"**`{path}`**" if field.required else f"`{path}`", _value(field), field.says.replace("|", "\\|")
        if isinstance(field.shape, Record):
            yield from rows(field.shape, f"{path}.")


def _value(field: Field) -> str:
    said = field.shape.expected.replace("|", "\\|").replace("`", "")
    return "a mapping" if said.startswith("a mapping (") else said


def topic(name: str, catalogue: Catalogue) -> dict[str, Any] | None:
    """What there is to say of a word: a section, kind, verb, code or idea; None where it is none of them."""
    if name in SECTIONS:
        says, example = SAYS[name]
        fields = [
            {"field": path, "value": value, "means": text} for path, value, text in plain_rows(SECTIONS[name].record)
        ]
        item = f"- {example}" if SECTIONS[name].key is None else example
        return {
            "topic": name,
            "is": "a section of an estate",
            "says": says,
            "example": f"{name}:\n  {item}",
            "fields": fields,
        }
    if name in catalogue.kinds:
        kind = catalogue.kinds[name]
        return {
            "topic": name,
            "is": "a kind",
            "says": f"stands in {', '.join(kind.within) or 'nothing'}",
            "verbs": dict(kind.verbs),
        }
    if name in catalogue.all_verbs():
        kinds = {one.name: one.verbs[name] for one in catalogue.kinds.values() if name in one.verbs}
        return {"topic": name, "is": "a verb", "says": "with its class, by kind", "verbs": kinds}
    if name in CAUSES:
        cause = CAUSES[name]
        return {"topic": name, "is": "the code of an error", "says": cause.what, "fix": cause.fix}
    codes: Mapping[str, str] = {**FINDINGS, **RISKS}
    if name in codes:
        return {"topic": name, "is": "the code of a risk or finding", "says": codes[name]}
    if name in CONCEPTS:
        says, page = CONCEPTS[name]
        return {"topic": name, "is": "an idea", "says": says, "page": page}
    return None


def plain_rows(record: Record) -> Iterator[tuple[str, str, str]]:
    """The same rows without Markdown; a required field ends in `*`."""
    for path, value, text in rows(record):
        required = "*" if path.startswith("**") else ""
        yield path.strip("*`") + required, value.replace("\\|", "|"), text.replace("\\|", "|")


def topics(catalogue: Catalogue) -> dict[str, list[str]]:
    """Every word that there is something to say of, by what it is."""
    return {
        "ideas": list(CONCEPTS),
        "sections": list(SECTIONS),
        "kinds": list(catalogue.kinds),
        "verbs": sorted(catalogue.all_verbs()),
        "codes of errors": sorted(CAUSES),
        "codes of risks and findings": sorted({**FINDINGS, **RISKS}),
    }

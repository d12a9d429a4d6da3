"""Writes docs/reference.md from the description of an estate's sections: `python -m tests.fields_page`."""

from collections.abc import Iterator
from pathlib import Path

from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue
from enthesis.files.sections import SECTIONS
from enthesis.files.shapes import Field, Record

PAGE = Path(__file__).parent.parent / "docs" / "reference.md"
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
HEAD = """\
# Reference of an estate's files

After reading this page you can look up every section and field of an estate, and every kind with its verbs. An estate
is a folder of YAML files with `estate.yaml` in it; a section may stand in any of them. `enthesis check --schema` prints
the same as a JSON Schema, for editors.

```yaml
estate: saltmarsh
organisations: {saltmarsh: {units: [field]}}
providers: {lowland: {style: two-sided}}
accounts: {gauges: {in: "@saltmarsh/field", provider: lowland}}
identities: {gauges/identity/collector: {kind: instance-role, owner: field}}
```

Besides its sections, a file may have `estate` (its name, in `estate.yaml` alone) and `ignore` (files in the folder that
are not part of the estate). **Bold** fields are required.
"""


def page() -> str:
    """The whole page."""
    parts = [HEAD]
    for name, section in SECTIONS.items():
        says, example = SAYS[name]
        key = {"name": "by name", "address": "by address", None: "a list"}[section.key]
        item = f"- {example}" if section.key is None else example
        parts.append(f"\n## {name}\n\n{says[0].upper()}{says[1:]}; {key}.\n\n```yaml\n{name}:\n  {item}\n```\n")
        parts.append("\n| field | value | what it means |\n|---|---|---|\n")
        parts += [f"| {path} | {value} | {text} |\n" for path, value, text in rows(section.record)]
    parts.append("\n## Kinds and verbs\n\nThe kinds that every estate knows; `kinds` adds to them.\n")
    parts.append("\n| kind | in | verbs |\n|---|---|---|\n")
    for kind in packaged_catalogue(TreeCache(None)).kinds.values():
        verbs = ", ".join(f"{verb} ({its})" for verb, its in kind.verbs.items())
        parts.append(f"| `{kind.name}` | {', '.join(kind.within)} | {verbs} |\n")
    return "".join(parts)


def rows(record: Record, above: str = "") -> Iterator[tuple[str, str, str]]:
    """Every field of a record and of those in it: its path, its value and its meaning."""
    for field in record.fields:
        path = f"{above}{field.name}"
        yield f"**`{path}`**" if field.required else f"`{path}`", _value(field), field.says.replace("|", "\\|")
        if isinstance(field.shape, Record):
            yield from rows(field.shape, f"{path}.")


def _value(field: Field) -> str:
    said = field.shape.expected.replace("|", "\\|").replace("`", "")
    return "a mapping" if said.startswith("a mapping (") else said


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")

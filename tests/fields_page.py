"""Writes docs/reference.md from the description of an estate's sections: `python -m tests.fields_page`."""

from pathlib import Path

from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue
from enthesis.files.sections import SECTIONS
from enthesis.output.reference import SAYS, rows

PAGE = Path(__file__).parent.parent / "docs" / "reference.md"
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


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")

"""The model back to files: plain data with the same shapes that reading uses."""

import json
from enum import StrEnum
from hashlib import sha256
from typing import Any

import yaml

from enthesis.files.sections import SECTIONS
from enthesis.files.yaml_tree import resolved
from enthesis.model.estate import Estate


def plain_estate(estate: Estate) -> dict[str, Any]:
    """The estate as it stands in one file; empty sections are left out."""
    out: dict[str, Any] = {"estate": estate.name, **({"ignore": list(estate.ignore)} if estate.ignore else {})}
    for word, section in SECTIONS.items():
        values = getattr(estate, word)
        if not values:
            continue
        if section.key:
            out[word] = {name: section.record.plain(value) for name, value in values.items()}
        else:
            out[word] = [section.record.plain(value) for value in values]
    return out


def says_the_same(one: Estate, other: Estate) -> bool:
    """Whether two estates say the same, whatever the order of statements."""
    return _in_any_order(one) == _in_any_order(other)


def _in_any_order(estate: Estate) -> dict[str, Any]:
    plain = plain_estate(estate)
    ordered = {
        word: sorted(json.dumps(entry, sort_keys=True, default=str) for entry in value)
        for word, value in plain.items()
        if isinstance(value, list)
    }
    return {**plain, **ordered}


def estate_digest(estate: Estate) -> str:
    """What an estate is known by: everything it says, wherever in its files and with whichever comments."""
    said = json.dumps(plain_estate(estate), sort_keys=True, default=str)
    return f"sha-256:{sha256(said.encode()).hexdigest()}"


def plain_statement(section: str, value: Any) -> dict[str, Any]:
    """One entry of a section as it stands in a file, without its name or address."""
    plain: dict[str, Any] = SECTIONS[section].record.plain(value)
    return plain


class _Dumper(yaml.SafeDumper):
    """Quotes what YAML 1.2 would read as something other than text."""


_LINE_BREAKS = frozenset("\x85\u2028\u2029\ufeff")  # YAML 1.1 breaks lines there, and 1.2 does not


def _text(dumper: yaml.SafeDumper, text: str) -> yaml.ScalarNode:
    style = None if isinstance(resolved(text), str) else "'"
    if _LINE_BREAKS & set(text):
        style = '"'
    return dumper.represent_scalar("tag:yaml.org,2002:str", text, style=style)


_Dumper.add_representer(str, _text)
_Dumper.add_multi_representer(StrEnum, lambda dumper, word: _text(dumper, str(word)))


def estate_text(estate: Estate) -> str:
    """The estate as YAML 1.2."""
    text: str = yaml.dump(plain_estate(estate), Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=100)
    return text


def flow_text(value: Any) -> str:
    """A value as YAML 1.2 on one line, as it can stand inside another."""
    text: str = yaml.dump(
        value, Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=10**6, default_flow_style=True
    )
    return text.removesuffix("\n...\n").rstrip("\n")

"""What clouds and directories cannot hold of an estate's statements, whichever they are: seen without asking one."""

from collections.abc import Mapping
from typing import Any


def cloud_objection(name: str, collection: str, body: Mapping[str, Any]) -> str:
    """Why a cloud, by its name, cannot hold a statement; '' where it can."""
    if collection == "ceilings" and str(body["at"]).startswith("@") and "/identity/" in str(body["at"]):
        return f"{name} keeps no ceiling at a person: people are their organisation's"
    return ""


def directory_objection(name: str, collection: str, body: Mapping[str, Any]) -> str:
    """Why a directory, by its name, cannot hold a statement; '' where it can."""
    if collection == "groups" and "where" in body:
        return f"a directory keeps lists, and no rule: {body['address']} is not kept at {name}"
    return ""

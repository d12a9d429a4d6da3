"""What an estate wants of its clusters as plain YAML, for those who deliver by repository."""

import re
from pathlib import Path
from typing import TYPE_CHECKING

from enthesis.commands.common import remark, write_file

if TYPE_CHECKING:
    from enthesis.model.estate import Estate

UNSAFE = re.compile(r"[^A-Za-z0-9.-]+")


def write_manifests(estate: "Estate", folder: Path, *, quiet: bool) -> list[str]:
    """Writes a file for each object that a statement is; Mistaken, before anything is written, where one has none.

    The files are the same for the same estate, so that a repository shows only what has changed.
    """
    import yaml

    from enthesis.changing.wanted import wanted
    from enthesis.connectors.cluster.writing import objection, objects_for
    from enthesis.errors import Mistaken
    from enthesis.reading.sentences import statement_sentence
    from enthesis.reading.writing import plain_statement

    files: dict[Path, bytes] = {}
    for one in wanted(estate)[0]:
        if one.provider in estate.providers:
            continue
        role = estate.roles.get(str(one.body.get("role")))
        allows = plain_statement("roles", role)["allows"] if role else {}
        why = objection(one.provider, one.collection, one.body, allows)
        if why:
            sentence = statement_sentence(one.collection, one.body)
            raise Mistaken(f"{sentence}: {why}", remedy=f"change it at {one.source}")
        for _, made in objects_for(one.provider, one.collection, one.body, estate.name, allows):
            meta = made["metadata"]
            parts = [made["kind"].lower(), *([meta["namespace"]] if "namespace" in meta else []), meta["name"]]
            name = UNSAFE.sub("-", ".".join(parts)) + ".yaml"
            text = yaml.safe_dump(made, sort_keys=False, allow_unicode=True, width=120)
            files[folder / UNSAFE.sub("-", one.provider.rsplit("/", 1)[1]) / name] = text.encode()
    for path, content in files.items():
        path.parent.mkdir(parents=True, exist_ok=True)
        write_file(path, content, foreign=True)
    remark(f"{len(files)} objects are written below {folder}.", quiet=quiet)
    return [str(path) for path in files]

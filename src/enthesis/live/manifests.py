"""What an estate wants of its clusters as plain YAML, for those who deliver by repository."""

import re
from pathlib import Path

import yaml

from enthesis.connectors.cluster.writing import objection, objects_for
from enthesis.files.saving import write_file
from enthesis.files.writing import plain_statement
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.model.sentences import statement_sentence
from enthesis.proposals.wanted import wanted

UNSAFE = re.compile(r"[^A-Za-z0-9.-]+")


def write_manifests(estate: Estate, folder: Path) -> list[Path]:
    """Writes a file for each object that a statement is, and returns their paths.

    InvalidInput, before anything is written, where a cluster cannot hold a statement.

    The files are the same for the same estate, so that a repository shows only what has changed.
    """
    files: dict[Path, bytes] = {}
    for statement in wanted(estate)[0]:
        if "/cluster/" not in statement.provider:
            continue
        role = estate.roles.get(str(statement.body.get("role")))
        allows = plain_statement("roles", role)["allows"] if role else {}
        why = objection(statement.provider, statement.collection, statement.body, allows)
        if why:
            sentence = statement_sentence(statement.collection, statement.body)
            raise InvalidInput(
                f"{sentence}: {why}", code="statement-not-held", remedy=f"change it at {statement.source}"
            )
        for _, made in objects_for(statement.provider, statement.collection, statement.body, estate.name, allows):
            meta = made["metadata"]
            parts = [made["kind"].lower(), *([meta["namespace"]] if "namespace" in meta else []), meta["name"]]
            name = UNSAFE.sub("-", ".".join(parts)) + ".yaml"
            text = yaml.safe_dump(made, sort_keys=False, allow_unicode=True, width=120)
            files[folder / UNSAFE.sub("-", statement.provider.rsplit("/", 1)[1]) / name] = text.encode()
    for path, content in files.items():
        path.parent.mkdir(parents=True, exist_ok=True)
        write_file(path, content, foreign=True)
    return list(files)

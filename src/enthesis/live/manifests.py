"""What an estate wants of its clusters and hosts as plain files, for those who deliver by repository."""

import re
from pathlib import Path

import yaml

from enthesis.connectors.cluster.writing import objection, objects_for
from enthesis.connectors.host_files import PRINCIPALS, SETTINGS, first_settings, host_files
from enthesis.files.saving import write_file
from enthesis.files.writing import plain_statement
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.model.sentences import statement_sentence
from enthesis.proposals.wanted import wanted

UNSAFE = re.compile(r"[^A-Za-z0-9.-]+")


def manifests_of(estate: Estate) -> dict[Path, bytes]:
    """A file for each object of a cluster that a statement is, and for each host with a server what it is set up with.

    InvalidInput where a cluster cannot hold a statement. The files are the same for the same estate, so that a
    repository shows only what has changed.
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
            files[Path() / UNSAFE.sub("-", statement.provider.rsplit("/", 1)[1]) / name] = text.encode()
    for address, resource in estate.resources.items():
        if "/host/" in address and resource.url is not None and not estate.administered_by_others(address):
            place, key = Path(UNSAFE.sub("-", address)), estate.login_authority(address)
            files |= {place / name: text.encode() for name, text in host_files(address, resource.url, key).items()}
    return files


def write_manifests(estate: Estate, folder: Path) -> list[Path]:
    """Writes these files into a folder, and returns their paths. InvalidInput before anything is written."""
    files = {folder / path: content for path, content in manifests_of(estate).items()}
    for path, content in files.items():
        path.parent.mkdir(parents=True, exist_ok=True)
        write_file(path, content, foreign=True)
    return list(files)


def different_manifests(estate: Estate, folder: Path) -> list[str]:
    """What a folder has otherwise than the estate wants it, a sentence each: files that are missing, or differ, and
    accounts of a host that accept logins though the estate has none there."""
    found: list[str] = []
    wanted_files = manifests_of(estate)
    for path, content in wanted_files.items():
        there = folder / path
        if not there.is_file():
            found.append(f"{path} is missing")
        elif path.name == SETTINGS:
            settings = first_settings(there.read_text(errors="replace"))
            for name, value in first_settings(content.decode()).items():
                if settings.get(name) != value:
                    found.append(f"{path} has {name} {settings.get(name, 'not set')} (wanted: {value})")
        elif there.read_bytes().split() != content.split():
            found.append(f"{path} is different")
    for place in dict.fromkeys(path.parent for path in wanted_files if path.parent.name == PRINCIPALS):
        more = (folder / place).iterdir() if (folder / place).is_dir() else ()
        found += [f"{place / one.name} lets in more" for one in more if place / one.name not in wanted_files]
    return found

"""How live systems are reached, in one file of the user's: by their names in an estate, with no secret in it.

    shop:                                                     an estate, by its name
      shop/database/orders: {administrator: {file: orders.conninfo}}
      shop/cluster/main: {kubeconfig: ~/.kube/config, context: main}
      "@home": {administrator: {variable: DIRECTORY_TOKEN}}
      lowland: {client: {command: [secret-tool, lookup, client, lowland]}}
      shop/host/bench: {place: "ssh://admin@bench.example"}

A secret is in a file, in a variable, or what a command prints; paths are from the folder of this file. Since commands
are run, it is read only where nobody else can write it.
"""

import os
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import yaml
from platformdirs import user_config_path

from enthesis.files.saving import read_file
from enthesis.model.errors import InvalidInput
from enthesis.model.escapes import word
from enthesis.text.nearest import perhaps

VARIABLE = "ENTHESIS_CONNECTIONS"
FILE = "connections.yaml"
MOST = 1_000_000  # bytes, of the file
PATIENCE = 30.0  # seconds, of a command
WAYS: Mapping[str, str] = {
    "administrator": "how its administrators come in",
    "client": "the client that is registered there",
    "token": "a token of it",
    "kubeconfig": "the kubeconfig of a cluster",
    "context": "with kubeconfig: which of its contexts",
    "place": "of a host: a folder with a copy of its files, or ssh://USER@HOST",
}
SOURCES = ("file", "variable", "command")


@dataclass(frozen=True, slots=True)
class SecretPlace:
    """Where a secret is. It is read when it is needed, and kept nowhere."""

    file: Path | None = None
    variable: str = ""
    command: tuple[str, ...] = ()

    def __str__(self) -> str:
        if self.file is not None:
            return str(self.file)
        return f"the variable {self.variable}" if self.variable else f"what `{self.command[0]}` prints"

    def read(self, most: int) -> bytes:
        """The secret, of at most so many bytes; InvalidInput where there is none."""
        if self.file is not None:
            return read_file(self.file, most)
        if self.variable:
            found = os.environ.get(self.variable)
            if not found:
                raise InvalidInput(f"the variable {self.variable} is not set", code="secret-not-there")
            return found.encode()[: most + 1]
        try:
            done = subprocess.run(self.command, capture_output=True, timeout=PATIENCE, check=False)  # noqa: S603  the user's own
        except (OSError, subprocess.TimeoutExpired) as fault:
            why = fault.strerror if isinstance(fault, OSError) else f"it took longer than {PATIENCE:.0f}s"
            raise InvalidInput(f"`{self.command[0]}` printed no secret: {why}", code="secret-not-there") from None
        if done.returncode != 0 or not done.stdout.strip() or len(done.stdout) > most:
            raise InvalidInput(
                f"`{self.command[0]}` printed no secret: it ended with {done.returncode}", code="secret-not-there"
            )
        return done.stdout


Place = Path | SecretPlace
"""What holds a secret."""


def held_in(place: Place, most: int) -> bytes:
    """What it holds, of at most so many bytes; InvalidInput where that cannot be read."""
    return read_file(place, most) if isinstance(place, Path) else place.read(most)


@dataclass(frozen=True, slots=True)
class ListedConnection:
    """How one system of an estate is reached: by a secret of its administrators, a client, a token, a kubeconfig with a
    context, or a place; `way` says by which."""

    name: str
    way: str
    secret: SecretPlace | None = None
    kubeconfig: Path | None = None
    context: str | None = None
    place: str = ""

    @property
    def by(self) -> str:
        """In words, without anything secret."""
        if self.kubeconfig is not None:
            return f"{self.kubeconfig}{f', context {self.context}' if self.context else ''}"
        return self.place or str(self.secret)


@dataclass(frozen=True, slots=True)
class Connections:
    """The connections of every estate in a file, by the estate's name."""

    file: Path
    of: Mapping[str, tuple[ListedConnection, ...]] = field(default_factory=dict)

    def for_estate(self, estate: str) -> tuple[ListedConnection, ...]:
        """Those of an estate."""
        return self.of.get(estate, ())

    def cluster(self, address: str) -> ListedConnection | None:
        """How a cluster is reached, where one estate alone says it."""
        found = [one for listed in self.of.values() for one in listed if one.name == address and one.kubeconfig]
        return found[0] if len(found) == 1 else None


def connections_file() -> Path:
    """Where they stand; it need not be there."""
    named = os.environ.get(VARIABLE)
    return Path(named) if named else user_config_path("enthesis") / FILE


def connections() -> Connections:
    """What the user's file says; nothing where there is none. InvalidInput where it is not understood, or where
    somebody else could write it."""
    file = connections_file()
    if not file.exists():
        if os.environ.get(VARIABLE):
            raise InvalidInput(f"{VARIABLE} names {file}, which is not there", code="connections-invalid")
        return Connections(file)
    _refuse_if_others_write(file)
    try:
        read = yaml.safe_load(read_file(file, MOST))
    except (yaml.YAMLError, RecursionError, ValueError) as fault:
        mark = getattr(fault, "problem_mark", None)
        where = f"{file}:{mark.line + 1}" if mark is not None else str(file)
        raise InvalidInput(f"{where}: not YAML", code="connections-invalid") from None
    if read is None:
        return Connections(file)
    of = {
        estate: tuple(_listed(file, estate, name, said) for name, said in _mapping(file, estate, its).items())
        for estate, its in _mapping(file, "", read).items()
    }
    return Connections(file, of)


def _refuse_if_others_write(file: Path) -> None:
    for path in (file, file.resolve().parent):
        found = path.stat()
        shared = found.st_mode & 0o022 and not (path.is_dir() and found.st_mode & 0o1000)
        if found.st_uid not in (os.getuid(), 0) or shared:
            raise InvalidInput(
                f"{path} can be written by others, and {file.name} says which commands are run",
                code="connections-unsafe",
                remedy=f"chmod go-w {word(str(path))}",
            )


def _mapping(file: Path, where: str, value: Any) -> Mapping[str, Any]:
    if not isinstance(value, dict) or not all(isinstance(name, str) for name in value):
        at = f" at {where}" if where else ""
        raise _wrong(file, f"expected names with what they are{at}")
    return value


def _wrong(file: Path, said: str, remedy: str | None = None) -> InvalidInput:
    return InvalidInput(f"{file}: {said}", code="connections-invalid", remedy=remedy or "`enthesis connections --help`")


def _listed(file: Path, estate: str, name: str, said: Any) -> ListedConnection:
    where = f"{estate}, {name}"
    fields = _mapping(file, where, said)
    for one in fields:
        if one not in WAYS:
            raise _wrong(file, f"unknown field {one} at {where}", perhaps(one, WAYS, "one of " + ", ".join(WAYS)))
    ways = [way for way in fields if way != "context"]
    if len(ways) != 1 or ("context" in fields and ways != ["kubeconfig"]):
        raise _wrong(file, f"{where} is reached by one of {', '.join(way for way in WAYS if way != 'context')}")
    (way,), beside = ways, file.resolve().parent
    value = fields[way]
    if way in ("kubeconfig", "place"):
        context = fields.get("context")
        if not isinstance(value, str) or not isinstance(context, str | None):
            raise _wrong(file, f"{way} at {where} is a text")
        if way == "place":
            return ListedConnection(name, way, place=value if "://" in value else str(_path(value, beside)))
        return ListedConnection(name, way, kubeconfig=_path(value, beside), context=context)
    return ListedConnection(name, way, _secret(file, f"{way} at {where}", value, beside))


def _secret(file: Path, where: str, value: Any, beside: Path) -> SecretPlace:
    if not isinstance(value, dict) or len(value) != 1 or not set(value) <= set(SOURCES):
        raise _wrong(
            file, f"{where} says where a secret is, and never what it is",
            "{file: PATH}, {variable: NAME} or {command: [WORD, …]}",
        )  # fmt: skip
    ((source, what),) = value.items()
    if source == "command":
        if not isinstance(what, list) or not what or not all(isinstance(one, str) for one in what):
            raise _wrong(file, f"the command of {where} is a list of words")
        return SecretPlace(command=tuple(what))
    if not isinstance(what, str) or not what:
        raise _wrong(file, f"the {source} of {where} is a text")
    return SecretPlace(file=_path(what, beside)) if source == "file" else SecretPlace(variable=what)


def _path(text: str, beside: Path) -> Path:
    return beside / Path(text).expanduser()

"""Where copies of credentials are looked for: files, archives within files, and the history of git repositories."""

import bz2
import gzip
import io
import lzma
import os
import subprocess
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any, BinaryIO

from enthesis.cleaning.secret_scan import Fingerprints
from enthesis.files.versions import GIT, git_environment

MAX_CONTENT = 64 * 1024 * 1024  # bytes of one file, or of one member of an archive
MAX_UNPACKED = 1024 * 1024 * 1024  # bytes out of one file
MAX_DEPTH = 4  # archives in archives
ZIP, TAR = b"PK\x03\x04", b"ustar"  # of a tar file, at its 257th byte
PACKED: dict[bytes, Callable[[BinaryIO], Any]] = {b"\x1f\x8b": gzip.open, b"BZh": bz2.open, b"\xfd7zXZ": lzma.open}
UNREADABLE = (
    OSError,
    EOFError,
    ValueError,
    RuntimeError,
    zipfile.BadZipFile,
    tarfile.TarError,
    lzma.LZMAError,
    zlib.error,
)
PLAIN = ("--all", "--reverse", "--format=%h", "--no-ext-diff", "--no-textconv")


@dataclass(frozen=True, slots=True)
class CopyFound:
    """A copy: the file (members of archives behind `!`), the line, the commit that has it, and whose value it is."""

    file: str
    line: int
    commit: str
    names: tuple[str, ...]


@dataclass
class Searched:
    """How much was looked at, and what could not be read, with the reason."""

    files: int = 0
    objects: int = 0
    unpacked: int = 0  # bytes out of the file that is looked at
    unread: list[tuple[str, str]] = field(default_factory=list)


def copies_in(
    places: list[Path], known: Fingerprints, searched: Searched, step: Callable[[str], None] = lambda what: None
) -> Iterator[CopyFound]:
    """Every copy of a known credential in these files and folders; links are not followed."""
    for place in places:
        for path in _files(place):
            step(path.name)
            searched.files += 1
            yield from _in_file(path, known, searched)
        for repository in _repositories(place):
            step(f"the history of {repository.name}")
            yield from _in_history(repository, known, searched)


def _files(place: Path) -> Iterator[Path]:
    if place.is_file():
        yield place
        return
    for folder, inner, names in os.walk(place):
        if ".git" in inner:
            inner.remove(".git")  # its objects are packed: they are read as a history
        for name in sorted(names):
            path = Path(folder) / name
            if path.is_file() and not path.is_symlink():
                yield path


def _repositories(place: Path) -> Iterator[Path]:
    """The git repositories in a folder, bare ones too."""
    if not place.is_dir():
        return
    for path in (place, *(path.parent for path in sorted(place.rglob(".git")))):
        if (path / ".git").exists() or ((path / "HEAD").is_file() and (path / "objects").is_dir()):
            yield path


def _in_file(path: Path, known: Fingerprints, searched: Searched) -> Iterator[CopyFound]:
    try:
        size = path.stat().st_size
        if size > MAX_CONTENT:
            searched.unread.append((str(path), f"larger than {MAX_CONTENT // 2**20} MiB"))
            return
        content = path.read_bytes()
    except OSError as fault:
        searched.unread.append((str(path), str(fault.strerror)))
        return
    searched.unpacked = 0
    yield from _in_content(str(path), content, known, searched, "", MAX_DEPTH)


def _in_content(
    name: str, content: bytes, known: Fingerprints, searched: Searched, commit: str, depth: int
) -> Iterator[CopyFound]:
    """The copies in a content; of an archive, in its members."""
    if not depth or not _is_archive(content):  # the members of an archive that is not compressed are in its bytes too
        for copy in known.copies(content):
            yield CopyFound(name, copy.line, commit, copy.names)
    if not depth:
        return
    for member, inner in _members(name, content, searched):
        searched.unpacked += len(inner)
        if searched.unpacked > MAX_UNPACKED:
            searched.unread.append((name, "its content is too large"))
            return
        yield from _in_content(f"{name}!{member}" if member else name, inner, known, searched, commit, depth - 1)


def _is_archive(content: bytes) -> bool:
    return content[:4] == ZIP or content[257:262] == TAR


def _members(name: str, content: bytes, searched: Searched) -> Iterator[tuple[str, bytes]]:
    """What is packed in a content: the members of an archive, or the one thing that it is compressed from."""
    try:
        if content[:4] == ZIP:
            with zipfile.ZipFile(io.BytesIO(content)) as archive:
                for one in archive.infolist():
                    if one.file_size <= MAX_CONTENT and not one.is_dir():
                        yield one.filename, archive.read(one)
                    elif not one.is_dir():
                        searched.unread.append((f"{name}!{one.filename}", "too large"))
        elif content[257:262] == TAR:
            with tarfile.open(fileobj=io.BytesIO(content)) as archive:
                for member in archive:
                    file = archive.extractfile(member) if member.isfile() and member.size <= MAX_CONTENT else None
                    if file is not None:
                        yield member.name, file.read()
        for mark in PACKED:
            if content.startswith(mark):
                unpacked = _unpacked(content, mark)
                if unpacked is None:
                    searched.unread.append((name, "too large when unpacked"))
                else:
                    yield "", unpacked
    except UNREADABLE as fault:
        searched.unread.append((name, f"it cannot be unpacked: {type(fault).__name__}"))


def _unpacked(content: bytes, mark: bytes) -> bytes | None:
    """A compressed content as it was; None where that is more than is read."""
    with PACKED[mark](io.BytesIO(content)) as file:
        data: bytes = file.read(MAX_CONTENT + 1)
    return data if len(data) <= MAX_CONTENT else None


# -- the history of a repository --------------------------------------------------------------------------------------


def _in_history(repository: Path, known: Fingerprints, searched: Searched) -> Iterator[CopyFound]:
    """The copies in every version of every file that a repository keeps, each with the first commit that has it."""
    listed = _git(repository, "rev-list", "--all", "--objects")
    if listed is None:
        searched.unread.append((str(repository), "its history: git is missing, or it is not a repository"))
        return
    named: dict[str, str] = {}
    for line in listed.decode(errors="replace").splitlines():
        identifier, _, path = line.partition(" ")
        if path:
            named.setdefault(identifier, path)
    for identifier, content in _blobs(repository, list(named), searched):
        searched.objects += 1
        searched.unpacked = 0
        for found in _in_content(named[identifier], content, known, searched, "", MAX_DEPTH):
            first = _git(repository, "log", *PLAIN, f"--find-object={identifier}") or b""
            commit = first.decode().split("\n", 1)[0]
            yield CopyFound(found.file, found.line, commit, found.names)


def _git(repository: Path, *words: str) -> bytes | None:
    try:
        done = subprocess.run(  # noqa: S603  git itself
            [*GIT, "-C", str(repository), *words],
            capture_output=True,
            check=False,
            stdin=subprocess.DEVNULL,
            env=git_environment(),
        )
    except OSError:
        return None
    return done.stdout if done.returncode == 0 else None


def _blobs(repository: Path, identifiers: list[str], searched: Searched) -> Iterator[tuple[str, bytes]]:
    """The contents of files among git objects, one after another."""
    command = [*GIT, "-C", str(repository), "cat-file", "--batch"]
    with subprocess.Popen(  # noqa: S603  git itself
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=git_environment()
    ) as git:
        assert git.stdin is not None and git.stdout is not None  # noqa: S101  both are pipes
        for start in range(0, len(identifiers), 200):
            part = identifiers[start : start + 200]
            git.stdin.write("".join(f"{name}\n" for name in part).encode())
            git.stdin.flush()
            for name in part:
                yield from _blob(git.stdout, name, searched)
        git.stdin.close()


def _blob(stream: IO[bytes], identifier: str, searched: Searched) -> Iterator[tuple[str, bytes]]:
    header = stream.readline().split()
    if len(header) != 3:
        return
    size = int(header[2])
    content = stream.read(size)
    stream.read(1)
    if header[1] != b"blob":
        return
    if size > MAX_CONTENT:
        searched.unread.append((identifier, f"larger than {MAX_CONTENT // 2**20} MiB"))
    else:
        yield identifier, content

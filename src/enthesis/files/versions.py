"""Another version of an estate: a folder, or a git revision, which is read with git's own command."""

import os
import subprocess
from pathlib import Path

from enthesis.files.finding import HEAD, cache_folder
from enthesis.files.folder import read_folder, read_texts
from enthesis.files.yaml_tree import is_readable
from enthesis.model.errors import InvalidEstate, InvalidInput
from enthesis.model.estate import Estate

PATIENCE = 60  # seconds that git has for one answer
GIT = ("git", "-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "log.showSignature=false")
"""git as it is run in a repository that another person may have made: its settings start no program."""


def git_environment() -> dict[str, str]:
    """The environment of git: nothing is fetched, whatever the repository says, and nobody is asked."""
    quiet = {"GIT_ALLOW_PROTOCOL": "none", "GIT_NO_LAZY_FETCH": "1", "GIT_TERMINAL_PROMPT": "0"}
    return {**os.environ, **quiet}


def other_version(folder: Path, named: str) -> Estate:
    """The estate that a folder or a revision holds; the working tree stays. InvalidInput where there is none."""
    if (Path(named) / HEAD).exists():
        reading = read_folder(Path(named), cache=cache_folder())
    else:
        reading = read_texts(_at_revision(folder, named))
    if reading.estate is None:
        raise InvalidEstate(reading.errors)
    return reading.estate


def _at_revision(folder: Path, revision: str) -> dict[str, str]:
    """The texts of an estate's files as they stood at a revision of the git repository that holds it."""
    commit = _git(folder, "rev-parse", "--verify", "--quiet", "--end-of-options", revision + "^{commit}")
    if commit is None:
        raise InvalidInput(
            f"{revision} is neither a folder with an {HEAD} nor a git revision here",
            code="revision-unknown",
            remedy="name another folder, or a revision such as HEAD or a branch",
        )
    below = (_git(folder, "rev-parse", "--show-prefix") or b"").decode().rstrip("\n")
    sha = commit.decode().strip()
    listed = _git(folder, "ls-tree", "-r", "-z", "--name-only", "--full-tree", f"{sha}:{below.rstrip('/')}") or b""
    texts: dict[str, str] = {}
    for name in listed.decode("utf-8", "surrogateescape").split("\0"):
        hidden = any(part.startswith(".") for part in name.split("/"))
        if not name or hidden or not is_readable(name):
            continue
        content = _git(folder, "cat-file", "blob", f"{sha}:{below}{name}")
        texts[name] = (content or b"").decode("utf-8", "replace")
    if HEAD not in texts:
        raise InvalidInput(f"at {revision} there is no {HEAD} in this folder", code="revision-without-estate")
    return texts


def _git(folder: Path, *words: str) -> bytes | None:
    """What git answers; None where it refuses. InvalidInput where there is no git."""
    try:
        done = subprocess.run(  # noqa: S603  a fixed program, and no shell
            [*GIT, "-C", str(folder), *words],
            env=git_environment(),
            capture_output=True,
            timeout=PATIENCE,
            check=False,
        )
    except FileNotFoundError:
        raise InvalidInput("git is not installed here", code="git-missing", remedy="name a folder instead") from None
    except subprocess.TimeoutExpired:
        raise InvalidInput("git did not answer in time", code="git-timeout") from None
    return done.stdout if done.returncode == 0 else None

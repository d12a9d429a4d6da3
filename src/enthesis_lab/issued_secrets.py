"""Remembers every secret that the lab makes, for a test that looks for them everywhere else."""

import os

INTO = "ENTHESIS_LAB_REMEMBERS_INTO"  # the environment variable that names the file; nothing is kept without it


def remember(secret: str) -> str:
    """The secret itself, one line more in the file if there is to be one."""
    path = os.environ.get(INTO)
    if path:
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600), "a", encoding="utf-8") as file:
            file.write(secret + "\n")
    return secret

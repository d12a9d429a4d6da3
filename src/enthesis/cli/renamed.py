"""Commands and options that were renamed: an old one is an error that names the new one."""

from collections.abc import Sequence

from enthesis.model.errors import InvalidInput

COMMANDS = {"key": "credential"}
OPTIONS = {
    ("lend", "--sign-in"): "the command `enthesis sign-in`",
    ("lend", "--forget"): "the command `enthesis sign-out`",
    ("lend", "--through"): "--kubeconfig",
    ("reach", "--only-crossings"): "--cross-account",
    ("credential", "--retire"): "--revoke",
    ("key", "--retire"): "`enthesis credential NAME --revoke`",
}
EVERYWHERE = {"--live": "--survey"}


def refuse_old_words(arguments: Sequence[str]) -> None:
    """InvalidInput where the command, or an option before `--`, has an old name."""
    words = list(arguments[: arguments.index("--")] if "--" in arguments else arguments)
    command = next((word for word in words if not word.startswith("-")), "")
    for word in words:
        option = word.partition("=")[0]
        new = OPTIONS.get((command, option), EVERYWHERE.get(option))
        if new is not None:
            raise InvalidInput(f"{option} was renamed", code="renamed", remedy=f"use {new}")
    if command in COMMANDS:
        raise InvalidInput(
            f"the command `{command}` was renamed", code="renamed", remedy=f"use `enthesis {COMMANDS[command]}`"
        )

"""Commands and options that were renamed: an old one is an error that names the new one."""

from collections.abc import Sequence

from enthesis.model.errors import InvalidInput

COMMANDS = {
    "key": "`enthesis credential`",
    "retire": "`enthesis credential retire`",
    "handoff": "`enthesis request out` for what we ask of others, `enthesis request in` for what they ask of us, and "
    "`enthesis request` for where all that stands",
}
OPTIONS = {
    ("lend", "--sign-in"): "the command `enthesis sign-in`",
    ("lend", "--forget"): "the command `enthesis sign-out`",
    ("lend", "--through"): "--kubeconfig",
    ("reach", "--only-crossings"): "--cross-account",
    ("credential", "--revoke"): "`enthesis credential revoke NAME`",
    ("credential", "--retire"): "`enthesis credential revoke NAME`",
    ("key", "--retire"): "`enthesis credential revoke NAME`",
    ("survey", "--adopt"): "`enthesis survey adopt ADDRESS`",
    ("survey", "--compared-with"): "`enthesis survey compare EARLIER [LATER]`",
    ("survey", "--usage"): "`enthesis survey usage FILE`",
    ("survey", "--kept"): "`enthesis history documents`",
    ("enact", "--history"): "`enthesis history`",
    ("enact", "--show"): "`enthesis history show NUMBER`",
    ("check", "--rename-old"): "--fix",
    ("handoff", "--list"): "`enthesis request`",
    ("handoff", "--received"): "`enthesis request in FILE`",
    ("handoff", "--take"): "`enthesis request in FILE`",
    ("handoff", "--answer"): "`enthesis request answer FILE done|refused|changed --out FILE`",
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
        raise InvalidInput(f"the command `{command}` was renamed", code="renamed", remedy=f"use {COMMANDS[command]}")

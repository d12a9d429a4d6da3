"""What people type who come from elsewhere: commands and options that are none of ours, each with the one that does it.

They are answered with our word and never taken for it, so that one thing keeps one name.
"""

from collections.abc import Collection, Sequence

from enthesis.model.errors import InvalidInput
from enthesis.text.nearest import perhaps

FOR = {
    "check": ("validate", "verify", "lint", "test", "audit", "doctor", "compile", "build", "fmt", "format", "fix"),
    "start": ("init", "new", "create", "scaffold", "generate", "template", "add", "twin"),
    "list": ("ls", "inventory", "all"),
    "card": ("show", "describe", "get", "view", "inspect", "info", "identity", "role", "resource"),
    "trace": ("explain", "why", "why-not", "debug", "simulate", "can", "can-i", "eval", "evaluate", "decide", "ask"),
    "reach": ("who", "who-can", "access", "query", "graph", "paths", "path", "search", "find", "what-can", "blast"),
    "admit": ("trust", "trusts", "token", "claims", "decode", "jwt"),
    "survey": ("scan", "import", "pull", "export", "dump", "snapshot", "collect", "discover", "fetch", "read", "adopt",
               "compare", "usage"),
    "propose": ("plan", "diff", "preview", "dry-run", "changes", "drift", "status"),
    "enact": ("apply", "deploy", "up", "push", "sync", "execute", "commit", "reconcile", "bootstrap"),
    "history": ("log", "logs", "state", "rollback", "undo", "enactments"),
    "prove": ("try", "probe", "e2e", "selftest", "assert"),
    "lend": ("exec", "run", "assume", "impersonate", "shell", "session", "env", "as"),
    "sign-in": ("login", "log-in", "signin", "auth", "authenticate", "sso"),
    "sign-out": ("logout", "log-out", "signout"),
    "whoami": ("id", "me", "caller", "current"),
    "credential": ("credentials", "keys", "secret", "secrets", "rotate", "issue"),
    "sweep": ("clean", "cleanup", "findings", "report", "unused", "stale", "gc", "prune"),
    "trim": ("narrow", "rightsize", "right-size", "least", "shrink", "minimize"),
    "cutoff": ("revoke", "block", "disable", "kill", "quarantine", "destroy", "delete", "remove", "down", "offboard"),
    "request": ("ask-for", "grant", "ticket", "share"),
    "connections": ("config", "configure", "context", "contexts", "profile", "profiles", "connect", "login-info"),
    "help": ("docs", "man", "glossary", "reference", "errors"),
    "demo": ("example", "examples", "tutorial", "quickstart"),
    "lab": ("mock", "emulator", "local", "sandbox", "dev"),
}  # fmt: skip
"""By our command, words with which others call what it does."""
TAKES_THE_REST = ("trace", "card", "start", "lend")  # what follows the word is what our command asks for too
OPTIONS = {
    ("enact", "--dry-run"): "`enthesis propose`, which shows what would be done and changes nothing",
    ("enact", "--plan"): "`enthesis propose`, which shows what would be done and changes nothing",
    ("enact", "--auto-approve"): "--yes, and --accept NAME for each danger",
    ("enact", "--force"): "--yes, and --accept NAME for each danger",
    ("prove", "--name"): "the names alone: `enthesis prove NAME`",
    ("sweep", "--severity"): "--fail-on high, or the words *high*, *medium* and *low* in the answer",
    ("sessions", "--revoke"): "`enthesis cutoff SESSION`",
    ("credential", "--create"): "`enthesis credential create NAME`",
    ("credential", "--list"): "`enthesis credential`, which lists",
    (
        "admit",
        "--claim",
    ): '--meant "NAME=VALUE" to compare with what is meant, or `enthesis trace … --claim NAME=VALUE`',
    ("check", "--strict"): "nothing more: open risks count already",
    ("survey", "--output"): "--out FILE",
    ("reach", "--as"): "--from WHO",
    ("trace", "--as"): "--from WHO",
}
ANYWHERE = {
    "-o": "--format json, or --out FILE where a file is written",
    "--output": "--format json, or --out FILE where a file is written",
    "--json": "--format json",
    "--yaml": "--format json",
    "-f": "--estate DIR",
    "--file": "--estate DIR",
    "--dir": "--estate DIR",
    "--profile": "`enthesis connections`, which says how systems are reached",
    "--region": "`enthesis connections`, which says how systems are reached",
    "--no-color": "the variable NO_COLOR",
}
SUBCOMMANDS = {"list": "alone, which lists", "ls": "alone, which lists", "get": "alone, which lists"}


def refuse_other_words(arguments: Sequence[str], commands: Collection[str]) -> None:
    """InvalidInput where the command, or an option before `--`, is a word of elsewhere, or is misspelt."""
    words = list(arguments[: arguments.index("--")] if "--" in arguments else arguments)
    at = next((number for number, word in enumerate(words) if not word.startswith("-")), None)
    if at is None:
        return
    command, rest = words[at], words[at + 1 :]
    if command not in commands:
        _refuse_command(command, rest, commands)
    if rest and rest[0] in SUBCOMMANDS and command in ("credential", "history", "request", "connections", "sessions"):
        raise InvalidInput(
            f"`{command} {rest[0]}` is none of ours", code="command-unknown",
            remedy=f"`enthesis {command}` {SUBCOMMANDS[rest[0]]}",
        )  # fmt: skip
    _refuse_halves(command, rest)
    for word in rest:
        option = word.partition("=")[0]
        new = OPTIONS.get((command, option), ANYWHERE.get(option))
        if new is not None:
            raise InvalidInput(f"`{command}` has no option {option}", code="option-unknown", remedy=f"it is {new}")


def _refuse_halves(command: str, rest: Sequence[str]) -> None:
    """InvalidInput where what belongs into one value stands in two words."""
    for option, verb, place in zip(rest, rest[1:], rest[2:], strict=False):
        if option == "--fail-on-gain" and " " not in verb and not place.startswith("-"):
            raise InvalidInput(
                f"{option} takes the verbs and the place as one value", code="option-invalid",
                remedy=f"enthesis {command} {option} '{verb} {place}'",
            )  # fmt: skip


def _refuse_command(command: str, rest: Sequence[str], commands: Collection[str]) -> None:
    ours = next((name for name, others in FOR.items() if command.lower() in others), None)
    if ours is not None:
        more = f" {' '.join(rest)}" if rest and ours in TAKES_THE_REST else ""
        raise InvalidInput(
            f"unknown command `{command}`", code="command-unknown", remedy=f"`enthesis {ours}{more}` does that"
        )
    raise InvalidInput(
        f"unknown command `{command}`", code="command-unknown",
        remedy=perhaps(command, commands, "enthesis --help lists them"),
    )  # fmt: skip


def put_in_order(arguments: Sequence[str], commands: Collection[str]) -> list[str]:
    """The same words with shared options that stand before the command behind it (`--estate DIR check` is `check
    --estate DIR`), and `version` and `-v` as the option that they mean."""
    words = list(arguments)
    if words[:1] in (["version"], ["-v"], ["-V"]):
        return ["--version", *words[1:]]
    moved: list[str] = []
    while words and words[0].partition("=")[0] in SHARED:
        takes = SHARED[words[0].partition("=")[0]] and "=" not in words[0]
        moved += words[: 2 if takes else 1]
        words = words[2 if takes else 1 :]
    if not moved or not words or words[0] not in commands:
        return list(arguments)
    return [words[0], *words[1:2][: _group(words)], *moved, *words[1 + _group(words) :]]


def _group(words: Sequence[str]) -> int:
    """How many words after the command belong to it, as the command of a group does."""
    groups = {"survey": ("adopt", "compare", "usage"), "history": ("show", "documents"), "connections": ("try",),
              "credential": ("create", "revoke", "retire"), "request": ("out", "in", "answer")}  # fmt: skip
    return int(len(words) > 1 and (words[0] == "lab" or words[1] in groups.get(words[0], ())))


SHARED = {"--estate": True, "--survey": True, "--format": True, "--quiet": False, "-q": False}
"""The options of many commands, and whether a value follows."""

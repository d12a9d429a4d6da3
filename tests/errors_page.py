"""Writes docs/errors.md from the table of causes: `python -m tests.errors_page`."""

from pathlib import Path

from enthesis.model.causes import CAUSES, IN_ESTATE, Cause

PAGE = Path(__file__).parent.parent / "docs" / "errors.md"
HEAD = """\
# Errors

After reading this page you can look up an error by its code and fix it. `--format json` shows the code as `error.code`,
and as `code` of each error in an estate.

```console
$ enthesis trace --journey publish-from-mian --format json
…
    "code": "journey-unknown",
…
```

The [exit code](interfaces.md#exit-codes) says what kind of error it is.

## Errors of a command
"""


def page() -> str:
    """The whole page."""
    second = (
        "\n## Errors in an estate's files\n\nEach is reported with its file, line and column, all of them at once.\n"
    )
    return HEAD + _table(CAUSES) + second + _table(IN_ESTATE)


def _table(causes: dict[str, Cause]) -> str:
    rows = [f"| `{code}` | {cause.what} | {cause.fix} |" for code, cause in sorted(causes.items())]
    return "\n".join(["", "| code | what is wrong | fix |", "|---|---|---|", *rows, ""])


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")

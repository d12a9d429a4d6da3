"""What a host itself says of a login, in lines and JSON."""

from collections.abc import Iterable, Iterator
from typing import Any

from enthesis.live.at_host import AtHost
from enthesis.output.lines import Line, Span, line


def at_host_lines(told: Iterable[AtHost]) -> Iterator[Line]:
    """One paragraph a source."""
    for one in told:
        yield line()
        yield line(Span("at the host", "strong"), f", by {one.source}")
        for step, says in one.says:
            refused: list[Span | str] = [Span(f"refused at {step}", "bad"), f": {says}"]
            yield line("  ", *(refused if step else [says]))


def at_host_json(told: Iterable[AtHost]) -> dict[str, Any]:
    """The same, by source."""
    return {
        "at_host": [
            {"source": one.source, "says": [{"refused_at": step, "says": says} for step, says in one.says]}
            for one in told
        ]
    }

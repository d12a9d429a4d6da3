"""Lines of spans: the one way text reaches a terminal. Control characters in any of it are made visible."""

import json
import re
from collections.abc import Iterable
from typing import Any, NamedTuple

from enthesis.model.escapes import json_escaped
from enthesis.model.secrets import redacted


class Span(NamedTuple):
    """Text with what it stands for; a style only supports what the word already says."""

    text: str
    style: str = ""


Line = list[Span]
STYLES = {
    "good": "92",
    "bad": "91",
    "doubt": "93",
    "quiet": "2",
    "strong": "1",
    "command": "1;36",
}
# C0, DEL, C1, and the marks that reorder or hide text
_UNSEEN = re.compile("[\x00-\x1f\x7f-\x9f\u00ad\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ud800-\udfff]")


def visible(text: str) -> str:
    """The text with control characters, and those that reorder or hide text, as escapes, and with secrets masked."""
    return _UNSEEN.sub(_escape, redacted(text))


def _escape(match: re.Match[str]) -> str:
    code = ord(match[0])
    return {9: "\\t", 10: "\\n", 13: "\\r"}.get(code, f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}")


def line(*parts: str | Span) -> Line:
    """A line of plain texts and spans."""
    return [part if isinstance(part, Span) else Span(part) for part in parts]


def rendered(lines: Iterable[Line], *, colour: bool, width: int = 0) -> str:
    """The lines as text, a newline after each; with a width, folded at spaces and indented below themselves."""
    folded = (part for one in lines for part in (_folded(one, width) if width else [one]))
    return "".join("".join(_rendered(span, colour) for span in one).rstrip() + "\n" for one in folded)


def _folded(one: Line, width: int) -> list[Line]:
    """A line as several, none wider than asked where there is a space to fold at."""
    spans = [Span(visible(span.text), span.style) for span in one]
    text = "".join(span.text for span in spans).rstrip()
    own = len(text) - len(text.lstrip())
    indent = min(own + 2, width // 2)
    out: list[Line] = []
    # what is too wide begins no further in than what is folded below it may
    start, room = max(0, own - width // 2) if len(text) > width else 0, width
    while len(text) - start > room:
        end = text.rfind(" ", start + 1, start + room + 1)
        if end < 0 or not text[start:end].strip():
            end = text.find(" ", start + room)
        if end < 0:
            break
        out.append(_cut(spans, start, end))
        start = len(text) - len(text[end:].lstrip())
        room = width - indent
    out.append(_cut(spans, start, len(text)))
    return [part if not number else [Span(" " * indent), *part] for number, part in enumerate(out)]


def _cut(spans: Line, start: int, end: int) -> Line:
    """The part of a line between two positions of its text."""
    out, at = [], 0
    for span in spans:
        part = span.text[max(0, start - at) : max(0, end - at)]
        if part:
            out.append(Span(part, span.style))
        at += len(span.text)
    return out


def _rendered(span: Span, colour: bool) -> str:
    text = visible(span.text)
    code = STYLES.get(span.style, "")
    return f"\x1b[{code}m{text}\x1b[0m" if colour and code and text else text


def json_text(value: Any) -> str:
    """JSON, two spaces deep, with nothing in it that a terminal acts on."""
    return json_escaped(redacted(json.dumps(value, indent=2, ensure_ascii=False)))


def markdown_text(text: str) -> str:
    """Text that Markdown and HTML take for nothing but text."""
    out = visible(text).replace("&", "&amp;")
    for char in "\\`*_{}[]<>|#":
        out = out.replace(char, f"&#{ord(char)};") if char != "#" else out
    return out


def csv_cell(text: str) -> str:
    """Text as a spreadsheet shows it: nothing that it would take for a formula, and no control character."""
    return ("'" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else "") + visible(text)


def counted(count: int, word: str, plural: str = "") -> str:
    """`1 account`, `2 accounts`."""
    return f"{count} {word if count == 1 else plural or word + 's'}"

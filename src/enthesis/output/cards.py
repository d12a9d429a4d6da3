"""A card as text and JSON."""

from collections.abc import Iterator
from typing import Any

from enthesis.chains.cards import Card, Item
from enthesis.output.lines import Line, Span, line

MOST = 12  # items under one heading in text; JSON has them all


def card_lines(card: Card) -> Iterator[Line]:
    """The page; headings with nothing under them are left out unless that says something."""
    yield line(Span(card.name, "strong"), f" is {card.what}.")
    for part in card.parts:
        if not part.items and not part.none:
            continue
        yield line(Span(part.head, "strong"))
        if not part.items:
            yield line("  ", Span(part.none, "doubt"))
        for item in part.items[:MOST]:
            where = f"  {item.source}" if item.source and item.source.line else ""
            yield line(f"  {item.text}", Span(where, "quiet"))
        if len(part.items) > MOST:
            yield line(Span(f"  … and {len(part.items) - MOST} more: --format json has them all", "quiet"))


def card_json(card: Card) -> dict[str, Any]:
    """The card as data: the facts of each part by its key, each with where it stands. What a text only explains is left
    out, since the facts hold it."""
    return {
        "name": card.name,
        "is": card.what,
        **{part.key: [_fact_json(item) for item in part.items if item.facts] for part in card.parts},
    }


def _fact_json(item: Item) -> dict[str, Any]:
    return {**item.facts, **({"source": str(item.source)} if item.source and item.source.line else {})}

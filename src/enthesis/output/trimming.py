"""What roles and grants become when they are narrowed to what was used."""

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from enthesis.chains.differences import Difference
from enthesis.cleaning.usage import Usage
from enthesis.files.editing import Addition
from enthesis.files.writing import plain_statement
from enthesis.output.differences import difference_json, difference_lines
from enthesis.output.lines import Line, Span, counted, line
from enthesis.text.times import duration_text, time_text

MOST = 20  # lines of one kind
NO_SOLVER = (
    "Not proven to be the least, and no new role was looked for: that needs a solver (pip install 'enthesis[trim]')."
)

if TYPE_CHECKING:  # it loads much that only `trim` needs
    from enthesis.cleaning.trimming import Trimmed


def trim_sentence(name: str, found: "Trimmed") -> str:
    """The answer in a sentence."""
    if not found.changes:
        return f"{name}: nothing to trim."
    before, after = (sum(pair[at] for pair in found.units.values()) for at in (0, 1))
    who = counted(len(found.units), "identity", "identities")
    return f"{name}: {counted(before, 'permission')} of {who} become {after}; all that was used stays allowed."


def trim_lines(name: str, usage: Usage, found: "Trimmed", change: Difference) -> Iterator[Line]:
    """The new lines first, then what is lost by them, and what was not looked at."""
    yield line(Span(trim_sentence(name, found), "strong"))
    if found.gap is None:
        yield line(Span(NO_SOLVER, "doubt"))
    elif found.gap:
        yield line(Span(f"Not proven to be the least: it may be {found.gap:.0%} above it.", "doubt"))
    for role in found.roles:
        entry = Addition("roles", role.name, plain_statement("roles", role)).line()
        yield line("  new role   ", entry)
    for each in found.changes:
        yield line(Span(each.to, "strong"), Span(f"  held by {each.holder}", "quiet"))
        for grant in each.goes:
            yield line(f"  instead of {grant.role} at {grant.at}", Span(f"  {grant.source}", "quiet"))
        for grant in each.comes:
            yield line(f"  now        {grant.role} at {grant.at}")
    if found.beyond:
        more = counted(found.beyond, "permission")
        yield line(f"  {more} more than was used, since no more roles may be new (--roles)")
    if found.units:
        yield line()
        for identity, (before, after) in found.units.items():
            become = "becomes" if before == 1 else "become"
            yield line(f"  {identity}: {counted(before, 'permission')} {become} {after}")
    kept = [f"{to}: {why}" for to, why in found.withheld]
    yield from _listed("withheld, since a request that was used would be refused", kept)
    rare = [
        f"{identity}: {verb} on {kind} at {place}, last on {datetime.fromtimestamp(at, UTC):%Y-%m-%d}"
        for (identity, (kind, verb), place), at in found.rare.items()
    ]
    yield from _listed("used, and not lately: kept", rare)
    yield from _listed("left unchanged, since no use of it was recorded", list(found.unused))
    if found.conditional:
        told = counted(found.conditional, "request")
        yield line(Span(f"{told} hang on conditions that the log does not record: taken as they were.", "quiet"))
    if found.onto_unknown:
        told = counted(found.onto_unknown, "request")
        yield line(Span(f"{told} attached something without saying to what, so all `configure` of it stays.", "quiet"))
    if usage.ignored:
        ignored = [f"{counted(count, 'row')}: {why}" for why, count in usage.ignored.most_common()]
        yield from _listed("not understood in the log", ignored)
    yield line()
    yield from difference_lines(change)


def _listed(title: str, said: list[str]) -> Iterator[Line]:
    if said:
        yield line()
        yield line(Span(title, "doubt"))
    for name in said[:MOST]:
        yield line(f"  {name}")
    if len(said) > MOST:
        yield line(f"  … and {len(said) - MOST} more")


def trim_json(name: str, usage: Usage, found: "Trimmed", change: Difference) -> dict[str, Any]:
    """The same for a program."""
    return {
        "estate": name,
        "says": trim_sentence(name, found),
        "log": {
            "rows": usage.rows,
            "span": duration_text(usage.span),
            "refused": usage.refused,
            "ignored": dict(usage.ignored),
        },
        "roles": {role.name: plain_statement("roles", role) for role in found.roles},
        "changes": [
            {
                "holder": each.holder,
                "to": each.to,
                "goes": [plain_statement("grants", grant) for grant in each.goes],
                "comes": [plain_statement("grants", grant) for grant in each.comes],
            }
            for each in found.changes
        ],
        "beyond": found.beyond,
        "gap": found.gap,
        "withheld": [{"to": to, "why": why} for to, why in found.withheld],
        "rare": [
            {
                "identity": identity,
                "kind": kind,
                "verb": verb,
                "at": place,
                "last": time_text(datetime.fromtimestamp(at, UTC)),
            }
            for (identity, (kind, verb), place), at in found.rare.items()
        ],
        "unused": list(found.unused),
        "conditional": found.conditional,
        "onto_unknown": found.onto_unknown,
        "permissions": {identity: {"before": pair[0], "after": pair[1]} for identity, pair in found.units.items()},
        "access": difference_json(change),
    }

"""The rule by which an estate's access may be changed: which approvals, by whom, with which keys.

A change of the rule is itself under the rule: the one that was last enacted is what the next enactment has to meet.
"""

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from enthesis.access.compiling import compile_estate
from enthesis.model.addresses import contains
from enthesis.model.estate import Approval, Estate
from enthesis.text.times import time_text


@dataclass(frozen=True)
class ChangeRule:
    """Who has to agree to changes: the approvals that are asked for, who is in their groups, the keys of approvers, the
    directories that state approvals, what is lived with, and in what each account stands."""

    approvals: tuple[tuple[str, int, str], ...] = ()  # at, by, of
    members: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    keys: Mapping[str, str] = field(default_factory=dict)
    directories: Mapping[str, str] = field(default_factory=dict)
    accepted: tuple[str, ...] = ()
    within: Mapping[str, str] = field(default_factory=dict)

    def as_json(self) -> dict[str, Any]:
        """The rule as plain data."""
        return asdict(self)

    def asked(self) -> list[Approval]:
        """The approvals that it asks for."""
        return [Approval(at, by, of) for at, by, of in self.approvals]


def rule_of(estate: Estate) -> ChangeRule:
    """The rule that an estate describes."""
    members: dict[str, tuple[str, ...]] = {}
    if estate.approvals:
        compiled = compile_estate(estate)
        names = compiled.places.names
        for one in estate.approvals:
            members[one.of] = tuple(sorted(names[at] for at in compiled.members.get(compiled.find(one.of), ())))
    return ChangeRule(
        tuple((one.at, one.by, one.of) for one in estate.approvals),
        members,
        {address: one.key.strip() for address, one in estate.approvers.items()},
        {f"@{one.name}": one.directory for one in estate.organisations.values() if one.directory},
        tuple(sorted(f"{one.what}, until {time_text(one.until)}" for one in estate.accepted)),
        {name: account.within for name, account in estate.accounts.items()},
    )


def rule_from(data: Any) -> ChangeRule:
    """The rule that data holds; ValueError where it holds none."""
    try:
        return ChangeRule(
            tuple((str(at), int(by), str(of)) for at, by, of in data["approvals"]),
            {str(group): tuple(map(str, listed)) for group, listed in data["members"].items()},
            {str(person): str(key) for person, key in data["keys"].items()},
            {str(name): str(url) for name, url in data["directories"].items()},
            tuple(map(str, data["accepted"])),
            {str(name): str(within) for name, within in data["within"].items()},
        )
    except (TypeError, KeyError, AttributeError) as fault:
        raise ValueError("this rule is not understood") from fault


def loosened(before: ChangeRule, after: ChangeRule) -> tuple[str, ...]:
    """In which ways a rule asks for less than an earlier one did; nothing where that one asked for no approval."""
    return tuple(_loosened(before, after)) if before.approvals else ()


def _loosened(before: ChangeRule, after: ChangeRule) -> Iterator[str]:
    for at, by, of in before.approvals:
        same = [one for one in after.approvals if one[2] == of and contains(one[0], at)]
        if not same:
            yield f"changes at {at} no longer want the approval of {of}"
        elif max(wanted for _, wanted, _ in same) < by:
            yield f"changes at {at} want {max(wanted for _, wanted, _ in same)} of {of}, and {by} before"
    for group, members in before.members.items():
        for person in sorted(set(after.members.get(group, ())) - set(members)):
            yield f"{person} may approve as one of {group}"
    for person, key in after.keys.items():
        if before.keys.get(person) != key:
            yield f"{person} approves by {'another' if person in before.keys else 'a'} key"
    for name, url in after.directories.items():
        if before.directories.get(name, url) != url:
            yield f"approvals of {name} are stated by another directory"
    for name, within in before.within.items():
        moved = after.within.get(name)
        if moved is not None and moved != within and any(contains(at, within) for at, _, _ in before.approvals):
            yield f"{name} is in {moved}, and was in {within}"
    for entry in sorted(set(after.accepted) - set(before.accepted)):
        yield f"it is accepted: {entry}"

"""The catalogue of kinds: which things there are, what can be done to each, and how wildcards in roles read."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from enthesis.model.vocabulary import VerbClass

EVERYTHING = "*"
ASK_THEMSELVES = ("cluster",)
"""Kinds that run as an identity though no caller runs code on them: a cluster as what its nodes pull images as."""

Permissions = frozenset[tuple[str, str]]
"""Pairs of kind and verb."""


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of thing; `within` lists the kinds it may stand in, `verbs` maps each verb to its class."""

    name: str
    within: tuple[str, ...]
    leaf: bool
    verbs: Mapping[str, VerbClass]


NEAREST_KEY, IDENTITIES, RESOURCE, ORGANISATION = ON = ("nearest-key", "identities", "resource", "organisation")
"""On what a companion is asked: the nearest key that encrypts the target, every identity that it runs as, the resource
that an identity is attached to, the target's organisation (of callers that began as a person of another one)."""


@dataclass(frozen=True, slots=True)
class Companion:
    """What else must be allowed with a verb (`of_verb`, '' for any), or with every verb of a class (None: of any)."""

    of_class: VerbClass | None
    of_verb: str
    also: str
    on: str

    def goes_with(self, verb: str, its_class: VerbClass | None) -> bool:
        """Whether it must be allowed with a verb of a class. Nothing is a companion of itself."""
        return self.of_class in (None, its_class) and self.of_verb in ("", verb) and verb != self.also


@dataclass(frozen=True, slots=True)
class Catalogue:
    """All kinds by name. `everywhere` are the verbs that every kind has unless it says otherwise."""

    kinds: Mapping[str, Kind]
    everywhere: Mapping[str, VerbClass]
    companions: tuple[Companion, ...] = ()

    def extended(self, further: Iterable[Kind]) -> "Catalogue":
        """A catalogue with further kinds, each given the verbs that stand everywhere.

        A kind that there is already gets the places and verbs that it did not have.
        """
        kinds = dict(self.kinds)
        for kind in further:
            known = kinds.get(kind.name)
            if known is None:
                kinds[kind.name] = Kind(kind.name, kind.within, kind.leaf, {**self.everywhere, **kind.verbs})
            else:
                within = tuple(dict.fromkeys((*known.within, *kind.within)))
                kinds[kind.name] = Kind(kind.name, within, known.leaf or kind.leaf, {**kind.verbs, **known.verbs})
        return Catalogue(kinds, self.everywhere, self.companions)

    def verbs_of(self, kind: str) -> Mapping[str, VerbClass]:
        """The verbs of a kind with their classes; empty for an unknown kind."""
        found = self.kinds.get(kind)
        return found.verbs if found else {}

    def companions_of(self, kind: str, verb: str) -> tuple[Companion, ...]:
        """What else must be allowed with a verb on something of a kind."""
        its_class = self.verbs_of(kind).get(verb)
        return tuple(companion for companion in self.companions if companion.goes_with(verb, its_class))

    def running_verb(self, kind: str) -> str | None:
        """The verb by which code is run on something of a kind: `login` where that runs code, else its only verb of
        class run; None where nothing runs on it, or by several verbs."""
        running = [verb for verb, its_class in self.verbs_of(kind).items() if its_class == VerbClass.RUN]
        if "login" in running:
            return "login"
        return running[0] if len(running) == 1 else None

    def acts(self, kind: str) -> bool:
        """Whether something of a kind can run as an identity: code runs on it, or it asks by itself, as the nodes of a
        cluster do when they pull images."""
        return kind in ASK_THEMSELVES or VerbClass.RUN in self.verbs_of(kind).values()

    def all_verbs(self) -> frozenset[str]:
        """Every verb that any kind has."""
        return frozenset(verb for kind in self.kinds.values() for verb in kind.verbs)

    def permissions(self, listed: Mapping[str, tuple[str, ...]], *, power_included: bool) -> Permissions:
        """What a mapping of kinds to verbs lists, wildcards written out.

        In roles and narrowings (`power_included` false) a `*` among the verbs is every verb but those of
        class power; a power verb counts only where it is named. In ceilings `*` means all of them.
        """
        found: set[tuple[str, str]] = set()
        for selector, verbs in listed.items():
            kinds = self.kinds.values() if selector == EVERYTHING else [self.kinds[selector]]
            for kind in kinds:
                for verb, its_class in kind.verbs.items():
                    by_star = EVERYTHING in verbs and (power_included or its_class != VerbClass.POWER)
                    if by_star or verb in verbs:
                        found.add((kind.name, verb))
        return frozenset(found)


def catalogue_from(data: Mapping[str, object]) -> Catalogue:
    """The catalogue that the packaged data describes; ValueError where the data is not a catalogue."""
    everywhere = data.get("verbs_everywhere")
    kinds = data.get("kinds")
    if not isinstance(everywhere, Mapping) or not isinstance(kinds, Mapping):
        raise ValueError("a catalogue has `verbs_everywhere` and `kinds`")
    read = [
        Kind(name, tuple(entry.get("in", ())), entry.get("leaf", False), _classed(entry["verbs"]))
        for name, entry in kinds.items()
    ]
    companions = data.get("companions", ())
    if not isinstance(companions, list) or any(companion.get("on") not in ON for companion in companions):
        raise ValueError(f"`companions` is a list, each `on` one of {', '.join(ON)}")
    further = tuple(
        Companion(
            VerbClass(companion["class"]) if "class" in companion else None,
            companion.get("verb", ""),
            companion["also"],
            companion["on"],
        )
        for companion in companions
    )
    return Catalogue({}, _classed(everywhere), further).extended(read)


def _classed(verbs: Mapping[str, str]) -> dict[str, VerbClass]:
    return {verb: VerbClass(its_class) for verb, its_class in verbs.items()}

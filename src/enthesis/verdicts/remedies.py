"""What would turn a refusal: every minimal set of changes up to a bound, each judged again before it is offered.

The search starts from the refusal, asks for each first failing step which single changes speak to it, applies them to
a copy of the estate, and continues until the verdict turns. A set that has a smaller one inside it is dropped.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from ipaddress import IPv4Network, IPv6Network
from typing import Any

from enthesis.access.answers import NearMiss, Request, StepOutcome, Unmet, Verdict
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.conditions.patterns import matches
from enthesis.conditions.sampling import changes_by_itself
from enthesis.files.conditions import plain_test
from enthesis.files.editing import Addition, Replacement
from enthesis.files.sections import SECTIONS
from enthesis.files.writing import plain_statement
from enthesis.model import estate as m
from enthesis.model.addresses import account_of, article, contains, parse, pool_of
from enthesis.model.conditions import AnyOf, Equal, Glob, Test, Within
from enthesis.model.estate import Estate, boundary_of
from enthesis.model.pointers import as_pointers
from enthesis.model.vocabulary import BEARERS, SHOWN_IN, Form, Outcome, VerdictStep
from enthesis.text.times import duration_text
from enthesis.verdicts.judge import Judge

MAX_CHANGES = 6  # in one remedy
MAX_JUDGED = 160  # sets of changes that are tried for one refusal, each on an estate compiled anew …
SMALL = 4_000  # … of so many statements; on larger ones fewer are tried
MAX_REMEDIES = 12
MAX_RUNNING = 20  # resources on which running code is tried as a way


@dataclass(frozen=True, slots=True)
class Change:
    """One change of the estate, or of the question where `section` is ''.

    A new entry has `name` ('' in lists) and `value`; a changed one also `old`, and `path` with `plain`, the new value
    at that path. `whose` are the administrators who have to make it; `width` is how much it admits, for ordering.
    """

    sentence: str
    whose: str
    section: str
    name: str = ""
    value: Any = None
    old: Any = None
    path: tuple[str | int, ...] = ()
    plain: Any = None
    width: int = 0
    question: Question | None = None

    @property
    def key(self) -> tuple[Any, ...]:
        """What makes two changes the same one."""
        return (self.section, self.name, self.sentence)

    def edit(self) -> Addition | Replacement | None:
        """The same as an edit of the estate's files; None for a change of the question."""
        if not self.section:
            return None
        if self.old is None:
            return Addition(self.section, self.name, plain_statement(self.section, self.value))
        source = self.old.source
        return Replacement.at(source, self.path, self.plain)

    def line(self) -> str:
        """The change as it stands in the estate, on one line; '' for a change of the question."""
        edit = self.edit()
        if edit is None:
            return ""
        if isinstance(edit, Addition):
            return f"{self.section}: {edit.line()}"
        alone = " (for this one of its list alone)" if self.old.source.part else ""
        return f"{self.old.source}: {'.'.join(map(str, self.path))}: {Addition('', '', edit.value).line()[2:]}{alone}"


Made = Change | tuple[Change, ...]


@dataclass(frozen=True, slots=True)
class Remedy:
    """A minimal set of changes that turns the verdict."""

    changes: tuple[Change, ...]


@dataclass(frozen=True, slots=True)
class Remedies:
    """The remedies found, narrowest first; `complete` says that the bound on work was not reached."""

    found: tuple[Remedy, ...]
    complete: bool
    unmendable: tuple[str, ...] = ()


def applied(estate: Estate, changes: Iterable[Change]) -> Estate:
    """A copy of the estate with changes made. Changes of the question leave it as it is."""
    for change in changes:
        if not change.section:
            continue
        entries = getattr(estate, change.section)
        more: Any = {**entries, change.name: change.value} if change.name else (*entries, change.value)
        if change.old is not None and not change.name:
            more = tuple(change.value if entry is change.old else entry for entry in entries)
        fields: dict[str, Any] = {change.section: more}
        estate = replace(estate, **fields)
    return estate


def asked(question: Question, changes: Iterable[Change]) -> Question:
    """The question with its corrections made."""
    for change in changes:
        if change.question is not None:
            question = change.question
    return question


def remedies_for(estate: Estate, verdict: Verdict) -> Remedies:
    """The remedies of a refusal. Each was applied to a copy of the estate and turned the verdict there."""
    if verdict.allowed:
        return Remedies((), complete=True)
    return _RemedySearch(estate, verdict).run()


class _RemedySearch:
    """Breadth first over sets of changes, so that smaller sets are found first."""

    def __init__(self, estate: Estate, verdict: Verdict) -> None:
        self.estate = estate
        self.verdict = verdict
        self.judged = 0
        statements = len(estate.grants) + len(estate.trusts) + len(estate.identities)
        self.most = max(12, min(MAX_JUDGED, MAX_JUDGED * SMALL // max(1, statements)))
        self.found: list[tuple[Change, ...]] = []
        self.unmendable: dict[str, None] = {}

    def run(self) -> Remedies:
        waiting: list[tuple[tuple[Change, ...], Verdict, Estate]] = [((), self.verdict, self.estate)]
        seen: set[frozenset[Any]] = set()
        complete = True
        while waiting and complete:
            changes, verdict, estate = waiting.pop(0)
            for step in self._changes_for(estate, verdict):
                more = (*changes, *step)
                keys = frozenset(change.key for change in more)
                if keys in seen or len(more) > MAX_CHANGES or self._has_inside(keys):
                    continue
                seen.add(keys)
                if self.judged >= self.most or len(self.found) >= MAX_REMEDIES:
                    complete = False
                    break
                changed = applied(estate, step)
                after = self._judge(changed, asked(verdict.question, step))
                if after.allowed:
                    self.found.append(self._smallest(more))
                elif _progress(verdict, after):
                    waiting.append((more, after, changed))
        unique = {frozenset(change.key for change in changes): changes for changes in self.found}
        minimal = [c for k, c in unique.items() if not any(other < k for other in unique)]
        minimal.sort(key=lambda changes: (sum(change.width for change in changes), len(changes)))
        return Remedies(tuple(Remedy(changes) for changes in minimal), complete, tuple(self.unmendable))

    def _judge(self, estate: Estate, question: Question) -> Verdict:
        self.judged += 1
        return Judge(compile_estate(estate)).judge(question)

    def _has_inside(self, keys: frozenset[Any]) -> bool:
        return any(frozenset(change.key for change in changes) <= keys for changes in self.found)

    def _smallest(self, changes: tuple[Change, ...]) -> tuple[Change, ...]:
        """The set without what it does not need."""
        for change in changes:
            rest = tuple(one for one in changes if one is not change)
            if rest and self._judge(applied(self.estate, rest), asked(self.verdict.question, rest)).allowed:
                return self._smallest(rest)
        return changes

    def _changes_for(self, estate: Estate, verdict: Verdict) -> list[tuple[Change, ...]]:
        """Changes that speak to the first step that refuses; a new role goes with the grant that binds it."""
        request = verdict.first_refused
        if request is None:
            return []
        number = next(at for at, one in enumerate(verdict.requests) if one is request)
        maker = _Maker(estate, verdict, number)
        found = [change if isinstance(change, tuple) else (change,) for change in maker.changes(request)]
        for text in maker.unmendable:
            self.unmendable[text] = None
        return found


def _progress(before: Verdict, after: Verdict) -> bool:
    """Whether a change got rid of some step that refused."""

    def refusing(verdict: Verdict) -> set[Any]:
        return set(_refusing(verdict.requests, ()))

    return bool(refusing(before) - refusing(after))


def _refusing(requests: Sequence[Request], path: tuple[Any, ...]) -> Iterator[Any]:
    for number, request in enumerate(requests):
        for step in request.steps:
            if step.outcome is Outcome.REFUSED:
                yield (*path, number, step.name, tuple(ground.text for ground in step.grounds))
                yield from _refusing(step.within, (*path, number, step.name))


class _Maker:
    """Makes the single changes for one refused request of a chain."""

    def __init__(self, estate: Estate, verdict: Verdict, number: int) -> None:
        self.estate = estate
        self.verdict = verdict
        self.question = verdict.question
        self.number = number
        self.unmendable: list[str] = []
        self._made_for = {
            VerdictStep.NAMES: self._for_names,
            VerdictStep.PROVIDER: self._for_provider,
            VerdictStep.CEILINGS: self._for_ceilings,
            VerdictStep.TARGET_SIDE: self._for_target_side,
            VerdictStep.CALLER_SIDE: self._for_caller_side,
            VerdictStep.COMPANIONS: self._for_companions,
            VerdictStep.SESSION: self._for_session,
        }

    def changes(self, request: Request) -> Iterator[Made]:
        """For the first step of this request that refuses."""
        step = request.step(request.refused_at[0])
        known = len(self.unmendable)
        found = list(self._made_for[step.name](request, step))
        if not found and len(self.unmendable) == known:
            grounds = "; ".join(ground.text for ground in step.grounds)
            self.unmendable.append(f"{step.name}: {grounds or 'no change of access allows this'}")
        yield from found

    # names

    def _for_names(self, request: Request, step: StepOutcome) -> Iterator[Made]:
        for address in (request.caller, request.target):
            identity = self.estate.identities.get(address)
            if identity is not None and identity.disabled:
                yield self._changed(
                    "identities", address, identity, "disabled", None, f"enable {address} again", account_of(address), 3
                )
        for name in step.nearest:
            corrected = self._corrected(request, name)
            if corrected is not None:
                yield Change(f"ask for {name}", "the caller", "", question=corrected)

    def _corrected(self, request: Request, name: str) -> Question | None:
        """The question with the wrong name made right."""
        question, origin = self.question, self.question.origin
        exists = self.estate
        if origin.form in BEARERS and origin.whom not in exists.issuers and name in exists.issuers:
            return replace(question, origin=replace(origin, whom=name))
        if origin.form == Form.CREDENTIAL and origin.whom not in exists.credentials and name in exists.credentials:
            return replace(question, origin=replace(origin, whom=name))
        if request.is_hop and request.target not in exists.identities and name in exists.identities:
            hop = replace(question.through[self.number], identity=name)
            through = (*question.through[: self.number], hop, *question.through[self.number + 1 :])
            return replace(question, through=through)
        known = request.caller in exists.identities or request.caller in exists.resources
        alike = name.split("/")[-2:-1] == request.caller.split("/")[-2:-1]
        if self.number == 0 and origin.whom == request.caller and alike and not known:
            return replace(question, origin=replace(origin, whom=name))
        attempt = question.attempt
        if attempt is None or request.is_hop:
            return None
        if name in exists.catalogue.all_verbs() and "/" not in name:
            return replace(question, attempt=replace(attempt, verb=name))
        if attempt.onto is not None and attempt.onto not in exists.resources and attempt.target in exists.identities:
            return replace(question, attempt=replace(attempt, onto=name))
        return replace(question, attempt=replace(attempt, target=name))

    # provider and session: the question is at fault, or its narrowing

    def _for_provider(self, request: Request, step: StepOutcome) -> Iterator[Made]:
        yield from self._taking_on_first(request)

    def _for_session(self, request: Request, step: StepOutcome) -> Iterator[Made]:
        question = self.question
        kind = self._kind(request.target)
        for at, hop in enumerate(question.through):
            if hop.narrowed is None:
                continue
            listed = self.estate.catalogue.permissions(hop.narrowed, power_included=False)
            if (kind, request.verb) not in listed:
                wider = {**hop.narrowed, kind: (*hop.narrowed.get(kind, ()), request.verb)}
                through = (*question.through[:at], replace(hop, narrowed=wider), *question.through[at + 1 :])
                text = f"narrow {hop.identity} less: leave {request.verb} on {article(kind)} in it"
                yield Change(text, "the caller", "", question=replace(question, through=through), width=1)
        age = question.context.session_age
        if age is None:
            return
        longer = timedelta(hours=int(age.total_seconds()) // 3600 + 1)
        together: list[Change] = []
        for earlier in self.verdict.requests[: self.number]:
            trusts = [self.estate.trusts[number] for number in earlier.counting]
            if trusts and all(trust.session <= age for trust in trusts) and trusts[0].source.file:
                trust = trusts[0]
                text = f"let sessions as {trust.of} last {duration_text(longer)}"
                together.append(
                    self._changed(
                        "trusts", "", trust, "session", longer, text, account_of(trust.of), 4, duration_text(longer)
                    )
                )
        if together:
            yield tuple(together)

    # ceilings

    def _for_ceilings(self, request: Request, step: StepOutcome) -> Iterator[Made]:
        for ground in step.grounds:
            ceiling = next((ceiling for ceiling in self.estate.ceilings if ground.source is ceiling.source), None)
            if ceiling is None:
                ceiling = next(
                    (ceiling for ceiling in self.estate.ceilings if f"ceiling {ceiling.name} " in ground.text), None
                )
            if ceiling is None or not request.caller:
                continue
            excepts = (*ceiling.excepts, request.caller)
            text = f"except {request.caller} from the ceiling {ceiling.name}"
            plain = SECTIONS["ceilings"].record.plain(replace(ceiling, excepts=excepts))["except"]
            yield self._changed(
                "ceilings", "", ceiling, "excepts", excepts, text, boundary_of(ceiling.at), 20, plain, path="except"
            )

    # owner and caller

    def _for_target_side(self, request: Request, step: StepOutcome) -> Iterator[Made]:
        if request.verb == "take-on":
            yield from self._wider_trusts(step)
            yield from self._new_trusts(request)
            return
        if step.grounds:  # a key that its provider manages: no grant opens it to any other caller
            self.unmendable += [ground.text for ground in step.grounds]
            return
        if self._is_resource(request.caller):
            yield from self._taking_on_first(request)
        yield from self._mended_grants(step)
        yield from self._by_running_code(request)
        yield from self._new_grants(request, self._holder(request.target))
        if request.step(VerdictStep.CALLER_SIDE).outcome is Outcome.REFUSED:
            yield from self._new_grants(request, self._common_boundary(request))

    def _for_caller_side(self, request: Request, step: StepOutcome) -> Iterator[Made]:
        yield from self._mended_grants(step)
        yield from self._new_grants(request, account_of(request.caller))

    def _holder(self, target: str) -> str:
        return account_of(target) or boundary_of(target)

    def _common_boundary(self, request: Request) -> str:
        """The nearest organisation or unit above both sides of a crossing; '' where there is none."""
        above = [self.estate.boundary_above(account_of(name)) for name in (request.caller, request.target)]
        return next((place for place in above[0] if place in above[1]), "")

    def _is_resource(self, caller: str) -> bool:
        """Whether what asks is a resource: the origin, or what code was run on."""
        return bool(caller) and caller not in self.estate.identities and self._kind(caller) != "identity"

    def _kind(self, address: str) -> str:
        return parse(address, self.estate.catalogue).kind

    def _new_grants(self, request: Request, holder: str) -> Iterator[Made]:
        """Grants to this caller at this target, with the narrowest roles that do."""
        if not holder or request.caller not in self.estate.identities:
            return
        wanted = (self._kind(request.target), request.verb)
        fitting = []
        for name in self.estate.roles:
            permissions = self.estate.permissions_of(name)
            if wanted in permissions:
                fitting.append((len(permissions) - 1, name))
        fitting.sort()
        for excess, name in fitting[:2]:
            yield self._grant(request, name, holder, width=2 + excess)
        if not fitting or fitting[0][0]:
            kind, verb = wanted
            name = self._fresh(f"{verb}-{kind}", self.estate.roles)
            role = m.Role(name, {kind: (verb,)})
            text = f"a new role {name} that allows {verb} on {article(kind)} and nothing else"
            made = Change(text, holder, "roles", name, role, width=0)
            yield made, self._grant(request, name, holder, width=2)

    def _grant(self, request: Request, role: str, holder: str, width: int) -> Change:
        at = request.target
        crossing = account_of(request.caller) != account_of(at)
        written = holder if crossing or holder != boundary_of(at) else None
        same = [g for g in self.estate.grants if (g.to, g.role, g.at) == (request.caller, role, at)]
        twin = any(self.estate.holder_of(grant) == holder for grant in same)
        names = {grant.name for grant in self.estate.grants}
        name = self._fresh(f"{role}-for-{request.caller.rsplit('/', 1)[-1]}", names) if twin else None
        grant = m.Grant(request.caller, role, at, name, written)
        text = f"a grant of {role} to {request.caller} at {at}, held by {holder}"
        return Change(text, holder, "grants", "", grant, width=width)

    @staticmethod
    def _fresh(name: str, known: Any) -> str:
        number = 2
        candidate = name
        while candidate in known:
            candidate, number = f"{name}-{number}", number + 1
        return candidate

    def _mended_grants(self, step: StepOutcome) -> Iterator[Made]:
        """Grants that only ended, or whose condition is one value too narrow."""
        for miss in step.misses:
            if miss.ground.number is None:
                continue
            grant = self.estate.grants[miss.ground.number]
            holder = self.estate.holder_of(grant)
            yield from self._mended("grants", grant, miss, holder, f"{grant.role} to {grant.to} at {grant.at}")

    def _mended(self, section: str, old: Any, miss: NearMiss, holder: str, words: str) -> Iterator[Made]:
        if not old.source.file:
            return  # it was added by this very remedy
        if miss.lacks == ("it has ended",) and not miss.unmet:
            text = f"take the end away from {section[:-1]} {old.name or words}"
            yield self._changed(section, "", old, "until", None, text, holder, 5)
        elif not miss.lacks and len(miss.unmet) == 1 and not miss.unmet[0].attribute.startswith("claims."):
            unmet = miss.unmet[0]
            wider = _widened(unmet)
            if wider is not None:
                when = tuple((name, wider if name == unmet.attribute else test) for name, test in old.when)
                yield self._widening(section, old, unmet, {"when": when}, ("when", unmet.attribute), wider, holder)

    def _widening(
        self, section: str, old: Any, unmet: Unmet, fields: Any, path: tuple[str, ...], wider: Test, holder: str
    ) -> Change:
        attribute = unmet.attribute.removeprefix("claims.")
        text = f"let {attribute} be {_value_text(unmet.found)} too in the {section[:-1]} at {old.source}"
        return Change(text, holder, section, "", replace(old, **fields), old, path, plain_test(wider), width=3)

    def _wider_trusts(self, step: StepOutcome) -> Iterator[Made]:
        for miss in step.misses:
            if miss.ground.number is None:
                continue
            trust = self.estate.trusts[miss.ground.number]
            holder = account_of(trust.of)
            yield from self._mended("trusts", trust, miss, holder, f"of {trust.of}")
            if miss.lacks or not all(_claimed(trust, unmet) for unmet in miss.unmet):
                continue
            yield from self._wider_claims(trust, miss, holder)

    def _wider_claims(self, trust: m.Trust, miss: NearMiss, holder: str) -> Iterator[Made]:
        """One change that widens every claim that is too narrow; only where each can be widened."""
        if any(changes_by_itself(unmet.attribute.removeprefix("claims."), unmet.found) for unmet in miss.unmet):
            return  # the next run shows another value
        wider = {unmet.attribute.removeprefix("claims."): _widened(unmet) for unmet in miss.unmet}
        if not wider or any(test is None for test in wider.values()):
            return
        conditions = tuple((name, wider.get(name) or test) for name, test in trust.admits.conditions)
        changed = replace(trust, admits=replace(trust.admits, conditions=conditions))
        field = SHOWN_IN[trust.admits.form]
        said = " and ".join(
            f"{unmet.attribute.removeprefix('claims.')} be {_value_text(unmet.found)} too" for unmet in miss.unmet
        )
        text = f"let {said} in the trust of {trust.of}"
        if field == "subject":
            path: tuple[str, ...] = ("admits", field)
            plain = plain_test(conditions[0][1])
        elif len(wider) == 1:
            path = ("admits", field, next(iter(wider)))
            plain = plain_test(next(test for test in wider.values() if test is not None))
        else:
            path = ("admits", field)
            plain = {name: plain_test(test) for name, test in conditions}
        yield Change(text, holder, "trusts", "", changed, trust, path, plain, width=3)

    def _new_trusts(self, request: Request) -> Iterator[Made]:
        origin, target = self.question.origin, request.target
        if target.startswith("@"):
            return  # people sign in: no trust lets another caller act as one
        holder = account_of(target)
        conditions: tuple[tuple[str, Test], ...] = ()
        first: tuple[Change, ...] = ()
        whom: str = request.caller
        if not request.caller:
            form, whom = origin.form, origin.whom
            conditions = tuple(
                (name, Equal(value))
                for name, value in map(self._lasting, as_pointers(origin.shows).items())
                if isinstance(value, str | int | bool) and value != "" and not changes_by_itself(name, value)
            )
            if origin.form == Form.TOKEN and not conditions:
                return
            words = f"{article(form)} of {whom} with just these claims"
        elif self._is_resource(whom):
            form, words = Form.ATTACHED, f"{whom} running as it"
            first = self._running(whom, target)
        else:
            form = self.estate.identities[whom].form
            words = whom
        if whom == target:
            return  # an identity that takes itself on gets nothing that it has not
        if any((t.of, t.admits.form, t.admits.whom, t.admits.conditions, t.when) == (target, form, whom, conditions, ())
               for t in self.estate.trusts):  # fmt: skip
            return
        twins = any((t.of, t.admits.form, t.admits.whom) == (target, form, whom) for t in self.estate.trusts)
        names = {trust.name for trust in self.estate.trusts}
        name = self._fresh(f"{target.rsplit('/', 1)[-1]}-for-{whom.rsplit('/', 1)[-1]}", names) if twins else None
        age = self.question.context.session_age
        session = timedelta(minutes=15) if age is None else timedelta(hours=int(age.total_seconds()) // 3600 + 1)
        trust = m.Trust(target, m.Admission(form, whom, conditions), name, session=session)
        text = f"a trust of {target} in {words}, for {duration_text(session)} at a time"
        yield *first, Change(text, holder, "trusts", "", trust, width=4)

    def _lasting(self, shown: tuple[str, Any]) -> tuple[str, Any]:
        """A claim as a trust pins it: of several audiences one, a provider where there is one."""
        name, value = shown
        if name == "aud" and isinstance(value, tuple):
            return name, next((one for one in value if one in self.estate.providers), value[0] if value else None)
        return shown

    def _running(self, what: str, identity: str) -> tuple[Change, ...]:
        """The change by which a resource runs as an identity; () where it does."""
        if identity in _runs(self.estate, what):
            return ()
        text, whose = f"{what} runs as {identity}", account_of(what)
        resource = self.estate.resources.get(what)
        if resource is None or not resource.source.file:
            attachment = m.Attachment(what, (identity,))
            return (Change(text, whose, "attachments", "", attachment, width=6),)
        runs = (*resource.runs_as, identity)
        plain = SECTIONS["resources"].record.plain(replace(resource, runs_as=runs))["runs_as"]
        return (self._changed("resources", what, resource, "runs_as", runs, text, whose, 6, plain),)

    def _taking_on_first(self, request: Request) -> Iterator[Made]:
        """The question with one more hop: an identity that this caller can take on, at the target's provider."""
        question, origin = self.question, self.question.origin
        account = self.estate.accounts.get(account_of(request.target))
        if request.is_hop or account is None:
            return
        fitting = _runs(self.estate, request.caller) if self._is_resource(request.caller) else [
            trust.of
            for trust in self.estate.trusts
            if (trust.admits.form, trust.admits.whom) == ("identity", request.caller)
            or (not request.caller and (trust.admits.form, trust.admits.whom) == (origin.form, origin.whom))
        ]  # fmt: skip
        for identity in dict.fromkeys(fitting):
            there = self.estate.accounts.get(account_of(identity))
            if there is not None and there.provider == account.provider:
                through = (*question.through, m.Hop(identity))
                yield Change(f"take on {identity} first", "the caller", "", question=replace(question, through=through))

    def _by_running_code(self, request: Request) -> Iterator[Made]:
        """The question by way of a resource: code is run there, and continues as an identity that may do it."""
        if request.is_hop or not request.caller or self._is_resource(request.caller):
            return
        wanted, question = (self._kind(request.target), request.verb), self.question
        able = {
            grant.to
            for grant in self.estate.grants
            if contains(grant.at, request.target) and wanted in self.estate.permissions_of(grant.role)
        }
        tried = 0
        for what in self.estate.resources:
            fitting = [run for run in _runs(self.estate, what) if run in able and run != request.caller]
            if not fitting or self.estate.catalogue.running_verb(self._kind(what)) is None:
                continue
            tried += 1
            if tried > MAX_RUNNING:
                return
            through = (*question.through, m.Hop(on=what), m.Hop(fitting[0]))
            text = f"run code on {what} first, and take on {fitting[0]} there"
            yield Change(text, "the caller", "", question=replace(question, through=through))

    # companions

    def _for_companions(self, request: Request, step: StepOutcome) -> Iterator[Made]:
        refused = next((request for request in step.within if not request.allowed), None)
        if refused is not None:
            yield from self.changes(refused)

    # helpers

    def _changed(  # noqa: PLR0913, PLR0917  a row of the table that a change is
        self, section: str, name: str, old: Any, attribute: str, value: Any, text: str, whose: str, width: int,
        plain: Any = None, path: str = "",
    ) -> Change:  # fmt: skip
        default = type(old).__dataclass_fields__[attribute].default
        new = replace(old, **{attribute: default if value is None else value})
        return Change(text, whose, section, name, new, old, (path or attribute,), plain, width=width)


def _runs(estate: Estate, what: str) -> list[str]:
    """The identities that a resource runs as."""
    resource = estate.resources.get(what)
    found = list(resource.runs_as) if resource else []
    for attachment in estate.attachments:
        pattern = attachment.what
        if matches(pattern.pattern, what) if isinstance(pattern, Glob) else pattern == what:
            found += attachment.runs_as
    pool = pool_of(what)
    return list(dict.fromkeys([*found, *(_runs(estate, pool) if pool else ())]))


def _claimed(trust: m.Trust, unmet: Unmet) -> bool:
    """Whether an unmet test is one on what the bearer shows."""
    name = unmet.attribute.removeprefix("claims.")
    return unmet.attribute.startswith("claims.") and any(name == attribute for attribute, _ in trust.admits.conditions)


def _widened(unmet: Unmet) -> Test | None:
    """The test with the found value let through too; None where there is no such value, or the test bars it."""
    found, test = unmet.found, unmet.test
    if unmet.truth is None:
        return None
    if isinstance(test, Within) and isinstance(found, IPv4Network | IPv6Network):
        return Within((*test.networks, found))
    if not isinstance(found, str | int | float | bool) or not isinstance(test, Equal | AnyOf | Glob):
        return None
    tests = test.tests if isinstance(test, AnyOf) else (test,)
    return AnyOf((*tests, Equal(found)))


def _value_text(value: object) -> str:
    return str(value)

"""A cloud that speaks the lab's administration interface and OAuth 2.0 token exchange (RFC 8693)."""

import base64
import hashlib
import json
import uuid
from collections import ChainMap, Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any
from urllib.parse import parse_qsl, quote, unquote, urlencode, urlsplit

from enthesis.connectors.http import KEYED, Client, HttpAnswer, problem_said, surrounding, understood
from enthesis.model.addresses import account_of, is_organisation, organisation_named
from enthesis.model.errors import InvalidInput, LiveFailure, MovedAway, RightMissing, UnexpectedAnswer
from enthesis.model.estate import Attempt, KindVerbs
from enthesis.model.secrets import Secret
from enthesis.model.vocabulary import OF_PROVIDERS, STATEMENT_SECTIONS, VerdictStep
from enthesis.ports import (
    Changed,
    Credentialed,
    Done,
    HeldCredential,
    HeldKey,
    Joined,
    LiveObject,
    OpenSession,
    Passing,
    Refusal,
    Right,
    ServiceHere,
    Step,
    Surroundings,
    Surveyed,
    WantedKey,
)
from enthesis.proposals.holding import cloud_objection
from enthesis.proposals.steps import MAKE, NOT_UNDONE
from enthesis.surveys.statements import listed
from enthesis.text.times import time_text

EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
TYPES = {
    "token": "urn:ietf:params:oauth:token-type:jwt",
    "session": "urn:ietf:params:oauth:token-type:access_token",
    "person": "urn:ietf:params:oauth:token-type:access_token",
    "resource": "urn:ietf:params:oauth:token-type:access_token",
    "certificate": "urn:ietf:params:oauth:token-type:jwt",
    "assertion": "urn:ietf:params:oauth:token-type:saml2",
}
MARKS = ("id", "holder", "mark", "etag", "runs_as_gone", "in_force", "changed_by", "changed_at")
PLACES = "/places/"
AT_ONCE = 8  # requests of one survey
ENDLESS = timedelta(days=36500)
TRIED = b"Enthesis tried to write here and puts back what was there.\n"


class Cloud:
    """One provider. `sessions` are administrators' sessions by the account or organisation they administer; `renew`
    gets new ones where one has ended. What is changed is changed as the person whose sign-in `acting` is, if there is
    one, with that person's rights."""

    def __init__(
        self,
        name: str,
        client: Client,
        sessions: Mapping[str, Secret],
        renew: Callable[[], Mapping[str, Secret]] | None = None,
        acting: Secret | None = None,
    ) -> None:
        self._renew = renew
        self._acting = acting
        self.name = name
        self.client = client
        self.sessions = sessions
        self._out: list[Secret] = []  # sessions that were obtained and not let go
        self._roles: dict[tuple[str, str], str] = {}
        self._own: dict[
            str, str
        ] = {}  # addresses to ids here; people and groups of an organisation have one at each cloud

    # -- survey ----------------------------------------------------------------------------------------------

    @understood
    def survey(self, holders: Sequence[str], others: Sequence[str] = ()) -> Surveyed:
        """Needs, for each holder, the right to read what its administrators wrote."""
        try:
            return self._survey(holders, others)
        except RightMissing:
            if self._renew is None:
                raise
        self.sessions = self._renew()
        return self._survey(holders, others)

    def _survey(self, holders: Sequence[str], others: Sequence[str]) -> Surveyed:
        accounts: set[str] = set()
        resources: set[str] = set()
        people: dict[str, str] = {}
        shared: list[dict[str, Any]] = []
        logins: dict[str, bool] = {}
        side = ""
        kinds = [(holder, collection) for holder in holders for collection in OF_PROVIDERS]
        with ThreadPoolExecutor(AT_ONCE) as pool:
            listed_ones = pool.map(lambda asked: (asked[1], self._all(*asked)), kinds)
            inventories = pool.map(self._inventory, holders)
            concerning = pool.map(self._concerning, holders)
            raw = [(collection, item) for collection, items in listed_ones for item in items]
            for there, those in zip(inventories, concerning, strict=True):
                accounts.update(there["accounts"])
                resources.update(there["resources"])
                people.update(there["people"])
                logins.update(there.get("shared_logins", {}))
                side = str(there.get("side", ""))
                shared.extend(those)
        if others:
            query = urlencode([("address", other) for other in others])
            answer = self.client.ask("GET", f"/administration/ids?{query}", bearer=self._session(holders[0]))
            people.update(self.client.expect(answer, 200).json(self.client.who)["ids"])
        surveyed = self._surveyed(holders, raw, (accounts, resources), people)
        names = {identifier: address for address, identifier in surveyed.ids.items()}
        known = {statement.id for statement in surveyed.objects}
        items = {item["id"]: item for item in shared if item["id"] not in known}
        concerned = tuple(self._shared(item, names) for item in items.values())
        return replace(surveyed, concerning=concerned, side=side, shared_logins=logins)

    def _all(self, holder: str, collection: str) -> list[dict[str, Any]]:
        """The statements of one collection that a holder has."""
        found = self.client.get_all(f"/administration/{collection}", bearer=self._session(holder))
        return list({item["id"]: item for item in found}.values())  # a page that shifts shows an item twice

    def _inventory(self, holder: str) -> dict[str, Any]:
        """The accounts, resources and people that a holder knows of."""
        answer = self.client.ask("GET", "/administration/inventory", bearer=self._session(holder))
        found: dict[str, Any] = self.client.expect(answer, 200).json(self.client.who)
        return found

    @understood
    def resources_in(self, account: str) -> list[str]:
        """The addresses of everything that is in an account now."""
        return [str(one) for one in self._inventory(account)["resources"] if one.startswith(f"{account}/")]

    def _concerning(self, holder: str) -> list[dict[str, Any]]:
        """What others hold that names what is a holder's; nothing where the cloud does not tell."""
        answer = self._administered("GET", "/administration/concerning", holder)
        if answer.status in (403, 404):
            return []
        items: list[dict[str, Any]] = self.client.expect(answer, 200).json(self.client.who)["items"]
        return items

    def _shared(self, item: Mapping[str, Any], names: Mapping[str, str]) -> LiveObject:
        roles = {item["role"]: item["role_name"]} if item.get("role_name") else {}
        plain = {name: value for name, value in item.items() if name not in ("collection", "role_name")}
        return self._object(item["collection"], plain, {**names, **roles})

    def _surveyed(
        self,
        holders: Sequence[str],
        raw: list[tuple[str, dict[str, Any]]],
        existing: tuple[set[str], set[str]],
        people: Mapping[str, str],
    ) -> Surveyed:
        addressed = [item for collection, item in raw if collection in ("identities", "groups")]
        ids = {**people, **{item["address"]: item["id"] for item in addressed}}
        self._own.update(ids)
        names = {identifier: address for address, identifier in ids.items()}
        for collection, item in raw:
            if collection == "roles":
                names[item["id"]] = item["name"]
                self._roles[item["holder"], item["name"]] = item["id"]
        objects = tuple(self._object(collection, item, names) for collection, item in raw)
        accounts, resources = map(frozenset, existing)
        return Surveyed(self.name, tuple(holders), objects, accounts, resources, ids)

    def _object(self, collection: str, item: Mapping[str, Any], names: Mapping[str, str]) -> LiveObject:
        body = {name: value for name, value in item.items() if name not in MARKS and value is not None}
        if "to" in body:
            body["to"] = _name_of(body["to"], names)
        if "role" in body:
            body["role"] = names.get(body["role"], "gone")
        if "of" in body:
            body["of"] = names.get(body["of"], {"gone": "an identity"})
        if "admits" in body:
            body["admits"] = {
                form: _name_of(value, names) if form in ("identity", "person", "group") else value
                for form, value in body["admits"].items()
            }
        if "members" in body:
            body["members"] = [_name_of(member, names) for member in body["members"]]
        if "runs_as" in body:
            gone = item.get("runs_as_gone", {})
            body["runs_as"] = [names.get(one) or {"gone": gone.get(one, "an identity")} for one in body["runs_as"]]
        for name in STATEMENT_SECTIONS[collection].one_or_more:
            if isinstance(body.get(name), list) and len(body[name]) == 1:
                body[name] = body[name][0]  # as the estate writes a list of one
        by = " at ".join(str(item[name]) for name in ("changed_by", "changed_at") if item.get(name))
        about = (self.name, collection, item["holder"], item["id"], item["etag"], item["mark"])
        return LiveObject(*about, body, changed_by=by)

    # -- change ----------------------------------------------------------------------------------------------

    @understood
    def change(self, step: Step, ids: dict[str, str], key: str = "") -> Changed:
        """Needs the right of the holder's administrators to change access, or of the person whom it is done as."""
        path = f"/administration/{step.collection}"
        headers = {KEYED: key} if key else {}
        if step.id is not None:
            path, headers = f"{path}/{step.id}", {**headers, "If-Match": step.etag or ""}
        if step.body is None:
            answer = self._written("DELETE", path, step.holder, headers=headers)
            self._moved(step, answer)
            self.client.expect(answer, 204, 404)
            at_once = step.collection in NOT_UNDONE  # what is revoked is looked up at every use
            return Changed(None, None, in_force=at_once or answer.status == 404)
        body = self._wire(step, ChainMap(self._own, ids))
        if step.id is None:
            answer = self._written("POST", path, step.holder, headers=headers, body={**body, "holder": step.holder})
            self._moved(step, answer)
            said = self.client.expect(answer, 201).json(self.client.who)
        else:
            answer = self._written("PUT", path, step.holder, headers=headers, body=body)
            self._moved(step, answer)
            said = self.client.expect(answer, 200).json(self.client.who)
        made = Changed(said["id"], said["etag"], said.get("in_force") is not False)
        self.learn(step, made, ids)
        return made

    def learn(self, step: Step, made: Changed, ids: dict[str, str]) -> None:
        """Takes note of the id of what a step made."""
        if step.body is None or made.id is None:
            return
        if step.collection in ("identities", "groups"):
            address = str(step.body["address"])
            self._own[address] = ids[address] = made.id
        if step.collection == "roles":
            self._roles[step.holder, str(step.body["name"])] = made.id

    @understood
    def in_force(self, step: Step, made: Changed) -> bool:
        """Whether what a step wrote shows, and is enforced as far as the cloud says so."""
        path = f"/administration/{step.collection}/{made.id or step.id}"
        answer = self._administered("GET", path, step.holder)
        if answer.status == 404:
            return step.body is None
        said = self.client.expect(answer, 200).json(self.client.who)
        return said.get("in_force") is not False and step.body is not None

    def rights(self, holders: Sequence[str], steps: Sequence[Step]) -> list[Right]:
        """As the administration interface asks for them; an administrators' session has all at its boundary."""
        out = [Right("describe", holder, "survey") for holder in holders]
        return [*out, *(Right(may, at, "enact") for step in steps for may, at in _needed(step))]

    def lacking(self, steps: Sequence[Step]) -> list[str]:
        """Whose administrators' sessions we have not."""
        out: dict[str, None] = {}
        for holder in dict.fromkeys(step.holder for step in steps):
            if not {holder, holder.split("/", maxsplit=1)[0]} & set(self.sessions):
                out[f"no administrators' session for {holder} at {self.name}"] = None
        return list(out)

    @understood
    def removed_by(self, collection: str, holder: str, identifier: str) -> str:
        """Who removed a statement, and when; '' where the cloud does not say."""
        answer = self._administered("GET", f"/administration/{collection}/{identifier}", holder)
        said = answer.json(self.client.who) if answer.status == 404 else {}
        return " at ".join(str(said[name]) for name in ("changed_by", "changed_at") if said.get(name))

    def _administered(self, method: str, path: str, holder: str, **more: Any) -> HttpAnswer:
        """A request of a holder's administrators; where their session has ended, once more with a renewed one."""
        answer = self.client.ask(method, path, bearer=self._session(holder), **more)
        if answer.status == 401 and self._renew is not None:
            self.sessions = self._renew()
            answer = self.client.ask(method, path, bearer=self._session(holder), **more)
        return answer

    def _written(self, method: str, path: str, holder: str, **more: Any) -> HttpAnswer:
        """A request that changes something: as the person who acts, else as the administrators of the holder."""
        if self._acting is None:
            return self._administered(method, path, holder, **more)
        return self.client.ask(method, path, bearer=self._acting, **more)

    @staticmethod
    def _moved(step: Step, answer: HttpAnswer) -> None:
        if answer.status in (409, 412):
            raise MovedAway(
                f"meanwhile others changed {step.sentence}", code="changed-meanwhile", remedy="propose again"
            )

    def _wire(self, step: Step, ids: Mapping[str, str]) -> dict[str, Any]:
        """The body as the interface wants it: ids for everything that has one."""
        body = dict(step.body or {})
        for name in STATEMENT_SECTIONS[step.collection].one_or_more:
            if name in body and not isinstance(body[name], list):
                body[name] = [body[name]]
        if "to" in body:
            body["to"] = _reference(body["to"], ids)
        if "role" in body:
            body["role"] = self._role(step.holder, body["role"])
        if "of" in body:
            body["of"] = _id(body["of"], ids)
        if "admits" in body:
            admits = dict(body["admits"])
            for form in ("identity", "person"):
                if form in admits:
                    admits[form] = {"id": _id(admits[form], ids), "address": admits[form]}
            if "group" in admits:
                admits["group"] = _id(admits["group"], ids)
            body["admits"] = admits
        if "members" in body:
            body["members"] = [_reference(member, ids) for member in body["members"]]
        if "runs_as" in body:
            body["runs_as"] = [_id(one, ids) for one in body["runs_as"]]
        return {**body, "mark": step.mark}

    def _role(self, holder: str, name: str) -> str:
        found = self._roles.get((holder, name))
        if found is None:
            raise MovedAway(f"{holder} has no role {name} any more", code="gone-meanwhile", remedy="propose again")
        return found

    def _session(self, holder: str) -> Secret:
        """The administrator's session for a holder: its own, or that of its organisation for a unit."""
        for candidate in (holder, holder.split("/", maxsplit=1)[0]):
            if candidate in self.sessions:
                return self.sessions[candidate]
        raise RightMissing(
            f"there is no administrator session for {holder} at {self.name}",
            code="administrator-session-missing",
            remedy="while a lab runs, `enthesis lab start` renews its sessions",
        )

    def objection(self, collection: str, body: Mapping[str, Any], allows: Mapping[str, Any]) -> str:
        """Why a cloud of this kind cannot hold a statement; '' where it can."""
        del allows
        return cloud_objection(self.name, collection, body)

    # -- obtain and attempt ----------------------------------------------------------------------------------

    @understood
    def take_on(
        self, shown: HeldCredential, identity: str, narrowed: KindVerbs | None, asked: Surroundings
    ) -> HeldCredential | Refusal:
        """RFC 8693, section 2.1. Needs no right of ours: the workload's own credential is shown."""
        form = {
            "grant_type": EXCHANGE,
            "subject_token": self._shown(shown).reveal(),
            "subject_token_type": TYPES[shown.form],
            "requested_token_type": TYPES["session"],
            "resource": f"{self.client.url}{PLACES}{identity}",
        }
        if narrowed is not None:
            kinds = {kind: list(verbs) for kind, verbs in narrowed.items()}
            form["authorization_details"] = json.dumps([{"type": "narrowing", "kinds": kinds}])
        answer = self.client.ask("POST", "/token", form=form, headers=surrounding(asked))
        return self._given(answer)

    def _shown(self, held: HeldCredential) -> Secret:
        """What is sent of a credential: of a certificate a short statement, signed with its key, which stays here."""
        if held.form != "certificate":
            return held.secret
        # loads the libraries of tokens
        from enthesis.tokens.certificate_assertions import stated  # noqa: PLC0415

        self.client.ask("GET", "/jwks")  # its answer is dated, by the clock that the statement is judged by
        now = datetime.now(UTC) + (self.client.ahead or timedelta(0))
        return Secret(stated(held.secret.reveal(), self.url, now.timestamp(), str(uuid.uuid4())))

    @property
    def url(self) -> str:
        """Where it is, which is what its sessions name as their issuer."""
        return self.client.url

    @property
    def recipient(self) -> str:
        """The url that an assertion must be made for, to be taken here (RFC 7522, section 3)."""
        return f"{self.client.url}/token"

    @understood
    def statement(self, session: HeldCredential, audience: str) -> HeldCredential | Refusal:
        """What it states for another provider about who has this session (RFC 8693, section 2.1, `audience`)."""
        form = {
            "grant_type": EXCHANGE,
            "subject_token": session.secret.reveal(),
            "subject_token_type": TYPES["session"],
            "requested_token_type": TYPES["token"],
            "audience": audience,
        }
        got = self._given(self.client.ask("POST", "/token", form=form))
        return got if isinstance(got, Refusal) else replace(got, form="token")

    @understood
    def login_certificate(self, session: HeldCredential, host: str, public: str, asked: Surroundings) -> str | Refusal:
        """A certificate for a login at a host: for a session of this cloud, or a person's sign-in."""
        path = f"/logins/{quote(host, safe='/@')}"
        headers = surrounding(asked)
        answer = self.client.ask("POST", path, bearer=session.secret, headers=headers, body={"public_key": public})
        refusal = self._refusal(answer)
        if refusal is not None:
            return refusal
        found = self.client.expect(answer, 200).json(self.client.who).get("certificate")
        if not isinstance(found, str):
            raise UnexpectedAnswer(f"{self.name} answered without a certificate", code="answer-incomplete")
        return found

    @understood
    def session_as(self, identity: str) -> HeldCredential:
        """A session that begins at an identity, with no origin behind it. Needs `issue` on it."""
        bearer = self._session(account_of(identity))
        body = {"of": self._id_of(identity, bearer)}
        answer = self.client.ask("POST", "/administration/sessions", bearer=bearer, body=body)
        return self._obtained(self.client.expect(answer, 200).json(self.client.who))

    def _id_of(self, identity: str, bearer: Secret) -> Any:
        """The id that the cloud gave an identity. MovedAway where the cloud does not have this identity."""
        identities = self.client.get_all("/administration/identities", bearer=bearer)
        found = next((entry for entry in identities if entry.get("address") == identity), None)
        if found is None:
            raise MovedAway(
                f"{identity} does not exist at {self.name}", code="gone-meanwhile", remedy="enthesis propose"
            )
        return found["id"]

    @understood
    def by_key(self, key: HeldKey) -> HeldCredential | Refusal:
        """What a keyed credential gives: a static token is shown as it is, any other for a session (RFC 6749, 4.4)."""
        if key.form == "static-token":
            life = key.ends - datetime.now(UTC) if key.ends is not None else ENDLESS
            return HeldCredential(key.secret, "session", timedelta(seconds=int(life.total_seconds())), self.url)
        encoded = Secret(base64.b64encode(f"{key.id}:{key.secret.reveal()}".encode()).decode())
        answer = self.client.ask(
            "POST",
            "/token",
            form={"grant_type": "client_credentials"},
            headers={"Authorization": f"Basic {encoded.reveal()}"},
        )
        return self._given(answer)

    def _given(self, answer: HttpAnswer) -> HeldCredential | Refusal:
        """What the token endpoint gives, or its refusal of access (RFC 6749, section 5)."""
        body = answer.json(self.client.who)
        if answer.status == 200:
            return self._obtained(body)
        steps = body.get("refused_at")
        refusal = Refusal.told(steps, problem_said(answer)) if answer.status in (400, 401) else None
        if refusal is not None:
            return refusal
        raise UnexpectedAnswer(
            f"{self.name} answered {answer.status} at its token endpoint: {problem_said(answer)}",
            code="answer-unexpected",
        )

    # -- keyed credentials -----------------------------------------------------------------------------------

    @understood
    def make_key(self, holder: str, wanted: WantedKey) -> tuple[Credentialed, Secret]:
        """A new one, and its value, which is in this answer and nowhere else. Needs `issue` on the identity."""
        body = {
            "name": wanted.name,
            "of": self._id_of(wanted.of, self._session(holder)),
            "form": wanted.form,
            "expires": time_text(wanted.expires),
            "reason": wanted.reason,
        }
        answer = self._written("POST", "/administration/credentials", holder, body=body)
        if answer.status == 409:
            raise InvalidInput(
                f"{self.name} has a credential called {wanted.name} already",
                code="credential-exists",
                remedy="name another one",
            )
        made = self.client.expect(answer, 201).json(self.client.who)
        value = made.pop("value", None)
        if not isinstance(value, str):
            raise UnexpectedAnswer(f"{self.name} made a credential and did not show it", code="credential-not-shown")
        return _credentialed(made), Secret(value)

    @understood
    def keys(self, holders: Sequence[str]) -> list[Credentialed]:
        """The keyed credentials of our identities, without any value."""
        found: dict[str, Credentialed] = {}
        with ThreadPoolExecutor(AT_ONCE) as pool:
            answers = list(pool.map(partial(self._administered, "GET", "/administration/credentials"), holders))
        for answer in answers:
            for item in self.client.expect(answer, 200).json(self.client.who).get("items", []):
                found[item["id"]] = _credentialed(item)
        return list(found.values())

    def usage(self, holders: Sequence[str]) -> Iterator[dict[str, Any]]:
        """What was asked of our places, and by our identities; each request once. Needs an administrators' session."""
        seen: set[str] = set()
        for holder in holders:
            for item in self.client.get_all("/administration/usage", bearer=self._session(holder)):
                if item["id"] not in seen:
                    seen.add(item["id"])
                    yield {name: value for name, value in item.items() if name != "id"}

    @understood
    def open_sessions(self, holders: Sequence[str]) -> list[OpenSession]:
        """The sessions of our identities and people that have not ended. Needs an administrators' session."""
        found: dict[str, OpenSession] = {}
        with ThreadPoolExecutor(AT_ONCE) as pool:
            for answer in pool.map(partial(self._administered, "GET", "/administration/sessions"), holders):
                for item in self.client.expect(answer, 200).json(self.client.who).get("items", []):
                    found[item["id"]] = _session_from(item)
        return list(found.values())

    @understood
    def revoke_credential(self, holder: str, identifier: str) -> None:
        """Revoke it: from now on it opens nothing."""
        path = f"/administration/credentials/{quote(identifier)}"
        self.client.expect(self._written("DELETE", path, holder), 204)

    @understood
    def switch_credential(self, holder: str, identifier: str, *, disabled: bool) -> Credentialed:
        """It opens nothing while it is disabled; as it is from now on."""
        path = f"/administration/credentials/{quote(identifier)}"
        answer = self._written("PUT", path, holder, body={"disabled": disabled})
        return _credentialed(self.client.expect(answer, 200).json(self.client.who))

    def _obtained(self, body: Mapping[str, Any]) -> HeldCredential:
        token, life = body.get("access_token"), body.get("expires_in")
        if not isinstance(token, str) or not isinstance(life, int):
            raise UnexpectedAnswer(
                f"{self.name} answered without a token or without its life", code="answer-without-token"
            )
        self._out.append(Secret(token))
        return HeldCredential(self._out[-1], "session", timedelta(seconds=life), self.url)

    def let_go(self) -> None:
        """RFC 7009, section 2: ends the sessions that were obtained here; one that cannot be ended ends by itself."""
        while self._out:
            form = {"token": self._out.pop().reveal(), "token_type_hint": "access_token"}
            with suppress(LiveFailure):
                self.client.ask("POST", "/revoke", form=form)

    @understood
    def run_on(
        self, session: HeldCredential, resource: str, verb: str, asked: Surroundings
    ) -> HeldCredential | Refusal:
        """Runs code on a resource, and answers with what it shows from then on, as itself."""
        path = f"{PLACES}{quote(resource, safe='/@')}?{urlencode({'verb': verb})}"
        answer = self.client.ask("POST", path, bearer=session.secret, headers=surrounding(asked))
        refusal = self._refusal(answer)
        if refusal is not None:
            return refusal
        shown = self.client.expect(answer, 200).json(self.client.who).get("runs")
        if not isinstance(shown, str):
            raise UnexpectedAnswer(f"{self.name} ran nothing on {resource}", code="run-not-started")
        return HeldCredential(Secret(shown), "resource", timedelta(0), self.url)

    def _refusal(self, answer: HttpAnswer) -> Refusal | None:
        """The refusal of access that an answer is; None for any other answer."""
        if answer.status not in (401, 403):
            return None
        told = Refusal.told(answer.json(self.client.who).get("refused_at"), problem_said(answer))
        if told is None and answer.status == 401:
            return Refusal((VerdictStep.SESSION,), problem_said(answer))
        return told

    @understood
    def attempt(self, session: HeldCredential, attempt: Attempt, asked: Surroundings) -> Done | Refusal:
        """Does it for real as a trial, looks whether it was done, and has it put back."""
        method, params = _how(attempt)
        path = f"{PLACES}{quote(attempt.target, safe='/@')}?{urlencode(params)}"
        content = TRIED if method == "PUT" else None
        answer = self.client.ask(method, path, bearer=session.secret, headers=surrounding(asked), content=content)
        refusal = self._refusal(answer)
        if refusal is not None:
            return refusal
        if answer.status == 201 and "location" in answer.headers:
            sent = None if method == "DELETE" else content or b""
            return self._tried(session, answer.headers["location"], sent)
        if answer.status == 404 and b":nothing-stored" in answer.content:
            return Done("allowed, and no content is stored there")
        if answer.status == 200:
            return Done("read" if attempt.verb == "read" else "listed" if attempt.verb == "list" else "allowed")
        raise UnexpectedAnswer(
            f"{self.name} answered {answer.status} to {attempt.verb}: {problem_said(answer)}", code="answer-unexpected"
        )

    def asked(self, request: Passing) -> Attempt | str | None:
        """What a request to this interface attempts, or the identity that it takes on (RFC 8693, section 2.1)."""
        parts = urlsplit(request.path)
        if parts.path.startswith(PLACES):
            return _asked(request.method, _once(parts.query), unquote(parts.path.removeprefix(PLACES)))
        if (request.method, parts.path) != ("POST", "/token"):
            return None
        form = _once(request.content.decode(errors="replace"))
        at, _, identity = form.get("resource", "").partition(PLACES)
        return unquote(identity) if form.get("grant_type") == EXCHANGE and at == self.url and identity else None

    def is_for_everybody(self, request: Passing) -> bool:
        """Keys and metadata (RFC 7517, 8414), and the description of the interface."""
        path = request.path.partition("?")[0]
        return request.method == "GET" and (path in ("/jwks", "/openapi.json") or path.startswith("/.well-known/"))

    def passed_on(self, request: Passing, shown: Secret | None) -> Passing:
        """The request of a program, once; the answer as it came."""
        answer = self.client.ask(
            request.method, request.path, bearer=shown, headers=request.headers, content=request.content or None
        )
        return Passing(answer.headers, answer.content, status=answer.status)

    def _tried(self, session: HeldCredential, location: str, sent: bytes | None) -> Done:
        """Looks at a trial, and ends it whatever was seen. `sent` is what was written; None where it was removed."""
        if not location.startswith(self.client.url + "/"):
            raise UnexpectedAnswer(f"{self.name} names a trial on another service", code="answer-leads-elsewhere")
        try:
            answer = self.client.ask("GET", location, bearer=session.secret)
            seen = self.client.expect(answer, 200).json(self.client.who)
            digest = None if sent is None else hashlib.sha256(sent).hexdigest()
            if seen.get("sha256") != digest:
                raise UnexpectedAnswer(f"{self.name} said it was done, and it was not", code="answer-contradicts")
        finally:
            answer = self.client.ask("DELETE", location, bearer=session.secret)
        self.client.expect(answer, 204)
        return Done("really gone, and put back" if sent is None else "really there, and removed again")


def _needed(step: Step) -> list[tuple[str, str]]:
    """The permissions that a change needs, for a caller who does not administer the boundary."""
    body = step.body or step.before or {}
    if step.collection in NOT_UNDONE:
        return [("issue", str(body["of"]))]
    section = STATEMENT_SECTIONS[step.collection]
    right = section.making if section.making and step.action == MAKE else section.right
    if not right.field:
        return [(right.at_boundary if right.at_boundary and step.holder.startswith("@") else right.verb, step.holder)]
    places = listed(body[right.field])
    if right.field == "at":  # a statement about a place of others is written by who may change its holder's
        places = [place if step.holder in (place, account_of(place)) else step.holder for place in places]
    return [(right.verb, place) for place in places]


def _session_from(item: Mapping[str, Any]) -> OpenSession:
    began, ends = (datetime.fromisoformat(item[name]) for name in ("began", "ends"))
    via = tuple(map(str, item.get("via", ())))
    origin = dict(item.get("origin", {}))
    return OpenSession(str(item["id"]), str(item["at"]), str(item["of"]), origin, via, began, ends)


def _credentialed(item: Mapping[str, Any]) -> Credentialed:
    texts = {name: str(item[name]) for name in ("id", "name", "of", "form", "fingerprint")}
    return Credentialed(
        **texts,
        created=item.get("created"),
        expires=item.get("expires"),
        last_used=item.get("last_used"),
        disabled=item.get("disabled") is True,
        reason=str(item.get("reason", "")),
        made_by=str(item.get("made_by", "")),
    )


def _once(encoded: str) -> dict[str, str]:
    """The fields of a query or form; a name that stands twice could be read in two ways and counts as not there."""
    pairs = parse_qsl(encoded, keep_blank_values=True)
    counted = Counter(name for name, _ in pairs)
    return {name: value for name, value in pairs if counted[name] == 1}


def _asked(method: str, query: Mapping[str, str], target: str) -> Attempt | None:
    """The verb that a method and query stand for: `_how` read backwards, trial or not."""
    if method == "GET":
        return Attempt("list" if "list" in query else "read", target)
    if method == "POST":
        return Attempt(query["verb"], target, query.get("onto")) if query.get("verb") else None
    verb = {"PUT": "write", "DELETE": "delete"}.get(method)
    return Attempt(verb, target) if verb is not None else None


def _how(attempt: Attempt) -> tuple[str, dict[str, str]]:
    """Method and query for a verb."""
    if attempt.verb == "read":
        return "GET", {}
    if attempt.verb == "list":
        return "GET", {"list": ""}
    if attempt.verb == "write":
        return "PUT", {"trial": ""}
    if attempt.verb == "delete":
        return "DELETE", {"trial": ""}
    return "POST", {"verb": attempt.verb, "trial": "", **({"onto": attempt.onto} if attempt.onto else {})}


def _name_of(reference: Any, names: Mapping[str, str]) -> Any:
    """The address behind an id; what no longer exists is said to be gone, with the address it had."""
    if isinstance(reference, str):
        return names.get(reference, {"gone": "a group"})
    if "organisation" in reference:
        return f"@{reference['organisation']}"
    identifier = reference.get("id") or reference.get("identity") or reference.get("group")
    if identifier in names and "gone" not in reference:
        return names[identifier]
    if "id" in reference and account_of(str(reference.get("address", ""))):
        return {"id": identifier, "address": reference["address"]}
    return {"gone": reference.get("gone") or reference.get("address") or "an identity"}


def _reference(name: Any, ids: Mapping[str, str]) -> dict[str, str]:
    if is_organisation(name):
        return {"organisation": organisation_named(name)}
    form = "group" if "/group/" in name else "identity"
    return {form: _id(name, ids)}


def _id(name: Any, ids: Mapping[str, str]) -> str:
    found = ids.get(name) if isinstance(name, str) else None
    if found is None:
        raise MovedAway(f"{name} does not exist any more", code="gone-meanwhile", remedy="propose again")
    return found


def joined(service: ServiceHere) -> Joined:
    """A cloud that stands in for a provider of the estate."""
    if service.name not in service.estate.providers:
        return {}

    def of_ours(listed: Sequence[Mapping[str, str]]) -> dict[str, Secret]:
        mine = [entry for entry in listed if entry.get("cloud") == service.name]
        ours = [entry for entry in mine if not service.estate.administered_by_others(entry["holder"])]
        return {entry["holder"]: Secret(entry["session"]) for entry in ours}

    client = Client(service.name, service.url, authority=service.authority, max_seconds=service.patience)
    cloud = Cloud(service.name, client, of_ours(service.sessions()), lambda: of_ours(service.renewed()), service.acting)
    return {"providers": {service.name: cloud}}

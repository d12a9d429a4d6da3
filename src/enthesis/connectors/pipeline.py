"""A pipeline service that starts runs, issues their tokens, and keeps access for its projects."""

from collections.abc import Mapping, Sequence
from datetime import timedelta
from typing import Any
from urllib.parse import quote

from enthesis.connectors.http import Client, HttpAnswer, problem_said, understood
from enthesis.model.errors import MovedAway, NotIssued, UnexpectedAnswer
from enthesis.model.estate import Claims
from enthesis.model.pointers import nested
from enthesis.model.secrets import Secret
from enthesis.model.vocabulary import STATEMENT_SECTIONS, VerdictStep
from enthesis.ports import Changed, Done, HeldCredential, Joined, Refusal, Right, ServiceHere
from enthesis.proposals.steps import Step
from enthesis.surveys.statements import LiveObject, Surveyed

KEPT = "pipeline_access"  # its section in an estate
PLACE = "/pipeline-access"


class Pipeline:
    """One issuer. Needs no right of ours but what the `headers` show: the run is the workload."""

    def __init__(self, name: str, client: Client, headers: Mapping[str, str] | None = None) -> None:
        self.name = name
        self.client = client
        self.headers = headers or {}

    @understood
    def obtain(self, claims: Claims) -> HeldCredential:
        """A token that shows just these claims; what is null is left out. NotIssued where the service signs no such."""
        shown = {name: plain(value) for name, value in claims.items() if name != "aud" and value is not None}
        answer = self.client.ask("POST", "/runs", body={"claims": nested(shown)}, headers=self.headers)
        run = self._issued(answer, 201)
        wanted = {"audience": plain(claims["aud"])} if claims.get("aud") is not None else {}
        answer = self.client.ask("POST", str(run.get("token_endpoint", "")), body=wanted, headers=self.headers)
        body = self._issued(answer, 200)
        token, life = body.get("token"), body.get("expires_in")
        if not isinstance(token, str) or not isinstance(life, int):
            raise UnexpectedAnswer(
                f"{self.name} answered without a token or without its life", code="answer-without-token"
            )
        return HeldCredential(Secret(token), "token", timedelta(seconds=life))

    @understood
    def use_pipeline_access(self, name: str, claims: Claims) -> Done | Refusal:
        """Has a run that shows these claims use the pipeline access of a name; what it gets is let go at once."""
        shown = {one: plain(value) for one, value in claims.items() if one != "aud" and value is not None}
        run = self._issued(self.client.ask("POST", "/runs", body={"claims": shown}, headers=self.headers), 201)
        path = f"/runs/{quote(str(run.get('id')))}/pipeline-access/{quote(name)}"
        answer = self.client.ask("POST", path, headers=self.headers)
        if answer.status == 403:
            refusal = Refusal.told(answer.json(self.name).get("refused_at"), problem_said(answer))
            if refusal is not None:
                return refusal
        if answer.status == 404:
            return Refusal((VerdictStep.NAMES,), problem_said(answer))
        found = self.client.expect(answer, 200).json(self.name)
        return Done(f"it leads to {found.get('identity')}")

    def _issued(self, answer: HttpAnswer, status: int) -> dict[str, Any]:
        return issued(self.client, self.name, answer, status)


class AdministeredPipeline(Pipeline):
    """One that keeps pipeline access for its projects, seen by its administrators. It knows identities by address."""

    what = "pipeline service"

    @property
    def url(self) -> str:
        """Where it is."""
        return self.client.url

    @understood
    def survey(self, holders: Sequence[str], others: Sequence[str] = ()) -> Surveyed:
        """Everything that it keeps for its runs. Needs the right to read it."""
        del others
        answer = self.client.ask("GET", PLACE, headers=self.headers)
        said = self.client.expect(answer, 200).json(self.name)
        objects = tuple(map(self._object, said["items"]))
        return Surveyed(self.name, tuple(holders), objects, side=str(said.get("side", "")))

    def _object(self, item: Mapping[str, Any]) -> LiveObject:
        said = {name: item[name] for name in ("name", "of", "admits", "credential") if item.get(name) is not None}
        body = {**said, "at": self.name}
        known = (str(item["id"]), str(item["etag"]), item.get("mark") or None)
        return LiveObject(self.name, KEPT, self.name, *known, body)

    @understood
    def change(self, step: Step, ids: dict[str, str], key: str = "") -> Changed:
        """Carries one step out. What was made already is found by its name, so that no key is needed."""
        del ids, key
        headers = {**self.headers, **({"If-Match": step.etag or ""} if step.id is not None else {})}
        place = PLACE if step.id is None else f"{PLACE}/{quote(step.id)}"
        if step.body is None:
            answer = self.client.ask("DELETE", place, headers=headers)
            self._not_moved(step, answer)
            self.client.expect(answer, 204, 404)
            return Changed(None, None)
        body = {**{name: value for name, value in step.body.items() if name != "at"}, "mark": step.mark}
        answer = self.client.ask("POST" if step.id is None else "PUT", place, body=body, headers=headers)
        if answer.status == 409:  # of another, or of ours where the answer to an earlier try was lost
            mine = (one for one in self.survey((self.name,)).objects if one.body == step.body and one.mark == step.mark)
            there = next(mine, None)
            if there is not None:
                return Changed(there.id, there.etag)
        self._not_moved(step, answer)
        said = self.client.expect(answer, 200, 201).json(self.name)
        return Changed(str(said["id"]), str(said["etag"]))

    @staticmethod
    def _not_moved(step: Step, answer: HttpAnswer) -> None:
        if answer.status in (409, 412) or (answer.status == 404 and step.body is not None):
            raise MovedAway(
                f"meanwhile others changed {step.sentence}", code="changed-meanwhile", remedy="propose again"
            )

    def learn(self, step: Step, made: Changed, ids: dict[str, str]) -> None:
        """Nothing is named by the id of what it keeps."""

    @understood
    def in_force(self, step: Step, made: Changed) -> bool:
        """Whether what a step wrote shows."""
        answer = self.client.ask("GET", f"{PLACE}/{quote(made.id or step.id or '')}", headers=self.headers)
        if answer.status == 404:
            return step.body is None
        self.client.expect(answer, 200)
        return step.body is not None

    def rights(self, holders: Sequence[str], steps: Sequence[Step]) -> list[Right]:
        """To read what it keeps for its projects; and for steps, to change it."""
        read = [Right("describe", holder, "survey") for holder in holders]
        return [*read, *(Right(STATEMENT_SECTIONS[KEPT].right.verb, self.name, "enact") for _ in steps)]

    def lacking(self, steps: Sequence[Step]) -> list[str]:
        """Nothing that it says beforehand."""
        del steps
        return []

    def objection(self, collection: str, body: Mapping[str, Any], allows: Mapping[str, Any]) -> str:
        """It holds all that an estate can say of pipeline access."""
        del collection, body, allows
        return ""


def issued(client: Client, name: str, answer: HttpAnswer, status: int) -> dict[str, Any]:
    """What an issuer of the lab answered; NotIssued where it signs no such thing, whoever asks."""
    if answer.status == 422 and b":not-issued" in answer.content:
        raise NotIssued(f"{name} does not issue this: {problem_said(answer)}", code="not-issued")
    return client.expect(answer, status).json(name)


def plain(value: Any) -> Any:
    """A claim's value as JSON has it."""
    if isinstance(value, tuple):
        return [plain(one) for one in value]
    return {name: plain(one) for name, one in value.items()} if isinstance(value, dict) else value


def joined(service: ServiceHere) -> Joined:
    """A pipeline service that stands in for an issuer of the estate."""
    if service.name not in service.estate.issuers:
        return {}
    client = Client(service.name, service.url, authority=service.authority, max_seconds=service.patience)
    pipeline = AdministeredPipeline(service.name, client, service.owner)
    return {"issuers": {service.name: pipeline}, "pipelines": {service.name: pipeline}}

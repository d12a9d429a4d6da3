"""A cluster in use: tokens of its service accounts, for their workloads or another audience, and attempts with them.

Tokens are only ever requested ones (TokenRequest), with an audience and a short life. A caller that asks for one needs
the right to create `serviceaccounts/token`; an attempt needs none of ours.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from urllib.parse import quote, urlencode

from enthesis.connectors.cluster.auditing import usage_rows
from enthesis.connectors.cluster.resources import OWN_KINDS, VERBS
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import HttpAnswer, problem_said, told, understood
from enthesis.model.errors import InvalidInput, NotIssued, RightMissing, UnexpectedAnswer
from enthesis.model.estate import Attempt, Claims, KindVerbs
from enthesis.model.secrets import CallerPlace, Secret
from enthesis.model.vocabulary import VerdictStep
from enthesis.ports import Done, HeldCredential, Record, Refusal, Surroundings

SUBJECT = "system:serviceaccount:"
LIFE = timedelta(minutes=10)  # the shortest that clusters issue
RESOURCES = {kind: resource for resource, kind in OWN_KINDS.items()}
IN_WORDS = {**{word: verb for verb, word in VERBS.items()}, "read": "get", "write": "update"}
STANDING_FOR = {
    ("workload", "login"): ("create", "pods/exec"),
    ("identity", "issue"): ("create", "serviceaccounts/token"),
}
GONE_OR_NONE = 404
METHODS = {"get": "GET", "list": "GET", "create": "POST", "update": "PUT", "patch": "PATCH", "delete": "DELETE",
           "deletecollection": "DELETE"}  # fmt: skip


@dataclass(frozen=True, slots=True)
class ReviewedRequest:
    """A request in the cluster's words."""

    verb: str
    group: str
    resource: str
    namespace: str
    name: str

    @property
    def path(self) -> str:
        """Where it is sent."""
        base = f"/apis/{self.group}/v1" if self.group else "/api/v1"
        space = f"/namespaces/{quote(self.namespace)}" if self.namespace and self.resource != "namespaces" else ""
        resource, _, sub = self.resource.partition("/")
        named = self.verb not in ("list", "create", "deletecollection") or bool(sub)
        return f"{base}{space}/{resource}" + (f"/{quote(self.name)}" if named else "") + (f"/{sub}" if sub else "")


ITSELF: list[str] = []  # the audiences of a token for the cluster itself: it knows which those are


class LiveCluster:
    """The obtain and attempt ports of a cluster."""

    def __init__(self, cluster: Cluster) -> None:
        self.cluster = cluster
        self.name = cluster.address

    @understood
    def usage(self, holders: Sequence[str]) -> Iterator[Record]:
        """What its audit log says, where it is one that shows it: clusters write theirs into files or send them."""
        after = 0
        while True:
            answer = self.cluster.answer(f"/lab/audit?after={after}", "application/json")
            if answer.status == GONE_OR_NONE:
                return
            body = self.cluster.client.expect(answer, 200).json(self.name)
            yield from usage_rows(body["items"], self.cluster)
            if body["next"] is None or body["next"] <= after:
                return
            after = int(body["next"])

    # -- obtain ----------------------------------------------------------------------------------------------

    def seat(self, workload: str) -> HeldCredential:
        """What a workload has before it takes on its service account: its place, and nothing secret."""
        return HeldCredential(CallerPlace(workload), "workload", LIFE)

    @understood
    def take_on(
        self, shown: HeldCredential, identity: str, narrowed: KindVerbs | None, asked: Surroundings
    ) -> HeldCredential | Refusal:
        """A token of a service account: bound to a workload that runs as it, or as a caller who may request it."""
        if narrowed is not None:
            raise InvalidInput(
                f"{self.name} cannot narrow the tokens of its service accounts", code="narrowing-not-known"
            )
        if shown.form == "workload":
            return self._bound(shown.secret.reveal(), identity, ITSELF, "session")
        namespace, name = self.account(identity)
        spec = {"audiences": ITSELF, "expirationSeconds": int(LIFE.total_seconds())}
        answer = self._requested(namespace, name, spec, shown.secret)
        if answer.status in (401, 403):
            return Refusal((_step(answer),), said_by(answer))
        if answer.status == 404:
            return Refusal((VerdictStep.NAMES,), "there is no such service account")
        return self._token(answer, "session")

    @understood
    def token_of(self, workload: str, identity: str, audience: str) -> HeldCredential | Refusal:
        """The token of a service account that a workload can show to an audience, or why it has none."""
        return self._bound(workload, identity, [audience], "token")

    def _bound(self, workload: str, identity: str, audiences: list[str], form: str) -> HeldCredential | Refusal:
        """A token of a service account that is bound to a workload, as clusters give to what runs as it alone."""
        namespace, name = self.account(identity)
        space, pod = self._place(workload)[0], workload.rsplit("/workload/", 1)[-1]
        if space != namespace:
            return Refusal((VerdictStep.TARGET_SIDE,), "a workload runs as service accounts of its own namespace only")
        found = self._asked("GET", f"/api/v1/namespaces/{quote(space)}/pods/{quote(pod)}", self.cluster.token)
        if found.status == 404:
            return Refusal((VerdictStep.NAMES,), "there is no such workload")
        uid = self._read(found, 200)["metadata"]["uid"]
        reference = {"kind": "Pod", "apiVersion": "v1", "name": pod, "uid": uid}
        life = int(LIFE.total_seconds())
        spec = {"audiences": audiences, "expirationSeconds": life, "boundObjectRef": reference}
        answer = self._requested(namespace, name, spec, self.cluster.token)
        if answer.status == 400:
            return Refusal((VerdictStep.TARGET_SIDE,), "the workload runs as another service account")
        if answer.status == 404:
            return Refusal((VerdictStep.NAMES,), "there is no such service account")
        return self._token(answer, form)

    @understood
    def token_for(self, identity: str, life: timedelta) -> tuple[HeldCredential, str]:
        """A token of a service account for this cluster itself, and when it ends; NotIssued where there is none."""
        namespace, name = self.account(identity)
        spec = {"audiences": ITSELF, "expirationSeconds": int(max(life, LIFE).total_seconds())}
        answer = self._requested(namespace, name, spec, self.cluster.token)
        if answer.status == 404:
            raise NotIssued(f"{self.name} has no service account {name} in {namespace}", code="not-issued")
        credential = self._token(answer, "token")
        return credential, str(answer.json(self.name)["status"]["expirationTimestamp"])

    @understood
    def obtain(self, claims: Claims) -> HeldCredential:
        """A token as the issuer that this cluster is: for a service account of it, and some audience."""
        subject = claims.get("sub")
        parts = subject.removeprefix(SUBJECT).split(":") if isinstance(subject, str) else []
        others = [name for name, value in claims.items() if name not in ("sub", "aud") and value is not None]
        if not isinstance(subject, str) or not subject.startswith(SUBJECT) or len(parts) != 2 or others:
            raise NotIssued(
                f"{self.name} issues tokens of its service accounts only, with its own claims", code="not-issued"
            )
        audience = claims.get("aud")
        audiences = list(audience) if isinstance(audience, tuple) else [audience] if audience else [self.cluster.url]
        spec = {"audiences": audiences, "expirationSeconds": int(LIFE.total_seconds())}
        if not all(parts) or "/" in subject:
            raise NotIssued(f"{self.name} has no such service account", code="not-issued")
        answer = self._requested(parts[0], parts[1], spec, self.cluster.token)
        if answer.status in (404, 422):
            raise NotIssued(f"{self.name} issues no such token: {said_by(answer)}", code="not-issued")
        return self._token(answer, "token")

    def _requested(self, namespace: str, name: str, spec: Mapping[str, Any], bearer: Secret | None) -> HttpAnswer:
        path = f"/api/v1/namespaces/{quote(namespace)}/serviceaccounts/{quote(name)}/token"
        body = {"apiVersion": "authentication.k8s.io/v1", "kind": "TokenRequest", "spec": spec}
        return self._asked("POST", path, bearer, body)

    def _token(self, answer: HttpAnswer, form: str) -> HeldCredential:
        status = self._read(answer, 201).get("status")
        token = status.get("token") if isinstance(status, dict) else None
        spec = answer.json(self.name).get("spec") or {}
        if not isinstance(token, str):
            raise UnexpectedAnswer(f"{self.name} answered a token request without a token", code="answer-without-token")
        return HeldCredential(Secret(token), form, timedelta(seconds=int(spec.get("expirationSeconds") or 0)))

    # -- attempt ---------------------------------------------------------------------------------------------

    @understood
    def attempt(self, session: HeldCredential, attempt: Attempt, asked: Surroundings) -> Done | Refusal:
        """Asks the cluster's own review, and tries it; what would change something as a dry run that stores nothing."""
        wanted = self.wanted(attempt)
        review = self._reviewed(session.secret, wanted)
        if isinstance(review, Refusal):
            return review
        answer = self._tried(session.secret, wanted)
        refused = answer.status in (401, 403)
        if review == refused:
            said = "would allow" if review else "would refuse"
            raise UnexpectedAnswer(
                f"the review of {self.name} {said} it, and trying it ended with {answer.status}",
                code="answer-contradicts",
            )
        if refused:
            return Refusal((_step(answer),), said_by(answer))
        if answer.status >= 500:
            raise UnexpectedAnswer(f"{self.name} answered {answer.status}: {said_by(answer)}", code="answer-unexpected")
        how = "read" if METHODS[wanted.verb] == "GET" else "tried as a dry run"
        return Done(f"{how}; the cluster's own review says the same")

    def wanted(self, attempt: Attempt) -> ReviewedRequest:
        """An attempt in the cluster's words; InvalidInput where it has none."""
        namespace, kind, name = self._place(attempt.target)
        verb, resource, group = "", "", ""
        if (kind, attempt.verb) in STANDING_FOR:
            verb, resource = STANDING_FOR[kind, attempt.verb]
        else:
            verb = IN_WORDS.get(attempt.verb, "")
            base, _, sub = kind.partition("-")
            plural, _, group = base.partition(".")
            resource = RESOURCES.get(base, plural) + (f"/{sub}" if sub else "")
            group = "" if base in RESOURCES else group
        if verb not in METHODS:
            raise InvalidInput(
                f"{attempt.verb} on a {kind} is nothing that a cluster can be asked to do", code="verb-not-of-cluster"
            )
        return ReviewedRequest(verb, group, resource, namespace, name)

    def _place(self, address: str) -> tuple[str, str, str]:
        """Namespace, kind and name of a place in this cluster."""
        parts = address.removeprefix(f"{self.name}/").split("/")
        if not address.startswith(f"{self.name}/") or len(parts) < 2:
            raise InvalidInput(f"{address} is nothing in {self.name}", code="address-not-of-cluster")
        if parts[0] != "namespace":
            return "", parts[0], "/".join(parts[1:])
        if len(parts) == 2:
            return parts[1], "namespace", parts[1]
        return parts[1], parts[2], "/".join(parts[3:])

    def account(self, identity: str) -> tuple[str, str]:
        """Namespace and name of a service account; InvalidInput where the address is not one."""
        namespace, kind, name = self._place(identity)
        if kind != "identity" or not namespace:
            raise InvalidInput(f"{identity} is not a service account of {self.name}", code="service-account-invalid")
        return namespace, name

    def _reviewed(self, bearer: Secret, wanted: ReviewedRequest) -> bool | Refusal:
        resource, _, sub = wanted.resource.partition("/")
        attributes = {
            "verb": wanted.verb, "group": wanted.group, "resource": resource, "subresource": sub,
            "namespace": wanted.namespace,
            "name": "" if wanted.verb in ("list", "deletecollection") else wanted.name,
        }  # fmt: skip
        body = {
            "apiVersion": "authorization.k8s.io/v1", "kind": "SelfSubjectAccessReview",
            "spec": {"resourceAttributes": attributes},
        }  # fmt: skip
        answer = self._asked("POST", "/apis/authorization.k8s.io/v1/selfsubjectaccessreviews", bearer, body)
        if answer.status == 401:
            return Refusal((VerdictStep.SESSION,), "the cluster does not take the token (any more)")
        status = self._read(answer, 201).get("status")
        return bool(isinstance(status, dict) and status.get("allowed"))

    def _tried(self, bearer: Secret, wanted: ReviewedRequest) -> HttpAnswer:
        method = METHODS[wanted.verb]
        query = "" if method == "GET" else "?" + urlencode({"dryRun": "All"})
        body: Any = None
        if wanted.resource == "serviceaccounts/token":
            body = {"spec": {"audiences": ITSELF}}
        elif method in ("POST", "PUT", "PATCH"):
            body = {"metadata": {"name": wanted.name}}
        headers = {"Content-Type": "application/merge-patch+json"} if method == "PATCH" else {}
        return self.cluster.client.ask(method, wanted.path + query, bearer=bearer, body=body, headers=headers)

    def _asked(self, method: str, path: str, bearer: Secret | None, body: Any = None) -> HttpAnswer:
        return self.cluster.client.ask(method, path, bearer=bearer, body=body)

    def _read(self, answer: HttpAnswer, status: int) -> dict[str, Any]:
        if answer.status in (401, 403):
            raise RightMissing(f"{self.name} refused us: {said_by(answer)}", code="right-missing")
        if answer.status != status:
            raise UnexpectedAnswer(f"{self.name} answered {answer.status}: {said_by(answer)}", code="answer-unexpected")
        return answer.json(self.name)


def said_by(answer: HttpAnswer) -> str:
    """The message of a Status, or what else an answer says."""
    try:
        message = answer.json("it").get("message")
    except UnexpectedAnswer:
        message = None
    return told(message) if message else problem_said(answer)


def _step(answer: HttpAnswer) -> VerdictStep:
    """The step at which the interface refuses: it no longer takes the token, or has no binding that allows it."""
    return VerdictStep.SESSION if answer.status == 401 else VerdictStep.TARGET_SIDE

"""Reads a cluster, page by page, into the estate's words: what is there, who may do what, and what follows from that.

Needs the right to list namespaces, service accounts, pods, secrets (their names only), roles and bindings. What may not
be read, and what the estate's words cannot say, is listed and never dropped.
"""

import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import cached_property
from itertools import islice
from typing import Any
from urllib.parse import quote, urlencode

from msgspec import DecodeError

from enthesis.connectors.cluster.following import ANY, ClusterPowers, Following, Follows
from enthesis.connectors.cluster.objects import LISTS, Page, PageMeta
from enthesis.connectors.cluster.paths import PATH, inexact, path_places
from enthesis.connectors.cluster.resources import RBAC, Resources
from enthesis.connectors.cluster.subjects import MASTERS, Subjects, account_address
from enthesis.connectors.http import MOST_EMPTY, Client, HttpAnswer, problem_said, told, understood
from enthesis.model.errors import RightMissing, UnexpectedAnswer
from enthesis.model.foreign_names import word_of
from enthesis.model.secrets import Secret
from enthesis.ports import Record
from enthesis.surveys.unread import Unread

PAGE = 500  # objects
MAX_PAGES = 20_000  # of one list
GONE, MOST_BEGUN = 410, 10  # a place in a list is no longer known; how often such a list is begun again
NAMES_ONLY = "application/json;as=PartialObjectMetadataList;g=meta.k8s.io;v=v1,application/json"
TOKEN_OF = "kubernetes.io/service-account.name"  # noqa: S105  an annotation
Rules = list[Mapping[str, Any]]
BOOT = "kubernetes.io/bootstrapping"
ROLES = {"clusterroles": "roles of the whole cluster", "roles": "roles of namespaces"}
BINDINGS = {"clusterrolebindings": "bindings in the whole cluster", "rolebindings": "bindings in namespaces"}
THINGS = {
    "serviceaccounts": ("service accounts", NAMES_ONLY),
    "secrets": ("secrets (names only)", NAMES_ONLY),
    "pods": ("workloads", "application/json"),
}
"""What is read of the core besides namespaces, in this order: in words, and the form that is enough of it."""
OF_WHOLE_CLUSTER = ("namespaces", "clusterroles", "clusterrolebindings")
GUARDED, GUARDS = "pod-security.kubernetes.io/enforce", ("baseline", "restricted")
"""The label of a namespace that says what may be started there, and its values that keep workloads off their node
(Kubernetes documentation, "Pod Security Standards")."""
CAME_ALONG = ("cluster-admin", "admin", "edit", "view")


class Cluster:
    """One cluster. `address` is its place in the estate; `organisation` that of its account.

    `token` is what we show, or gives one that still lasts. `authority` are the certificates (PEM, in base64) that it
    proves itself with, where not the usual ones do.
    """

    what = "cluster"

    def __init__(
        self,
        address: str,
        organisation: str,
        client: Client,
        token: Secret | Callable[[], Secret | None] | None,
        authority: str = "",
    ) -> None:
        self.name = self.address = address
        self.url = client.url
        self.account = address.split("/", 1)[0]
        self.organisation = organisation
        self.client = client
        self._token = token
        self.authority = authority
        self.only: tuple[str, ...] = ()  # namespaces; none: all
        self.versions: dict[str, str] = {}  # of each list that was read, by its path

    @property
    def token(self) -> Secret | None:
        """The token that we show; obtained anew where the one before has ended."""
        return self._token() if callable(self._token) else self._token

    @property
    def about(self) -> Record:
        """What of the cluster was looked at, where that is not all of it."""
        return {"namespaces": list(self.only)} if self.only else {}

    @understood
    def records(
        self, step: Callable[[str], None], *, but: Callable[[Mapping[str, Any]], bool] = lambda meta: False
    ) -> Iterator[Record]:
        """Everything, in any order: entries of sections, what was left out, and findings.

        Roles and bindings with metadata that `but` is for are passed over.
        """
        try:
            yield from ClusterReading(self, step, but).records()
        except (KeyError, TypeError, AttributeError) as fault:  # an object that has not the shape of its kind
            raise UnexpectedAnswer(
                f"{self.client.who} answered an object that is not understood: {fault}", code="answer-not-understood"
            ) from None

    def adoptable(self, step: Callable[[str], None]) -> list[Record]:
        """Everything: nothing in a cluster is of our making alone."""
        return list(self.records(step))

    def items(self, path: str, *, accept: str = "application/json", query: str = "") -> Iterator[dict[str, Any]]:
        """The objects of a list, page by page, each once. RightMissing where we may not list them.

        A place in the list that the cluster no longer knows (410) starts the list again; so objects that came between
        two pages are in it, and one that went may be.
        """
        told, nothing_new = set[str](), 0
        for listed in self._pages(path, accept, query):
            before = len(told)
            for entry in listed:
                meta = entry["metadata"]
                known = meta.get("uid") or f"{meta.get('namespace') or ''}/{meta['name']}"
                if known not in told:
                    told.add(known)
                    yield entry
            nothing_new = 0 if len(told) > before else nothing_new + 1
            if nothing_new > MOST_EMPTY:
                what = f"{self.client.who} goes on at {path} with pages that bring nothing new"
                raise UnexpectedAnswer(what, code="answer-not-understood")

    def _pages(self, path: str, accept: str, query: str) -> Iterator[list[Any]]:
        """The pages of a list; the next is asked for while one is told, so that the cluster does not wait for us."""

        def asked(following: str) -> HttpAnswer:
            paging = urlencode({"limit": PAGE, **({"continue": following} if following else {})})
            return self.answer(f"{path}?{paging}{'&' if query else ''}{query}", accept)

        following, seen, begun = "", set[str](), 0
        with ThreadPoolExecutor(1) as pool:
            coming: Future[HttpAnswer] | None = None
            for _ in range(MAX_PAGES):
                answer = coming.result() if coming is not None else asked("")
                if answer.status == GONE and following and begun < MOST_BEGUN:
                    following, seen, begun, coming = "", set(), begun + 1, None
                    continue
                page = self._page(self.client.expect(answer, 200), path)
                meta = page.metadata or PageMeta()
                if not following and not begun:  # what was there then is told, so what changed since is what counts
                    self.versions[path] = str(meta.version or "")
                following = str(meta.following or "")
                if following in seen:
                    raise UnexpectedAnswer(
                        f"{self.client.who} leads in circles at {path}", code="answer-not-understood"
                    )
                seen.add(following)
                coming = pool.submit(asked, following) if following else None
                yield page.items
                if coming is None:
                    return
        raise UnexpectedAnswer(f"{self.client.who} has more than {MAX_PAGES} pages at {path}", code="answer-too-large")

    def _page(self, answer: HttpAnswer, path: str) -> Page[dict[str, Any]]:
        """What is looked at of a page of the list at a path."""
        try:
            page: Page[dict[str, Any]] = LISTS[path.rsplit("/", 1)[1]].decode(answer.content)
        except (DecodeError, ValueError, RecursionError):
            answer.json(self.client.who)  # which says so where it is no JSON at all
            raise UnexpectedAnswer(
                f"{self.client.who} answered at {path} with no list of what is there", code="answer-not-understood"
            ) from None
        return page

    def got(self, path: str) -> dict[str, Any]:
        """The JSON object at a path."""
        return self.client.expect(self.answer(path, "application/json"), 200).json(self.client.who)

    def answer(self, path: str, accept: str) -> HttpAnswer:
        """What is answered at a path. RightMissing where we may not see it."""
        answer = self.client.ask("GET", path, bearer=self.token, headers={"Accept": accept})
        if answer.status in (401, 403):
            raise RightMissing(
                f"{self.client.who} refused us: {_status(answer.content) or problem_said(answer)}", code="right-missing"
            )
        return answer


def _taken(spec: Mapping[str, Any]) -> tuple[set[str], bool]:
    """The secrets that a pod takes something from, and whether it has its node: a folder, its processes, or all."""
    secrets: set[str] = set()
    has_node = bool(spec.get("hostPID"))
    for volume in spec.get("volumes") or ():
        has_node |= volume.get("hostPath") is not None
        several = (volume.get("projected") or {}).get("sources") or ()
        sources = [volume.get("secret"), *(one.get("secret") for one in several)]
        secrets |= {str(one.get("secretName") or one.get("name")) for one in sources if one}
    for container in (*(spec.get("containers") or ()), *(spec.get("initContainers") or ())):
        has_node |= bool((container.get("securityContext") or {}).get("privileged"))
        of_env = [(one.get("valueFrom") or {}).get("secretKeyRef") for one in container.get("env") or ()]
        of_env += [one.get("secretRef") for one in container.get("envFrom") or ()]
        secrets |= {str(one.get("name")) for one in of_env if one}
    return secrets, has_node


def plain(entry: Mapping[str, Any]) -> Record:
    """A role or binding with what a reading looks at alone, as a survey keeps it for whoever reads on from there."""
    meta = entry["metadata"]
    kept = {name: meta[name] for name in ("name", "namespace", "uid", "resourceVersion") if meta.get(name)}
    if BOOT in (meta.get("labels") or {}):
        kept["labels"] = {BOOT: meta["labels"][BOOT]}
    return {**entry, "metadata": kept}


def paths_of(cluster: Cluster, base: str, plural: str) -> list[str]:
    """The lists of a resource: of the whole cluster, or of the namespaces that alone are asked about."""
    spaces = cluster.only if plural not in OF_WHOLE_CLUSTER else ()
    return [f"{base}/namespaces/{quote(space)}/{plural}" for space in spaces] or [f"{base}/{plural}"]


def _status(content: bytes) -> str:
    """The message of a Status."""
    try:
        body = json.loads(content)
    except ValueError:
        return ""
    return told(body.get("message", "")) if isinstance(body, dict) else ""


@dataclass(frozen=True)
class RoleGives:
    """What the rules of a role give wherever it is bound; it is read once, since many bindings are of few roles."""

    everywhere: bool  # whether anything in the whole place
    named: tuple[tuple[str, Mapping[str, Any], str], ...]  # a role of the estate, its rule, and the name of a thing
    paths: tuple[tuple[str, str], ...]  # a role of the estate, and the rest of an address
    follows: tuple[Follows, ...]
    powers: ClusterPowers | None  # if there are any


@dataclass
class ClusterReading:
    """One pass over a cluster. What is kept: names of namespaces, whose token a secret holds, and all rules."""

    cluster: Cluster
    step: Callable[[str], None]
    but: Callable[[Mapping[str, Any]], bool]
    as_listed: Mapping[str, Iterable[Mapping[str, Any]]] | None = None  # roles and bindings, where they are known
    listed: Counter[str] = field(default_factory=Counter)  # roles and bindings, by their plural
    resources: Resources = field(default_factory=Resources)
    namespaces: list[str] = field(default_factory=list)
    token_secrets: dict[str, dict[str, str]] = field(default_factory=dict)
    rules: dict[tuple[str, str], Rules] = field(default_factory=dict)  # by namespace ('' for cluster roles) and name
    metas: dict[str, Record] = field(default_factory=dict)  # by the role's name in the estate
    made: set[str] = field(default_factory=set)  # roles, and groups of our own, that have a record already
    powers: dict[tuple[str, str], ClusterPowers] = field(default_factory=dict)  # by subject and place
    known: dict[str, RoleGives] = field(default_factory=dict)  # by the role's name in the estate
    refused: list[Record] = field(default_factory=list)
    mounts: dict[str, dict[str, set[str]]] = field(default_factory=dict)  # by namespace and workload, its secrets
    on_node: dict[str, list[str]] = field(default_factory=dict)  # by namespace, the workloads that have their node
    guarded: set[str] = field(default_factory=set)  # namespaces in which nothing may have its node
    subjects: Subjects = field(init=False)
    posing: bool = False  # whether any caller may act as a user
    given: dict[str, list[Record]] = field(default_factory=dict)  # grants to people, where a caller may act as users

    def __post_init__(self) -> None:
        self.subjects = Subjects(self.cluster.address, self.cluster.account, self.cluster.organisation)
        self.subjects.only = self.cluster.only

    @cached_property
    def prefix(self) -> str:
        """Before the names of this cluster's roles, since an estate may have roles of the same name."""
        return self.cluster.address.rsplit("/", 1)[1] + ":"

    def records(self) -> Iterator[Record]:
        """Everything; last, up to where it was read, for readers that continue from there."""
        self.discover()
        yield from self._things()
        yield from self.access()
        yield self.read_up_to()

    def read_up_to(self) -> Record:
        """The version of each list, and what tells the cluster's resources from others."""
        read, listed = dict(self.cluster.versions), dict(self.listed)
        return {"read_up_to": read, "resources": self.resources.digest(), "listed_of": listed}

    def access(self) -> Iterator[Record]:
        """Who may do what, with what was left out."""
        yield from self._read_roles()
        for rules in self.rules.values():
            self.resources.mention(rules)
        following = Following(self.resources)
        for rules in self.rules.values():
            powers = following.powers(rules)
            self.posing |= bool(powers.users)
            self.subjects.posed_groups |= powers.groups - {ANY}
        yield from self.resources.kinds()
        yield from self._bindings()
        yield from self._masters()
        for (namespace, name), rules in self.rules.items():
            yield from self._roles(self._role_name(namespace, name), rules)
        yield from self._gathered()
        yield from self.subjects.everybody_there()
        yield from self.refused

    # -- what is there ---------------------------------------------------------------------------------------

    def discover(self) -> None:
        """Which resources the cluster serves."""
        self.step("resources")
        places = {"": "/api/v1"}
        for group in self._tried("/apis", "the groups of its interface").get("groups") or ():
            preferred = group.get("preferredVersion") or (group.get("versions") or [{}])[0]
            if preferred.get("groupVersion"):
                places[group["name"]] = f"/apis/{preferred['groupVersion']}"
        for group, path in places.items():
            listed = self._tried(path, f"the resources of {group or 'the core'}").get("resources") or ()
            self.resources.serve(group, (one for one in listed if one.get("verbs")))

    def _tried(self, path: str, what: str) -> dict[str, Any]:
        try:
            return self.cluster.got(path)
        except (RightMissing, UnexpectedAnswer) as fault:
            self._left_out(what, fault.message)
            return {}

    def _listed(
        self, plural: str, what: str, *, base: str = "/api/v1", accept: str = "application/json"
    ) -> Iterator[dict[str, Any]]:
        """The objects of a resource: of the whole cluster, or of the namespaces that alone are asked about."""
        self.step(what)
        for path in paths_of(self.cluster, base, plural):
            try:
                for number, one in enumerate(self.cluster.items(path, accept=accept), 1):
                    if not number % PAGE:
                        self.step(f"{what}, {number} so far")
                    yield one
            except (RightMissing, UnexpectedAnswer) as fault:
                self.subjects.accounts_known &= plural != "serviceaccounts"
                self._left_out(what, fault.message)

    def _left_out(self, what: str, why: str) -> None:
        self.refused.append(Unread(what, why, self.cluster.address).record)

    def _things(self) -> Iterator[Record]:
        address = self.cluster.address
        yield {"section": "resources", "address": address}
        named = [{"metadata": {"name": name}} for name in self.cluster.only]
        for entry in named or self._listed("namespaces", "namespaces", accept=NAMES_ONLY):
            self.namespaces.append(entry["metadata"]["name"])
            yield from self.of_namespaces(entry)
        for plural, (what, accept) in THINGS.items():
            for entry in self._listed(plural, what, accept=accept):
                yield from getattr(self, f"of_{plural}")(entry)

    def of_namespaces(self, entry: Mapping[str, Any]) -> Iterator[Record]:
        """A namespace."""
        labels = entry["metadata"].get("labels")
        self.know_namespace(entry["metadata"]["name"], labels or {})
        place = f"{self.cluster.address}/namespace/{entry['metadata']['name']}"
        yield {"section": "resources", "address": place, **({"labels": labels} if labels else {})}

    def know_namespace(self, name: str, labels: Mapping[str, Any]) -> None:
        """Takes note of a namespace in which nothing may be started that has its node."""
        if labels.get(GUARDED) in GUARDS:
            self.guarded.add(name)

    def of_serviceaccounts(self, entry: Mapping[str, Any]) -> Iterator[Record]:
        """A service account, and that what runs as it has it."""
        account = self._identity(entry["metadata"])
        self.subjects.there.add(account["address"])
        yield account
        yield {"section": "trusts", "of": account["address"], "admits": {"attached": True}, "live": {}}

    def of_pods(self, entry: Mapping[str, Any]) -> Iterator[Record]:
        """Something that runs."""
        meta, name = entry["metadata"], (entry.get("spec") or {}).get("serviceAccountName") or "default"
        identity = account_address(self.cluster.address, meta["namespace"], name)
        place = f"{self.cluster.address}/namespace/{meta['namespace']}/workload/{meta['name']}"
        secrets, has_node = _taken(entry.get("spec") or {})
        live: dict[str, Any] = {"secrets": sorted(secrets)} if secrets else {}
        live |= {"node": True} if has_node else {}
        record = {"section": "resources", "address": place, "runs_as": [identity], **({"live": live} if live else {})}
        self.know_workload(record)
        yield record

    def know_workload(self, record: Record) -> None:
        """Takes note of what something that runs takes from secrets, and whether it has its node."""
        namespace, _, name = str(record["address"])[len(self.cluster.address) + 11 :].partition("/workload/")
        live = record.get("live") or {}
        if live.get("secrets"):
            self.mounts.setdefault(namespace, {})[name] = set(live["secrets"])
        if live.get("node"):
            self.on_node.setdefault(namespace, []).append(name)

    def _identity(self, meta: Mapping[str, Any]) -> Record:
        labels = meta.get("labels")
        return {
            "section": "identities",
            "address": account_address(self.cluster.address, meta["namespace"], meta["name"]),
            "kind": "cluster-service-account",
            **({"labels": labels} if labels else {}),
            "live": {"id": meta.get("uid", ""), "version": meta.get("resourceVersion", "")},
        }

    def of_secrets(self, entry: Mapping[str, Any]) -> Iterator[Record]:
        """A secret by its name, and the token that it holds."""
        meta = entry["metadata"]
        place = f"{self.cluster.address}/namespace/{meta['namespace']}/secret/{meta['name']}"
        yield {"section": "resources", "address": place}
        whose = (meta.get("annotations") or {}).get(TOKEN_OF)
        if whose:
            self.token_secrets.setdefault(meta["namespace"], {})[meta["name"]] = whose
            identity = account_address(self.cluster.address, meta["namespace"], whose)
            created = meta.get("creationTimestamp")
            yield {
                "section": "credentials", "name": f"{meta['namespace']}/{meta['name']}", "of": identity,
                "form": "static-token", "held_in": [place], **({"created": created} if created else {}),
            }  # fmt: skip
            yield {
                "finding": "stored-token", "at": place,
                "says": f"a token of {identity} without an end is kept in a secret: request tokens instead",
            }  # fmt: skip

    # -- who may do what -------------------------------------------------------------------------------------

    def _in_access(self, plural: str, what: str) -> Iterator[list[Mapping[str, Any]]]:
        """The roles or bindings of a list, some at a time."""
        known = self.as_listed.get(plural) if self.as_listed is not None else None
        every = iter(known) if known is not None else self._listed(plural, what, base=f"/apis/{RBAC}/v1")
        while several := list(islice(every, PAGE)):
            self.listed[plural] += len(several)
            yield several

    def _read_roles(self) -> Iterator[Record]:
        for plural, what in ROLES.items():
            for several in self._in_access(plural, what):
                yield {"listed": plural, "objects": list(map(plain, several))}
                for entry in several:
                    meta = entry["metadata"]
                    namespace = meta.get("namespace") or ""
                    self.rules[namespace, meta["name"]] = list(entry.get("rules") or ())
                    name = self._role_name(namespace, meta["name"])
                    self.metas[name] = _live(meta)
                    if self.but(meta):
                        self.made.add(name)

    def _bindings(self) -> Iterator[Record]:
        for plural, what in BINDINGS.items():
            for several in self._in_access(plural, what):
                yield {"listed": plural, "objects": list(map(plain, several))}
                for entry in several:
                    yield from self._binding(entry)

    def _binding(self, entry: Mapping[str, Any]) -> Iterator[Record]:
        meta, reference = entry["metadata"], entry.get("roleRef") or {}
        if self.but(meta):
            return
        namespace = meta.get("namespace") or ""
        of_namespace = namespace if reference.get("kind") == "Role" else ""
        rules = self.rules.get((of_namespace, str(reference.get("name"))))
        what = f"the binding {namespace + '/' if namespace else ''}{meta['name']}"
        if rules is None:
            yield {"left_out": what, "why": f"its role {reference.get('name')} is not there, so it gives nothing"}
            return
        place = f"{self.cluster.address}/namespace/{namespace}" if namespace else self.cluster.address
        role = self._role_name(of_namespace, str(reference["name"]))
        yield from self._roles(role, rules)
        live = _live(meta)
        for subject in entry.get("subjects") or ():
            to = None
            for record in self.subjects.of(subject, namespace, what):
                if "to" in record:
                    to = str(record["to"])
                else:
                    yield record
            if to is not None:
                for record in self._grants(to, role, rules, place, namespace, live):
                    yield self._noted(to, record)

    def _role_name(self, namespace: str, name: str) -> str:
        """A role's name in the estate: those of a namespace with the namespace before it."""
        return f"{self.prefix}{namespace}/{name}" if namespace else f"{self.prefix}{name}"

    def _roles(self, role: str, rules: Rules) -> Iterator[Record]:
        """A role of the estate for the rules that name nothing, and one for each rule that names things."""
        if role in self.made:
            return
        self.made.add(role)
        whole: dict[str, set[str]] = {}
        for number, rule in enumerate(rules):
            for url in rule.get("nonResourceURLs") or ():
                if inexact(url):
                    why = "only whole parts of a path have words here: what begins with its last part is not said"
                    yield {"left_out": f"the role {role} at {url}", "why": why}
            if rule.get("nonResourceURLs"):
                at_paths = {PATH: self.resources.path_verbs(rule)}
                yield _role(f"{role} (rule {number + 1})", at_paths, self.metas.get(role))
            allowed = self.resources.allows(rule) if rule.get("resources") else {}
            if not rule.get("resources"):
                continue
            if rule.get("resourceNames"):
                yield _role(f"{role} (rule {number + 1})", allowed, self.metas.get(role))
            else:
                for kind, verbs in allowed.items():
                    whole.setdefault(kind, set()).update(verbs)
        yield _role(role, whole, self.metas.get(role))

    def _grants(
        self, to: str, role: str, rules: Rules, place: str, namespace: str, live: Mapping[str, Any]
    ) -> Iterator[Record]:
        def grant(name: str, at: str, follows: str = "") -> Record:
            more = {"follows": follows} if follows else {}
            return {"section": "grants", "to": to, "role": name, "at": at, "live": {**live, **more}}

        here = [namespace] if namespace else self.namespaces
        following = Following(self.resources, self.token_secrets, self.mounts, self.on_node)
        gives = self.known.get(role)
        if gives is None:
            gives = self.known[role] = self._given_by(role, rules, following)
        if gives.everywhere:
            yield grant(role, place)
        for name, rule, thing in gives.named:
            yield from self._named_grants(grant, name, rule, thing, here)
        if not namespace:  # paths are of the whole cluster, so a binding in a namespace gives none
            for name, at in gives.paths:
                yield grant(name, f"{place}{at}")
        tokens = following.stored_tokens(rules, here) if self.token_secrets else ()
        entered = following.entered(rules, here) if self.mounts or self.on_node else ()
        for follow in (*gives.follows, *tokens, *entered):
            yield from self._followed(grant, follow, place, here)
        if gives.powers is not None:
            before = self.powers.get((to, place), gives.powers)
            self.powers[to, place] = before if before is gives.powers else before.joined(gives.powers)

    @staticmethod
    def _given_by(role: str, rules: Rules, following: Following) -> RoleGives:
        numbered = [(f"{role} (rule {number})", rule) for number, rule in enumerate(rules, 1)]
        powers = following.powers(rules)
        return RoleGives(
            everywhere=any(not rule.get("resourceNames") and rule.get("resources") for rule in rules),
            named=tuple((name, rule, thing) for name, rule in numbered for thing in rule.get("resourceNames") or ()),
            paths=tuple(
                (name, at)
                for name, rule in numbered
                for url in rule.get("nonResourceURLs") or ()
                for at in path_places(url)
            ),
            follows=tuple(dict.fromkeys(following.of(rules))),
            powers=powers if powers.any() else None,
        )

    def _named_grants(
        self, grant: Callable[..., Record], role: str, rule: Mapping[str, Any], name: str, here: list[str]
    ) -> Iterator[Record]:
        """Grants at single named things, in each namespace that there is now."""
        address, name = self.cluster.address, word_of(name)
        for resource in self.resources.matching(rule):
            kind = next(iter(self.resources.allows({**rule, "resources": [resource[1]], "apiGroups": [resource[0]]})))
            if not self.resources.namespaced.get(resource, True):
                if resource == ("", "namespaces"):
                    yield grant(role, f"{address}/namespace/{name}")
                else:
                    yield grant(role, f"{address}/{kind}/{name}")
                continue
            for namespace in here:
                yield grant(role, f"{address}/namespace/{namespace}/{kind}/{name}")

    def _followed(
        self, grant: Callable[..., Record], follows: Follows, place: str, here: list[str]
    ) -> Iterator[Record]:
        """A grant of what follows, at the place itself or at the things that are named."""
        if follows.whole or not follows.name:
            yield from self._at(grant, follows, self.cluster.address if follows.whole else place)
            return
        namespace, _, inner = follows.name.rpartition("/")
        for where in [namespace] if namespace else here:
            yield from self._at(
                grant, follows, f"{self.cluster.address}/namespace/{where}/{follows.kind}/{word_of(inner)}"
            )

    def _at(self, grant: Callable[..., Record], follows: Follows, at: str) -> Iterator[Record]:
        """A grant of what follows at a place, with its role."""
        name = f"{self.prefix}{'/'.join(follows.verbs)} {follows.kind or 'anything'}, as follows"
        if name not in self.made:
            self.made.add(name)
            yield _role(name, {follows.kind or "*": set(follows.verbs)})
        yield grant(name, at, follows.why)

    def _gathered(self) -> Iterator[Record]:
        """What follows from several bindings of one caller together, those to its groups and those of the whole cluster
        included."""
        cluster = self.cluster.address
        by_whom: dict[str, dict[str, ClusterPowers]] = {}
        posing: dict[str, ClusterPowers] = {}  # by who may act as others
        for (to, place), powers in self.powers.items():
            by_whom.setdefault(to, {})[place] = powers
        for to, own in by_whom.items():
            together: dict[str, ClusterPowers] = {}
            for whom in (to, *self.subjects.groups_of(to)):
                for place, powers in by_whom.get(whom, {}).items():
                    together.setdefault(place, ClusterPowers()).join(powers)
            everywhere = together.get(cluster, ClusterPowers())
            everywhere.poses_as_account |= any(powers.poses_as_account for powers in together.values())
            for place in together if cluster in own else own:
                powers = together[place]
                powers.join(everywhere)
                inside = [place.rsplit("/", 1)[1]] if place != cluster else self.namespaces
                guarded = bool(inside) and self.guarded.issuperset(inside)
                follows = [*powers.follows(whole=place == cluster, guarded=guarded)]
                follows += self._absent_ones(place) if powers.makes_accounts else []
                for follow in follows:
                    for record in self._followed(_following_grant(to), follow, place, []):
                        yield self._noted(to, record)
            if everywhere.users or everywhere.groups:
                posing[to] = everywhere
        for to, powers in posing.items():
            yield from self._posing(to, powers)

    def _absent_ones(self, place: str) -> list[Follows]:
        """The service accounts of a place that bindings name and that are not there: who makes one has what it has."""
        out = []
        for address in sorted(self.subjects.absent):
            if address.startswith(f"{place}/"):
                namespace, _, name = address[len(self.cluster.address) + 11 :].partition("/identity/")
                out.append(Follows("identity", ("change-trust",), f"{namespace}/{name}", "may make it"))
        return out

    def _noted(self, to: str, record: Record) -> Record:
        """A record that gives a caller something; what people have is kept, where a caller may act as users."""
        if self.posing and to.startswith("@") and record["section"] == "grants":
            self.given.setdefault(to, []).append(record)
        return record

    def _posing(self, to: str, powers: ClusterPowers) -> Iterator[Record]:
        """Identities that a caller may act as, by the names of users and groups: each has what is bound to them."""
        grant = _following_grant(to)
        for name, address in self.subjects.users.items():
            if ANY in powers.users or name in powers.users:
                stands = address
                if address.startswith("@"):  # nothing runs as a person
                    stands, records = self.subjects.acting(f"as {word_of(name)}")
                    yield from records
                    for entry in self.given.get(address, ()) if records else ():
                        yield {**entry, "to": stands, "live": {**entry["live"], "follows": f"is given to {address}"}}
                yield from self._at(grant, Follows("identity", ("run-as",), why=f"may act as the user {name}"), stands)
        if powers.users or powers.poses_as_account:  # a group is only acted for with a user
            for name in sorted(powers.groups | ({MASTERS} if ANY in powers.groups else set())):
                if name in self.subjects.acting_for:
                    stands, _ = self.subjects.acting(f"for {word_of(name)}")
                    follows = Follows("identity", ("run-as",), why=f"may act for the group {name}")
                    yield from self._at(grant, follows, stands)

    def _masters(self) -> Iterator[Record]:
        """What the cluster allows to one group whatever its roles say."""
        of_things = {"apiGroups": ["*"], "resources": ["*"], "verbs": ["*"]}
        self.rules["", MASTERS] = [of_things, {"nonResourceURLs": ["*"], "verbs": ["*"]}]
        self.metas[self._role_name("", MASTERS)] = _live({"name": MASTERS})
        reference = {"kind": "ClusterRole", "name": MASTERS}
        subjects = [{"kind": "Group", "name": MASTERS}]
        yield from self._binding({"metadata": {"name": MASTERS}, "roleRef": reference, "subjects": subjects})
        own = f"/group/{MASTERS}"
        acted_for = any(
            {ANY, MASTERS} & powers.groups for (to, _), powers in self.powers.items() if not to.endswith(own)
        )
        yield from self.subjects.masters_there(acted_for=acted_for)


def _role(name: str, allows: Mapping[str, set[str]], live: Record | None = None) -> Record:
    sorted_out = {kind: sorted(verbs) for kind, verbs in sorted(allows.items())}
    return {"section": "roles", "name": name, "allows": sorted_out, **({"live": live} if live else {})}


def _following_grant(to: str) -> Callable[..., Record]:
    def grant(name: str, at: str, follows: str = "") -> Record:
        return {"section": "grants", "to": to, "role": name, "at": at, "live": {"follows": follows}}

    return grant


def _live(meta: Mapping[str, Any]) -> Record:
    """What the cluster knows something by; and whether it came with the cluster itself."""
    came_along = meta["name"].startswith("system:") or BOOT in (meta.get("labels") or {}) or meta["name"] in CAME_ALONG
    more = {"came_along": True} if came_along else {}
    return {"id": meta.get("uid", ""), "version": meta.get("resourceVersion", ""), "name": meta["name"], **more}

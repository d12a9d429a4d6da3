"""What is read of the objects of a cluster: the fields that are looked at. What else they hold is passed over unread.

Kubernetes documentation, "Kubernetes API Concepts", sections "Resource versions" and "Retrieving large results sets in
chunks".
"""

from typing import Any, Generic, Required, TypedDict, TypeVar

from msgspec import Struct
from msgspec.json import Decoder

Entry = TypeVar("Entry")


Texts = list[str] | None


class PageMeta(Struct, rename={"version": "resourceVersion", "following": "continue"}):
    """The version that a list was read at, and what its next page is asked for by."""

    version: str | None = None
    following: str | None = None


class Page(Struct, Generic[Entry]):
    """A page of a list."""

    items: list[Entry]
    metadata: PageMeta | None = None


class ObjectName(TypedDict, total=False):
    """What a thing is called."""

    name: Required[str]
    namespace: str | None
    uid: str | None


class ObjectMeta(ObjectName, total=False):
    """What a thing is called, and what is written about it."""

    labels: dict[str, str] | None
    annotations: dict[str, str] | None
    resourceVersion: str | None
    creationTimestamp: str | None


class Thing(TypedDict):
    """Something of which only that is read: a namespace, a service account, a secret."""

    metadata: ObjectMeta


class SecretSource(TypedDict, total=False):
    """A secret that a pod takes something from; volumes call it otherwise than variables."""

    secretName: str | None
    name: str | None


class ProjectedSource(TypedDict, total=False):
    """One source of a volume of several."""

    secret: SecretSource | None


class ProjectedVolume(TypedDict, total=False):
    """A volume of several sources."""

    sources: list[ProjectedSource] | None


class PodVolume(TypedDict, total=False):
    """What a pod mounts. Anything at all in `hostPath` is a folder of its node."""

    secret: SecretSource | None
    projected: ProjectedVolume | None
    hostPath: Any


class ValueSource(TypedDict, total=False):
    """Where a variable takes its value from."""

    secretKeyRef: SecretSource | None


class PodVariable(TypedDict, total=False):
    """A variable of a container."""

    valueFrom: ValueSource | None


class PodVariables(TypedDict, total=False):
    """Variables of a container, all of a source."""

    secretRef: SecretSource | None


class PodContext(TypedDict, total=False):
    """How a container is kept apart from its node."""

    privileged: bool | None


class PodContainer(TypedDict, total=False):
    """A container of a pod."""

    env: list[PodVariable] | None
    envFrom: list[PodVariables] | None
    securityContext: PodContext | None


class PodSpec(TypedDict, total=False):
    """What a pod runs as, what it takes from secrets, and what it has of its node."""

    serviceAccountName: str | None
    volumes: list[PodVolume] | None
    containers: list[PodContainer] | None
    initContainers: list[PodContainer] | None
    hostPID: bool | None


class Pod(TypedDict, total=False):
    """Something that runs."""

    metadata: Required[ObjectName]
    spec: PodSpec | None


class Rule(TypedDict, total=False):
    """What a role allows."""

    verbs: Texts
    apiGroups: Texts
    resources: Texts
    resourceNames: Texts
    nonResourceURLs: Texts


class RoleObject(TypedDict, total=False):
    """A role."""

    metadata: Required[ObjectMeta]
    rules: list[Rule] | None


class BindingSubject(TypedDict, total=False):
    """Whom a binding is for."""

    apiGroup: str | None
    kind: str | None
    name: str | None
    namespace: str | None


class RoleRef(TypedDict, total=False):
    """The role that a binding gives."""

    apiGroup: str | None
    kind: str | None
    name: str | None


class BindingObject(TypedDict, total=False):
    """A binding of a role."""

    metadata: Required[ObjectMeta]
    roleRef: RoleRef | None
    subjects: list[BindingSubject] | None


OBJECTS: dict[str, type] = {
    "namespaces": Thing, "serviceaccounts": Thing, "secrets": Thing, "pods": Pod, "roles": RoleObject,
    "clusterroles": RoleObject, "rolebindings": BindingObject, "clusterrolebindings": BindingObject,
}  # fmt: skip
"""What is read of an object, by the plural of its resource."""
_PAGES: dict[type, Decoder[Any]] = {shape: Decoder(Page[shape]) for shape in OBJECTS.values()}  # type: ignore[valid-type]
LISTS = {plural: _PAGES[shape] for plural, shape in OBJECTS.items()}
"""What reads a page of a list."""

"""What is read of the objects of a cluster: the fields that are looked at. What else they hold, which is most of them, is
passed over unread.

Kubernetes documentation, "Kubernetes API Concepts", sections "Resource versions" and "Retrieving large results sets in
chunks".
"""

from typing import Any, Generic, Required, TypedDict, TypeVar

from msgspec import Struct
from msgspec.json import Decoder

Entry = TypeVar("Entry")


class PageMeta(Struct, rename={"version": "resourceVersion", "following": "continue"}):
    """The version that a list was read at, and what its next page is asked for by."""

    version: Any = None
    following: Any = None


class Page(Struct, Generic[Entry]):
    """A page of a list."""

    items: list[Entry]
    metadata: PageMeta | None = None


class Named(TypedDict, total=False):
    """What a thing is called."""

    name: Required[str]
    namespace: str | None
    uid: str | None


class Meta(Named, total=False):
    """What a thing is called, and what is written about it."""

    labels: Any
    annotations: Any
    resourceVersion: Any
    creationTimestamp: Any


class Thing(TypedDict):
    """Something of which only that is read: a namespace, a service account, a secret."""

    metadata: Meta


class PodSpec(TypedDict, total=False):
    """What a pod runs as."""

    serviceAccountName: str | None


class Pod(TypedDict, total=False):
    """Something that runs."""

    metadata: Required[Named]
    spec: PodSpec | None


class Role(TypedDict, total=False):
    """A role."""

    metadata: Required[Meta]
    rules: Any


class Binding(TypedDict, total=False):
    """A binding of a role."""

    metadata: Required[Meta]
    roleRef: Any
    subjects: Any


_things, _roles, _bindings = Decoder(Page[Thing]), Decoder(Page[Role]), Decoder(Page[Binding])
LISTS: dict[str, Decoder[Any]] = {
    "namespaces": _things, "serviceaccounts": _things, "secrets": _things, "pods": Decoder(Page[Pod]),
    "roles": _roles, "clusterroles": _roles, "rolebindings": _bindings, "clusterrolebindings": _bindings,
}  # fmt: skip
"""What reads a page of a list, by the plural of its resource."""

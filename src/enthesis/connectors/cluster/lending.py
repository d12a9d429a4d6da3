"""A kubeconfig whose user is an exec entry that asks us for a token each time, and our answer to the client that asks.

Kubernetes documentation, "client-go credential plugins" (client.authentication.k8s.io); the file holds no token.
"""

import json
import site
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from enthesis.connectors.cluster.using import LiveCluster
from enthesis.model.errors import InvalidInput
from enthesis.ports import HeldCredential

ASKED_BY = "KUBERNETES_EXEC_INFO"  # the environment variable in which most clients say what they ask for
GROUP = "client.authentication.k8s.io"
VERSIONS = ("v1beta1", "v1")
"""Of the interface between a client and us; the first is understood by more clients."""


def isolated() -> list[str]:
    """How the interpreter is called so that nothing of a client's folder or environment takes this program's place."""
    at_users = site.ENABLE_USER_SITE and Path(__file__).is_relative_to(site.getusersitepackages())
    return ["-E", "-P"] if at_users else ["-I"]


def lent_kubeconfig(cluster: LiveCluster, identity: str, words: Sequence[str], version: str) -> str:
    """A kubeconfig as JSON, which is YAML too, so that nothing in it needs quoting by hand.

    `words` are those with which this program is to be called for a token, `version` that of the interface.
    """
    user = {
        "exec": {
            "apiVersion": f"{GROUP}/{version}",
            "command": sys.executable,
            "args": [*isolated(), "-m", "enthesis", *words],
            "interactiveMode": "Never",
            "provideClusterInfo": False,
        }
    }
    server: dict[str, Any] = {"server": cluster.cluster.url}
    if cluster.cluster.authority:
        server["certificate-authority-data"] = cluster.cluster.authority
    name = cluster.name.rsplit("/", 1)[1]
    namespace = cluster.account(identity)[0]
    whole = {
        "apiVersion": "v1",
        "kind": "Config",
        "clusters": [{"name": name, "cluster": server}],
        "users": [{"name": identity, "user": user}],
        "contexts": [{"name": name, "context": {"cluster": name, "user": identity, "namespace": namespace}}],
        "current-context": name,
    }
    return json.dumps(whole, indent=2) + "\n"


def version_asked(told: str, said: str) -> str:
    """The version in which a client asks: as it says itself, else as the kubeconfig told us. InvalidInput for a version
    that is not known."""
    try:
        version = str(json.loads(said)["apiVersion"]) if said else f"{GROUP}/{told}"
    except (ValueError, KeyError, TypeError, RecursionError):
        version = f"{GROUP}/{told}"
    if version not in {f"{GROUP}/{name}" for name in VERSIONS}:
        raise InvalidInput(f"a client asks in a version that is not known: {version}", code="client-version-unknown")
    return version


def answer_to_client(version: str, credential: HeldCredential, ends: str) -> str:
    """The token, for the process that asked for it."""
    status = {"token": credential.secret.reveal(), "expirationTimestamp": ends}
    return json.dumps({"kind": "ExecCredential", "apiVersion": version, "status": status}) + "\n"

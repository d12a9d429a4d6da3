"""How a cluster is reached: a kubeconfig, or the settings of a workload that runs in it.

Kubernetes documentation, "Organizing Cluster Access Using kubeconfig Files" and "Client authentication"; nothing of a
kubeconfig is kept, and no value in it that is a secret is ever shown.
"""

import base64
import json
import os
import ssl
import subprocess
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import yaml

from enthesis.files.saving import read_file
from enthesis.model.errors import InvalidInput, Unreachable
from enthesis.model.secrets import Secret

MAX_FILE = 1024 * 1024  # bytes
EXEC_TIMEOUT = 30.0  # seconds
INSIDE = Path("/var/run/secrets/kubernetes.io/serviceaccount")


@dataclass(frozen=True)
class Access:
    """Where a cluster is, how it proves itself, and as whom we come."""

    url: str
    context: ssl.SSLContext
    token: Secret | None = None
    authority: str = ""  # PEM in base64


def from_kubeconfig(path: Path, context: str | None = None) -> Access:
    """What a kubeconfig says of one of its contexts, or of the current one; InvalidInput where it says too little."""
    data = read_file(path, MAX_FILE)
    try:
        read = yaml.safe_load(data)
    except (yaml.YAMLError, RecursionError, ValueError):
        raise InvalidInput(f"{path} is not YAML", code="kubeconfig-invalid") from None
    try:
        return _chosen(read, path, context)
    except (TypeError, ValueError, KeyError, AttributeError, RecursionError, OSError) as fault:
        what = f"{path} is not understood ({type(fault).__name__})"
        raise InvalidInput(what, code="kubeconfig-invalid", remedy="look at its fields") from None


def _chosen(read: Any, path: Path, context: str | None) -> Access:
    if not isinstance(read, dict):
        raise InvalidInput(f"{path} is no kubeconfig", code="kubeconfig-invalid")
    name = context or read.get("current-context")
    chosen = _named(read, "contexts", name, path).get("context")
    if not isinstance(chosen, dict):
        raise InvalidInput(f"the context {name} in {path} says nothing", code="kubeconfig-incomplete")
    cluster = _named(read, "clusters", chosen.get("cluster"), path).get("cluster")
    user = _named(read, "users", chosen.get("user"), path).get("user") if chosen.get("user") else {}
    if not isinstance(cluster, dict) or not isinstance(cluster.get("server"), str):
        raise InvalidInput(f"the cluster of the context {name} in {path} has no server", code="kubeconfig-incomplete")
    if cluster.get("insecure-skip-tls-verify"):
        remedy = "give its certificate-authority instead"
        raise InvalidInput(
            f"{path} asks not to check whether the cluster is the right one", code="kubeconfig-unchecked", remedy=remedy
        )
    user = user if isinstance(user, dict) else {}
    tls = _context(cluster, path)
    token = _token(user, path)
    if token is None:
        _certificate(user, path, tls)
    return Access(cluster["server"], tls, token, _authority(cluster, path))


def from_inside(environment: Mapping[str, str], place: Path = INSIDE) -> Access | None:
    """What a workload finds when it runs in a cluster; None where it does not."""
    host, port = environment.get("KUBERNETES_SERVICE_HOST"), environment.get("KUBERNETES_SERVICE_PORT", "443")
    token = place / "token"
    if not host or not token.exists():
        return None
    named = f"[{host}]" if ":" in host else host
    tls = ssl.create_default_context(cafile=str(place / "ca.crt"))
    authority = base64.b64encode((place / "ca.crt").read_bytes()).decode()
    return Access(f"https://{named}:{port}", tls, Secret(token.read_text(encoding="utf-8").strip()), authority)


def _named(read: Mapping[str, Any], section: str, name: Any, path: Path) -> Mapping[str, Any]:
    listed = read.get(section)
    for one in listed if isinstance(listed, list) else ():
        if isinstance(one, dict) and one.get("name") == name and name is not None:
            return one
    known = ", ".join(str(one.get("name")) for one in listed or () if isinstance(one, dict)) if listed else ""
    raise InvalidInput(
        f"{path} has no {section[:-1]} called {name}",
        code="kubeconfig-incomplete",
        remedy=f"known: {known}" if known else "",
    )


def _context(cluster: Mapping[str, Any], path: Path) -> ssl.SSLContext:
    data, file = cluster.get("certificate-authority-data"), cluster.get("certificate-authority")
    try:
        if data:
            return ssl.create_default_context(cadata=base64.b64decode(data, validate=True).decode())
        return ssl.create_default_context(cafile=str(path.parent / file) if file else None)
    except (OSError, ValueError) as fault:
        raise InvalidInput(
            f"the certificate-authority in {path} cannot be used: {fault}", code="kubeconfig-incomplete"
        ) from None


def _authority(cluster: Mapping[str, Any], path: Path) -> str:
    """The certificates of an authority in base64, wherever they are kept; '' for the usual ones."""
    data, file = cluster.get("certificate-authority-data"), cluster.get("certificate-authority")
    return str(data) if data else base64.b64encode(read_file(path.parent / file, MAX_FILE)).decode() if file else ""


def _token(user: Mapping[str, Any], path: Path) -> Secret | None:
    if isinstance(user.get("token"), str):
        return Secret(user["token"])
    if isinstance(user.get("tokenFile"), str):
        try:
            return Secret(read_file(path.parent / user["tokenFile"], MAX_FILE).decode().strip())
        except InvalidInput as fault:
            raise InvalidInput(f"the tokenFile in {path}: {fault.message}", code="client-key-unusable") from None
    if isinstance(user.get("exec"), dict):
        return _from_command(user["exec"], path)
    return None


def _from_command(entry: Mapping[str, Any], path: Path) -> Secret:
    """Runs the command of an exec entry, as every client of a kubeconfig does; its token is used and not kept."""
    command = [str(entry.get("command", "")), *map(str, entry.get("args") or ())]
    version = str(entry.get("apiVersion", "client.authentication.k8s.io/v1"))
    asked = {"kind": "ExecCredential", "apiVersion": version, "spec": {"interactive": False}}
    more = {str(one["name"]): str(one["value"]) for one in entry.get("env") or () if isinstance(one, dict)}
    environment = {**os.environ, **more, "KUBERNETES_EXEC_INFO": json.dumps(asked)}
    try:
        done = subprocess.run(  # noqa: S603  the user's own kubeconfig names it
            command, capture_output=True, timeout=EXEC_TIMEOUT, check=True, env=environment, stdin=subprocess.DEVNULL
        )
        token = json.loads(done.stdout)["status"]["token"]
    except (OSError, subprocess.SubprocessError, ValueError, KeyError, TypeError):
        raise Unreachable(
            f"the command {command[0]} that {path} names gave no credential", code="kubeconfig-command-failed"
        ) from None
    return Secret(str(token))


def _certificate(user: Mapping[str, Any], path: Path, tls: ssl.SSLContext) -> None:
    """A client certificate, if there is one; a key inside a kubeconfig passes through a file that is gone at once."""
    with tempfile.TemporaryDirectory() as folder:
        files: list[str] = []
        for name in ("client-certificate", "client-key"):
            data, file = user.get(f"{name}-data"), user.get(name)
            if data:
                place = Path(folder) / name
                place.touch(mode=0o600)
                place.write_bytes(base64.b64decode(data))
                files.append(str(place))
            elif file:
                files.append(str(path.parent / file))
        if len(files) == 2:
            try:
                tls.load_cert_chain(files[0], files[1])
            except (OSError, ValueError) as fault:
                raise InvalidInput(
                    f"the client certificate in {path} cannot be used: {fault}", code="kubeconfig-incomplete"
                ) from None

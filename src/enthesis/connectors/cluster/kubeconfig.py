"""How a cluster is reached: kubeconfigs, or the settings of a workload that runs in it.

Kubernetes documentation, "Organizing Cluster Access Using kubeconfig Files", "User impersonation" and "Client
authentication". Every field that is not honoured is refused by its name, since what it narrows would be wider without
it. Nothing of a kubeconfig is kept, and no value in it that is a secret is ever shown.
"""

import base64
import ssl
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

import yaml

from enthesis.connectors.cluster.command_credentials import CommandCredential
from enthesis.connectors.http import Connection, trusting
from enthesis.files.saving import read_file
from enthesis.model.errors import InvalidInput
from enthesis.model.secrets import Secret

MAX_FILE = 1024 * 1024  # bytes
INSIDE = Path("/var/run/secrets/kubernetes.io/serviceaccount")
HONOURED = {
    "context": ("cluster", "user", "namespace", "extensions"),
    "cluster": (
        "server", "certificate-authority", "certificate-authority-data", "tls-server-name", "proxy-url",
        "insecure-skip-tls-verify", "disable-compression", "extensions",
    ),
    "user": (
        "token", "tokenFile", "client-certificate", "client-certificate-data", "client-key", "client-key-data", "exec",
        "as", "as-uid", "as-groups", "as-user-extra", "extensions",
    ),
}  # fmt: skip
"""The fields of each kind of entry that are honoured, or say nothing about access."""


@dataclass(frozen=True)
class ClusterAccess:
    """Where a cluster is, how it proves itself, and as whom we come. `token` is one, or gives one that still lasts."""

    url: str
    way: Connection
    token: Secret | Callable[[], Secret | None] | None = None
    authority: str = ""  # PEM in base64


@dataclass(frozen=True)
class _Entry:
    """One named entry, with the folder that its relative paths start from."""

    said: Mapping[str, Any]
    folder: Path
    file: Path


def from_kubeconfigs(paths: Sequence[Path], context: str | None = None) -> ClusterAccess:
    """What kubeconfigs together say of one of their contexts, or of the current one: of entries of one name the first
    counts. InvalidInput where they say too little, or something that is not honoured."""
    read = [(path, _parsed(path)) for path in paths]
    try:
        return _chosen(read, context)
    except (TypeError, ValueError, KeyError, AttributeError, RecursionError, OSError) as fault:
        what = f"{paths[0]} is not understood ({type(fault).__name__})"
        raise InvalidInput(what, code="kubeconfig-invalid", remedy="look at its fields") from None


def _parsed(path: Path) -> Mapping[str, Any]:
    data = read_file(path, MAX_FILE)
    try:
        read = yaml.safe_load(data)
    except (yaml.YAMLError, RecursionError, ValueError):
        raise InvalidInput(f"{path} is not YAML", code="kubeconfig-invalid") from None
    if not isinstance(read, dict):
        raise InvalidInput(f"{path} is not a kubeconfig", code="kubeconfig-invalid")
    return read


def _chosen(read: Sequence[tuple[Path, Mapping[str, Any]]], context: str | None) -> ClusterAccess:
    name = context or next((one["current-context"] for _, one in read if one.get("current-context")), None)
    if name is None:
        files = " and ".join(str(path) for path, _ in read)
        raise InvalidInput(
            f"{files} has no current context", code="kubeconfig-incomplete", remedy="name one with --context"
        )
    chosen = _entry(read, "context", name)
    cluster = _entry(read, "cluster", chosen.said.get("cluster"))
    user = _entry(read, "user", chosen.said.get("user"))
    if not isinstance(cluster.said.get("server"), str):
        where = f"the cluster of the context {name} in {cluster.file}"
        raise InvalidInput(f"{where} has no server", code="kubeconfig-incomplete")
    if cluster.said.get("insecure-skip-tls-verify"):
        raise InvalidInput(
            f"{cluster.file} asks not to check whether the cluster is the right one", code="kubeconfig-unchecked",
            remedy="give its certificate-authority instead",
        )  # fmt: skip
    tls = _context(cluster)
    server_name = str(cluster.said.get("tls-server-name") or "")
    way = Connection(tls, tuple(_impersonated(user)), server_name, _proxy(cluster))
    return ClusterAccess(cluster.said["server"], way, _credential(user, cluster, str(name), tls), _authority(cluster))


def from_inside(environment: Mapping[str, str], place: Path = INSIDE) -> ClusterAccess | None:
    """What a workload finds when it runs in a cluster; None where it does not."""
    host, port = environment.get("KUBERNETES_SERVICE_HOST"), environment.get("KUBERNETES_SERVICE_PORT", "443")
    token = place / "token"
    if not host or not token.exists():
        return None
    named = f"[{host}]" if ":" in host else host
    tls = ssl.create_default_context(cafile=str(place / "ca.crt"))
    authority = base64.b64encode((place / "ca.crt").read_bytes()).decode()
    return ClusterAccess(
        f"https://{named}:{port}", Connection(tls), Secret(token.read_text(encoding="utf-8").strip()), authority
    )


def _entry(read: Sequence[tuple[Path, Mapping[str, Any]]], kind: str, name: Any) -> _Entry:
    """The first entry of a name, with no field that is not honoured."""
    known: list[str] = []
    for path, one in read:
        listed = one.get(f"{kind}s")
        for each in listed if isinstance(listed, list) else ():
            if not isinstance(each, dict):
                continue
            known.append(str(each.get("name")))
            if each.get("name") != name or name is None:
                continue
            said = each.get(kind)
            if not isinstance(said, dict):
                raise InvalidInput(f"the {kind} {name} in {path} says nothing", code="kubeconfig-incomplete")
            unknown = [
                field for field, value in said.items() if field not in HONOURED[kind] and value not in (None, "")
            ]
            if unknown:
                raise InvalidInput(
                    f"the {kind} {name} in {path} says {', '.join(map(str, unknown))}, which is not honoured here",
                    code="kubeconfig-not-honoured",
                    remedy="use another context, or leave it out",
                )
            return _Entry(said, path.parent, path)
    files = " and ".join(str(path) for path, _ in read)
    listed_names = ", ".join(dict.fromkeys(known))
    raise InvalidInput(
        f"{files} has no {kind} called {name}",
        code="kubeconfig-incomplete",
        remedy=f"known: {listed_names}" if known else "",
    )


# -- how the cluster proves itself ----------------------------------------------------------------------------------


def _context(cluster: _Entry) -> ssl.SSLContext:
    data, file = cluster.said.get("certificate-authority-data"), cluster.said.get("certificate-authority")
    try:
        return trusting(
            cluster.said["server"],
            cluster.folder / file if file and not data else None,
            data=base64.b64decode(data, validate=True).decode() if data else None,
        )
    except (OSError, ValueError) as fault:
        raise InvalidInput(
            f"the certificate-authority in {cluster.file} cannot be used: {fault}", code="kubeconfig-incomplete"
        ) from None


def _authority(cluster: _Entry) -> str:
    """The certificates of an authority in base64, wherever they are kept; '' for the usual ones."""
    data, file = cluster.said.get("certificate-authority-data"), cluster.said.get("certificate-authority")
    if data:
        return str(data)
    return base64.b64encode(read_file(cluster.folder / file, MAX_FILE)).decode() if file else ""


def _proxy(cluster: _Entry) -> str:
    """The proxy that leads to a cluster; InvalidInput for a kind that is not spoken."""
    proxy = str(cluster.said.get("proxy-url") or "")
    if proxy and urlsplit(proxy).scheme not in ("http", "https"):
        raise InvalidInput(
            f"{cluster.file} has a proxy-url that is neither http nor https", code="kubeconfig-not-honoured",
            remedy="only http:// and https:// proxies are supported",
        )  # fmt: skip
    return proxy


# -- as whom we come ------------------------------------------------------------------------------------------------


def _impersonated(user: _Entry) -> Iterator[tuple[str, str]]:
    """The headers that say whom a user acts as."""
    said = user.said
    if not said.get("as"):
        left = [name for name in ("as-uid", "as-groups", "as-user-extra") if said.get(name)]
        if left:
            raise InvalidInput(f"{user.file} says {left[0]} and not `as`", code="kubeconfig-incomplete")
        return
    yield "Impersonate-User", str(said["as"])
    if said.get("as-uid"):
        yield "Impersonate-Uid", str(said["as-uid"])
    for group in said.get("as-groups") or ():
        yield "Impersonate-Group", str(group)
    for name, values in (said.get("as-user-extra") or {}).items():
        for value in values:
            yield f"Impersonate-Extra-{quote(str(name), safe='')}", str(value)


def _credential(
    user: _Entry, cluster: _Entry, context: str, tls: ssl.SSLContext
) -> Secret | Callable[[], Secret | None] | None:
    """The token of a user, or what gives one; a client certificate goes into the TLS context.

    InvalidInput where there is neither.
    """
    said = user.said
    with tempfile.TemporaryDirectory() as folder:
        certificate = _certificate(user, Path(folder), tls)
    token: Secret | None = None
    if isinstance(said.get("tokenFile"), str) and said["tokenFile"]:
        try:
            token = Secret(read_file(user.folder / said["tokenFile"], MAX_FILE).decode().strip())
        except InvalidInput as fault:
            raise InvalidInput(f"the tokenFile in {user.file}: {fault.message}", code="client-key-unusable") from None
    elif isinstance(said.get("token"), str) and said["token"]:
        token = Secret(said["token"])
    if token is None and not certificate and isinstance(said.get("exec"), dict):
        command = CommandCredential(said["exec"], cluster.said, user.file, tls)
        command.token()  # so that one that fails is told before anything is asked of the cluster
        return command.token
    if token is None and not certificate:
        raise InvalidInput(
            f"the user of the context {context} in {user.file} has no credential",
            code="kubeconfig-incomplete",
            remedy="token, tokenFile, client-certificate with client-key, or exec",
        )
    return token


def _certificate(user: _Entry, folder: Path, tls: ssl.SSLContext) -> bool:
    """Whether there is a client certificate, which is put into the TLS context; a key inside a kubeconfig passes
    through a file that no longer exists at once."""
    files: list[str] = []
    for name in ("client-certificate", "client-key"):
        data, file = user.said.get(f"{name}-data"), user.said.get(name)
        if data:
            place = folder / name
            place.touch(mode=0o600)
            place.write_bytes(base64.b64decode(data))
            files.append(str(place))
        elif file:
            files.append(str(user.folder / file))
    if len(files) == 1:
        raise InvalidInput(
            f"{user.file} has one of client-certificate and client-key, and not both", code="kubeconfig-incomplete"
        )
    if not files:
        return False
    try:
        tls.load_cert_chain(files[0], files[1])
    except (OSError, ValueError) as fault:
        raise InvalidInput(
            f"the client certificate in {user.file} cannot be used: {fault}", code="kubeconfig-incomplete"
        ) from None
    return True

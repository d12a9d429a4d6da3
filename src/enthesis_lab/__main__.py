"""The lab's process: every service on its own loopback port, until it is told to stop.

    python -m enthesis_lab STATE [READY]

STATE is the folder that holds the inventory and all state. READY is a file descriptor to write one line to.
"""

import asyncio
import contextlib
import fcntl
import json
import os
import signal
import socket
import sys
import time
from collections.abc import Iterator, Mapping, Sequence
from email.utils import formatdate
from functools import partial
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import uvicorn
from starlette.applications import Starlette

from enthesis_lab.authority import make_certificates
from enthesis_lab.cloud import CloudServer
from enthesis_lab.cluster.serving import ClusterServer
from enthesis_lab.databases import FOLDERS, DatabaseServer, NotInstalled, furnish, own_servers
from enthesis_lab.enrolling import EnrolmentServer, authority_pem
from enthesis_lab.faults import Faults, faulty
from enthesis_lab.guarding import guarded, owners_word
from enthesis_lab.hosts import HostServer
from enthesis_lab.logins import LoginServer, own_logins
from enthesis_lab.people import DirectoryServer
from enthesis_lab.pipeline import PipelineServer
from enthesis_lab.registry import RegistryServer, own_registries
from enthesis_lab.running import host_word
from enthesis_lab.shown_certificates import ShownCertificates
from enthesis_lab.ssh_authority import SshAuthority, serial_of
from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock, Signer

if TYPE_CHECKING:
    from enthesis_lab.assertions import AssertionServer, ShownAssertions

HOST = "127.0.0.1"
NO_ASSERTIONS = "the library for assertions is not installed (pip install 'enthesis[saml]')"
INTERRUPTS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


class _Server(uvicorn.Server):
    """A server that leaves signals to the process, since several run in one."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


def _dated(app: Any, clock: Clock) -> Any:
    """The same, its answers dated by the lab's clock (RFC 9110, section 6.6.1), so that who asks can reckon with it."""

    async def dated(scope: Any, receive: Any, send: Any) -> None:
        async def with_date(message: Any) -> None:
            if message["type"] == "http.response.start":
                date = formatdate(clock.now(), usegmt=True).encode()
                message = {**message, "headers": [*message.get("headers", ()), (b"date", date)]}
            await send(message)

        await app(scope, receive, with_date)

    return dated


def _socket(wanted: int | None) -> socket.socket:
    """A loopback socket, on the port it had before where that is free."""
    for port in (wanted or 0, 0):
        listening = socket.socket(
            socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP
        )  # so that asyncio sets TCP_NODELAY
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listening.bind((HOST, port))
        except OSError:
            listening.close()
            continue
        return listening
    raise OSError("no loopback port is free")


def _services(inventory: dict[str, Any]) -> dict[str, str]:
    """The services to run: names in the estate, and their kinds."""
    found = dict.fromkeys(inventory["providers"], "cloud")
    found |= {
        name: "pipeline"
        for name, issuer in inventory["issuers"].items()
        if issuer["kind"] == "oidc" and "cluster" not in issuer
    }
    found |= {name: "authority" for name, issuer in inventory["issuers"].items() if issuer["kind"] == "x509"}
    found |= {name: "assertions" for name, issuer in inventory["issuers"].items() if issuer["kind"] == "saml"}
    found |= {address: "cluster" for address in inventory["resources"] if _is_cluster(address)}
    found |= dict.fromkeys(own_registries(inventory), "registry")
    found |= {f"{name}/hosts": "hosts" for name in inventory["providers"]}
    found |= {address.split("/")[0]: "directory" for address in inventory["people"]}
    return found


def _that_can_run(kinds: dict[str, str], absent: dict[str, str]) -> dict[str, str]:
    """The services for which all libraries are installed; why the others are `absent` is put there."""
    missing = [name for name, kind in kinds.items() if kind == "assertions"] if find_spec("signxml") is None else []
    absent |= dict.fromkeys(missing, NO_ASSERTIONS)
    return {name: kind for name, kind in kinds.items() if name not in missing}


def _is_cluster(address: str) -> bool:
    parts = address.split("/")
    return len(parts) == 3 and parts[1] == "cluster"


async def _serve(state: Path, ready: int | None) -> None:
    inventory = json.loads((state / "inventory.json").read_text(encoding="utf-8"))
    store = Store(state / "lab.db")
    store.end_all_trials()
    clock = Clock(store)
    owners_word(store)
    authority, chain, key = make_certificates(state)
    ports: dict[str, int] = store.setting("ports", {})
    absent: dict[str, str] = {}
    kinds = _that_can_run(_services(inventory), absent)
    sockets = {name: _socket(ports.get(name)) for name in kinds}
    signers: dict[str, Signer] = {}
    urls = {
        name: f"http{'' if kinds[name] == 'hosts' else 's'}://{HOST}:{listening.getsockname()[1]}"
        for name, listening in sockets.items()
    }
    for name in (text for text in sockets if kinds[text] not in ("hosts", "authority", "assertions")):
        signers[name] = Signer(store, clock, name)
        signers[name].ensure_keys()
        signers[name].issuer = urls[name]
    store.set_setting("ports", {name: listening.getsockname()[1] for name, listening in sockets.items()})
    servers: list[_Server] = []
    faults = Faults(store)
    store.lags = faults.lags
    clouds = {name: CloudServer(name, inventory, store, clock, signers, faults) for name in inventory["providers"]}
    authorities = {
        name: EnrolmentServer(name, inventory, store, clock, urls[name], signers)
        for name, kind in kinds.items() if kind == "authority"
    }  # fmt: skip
    asserting = _asserting(kinds, inventory, store, clock, urls)
    ssh_authorities = {
        name: SshAuthority(store, clock, name)
        for name, issuer in inventory["issuers"].items() if issuer["kind"] == "ssh"
    }  # fmt: skip
    for cloud in clouds.values():
        cloud.vouches_for = tuple(authority.url for authority in authorities.values())
        known = {name: authority.certificate for name, authority in authorities.items()}
        cloud.callers.certificates = ShownCertificates(store, clock, known, cloud.url)
        cloud.callers.assertions = _shown_assertions(asserting, store, clock, cloud)
        cloud.ssh_authorities = ssh_authorities
    for name, kind in kinds.items():
        own = authorities.get(name) or asserting.get(name)
        certifying = [authority.url for authority in authorities.values()]
        app = own.app() if own else _app(name, kind, inventory, store, clock, signers, clouds, certifying)
        pair = (chain, key) if kind != "hosts" else None  # a link-local service has no certificate
        servers.append(_server(_dated(guarded(faulty(app, name, faults)), clock), pair))
    databases = _databases(state, inventory, store, clock, (chain, key), absent)
    logins = _logins(inventory, store, ssh_authorities, absent, urls)
    store.at_end_of_login = partial(_revoked, logins)
    listed = [{"name": name, "kind": kinds[name], "url": urls[name]} for name in kinds]
    listed += _own_servers(databases, logins)
    described = {"estate": inventory["estate"], "authority": str(authority), "services": listed, "absent": absent}
    beside = state / "services.json.new"
    beside.write_text(json.dumps(described), encoding="utf-8")
    beside.replace(state / "services.json")
    try:
        await _until_told(servers, list(sockets.values()), ready)
    finally:
        for database in databases:
            database.stop()
        for login in logins:
            login.stop()
    store.close()


def _server(app: Any, certificate: tuple[Path, Path] | None) -> _Server:
    """A server of an application, with TLS where it has a certificate (its chain, its key)."""
    chain, key = certificate or (None, None)
    return _Server(
        uvicorn.Config(
            app,
            ssl_certfile=chain,
            ssl_keyfile=key,
            proxy_headers=False,
            log_config=None,
            access_log=False,
            lifespan="off",
            server_header=False,
            date_header=False,
            timeout_graceful_shutdown=3,
        )
    )


def _asserting(
    kinds: Mapping[str, str], inventory: dict[str, Any], store: Store, clock: Clock, urls: Mapping[str, str]
) -> "dict[str, AssertionServer]":
    """The servers that sign assertions (SAML 2.0); no library for that is loaded where there is none."""
    names = [name for name, kind in kinds.items() if kind == "assertions"]
    if not names:
        return {}
    from enthesis_lab.assertions import AssertionServer  # noqa: PLC0415

    return {name: AssertionServer(name, inventory["issuers"][name], store, clock, urls[name]) for name in names}


def _shown_assertions(
    asserting: "Mapping[str, AssertionServer]", store: Store, clock: Clock, cloud: CloudServer
) -> "ShownAssertions | None":
    """What checks the assertions that are shown to a cloud; None where nothing signs any."""
    if not asserting:
        return None
    from enthesis_lab.assertions import ShownAssertions  # noqa: PLC0415

    signing = {server.url: (name, server.certificate) for name, server in asserting.items()}
    recipient = f"{cloud.url}/token"
    return ShownAssertions(store, clock, signing, recipient, frozenset((cloud.name, cloud.url, recipient)))


def _own_servers(databases: list[DatabaseServer], logins: list[LoginServer]) -> list[dict[str, str]]:
    """Servers that are not the lab's own code, as services."""
    return [
        *({"name": server.address, "kind": "database", "access": server.access,
           "url": f"postgresql://{HOST}:{server.port}/{quote(server.database)}"} for server in databases),
        *({"name": server.address, "kind": "login", "access": str(server.folder),
           "url": f"ssh://{HOST}:{server.port}/{quote(server.user)}"} for server in logins),
    ]  # fmt: skip


def _revoked(logins: list[LoginServer], login: str) -> None:
    """Every host is told of a login that ended before its time: its certificate may be known at any."""
    for server in logins:
        server.revoke(serial_of(login))


def _why_not(address: str, fault: Exception) -> str:
    """Why the server of an address does not run: what its start says, or what this machine does, as of a full disk."""
    if isinstance(fault, OSError):
        where = f" ({fault.filename})" if fault.filename else ""
        return f"the server of {address} did not start: {fault.strerror or fault}{where}"
    return str(fault)


def _logins(
    inventory: dict[str, Any], store: Store, authorities: Mapping[str, SshAuthority], absent: dict[str, str],
    urls: Mapping[str, str],
) -> list[LoginServer]:  # fmt: skip
    """The servers of hosts, started; `absent` is told why those that do not run do not. Whoever is logged in at one
    finds the host's metadata service, as what runs there does."""
    ports: dict[str, int] = store.setting("logins", {})
    started: list[LoginServer] = []
    for address, one in own_logins(inventory).items():
        provider = inventory["accounts"][address.split("/", maxsplit=1)[0]]["provider"]
        service = f"{urls[f'{provider}/hosts']}/{host_word(owners_word(store), address)}/{quote(address, safe='/@')}"
        server = LoginServer(address, authorities[one["certificates"]], service)
        try:
            server.start(ports.get(address))
        except (NotInstalled, RuntimeError, OSError) as fault:
            absent[address] = _why_not(address, fault)
            server.stop()
            continue
        ports[address] = server.port
        started.append(server)
    store.set_setting("logins", ports)
    return started


def _databases(
    state: Path, inventory: dict[str, Any], store: Store, clock: Clock, certificate: tuple[Path, Path],
    absent: dict[str, str],
) -> list[DatabaseServer]:  # fmt: skip
    """The servers of databases, started; `absent` is told why those that do not run do not."""
    kept: dict[str, dict[str, Any]] = store.setting("databases", {})
    started: list[DatabaseServer] = []
    for address, one in own_servers(inventory).items():
        known = kept.get(address, {})
        folder = Path(known["folder"]) if known else None
        server = DatabaseServer(address, one["url"], inventory["estate"], folder)
        (state / FOLDERS).write_text(
            json.dumps({**{name: entry["folder"] for name, entry in kept.items()}, address: str(server.folder)})
        )
        kept[address] = {"folder": str(server.folder)}
        try:
            server.start(*certificate, authority_pem(store, one["certificates"], clock), known.get("port"))
            furnish(server, inventory["resources"])
        except (NotInstalled, RuntimeError, OSError) as fault:
            absent[address] = _why_not(address, fault)
            server.stop()
            continue
        kept[address]["port"] = server.port
        started.append(server)
    store.set_setting("databases", kept)
    return started


def _app(
    name: str, kind: str, inventory: dict[str, Any], store: Store, clock: Clock, signers: dict[str, Signer],
    clouds: dict[str, CloudServer], authorities: Sequence[str],
) -> Starlette:  # fmt: skip
    if kind == "cloud":
        return clouds[name].app()
    if kind == "hosts":
        return HostServer(clouds[name.removesuffix("/hosts")]).app()
    if kind == "directory":
        audiences = [cloud.url for cloud in clouds.values()]
        people = inventory["people"]
        return DirectoryServer(name, people, store, clock, signers[name], audiences, list(clouds), authorities).app()
    if kind == "registry":
        cloud = clouds[inventory["accounts"][name.split("/", maxsplit=1)[0]]["provider"]]
        return RegistryServer(name, inventory["resources"][name], store, clock, signers[name], cloud).app()
    if kind == "cluster":
        cluster = ClusterServer(name, store, clock, signers[name])
        cluster.furnish(inventory["resources"])
        return cluster.app()
    providers = {account: one["provider"] for account, one in inventory["accounts"].items()}
    return PipelineServer(name, inventory["issuers"][name], store, clock, signers[name], providers).app()


async def _until_told(servers: list[_Server], sockets: list[socket.socket], ready: int | None) -> None:
    def stop() -> None:
        for server in servers:
            server.should_exit = True

    loop = asyncio.get_running_loop()
    for number in INTERRUPTS:
        loop.add_signal_handler(number, stop)
    tasks = [asyncio.create_task(server.serve(sockets=[one])) for server, one in zip(servers, sockets, strict=True)]
    while not all(server.started for server in servers) and not any(task.done() for task in tasks):
        await asyncio.sleep(0.01)
    if ready is not None and not any(task.done() for task in tasks):
        os.write(ready, b"ready\n")
        os.close(ready)
    await asyncio.gather(*tasks)


def _locked(lock: int) -> bool:
    """Takes the lock; tried for a moment, since the caller whether a lab runs holds it for an instant."""
    for _ in range(50):
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            time.sleep(0.01)
        else:
            return True
    return False


def main() -> int:
    """Runs until SIGTERM; exit 3 where another lab runs in the same folder."""
    for number in INTERRUPTS:
        signal.signal(number, signal.SIG_DFL)
    signal.pthread_sigmask(signal.SIG_UNBLOCK, INTERRUPTS)  # held while this was imported, so that it ends quietly
    state = Path(sys.argv[1])
    ready = int(sys.argv[2]) if len(sys.argv) > 2 else None
    os.umask(0o077)
    lock = os.open(state / "lock", os.O_RDWR | os.O_CREAT, 0o600)  # never closed: held until the process is gone
    if not _locked(lock):
        return 3
    os.ftruncate(lock, 0)
    os.write(lock, str(os.getpid()).encode())
    asyncio.run(_serve(state, ready))
    return 0


if __name__ == "__main__":
    sys.exit(main())

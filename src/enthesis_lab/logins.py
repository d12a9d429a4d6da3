"""Real OpenSSH servers for the hosts of an estate that have addresses of their own, where it is installed.

Each takes certificates of its authority alone, for the principal that is the host's own address in the estate, and lets
their bearers in as the user that the lab runs as.
"""

import os
import pwd
import re
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ed25519

from enthesis_lab.databases import NotInstalled, ending_with_us, free_port, last_said, write_closed
from enthesis_lab.ssh_authority import SshAuthority

PLACES = ("/usr/sbin/sshd", "/usr/local/sbin/sshd", "/opt/sbin/sshd")
HOST = "127.0.0.1"
READY = 15.0  # seconds
ACCEPTED = re.compile(r"Accepted publickey for \S+ from \S+ port (\d+) .*\(serial (\d+)\)")


def program() -> str:
    """Where `sshd` is, by its whole path as it wants to be called; NotInstalled where it is not found."""
    found = next((place for place in PLACES if Path(place).exists()), None) or shutil.which("sshd")
    if found is None:
        raise NotInstalled("OpenSSH's server is not installed (apt-get install openssh-server)")
    return found


class LoginServer:
    """The server of one host."""

    def __init__(self, address: str, authority: SshAuthority, metadata: str = "") -> None:
        self.address = address
        self.metadata = metadata  # where the host's metadata service is, which every login there finds
        self.authority = authority
        self.user = pwd.getpwuid(os.geteuid()).pw_name
        self.folder = Path(tempfile.mkdtemp(prefix="enthesis-ssh-"))
        self.port = 0
        self._process: subprocess.Popen[bytes] | None = None

    @property
    def log(self) -> Path:
        """What it says of logins."""
        return self.folder / "sshd.log"

    def start(self, port: int | None) -> None:
        """Starts it; RuntimeError where it does not come up, or is not installed."""
        sshd, key = program(), ed25519.Ed25519PrivateKey.generate()
        private = key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.OpenSSH, serialization.NoEncryption()
        )
        self.port = free_port(port)
        self._write("host", private)
        self._write("host-cert.pub", self.authority.for_host(key.public_key(), self.address, HOST).encode())
        self._write("authority.pub", f"{self.authority.public}\n".encode())
        self._write("known_hosts", f"@cert-authority * {self.authority.public}\n".encode())
        (self.folder / "principals").mkdir(mode=0o700, exist_ok=True)
        self._write(f"principals/{self.user}", f"{self.address}\n".encode())
        self._write("revoked", b"")
        settings = {
            "Port": self.port, "ListenAddress": HOST, "HostKey": self.folder / "host",
            "HostCertificate": self.folder / "host-cert.pub", "PidFile": "none", "LogLevel": "VERBOSE", "UsePAM": "no",
            "StrictModes": "no", "PasswordAuthentication": "no", "KbdInteractiveAuthentication": "no",
            "AuthorizedKeysFile": "none", "TrustedUserCAKeys": self.folder / "authority.pub",
            "AuthorizedPrincipalsFile": f"{self.folder}/principals/%u", "RevokedKeys": self.folder / "revoked",
        }  # fmt: skip
        settings |= {"SetEnv": f"ENTHESIS_METADATA_URL={self.metadata}"} if self.metadata else {}
        settings |= {"ChannelTimeout": "*=15m"} if _can_end_idle(sshd) else {}
        self._write("sshd_config", "".join(f"{name} {value}\n" for name, value in settings.items()).encode())
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(mode=0o755, exist_ok=True)
        command = [*ending_with_us(), sshd, "-D", "-f", str(self.folder / "sshd_config"), "-E", str(self.log)]
        self._process = subprocess.Popen(  # noqa: S603  our own configuration
            command, cwd="/", stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        deadline = time.monotonic() + READY
        while time.monotonic() < deadline and self._process.poll() is None:
            if self.log.exists() and "Server listening" in self.log.read_text(errors="replace"):
                return
            time.sleep(0.01)
        raise RuntimeError(f"the server of {self.address} did not start{last_said(self.log)}")

    def revoke(self, serial: int) -> None:
        """Puts a certificate on the list of revoked ones, and ends the sessions that it opened."""
        listed = self.folder / "list"
        self._write("list", f"serial: {serial}\n".encode())
        files = [str(self.folder / name) for name in ("revoked", "authority.pub")]
        update = ["-u"] if (self.folder / "revoked").stat().st_size else []
        command = ["ssh-keygen", "-q", "-k", *update, "-f", files[0], "-s", files[1], str(listed)]
        subprocess.run(command, check=True, capture_output=True)  # noqa: S603  our own files
        log = self.log.read_text(errors="replace")
        ports = {int(found[1]) for found in ACCEPTED.finditer(log) if int(found[2]) == serial}
        for pid in self._serving(ports):
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGTERM)

    def _serving(self, ports: set[int]) -> Iterator[int]:
        """The processes that hold our connections with these ports on the other side."""
        inodes: set[str] = set()
        for row in Path("/proc/net/tcp").read_text().splitlines()[1:]:
            words = row.split()
            here, there = (int(words[at].rpartition(":")[2], 16) for at in (1, 2))
            if here == self.port and there in ports:
                inodes.add(f"socket:[{words[9]}]")
        for process in Path("/proc").iterdir() if inodes else ():
            if process.name.isdigit() and process.name != str(os.getpid()):
                with suppress(OSError):
                    if any(str(held.readlink()) in inodes for held in (process / "fd").iterdir()):
                        yield int(process.name)

    def stop(self) -> None:
        """Ends it, and removes what it was started with."""
        if self._process is not None:
            self._process.terminate()
            self._process.wait(READY)
        shutil.rmtree(self.folder, ignore_errors=True)

    def _write(self, name: str, content: bytes) -> None:
        write_closed(self.folder / name, content)


def _can_end_idle(sshd: str) -> bool:
    """Whether a server knows how long a session may be idle (OpenSSH 9.2 and later)."""
    said = subprocess.run([sshd, "-V"], capture_output=True, text=True, check=False)  # noqa: S603  its version
    found = re.search(r"OpenSSH_(\d+)\.(\d+)", said.stderr + said.stdout)
    return found is not None and (int(found[1]), int(found[2])) >= (9, 2)


def own_logins(inventory: Mapping[str, Any]) -> dict[str, Mapping[str, Any]]:
    """The hosts of an inventory that have addresses of their own, by address."""
    return {address: one for address, one in inventory["resources"].items() if "/host/" in address and one.get("url")}

"""Urls of servers: which are contacted at all."""

from urllib.parse import urlsplit

LOOPBACK = ("127.0.0.1", "localhost", "::1")


def is_safe_url(url: str) -> bool:
    """Whether an address is contacted over TLS, or stays on this machine."""
    try:
        parts = urlsplit(url)
        return parts.hostname is not None and (
            parts.scheme == "https" or (parts.scheme == "http" and parts.hostname in LOOPBACK)
        )
    except ValueError:
        return False

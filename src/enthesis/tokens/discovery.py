"""Where a server describes itself, and whether the description is its own: RFC 8414, OpenID Connect Discovery 1.0."""

from collections.abc import Callable, Mapping
from typing import Any
from urllib.parse import urlsplit

OAUTH = "/.well-known/oauth-authorization-server"
OIDC = "/.well-known/openid-configuration"


def places(issuer: str) -> tuple[str, ...]:
    """The urls where the metadata of an issuer may be, in the order in which they are asked.

    RFC 8414, section 3.1, puts the well-known words between host and path; OpenID Connect Discovery 1.0, section 4,
    behind the path. Without a path both are the same form.
    """
    parts = urlsplit(issuer)
    base, path = f"{parts.scheme}://{parts.netloc}", parts.path.rstrip("/")
    return f"{base}{path}{OIDC}", f"{base}{OAUTH}{path}"


def discovered(issuer: str, fetch: Callable[[str], Mapping[str, Any] | None]) -> Mapping[str, Any] | None:
    """The metadata of an issuer, where it is that issuer's own (RFC 8414, section 3.3: the very same identifier).

    `fetch` gives the object at a url, or None where there is none. None where no place has any; an empty mapping where
    one has that of another issuer.
    """
    for place in places(issuer):
        found = fetch(place)
        if found is not None:
            return found if found.get("issuer") == issuer else {}
    return None

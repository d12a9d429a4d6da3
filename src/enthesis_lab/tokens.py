"""Signs and checks the lab's tokens: JWTs (RFC 7519) with the profile of RFC 9068 for sessions."""

import base64
import json
import time
import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import ECKey, RSAKey
from joserfc.util import urlsafe_b64decode

from enthesis_lab.issued_secrets import remember
from enthesis_lab.store import Store

if TYPE_CHECKING:
    from joserfc.jwk import KeyParameters

ALGORITHMS = {"RSA": "RS256", "EC": "ES256"}
KEPT_AFTER_RETIREMENT = 3660 * 86400  # seconds; longer than any session may live
SKEW = 30  # seconds
LAST = 253_402_300_800  # seconds since 1970: no time is after the year 9999
MAX_LEVELS = 16
MAX_TOKEN = 16_384  # characters
SESSION_TYPE = "at+jwt"


class TokenRefused(Exception):
    """The token is not one of ours, or not in time; the message holds nothing of it."""


class TokenExpired(TokenRefused):
    """The token was good once."""


@dataclass
class Clock:
    """The lab's time: the machine's, moved forward by what the store says."""

    store: Store

    def now(self) -> float:
        """Seconds since 1970."""
        return time.time() + float(self.store.setting("clock-ahead", 0))


class Signer:
    """The keys of one service, and the tokens signed with them."""

    def __init__(self, store: Store, clock: Clock, service: str) -> None:
        self.store = store
        self.clock = clock
        self.service = service
        self.issuer = ""
        self._seen: tuple[int, int] | None = None
        self._keys: list[tuple[RSAKey | ECKey, bool]] = []
        self._imported: dict[str, RSAKey | ECKey] = {}

    def ensure_keys(self) -> None:
        """Makes the first two keys, of different types, where there are none."""
        if not any(retired is None for _, _, retired in self.store.keys(self.service)):
            self.make_keys()

    def make_keys(self) -> None:
        """Makes one signing key of each algorithm; those there are already stay valid."""
        now = self.clock.now()
        for kind in ("EC", "RSA"):
            kid = uuid.uuid4().hex
            parameters: KeyParameters = {"kid": kid, "use": "sig", "alg": ALGORITHMS[kind]}
            key = ECKey.generate_key("P-256", parameters) if kind == "EC" else RSAKey.generate_key(2048, parameters)
            self.store.add_key(self.service, kid, json.dumps(key.as_dict(private=True)), now)

    def rotate(self) -> None:
        """New keys sign from now on; the old ones still verify what they signed."""
        now = self.clock.now()
        self.store.retire_keys(self.service, now, now - KEPT_AFTER_RETIREMENT)
        self.make_keys()

    def jwks(self) -> dict[str, Any]:
        """The public keys (RFC 7517, section 5)."""
        return {"keys": [key.as_dict(private=False) for key, _ in self._all()]}

    def sign(self, claims: dict[str, Any], *, typ: str, algorithm: str = "ES256") -> str:
        """A token with these claims; adds iss, iat, nbf and jti. LookupError for an algorithm without a key."""
        now = int(self.clock.now())
        for key, current in self._all():
            if current and ALGORITHMS[key.key_type] == algorithm:
                header = {"typ": typ, "alg": algorithm, "kid": key.kid}
                full = {"iss": self.issuer, "iat": now, "nbf": now, "jti": str(uuid.uuid4()), **claims}
                return remember(jwt.encode(header, full, key, algorithms=[algorithm]))
        raise LookupError(algorithm)

    def verify(self, token: str, *, typ: str) -> dict[str, Any]:
        """The claims of a token that this service signed and that is in time; TokenRefused otherwise."""
        try:
            header, shown = _read(token)
            key = next((key for key, _ in self._all() if key.kid == header.get("kid")), None)
            if key is None:
                raise TokenRefused("the token is signed with a key that is not its issuer's")
            if str(header.get("typ", "")).lower() != typ.lower():
                raise TokenRefused("the token is of another type")
            jwt.decode(token, key, algorithms=[ALGORITHMS[key.key_type]])
        except (JoseError, ValueError, TypeError, KeyError, RecursionError) as fault:
            raise TokenRefused("the token's signature or form is wrong") from fault
        _plain(shown)
        return self._in_time(shown)

    def _in_time(self, claims: dict[str, Any]) -> dict[str, Any]:
        now = self.clock.now()
        times = [claims.get(name) for name in ("exp", "nbf", "iat")]
        if any(isinstance(one, bool) or not isinstance(one, int | float) or not 0 <= one < LAST for one in times):
            raise TokenRefused("the token has no times")
        if claims["exp"] <= now:
            raise TokenExpired("the token has expired")
        if claims["nbf"] > now + SKEW or claims["iat"] > now + SKEW:
            raise TokenRefused("the token is not valid yet")
        if claims.get("iss") != self.issuer:
            raise TokenRefused("the token names another issuer")
        return claims

    def _all(self) -> list[tuple[RSAKey | ECKey, bool]]:
        version = self.store.version()
        if version != self._seen:
            found: list[tuple[RSAKey | ECKey, bool]] = []
            for private, _, retired in self.store.keys(self.service):
                if private not in self._imported:  # importing a key takes far longer than using it
                    data = json.loads(private)
                    key = RSAKey.import_key(data) if data["kty"] == "RSA" else ECKey.import_key(data)
                    self._imported[private] = key
                found.append((self._imported[private], retired is None))
            self._keys, self._seen = found, version
        return self._keys


def _read(token: str) -> tuple[dict[str, Any], dict[str, Any]]:
    """Header and claims, read so that nobody else can read them otherwise; nothing is checked beyond that."""
    parts = token.split(".")
    if len(token) > MAX_TOKEN or len(parts) != 3:
        raise TokenRefused("the token is too long, or no token")
    header, claims = (_object(part) for part in parts[:2])
    _bytes(parts[2])
    if {"crit", "b64", "jwk", "jku", "x5u", "x5c", "enc", "zip", "cty"} & header.keys():
        raise TokenRefused("the token's header is not understood")
    return header, claims


def _bytes(part: str) -> bytes:
    data = urlsafe_b64decode(part.encode())
    if base64.urlsafe_b64encode(data).decode().rstrip("=") != part:  # written in another way than the one there is
        raise TokenRefused("a part of the token is not base64url")
    return data


def _object(part: str) -> dict[str, Any]:
    text = _bytes(part).decode()
    value = json.loads(text, object_pairs_hook=_once, parse_constant=_not_a_number, parse_float=_finite)
    if not isinstance(value, dict):
        raise TokenRefused("a part of the token is not a JSON object")
    json.dumps(value, ensure_ascii=False).encode()  # half a character cannot be written
    if _levels(value) > MAX_LEVELS:
        raise TokenRefused("a part of the token is nested too deeply")
    return value


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    if len({name for name, _ in pairs}) < len(pairs):
        raise TokenRefused("the token has a name twice")
    return dict(pairs)


def _not_a_number(text: str) -> float:
    raise TokenRefused(f"{text} is not a number")


def _finite(text: str) -> float:
    number = float(text)
    if number in (float("inf"), float("-inf")):
        raise TokenRefused("a number in the token is too large")
    return number


def _levels(value: Any) -> int:
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else None
    return 0 if inner is None else 1 + max((_levels(one) for one in inner), default=0)


def _plain(claims: Mapping[str, Any]) -> None:
    """The claims that have a type by their standard have it."""
    audience = claims.get("aud")
    texts = audience if isinstance(audience, list) else [audience]
    if not texts or not all(isinstance(text, str) for text in texts):
        raise TokenRefused("the token is for no audience")
    if not all(isinstance(claims.get(name, ""), str) for name in ("sub", "jti")):
        raise TokenRefused("the token's subject or id is not text")


def unverified_issuer(token: str) -> str:
    """The issuer that a token names, not checked in any way; '' where it names none."""
    try:
        claims = json.loads(urlsafe_b64decode(token.split(".")[1].encode()))
        issuer = claims.get("iss", "")
    except (ValueError, IndexError, AttributeError, RecursionError):
        return ""
    return issuer if isinstance(issuer, str) else ""

"""Whether a signed token is what it says: form, key, signature, type, issuer, audience and time, in this order.

JSON Web Signature in its compact form (RFC 7515, section 3.1) with JWT claims (RFC 7519), checked by the practice of
RFC 8725: an algorithm only with a key that it is for, no `none`, nothing symmetric, no key taken from the token itself,
`crit` and `typ` honoured. Keys, time and what is expected come in as values; the token is never part of an answer.
"""

import binascii
import json
import re
from base64 import urlsafe_b64decode
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from math import isfinite
from typing import Any

from joserfc.errors import JoseError
from joserfc.jwk import ECKey, OKPKey, RSAKey
from joserfc.jws import JWSRegistry

from enthesis.model.errors import EnthesisError

MAX_TOKEN = 16_384  # characters
MAX_DEPTH = 16  # levels of lists and mappings in claims
MAX_KEYS = 100  # keys of one issuer
MIN_RSA = 2048  # bits
LAST_TIME = 253_402_300_799  # seconds since 1970: the end of the year 9999
SKEW = timedelta(seconds=30)
MAX_SKEW = timedelta(minutes=5)
OF_KEY = {
    "RSA": ("RS256", "RS384", "RS512", "PS256", "PS384", "PS512"),
    "P-256": ("ES256",),
    "P-384": ("ES384",),
    "P-521": ("ES512",),
    "Ed25519": ("EdDSA", "Ed25519"),
}
KEY_FROM_TOKEN = ("jwk", "jku", "x5u", "x5c")
PLAIN_TYPES = ("", "jwt")  # of a token that says nothing special of itself
PART = re.compile(rb"[A-Za-z0-9_-]*")

PublicKey = RSAKey | ECKey | OKPKey


class Refused(EnthesisError):
    """The token is not to be believed; `code` is stable, and neither holds anything of it that was secret."""

    def __init__(self, code: str, why: str) -> None:
        super().__init__(why, code=code)
        self.why = self.message


@dataclass(frozen=True, slots=True)
class Key:
    """A public key of an issuer, and the algorithms that it is for."""

    kid: str | None
    algorithms: frozenset[str]
    public: PublicKey


@dataclass(frozen=True, slots=True)
class Keys:
    """The keys of an issuer that can be used; `left_out` says of the others why they cannot."""

    usable: tuple[Key, ...]
    left_out: tuple[str, ...] = ()

    def named(self, kid: str | None) -> tuple[Key, ...]:
        """The keys of this id; for a token that names none, the only one, where there is just one without an id."""
        if kid is not None:
            return tuple(key for key in self.usable if key.kid == kid)
        return self.usable if len(self.usable) == 1 and self.usable[0].kid is None else ()


@dataclass(frozen=True, slots=True)
class Expected:
    """What a token is to be. `audience` None leaves the audience to the conditions of a trust."""

    issuer: str
    now: datetime
    audience: str | None = None
    types: tuple[str, ...] = PLAIN_TYPES
    skew: timedelta = SKEW


@dataclass(frozen=True, slots=True)
class Parsed:
    """A token taken apart, nothing of it believed yet."""

    header: Mapping[str, Any]
    unverified_claims: Mapping[str, Any]
    signed: bytes
    signature: bytes

    @property
    def kid(self) -> str | None:
        """The id of the key that the header names (RFC 7515, section 4.1.4), or None."""
        return self.header.get("kid")


# -- form -----------------------------------------------------------------------------------------------------------


def parsed(token: bytes) -> Parsed:
    """Takes a token apart; Refused where its form is wrong (RFC 7515, section 5.2, steps 1 to 7)."""
    if len(token) > MAX_TOKEN:
        raise Refused("too-long", f"it is longer than {MAX_TOKEN} characters")
    parts = token.split(b".")
    if len(parts) != 3:
        raise Refused("no-token", "it is not three parts joined by dots (RFC 7515)")
    header = _object(_decoded(parts[0], "header"), "header")
    claims = _object(_decoded(parts[1], "claims"), "claims")
    return Parsed(header, claims, token[: len(parts[0]) + 1 + len(parts[1])], _decoded(parts[2], "signature"))


def _decoded(part: bytes, what: str) -> bytes:
    """One part of a token: base64url without padding, and written in the only way there is (RFC 7515, section 2)."""
    if PART.fullmatch(part) is None:
        raise Refused("invalid-base64url", f"its {what} is not base64url")
    try:
        value = urlsafe_b64decode(part + b"=" * (-len(part) % 4))
    except ValueError:
        raise Refused("invalid-base64url", f"its {what} is not base64url") from None
    left = len(part) % 4
    if left and binascii.b2a_base64(value[-(left - 1) :], newline=False).translate(TO_URL)[:left] != part[-left:]:
        raise Refused("invalid-base64url", f"its {what} has bits left over")
    return value


TO_URL = bytes.maketrans(b"+/", b"-_")


def _object(data: bytes, what: str) -> dict[str, Any]:
    """A JSON object: no name twice, no number that is not one, nothing deeper than can be meant, no half characters."""
    try:
        text = data.decode()
        value = _DECODER.decode(text)
    except UnicodeDecodeError:
        raise Refused("not-json", f"its {what} is not UTF-8") from None
    except (ValueError, RecursionError):
        raise Refused("not-json", f"its {what} is not JSON") from None
    if not isinstance(value, dict):
        raise Refused("not-json", f"its {what} is not a JSON object")
    if text.count("{") + text.count("[") > MAX_DEPTH and _depth(value) > MAX_DEPTH:
        raise Refused("too-deep", f"its {what} is nested deeper than {MAX_DEPTH} levels")
    if "\\u" in text and not _is_whole(value):
        raise Refused("half-a-character", f"its {what} holds half a character")
    return value


def _pairs(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        raise Refused("duplicate-key", "it has a name twice")
    return found


def _number(text: str) -> float:
    value = float(text)
    if not isfinite(value):
        raise Refused("no-number", "it holds a number that is none")
    return value


def _no_number(text: str) -> float:
    raise Refused("no-number", f"it holds {text}, which is not a number")


_DECODER = json.JSONDecoder(object_pairs_hook=_pairs, parse_float=_number, parse_constant=_no_number)


def _depth(value: Any) -> int:
    """How deep a value is nested; counted no further than is allowed."""
    depth, level = 0, [value]
    while level and depth <= MAX_DEPTH:
        inner: list[Any] = []
        for entry in level:
            inner += entry.values() if isinstance(entry, dict) else entry if isinstance(entry, list) else ()
        depth, level = depth + 1, [one for one in inner if isinstance(one, dict | list)]
    return depth


def _is_whole(value: Any) -> bool:
    try:
        json.dumps(value, ensure_ascii=False).encode()
    except UnicodeEncodeError:
        return False
    return True


# -- keys -----------------------------------------------------------------------------------------------------------


def keys_of(published: Any) -> Keys:
    """The keys in a key set (RFC 7517, section 5); Refused where it is not one. What cannot be used is left out."""
    listed = published.get("keys") if isinstance(published, Mapping) else None
    if not isinstance(listed, list) or len(listed) > MAX_KEYS:
        raise Refused("no-key-set", f"this is not a key set of at most {MAX_KEYS} keys (RFC 7517)")
    usable: list[Key] = []
    left_out: list[str] = []
    for number, one in enumerate(listed, 1):
        try:
            usable.append(_key(one))
        except Refused as why:
            left_out.append(f"key {number}: {why.why}")
    ids = [key.kid for key in usable if key.kid is not None]
    if len(set(ids)) != len(ids):
        raise Refused("no-key-set", "it has two keys of one id")
    return Keys(tuple(usable), tuple(left_out))


def _key(entry: Any) -> Key:
    """One public key for signatures, of a size that is safe."""
    if not isinstance(entry, dict):
        raise Refused("no-key", "it is not a JSON object")
    if "d" in entry or "k" in entry:
        raise Refused("no-key", "it is secret, and a key that is published cannot be")
    operations = entry.get("key_ops", ["verify"])
    if entry.get("use", "sig") != "sig" or not isinstance(operations, list) or "verify" not in operations:
        raise Refused("no-key", "it is not for checking signatures")
    if entry.get("kty") == "RSA" and len(str(entry.get("n"))) * 6 < MIN_RSA:  # six bits a character
        raise Refused("no-key", f"it is shorter than {MIN_RSA} bits")
    kid = entry.get("kid")
    if kid is not None and not isinstance(kid, str):
        raise Refused("no-key", "its id is not text")
    kinds: dict[str, type[RSAKey] | type[ECKey] | type[OKPKey]] = {"RSA": RSAKey, "EC": ECKey, "OKP": OKPKey}
    try:
        public = kinds[entry["kty"]].import_key({name: value for name, value in entry.items() if name != "alg"})
        name = "RSA" if entry["kty"] == "RSA" else str(entry["crv"])
    except (JoseError, ValueError, TypeError, KeyError, AttributeError):
        raise Refused("no-key", "it is not understood") from None
    algorithms = frozenset(OF_KEY.get(name, ()))
    if isinstance(entry.get("alg"), str):
        algorithms &= {entry["alg"]}
    if not algorithms:
        raise Refused("no-key", "no supported algorithm fits it")
    return Key(kid, algorithms, public)


# -- all of it ------------------------------------------------------------------------------------------------------


def check_header(token: Parsed, expected: Expected) -> str:
    """The algorithm of a token whose header can be followed; Refused otherwise (RFC 8725, sections 3.1 to 3.11)."""
    header = token.header
    algorithm = header.get("alg")
    if not isinstance(algorithm, str) or algorithm not in _ALGORITHMS:
        raise Refused("algorithm", "its algorithm is none that is taken here")
    if "crit" in header or "b64" in header:
        raise Refused("critical", "its header requires an extension that is not understood here (crit)")
    for name in KEY_FROM_TOKEN:
        if name in header:
            raise Refused("own-key", f"it brings a key of its own ({name})")
    if "enc" in header or "zip" in header or str(header.get("cty", "")).lower() in ("jwt", "application/jwt"):
        raise Refused("wrapped", "it is packed or encrypted")
    if not isinstance(header.get("kid", ""), str):
        raise Refused("unknown-key", "its key id is not text")
    kind = header.get("typ", "")
    if not isinstance(kind, str) or kind.lower().removeprefix("application/") not in expected.types:
        raise Refused("type", "it is a token of another type (typ)")
    return algorithm


_ALGORITHMS = frozenset(name for names in OF_KEY.values() for name in names)


def check_signature(token: Parsed, algorithm: str, keys: Keys) -> None:
    """Refused where none of the issuer's keys of this id, meant for this algorithm, signed the token."""
    named = keys.named(token.kid)
    if not named:
        raise Refused("unknown-key", "it names a key that is not its issuer's")
    fitting = [key for key in named if algorithm in key.algorithms]
    if not fitting:
        raise Refused("algorithm", "its algorithm is not the one of its key")
    if not any(_verifier(algorithm).verify(token.signed, token.signature, key.public) for key in fitting):
        raise Refused("signature", "its signature is wrong")


@lru_cache(maxsize=len(_ALGORITHMS))
def _verifier(algorithm: str) -> Any:
    return JWSRegistry.algorithms[algorithm]


def check_claims(token: Parsed, expected: Expected) -> Mapping[str, Any]:
    """The registered claims (RFC 7519, section 4.1): the right issuer and audience, in time; Refused otherwise."""
    claims = token.unverified_claims
    if claims.get("iss") != expected.issuer:
        raise Refused("issuer", "it names another issuer")
    for name in ("sub", "jti"):
        if name in claims and not isinstance(claims[name], str):
            raise Refused("claim-not-string", f"its {name} is not text")
    audiences = claims.get("aud")
    audiences = [audiences] if isinstance(audiences, str) else audiences
    if not isinstance(audiences, list) or not audiences or not all(isinstance(audience, str) for audience in audiences):
        raise Refused("audience", "it says of no audience that it is for it")
    if expected.audience is not None and expected.audience not in audiences:
        raise Refused("audience", "it is for another audience")
    now, skew = expected.now.timestamp(), min(expected.skew, MAX_SKEW).total_seconds()
    ends = _time(claims, "exp")
    if ends is None:
        raise Refused("time", "it has no end (exp)")
    if ends <= now - skew:
        raise Refused("expired", "it has expired")
    starts, made = _time(claims, "nbf"), _time(claims, "iat")
    if starts is not None and starts > now + skew:
        raise Refused("time", "it is not valid yet (nbf)")
    if made is not None and made > now + skew:
        raise Refused("time", "it was made in the future (iat)")
    return claims


def _time(claims: Mapping[str, Any], name: str) -> float | None:
    """Seconds since 1970 (RFC 7519, section 2: NumericDate); None where the claim is not there."""
    if name not in claims:
        return None
    value = claims[name]
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value <= LAST_TIME:
        raise Refused("time", f"its {name} is not a time")
    return float(value)


def believed(token: bytes, keys: Keys, expected: Expected) -> Mapping[str, Any]:
    """The claims of a token that is to be believed; Refused otherwise. What it costs is mostly the signature."""
    taken = parsed(token)
    check_signature(taken, check_header(taken, expected), keys)
    return check_claims(taken, expected)

"""A corpus of hostile tokens: each is one that an attacker, or a broken signer, might show. None is to be believed.

Made for one good set of claims and the keys of the issuer that signs it; every token names what is wrong with it.
"""

import base64
import hashlib
import hmac
import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature

ALPHABET = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"


def packed(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).decode().rstrip("=")


def es256(key: ec.EllipticCurvePrivateKey, data: bytes) -> bytes:
    r, s = decode_dss_signature(key.sign(data, ec.ECDSA(hashes.SHA256())))
    return r.to_bytes(32, "big") + s.to_bytes(32, "big")


def rs256(key: rsa.RSAPrivateKey, data: bytes) -> bytes:
    return key.sign(data, padding.PKCS1v15(), hashes.SHA256())


@dataclass(frozen=True)
class Signing:
    """The keys of the issuer, private halves and all, and what a good token of it says."""

    ec_key: ec.EllipticCurvePrivateKey
    ec_kid: str
    rsa_key: rsa.RSAPrivateKey
    rsa_kid: str
    claims: Mapping[str, Any]
    now: int

    def token(
        self,
        header: Mapping[str, Any] | bytes | None = None,
        claims: Mapping[str, Any] | bytes | None = None,
        sign: Callable[[bytes], bytes] | None = None,
    ) -> str:
        """A token rightly signed with the issuer's key unless something is said to be otherwise."""
        whole: Any = {"typ": "JWT", "alg": "ES256", "kid": self.ec_kid}
        first = header if isinstance(header, bytes) else json.dumps({**whole, **(header or {})}).encode()
        second = claims if isinstance(claims, bytes) else json.dumps({**self.claims, **(claims or {})}).encode()
        signed = f"{packed(first)}.{packed(second)}"
        made = (sign or (lambda data: es256(self.ec_key, data)))(signed.encode())
        return f"{signed}.{packed(made)}"

    def raw_claims(self, added: str) -> bytes:
        """The good claims with text added before the last brace, which no honest writer of JSON would write."""
        return (json.dumps(dict(self.claims))[:-1] + added + "}").encode()


Hostile = Iterator[tuple[str, str]]


def hostile(by: Signing) -> Hostile:
    """Name and token of each."""
    yield from algorithms(by)
    yield from signatures(by)
    yield from strangers_keys(by)
    yield from headers(by)
    yield from forms(by)
    yield from claims(by)


def algorithms(by: Signing) -> Hostile:
    public_pem = by.rsa_key.public_key().public_bytes(
        serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo
    )
    public_der = by.ec_key.public_key().public_bytes(
        serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo
    )

    def mac(secret: bytes) -> Callable[[bytes], bytes]:
        return lambda data: hmac.new(secret, data, hashlib.sha256).digest()

    def none(data: bytes) -> bytes:
        return b""

    for name in ("none", "None", "NONE", "nOnE", ""):
        yield f"algorithm {name!r} without a signature", by.token({"alg": name}, sign=none)
        yield f"algorithm {name!r} with the old signature", by.token({"alg": name})
    yield "symmetric with the public key as PEM", by.token({"alg": "HS256", "kid": by.rsa_kid}, sign=mac(public_pem))
    yield "symmetric with the public key as DER", by.token({"alg": "HS256"}, sign=mac(public_der))
    yield "symmetric with an empty secret", by.token({"alg": "HS256"}, sign=mac(b""))
    yield "symmetric with the key id as secret", by.token({"alg": "HS256"}, sign=mac(by.ec_kid.encode()))
    yield "the algorithm of another key", by.token({"alg": "RS256"})
    yield "another key's algorithm and signature", by.token({"alg": "RS256"}, sign=lambda d: rs256(by.rsa_key, d))
    yield "a longer hash than the key is for", by.token({"alg": "ES384"})
    yield (
        "padding the key is not published for",
        by.token({"alg": "PS256", "kid": by.rsa_kid}, sign=lambda d: rs256(by.rsa_key, d)),
    )
    yield "an algorithm nobody knows", by.token({"alg": "ES257"})
    yield "the algorithm in small letters", by.token({"alg": "es256"})
    yield "the algorithm as a list", by.token({"alg": ["ES256"]})
    yield "no algorithm", by.token(json.dumps({"typ": "JWT", "kid": by.ec_kid}).encode())


def signatures(by: Signing) -> Hostile:
    good = by.token()
    head, body, signature = good.split(".")
    yield "no signature", f"{head}.{body}."
    yield "a signature of zeros", by.token(sign=lambda data: bytes(64))
    yield "a signature cut short", f"{head}.{body}.{signature[:-8]}"
    yield "a signature in DER", by.token(sign=lambda data: by.ec_key.sign(data, ec.ECDSA(hashes.SHA256())))
    yield (
        "another body under the signature",
        f"{head}.{by.token(claims={'sub': 'project/x'}).split('.')[1]}.{signature}",
    )
    yield "another head over the signature", f"{by.token({'typ': 'jwt'}).split('.')[0]}.{body}.{signature}"


def strangers_keys(by: Signing) -> Hostile:
    stranger_ec, stranger_rsa = ec.generate_private_key(ec.SECP256R1()), rsa.generate_private_key(65537, 2048)

    def mac(secret: bytes) -> Callable[[bytes], bytes]:
        return lambda data: hmac.new(secret, data, hashlib.sha256).digest()

    yield "a stranger's key under our id", by.token(sign=lambda data: es256(stranger_ec, data))
    yield (
        "a stranger's long key under our id",
        by.token({"alg": "RS256", "kid": by.rsa_kid}, sign=lambda data: rs256(stranger_rsa, data)),
    )
    yield "an id nobody has", by.token({"kid": "nobody"})
    yield "no key id", by.token(json.dumps({"typ": "JWT", "alg": "ES256"}).encode())
    yield "a key id that is a path", by.token({"kid": "../../../../dev/null"}, sign=mac(b""))
    yield "a key id that is a query", by.token({"kid": "x' OR 'a'='a"})
    yield "a key id that is a number", by.token({"kid": 1})
    yield "a key id that is null", by.token({"kid": None})
    yield "a key id with a null in it", by.token({"kid": by.ec_kid + "\x00"})
    numbers = stranger_ec.public_key().public_numbers()
    own = {
        "kty": "EC", "crv": "P-256", "kid": "own",
        "x": packed(numbers.x.to_bytes(32, "big")), "y": packed(numbers.y.to_bytes(32, "big")),
    }  # fmt: skip

    def by_stranger(data: bytes) -> bytes:
        return es256(stranger_ec, data)

    yield "its own key inside", by.token({"jwk": own, "kid": "own"}, sign=by_stranger)
    yield "its own key inside under our id", by.token({"jwk": {**own, "kid": by.ec_kid}}, sign=by_stranger)
    yield (
        "its own key inside and no id",
        by.token(json.dumps({"typ": "JWT", "alg": "ES256", "jwk": own}).encode(), sign=by_stranger),
    )
    yield "an address of its own keys", by.token({"jku": "https://elsewhere.example/keys"}, sign=by_stranger)
    yield "an address of its own certificate", by.token({"x5u": "https://elsewhere.example/c"}, sign=by_stranger)
    yield "its own certificate inside", by.token({"x5c": [base64.b64encode(b"certificate").decode()]}, sign=by_stranger)
    yield "our signature, and its own key beside", by.token({"jwk": own})
    yield "our signature, and an address beside", by.token({"jku": "http://169.254.0.1/"})


def headers(by: Signing) -> Hostile:
    yield "something critical nobody knows", by.token({"crit": ["exp-soon"], "exp-soon": 1})
    yield "something critical of the standard", by.token({"crit": ["b64"], "b64": False})
    yield "nothing critical", by.token({"crit": []})
    yield "a session for a token", by.token({"typ": "at+jwt"})
    yield "a notice of logging out for a token", by.token({"typ": "logout+jwt"})
    yield "a type that is a number", by.token({"typ": 7})
    yield "packed inside another", by.token({"cty": "JWT"})
    yield "packed small", by.token({"zip": "DEF"})
    yield "encrypted by its header", by.token({"enc": "A128GCM"})


def forms(by: Signing) -> Hostile:
    good = by.token()
    head, body, signature = good.split(".")
    whole = json.dumps({"typ": "JWT", "alg": "ES256", "kid": by.ec_kid})
    yield "a header named twice", by.token((whole[:-1] + ', "alg": "ES256"}').encode())
    yield "a header named twice, once as none", by.token(('{"alg": "none", ' + whole[1:]).encode())
    yield "a header that is a list", by.token(b"[]")
    yield "claims that are a list", by.token(claims=b"[]")
    yield "claims that are a text", by.token(claims=b'"sub"')
    yield "claims that are nothing", by.token(claims=b"")
    yield "claims that are not JSON", by.token(claims=b"{sub: x}")
    yield "claims and more after them", by.token(claims=by.raw_claims("") + b"{}")
    yield "claims in another encoding", by.token(claims=json.dumps(dict(by.claims)).encode("utf-16"))
    yield "claims with a mark before them", by.token(claims=b"\xef\xbb\xbf" + by.raw_claims(""))
    yield "claims that are not UTF-8", by.token(claims=by.raw_claims(', "x": "')[:-1] + b'\xff"}')
    yield "half a character", by.token(claims=by.raw_claims(', "x": "\\ud800"'))
    yield "half a character in a name", by.token(claims=by.raw_claims(', "\\udc00": 1'))
    yield "a subject named twice", by.token(claims=by.raw_claims(f', "sub": {json.dumps(by.claims["sub"])}'))
    yield "a subject named twice, once spelt out", by.token(claims=by.raw_claims(', "s\\u0075b": "x"'))
    yield "a name twice further in", by.token(claims=by.raw_claims(', "x": {"a": 1, "a": 2}'))
    yield "not a number", by.token(claims=by.raw_claims(', "x": NaN'))
    yield "an end that is not a number", by.token(claims={"exp": float("nan")})
    yield "an end that never comes", by.token(claims={"exp": float("inf")})
    yield "a number too large to be one", by.token(claims=by.raw_claims(', "x": 1e999'))
    yield "a number of five thousand digits", by.token(claims=by.raw_claims(', "x": ' + "9" * 5000))
    yield "nested a thousand deep", by.token(claims=by.raw_claims(', "x": ' + "[" * 1000 + "]" * 1000))
    yield "nested a hundred thousand deep", by.token(claims=by.raw_claims(', "x": ' + "[" * 100_000 + "]" * 100_000))
    yield "nested forty deep", by.token(claims=by.raw_claims(', "x": ' + '{"a":' * 40 + "1" + "}" * 40))
    yield "a hundred thousand characters", by.token(claims={"x": "x" * 100_000})
    yield "two parts", f"{head}.{body}"
    yield "four parts", f"{good}.{signature}"
    yield "five parts", f"{head}.{body}.{signature}.{signature}.{signature}"
    yield "padding in a part", f"{head}.{body}.{signature}=="
    yield "a space in a part", f"{head}.{body[:10]} {body[10:]}.{signature}"
    yield "a line break in a part", f"{head}.{body[:10]}\n{body[10:]}.{signature}"
    yield "letters of the other base64", f"{head}.{body}.+/{signature[2:]}"
    last = ALPHABET[ALPHABET.index(signature[-1]) ^ 1]
    yield "bits left over in the signature", f"{head}.{body}.{signature[:-1]}{last}"
    yield "a letter that looks like another", f"{head}.{body}.{signature[:-1]}а"


def claims(by: Signing) -> Hostile:
    for name in ("exp", "nbf", "iat"):
        for what, value in (
            ("a text", str(by.now)), ("true", True), ("null", None), ("a list", [by.now]), ("before all time", -1),
            ("after all time", 10**15), ("huge", 10**400),
        ):  # fmt: skip
            yield f"{name} is {what}", by.token(claims={name: value})
    yield "no end", by.token(claims=json.dumps({n: v for n, v in by.claims.items() if n != "exp"}).encode())
    yield "ended an hour ago", by.token(claims={"exp": by.now - 3600})
    yield "ended a minute ago", by.token(claims={"exp": by.now - 60})
    yield "begins in ten minutes", by.token(claims={"nbf": by.now + 600})
    yield "made in ten minutes", by.token(claims={"iat": by.now + 600})
    yield "another issuer", by.token(claims={"iss": "https://elsewhere.example"})
    yield "the issuer and a stroke", by.token(claims={"iss": by.claims["iss"] + "/"})
    yield "the issuer in capitals", by.token(claims={"iss": by.claims["iss"].upper()})
    yield "the issuer as a list", by.token(claims={"iss": [by.claims["iss"]]})
    yield "no issuer", by.token(claims=json.dumps({n: v for n, v in by.claims.items() if n != "iss"}).encode())
    yield "no audience", by.token(claims=json.dumps({n: v for n, v in by.claims.items() if n != "aud"}).encode())
    yield "audience nobody", by.token(claims={"aud": []})
    yield "audience a number", by.token(claims={"aud": 7})
    yield "audience with a number beside", by.token(claims={"aud": ["elsewhere", 7]})
    yield "another audience", by.token(claims={"aud": "elsewhere"})
    yield "the audience and a space", by.token(claims={"aud": by.claims["aud"] + " "})
    yield "a subject that is a list", by.token(claims={"sub": [by.claims["sub"]]})
    yield "a subject that is a mapping", by.token(claims={"sub": {"eq": by.claims["sub"]}})
    yield "the subject and a line break", by.token(claims={"sub": by.claims["sub"] + "\n"})
    yield "the subject and a null", by.token(claims={"sub": by.claims["sub"] + "\x00"})
    yield "the subject and a mark of no width", by.token(claims={"sub": by.claims["sub"] + "\u200b"})
    yield "the subject written from right to left", by.token(claims={"sub": "\u202e" + by.claims["sub"][::-1]})
    yield "the subject in look-alike letters", by.token(claims={"sub": by.claims["sub"].replace("a", "а")})
    yield (
        "the subject in wide letters",
        by.token(claims={"sub": "".join(chr(ord(c) + 0xFEE0) if "!" <= c <= "~" else c for c in by.claims["sub"])}),
    )
    yield "the subject in capitals", by.token(claims={"sub": by.claims["sub"].upper()})
    yield "the subject with a letter put together", by.token(claims={"sub": by.claims["sub"].replace("i", "i\u0307")})
    yield "the subject by a way round", by.token(claims={"sub": "project/x/../" + by.claims["sub"].split("/", 1)[1]})

"""Who asks a cloud: sessions of any cloud of the lab, people who signed in, bearers of tokens and of keys."""

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from enthesis_lab.access_keys import Keyed
from enthesis_lab.deciding import LabCaller, World, organisation_of
from enthesis_lab.people import is_revoked, mfa_of
from enthesis_lab.problems import Problem
from enthesis_lab.scim import is_active
from enthesis_lab.shown_certificates import ShownCertificates, header_of
from enthesis_lab.store import Store
from enthesis_lab.tokens import SESSION_TYPE, Clock, Signer, TokenExpired, TokenRefused, unverified_issuer

if TYPE_CHECKING:
    from enthesis_lab.assertions import ShownAssertions

MAX_CHAIN = 20  # hops


class CallerTokens:
    """The callers of one cloud. `signers` are those of all services of the lab, by name; `world` is what it knows."""

    def __init__(
        self, name: str, store: Store, clock: Clock, signers: Mapping[str, Signer], world: Callable[[], World]
    ) -> None:
        self.name = name
        self.store = store
        self.clock = clock
        self.signers = signers
        self.signer = signers[name]
        self.keyed = Keyed(store)
        self.world = world
        self.certificates: ShownCertificates | None = None  # of the authorities of the lab, once they run
        self.assertions: ShownAssertions | None = None  # of its identity providers, once they run

    @property
    def url(self) -> str:
        """The url of the service, which is also the issuer of its sessions."""
        return self.signer.issuer

    def administrator(self, token: str) -> str | LabCaller:
        """The boundary that a session administers, or any other caller and needs the permissions for each thing."""
        if unverified_issuer(token) == self.url:
            holder = self.own_session(token).get("administers")
            if isinstance(holder, str):
                return holder
        return self.of_session(token)

    def own_session(self, token: str) -> dict[str, Any]:
        """The claims of a session of this cloud itself; a Problem where the token is not one."""
        try:
            claims = self.signer.verify(token, typ=SESSION_TYPE)
        except TokenRefused as fault:
            raise _not_taken(fault) from None
        if claims.get("aud") != self.url:
            raise Problem(401, "invalid-token", "the token is meant for another audience")
        return self._standing(claims)

    def _of_session(self, signer: Signer, token: str) -> dict[str, Any]:
        """The claims of a session of this cloud, or of what another cloud states for this one about a session there."""
        return self.own_session(token) if signer is self.signer else self._stated(signer, token)

    def _stated(self, signer: Signer, token: str) -> dict[str, Any]:
        """What another cloud states for this one, with the times of the session that it is about; TokenRefused where it
        is for another caller: a session itself is for its own cloud alone."""
        try:
            claims = signer.verify(token, typ="JWT")
        except TokenExpired:
            raise
        except TokenRefused:
            raise TokenRefused("a session of another cloud opens nothing here, but what that states for us") from None
        if claims.get("aud") != self.url or not isinstance(claims.get("session"), dict):
            raise TokenRefused("the statement is meant for another audience")
        return self._standing({**claims, **claims["session"]})

    def _standing(self, claims: dict[str, Any]) -> dict[str, Any]:
        """The claims of a session whose sign-in stands; a Problem where that was ended, and the session with it."""
        began = claims.get("signed_in")
        if isinstance(began, dict) and is_revoked(self.store, began):
            raise _not_taken(TokenExpired("the sign-in that this session began with was ended"))
        origin = claims.get("origin", {})
        if origin.get("kind") == "person" and not is_active(self.store, str(origin.get("address"))):
            raise _not_taken(TokenExpired("the directory has the person inactive with whom this session began"))
        if any(is_revoked(self.store, {"jti": session}) for session in _sessions(claims)):
            raise _not_taken(TokenExpired("the session was ended"))
        return claims

    def of_session(self, token: str) -> LabCaller:
        """The caller of an attempt: a session of this cloud, or of another one, which works nowhere here; a person who
        has signed in; or the bearer of a static token."""
        issuer = unverified_issuer(token)
        known = self._person(token, issuer) or self._static(token, issuer)
        if known is not None:
            return known
        other = self._signer(issuer)
        if other is not None and other is not self.signer and other.service in self.world().inventory["providers"]:
            try:
                return self._caller(self._stated(other, token), other.service)
            except TokenExpired as fault:
                raise _not_taken(fault) from None
            except TokenRefused as fault:  # a session works at the provider that it was obtained from
                raise Problem(403, "refused", str(fault), refused_at=["provider"]) from None
        return self._caller(self.own_session(token), self.name)

    def _signer(self, issuer: str) -> Signer | None:
        """Whose tokens name this issuer; None where nobody's in the lab do."""
        return next((signer for signer in self.signers.values() if signer.issuer == issuer), None)

    def _person(self, token: str, issuer: str) -> LabCaller | None:
        """A caller who signed in at the directory of an organisation; None where the token is none of a directory's.

        TokenRefused becomes a problem here; a sign-in that was ended refuses as an ended session does.
        """
        signer = self._signer(issuer)
        if signer is None or not signer.service.startswith("@"):
            return None
        try:
            claims = signer.verify(token, typ=SESSION_TYPE)
            if is_revoked(self.store, claims):
                raise TokenExpired("the sign-in was ended")
            if not is_active(self.store, str(claims.get("sub"))):
                raise TokenExpired("the directory has this person inactive")
        except TokenRefused as fault:
            raise _not_taken(fault) from None
        audience = claims["aud"] if isinstance(claims["aud"], list) else [claims["aud"]]
        found = self.world().identity_at(str(claims.get("sub")))
        if self.url not in audience or found is None or found.body["kind"] != "person":
            raise Problem(401, "invalid-token", "the sign-in is meant for others")
        address = found.body["address"]
        origin = {"kind": "person", "address": address, "organisation": organisation_of(self.world(), address)}
        mfa = mfa_of(claims)
        origin |= {"mfa": mfa} if mfa is not None else {}
        signed_in = {"jti": claims["jti"], "exp": claims["exp"]}
        return LabCaller(
            "person", address, found.id, self.name, origin=origin, actor=_actor(claims), signed_in=signed_in
        )

    def _static(self, token: str, issuer: str) -> LabCaller | None:
        """The bearer of a static token, which names no issuer; None where it is not one of ours."""
        found = self.keyed.shown(self.name, token) if not issuer else None
        return self.by_key(found) if found is not None and found["form"] == "static-token" else None

    def by_key(self, credential: Mapping[str, Any]) -> LabCaller:
        """The identity whose key was shown."""
        identity = self.world().identity(credential["of"])
        if identity is None:
            raise Problem(
                401, "invalid-token", "the identity of this credential no longer exists", refused_at=["names"]
            )
        address = identity.body["address"]
        origin = {
            "kind": "credential",
            "address": address,
            "organisation": organisation_of(self.world(), address),
            "credential": credential["id"],
        }
        return LabCaller("identity", address, identity.id, self.name, origin=origin, key=credential["id"])

    def _caller(self, claims: Mapping[str, Any], provider: str) -> LabCaller:
        if "administers" in claims and provider != self.name:
            raise Problem(401, "invalid-token", "the token is meant for another audience")
        if "administers" in claims:
            raise Problem(403, "only-administration", "an administrator's session opens no place")
        details = claims.get("authorization_details", [])
        if "runs_on" in claims:
            return LabCaller(
                "resource", claims["sub"], provider=provider, origin=claims.get("origin", {}), first=False,
                signed_in=claims.get("signed_in", {}), sessions=_sessions(claims),
            )  # fmt: skip
        return LabCaller(
            "identity",
            claims["sub"],
            claims["sub_id"],
            provider,
            origin=claims.get("origin", {}),
            narrowings=tuple(detail["kinds"] for detail in details),
            ends=claims["exp"],
            started=claims["iat"],
            signed_in=claims.get("signed_in", {}),
            sessions=_sessions(claims),
            first=not claims.get("act"),
        )

    def of_subject(self, token: str) -> LabCaller:
        """Who shows this token: a bearer of it or of a certificate, a person, or a session of any cloud of the lab."""
        if self.certificates is not None and "x5c" in header_of(token):
            named, subject = self.certificates.claims_in(token)
            return LabCaller(
                "bearer", claims=subject, issuer=named, origin={"kind": "certificate", "issuer": named},
                actor={"sub": str(subject["subject"])},
            )  # fmt: skip
        issuer = unverified_issuer(token)
        known = self._person(token, issuer) or self._static(token, issuer)
        if known is not None:
            return known
        signer = self._signer(issuer)
        if signer is None:
            raise TokenRefused("the token's issuer is not known here")
        if signer.service in self.world().inventory["providers"]:
            claims = self._of_session(signer, token)
            if _depth(claims) >= MAX_CHAIN:
                raise TokenRefused(f"the chain is longer than {MAX_CHAIN} hops")
            return replace(self._caller(claims, signer.service), actor=_actor(claims))
        claims = signer.verify(token, typ="JWT")
        named = self._issuer_named(signer.service)
        owner = {"kind": "token", "issuer": named}
        own = {name: value for name, value in claims.items() if name not in ("iss", "exp", "iat", "nbf", "jti")}
        return LabCaller("bearer", claims=own, issuer=named, origin=owner, actor=_actor(claims))

    def of_assertion(self, shown: str) -> LabCaller:
        """Who shows an assertion (base64url): a bearer of what its issuer says. TokenRefused where it is not taken."""
        if self.assertions is None:
            raise TokenRefused("no assertions are taken here")
        named, said = self.assertions.attributes_in(shown)
        return LabCaller(
            "bearer", claims=said, issuer=named, origin={"kind": "assertion", "issuer": named},
            actor={"sub": str(said["sub"])} if "sub" in said else {}, meant_for_us=self.assertions.names_us(said),
        )  # fmt: skip

    def _issuer_named(self, service: str) -> str:
        """The name that a service has as an issuer: its own, or for a cluster the issuer that is said to be its."""
        issuers = self.world().inventory["issuers"]
        named = next((name for name, one in issuers.items() if one.get("cluster") == service), service)
        if named not in issuers:
            raise TokenRefused("the token's issuer is not known here")
        return named


def _not_taken(fault: TokenRefused) -> Problem:
    """A token that is not taken; one that has expired refuses as access does, at the step of its session."""
    more = {"refused_at": ["session"]} if isinstance(fault, TokenExpired) else {}
    return Problem(401, "invalid-token", str(fault), **more)


def _actor(claims: Mapping[str, Any]) -> dict[str, Any]:
    """Who acts, and on whose behalf before (RFC 8693, section 4.1)."""
    return {name: claims[name] for name in ("iss", "sub", "act") if name in claims}


def _sessions(claims: Mapping[str, Any]) -> tuple[str, ...]:
    """The ids of a session and of those that it was obtained with."""
    chain = claims.get("chain", ())
    return (*(str(one) for one in chain if isinstance(chain, list)), str(claims.get("jti")))


def _depth(claims: Mapping[str, Any]) -> int:
    depth, actor = 0, claims.get("act")
    while isinstance(actor, dict) and actor:
        depth, actor = depth + 1, actor.get("act")
    return depth

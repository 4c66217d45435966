"""Who a token speaks for: bearer JWTs (RFC 6750, RFC 7519) by shared secret or by an issuer's keys (RFC 7517)."""

from __future__ import annotations

import asyncio
import hashlib
import time
from dataclasses import dataclass
from math import ceil, isfinite
from typing import Any, NamedTuple

import httpx
import jwt
import structlog
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from jwt.exceptions import InvalidSubjectError

from nestrel.core.problems import StoreUnavailable, Unauthenticated
from nestrel.core.text import check_display_name, check_picture, check_user_id
from nestrel.service.minting import SERVICE_SCOPE
from nestrel.service.settings import Settings

log = structlog.get_logger()

_ALGORITHMS = {("RSA", None): "RS256", ("EC", "P-256"): "ES256", ("OKP", "Ed25519"): "EdDSA"}
_REFETCH_SECONDS = 5.0
_CACHED_TOKENS = 20_000
_TOKEN_CHARS = 16 * 1024
_RSA_BITS = 2048
_KEY_BYTES = 8


class _WrongKey(Unauthenticated):
    """The signature is none of this key's."""


@dataclass(frozen=True, slots=True)
class Identity:
    """What a verified token says, or a browser's `session` that was begun with one. A name or a picture that is not
    said, or not fit to be kept, is None. `expires_at` and `issued_at` are in seconds since 1970; `key` stands for the
    key that verified it."""

    user_id: str
    display_name: str | None
    picture: str | None
    service: bool
    expires_at: float
    issued_at: float | None = None
    session: bytes | None = None
    key: bytes = b"\x00" * _KEY_BYTES


def fingerprint(key: bytes) -> bytes:
    """What a key is known by where it may not be shown."""
    return hashlib.blake2b(key, digest_size=_KEY_BYTES, person=b"nestrel-key").digest()


class IssuerKey(NamedTuple):
    """A public key, the one algorithm that it is for, and what it is known by."""

    key: Any
    algorithm: str
    fingerprint: bytes


_UNKNOWN = 1_000


def _unread(seconds: int = 5) -> StoreUnavailable:
    return StoreUnavailable("the token issuer's keys cannot be read at the moment", retry_after=seconds)


class IssuerKeys:
    """An issuer's public keys by key id. Fetched when first needed, when older than `seconds`, and for a key id not
    seen before, but then not more often than every few seconds, whoever asks, and whether or not it answers. An id
    counts as unknown when the issuer was asked for it and did not have it, and not before."""

    def __init__(self, url: str, seconds: float = 600.0) -> None:
        self._url = url
        self._seconds = seconds
        self._keys: dict[str | None, IssuerKey] = {}
        self._fetched = float("-inf")
        self._tried = float("-inf")
        self._fetching: asyncio.Task[None] | None = None
        self._unknown: set[str | None] = set()
        """Ids that the issuer did not have when it was asked last."""
        self._unusable: set[str | None] = set()
        """Ids of keys that it has, and that no token may be signed with here."""

    async def holds(self, fingerprint: bytes) -> bool:
        """Whether the issuer has a key that is known so. Raises as `find`."""
        self._look_again(unknown=False)
        if self._fetching is not None and not self._keys:
            await asyncio.shield(self._fetching)
        if not self._keys:
            raise _unread()
        return any(key.fingerprint == fingerprint for key in self._keys.values())

    async def find(self, key_id: str | None) -> IssuerKey | None:
        """The key; None if the issuer has no such key.

        Raises:
            StoreUnavailable: the key is not known here, and the issuer does not answer, or was asked a moment ago: it
                may have a new one.
        """
        asked = time.monotonic()
        self._look_again(unknown=key_id not in self._keys)
        if key_id in self._keys:
            return self._keys[key_id]
        nowhere = key_id is None or key_id in self._unknown or key_id in self._unusable
        if self._fetching is None and self._keys and nowhere:
            return None
        if self._fetching is not None:
            await asyncio.shield(self._fetching)  # many may wait for one answer; old keys serve meanwhile
        if key_id in self._keys:
            return self._keys[key_id]
        if self._fetched < asked:
            raise _unread(max(1, ceil(self._tried + _REFETCH_SECONDS - time.monotonic())))
        if self._tried < asked:
            raise _unread()  # what was under way had begun before: the issuer may have it by now
        if len(self._unknown) >= _UNKNOWN:
            self._unknown.clear()
        self._unknown.add(key_id)
        return None

    async def look(self) -> int:
        """Ask the issuer now; how many keys of use it has.

        Raises:
            ValueError: it does not answer, or not with keys; the text says what came instead.
        """
        try:
            await self._fetch()
        except (httpx.HTTPError, ValueError, KeyError, TypeError, AttributeError) as error:
            raise ValueError(str(error) or type(error).__name__) from None
        return len(self._keys)

    def _look_again(self, *, unknown: bool) -> None:
        now = time.monotonic()
        old = now - self._fetched > self._seconds
        if (old or unknown) and now - self._tried > _REFETCH_SECONDS and self._fetching is None:
            self._tried = now
            self._unknown.clear()
            self._fetching = asyncio.create_task(self._refresh())

    async def _refresh(self) -> None:
        try:
            await self._fetch()
            self._fetched = time.monotonic()
        except (httpx.HTTPError, ValueError, KeyError, TypeError, AttributeError) as error:
            log.warning("issuer.keys_not_read", url=self._url, reason=str(error) or type(error).__name__)
        finally:
            self._fetching = None

    async def _fetch(self) -> None:
        async with httpx.AsyncClient(timeout=5) as client:
            answer = (await client.get(self._url)).raise_for_status().json()
        keys: dict[str | None, IssuerKey] = {}
        unusable = {raw.get("kid") for raw in answer["keys"]}
        for raw in answer["keys"]:
            algorithm = _ALGORITHMS.get((raw.get("kty"), raw.get("crv")))
            if algorithm is None or raw.get("use", "sig") != "sig" or raw.get("alg", algorithm) != algorithm:
                continue
            key = jwt.PyJWK(raw, algorithm).key
            if algorithm == "RS256" and key.key_size < _RSA_BITS:
                log.warning("issuer.key_too_small", key_id=raw.get("kid"), bits=key.key_size)
                continue
            spelled = key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
            keys[raw.get("kid")] = IssuerKey(key, algorithm, fingerprint(spelled))
        self._keys, self._unusable = keys, unusable - keys.keys()


class _Verified(NamedTuple):
    """A token that was verified, with the issuer's key that it was (`by_issuer`)."""

    identity: Identity
    by_issuer: bool
    key_id: str | None


class TokenVerifier:
    """Verifies tokens. Which key and algorithm apply follows from the configuration and the key id, never from the
    token's own `alg`."""

    def __init__(self, settings: Settings) -> None:
        self._secrets = settings.secrets
        self._known = {secret: fingerprint(secret.encode()) for secret in settings.secrets}
        self._keys = IssuerKeys(settings.jwks_url, settings.jwks_seconds) if settings.jwks_url else None
        self._issuer = settings.issuer
        self._audience = settings.audience
        self._longest = settings.token_seconds
        self._cache: dict[str, _Verified] = {}

    async def verify(self, token: str) -> Identity:
        """The identity of a bearer token.

        Raises:
            Unauthenticated: it is malformed, forged, expired or meant for someone else; the detail says which.
        """
        cached = self._cache.get(token)
        if cached is not None:
            if cached.identity.expires_at > time.time() and await self._still_signed(cached):
                return cached.identity
            self._cache.pop(token, None)
        if len(token) > _TOKEN_CHARS:
            raise Unauthenticated(f"a token has at most {_TOKEN_CHARS:,} characters")
        verified = await self._verify(token)
        if len(self._cache) >= _CACHED_TOKENS:
            self._cache.clear()
        self._cache[token] = verified
        return verified.identity

    async def _still_signed(self, cached: _Verified) -> bool:
        """Whether the issuer still has the key: a token does not outlive it."""
        if not cached.by_issuer:
            return True
        assert self._keys is not None
        return await self._keys.find(cached.key_id) is not None

    async def _verify(self, token: str) -> _Verified:
        try:
            key_id = jwt.get_unverified_header(token).get("kid")
        except (jwt.PyJWTError, ValueError, RecursionError):
            raise Unauthenticated("the token is not a JSON Web Token") from None
        unread: StoreUnavailable | None = None
        if self._keys is not None and (key_id is not None or not self._secrets):
            try:
                found = await self._keys.find(key_id)
            except StoreUnavailable as problem:
                found, unread = None, problem  # it may be signed with a secret all the same
            if found is not None:
                claims = self._decode(token, found.key, found.algorithm)
                return _Verified(self._identity(claims, found.fingerprint), True, key_id)
        wrong: Unauthenticated = Unauthenticated("the token is not signed with a key of the issuer")
        for secret in self._secrets:
            try:
                return self._verified_by(secret, token)
            except _WrongKey as problem:
                wrong = problem
        raise unread or wrong

    def _verified_by(self, secret: str, token: str) -> _Verified:
        return _Verified(self._identity(self._decode(token, secret, "HS256"), self._known[secret]), False, None)

    async def still_known(self, key: bytes) -> bool:
        """Whether what was verified by a key would be so today: the secret is configured, or the issuer has the key.

        Raises:
            StoreUnavailable: no keys of the issuer are known, and it does not answer.
        """
        if key in self._known.values():
            return True
        return self._keys is not None and await self._keys.holds(key)

    def _decode(self, token: str, key: Any, algorithm: str) -> dict[str, Any]:
        try:
            claims: dict[str, Any] = jwt.decode(
                token,
                key,
                algorithms=[algorithm],
                issuer=self._issuer,
                audience=self._audience,
                options={
                    "require": ["exp", "sub"],
                    "verify_aud": self._audience is not None,
                    "verify_iss": self._issuer is not None,
                    "verify_iat": False,
                },
            )
        except jwt.ExpiredSignatureError:
            raise Unauthenticated("the token has expired; get a new one") from None
        except jwt.MissingRequiredClaimError as error:
            raise Unauthenticated(f"the token has no claim {error.claim!r}") from None
        except jwt.InvalidAudienceError:
            raise Unauthenticated("the token is for another audience") from None
        except jwt.InvalidIssuerError:
            raise Unauthenticated("the token is from another issuer") from None
        except InvalidSubjectError:
            raise Unauthenticated("the token's sub must be text (RFC 7519, 4.1.2)") from None
        except (jwt.InvalidSignatureError, jwt.InvalidAlgorithmError):
            raise _WrongKey("the token's signature or form is not valid") from None
        except (jwt.PyJWTError, ValueError, TypeError, OverflowError, RecursionError):
            raise Unauthenticated("the token's signature or form is not valid") from None
        expires = claims["exp"]
        if isinstance(expires, bool) or not isinstance(expires, (int, float)):
            raise Unauthenticated("the token's exp must be a number (RFC 7519, 4.1.4)")
        if expires > time.time() + self._longest:
            raise Unauthenticated(f"the token is valid for longer than this service takes: {self._longest:,} s")
        return claims

    def _identity(self, claims: dict[str, Any], key: bytes) -> Identity:
        try:
            user_id = check_user_id(claims["sub"])
        except (ValueError, TypeError) as error:
            raise Unauthenticated(f"the token's sub cannot be used: it {error}") from None
        scope = claims.get("scope")
        return Identity(
            user_id=user_id,
            display_name=_usable(claims.get("name"), check_display_name),
            picture=_usable(claims.get("picture"), check_picture),
            service=isinstance(scope, str) and SERVICE_SCOPE in scope.split(),
            expires_at=float(claims["exp"]),
            issued_at=_issued(claims.get("iat")),
            key=key,
        )


def _issued(claim: Any) -> float | None:
    """When a token was issued, if it says so in a form that can be used."""
    if isinstance(claim, bool) or not isinstance(claim, (int, float)) or not isfinite(claim):
        return None
    return float(claim)


def _usable(claim: Any, check: Any) -> str | None:
    """An optional claim, if it is fit to be kept: a poor name is no reason to turn someone away."""
    if not isinstance(claim, str):
        return None
    try:
        kept: str = check(claim)
    except ValueError:
        return None
    return kept

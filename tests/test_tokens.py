"""Who a token speaks for: by secret and by an issuer's keys, and every way to be turned away."""

from __future__ import annotations

import asyncio
import base64
import json
import time
from collections.abc import Callable
from typing import Any

import httpx
import jwt
import pytest
from click.testing import CliRunner
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from pydantic import SecretStr

from nestrel.cli.main import main
from nestrel.core.problems import StoreUnavailable, Unauthenticated
from nestrel.service import tokens
from nestrel.service.loading import SettingsError, load_settings
from nestrel.service.settings import Settings
from nestrel.service.tokens import TokenVerifier
from tests.support import PATIENCE, SECRET, Served, token

SOON = int(time.time()) + 86_400
ISSUER, AUDIENCE = "https://issuer.example", "nestrel"
RSA, EC, OKP = (
    rsa.generate_private_key(65537, 2048),
    ec.generate_private_key(ec.SECP256R1()),
    ed25519.Ed25519PrivateKey.generate(),
)
_KEYS: dict[str, tuple[Any, str]] = {"rsa": (RSA, "RS256"), "ec": (EC, "ES256"), "okp": (OKP, "EdDSA")}


def unsigned(claims: dict[str, Any], algorithm: str = "none") -> str:
    parts = [json.dumps({"alg": algorithm, "typ": "JWT"}), json.dumps(claims)]
    return ".".join(base64.urlsafe_b64encode(part.encode()).rstrip(b"=").decode() for part in parts) + "."


def claims(**changed: Any) -> dict[str, Any]:
    full = {"sub": "mara", "exp": int(time.time()) + 60, "iss": ISSUER, "aud": AUDIENCE, **changed}
    return {name: value for name, value in full.items() if value is not None}


@pytest.mark.parametrize(
    "header",
    [
        None, "", "Bearer", "Basic bWFyYTo=", "Bearer nonsense", "Bearer a.b.c", "Bearer é",
        "Bearer " + unsigned({"sub": "mara", "exp": SOON}),
        "Bearer " + unsigned({"sub": "mara", "exp": SOON}, "HS256"),
        "Bearer " + token("mara", secret="another-secret-that-is-long-enough-too"),
        "Bearer " + token("mara", seconds=-1),
        "Bearer " + jwt.encode({"sub": "mara"}, SECRET, "HS256"),
        "Bearer " + jwt.encode({"exp": SOON}, SECRET, "HS256"),
        "Bearer " + jwt.encode({"sub": "", "exp": SOON}, SECRET, "HS256"),
        "Bearer " + jwt.encode({"sub": "m" * 129, "exp": SOON}, SECRET, "HS256"),
        "Bearer " + jwt.encode({"sub": "a\x00b", "exp": SOON}, SECRET, "HS256"),
        "Bearer " + jwt.encode({"sub": "mara", "exp": SOON}, SECRET, "HS512"),
        "Bearer " + jwt.encode({"sub": "mara", "exp": SOON}, RSA, "RS256"),
        "Bearer " + token("mara")[:-2],
        "Bearer " + jwt.encode({"sub": "mara", "exp": str(SOON)}, SECRET, "HS256"),
        "Bearer " + jwt.encode({"sub": "mara", "exp": 10**400}, SECRET, "HS256"),
        "Bearer " + jwt.encode({"sub": "mara", "exp": True}, SECRET, "HS256"),
        "Bearer " + jwt.encode({"sub": "mara", "exp": SOON + 400 * 86_400}, SECRET, "HS256"),
        "Bearer " + token("me"),
        "Bearer " + "e" * 20_000,
    ],
    ids=lambda value: str(value)[:30],
)  # fmt: skip
def test_a_poor_token_is_401_with_a_reason(service: Served, header: str | None) -> None:
    headers = {b"Authorization": header.encode()} if header is not None else {}
    answer = httpx.get(f"{service.url}/v1/me", headers=headers)
    assert answer.status_code == 401
    assert answer.json()["type"] == "/problems/unauthenticated"
    assert answer.headers["www-authenticate"].startswith("Bearer")


def test_a_user_id_of_any_script_is_fine(service: Served) -> None:
    for user in ("Ünïcode 船", "船" * 128, "a b/c?d#e%2F"):
        answer = httpx.get(f"{service.url}/v1/me", headers={"Authorization": f"Bearer {token(user)}"})
        assert answer.json()["user_id"] == user


@pytest.fixture
def issuer(monkeypatch: pytest.MonkeyPatch) -> dict[str, Any]:
    """An issuer whose keys and answers the test sets; `asked` counts how often they were fetched."""
    state: dict[str, Any] = {"keys": list(_KEYS), "asked": 0, "away": False}

    def answer(_request: httpx.Request) -> httpx.Response:
        state["asked"] += 1
        if state["away"]:
            raise httpx.ConnectError("away")
        found = []
        for name in state["keys"]:
            private, algorithm = _KEYS[name]
            raw: dict[str, Any] = jwt.get_algorithm_by_name(algorithm).to_jwk(private.public_key(), as_dict=True)
            found.append({**raw, "kid": name, "use": "sig"})
        found.append({"kty": "oct", "kid": "symmetric", "k": base64.urlsafe_b64encode(b"s" * 32).decode()})
        return httpx.Response(200, json={"keys": found})

    transport, client = httpx.MockTransport(answer), httpx.AsyncClient
    monkeypatch.setattr(httpx, "AsyncClient", lambda **options: client(transport=transport, **options))
    return state


@pytest.fixture
def verifier() -> Callable[..., TokenVerifier]:
    def make(**extra: Any) -> TokenVerifier:
        return TokenVerifier(Settings(jwks_url=ISSUER + "/jwks", issuer=ISSUER, audience=AUDIENCE, **extra))

    return make


async def test_keys_of_an_issuer_verify_their_own_algorithm(issuer: dict[str, Any], verifier: Any) -> None:
    check = verifier()
    for name, (private, algorithm) in _KEYS.items():
        signed = jwt.encode(claims(scope="nestrel.service"), private, algorithm, {"kid": name})
        identity = await check.verify(signed)
        assert (identity.user_id, identity.service) == ("mara", True)
    assert issuer["asked"] == 1


async def test_a_key_that_the_issuer_has_withdrawn_keeps_no_session(
    issuer: dict[str, Any], verifier: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    check = verifier(jwt_secret=SecretStr(SECRET))
    by_rsa = await check.verify(jwt.encode(claims(), RSA, "RS256", {"kid": "rsa"}))
    by_secret = await check.verify(jwt.encode(claims(), SECRET, "HS256"))
    assert by_rsa.key != by_secret.key
    assert [await check.still_known(one.key) for one in (by_rsa, by_secret)] == [True, True]
    issuer["keys"] = ["ec"]
    check._keys._seconds = 0.0
    monkeypatch.setattr(tokens, "_REFETCH_SECONDS", 0.0)
    await check.verify(jwt.encode(claims(), EC, "ES256", {"kid": "ec"}))  # has the keys read anew
    await asyncio.sleep(0)
    while await check.still_known(by_rsa.key):
        await asyncio.sleep(0)
    assert await check.still_known(by_secret.key)


async def test_confusions_are_refused(issuer: dict[str, Any], verifier: Any) -> None:
    """The public key as a shared secret, one key's id with another's signature, no signature, an unknown key."""
    public = RSA.public_key().public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo)
    header = base64.urlsafe_b64encode(b'{"alg":"HS256","kid":"rsa"}').rstrip(b"=")
    payload = base64.urlsafe_b64encode(json.dumps(claims()).encode()).rstrip(b"=")
    mac = jwt.get_algorithm_by_name("HS256").sign(header + b"." + payload, public)
    confused = b".".join((header, payload, base64.urlsafe_b64encode(mac).rstrip(b"="))).decode()
    bad = [
        confused,
        jwt.encode(claims(), EC, "ES256", {"kid": "rsa"}),
        jwt.encode(claims(), RSA, "RS512", {"kid": "rsa"}),
        jwt.encode(claims(), RSA, "PS256", {"kid": "rsa"}),
        jwt.encode(claims(), b"s" * 32, "HS256", {"kid": "symmetric"}),
        jwt.encode(claims(), RSA, "RS256"),
        jwt.encode(claims(), SECRET, "HS256"),
        unsigned(claims()),
        jwt.encode(claims(aud="another"), RSA, "RS256", {"kid": "rsa"}),
        jwt.encode(claims(aud=None), RSA, "RS256", {"kid": "rsa"}),
        jwt.encode(claims(iss="https://other.example"), RSA, "RS256", {"kid": "rsa"}),
        jwt.encode(claims(exp=None), RSA, "RS256", {"kid": "rsa"}),
    ]
    check = verifier()
    for one in bad:
        with pytest.raises(Unauthenticated):
            await check.verify(one)
    assert issuer["asked"] == 1


@pytest.mark.parametrize("beside", [{}, {"jwt_secret": SecretStr(SECRET)}], ids=["alone", "with a secret"])
async def test_an_unknown_key_is_said_to_be_so_only_by_the_issuer(
    issuer: dict[str, Any], verifier: Any, monkeypatch: pytest.MonkeyPatch, beside: dict[str, Any]
) -> None:
    """It may be new: whoever is told 401 signs out. So it is 503 until the issuer was asked for it."""
    check = verifier(**beside)
    issuer["keys"] = ["rsa", "ec"]
    await check.verify(jwt.encode(claims(), RSA, "RS256", {"kid": "rsa"}))
    signed = jwt.encode(claims(), OKP, "EdDSA", {"kid": "okp"})
    for _ in range(20):
        with pytest.raises(StoreUnavailable) as away:
            await check.verify(signed)
        assert 1 <= (away.value.retry_after or 0) <= 5
    assert issuer["asked"] == 1, "unknown keys make us ask again and again"
    monkeypatch.setattr(tokens, "_REFETCH_SECONDS", 0.0)
    issuer["away"] = True
    with pytest.raises(StoreUnavailable):
        await check.verify(signed)
    issuer["away"] = False
    with pytest.raises(Unauthenticated):
        await check.verify(signed)
    monkeypatch.setattr(tokens, "_REFETCH_SECONDS", 60.0)
    asked = issuer["asked"]
    for _ in range(20):
        with pytest.raises(Unauthenticated):  # it was asked for, and is not there
            await check.verify(signed)
    assert issuer["asked"] == asked
    monkeypatch.setattr(tokens, "_REFETCH_SECONDS", 0.0)
    issuer["keys"].append("okp")
    assert (await check.verify(signed)).user_id == "mara"


async def test_what_a_secret_signs_needs_no_issuer(issuer: dict[str, Any], verifier: Any) -> None:
    check = verifier(jwt_secret=SecretStr(SECRET))
    issuer["away"] = True
    named = jwt.encode(claims(), SECRET, "HS256", {"kid": "ours"})
    assert (await check.verify(named)).user_id == "mara"
    with pytest.raises(StoreUnavailable):
        await check.verify(jwt.encode(claims(), "x" * 32, "HS256", {"kid": "theirs"}))


@pytest.mark.filterwarnings("ignore:The RSA key is 1024 bits")  # which is what this is about
async def test_a_token_does_not_outlive_its_key_and_a_small_key_is_none(
    issuer: dict[str, Any], verifier: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    check, signed = verifier(), jwt.encode(claims(), EC, "ES256", {"kid": "ec"})
    assert (await check.verify(signed)).user_id == "mara"
    issuer["keys"].remove("ec")
    assert (await check.verify(signed)).user_id == "mara"  # the keys that are known are not old yet
    check._keys._seconds = 0.0
    monkeypatch.setattr(tokens, "_REFETCH_SECONDS", 0.0)
    with pytest.raises(Unauthenticated):
        async with asyncio.timeout(PATIENCE):
            while await check.verify(signed):
                await asyncio.sleep(0)  # old keys serve while the new ones are on their way
    small = rsa.generate_private_key(65537, 1024)
    monkeypatch.setitem(_KEYS, "small", (small, "RS256"))
    issuer["keys"].append("small")
    with pytest.raises(Unauthenticated):
        await verifier().verify(jwt.encode(claims(), small, "RS256", {"kid": "small"}))


async def test_secret_and_issuer_beside_each_other(issuer: dict[str, Any], verifier: Any) -> None:
    check = verifier(jwt_secret=SecretStr(SECRET))
    for signed in (jwt.encode(claims(), SECRET, "HS256"), jwt.encode(claims(), EC, "ES256", {"kid": "ec"})):
        assert (await check.verify(signed)).user_id == "mara"
    with pytest.raises(Unauthenticated):
        await check.verify(jwt.encode(claims(aud="another"), SECRET, "HS256"))


async def test_an_issuer_that_is_away_is_no_fault_of_the_caller(
    issuer: dict[str, Any], verifier: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    check, signed = verifier(), jwt.encode(claims(), RSA, "RS256", {"kid": "rsa"})
    issuer["away"] = True
    for _ in range(20):
        with pytest.raises(StoreUnavailable):
            await check.verify(signed)
    assert issuer["asked"] == 1, "every request asked an issuer that is down"
    issuer["away"] = False
    monkeypatch.setattr(tokens, "_REFETCH_SECONDS", 0.0)
    assert (await check.verify(signed)).user_id == "mara"


def test_settings_say_what_is_wrong(monkeypatch: pytest.MonkeyPatch, tmp_path: Any) -> None:
    monkeypatch.chdir(tmp_path)
    for name, value, words in (
        ("NESTREL_JWT_SECRET", "short", "32 bytes"),
        ("NESTREL_JWT_SECRET", f"{SECRET},", "empty secret"),
        ("NESTREL_JWT_SECRET", f"{SECRET}, short", "secret 2 of 2"),
        ("NESTREL_JWT_SECRET_FILE", "/nowhere/secret", "No such file"),
        ("NESTREL_PUBLIC_URL", "https://example.org/chat/", "must have no path"),
        ("NESTREL_PUBLIC_URL", "example.org", "the whole address"),
        ("NESTREL_RATELIMIT", "5", "did you mean NESTREL_RATE_LIMIT"),
        ("NESTREL_ORIGIN", "https://a.example", "did you mean NESTREL_ORIGINS"),
        ("NESTREL_DATABASE_URL", "mysql://x", "postgresql://"),
        ("NESTREL_PORT", "99999", "65535"),
        ("NESTREL_BUS", "smoke", "redis://"),
        ("NESTREL_JWKS_URL", "https://issuer.example/jwks", "NESTREL_AUDIENCE"),
    ):
        with monkeypatch.context() as patched:
            patched.setenv(name, value)
            with pytest.raises(SettingsError, match=words):
                load_settings()
    (tmp_path / "nestrel.toml").write_text('port = 8500\nhost = "127.0.0.2"\n')
    for text, words in (
        ("port = ", "nestrel.toml cannot be read"),
        ("prot = 1", "did you mean port"),
        ("x = '\xff'", "cannot be read"),
    ):
        (tmp_path / "nestrel.toml").write_bytes(text.encode("latin-1"))
        with pytest.raises(SettingsError, match=words):
            load_settings()
    (tmp_path / "nestrel.toml").write_text('port = 8500\nhost = "127.0.0.2"\n')
    monkeypatch.setenv("NESTREL_SERVICE_HOST", "10.0.0.1")  # as an orchestrator sets it
    monkeypatch.setenv("NESTREL_PORT_8460_TCP_ADDR", "10.0.0.1")
    monkeypatch.setenv("NESTREL_PORT", "8501")
    assert (load_settings().port, load_settings().host, load_settings(port=1).port) == (8501, "127.0.0.2", 1)


async def test_secrets_are_read_alike_everywhere(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Any, make_database: Callable[[], str]
) -> None:
    """One parser: what the command signs with the service takes, and while secrets change it takes both."""
    monkeypatch.chdir(tmp_path)
    new, old = "n" * 40, "o" * 40
    file = tmp_path / "secret"
    file.write_text(f"{new}\n{old}\n")
    for env in ({"NESTREL_JWT_SECRET": f" {new} , {old}"}, {"NESTREL_JWT_SECRET_FILE": str(file)}):
        with monkeypatch.context() as patched:
            for name, value in env.items():
                patched.setenv(name, value)
            settings = load_settings()
            assert settings.secrets == (new, old)
            made = CliRunner().invoke(main, ["token", "mara"])
        assert made.exit_code == 0, made.output
        assert jwt.decode(made.output.strip(), new, ["HS256"])["sub"] == "mara"
        check = TokenVerifier(settings)
        for signed in (made.output.strip(), token("mara", secret=new), token("mara", secret=old)):
            assert (await check.verify(signed)).user_id == "mara"
        with pytest.raises(Unauthenticated):
            await check.verify(token("mara", secret="x" * 40))
    with monkeypatch.context() as patched, pytest.raises(SettingsError, match="not both"):
        patched.setenv("NESTREL_JWT_SECRET", new)
        patched.setenv("NESTREL_JWT_SECRET_FILE", str(file))
        load_settings()


def test_a_sub_that_is_a_number_is_told_so(service: Served) -> None:
    signed = jwt.encode({"sub": 7, "exp": SOON}, SECRET, "HS256")
    answer = httpx.get(f"{service.url}/v1/me", headers={"Authorization": f"Bearer {signed}"})
    assert (answer.status_code, "sub must be text" in answer.json()["detail"]) == (401, True)

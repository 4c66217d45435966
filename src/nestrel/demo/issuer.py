"""A stand-in identity issuer for the demo: OpenID Connect discovery, JWKS, and the authorization code flow with PKCE.

It signs in whoever is chosen on its page, without a password. It is for one machine: it refuses to start on any
address that is not loopback.
"""

from __future__ import annotations

import base64
import hashlib
import ipaddress
import json
import time
from collections.abc import Callable, Sequence
from html import escape
from secrets import token_urlsafe
from typing import Annotated, Any
from urllib.parse import parse_qs, urlencode, urlsplit

import jwt
from cryptography.hazmat.primitives.asymmetric import ec
from fastapi import FastAPI, Query, Request
from starlette.middleware.cors import CORSMiddleware
from starlette.responses import HTMLResponse, JSONResponse, RedirectResponse, Response

from nestrel.demo.scenario import OFFICE, PEOPLE, Person
from nestrel.service.minting import SERVICE_SCOPE

_CODE_SECONDS = 120
_TOKEN_SECONDS = 12 * 3600
_CODES_MOST = 1_000

_PAGE = """<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>Who are you today? · Skerry Line demo</title>
<style>
 :root {{ color-scheme: light dark; --paper: #faf8f2; --ink: #10243e; --line: #c9cfd6; --mark: #c8501a; }}
 @media (prefers-color-scheme: dark) {{
   :root {{ --paper: #0b1523; --ink: #d5dfea; --line: #2b3a4e; --mark: #ff8a4c; }} }}
 body {{ font: 16px/1.5 system-ui, sans-serif; background: var(--paper); color: var(--ink); margin: 0; }}
 main {{ max-width: 34rem; margin: 8vh auto; padding: 0 1rem; }}
 h1 {{ font-size: 1.25rem; }} p {{ opacity: .8; }}
 ul {{ list-style: none; padding: 0; border-top: 1px solid var(--line); }}
 li a {{ display: flex; justify-content: space-between; gap: 1rem; padding: .6rem .5rem; color: inherit;
   text-decoration: none; border-bottom: 1px solid var(--line); }}
 li a:hover, li a:focus-visible {{ outline: 2px solid var(--mark); outline-offset: -2px; }}
 small {{ opacity: .75; }}
</style>
<main><h1>Who are you today?</h1>
<p>This stand-in issuer runs only in the demo. Choose a member of the Skerry Line.</p>
<ul>{people}</ul></main></html>
"""


class IssuerError(Exception):
    """The issuer will not start like this."""


def check_loopback(host: str) -> None:
    """Raise `IssuerError` unless `host` is a loopback address."""
    try:
        loopback = ipaddress.ip_address(host).is_loopback
    except ValueError:
        loopback = host == "localhost"
    if not loopback:
        raise IssuerError(f"the demo's issuer signs in anyone who asks: it runs on loopback only, not on {host}")


_SIGN_IN = (*PEOPLE, OFFICE)
_RETURNS = ("/console/signed-in", "/console/signed-in-beside")
_LEAVES = ("/console/",)


def origins_of(port: int) -> tuple[str, ...]:
    """The origins of a console on this machine: a browser calls loopback by either name."""
    return f"http://127.0.0.1:{port}", f"http://localhost:{port}"


def make_issuer(
    issuer: str, audience: str, client_id: str, origins: Sequence[str], clock: Callable[[], float] = time.time
) -> FastAPI:
    """The issuer's application. `issuer` is its own address, `audience` what its access tokens are for, `origins` those
    of the one console that it serves: nobody else is handed a code, or may read an answer.

    Raises:
        IssuerError: the address is not loopback.
    """
    check_loopback(urlsplit(issuer).hostname or "")
    returns = {origin + path for origin in origins for path in _RETURNS}
    leaves = {origin + path for origin in origins for path in _LEAVES}
    key = ec.generate_private_key(ec.SECP256R1())
    key_id = token_urlsafe(8)
    codes: dict[str, tuple[Person, str, str, str | None, float]] = {}
    app = FastAPI(docs_url=None, redoc_url=None, openapi_url=None)
    app.add_middleware(CORSMiddleware, allow_origins=list(origins), allow_methods=["GET", "POST"])

    @app.get("/.well-known/openid-configuration")
    async def discovery() -> dict[str, Any]:
        return {
            "issuer": issuer,
            "authorization_endpoint": f"{issuer}/authorize",
            "token_endpoint": f"{issuer}/token",
            "jwks_uri": f"{issuer}/jwks",
            "end_session_endpoint": f"{issuer}/leave",
            "response_types_supported": ["code"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["ES256"],
            "code_challenge_methods_supported": ["S256"],
            "scopes_supported": ["openid", "profile", SERVICE_SCOPE],
            "token_endpoint_auth_methods_supported": ["none"],
        }

    @app.get("/jwks")
    async def jwks() -> dict[str, Any]:
        public = json.loads(jwt.algorithms.ECAlgorithm.to_jwk(key.public_key()))
        return {"keys": [{**public, "kid": key_id, "use": "sig", "alg": "ES256"}]}

    @app.get("/authorize")
    async def authorize(
        redirect_uri: str,
        code_challenge: str,
        client: Annotated[str, Query(alias="client_id")],
        code_challenge_method: str = "S256",
        state: str = "",
        nonce: str | None = None,
        member: str | None = None,
        login_hint: str | None = None,
        prompt: str | None = None,
    ) -> Response:
        if redirect_uri not in returns or client != client_id or code_challenge_method != "S256":
            return HTMLResponse("<p>This request does not come from the demo's console.</p>", 400)
        query = {"redirect_uri": redirect_uri, "code_challenge": code_challenge, "client_id": client, "state": state}
        if nonce:
            query["nonce"] = nonce
        # Who was here before goes on without being asked again, unless the console wants the question asked.
        wanted = member or (login_hint if prompt != "select_account" else None)
        person = next((person for person in _SIGN_IN if person.user_id == wanted), None)
        if person is None:
            return HTMLResponse(_PAGE.format(people="".join(_item(person, query) for person in _SIGN_IN)))
        code = token_urlsafe(24)
        if len(codes) >= _CODES_MOST:
            codes.clear()
        codes[code] = (person, code_challenge, redirect_uri, nonce, clock() + _CODE_SECONDS)
        return RedirectResponse(f"{redirect_uri}?{urlencode({'code': code, 'state': state})}", 303)

    @app.post("/token")
    async def exchange(request: Request) -> Response:
        form = {name: values[0] for name, values in parse_qs((await request.body()).decode()).items()}
        grant_type, code, code_verifier, redirect_uri = (
            form.get(name, "") for name in ("grant_type", "code", "code_verifier", "redirect_uri")
        )
        found = codes.pop(code, None)
        challenge = base64.urlsafe_b64encode(hashlib.sha256(code_verifier.encode()).digest()).rstrip(b"=").decode()
        if grant_type != "authorization_code" or found is None or found[1:3] != (challenge, redirect_uri):
            return JSONResponse({"error": "invalid_grant"}, 400)
        person, _, _, nonce, until = found
        if until < clock():
            return JSONResponse({"error": "invalid_grant", "error_description": "the code is too old"}, 400)
        now = int(clock())
        claims = {"iss": issuer, "sub": person.user_id, "name": person.name, "iat": now, "exp": now + _TOKEN_SECONDS}
        headers = {"kid": key_id}
        scope = f"openid profile {SERVICE_SCOPE}" if person is OFFICE else "openid profile"
        access = jwt.encode({**claims, "aud": audience, "scope": scope}, key, "ES256", headers)
        identity = jwt.encode(
            {**claims, "aud": client_id, **({"nonce": nonce} if nonce else {})}, key, "ES256", headers
        )
        answer = {"access_token": access, "id_token": identity, "token_type": "Bearer", "expires_in": _TOKEN_SECONDS,
                  "scope": scope}  # fmt: skip
        return JSONResponse(answer, headers={"Cache-Control": "no-store"})

    @app.get("/leave")
    async def leave(post_logout_redirect_uri: str) -> Response:
        if post_logout_redirect_uri not in leaves:
            return HTMLResponse("<p>Signed out.</p>")
        return RedirectResponse(post_logout_redirect_uri, 303)

    return app


def _item(person: Person, query: dict[str, str]) -> str:
    address = escape("/authorize?" + urlencode({**query, "member": person.user_id}))
    return f'<li><a href="{address}"><b>{escape(person.name)}</b><small>{escape(person.work)}</small></a></li>'

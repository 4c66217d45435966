"""Serves the built console at /console/; every address below it is the same page, which routes by itself."""

from __future__ import annotations

from pathlib import Path
from secrets import token_urlsafe
from urllib.parse import urlsplit

from fastapi import FastAPI, Request
from starlette.responses import FileResponse, RedirectResponse, Response

from nestrel.core.problems import NotFound
from nestrel.service.settings import Settings

_WEB = Path(__file__).parent / "web"

_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'{nonce}; img-src 'self' data: blob:; "
    "media-src 'self' blob:; font-src 'self'; connect-src {connects}; manifest-src 'self'; worker-src 'self'; "
    "frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'"
)
"""The console runs only its own code, and text from messages can never become any. It
speaks to the service, to the issuer, and to whom the operator has named."""
_HEADERS = {
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "X-Frame-Options": "DENY",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=(), payment=()",
}
_NONCE = "nonce-of-this-page"
"""Stands in the page for the nonce of an answer, with which its dialogs may add a style (CSP, 6.6.2)."""


def _connects(settings: Settings) -> str:
    """Where a page of the console may send requests."""
    parts = [urlsplit(url) for url in (settings.issuer, settings.jwks_url) if url]
    issuers = [f"{part.scheme}://{part.netloc}" for part in parts if part.scheme in ("http", "https") and part.netloc]
    return " ".join(dict.fromkeys(["'self'", *issuers, *settings.console_connects]))


def _page(path: Path, connects: str) -> Response:
    """The page, with a nonce of its own."""
    nonce = token_urlsafe(18)
    policy = _POLICY.format(nonce=f" 'nonce-{nonce}'", connects=connects)
    headers = {**_HEADERS, "Content-Security-Policy": policy, "Cache-Control": "no-cache"}
    return Response(path.read_text().replace(_NONCE, nonce), headers=headers, media_type="text/html; charset=utf-8")


def mount(app: FastAPI, settings: Settings) -> None:
    connects = _connects(settings)
    policed = {"Content-Security-Policy": _POLICY.format(nonce="", connects=connects)}

    @app.get("/", include_in_schema=False)
    @app.get("/console", include_in_schema=False)
    async def to_console() -> Response:
        return RedirectResponse("/console/", 307)

    @app.get("/console/{path:path}", include_in_schema=False)
    async def serve(path: str, request: Request) -> Response:
        page = _WEB / "index.html"
        if not page.is_file():
            raise NotFound("the console is not built; run script/setup")
        try:
            found = (_WEB / path).resolve() if path else page
            there = found.is_file()
        except (OSError, ValueError):  # a name too long for any file, or with a NUL
            raise NotFound("there is no such place in the console") from None
        if there and found.is_relative_to(_WEB) and found != page:
            hashed = path.startswith("assets/")
            cache = "public, max-age=31536000, immutable" if hashed else "no-cache"
            return FileResponse(found, headers={**_HEADERS, **policed, "Cache-Control": cache})
        if path.startswith("assets/"):
            raise NotFound("there is no such file in the console")
        return _page(page, connects)

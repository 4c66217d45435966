"""Serves the built console at /console/; every address below it is the same page, which routes by itself."""

from __future__ import annotations

from pathlib import Path

from fastapi import FastAPI, Request
from starlette.responses import FileResponse, RedirectResponse, Response

from nestrel.core.problems import NotFound

_WEB = Path(__file__).parent / "web"

_HEADERS = {
    # The console runs only its own code, and text from messages can never become any.
    "Content-Security-Policy": (
        "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
        "font-src 'self'; connect-src *; frame-ancestors 'none'; base-uri 'self'; form-action 'self'"
    ),
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
}


def mount(app: FastAPI) -> None:
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
        if there and found.is_relative_to(_WEB):
            hashed = path.startswith("assets/")
            cache = "public, max-age=31536000, immutable" if hashed else "no-cache"
            return FileResponse(found, headers={**_HEADERS, "Cache-Control": cache})
        if path.startswith("assets/"):
            raise NotFound("there is no such file in the console")
        return FileResponse(page, headers={**_HEADERS, "Cache-Control": "no-cache"})

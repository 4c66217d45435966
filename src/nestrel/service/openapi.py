"""The OpenAPI document, completed with examples, problems and the names of operations."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from fastapi import FastAPI

from nestrel.service.operation_names import NAMES, summary

_EXAMPLES = Path(__file__).parent / "examples.json"
"""Made by script/examples."""
_JSON, _PROBLEM = "application/json", "application/problem+json"
_SCHEMES = {
    "bearer": {
        "type": "http",
        "scheme": "bearer",
        "bearerFormat": "JWT",
        "description": "A token of the issuer or of a shared secret. Its `sub` is the user; the scope "
        "`nestrel.service` makes it a trusted backend's.",
    },
    "session": {
        "type": "apiKey",
        "in": "cookie",
        "name": "__Host-nestrel",
        "description": "A browser's session, begun with a token (`beginSession`). On loopback it is called `nestrel`.",
    },
}
_FREE = ("/healthz", "/readyz", "/metrics", "/v1/links/")
"""What begins so needs no token."""
_TAGS = {
    "conversations": "Conversations: made, listed, changed, closed.",
    "members": "Who is in a conversation, with which role, and how far they have read.",
    "messages": "Messages: posted, edited, removed, liked; history by cursors.",
    "attachments": "Files that belong to messages.",
    "changes": "What has changed since a cursor, and as it happens.",
    "search": "Words in messages.",
    "people": "Profiles, the directory, and what stands between people.",
    "profile": "The caller's own profile and session.",
    "invitations": "Tokens by which people join.",
    "notices": "What devices are told, and where they are.",
    "reports": "Messages that were reported.",
    "retention": "What conversations keep, and what becomes of the rest.",
    "archive": "What retention has archived.",
    "export and import": "Whole conversations out and in.",
    "erasures": "Emptying what a person has written.",
    "webhooks": "Changes and notices sent to an address.",
    "audit": "What people with a role did to others.",
    "usage": "What was used, and who is connected.",
    "operations": "For whoever runs the service.",
}


def completed(document: dict[str, Any]) -> dict[str, Any]:
    """The framework's document with what it does not know: the names of calls, who may make them, and what tags mean.

    Raises:
        RuntimeError: a call has no name.
    """
    examples = json.loads(_EXAMPLES.read_text())
    document["components"]["securitySchemes"] = _SCHEMES
    document["security"] = [{"bearer": []}, {"session": []}]
    document["tags"] = [{"name": name, "description": text} for name, text in _TAGS.items()]
    for path, methods in document["paths"].items():
        for method, call in methods.items():
            name = NAMES.get(f"{method.upper()} {path}")
            if name is None:
                raise RuntimeError(f"{method.upper()} {path} has no name in nestrel.service.operation_names")
            call["operationId"], call["summary"] = name, summary(name)
            if path.startswith(_FREE):
                call["security"] = []
            _state_problems(call)
            _add_examples(call, examples.get(name, {}))
    return document


def _state_problems(call: dict[str, Any]) -> None:
    """A refusal comes as a problem document (RFC 9457), and never as plain JSON: generated clients go by that."""
    for answer in call["responses"].values():
        if _PROBLEM in answer.get("content", {}):
            answer["content"] = {_PROBLEM: answer["content"][_JSON]}


def _add_examples(call: dict[str, Any], example: dict[str, Any]) -> None:
    """Show what a demo was asked and answered."""
    if "request" in example:
        call["requestBody"]["content"][_JSON]["example"] = example["request"]
    if "answer" in example:
        done = [call["responses"][code]["content"] for code in sorted(call["responses"]) if code.startswith("2")]
        for content in done:
            content[_JSON]["example"] = example["answer"]


def install(app: FastAPI) -> None:
    """Have the application answer with the completed document, made when it is first asked for."""
    made = app.openapi

    def openapi() -> dict[str, Any]:
        if app.openapi_schema is None:
            app.openapi_schema = completed(made())
        return app.openapi_schema

    app.openapi = openapi  # type: ignore[method-assign]  # as the framework says that it is extended

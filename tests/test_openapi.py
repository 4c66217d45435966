"""The OpenAPI document against the running service."""

from __future__ import annotations

import json
import re
from typing import Any

import httpx
import jsonschema  # type: ignore[import-untyped]  # it brings no types
import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pydantic import BaseModel
from schemathesis import checks
from schemathesis.core.result import Ok

from nestrel.core import objects
from nestrel.service.operation_names import NAMES
from tests.support import PATIENCE, Served, token, unique

_CHECKS = [
    checks.not_a_server_error,
    checks.status_code_conformance,
    checks.content_type_conformance,
    checks.response_schema_conformance,
]


@pytest.fixture(scope="module")
def address(service: Served) -> str:
    return service.url


def test_every_call_of_the_contract_is_documented(address: str) -> None:
    paths = httpx.get(f"{address}/openapi.json", timeout=PATIENCE).json()["paths"]
    calls = {f"{method.upper()} {path}" for path, methods in paths.items() for method in methods}
    place = "/v1/conversations/{conversation_id}"
    ids = [one["operationId"] for methods in paths.values() for one in methods.values()]
    assert len(ids) == len(set(ids))
    assert calls >= {
        f"POST {place}/invitations", f"GET {place}/invitations", f"DELETE {place}/invitations/{{invitation_id}}",
        "GET /v1/invitations/{token}", "POST /v1/invitations/{token}/accept",
        f"POST {place}/attachments", f"GET {place}/attachments/{{attachment_id}}",
        f"GET {place}/attachments/{{attachment_id}}/preview", f"POST {place}/attachments/{{attachment_id}}/link",
        "GET /v1/me", "PATCH /v1/me", "POST /v1/conversations", "GET /v1/conversations", f"GET {place}",
        f"PATCH {place}", f"DELETE {place}", f"GET {place}/members", f"PUT {place}/members/{{user_id}}",
        f"PATCH {place}/members/{{user_id}}", f"DELETE {place}/members/{{user_id}}", f"POST {place}/messages",
        f"POST {place}/messages/batch", f"GET {place}/messages", f"GET {place}/messages/{{seq}}",
        f"PATCH {place}/messages/{{seq}}", f"DELETE {place}/messages/{{seq}}", f"GET {place}/messages/{{seq}}/edits",
        f"PUT {place}/messages/{{seq}}/reactions/{{symbol}}", f"DELETE {place}/messages/{{seq}}/reactions/{{symbol}}",
        f"GET {place}/messages/{{seq}}/reactions", f"GET {place}/messages/{{seq}}/readers", f"PUT {place}/receipt",
        f"GET {place}/changes", "POST /v1/resync", f"GET {place}/stream", "GET /v1/stream",
        f"GET {place}/retention", f"PUT {place}/retention", f"DELETE {place}/retention",
        f"POST {place}/retention/preview", f"GET {place}/archive", f"GET {place}/archive/{{segment}}",
        f"GET {place}/export", f"POST {place}/import",
        "GET /healthz", "GET /readyz", "GET /metrics",
    }  # fmt: skip


def test_each_call_has_a_name_and_says_who_may_make_it(address: str) -> None:
    document = httpx.get(f"{address}/openapi.json", timeout=PATIENCE).json()
    calls = {f"{m.upper()} {path}": call for path, methods in document["paths"].items() for m, call in methods.items()}
    assert {name: call["operationId"] for name, call in calls.items()} == NAMES
    assert calls["GET /v1/conversations"]["summary"] == "List conversations"
    assert set(document["components"]["securitySchemes"]) == {"bearer", "session"}
    assert document["security"] == [{"bearer": []}, {"session": []}]
    free = {name for name, call in calls.items() if call.get("security") == []}
    assert free == {"GET /healthz", "GET /readyz", "GET /metrics", "GET /v1/links/{link}"}
    for name in free - {"GET /v1/links/{link}"}:
        assert httpx.get(address + name.split()[1], timeout=PATIENCE).status_code == 200
    for name, call in calls.items():
        method, path = name.split()
        if name not in free:
            answer = httpx.request(method, address + re.sub(r"{[^}]*}", "x", path), timeout=PATIENCE)
            assert (name, answer.status_code) == (name, 401)
        assert set(call["tags"]) <= {tag["name"] for tag in document["tags"]}


def test_each_request_and_answer_in_json_has_an_example_of_its_form(address: str) -> None:
    document = httpx.get(f"{address}/openapi.json", timeout=PATIENCE).json()
    without = []
    for methods in document["paths"].values():
        for call in methods.values():
            contents = [call["requestBody"]["content"]] if "requestBody" in call else []
            contents += [one.get("content", {}) for code, one in call["responses"].items() if code.startswith("2")]
            for content in contents:
                if (found := content.get("application/json")) is None:
                    continue
                if "example" not in found:
                    without.append(call["operationId"])
                    continue
                schema = {**found["schema"], "components": document["components"]}
                jsonschema.validate(found["example"], schema)
    # What a service needs the network for, and forms that may be left out.
    assert set(without) <= {"putPushSubscription", "acceptInvitation", "beginSession"}, without


def test_the_documents_say_nothing_of_the_code_and_all_of_a_problem(address: str) -> None:
    for name in ("openapi.json", "asyncapi.json"):
        text = httpx.get(f"{address}/{name}", timeout=PATIENCE).text
        assert not re.search(r"nestrel\.(core|store|live|service|client)\.\w", text), name
        schemas = json.loads(text)["components"]["schemas"]
        assert not [one for one in schemas if "__" in one or "." in one]
        problem = schemas["ProblemDocument"]["properties"]
        assert {"message", "preview", "reason", "quota", "limit", "errors", "retry_after"} <= set(problem)


@schemathesis.serializer("application/jsonl")
def _jsonl(_context: object, value: object) -> bytes:
    """One line for a generated body."""
    return json.dumps(value).encode() + b"\n"


@pytest.mark.whole
def test_whatever_is_sent_the_answer_is_a_documented_one(address: str) -> None:
    """Generated requests, good and bad, to every call: never a 5xx, always a documented status and shape."""
    schema = schemathesis.openapi.from_url(f"{address}/openapi.json")
    user = unique("schema")
    headers = {"Authorization": f"Bearer {token(user)}"}
    with httpx.Client(base_url=address + "/v1", headers=headers) as http:
        place = http.post("/conversations", json={"name": unique("s"), "visibility": "open"}).json()["id"]
        http.post(f"/conversations/{place}/messages", json={"body": "one"})
    for operation in schema.get_all_operations():
        assert isinstance(operation, Ok)
        call = operation.ok()
        if call.path == "/v1/stream":
            continue  # it has no answer that could be refused; tests/test_streams.py reads it

        @settings(max_examples=25, suppress_health_check=list(HealthCheck), database=None)
        @given(case=call.as_strategy(), real=st.booleans())
        def check(case: schemathesis.Case[Any], real: bool) -> None:
            waits = case.path.endswith("/stream") or "wait" in (case.query or {})
            if real and not waits and "conversation_id" in (case.path_parameters or {}):
                case.path_parameters["conversation_id"] = place  # half of them reach a conversation that is there
            case.call_and_validate(headers=headers, checks=_CHECKS)

        check()


@pytest.mark.parametrize(
    "model",
    [
        objects.Message, objects.Member, objects.Profile, objects.Me, objects.Unread, objects.Conversation,
        objects.ChangeSet, objects.Receipt,
        objects.ResyncAnswer,
        objects.EarlierBody, objects.Reacted, objects.Reader,
    ],
)  # fmt: skip
def test_the_models_name_exactly_the_fields_that_are_sent(address: str, model: type[BaseModel]) -> None:
    """The service writes JSON from rows, the client reads it with these models: neither may know a field alone."""
    with httpx.Client(base_url=address + "/v1", headers={"Authorization": f"Bearer {token(unique('m'))}"}) as http:
        made = http.post("/conversations", json={}).json()
        place = f"/conversations/{made['id']}"
        message = http.post(f"{place}/messages", json={"body": "x"}).json()
        one = f"{place}/messages/1"
        http.patch(one, json={"body": "y"})
        http.put(f"{one}/reactions/like")
        sent = {
            "Message": message,
            "Member": http.get(f"{place}/members").json()["items"][0],
            "Me": http.get("/me").json(),
            "Unread": http.get("/me").json()["unread"],
            "Profile": http.get("/people?q=m").json()["items"][0],
            "Conversation": made,
            "ChangeSet": http.get(f"{place}/changes").json(),
            "ResyncAnswer": http.post("/resync", json={}).json(),
            "Receipt": http.put(f"{place}/receipt", json={"read_seq": 1}).json(),
            "EarlierBody": http.get(f"{one}/edits").json()["items"][0],
            "Reacted": http.get(f"{one}/reactions").json()["items"][0],
            "Reader": http.get(f"{one}/readers").json()["items"][0],
        }[model.__name__]
    assert set(sent) == set(model.model_fields)

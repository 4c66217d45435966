"""Traces: one from the door through the transaction and its statements to those who are told. Lines of the log have the
id of their request."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from opentelemetry.proto.trace.v1.trace_pb2 import Span
from opentelemetry.sdk.trace import TracerProvider
from opentelemetry.sdk.trace.export import SimpleSpanProcessor
from opentelemetry.sdk.trace.export.in_memory_span_exporter import InMemorySpanExporter

from nestrel.service.loading import SettingsError, load_settings
from nestrel.store.tracing import tracing
from tests.receiver import Receiver, hang, receiver, status
from tests.support import Person, Served, unique
from tests.test_buses import Server

pytestmark = pytest.mark.whole

_TRACE = "4bf92f3577b34da6a3ce929d0e0e4736"
_PARENT = "00f067aa0ba902b7"


def spans(hears: Receiver) -> list[Span]:
    """Everything that the collector was sent."""
    found = []
    for got in hears.got:
        asked = ExportTraceServiceRequest.FromString(got.body)
        for resource in asked.resource_spans:
            for scope in resource.scope_spans:
                found += scope.spans
    return found


def named(found: list[Span], name: str) -> list[Span]:
    return [one for one in found if one.name == name]


@pytest.fixture(params=["postgres", "redis"])
def bus(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[str]:
    if request.param == "postgres":
        yield "postgres"
        return
    server = Server(str(tmp_path))
    yield server.url
    server.stop()


async def test_a_post_is_one_trace_from_the_door_to_those_who_are_told(
    make_database: Callable[[], str], bus: str
) -> None:
    async with receiver() as hears:
        hears.answer = status(200)
        to = hears.url.removesuffix("/in")
        settings: dict[str, Any] = {"NESTREL_TRACES_URL": to, "NESTREL_TRACES_SHARE": "0", "NESTREL_BUS": bus}
        url = make_database()
        with Served(url, **settings) as served, Served(url, **settings) as other:
            served.wait_ready()
            mara, odd = Person(served.url, unique("mara")), Person(served.url, unique("odd"))
            there = Person(other.wait_ready().url, odd.user)
            place = (await mara.make(members=[odd.user]))["id"]
            async with odd.socket() as wire, there.socket() as afar:
                for each in (wire, afar):
                    await each.command(type="follow", conversation_id=place)
                await mara.post(place, "of which nobody wants a trace")
                mara.http.headers["traceparent"] = f"00-{_TRACE}-{_PARENT}-01"
                answer = await mara.post(place, "a secret of the quay", key="a key of it")
                del mara.http.headers["traceparent"]
                await wire.messages(2)
                await afar.messages(2)
                for n in range(5):  # what comes after it is no part of it
                    await mara.post(place, f"nor of this, {n}")
                await wire.messages(5)
                await afar.messages(5)

            for one in (served, other):
                await asyncio.to_thread(one.stop)  # which sends what is left
        found = spans(hears)
    assert {one.trace_id.hex() for one in found} == {_TRACE}  # of all the others nothing is recorded
    [door] = named(found, "POST /v1/conversations/{conversation_id}/messages")
    [batch], deliveries = named(found, "batch"), named(found, "delivery")
    assert len(deliveries) == 2, "at the process that wrote it and at the other"
    assert door.parent_span_id.hex() == _PARENT
    assert batch.parent_span_id == door.span_id
    assert {one.parent_span_id for one in deliveries} == {batch.span_id}
    statements = [one for one in found if one.parent_span_id == batch.span_id and one.name != "delivery"]
    assert statements
    assert all(any(kv.key == "db.query.text" for kv in one.attributes) for one in statements)
    values = {kv.key: kv.value for kv in door.attributes}
    assert values["http.response.status_code"].int_value == 201
    assert values["nestrel.request_id"].string_value == answer.headers["x-request-id"]
    for span in found:  # times are within each other, and nothing that was written is anywhere
        assert span.start_time_unix_nano <= span.end_time_unix_nano
        assert b"secret of the quay" not in span.SerializeToString()
        assert b"a key of it" not in span.SerializeToString()


async def test_commands_that_go_together_are_linked(make_database: Callable[[], str]) -> None:
    async with receiver() as hears:
        hears.answer = status(200)
        settings: dict[str, Any] = {"NESTREL_TRACES_URL": hears.url.removesuffix("/in"), "NESTREL_TRACES_SHARE": "1"}
        with Served(make_database(), **settings) as served:
            served.wait_ready()
            mara = Person(served.url, unique("mara"))
            place = (await mara.make())["id"]
            async with mara.socket() as wire:
                for n in range(40):
                    await wire.send(type="post", conversation_id=place, body=f"m{n}", key=f"k{n}", ref=n)
                for _ in range(40):
                    await wire.get()
            await asyncio.to_thread(served.stop)  # which sends what is left
        found = spans(hears)
    frames, batches = named(found, "frame post"), named(found, "batch")
    assert len(frames) == 40
    # Each frame is the first of a batch, or linked from one.
    firsts, links = {one.parent_span_id for one in batches}, {link.span_id for one in batches for link in one.links}
    assert firsts | links >= {one.span_id for one in frames}
    assert len(batches) < 40


async def test_a_collector_that_hangs_holds_nobody_up(make_database: Callable[[], str]) -> None:
    async with receiver() as hears:
        hears.answer = hang
        settings: dict[str, Any] = {"NESTREL_TRACES_URL": hears.url.removesuffix("/in"), "NESTREL_TRACES_SHARE": "1"}
        with Served(make_database(), **settings) as served:
            served.wait_ready()
            mara = Person(served.url, unique("mara"))
            place = (await mara.make())["id"]
            for n in range(30):
                assert (await mara.post(place, f"m{n}")).status_code == 201
            assert await asyncio.to_thread(served.stop) == 0


def test_an_address_that_is_none_is_said_to_be_none() -> None:
    with pytest.raises(SettingsError, match="TRACES_URL"):
        load_settings(traces_url="collector:4318")


async def test_every_line_of_a_request_has_its_id(make_database: Callable[[], str]) -> None:
    """Whoever writes it, and however deep: here the standby's way, which is told of no request."""
    with Served(make_database(), NESTREL_REPLICA_URLS="postgresql://nobody@127.0.0.1:1/nowhere") as served:
        served.wait_ready()
        mara = Person(served.url, unique("mara"))
        place = (await mara.make())["id"]
        answer = await mara.http.get(f"/conversations/{place}/messages", headers={"X-Request-ID": "asked-by-mara"})
        assert answer.status_code == 200

        def lines() -> list[dict[str, Any]]:
            return [json.loads(line) for line in served.log().splitlines() if line.startswith("{")]

        [failed] = [line for line in lines() if line["event"] == "replica.failed"]
        assert failed["request_id"] == "asked-by-mara"


def test_an_error_s_own_words_are_in_no_span(monkeypatch: pytest.MonkeyPatch) -> None:
    """PostgreSQL's errors name the values that they are about, which people wrote."""
    kept = InMemorySpanExporter()
    provider = TracerProvider(shutdown_on_exit=False)
    provider.add_span_processor(SimpleSpanProcessor(kept))
    monkeypatch.setattr(tracing, "tracer", provider.get_tracer("test"))
    with (
        pytest.raises(ValueError, match="secret"),
        tracing.door("POST") as door,
        tracing.batch(1, [door.get_span_context()]),
        tracing.statement("INSERT INTO t VALUES ($1)"),
    ):
        raise ValueError("Key (name)=(a secret of the quay) already exists.")
    found = kept.get_finished_spans()
    assert len(found) == 3
    assert not any("secret" in one.to_json() for one in found)

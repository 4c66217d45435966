"""The published vectors hold for each copy of the rules: the core's, and the replica's file. The console's run them
too."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from nestrel.client.replica.outbox import Outbox
from nestrel.client.replica.store import ReplicaFile
from nestrel.client.replica.sync import Sync, _User
from nestrel.core.backoff import delays, pause_after
from nestrel.core.objects import ChangeSet, HistoryPage, Message
from nestrel.core.outbox import Entry, overlaid
from nestrel.core.problems import Problem, SlowDown, StoreUnavailable, Unreachable
from nestrel.core.replica import Replica
from nestrel.core.rights import Action, Relation, may_post
from nestrel.core.roles import Kind, Role, Visibility

VECTORS = Path(__file__).parents[2] / "docs" / "vectors"


def vectors(name: str, kind: str = "vectors") -> Any:
    found = json.loads((VECTORS / f"{name}.json").read_text())[kind]
    return [pytest.param(one, id=str(one.get("name", n))) for n, one in enumerate(found)]


@pytest.mark.parametrize("vector", vectors("replica"))
def test_the_core_s_replica(vector: dict[str, Any]) -> None:
    replica = Replica("c1")
    for step in vector["steps"]:
        if "changes" in step:
            replica.apply(ChangeSet.model_validate(step["changes"]))
        elif "page" in step:
            replica.add(HistoryPage.model_validate(step["page"]))
        else:
            replica.put(Message.model_validate(step["answer"]))
    assert vector["copy"] == {
        "head": replica.head,
        "floor": replica.floor,
        "cursor": replica.cursor,
        "messages": {str(one.seq): [one.rev, one.body] for one in replica.ordered()},
        "members": {m.user_id: [m.rev, m.read_seq, m.left_at is None] for m in replica.members.values()},
        "profiles": {one.user_id: [one.rev, one.display_name] for one in replica.profiles.values()},
    }


@pytest.mark.parametrize("vector", vectors("replica"))
def test_the_replica_s_file(vector: dict[str, Any]) -> None:
    file = ReplicaFile(":memory:")
    for step in vector["steps"]:
        if "changes" in step:
            file.apply(step["changes"])
        elif "page" in step:
            assert file.add("c1", step["page"], file.epoch("c1"))
        else:
            file.put(step["answer"])
    with file.read() as connection:
        [(head, floor, cursor)] = connection.execute("SELECT head, floor, cursor FROM conversations")
        messages = [json.loads(row[0]) for row in connection.execute("SELECT object FROM messages")]
        members = [json.loads(row[0]) for row in connection.execute("SELECT object FROM members")]
        profiles = connection.execute("SELECT user_id, rev, object FROM profiles").fetchall()
    file.close()
    assert vector["copy"] == {
        "head": head,
        "floor": floor,
        "cursor": cursor,
        "messages": {str(one["seq"]): [one["rev"], one["body"]] for one in messages},
        "members": {one["user_id"]: [one["rev"], one["read_seq"], one["left_at"] is None] for one in members},
        "profiles": {user: [rev, json.loads(text)["display_name"]] for user, rev, text in profiles},
    }


class Told:
    """A line whose other side answers as the vector says."""

    def __init__(self, exchange: list[list[dict[str, Any]]]) -> None:
        self.user_id = "mara"
        self._left: Iterator[list[dict[str, Any]]] = iter(exchange)
        self._answer: dict[str, Any] = {}
        self.sent = 0

    async def send(self, frame: dict[str, Any]) -> None:
        wanted, answer = next(self._left)
        assert {name: value for name, value in frame.items() if value not in ({}, None)} == wanted
        self.sent += 1
        kind, content = next(iter(answer.items()))
        self._answer = {"type": kind, **({"problem": content} if kind == "refused" else content)}

    async def receive(self) -> dict[str, Any]:
        return self._answer


@pytest.mark.parametrize("vector", vectors("outbox"))
async def test_the_outbox(vector: dict[str, Any]) -> None:
    file = ReplicaFile(":memory:")
    outbox = Outbox(file)
    for one in vector["commands"]:
        outbox.put(one["kind"], one["conversation_id"], one["content"], key=one["key"], seq=one.get("seq"))
    for entry in outbox.entries():
        if entry.key in vector.get("discarded", ()):
            outbox.discard(entry.n)
    line = Told(vector["exchange"])
    sync: Any = Sync(file, outbox, None)  # type: ignore[arg-type]  # nothing is asked of the network
    last = next(iter(vector["exchange"][-1][1])) == "refused" and vector["exchange"][-1][1]["refused"]["status"]
    try:
        await _User(sync, line).flush()
    except Unreachable:
        assert last in (408, 429, 502, 503)
    assert line.sent == len(vector["exchange"])
    left = [[one.key, one.content.get("rev"), not one.waiting] for one in outbox.entries()]
    assert left == vector["left"]
    file.close()


@pytest.mark.parametrize("vector", vectors("overlay"))
def test_what_waits_is_shown(vector: dict[str, Any]) -> None:
    at = datetime(2026, 11, 25, 11, tzinfo=UTC)
    entries = [
        Entry(n, "c1", one["kind"], f"k{n}", one["content"], at, one["seq"], problem={} if one["refused"] else None)
        for n, one in enumerate(vector["entries"])
    ]
    shown = overlaid(Message.model_validate(vector["message"]), entries, vector["me"])
    assert shown == Message.model_validate(vector["shown"])


@pytest.mark.parametrize("vector", vectors("roles"))
def test_roles(vector: dict[str, Any]) -> None:
    kind, role = Kind(vector["kind"]), Role(vector["role"]) if vector["role"] else None
    writes = may_post(kind, role, service=False)
    member = Relation(kind, Visibility.OPEN, role).may(Action.FOLLOW)
    manages = role in (Role.OWNER, Role.MODERATOR)
    found = {"post": writes, "react": member, "edit_own": writes, "remove_own": member, "remove_others": manages}
    assert {name: vector[name] for name in found} == found


@pytest.mark.parametrize("vector", vectors("pauses"))
def test_pauses_of_a_row_of_failures(vector: dict[str, Any]) -> None:
    pauses = delays(lambda: vector["chance"])
    assert [next(pauses) for _ in vector["pauses"]] == pytest.approx(vector["pauses"])


@pytest.mark.parametrize("vector", vectors("pauses", "after"))
@pytest.mark.parametrize("kind", [Unreachable, StoreUnavailable, SlowDown])
def test_a_pause_by_what_the_service_has_said(kind: type[Unreachable | Problem], vector: dict[str, Any]) -> None:
    if vector["leaving"]:
        error: Exception = Unreachable("stops", leaving=True)
    else:
        error = kind("no", retry_after=vector["retry_after"])
    assert pause_after(error, vector["step"], lambda: vector["chance"]) == pytest.approx(vector["pause"])

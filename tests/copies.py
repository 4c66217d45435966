"""A client that does as the protocol says, by POST /resync."""

from __future__ import annotations

from typing import Any

from nestrel.core.objects import ChangeSet
from nestrel.core.replica import Replica
from tests.support import Person


class Copies:
    """What it holds."""

    def __init__(self, who: Person) -> None:
        self.who = who
        self.cursor: str | None = None
        self.held: dict[str, Replica] = {}
        self.answers: list[dict[str, Any]] = []

    async def resync(self) -> list[dict[str, Any]]:
        """Bring everything to the present; returns the change sets that came."""
        items: list[dict[str, Any]] = []
        whole: set[str] | None = None
        self.answers = []
        while True:
            answer = await self.who.http.post("/resync", json={"cursor": self.cursor} if self.cursor else {})
            assert answer.status_code == 200, answer.text
            found = answer.json()
            self.answers.append(found)
            if found["reset"]:
                whole = (whole or set()) | set(found["joined"])
            if whole is not None and not (found["reset"] and found["more"]):
                self.held = {id_: replica for id_, replica in self.held.items() if id_ in whole}
                whole = None
            for item in found["items"]:
                self.apply(item)
            items += found["items"]
            for id_ in found["gone"]:
                self.held.pop(id_, None)
            self.cursor = found["cursor"]
            if not found["more"]:
                return items

    def apply(self, item: dict[str, Any]) -> None:
        changes = ChangeSet.model_validate(item)
        self.held.setdefault(changes.conversation_id, Replica(changes.conversation_id)).apply(changes)

    async def check(self) -> None:
        """Assert that what is held is what the service has."""
        page = (await self.who.http.get("/conversations", params={"limit": 200})).json()
        assert page["next"] is None
        mine = {item["id"]: item for item in page["items"]}
        assert set(self.held) == set(mine)
        for id_, replica in self.held.items():
            assert replica.head == mine[id_]["head"]
            assert replica.conversation is not None
            assert replica.conversation.title == mine[id_]["title"]
            rows = await self.who.page(id_, limit=200)
            held = {seq: message.model_dump(mode="json") for seq, message in replica.messages.items()}
            for row in rows["items"]:
                if row["seq"] in held:
                    assert held[row["seq"]]["rev"] == row["rev"]
                    assert held[row["seq"]]["body"] == row["body"]
            newest = [row["seq"] for row in rows["items"]][:50]
            assert set(newest) <= set(held)
            members = (await self.who.http.get(f"/conversations/{id_}/members", params={"limit": 200})).json()
            assert {member.user_id for member in replica.present()} == {row["user_id"] for row in members["items"]}

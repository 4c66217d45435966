"""The worked reconnection of docs/protocol.md, played against the service: every field is as it stands there."""

from __future__ import annotations

import json
import re
import textwrap
from collections.abc import Callable
from pathlib import Path
from typing import Any

from tests.support import Person, Served

_PAGE = Path(__file__).parent.parent / "docs/protocol.md"


class Exchange:
    """What went over the wires, with a name for each value that differs from one time to the next."""

    def __init__(self, **names: str) -> None:
        self.lines: list[str] = []
        self._names = {value: f"<{name}>" for name, value in names.items()}
        self._counts = {"room-cursor": 0, "all": 1}

    def sent(self, what: dict[str, Any], call: str = "") -> None:
        self._line("→", what, call)

    def came(self, what: dict[str, Any], status: str = "") -> dict[str, Any]:
        self._line("←", what, status)
        return what

    def _line(self, arrow: str, what: dict[str, Any], before: str) -> None:
        if what.get("type") == "checkpoint":
            self._names.pop(what["cursor"], None)  # whether anything else moved since the last one says nothing here
        text = json.dumps(self._named(what, ""), ensure_ascii=False, separators=(", ", ":"))
        words = " ".join(part for part in (arrow, before, text) if part)
        self.lines += textwrap.wrap(words, 116, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False)

    def _named(self, value: Any, key: str) -> Any:
        if isinstance(value, dict):
            where = "room-cursor" if "messages" in value else "all"
            return {
                name: self._named(part, where if name in ("cursor", "base") else name) for name, part in value.items()
            }
        if isinstance(value, list):
            return [self._named(part, key) for part in value]
        if not isinstance(value, str):
            return value
        if key in ("room-cursor", "all") and value not in self._names:
            self._counts[key] += 1
            self._names[value] = f"<{key}-{self._counts[key]}>"
        return "<time>" if key.endswith("_at") else self._names.get(value, value)


async def test_the_reconnection_of_the_protocol_page(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_CHECKPOINT_SECONDS="0.1") as own:
        own.wait_ready()
        mara, odd = Person(own.url, "mara"), Person(own.url, "odd")
        room = (await mara.make(name="control-room", title="Control room", members=["odd"]))["id"]
        await mara.post(room, "Fog on the sound.")
        await odd.http.get("/me")
        start = (await odd.http.get("/conversations")).json()["cursor"]
        for body in ("Fog on the sound, all slow.", "Fog on the sound, all vessels slow."):
            await mara.http.patch(f"/conversations/{room}/messages/1", json={"body": body})
        await mara.post(room, "MV Tern holds at berth 2.")
        said = Exchange(token=odd.token, room=room, **{"all-1": start})

        async with odd.socket() as wire:
            said.sent({"type": "sign_in", "token": odd.token})
            said.came(wire.signed_in)
            post = {"type": "post", "ref": 1, "conversation_id": room, "key": "odd-phone-17", "body": "Aboard."}
            said.sent(post)
            await wire.send(**post)
            said.came(await wire.get(checkpoints=True))
            said.sent({"cursor": start}, "POST /v1/resync")
            answer = said.came((await odd.http.post("/resync", json={"cursor": start})).json(), "200")
            follow = {"type": "follow_all", "ref": 2, "cursor": answer["cursor"]}
            said.sent(follow)
            await wire.send(**follow)
            for _ in ("done", "checkpoint"):
                said.came(await wire.get(checkpoints=True))
            await mara.post(room, "Fog lifts.")
            for _ in ("changes", "checkpoint"):
                said.came(await wire.get(checkpoints=True))
    shown = re.search(r"### One reconnection, whole.*?```\n(.*?)```", _PAGE.read_text(), re.DOTALL)
    assert shown is not None
    assert shown[1].splitlines() == said.lines

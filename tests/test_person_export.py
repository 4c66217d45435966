"""What a person gets of all that is kept about them; and that an erasure leaves none of their words."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from tests.support import Person, Served, once, traces, unique

Make = Callable[..., Person]


async def unpacked(who: Person, user: str) -> dict[str, Any]:
    answer = await who.http.get(f"/people/{user}/export")
    assert (answer.status_code, answer.headers["content-type"]) == (200, "application/zip"), answer.text
    with zipfile.ZipFile(io.BytesIO(answer.content)) as packed:
        assert packed.testzip() is None
        return {
            name: [json.loads(line) for line in content.splitlines()] if name.endswith(".jsonl") else content
            for name in packed.namelist()
            for content in [packed.read(name)]
        }


async def test_a_person_gets_all_that_they_wrote_and_nothing_of_others(person: Make) -> None:
    mara, odd, office = person(), person(), person(scope="nestrel.service")
    place = (await mara.make(members=[odd.user]))["id"]
    here = f"/conversations/{place}"
    for n in range(6):
        await mara.post(place, f"tide {n}")
    await odd.post(place, "a word of odd's")
    await mara.http.patch(f"{here}/messages/6", json={"body": "tide six"})
    await mara.http.put(f"{here}/messages/7/reactions/like")
    await mara.http.put(f"/me/blocked/{unique('x')}")
    sent = (await mara.upload(place, b"berth plan", "plan.txt")).json()
    await mara.post(place, "", attachments=[sent["attachment_id"]])
    kept = await mara.http.put(f"{here}/retention", json={"keep_last": 5, "then": "archive", "confirm": True})
    assert kept.status_code == 200
    while (await office.http.post("/retention/run")).json()["waiting"]:
        pass
    for who in (mara, office):
        held = await unpacked(who, mara.user)
        assert [one["body"] for one in held["messages.jsonl"]] == [*(f"tide {n}" for n in range(5)), "tide six", ""]
        assert [one["body"] for one in held["earlier_bodies.jsonl"]] == ["tide 5"]
        assert (held["profile.jsonl"][0]["user_id"], len(held["blocks.jsonl"])) == (mara.user, 1)
        assert [one["symbol"] for one in held["reactions.jsonl"]] == ["like"]
        assert held[f"files/{sent['attachment_id']}"] == b"berth plan"
        assert [one["act"] for one in held["audit.jsonl"]][:1] == ["rule-set"]
        assert "a word of odd's" not in str(held)
    assert (await odd.http.get(f"/people/{mara.user}/export")).status_code == 403
    assert (await odd.http.get(f"/people/{unique('nobody')}/export")).status_code == 403
    assert (await unpacked(odd, "me"))["messages.jsonl"][0]["body"] == "a word of odd's"


async def test_an_erasure_leaves_no_word_of_a_person_in_the_database_or_in_files(own: Served) -> None:
    """A marker in everything that somebody can leave behind; then a dump, and the files, are looked through."""
    mark = "quicksilver"
    office = Person(own.url, "office", scope="nestrel.service")
    odd, mara = Person(own.url, "odd", name=f"Odd {mark}"), Person(own.url, "mara")
    await odd.http.get("/me")
    place = (await mara.make(members=["odd"]))["id"]
    here = f"/conversations/{place}"
    await odd.post(place, f"to be archived {mark}")
    await odd.post(place, f"to wait {mark}")
    await odd.post(place, f"live {mark}", attributes={"a": mark}, mentions=["mara"])
    await odd.http.patch(f"{here}/messages/3", json={"body": f"edited {mark}"})
    sent = (await odd.upload(place, mark.encode(), f"{mark}.txt")).json()
    await odd.post(place, "", attachments=[sent["attachment_id"]])
    await odd.upload(place, b"unused " + mark.encode(), f"unused {mark}.txt")
    await odd.http.put("/me/blocked/ines")
    await odd.post(place, "x")
    await odd.http.post(f"{here}/messages/5/reports", json={"reason": f"reason {mark}"})
    await mara.http.patch(f"{here}/members/odd", json={"role": "moderator"})
    await odd.http.put(f"{here}/kept-out/tam", json={"reason": f"kept out {mark}"})
    await mara.http.patch(f"{here}/members/odd", json={"role": "writer"})
    await office.http.put("/people/odd/suspension", json={"reason": f"about odd {mark}"})
    await office.http.delete("/people/odd/suspension")
    await mara.http.put(f"{here}/retention", json={"keep_last": 3, "then": "archive", "confirm": True})
    await office.http.post("/retention/run")
    begun = (await office.http.post("/erasures", json={"user_id": "odd", "confirm": True})).json()

    async def left() -> tuple[bool, list[str], list[Path]]:
        state = (await office.http.get(f"/erasures/{begun['id']}")).json()
        return state["finished_at"] is not None, *traces(own, mark)

    await once(left, lambda found: found == (True, [], []))
    assert (await mara.http.get(f"{here}/kept-out")).json()["items"][0]["user_id"] == "tam"

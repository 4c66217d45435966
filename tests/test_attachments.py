"""Files: sent, posted, read by who may, and gone with their messages."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import io
from collections.abc import Callable
from typing import Any
from uuid import UUID, uuid4

import httpx
import pytest
from PIL import Image

from tests.support import Person, Served, until

Make = Callable[..., Person]


def picture(width: int = 640, height: int = 400, kind: str = "PNG", **more: Any) -> bytes:
    out = io.BytesIO()
    Image.radial_gradient("L").resize((width, height)).convert("RGB").save(out, kind, **more)
    return out.getvalue()


def moving() -> bytes:
    out = io.BytesIO()
    frames = [Image.new("RGB", (40, 30), (80 * n, 0, 0)) for n in range(3)]
    frames[0].save(out, "GIF", save_all=True, append_images=frames[1:], duration=100)
    return out.getvalue()


def where(place: str, one: dict[str, Any], rest: str = "") -> str:
    return f"/conversations/{place}/attachments/{one['attachment_id']}{rest}"


async def sent(who: Person, place: str, content: bytes = b"tide table", name: str = "tides.txt") -> dict[str, Any]:
    answer = await who.upload(place, content, name)
    assert answer.status_code in (200, 201), answer.text
    one: dict[str, Any] = answer.json()
    return one


async def test_a_file_is_posted_and_read_as_it_was_sent(person: Make) -> None:
    mara, odd, stranger = person(), person(), person()
    place = (await mara.make(members=[odd.user]))["id"]
    content = picture()
    answer = await mara.upload(place, content, "Berth plan – ñ.png", Content_Type="text/html")
    assert answer.status_code == 201
    one = answer.json()
    assert {**one, "attachment_id": "", "created_at": ""} == {
        "attachment_id": "", "name": "Berth plan – ñ.png", "media_type": "image/png", "bytes": len(content),
        "sha256": hashlib.sha256(content).hexdigest(), "width": 640, "height": 400, "created_at": "",
    }  # fmt: skip
    assert (await odd.http.get(where(place, one))).status_code == 404  # in no message yet
    assert (await mara.http.get(where(place, one))).content == content
    posted = await mara.post(place, "", attachments=[one["attachment_id"]] * 2)
    assert posted.status_code == 201, posted.text
    assert (posted.json()["body"], posted.json()["attachments"]) == ("", [one])
    assert (await odd.page(place))["items"][0]["attachments"] == [one]
    got = await odd.http.get(where(place, one))
    assert (got.status_code, got.content) == (200, content)
    assert {name: got.headers[name] for name in ("etag", "accept-ranges", "cache-control", "x-content-type-options",
            "content-security-policy", "cross-origin-resource-policy", "content-type", "content-disposition")} == {
        "etag": f'"{one["sha256"]}"', "accept-ranges": "bytes", "cache-control": "private, no-cache",
        "x-content-type-options": "nosniff", "content-security-policy": "sandbox",
        "cross-origin-resource-policy": "same-origin", "content-type": "image/png",
        "content-disposition":
            "inline; filename=\"Berth plan _ _.png\"; filename*=UTF-8''Berth%20plan%20%E2%80%93%20%C3%B1.png",
    }  # fmt: skip
    for who, path in ((stranger, where(place, one)), (stranger, where(place, one, "/preview")),
                      (odd, f"/conversations/{place}/attachments/{place}")):  # fmt: skip
        assert (await who.http.get(path)).status_code == 404
    assert (await stranger.upload(place, b"x")).status_code == 404


async def test_ranges_and_conditions(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    content = bytes(range(256)) * 3_000
    one = await sent(mara, place, content, "log.bin")
    etag, size = f'"{one["sha256"]}"', len(content)
    assert one["media_type"] == "application/octet-stream"
    for asked, status, start, end in (
        ({"Range": "bytes=0-9"}, 206, 0, 10), ({"Range": "bytes=-5"}, 206, size - 5, size),
        ({"Range": f"bytes={size - 1}-"}, 206, size - 1, size), ({"Range": "bytes=5-999999999"}, 206, 5, size),
        ({"Range": "bytes=1-2,4-5"}, 200, 0, size), ({"Range": "lines=1-2"}, 200, 0, size),
        ({"Range": "bytes=0-9", "If-Range": etag}, 206, 0, 10),
        ({"Range": "bytes=0-9", "If-Range": '"x"'}, 200, 0, size),
        ({"If-None-Match": f'"x", W/{etag}'}, 304, 0, 0), ({"If-None-Match": '"x"'}, 200, 0, size),
        ({"If-Match": '"x"'}, 412, 0, 0), ({"If-Match": etag}, 200, 0, size), ({"Range": f"bytes={size}-"}, 416, 0, 0),
    ):  # fmt: skip
        answer = await mara.http.get(where(place, one), headers=asked)
        assert answer.status_code == status, asked
        if status in (200, 206):
            assert answer.content == content[start:end]
        if status == 206:
            assert answer.headers["content-range"] == f"bytes {start}-{end - 1}/{size}"
        if status == 416:
            assert (answer.headers["content-range"], answer.json()["status"]) == (f"bytes */{size}", 416)
        assert answer.headers["etag"] == etag
    head = await mara.http.head(where(place, one))
    assert (head.status_code, head.content, head.headers["content-length"]) == (200, b"", str(size))
    assert head.headers["content-disposition"].startswith("attachment;")


async def test_what_is_sent_again_is_the_same(person: Make, service: Served) -> None:
    mara, odd = person(), person()
    place, other = (await mara.make(members=[odd.user]))["id"], (await mara.make())["id"]
    content = unique_bytes()
    first = await mara.upload(place, content, "tides.txt")
    again = await mara.upload(place, content, "tides.txt")
    assert (first.status_code, again.status_code, again.json()) == (201, 200, first.json())
    named = await mara.upload(place, content, "other.txt")
    theirs = await odd.upload(place, content, "tides.txt")
    elsewhere = await mara.upload(other, content, "tides.txt")
    assert {one.status_code for one in (named, theirs, elsewhere)} == {201}
    ids = {one.json()["attachment_id"] for one in (first, named, theirs, elsewhere)}
    assert len(ids) == 4
    # Equal bytes lie once in a conversation, and never across.
    until(lambda: held(service, content) == 2)
    refused = await odd.post(place, "not mine", attachments=[first.json()["attachment_id"]])
    assert (refused.status_code, refused.json()["errors"][0]["pointer"]) == (422, "/attachments")
    refused = await mara.post(other, "not here", attachments=[first.json()["attachment_id"]])
    assert refused.status_code == 422


def held(service: Served, content: bytes) -> int:
    """How many files of the service hold just this."""
    found = 0
    for path in service.files.rglob("*"):
        with contextlib.suppress(OSError):  # gone meanwhile, or a folder
            found += path.stat().st_size == len(content) and path.read_bytes() == content
    return found


def unique_bytes() -> bytes:
    return f"tide table {uuid4()}".encode() * 50


async def test_digests_names_and_sizes(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    sha256 = base64.b64encode(hashlib.sha256(b"tides").digest()).decode()
    sha512 = base64.b64encode(hashlib.sha512(b"tides").digest()).decode()
    for digest, status in (
        (f"sha-256=:{sha256}:", 201), (f"sha-512=:{sha512}:, sha-256=:{sha256}:", 200), ("crc32=:AAAA:", 200),
        (f"sha-256=:{base64.b64encode(bytes(32)).decode()}:", 422), ("sha-256=:AAAA:", 422), ("sha-256", 422),
    ):  # fmt: skip
        answer = await mara.upload(place, b"tides", "tides.txt", Content_Digest=digest)
        assert answer.status_code == status, (digest, answer.text)
    for given, kept in (
        ("../../etc/passwd", "passwd"), ("C:\\berths\\plan.pdf", "plan.pdf"), ("a\u202egnp.exe", "agnp.exe"),
        ("\u0007bell\u2028.txt", "bell.txt"), ("..", "file"), ("dir/", "file"),
        ("x" * 300 + ".pdf", "x" * 251 + ".pdf"),
        ("潮汐 🛳.txt", "潮汐 🛳.txt"),
    ):  # fmt: skip
        assert (await sent(mara, place, b"1", given))["name"] == kept
    assert (await mara.upload(place, b"2", None)).json()["name"] == "file"
    plain = await mara.upload(place, b"3", None, Content_Disposition='attachment; filename="plain name.txt"')
    assert plain.json()["name"] == "plain name.txt"
    both = "attachment; filename=\"poor.txt\"; filename*=UTF-8''r%C3%ADo.txt"
    assert (await mara.upload(place, b"4", None, Content_Disposition=both)).json()["name"] == "río.txt"
    for charset in ("idna", "utf-16", "unicode_escape", "rot13", "none", "punycode"):
        answer = await mara.upload(place, b"5", None, Content_Disposition=f"attachment; filename*={charset}''x%2e%2e")
        assert (charset, answer.status_code) == (charset, 422)
    latin = await mara.upload(place, b"6", None, Content_Disposition="attachment; filename*=ISO-8859-1''r%EDo.txt")
    assert latin.json()["name"] == "río.txt"
    large = await mara.upload(place, bytes(25_000_001), "large.bin")
    assert (large.status_code, large.json()["type"]) == (413, "/problems/too-large")

    async def endless() -> Any:
        for _ in range(30):
            yield bytes(1_000_000)

    late = await mara.http.post(f"/conversations/{place}/attachments", content=endless())
    assert late.status_code == 413
    many = await mara.post(place, "eleven", attachments=[str(UUID(int=n)) for n in range(11)])
    assert many.status_code == 413
    assert (await mara.post(place, "", attachments=[])).json()["errors"] == [
        {"pointer": "/body", "detail": "must not be empty or blank"}
    ]


async def test_kinds_come_from_the_content(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    turned = Image.Exif()
    turned[0x0112] = 6
    for content, kind, size, inline in (
        (picture(kind="JPEG"), "image/jpeg", (640, 400), True), (picture(kind="WEBP"), "image/webp", (640, 400), True),
        (picture(kind="JPEG", exif=turned), "image/jpeg", (400, 640), True),
        (picture(kind="GIF"), "image/gif", (640, 400), True),
        (picture(kind="AVIF"), "image/avif", (640, 400), True), (moving(), "image/gif", (40, 30), False),
        (picture()[:900], "application/octet-stream", None, False),
        (picture(kind="JPEG")[:3000], "application/octet-stream", None, False),
        (b'<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script></svg>', "image/svg+xml", None, False),
        (b"<!doctype html><script>alert(1)</script>", "text/html", None, False),
        (b"BM is a berth", "text/plain", None, False),
        (b"%PDF-1.7\n1 0 obj\n", "application/pdf", None, False), ("潮汐".encode(), "text/plain", None, False),
        (b"PK\x03\x04" + bytes(60), "application/zip", None, False), (b"", "text/plain", None, False),
        (bytes(range(256)), "application/octet-stream", None, False),
    ):  # fmt: skip
        answer = await mara.upload(place, content, "it.png", Content_Type="image/png")
        one = answer.json()
        assert (one["media_type"], (one["width"], one["height"])) == (kind, size or (None, None)), content[:20]
        got = await mara.http.get(where(place, one))
        assert got.headers["content-disposition"].startswith("inline" if inline else "attachment"), kind
        assert got.content == content
        small = await mara.http.get(where(place, one, "/preview?width=320"))
        assert small.status_code == (200 if size else 404), kind
    bomb = await mara.upload(place, bomb_of(20_000, 20_000), "bomb.png")
    assert bomb.status_code == 422
    assert "50,000,000 pixels" in bomb.json()["detail"]


def bomb_of(width: int, height: int) -> bytes:
    """A picture of one colour with very many pixels, and few bytes."""
    out = io.BytesIO()
    Image.new("1", (width, height)).save(out, "PNG")
    return out.getvalue()


async def test_previews_are_small_and_say_nothing_but_the_picture(person: Make) -> None:
    mara, odd = person(), person()
    place = (await mara.make(members=[odd.user]))["id"]
    exif = Image.Exif()
    exif[0x0112], exif[0x010F] = 6, "Skerry camera"
    one = await sent(mara, place, picture(1600, 1000, "JPEG", exif=exif, comment=b"berth 7"), "berth.jpg")
    await mara.post(place, "the berth", attachments=[one["attachment_id"]])
    for width, expected in ((320, (320, 512)), (960, (960, 1536))):
        answer = await odd.http.get(where(place, one, f"/preview?width={width}"))
        assert (answer.status_code, answer.headers["content-type"]) == (200, "image/webp")
        assert answer.headers["cache-control"] == "private, no-cache"
        small = Image.open(io.BytesIO(answer.content))
        assert (small.format, small.size) == ("WEBP", expected)
        assert not small.getexif()
        assert b"Skerry" not in answer.content
        again = await odd.http.get(
            where(place, one, f"/preview?width={width}"), headers={"If-None-Match": answer.headers["etag"]}
        )
        assert again.status_code == 304
    tiny = await sent(mara, place, picture(50, 20), "tiny.png")
    answer = await mara.http.get(where(place, tiny, "/preview?width=960"))
    assert Image.open(io.BytesIO(answer.content)).size == (50, 20)
    for wrong in ("640", "0", "x"):
        assert (await mara.http.get(where(place, one, f"/preview?width={wrong}"))).status_code == 422


async def test_edits_keep_replace_and_drop(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    first, second = await sent(mara, place, b"one"), await sent(mara, place, b"two")
    await mara.post(place, "two files", attachments=[first["attachment_id"]])
    message = f"/conversations/{place}/messages/1"
    kept = (await mara.http.patch(message, json={"body": "still"})).json()
    assert kept["attachments"] == [first]
    both = [second["attachment_id"], first["attachment_id"]]
    changed = (await mara.http.patch(message, json={"body": "still", "attachments": both})).json()
    assert (changed["attachments"], changed["edits"]) == ([second, first], 1)
    same = (await mara.http.patch(message, json={"body": "still", "attachments": both})).json()
    assert same["rev"] == changed["rev"]
    alone = await mara.http.patch(message, json={"body": "", "attachments": both[:1]})
    assert (alone.status_code, alone.json()["attachments"]) == (200, [second])
    nothing = await mara.http.patch(message, json={"body": "", "attachments": []})
    assert (nothing.status_code, nothing.json()["errors"][0]["pointer"]) == (422, "/body")
    # What an edit has left out can be used again.
    assert (await mara.http.get(where(place, first))).status_code == 200
    again = await mara.post(place, "again", attachments=[first["attachment_id"]])
    assert again.json()["attachments"] == [first]


@pytest.mark.parametrize("how", ["removed", "closed"])
async def test_what_is_removed_is_gone(person: Make, service: Served, how: str) -> None:
    mara, odd = person(), person()
    place = (await mara.make(members=[odd.user]))["id"]
    content = unique_bytes()
    one = await sent(mara, place, content)
    shared = await sent(mara, place, content, "again.txt")
    shown = await sent(mara, place, picture(), "berth.png")
    bearing = [one["attachment_id"], shown["attachment_id"]]
    await mara.post(place, "to go", attachments=bearing)
    await mara.post(place, "to stay", attachments=[one["attachment_id"]])
    assert (await odd.http.get(where(place, shown, "/preview"))).status_code == 200
    link = (await odd.http.post(where(place, shown, "/link"))).json()["url"]
    assert httpx.get(link).status_code == 200
    if how == "closed":
        assert (await mara.http.delete(f"/conversations/{place}")).status_code == 204
        until(lambda: not held(service, content))
        assert (await odd.http.get(where(place, one))).status_code == 404
        return
    assert (await mara.http.delete(f"/conversations/{place}/messages/1")).json()["attachments"] == []
    for rest in ("", "/preview"):
        assert (await odd.http.get(where(place, shown, rest))).status_code == 404
    assert httpx.get(link).status_code == 404
    assert (await mara.post(place, "no", attachments=[shown["attachment_id"]])).status_code == 422
    assert (await odd.http.get(where(place, one))).content == content  # another message has it
    await mara.http.delete(f"/conversations/{place}/messages/2")
    assert (await odd.http.get(where(place, one))).status_code == 404
    until(lambda: held(service, content) == 1)
    assert (await mara.http.get(where(place, shared))).content == content  # equal bytes, of another file
    new = await mara.upload(place, content, "tides.txt")
    assert (new.status_code, new.json()["attachment_id"] == one["attachment_id"]) == (201, False)
    await mara.post(place, "", attachments=[new.json()["attachment_id"], shared["attachment_id"]])
    await mara.http.delete(f"/conversations/{place}/messages/3")
    until(lambda: not held(service, content))


async def test_expired_files_are_gone_and_archived_ones_are_an_owners(person: Make) -> None:
    mara, odd, office = person(), person(), person(scope="nestrel.service")
    for then, owners in (("discard", 410), ("archive", 200)):
        place = (await mara.make(members=[odd.user]))["id"]
        one = await sent(mara, place)
        await mara.post(place, "old", attachments=[one["attachment_id"]])
        await mara.post(place, "new")
        rule = {"keep_last": 1, "then": then, "confirm": True}
        answer = await mara.http.put(f"/conversations/{place}/retention", json=rule)
        assert answer.status_code == 200, answer.text
        for _ in range(2):
            assert (await odd.http.get(where(place, one))).status_code == 410
            assert (await mara.http.get(where(place, one))).status_code == owners
            assert (await office.http.get(where(place, one))).status_code == owners
            link = await odd.http.post(where(place, one, "/link"))
            assert link.status_code == 404
            await office.http.post("/retention/run")
        assert (await mara.post(place, "again", attachments=[one["attachment_id"]])).status_code == 422


async def test_keep_bytes_counts_files(person: Make) -> None:
    mara = person()
    place = (await mara.make(retention={"keep_bytes": 5_000, "then": "discard"}))["id"]
    first, second = await sent(mara, place, bytes(3_000), "1"), await sent(mara, place, bytes(3_000), "2")
    large = await sent(mara, place, bytes(6_000), "3")
    assert (await mara.post(place, "", attachments=[first["attachment_id"]])).status_code == 201
    assert (await mara.post(place, "", attachments=[second["attachment_id"]])).status_code == 201
    assert (await mara.page(place))["floor"] == 2
    assert (await mara.post(place, "", attachments=[large["attachment_id"]])).status_code == 413


async def test_links_work_without_a_token_while_their_maker_may_read(person: Make) -> None:
    mara, odd = person(), person()
    place = (await mara.make(members=[odd.user]))["id"]
    one = await sent(mara, place)
    await mara.post(place, "tides", attachments=[one["attachment_id"]])
    made = await odd.http.post(where(place, one, "/link"), json={"expires_in": 60})
    assert made.status_code == 201
    url = made.json()["url"]
    got = httpx.get(url, headers={"Range": "bytes=0-3"})
    assert (got.status_code, got.content, got.headers["referrer-policy"]) == (206, b"tide", "no-referrer")
    assert httpx.get(url[:-2] + "xx").status_code == 404
    for seconds, status in ((0, 422), (86_401, 422), (1.5, 422), ("60", 422), (86_400, 201), (1, 201)):
        answer = await odd.http.post(where(place, one, "/link"), json={"expires_in": seconds})
        assert answer.status_code == status, seconds
    until(lambda: httpx.get(answer.json()["url"]).status_code == 404)
    await odd.http.delete(f"/conversations/{place}/members/{odd.user}")
    assert httpx.get(url).status_code == 404
    for rest in ("", "/preview"):
        assert (await odd.http.get(where(place, one, rest))).status_code == 404
    assert (await mara.http.post(where(place, one, "/link"))).status_code == 201


async def test_who_may_upload(person: Make) -> None:
    mara, reader, office = person(), person(), person(scope="nestrel.service")
    place = (await mara.make())["id"]
    await mara.http.put(f"/conversations/{place}/members/{reader.user}", json={"role": "reader"})
    assert (await reader.upload(place, b"x")).status_code == 403
    target = f"/conversations/{place}/attachments?on_behalf_of={mara.user}"
    assert (await reader.http.post(target, content=b"x")).status_code == 403
    one = (await office.http.post(target, content=b"for mara")).json()
    assert (await office.http.get(where(place, one))).status_code == 404
    posted = await office.post(place, "from the office", on_behalf_of=mara.user, attachments=[one["attachment_id"]])
    assert (posted.status_code, posted.json()["author_id"]) == (201, mara.user)
    own = await sent(office, place, b"the office's")
    refused = await office.post(place, "x", on_behalf_of=mara.user, attachments=[own["attachment_id"]])
    assert refused.status_code == 422


async def test_a_key_stands_for_attachments_too(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    one, other = await sent(mara, place, b"1"), await sent(mara, place, b"2")
    first = await mara.post(place, "tides", "k", attachments=[one["attachment_id"]])
    again = await mara.post(place, "tides", "k", attachments=[one["attachment_id"]])
    assert (first.status_code, again.status_code, again.json()) == (201, 200, first.json())
    for attachments in ([], [other["attachment_id"]], [one["attachment_id"], other["attachment_id"]]):
        assert (await mara.post(place, "tides", "k", attachments=attachments)).status_code == 409


async def test_a_hundred_unused_are_as_many_as_one_has(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    for n in range(100):
        await sent(mara, place, b"x", f"{n}.txt")
    refused = await mara.upload(place, b"x", "one more.txt")
    problem = refused.json()
    assert (refused.status_code, problem["type"], problem["quota"], problem["limit"]) == (
        403, "/problems/over-quota", "unused_attachments", 100,
    )  # fmt: skip
    digest = f"sha-256=:{base64.b64encode(hashlib.sha256(b'x').digest()).decode()}:"
    assert (await mara.upload(place, b"x", "5.txt", Content_Digest=digest)).status_code == 200


async def test_at_every_door(person: Make) -> None:
    mara, odd = person(), person()
    place = (await mara.make(members=[odd.user]))["id"]
    first, second = await sent(mara, place, b"1"), await sent(mara, place, b"2")
    ids = [first["attachment_id"], second["attachment_id"]]
    async with mara.socket() as wire, odd.socket() as other:
        await other.command(type="follow", conversation_id=place)
        done = await wire.command(type="post", conversation_id=place, key="k", body="", attachments=ids)
        assert done["message"]["attachments"] == [first, second]
        refused = await wire.command(type="post", conversation_id=place, key="n", body="")
        assert refused["problem"]["errors"][0]["pointer"] == "/body"
        done = await wire.command(type="edit", conversation_id=place, seq=1, body="one", attachments=ids[:1])
        assert done["message"]["attachments"] == [first]
        shown: list[Any] = []
        while len(shown) < 2:
            frame = await other.get()
            shown += [one["attachments"] for one in frame.get("messages", [])]
        assert shown == [[first, second], [first]]
    batch = [{"key": "a", "body": "", "attachments": ids}, {"key": "b", "body": "no files"}]
    answer = await mara.http.post(f"/conversations/{place}/messages/batch", json={"messages": batch})
    assert [one["attachments"] for one in answer.json()["items"]] == [[first, second], []]
    batch = [{"key": "c", "body": "x"}, {"key": "d", "body": "y", "attachments": [place]}]
    answer = await mara.http.post(f"/conversations/{place}/messages/batch", json={"messages": batch})
    assert (answer.status_code, answer.json()["errors"][0]["pointer"]) == (422, "/messages/1/attachments")
    changes = (await odd.http.get(f"/conversations/{place}/changes")).json()
    assert [one["attachments"] for one in changes["messages"]] == [[first], [first, second], []]

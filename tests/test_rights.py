"""The table of rights, held against every route and every frame in every cell: nobody does what it refuses, and a
conversation that somebody may not see answers, to the byte and to the statement, as one that never was."""

from __future__ import annotations

import asyncio
import itertools
import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from uuid import uuid4

import httpx
import pytest
from pydantic import SecretStr

from nestrel.core.rights import ANYWHERE, RIGHTS, Action, Verdict, Who
from nestrel.core.roles import Kind, Visibility
from nestrel.service import access, access_page, doors
from nestrel.service.app import make_app
from nestrel.service.settings import Settings
from tests.house import House, Place
from tests.support import SECRET, Person, Served, token

PLACES = [
    (Kind.GROUP, Visibility.OPEN), (Kind.GROUP, Visibility.CLOSED), (Kind.BULLETIN, Visibility.OPEN),
    (Kind.BULLETIN, Visibility.CLOSED), (Kind.DIRECT, Visibility.CLOSED),
]  # fmt: skip

RULE = {"keep_last": 500, "then": "discard"}
BODIES: dict[tuple[str, str], list[Any]] = {
    ("POST", "/messages"): [{"body": "in"}, {"body": "again", "reply_to": 1}],
    ("POST", "/messages/batch"): [{"messages": [{"key": "k", "body": "in"}]}],
    ("PATCH", "/messages/{seq}"): [{"body": "other"}],
    ("POST", "/messages/{seq}/reports"): [{"reason": "rude"}],
    ("PUT", "/receipt"): [{"read_seq": 1}, {"read_seq": 10**9}],
    ("PUT", "/members/{user_id:path}"): [{}, {"role": "owner"}],
    ("PATCH", "/members/{user_id:path}"): [{"role": "reader"}, {"role": "owner"}],
    ("PATCH", ""): [{"title": "x"}, {"post_interval": None}],
    ("PUT", "/retention"): [RULE],
    ("POST", "/retention/preview"): [RULE],
    ("POST", "/import"): [None],
}
"""What is sent to a route of a conversation, by the rest of its path; nothing to the others. What cannot be taken is
refused by the right first."""
OVERRIDES = {("PUT", "/members/me"): Action.JOIN, ("PUT", "/members/other"): Action.ADD,
             ("DELETE", "/members/me"): Action.LEAVE, ("DELETE", "/members/other"): Action.DISMISS,
             ("PATCH", "/members/me"): Action.HIDE, ("PATCH", "/members/other"): Action.RANK}  # fmt: skip


def cells(place: Place, who: Who) -> Iterator[tuple[str, str, Any, Action]]:
    """Every call into a conversation: method, path behind its id, body, and the action that decides on it."""
    prefix = "/v1/conversations/{conversation_id}"
    other = Who.WRITER if who is Who.READER else Who.READER
    for path, route in doors.routes():
        if not path.startswith(prefix):
            continue
        rest = path.removeprefix(prefix)
        [*actions] = access.actions_of(route.endpoint)
        for method in sorted((route.methods or set()) - {"HEAD"}):
            if rest == "/stream":
                continue  # which does not end; the frames follow
            bodies = BODIES.get((method, rest), [None])
            for users, seqs in itertools.product(
                ("me", "other") if "{user_id" in rest else ("",), _seqs(place, who, rest)
            ):
                for body in bodies:
                    filled = rest.replace("{user_id:path}", "me" if users == "me" else place.people[other])
                    filled = filled.replace("{seq}", str(seqs)).replace("{symbol}", "like").replace("{segment}", "1")
                    filled = filled.replace("{attachment_id}", place.attachment).replace(
                        "{invitation_id}", str(uuid4())
                    )
                    action = OVERRIDES.get((method, rest.replace("{user_id:path}", users)), actions[0])
                    if action is Action.HIDE:
                        body = {"hidden": False}
                    if action is Action.REMOVE and seqs != place.seqs.get(who):
                        action = Action.REMOVE_OTHERS
                    yield method, filled, body, action


def _seqs(place: Place, who: Who, rest: str) -> list[int]:
    """One's own message, another's, one that was removed, and one that never was."""
    if "{seq}" not in rest:
        return [0]
    other = next(one for one in place.seqs if one is not who)
    own = place.seqs.get(who, place.seqs[other])
    return [own, place.seqs[other], place.removed, 10**6]


def _changes_places(method: str, rest: str, verdict: Verdict) -> bool:
    """Whether a call may change who is what, or what is there: it is tried on a place of its own."""
    return verdict is Verdict.ALLOWED and method != "GET" and not rest.startswith(("/messages", "/receipt"))


def _is_of_its_own(how: str, kind: Kind, visibility: Visibility) -> bool:
    """A cookie is another way to be the same person, and blocking is for direct conversations: of each, one kind of
    conversations shows it."""
    return how not in ("cookie", "blocked") or (kind, visibility) == (Kind.GROUP, Visibility.OPEN)


# Nobody leaves a direct conversation, and blocking in one has tests of its own.
WAYS = [
    pytest.param(how, kind, visibility, marks=() if _is_of_its_own(how, kind, visibility) else pytest.mark.whole)
    for how in ("token", "cookie", "former", "blocked")
    for kind, visibility in PLACES
    if kind is not Kind.DIRECT or how in ("token", "cookie")
]


@pytest.mark.parametrize(("how", "kind", "visibility"), WAYS)
async def test_no_route_does_what_the_table_refuses_and_what_is_unseen_is_as_absent(
    house: House, kind: Kind, visibility: Visibility, how: str
) -> None:
    """By each way in, for who was a member before, and among people who have blocked each other, which is for direct
    conversations and changes nothing elsewhere: about 10,000 calls, those that make the places not counted."""
    place, ended = await house.place(kind, visibility), await house.place(kind, visibility)
    await house.end(ended)
    calls = 0
    for who in place.present():
        backend, cookie = who is Who.BACKEND, how == "cookie"
        if (backend and cookie) or (how == "former" and who not in (Who.STRANGER, Who.PASSER_BY, Who.KEPT_OUT)):
            continue  # a cookie never has a backend's scope; those inside have not left
        if how == "former":
            await house.was_member(place, who)
        elif how == "blocked":
            await house.at_odds(place, who)
        for method, rest, body, action in cells(place, who):
            verdict = place.standing(who).verdict(action)
            alone = _changes_places(method, rest, verdict)
            here = await house.another(place, attachment="/attachments/" in rest) if alone else place
            if alone:
                rest = rest.replace(place.attachment, here.attachment)
            user = here.people[who]
            options: dict[str, Any] = {"backend": backend, "cookie": cookie}
            path = f"/conversations/{here.id}{rest}"
            if cookie:
                await house.call(user, "GET", "/me", **options)  # which is made by the first call
            answer, asked = await house.counted(user, method, path, body, **options)
            calls += 1
            said = (kind, visibility, who, method, rest, body, answer.status_code, answer.text[:300])
            assert answer.status_code < 500, said
            if verdict is Verdict.ALLOWED:
                about_place = "there is no conversation" in answer.text
                assert not about_place, answer.text
                assert answer.status_code != 403 or _decided_further(action), said
            elif verdict is Verdict.REFUSED:
                no_message = str(10**6) in rest and answer.status_code == 404  # whose it is decides, and it is nobody's
                assert answer.status_code == 403 or no_message, said
            else:
                assert answer.status_code == 404, said
                for never in (str(uuid4()), ended.id):
                    absent, as_asked = await house.counted(
                        user, method, f"/conversations/{never}{rest}", body, **options
                    )
                    calls += 1
                    assert absent.text.replace(never, here.id) == answer.text, said
                    assert absent.headers.raw == answer.headers.raw, said
                    assert as_asked == asked, said
    assert calls >= 150


def _decided_further(action: Action) -> bool:
    """What depends on more than the table: whose message it is, whom it is done to, the last owner, a higher role."""
    return action in (
        Action.EDIT, Action.RANK, Action.DISMISS, Action.ADD, Action.KEEP_OUT, Action.LEAVE, Action.JOIN, Action.READ,
        Action.REACT, Action.REPORT, Action.REPORT,
    )  # fmt: skip


async def test_what_only_a_backend_does_nobody_else_does(house: House) -> None:
    await house.call("mara", "GET", "/me")
    for path, route in doors.routes():
        actions = access.actions_of(route.endpoint)
        if Action.SERVE not in actions:
            continue
        filled = path.removeprefix("/v1").replace("{user_id:path}", "odd")
        filled = filled.replace("{erasure_id}", str(uuid4())).replace("{connection_id}", "c")
        for method in sorted((route.methods or set()) - {"HEAD"}):
            refused, asked = await house.counted("mara", method, filled, {} if method != "GET" else None)
            assert (refused.status_code, asked) == (403, []), path


async def test_who_is_suspended_or_signed_out_gets_nowhere(house: House) -> None:
    place = await house.place(Kind.GROUP, Visibility.OPEN)
    user = place.people[Who.OWNER]
    before = token(user)  # one of the next second would be a new way in
    for call, status in (("PUT", 403), ("POST", 401)):
        target = "suspension" if call == "PUT" else "sign-out"
        done = await house.call("office", call, f"/people/{user}/{target}", {} if call == "PUT" else None, backend=True)
        assert done.status_code in (200, 201)
        for path, route in doors.routes():
            filled = path.removeprefix("/v1").replace("{conversation_id}", place.id).replace("{user_id:path}", "me")
            for name in ("seq", "symbol", "segment"):
                filled = filled.replace(f"{{{name}}}", "1" if name != "symbol" else "like")
            for name in ("attachment_id", "invitation_id", "report_id", "erasure_id"):
                filled = filled.replace(f"{{{name}}}", str(uuid4()))
            filled = filled.replace("{connection_id}", "c").replace("{token}", "x" * 43)
            if "{link}" in filled:
                continue  # which stands for itself
            for method in sorted((route.methods or set()) - {"HEAD"}):
                answer = await house.call(user, method, filled, bearer=before)
                assert answer.status_code == status, (method, path, answer.text[:200])
        await house.call("office", "DELETE", f"/people/{user}/suspension", None, backend=True)


FRAMES: dict[str, tuple[dict[str, Any], Action]] = {
    "follow": ({}, Action.FOLLOW), "post": ({"key": "k", "body": "in"}, Action.POST),
    "edit": ({"seq": 1, "body": "x"}, Action.EDIT), "remove": ({"seq": 1}, Action.REMOVE),
    "react": ({"seq": 1, "symbol": "like"}, Action.REACT), "unreact": ({"seq": 1, "symbol": "like"}, Action.REACT),
    "read": ({"read_seq": 1}, Action.READ), "signal": ({"name": "writing"}, Action.POST),
}  # fmt: skip


@pytest.mark.parametrize(("kind", "visibility"), PLACES)
async def test_no_frame_does_what_the_table_refuses(service: Served, kind: Kind, visibility: Visibility) -> None:
    async with httpx.AsyncClient(base_url=service.url) as http:
        place = await House(http).place(kind, visibility)
    assert {name for name, actions in doors.frame_actions() if actions - set(ANYWHERE)} - {"follow_all"} == set(FRAMES)
    for who in place.present():
        claims = {"scope": "nestrel.service"} if who is Who.BACKEND else {}
        person = Person(service.url, place.people[who], **claims)
        async with person.socket() as wire:
            for name, (fields, action) in FRAMES.items():
                verdict = place.standing(who).verdict(action)
                answer = await wire.command(type=name, conversation_id=place.id, **fields)
                said = (kind, visibility, who, name, answer)
                if verdict is Verdict.ALLOWED:
                    if answer["type"] == "refused":
                        assert "there is no conversation" not in answer["problem"]["detail"], said
                    continue
                problem = answer["problem"]
                assert problem["status"] == (403 if verdict is Verdict.REFUSED else 404), said
                if verdict is Verdict.ABSENT:
                    never = str(uuid4())
                    absent = (await wire.command(type=name, conversation_id=never, **fields))["problem"]
                    assert json.dumps(absent).replace(never, place.id) == json.dumps(problem), said


async def test_nobody_who_is_put_out_hears_what_was_said_behind_them(person: Callable[..., Person]) -> None:
    """In a race of posts with the end of a membership, nothing behind that end is delivered."""
    for _ in range(5):
        mara, odd = person(), person()
        place = (await mara.make(members=[odd.user], visibility="open"))["id"]
        async with odd.socket() as wire:
            await wire.command(type="follow_all")
            posts = [mara.post(place, f"{n}") for n in range(20)]
            out = mara.http.put(f"/conversations/{place}/kept-out/{odd.user}", json={})
            *posted, ended = await asyncio.gather(*posts[:10], out, *posts[10:])
            assert all(one.status_code in (200, 201) for one in (*posted, ended))
            last = (await mara.post(place, "behind their back")).json()["seq"]
            heard = 0
            while (frame := await wire.get())["type"] != "unfollowed":
                heard = max([heard, *(one["seq"] for one in frame.get("messages", []))])
            assert heard < last
            await wire.quiet()


def test_the_page_is_made_from_the_table() -> None:
    shown = (Path(__file__).parents[1] / "docs/access.md").read_text()
    assert shown == access_page.page(doors.routes(), doors.frame_actions()), "run python -m nestrel.service.access_page"
    assert set(RIGHTS) | set(ANYWHERE) == set(Action)


def test_a_door_that_has_not_said_what_it_is_for_does_not_open(monkeypatch: pytest.MonkeyPatch) -> None:
    path, route = next(iter(doors.routes()))
    monkeypatch.delattr(route.endpoint, "nestrel_actions")
    with pytest.raises(RuntimeError, match=path.rsplit("/", 1)[-1]):
        make_app(Settings(database_url="postgresql://x@y/z", jwt_secret=SecretStr(SECRET)))

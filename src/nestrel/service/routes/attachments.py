"""Attachments: send one, read one, its preview, and a link that needs no token."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import AsyncIterator
from datetime import UTC, datetime, timedelta
from email.message import Message
from typing import Annotated
from urllib.parse import quote
from uuid import UUID

from fastapi import APIRouter, Query, Request
from starlette.responses import Response

from nestrel.core import objects as wire
from nestrel.core.attachments import NAMELESS, Attachment, clean_name
from nestrel.core.callers import Caller
from nestrel.core.cursors import Link
from nestrel.core.problems import Expired, Forbidden, NotFound, invalid
from nestrel.core.rights import Action
from nestrel.core.times import format_time
from nestrel.service import streamed
from nestrel.service.access import does
from nestrel.service.attachments import Asking, Sent
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented, documented_text
from nestrel.service.intake import takes
from nestrel.service.models import AttachmentsQuery, LinkRequest, PreviewQuery
from nestrel.service.state import Service
from nestrel.store.access import see
from nestrel.store.read import attachments
from nestrel.store.read.attachments import Shown
from nestrel.store.write import uploads

router = APIRouter(route_class=JsonRoute, tags=["attachments"])

_HERE = "/conversations/{conversation_id}/attachments"
_DIGEST = re.compile(r"\s*([a-z0-9-]+)\s*=\s*:([A-Za-z0-9+/=]*):\s*")
_CHARSETS = ("utf-8", "iso-8859-1")
"""In which a file may be named (RFC 8187, 3.2.1); decoders of others can be made to fail, or to take long."""
_SIZES = {"sha-256": 32, "sha-512": 64}
_BYTES = documented_text("The bytes", "*/*")
_BYTES |= {206: {"description": "A part of them"}, 304: {"description": "They are as they were"}}
_PREVIEW = documented_text("A small picture", "image/webp")
_UPLOAD = {
    "requestBody": {
        "required": True,
        "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
    },
    "parameters": [
        {
            "name": "Content-Disposition",
            "in": "header",
            "required": False,
            "schema": {"type": "string"},
            "description": "the file's name (RFC 6266), as in `attachment; filename*=UTF-8''berths.pdf`",
        },
        {
            "name": "Content-Digest",
            "in": "header",
            "required": False,
            "schema": {"type": "string"},
            "description": "what the bytes must be (RFC 9530): `sha-256` or `sha-512`",
        },
    ],
}


@router.post(_HERE, status_code=201, responses=documented(wire.Attachment, status=201, s200=wire.Attachment),
             openapi_extra=_UPLOAD)  # fmt: skip
@does(Action.POST)
@takes(most=None)
async def upload(
    conversation_id: UUID,
    query: Annotated[AttachmentsQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Json:
    """Send a file, the bytes as the body. What kind it is its content says. It can then be posted with a message by
    who sent it, and goes after a day when it is in none. The same bytes under the same name are not kept twice, and
    answered with 200."""
    if query.on_behalf_of is not None and not caller.service:
        raise Forbidden("only a trusted backend (scope nestrel.service) uploads on behalf of someone else")
    if query.on_behalf_of is not None:
        await service.bars.check_living(query.on_behalf_of)
    length = request.headers.get("content-length", "")
    sent = Sent(
        query.on_behalf_of or caller.user_id,
        _name(request),
        int(length) if length.isdigit() else 0,
        _digests(request),
    )
    async with service.database.read() as connection:
        access = await uploads.may_upload(connection, conversation_id, caller)
    kept, new = await service.attachments.take(access, caller, sent, _chunks(request), _asking(request, caller))
    return Json(kept.wire(), 201 if new else 200)


def _asking(request: Request, caller: Caller) -> Asking:
    return streamed.asking(request, caller.user_id, service=caller.service)


async def _chunks(request: Request) -> AsyncIterator[bytes]:
    async for chunk in request.stream():
        yield chunk


def _name(request: Request) -> str:
    """The file's name in `Content-Disposition` (RFC 6266); the form of RFC 8187 goes before the plain one."""
    raw = next((value for name, value in request.headers.raw if name == b"content-disposition"), None)
    if raw is None:
        return NAMELESS
    try:
        header = raw.decode("utf-8")
    except UnicodeDecodeError:
        header = raw.decode("latin-1")
    message = Message()
    message["content-disposition"] = header.replace("\r", " ").replace("\n", " ")
    plain, extended = "", ""
    for name, value in message.get_params(header="content-disposition") or []:
        if name.lower() == "filename" and isinstance(value, tuple):
            charset, _, text = value
            if (charset or "utf-8").lower() not in _CHARSETS:
                raise invalid("/Content-Disposition", "name the file in UTF-8: filename*=UTF-8''…")
            extended = text.encode("latin-1", "replace").decode(charset or "utf-8", "replace")
        elif name.lower() == "filename":
            plain = value
    return clean_name(extended or plain)


def _digests(request: Request) -> dict[str, bytes]:
    """The hashes in `Content-Digest` (RFC 9530) of algorithms that are known here."""
    header = request.headers.get("content-digest")
    found: dict[str, bytes] = {}
    for part in (header or "").split(","):
        if not part.strip():
            continue
        one = _DIGEST.fullmatch(part)
        if one is None:
            raise invalid("/Content-Digest", "must look like sha-256=:BASE64:")
        name, text = one.groups()
        if name not in _SIZES:
            continue
        try:
            digest = base64.b64decode(text, validate=True)
        except binascii.Error:
            digest = b""
        if len(digest) != _SIZES[name]:
            raise invalid("/Content-Digest", f"is no {name} in base64")
        found[name] = digest
    return found


async def _shown(service: Service, conversation_id: UUID, attachment_id: UUID, caller: Caller) -> Shown:
    async with service.database.read() as connection:
        access = await see(connection, conversation_id, caller, Action.SEE)
        return await attachments.show(connection, access, caller, attachment_id)


@router.head(_HERE + "/{attachment_id}", include_in_schema=False)
@router.get(_HERE + "/{attachment_id}", response_class=Response, responses=_BYTES)
@does(Action.SEE)
async def show(
    conversation_id: UUID, attachment_id: UUID, request: Request, service: ServiceDep, caller: CallerDep
) -> Response:
    """The bytes, or a range of them, for who may read a message that has the attachment."""
    shown = await _shown(service, conversation_id, attachment_id, caller)
    return await _whole(service, request, _asking(request, caller), shown)


@router.head(_HERE + "/{attachment_id}/preview", include_in_schema=False)
@router.get(_HERE + "/{attachment_id}/preview", response_class=Response, responses=_PREVIEW)
@does(Action.SEE)
async def preview(
    conversation_id: UUID,
    attachment_id: UUID,
    query: Annotated[PreviewQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Response:
    """A small WebP of a picture, 320 or 960 pixels wide at most and never larger than the picture; of one that moves,
    its first frame."""
    shown, asks = await _shown(service, conversation_id, attachment_id, caller), _asking(request, caller)
    object_id, size = await service.attachments.preview(shown, conversation_id, int(query.width), asks)
    etag = f'"{shown.attachment.sha256.hex()}-{query.width}"'
    headers = {"Content-Type": "image/webp", "Content-Disposition": "inline"}
    return await streamed.answer(service, request, asks, object_id, size, etag, headers)


@router.post(_HERE + "/{attachment_id}/link", status_code=201, responses=documented(wire.AttachmentLink, status=201))
@does(Action.SEE)
async def make_link(
    conversation_id: UUID,
    attachment_id: UUID,
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
    wanted: LinkRequest | None = None,
) -> Json:
    """Make an address at which the attachment is to be had without a token, for some time, and only while you may
    read it yourself."""
    try:
        await _shown(service, conversation_id, attachment_id, caller)
    except Expired as problem:
        raise NotFound(problem.detail) from None
    seconds = (wanted or LinkRequest()).expires_in
    now = datetime.now(UTC)
    until = now + timedelta(seconds=seconds)
    link = service.seal.link(Link(caller.user_id, conversation_id, attachment_id, now, until, caller.service))
    base = service.settings.public_url or f"{request.url.scheme}://{request.headers.get('host', '')}"
    return Json({"url": f"{base.rstrip('/')}/v1/links/{link}", "expires_at": format_time(until)}, 201)


def _opened_link(service: Service, link: str) -> Link:
    try:
        found = service.seal.open_link(link)
    except (ValueError, OverflowError):
        raise NotFound("there is nothing at this link") from None
    if found.until <= datetime.now(UTC):
        raise NotFound("there is nothing at this link any more")
    return found


@router.head("/links/{link}", include_in_schema=False)
@router.get("/links/{link}", response_class=Response, responses=_BYTES)
@does(Action.LINK)
async def follow_link(link: str, request: Request, service: ServiceDep) -> Response:
    """The bytes of an attachment, by a link that somebody made who may still read it. Needs no token."""
    await service.load_seal()
    found = _opened_link(service, link)
    if await service.bars.ended(found.maker, found.made_at.timestamp()):
        raise NotFound("there is nothing at this link any more")
    attachment_id = found.attachment
    try:
        shown = await _shown(service, found.conversation, attachment_id, Caller(found.maker, found.service))
    except (Expired, NotFound):
        raise NotFound("there is nothing at this link any more") from None
    answer = await _whole(service, request, streamed.asking(request, f"link {attachment_id}"), shown)
    answer.headers["Referrer-Policy"] = "no-referrer"
    return answer


async def _whole(service: Service, request: Request, asks: Asking, shown: Shown) -> Response:
    one = shown.attachment
    headers = {"Content-Type": _type_of(one), "Content-Disposition": _disposition(one)}
    return await streamed.answer(service, request, asks, shown.object_id, one.size, f'"{one.sha256.hex()}"', headers)


def _type_of(one: Attachment) -> str:
    return f"{one.media_type}; charset=utf-8" if one.media_type.startswith("text/") else one.media_type


def _disposition(one: Attachment) -> str:
    """How it is to be shown (RFC 6266): in a page only what is a still picture."""
    plain = "".join(c if c.isascii() and c.isprintable() and c not in '"\\%' else "_" for c in one.name)
    kind = "inline" if one.still else "attachment"
    return f"{kind}; filename=\"{plain}\"; filename*=UTF-8''{quote(one.name, safe='')}"

"""Makes a command of the write path from a request or a frame: who it is from, and what it asks for."""

from __future__ import annotations

import re
from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.commands import Post
from nestrel.core.problems import Forbidden, invalid
from nestrel.core.text import pack_attributes
from nestrel.service.models import PostMessage

_ETAG = re.compile(r'(W/)?"([\x21\x23-\x7e\x80-\xff]*)"')

_REV_DIGITS = 19
"""More than these no `rev` has."""


def make_post(conversation_id: UUID, caller: Caller, wanted: PostMessage, key: str | None) -> Post:
    """The post that a caller asks for. Its author is the caller, whatever the request says, unless a trusted backend
    names another.

    Raises:
        Forbidden: `on_behalf_of` from anyone but a trusted backend.
    """
    if wanted.on_behalf_of is not None and not caller.service:
        raise Forbidden("only a trusted backend (scope nestrel.service) posts on behalf of someone else")
    return Post(
        conversation_id=conversation_id,
        author_id=wanted.on_behalf_of or caller.user_id,
        body=wanted.body,
        format=wanted.format,
        attributes=pack_attributes(wanted.attributes),
        reply_to=wanted.reply_to,
        key=key,
        service=caller.service,
        actor=caller.user_id if wanted.on_behalf_of is not None else None,
        request_id=caller.request_id,
        mentions=tuple(wanted.mentions),
        attachments=tuple(wanted.attachments),
    )


def revs_of(if_match: str | None) -> frozenset[int] | None:
    """The `rev`s that an `If-Match` header accepts (RFC 9110, 13.1.1): None for any. A tag that cannot be one of ours
    matches nothing.

    Raises:
        InvalidRequest: it is not a list of entity tags.
    """
    if if_match is None or if_match.strip() == "*":
        return None
    revs = set()
    for part in if_match.split(","):
        found = _ETAG.fullmatch(part.strip())
        if found is None:
            raise invalid("/If-Match", 'must be the message\'s rev in quotes, as in "12", or *')
        weak, tag = found.groups()
        if not weak and tag.isascii() and tag.isdigit() and len(tag) <= _REV_DIGITS:
            revs.add(int(tag))
    return frozenset(revs)

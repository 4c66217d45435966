"""From a request or a frame to a post: whose it is, and the answer to it."""

from __future__ import annotations

from uuid import UUID

from nestrel.core.commands import Post
from nestrel.core.problems import Forbidden
from nestrel.core.text import pack_attributes
from nestrel.service.models import PostMessage
from nestrel.store.access import Caller


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
    )

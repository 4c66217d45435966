"""Makes a post from a line of an import. It is written out and uses no model, as it decides how fast an import is."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from functools import lru_cache
from typing import Any
from uuid import UUID

import orjson

from nestrel.core import attachments, limits, text
from nestrel.core.commands import Brought, Earlier, Post
from nestrel.core.problems import Problem, TooLarge, invalid
from nestrel.core.symbols import check_symbol
from nestrel.core.times import parse_time
from nestrel.service.http import parsed

_author = lru_cache(maxsize=10_000)(text.check_user_id)
_moment = lru_cache(maxsize=10_000)(parse_time)


def read(conversation_id: UUID, line: bytes, before: Sequence[Post | Problem]) -> Post | Problem:
    """A line as a post, or what is wrong with it. `before` are the lines that came before it, to one of which it may
    reply: its `answers` is the place of that one among them. `nestrel.service.transfer_models.ImportLine` says what a
    line holds; other fields are not read."""
    try:
        return _post(conversation_id, parsed(line), before)
    except orjson.JSONDecodeError as error:
        return invalid("", f"is not valid JSON: {error}")
    except Problem as problem:
        return problem


def _post(conversation_id: UUID, fields: Any, before: Sequence[Post | Problem]) -> Post:
    if not isinstance(fields, dict):
        raise invalid("", "must be a JSON object")
    author_id = _checked(fields, "author_id", _author)
    removed_at = _time(fields, "removed_at")
    attached = _attached(fields) if removed_at is None else ()
    attributes = fields.get("attributes")
    if removed_at is None:
        body = "" if attached and fields.get("body") == "" else _checked(fields, "body", text.check_body)
    else:
        body = fields.get("body", "")
        if body != "" or attributes:
            raise invalid("/body", "a tombstone has no body and no attributes")
    return Post(
        conversation_id,
        author_id,
        body,
        _format(fields),
        _attributes(attributes),
        _number(fields, "reply_to"),
        _checked(fields, "key", text.check_key),
        service=True,
        mentions=_mentions(fields) if removed_at is None else (),
        attachments=attached,
        created_at=_time(fields, "created_at"),
        imported=True,
        answers=_answered(fields, before),
        brought=_brought(fields) if removed_at is None else None,
        removed_at=removed_at,
        removed_by=_remover(fields, author_id) if removed_at is not None else None,
    )


def _checked(fields: dict[str, Any], name: str, check: Callable[[str], str]) -> str:
    value = fields.get(name)
    if not isinstance(value, str):
        raise invalid(f"/{name}", "is missing" if value is None else "must be text")
    try:
        return check(value)
    except TooLarge:
        raise
    except ValueError as error:
        raise invalid(f"/{name}", str(error)) from None


def _time(fields: dict[str, Any], name: str) -> datetime | None:
    value = fields.get(name)
    if value is None:
        return None
    try:
        return _moment(value)
    except (ValueError, TypeError) as error:
        raise invalid(f"/{name}", str(error) if isinstance(value, str) else "must be a time as text") from None


def _format(fields: dict[str, Any]) -> str:
    value = fields.get("format")
    if value is None or value == "plain":
        return "plain"
    if value != "markdown":
        raise invalid("/format", "must be plain or markdown")
    return "markdown"


def _attributes(value: Any) -> str | None:
    if not value:
        return None
    if not isinstance(value, dict):
        raise invalid("/attributes", "must be a JSON object")
    try:
        return text.pack_attributes(text.check_attributes(value))
    except TooLarge:
        raise
    except ValueError as error:
        raise invalid("/attributes", str(error)) from None


def _mentions(fields: dict[str, Any]) -> tuple[str, ...]:
    value = fields.get("mentions")
    if not value:
        return ()
    if not isinstance(value, list) or not all(isinstance(one, str) for one in value):
        raise invalid("/mentions", "must be a list of user ids")
    try:
        return tuple(text.check_mentions([_author(one) for one in value]))
    except TooLarge:
        raise
    except ValueError as error:
        raise invalid("/mentions", str(error)) from None


def _attached(fields: dict[str, Any]) -> tuple[UUID, ...]:
    """Attachments that are here already, by their ids, or as the objects that a message has."""
    value = fields.get("attachments")
    if not value:
        return ()
    if not isinstance(value, list):
        raise invalid("/attachments", "must be a list")
    ids = [one.get("attachment_id") if isinstance(one, dict) else one for one in value]
    try:
        return tuple(attachments.check_ids([UUID(one) for one in ids]))
    except (ValueError, TypeError, AttributeError):
        raise invalid("/attachments", "must be ids of attachments, or their objects") from None


def _number(fields: dict[str, Any], name: str) -> int | None:
    value = fields.get(name)
    if value is None:
        return None
    if type(value) is not int or not 1 <= value <= limits.SEQ_MOST:
        raise invalid(f"/{name}", "must be a whole number, 1 or more")
    return value


def _answered(fields: dict[str, Any], before: Sequence[Post | Problem]) -> int | None:
    line = _number(fields, "reply_line")
    if line is None:
        return None
    if line > len(before) or isinstance(before[line - 1], Problem):
        raise invalid("/reply_line", f"line {line} is not there before it, or was refused")
    return line - 1


def _brought(fields: dict[str, Any]) -> Brought | None:
    """What hangs on the message: only an export has it."""
    edited_at, earlier, reacted = _time(fields, "edited_at"), fields.get("earlier"), fields.get("reacted")
    if not earlier and not reacted and edited_at is None:
        return None
    bodies = [_earlier(one) for one in _objects(earlier, "earlier", limits.IMPORT_EARLIER)]
    marks = {mark[:2]: mark for mark in map(_mark, _objects(reacted, "reacted", limits.IMPORT_MARKS))}
    if len({symbol for symbol, _ in marks}) > limits.SYMBOLS_MOST:
        raise invalid("/reacted", f"a message bears at most {limits.SYMBOLS_MOST} different symbols")
    return Brought(edited_at if bodies else None, tuple(bodies), tuple(marks.values()))


def _objects(value: Any, name: str, most: int) -> list[dict[str, Any]]:
    if value is None:
        return []
    if not isinstance(value, list) or not all(isinstance(one, dict) for one in value):
        raise invalid(f"/{name}", "must be a list of JSON objects")
    if len(value) > most:
        raise invalid(f"/{name}", f"has {len(value):,} entries; at most {most:,} are taken")
    return value


def _earlier(fields: dict[str, Any]) -> Earlier:
    created_at, edited_at = _time(fields, "created_at"), _time(fields, "edited_at")
    if created_at is None or edited_at is None:
        raise invalid("/earlier", "each has a created_at and an edited_at")
    body, editor_id = _checked(fields, "body", text.check_body), _checked(fields, "edited_by", _author)
    return Earlier(body, _format(fields), created_at, edited_at, editor_id)


def _mark(fields: dict[str, Any]) -> tuple[str, str, datetime]:
    at = _time(fields, "reacted_at")
    if at is None:
        raise invalid("/reacted", "each has a reacted_at")
    return _checked(fields, "symbol", check_symbol), _checked(fields, "user_id", _author), at


def _remover(fields: dict[str, Any], author_id: str) -> str:
    return author_id if fields.get("removed_by") is None else _checked(fields, "removed_by", _author)

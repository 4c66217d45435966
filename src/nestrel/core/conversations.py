"""Decisions on conversations: what a new one is, and who may change it, close it or set its rule."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

from nestrel.core.ids import uuid7
from nestrel.core.problems import Forbidden, invalid
from nestrel.core.retention import Rule
from nestrel.core.rights import Relation
from nestrel.core.roles import Kind, Role, Visibility, default_role, direct_pair, maker_role


@dataclass(frozen=True, slots=True)
class NewConversation:
    """A conversation to make; `members` are (user id, role), the maker first. Without a `rule` it goes by the
    service's."""

    id: UUID
    kind: Kind
    visibility: Visibility
    name: str | None
    title: str
    attributes: str | None
    direct_pair: str | None
    created_by: str
    created_at: datetime
    members: Sequence[tuple[str, Role]]
    rule: Rule | None = None


def new_conversation(
    maker: str,
    kind: Kind,
    members: Sequence[str],
    *,
    visibility: Visibility,
    name: str | None,
    title: str,
    attributes: str | None,
    rule: Rule | None,
    now: float,
    random: bytes,
    service: bool = False,
    owned: bool = True,
) -> NewConversation:
    """What a user asks for: they are its owner, unless it is not `owned`; the others have the default role; the two of
    a direct one have the same. A backend (`service`) that names two others is not in it. `now` is in seconds since
    1970, `random` ten bytes.

    Raises:
        InvalidRequest: a direct conversation is with nobody else, or with more than one.
    """
    others = [user_id for user_id in dict.fromkeys(members) if not owned or user_id != maker]
    inside = [(maker, maker_role(kind))] if owned else []
    if kind is Kind.DIRECT:
        if not others:
            raise invalid("/members", "a direct conversation is with someone else")
        if len(set(members)) == 2:
            if not service:
                raise invalid("/members", "must be exactly one other; a trusted backend opens one of two others")
            inside = [] if maker not in members else inside
    everyone = [*inside, *((user_id, default_role(kind)) for user_id in others)]
    return NewConversation(
        id=uuid7(int(now * 1000), random),
        kind=kind,
        visibility=visibility,
        name=name,
        title=title,
        attributes=attributes,
        direct_pair=direct_pair(everyone[0][0], everyone[1][0]) if kind is Kind.DIRECT else None,
        created_by=maker,
        created_at=datetime.fromtimestamp(now, UTC),
        members=everyone,
        rule=rule,
    )


def check_change(standing: Relation, fields: Mapping[str, Any]) -> None:
    """Whether these fields may be set by who changes it. Raises `Forbidden` where not in one of this kind, or only by a
    backend, and `InvalidRequest` where it makes no sense."""
    if "default" in fields and not standing.service:
        raise Forbidden("only a trusted backend (scope nestrel.service) makes a conversation everyone's")
    if fields.get("default") and standing.kind is not Kind.BULLETIN:
        raise invalid("/default", "is for a bulletin; what everyone is in has to be read by all and written by few")
    if standing.kind is Kind.DIRECT and (
        fields.get("name") is not None or fields.get("visibility") == Visibility.OPEN.value
    ):
        raise Forbidden("a direct conversation has no name and stays private")

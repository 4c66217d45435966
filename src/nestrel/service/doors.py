"""Every door of the service: its routes under `/v1`, and the frames of its WebSocket."""

from __future__ import annotations

from collections.abc import Iterator

from fastapi import APIRouter
from fastapi.routing import APIRoute

from nestrel.core.rights import Action
from nestrel.service import frames
from nestrel.service.routes import (
    archive,
    attachments,
    audit,
    barring,
    blocked,
    changes,
    connections,
    conversations,
    erasures,
    invitations,
    kept_out,
    me,
    members,
    message,
    messages,
    people,
    push,
    reactions,
    receipt,
    reports,
    resync,
    retention,
    search,
    service,
    session,
    streams,
    transfer,
    usage,
    webhooks,
)

DIRECT = (messages.direct, resync.direct)
"""The busiest, with their whole paths."""

RESOURCES: tuple[APIRouter, ...] = tuple(
    resource.router
    for resource in (
        messages, message, attachments, reactions, receipt, changes, streams, conversations, members, kept_out,
        invitations, blocked, me, session, barring, reports, audit, people, search, retention, archive, transfer,
        erasures, usage, service, connections, webhooks, push,
    )
)  # fmt: skip
"""The others, below `PREFIX`."""

PREFIX = "/v1"


def routes() -> Iterator[tuple[str, APIRoute]]:
    """Each route with its whole path."""
    for routers, prefix in ((DIRECT, ""), (RESOURCES, PREFIX)):
        for router in routers:
            for route in router.routes:
                assert isinstance(route, APIRoute)
                yield prefix + route.path, route


def frame_actions() -> Iterator[tuple[str, frozenset[Action]]]:
    """Each frame with what it is for."""
    for name, (_, _, actions) in frames.FRAMES.items():
        yield name, actions

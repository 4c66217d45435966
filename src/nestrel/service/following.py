"""What a connection of this process follows, for a socket and a stream of events alike."""

from __future__ import annotations

from collections.abc import Callable

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.problems import Forbidden, SlowDown
from nestrel.core.roles import Kind
from nestrel.live.everything import Everything, scope_of
from nestrel.live.following import Following
from nestrel.service.listing import all_since, opened
from nestrel.service.state import Service
from nestrel.store.read import moving
from nestrel.store.read.moving import Moving, Position


def following_of(service: Service, caller: Caller, stirred: Callable[[], None]) -> Following:
    """Nothing yet; `stirred` is called whenever there may be something to send."""
    return Following(service.hub, service.source, service.returns, service.sealing, caller, stirred, service.delivered)


async def follow_everything(
    service: Service, following: Following, kind: Kind | None, cursor: str | None, stirred: Callable[[], None]
) -> tuple[str, bool]:
    """Let a backend's connection follow all conversations, or those of a kind, from a cursor or from now on. Returns
    the cursor that it begins at, and whether the database was restored or failed over since the one that was given.

    Raises:
        Forbidden: the caller is no backend.
        InvalidRequest: the cursor is none of such a line's, or of another one's.
        SlowDown: the connection follows everything already.
        StoreUnavailable: it cannot be said now where that is.
    """
    caller = following.caller
    if not caller.service:
        raise Forbidden("only a trusted backend (scope nestrel.service) follows every conversation")
    if following.everything is not None:
        raise SlowDown("this connection follows everything already; open another one")
    scope = scope_of(caller.user_id, kind)
    since = None if cursor is None else all_since(opened(service.seal.open_all, scope, cursor))

    async def read(at: Position, of: Kind | None) -> Moving:
        async with service.database.snapshot() as connection:
            return await moving.read(connection, at, None, limits.LINE_ROWS, kind=of, silent=True)

    everything = Everything(
        read, service.moves, service.sealing, caller.user_id, kind, stirred, service.delivered,
        service.settings.checkpoint_seconds,
    )  # fmt: skip
    following.everything = everything
    try:
        begun = await everything.begin(since)
    except BaseException:
        following.everything = None
        raise
    return service.seal.all(scope, begun), since is not None and service.history.present != since.epoch

"""What a connection of this process follows, for a socket and a stream of events alike."""

from __future__ import annotations

from collections.abc import Callable

from nestrel.live.following import Following
from nestrel.service.state import Service
from nestrel.store.access import Caller


def following_of(service: Service, caller: Caller, stirred: Callable[[], None]) -> Following:
    """Nothing yet; `stirred` is called whenever there may be something to send."""
    return Following(service.hub, service.source, service.returns, service.sealing, caller, stirred, service.delivered)

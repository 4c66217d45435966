"""Who a command or a question comes from."""

from __future__ import annotations

from dataclasses import dataclass

from nestrel.core.rights import Action


@dataclass(frozen=True, slots=True)
class Caller:
    """Who a command or a question comes from, through a door that was made for some `actions`; None for what comes
    through none. `request_id` is what the answer carries, for the audit. `issued_at` is that of the token, in seconds
    since 1970, and `session` the browser's, by which they may be ended while a request is under way."""

    user_id: str
    service: bool = False
    actions: frozenset[Action] | None = None
    request_id: str = ""
    issued_at: float | None = None
    session: bytes | None = None

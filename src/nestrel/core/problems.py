"""The errors of Nestrel: one root, one class for each problem type of RFC 9457.

    NestrelError
    ├── Unreachable          there was no answer
    └── Problem              a refusal that the service states
        ├── Unauthenticated  401
        ├── Forbidden        403
        ├── OverQuota        403
        ├── NotFound         404
        ├── MethodNotAllowed 405
        ├── RequestTimeout          408
        ├── NameTaken        409
        ├── KeyReused        409
        ├── ConfirmNeeded    409
        ├── Expired          410
        ├── StaleEdit        412
        ├── TooLarge         413
        ├── Misdirected      421
        ├── HeadersTooLarge  431
        ├── InvalidRequest   422
        ├── SlowDown         429
        ├── InternalError    500  a bug of the service
        └── StoreUnavailable 503

The service raises them, renders them at its edge, and the client library raises the same classes again.
"""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import Any, ClassVar


class NestrelError(Exception):
    """Root of everything that Nestrel raises on purpose."""


class Unreachable(NestrelError):
    """The service does not answer, or not in a form that a client understands; what was asked for may be done.

    `retry_after` is the seconds after which it says it may be tried again. `leaving`: it has said that it stops, to
    everybody who was connected. `unsure`: what was asked for was to change something, and it may have.
    """

    def __init__(
        self, detail: str = "", *, retry_after: float | None = None, leaving: bool = False, unsure: bool = False
    ) -> None:
        super().__init__(detail)
        self.retry_after = retry_after
        self.leaving = leaving
        self.unsure = unsure


class Problem(NestrelError):
    """A refusal with a stable type. `detail` says what happened and what to do.

    `errors` lists single faults as `{"pointer": RFC 6901, "detail": text}`; `retry_after` is in seconds;
    `extra` are further members of the problem document.
    """

    status: ClassVar[int] = 500
    name: ClassVar[str] = "internal"
    title: ClassVar[str] = "Something went wrong in the service"

    def __init__(
        self,
        detail: str,
        *,
        errors: Sequence[dict[str, str]] = (),
        retry_after: int | None = None,
        extra: dict[str, Any] | None = None,
    ) -> None:
        super().__init__(detail)
        self.detail = detail
        self.errors = list(errors)
        self.retry_after = retry_after
        self.extra = extra or {}

    def document(self, instance: str | None = None) -> dict[str, Any]:
        """The problem document of RFC 9457; `instance` is the request id."""
        doc: dict[str, Any] = {
            "type": f"/problems/{self.name}",
            "title": self.title,
            "status": self.status,
            "detail": self.detail,
        }
        if self.errors:
            doc["errors"] = self.errors
        if self.retry_after is not None:
            doc["retry_after"] = self.retry_after
        if instance:
            doc["instance"] = instance
        return {**self.extra, **doc}


class Unauthenticated(Problem):
    """There is no token, or not one that this service accepts (RFC 6750)."""

    status, name, title = 401, "unauthenticated", "Sign in first"


class Forbidden(Problem):
    """The caller may see the thing, but not do this to it."""

    status, name, title = 403, "forbidden", "Your role does not allow this"


class OverQuota(Problem):
    """As much as the caller may have; `extra` names the `quota` and its `limit`."""

    status, name, title = 403, "over-quota", "That is as much as you may have"


class NotFound(Problem):
    """It does not exist, or the caller may not know that it does."""

    status, name, title = 404, "not-found", "There is no such thing here"


class RequestTimeout(Problem):
    """The request did not come in time."""

    status, name, title = 408, "request-timeout", "The request did not come in time"


class Misdirected(Problem):
    """The request is for a host that this service does not answer to (RFC 9110, 15.5.20)."""

    status, name, title = 421, "misdirected", "This service does not answer to that host"


class HeadersTooLarge(Problem):
    """The headers are over 32 KB, or more than 100 (RFC 6585)."""

    status, name, title = 431, "headers-too-large", "The headers are too large"


class MethodNotAllowed(Problem):
    """The path exists and does not take this method."""

    status, name, title = 405, "method-not-allowed", "This path does not take that method"


class UpgradeRequired(Problem):
    """The path is a WebSocket's, and the request came without what an upgrade takes (RFC 9110, 15.5.22)."""

    status, name, title = 426, "upgrade-required", "This path is a WebSocket's"


class NameTaken(Problem):
    """Another conversation holds the name, compared without case."""

    status, name, title = 409, "name-taken", "That name is taken"


class KeyReused(Problem):
    """The idempotency key was used before, with other content."""

    status, name, title = 409, "key-reused", "That idempotency key stands for another request"


class ConfirmNeeded(Problem):
    """The change would take something away at once and wants to be confirmed."""

    status, name, title = 409, "confirm-needed", "Confirm this first"


class Expired(Problem):
    """The message lies below the conversation's floor."""

    status, name, title = 410, "expired", "That message is no longer kept"


class StaleEdit(Problem):
    """The message changed since the caller read it."""

    status, name, title = 412, "stale-edit", "The message has changed meanwhile"


class TooLarge(Problem):
    """A body, a frame or a request is over its limit."""

    status, name, title = 413, "too-large", "Too large"


class InvalidRequest(Problem):
    """The request cannot be understood as it stands; `errors` names each fault."""

    status, name, title = 422, "invalid-request", "The request is not valid"


class SlowDown(Problem):
    """More than the service takes at the moment; `retry_after` says when to come back."""

    status, name, title = 429, "slow-down", "Too many commands at once"


class InternalError(Problem):
    """A bug of the service; the request id finds it in the log."""


class Trouble(StrEnum):
    """Why the store does not serve: a database that is away is something else than one that is busy, slow, locked by
    somebody, full, read only, without its schema or without rights for the service's role, or none that can be used; it
    was `restored` to another state; of what was `unconfirmed` it is not known whether a standby has it; or this process
    is `stopping`."""

    AWAY = "away"
    BUSY = "busy"
    SLOW = "slow"
    LOCKED = "locked"
    FULL = "full"
    READ_ONLY = "read-only"
    NO_SCHEMA = "no-schema"
    NO_RIGHTS = "no-rights"
    UNFIT = "unfit"
    RESTORED = "restored"
    UNCONFIRMED = "unconfirmed"
    STOPPING = "stopping"


class StoreUnavailable(Problem):
    """The store cannot serve now; `reason` says why. What was not acknowledged may be sent again with the same
    idempotency key."""

    status, name, title = 503, "store-unavailable", "The store does not serve at the moment"

    def __init__(
        self,
        detail: str,
        *,
        errors: Sequence[dict[str, str]] = (),
        retry_after: int | None = 1,
        extra: dict[str, Any] | None = None,
        reason: Trouble | None = None,
    ) -> None:
        said = (extra or {}).get("reason")
        self.reason = reason or (
            Trouble(said) if isinstance(said, str) and said in Trouble.__members__.values() else Trouble.AWAY
        )
        super().__init__(
            detail, errors=errors, retry_after=retry_after, extra={**(extra or {}), "reason": self.reason.value}
        )


PROBLEMS: dict[str, type[Problem]] = {
    cls.name: cls
    for cls in (
        Unauthenticated,
        Forbidden,
        OverQuota,
        NotFound,
        MethodNotAllowed,
        UpgradeRequired,
        RequestTimeout,
        Misdirected,
        HeadersTooLarge,
        NameTaken,
        KeyReused,
        ConfirmNeeded,
        Expired,
        StaleEdit,
        TooLarge,
        InvalidRequest,
        SlowDown,
        InternalError,
        StoreUnavailable,
    )
}


def invalid(pointer: str, detail: str) -> InvalidRequest:
    """One fault at one place; `pointer` is a JSON pointer (RFC 6901) or the name of a parameter as one."""
    return InvalidRequest(f"{pointer.lstrip('/') or 'request'}: {detail}", errors=[fault(pointer, detail)])


def fault(pointer: str, detail: str) -> dict[str, str]:
    return {"pointer": pointer, "detail": detail}


def from_document(doc: dict[str, Any], status: int) -> Problem:
    """The exception for a problem document that a service sent."""
    name = str(doc.get("type", "")).rsplit("/", 1)[-1]
    cls = PROBLEMS.get(name, InternalError)
    known = {"type", "title", "status", "detail", "errors", "retry_after"}
    detail = str(doc.get("detail") or doc.get("title") or f"the service answered {status}")
    return cls(
        detail,
        errors=doc.get("errors") or (),
        retry_after=doc.get("retry_after"),
        extra={key: value for key, value in doc.items() if key not in known},
    )

"""What an error of the driver means for the service: the trouble that the store is in, if it is in one."""

from __future__ import annotations

import asyncpg
from sqlalchemy.exc import DBAPIError

from nestrel.core.problems import Trouble
from nestrel.store import constraints

_AWAY = (
    OSError,
    asyncpg.InterfaceError,
    asyncpg.InternalClientError,  # a server killed in the middle of anything makes the driver doubt itself
    asyncpg.PostgresConnectionError,
)

_STATES = {
    "42P01": Trouble.NO_SCHEMA,  # undefined table
    "42883": Trouble.NO_SCHEMA,  # undefined function
    "42703": Trouble.NO_SCHEMA,  # undefined column
    "3F000": Trouble.NO_SCHEMA,
    "42501": Trouble.NO_RIGHTS,
    "57014": Trouble.SLOW,  # statement_timeout
    "25P03": Trouble.SLOW,  # idle_in_transaction_session_timeout
    "55P03": Trouble.LOCKED,  # lock_timeout
    "40P01": Trouble.LOCKED,  # deadlock
    "40001": Trouble.LOCKED,
    "25006": Trouble.READ_ONLY,
    "55000": Trouble.READ_ONLY,  # recovery is in progress
    "53300": Trouble.BUSY,  # too many connections
    "0A000": Trouble.AWAY,  # a cached plan of tables that were made anew
}
_CLASSES = {
    "08": Trouble.AWAY,
    "57": Trouble.AWAY,  # operator intervention: shutting down, starting, crashed
    "28": Trouble.AWAY,
    "3D": Trouble.AWAY,
    "53": Trouble.FULL,
    "54": Trouble.FULL,
    "58": Trouble.FULL,  # system error: a file cannot be written or read
}

WORDS = {
    Trouble.AWAY: "the database does not answer; try again, with the same idempotency key",
    Trouble.BUSY: "the database takes no more connections",
    Trouble.SLOW: "the database took too long; try again, with the same idempotency key",
    Trouble.LOCKED: "something else holds what this needs in the database; try again, with the same idempotency key",
    Trouble.FULL: "the database cannot write: its disk or its memory is full",
    Trouble.READ_ONLY: "the database takes no writes at the moment: it is a standby, or set to be read only",
    Trouble.UNCONFIRMED: (
        "no standby has confirmed what was written, so that it may be lost; try again, with the same idempotency key"
    ),
    Trouble.NO_SCHEMA: "the schema is not there yet; run nestrel db upgrade",
    Trouble.NO_RIGHTS: "the service's role of the database may not do this; run nestrel db roles",
    Trouble.UNFIT: "the database is none that the service can use",
}
RETRY = {
    Trouble.AWAY: 1, Trouble.BUSY: 1, Trouble.SLOW: 2, Trouble.LOCKED: 1, Trouble.FULL: 10, Trouble.READ_ONLY: 5,
    Trouble.NO_SCHEMA: 5, Trouble.NO_RIGHTS: 10, Trouble.UNFIT: 60, Trouble.UNCONFIRMED: 1,
}  # fmt: skip
"""Seconds after which to come back."""


def driver_error(error: BaseException) -> BaseException:
    """The driver's own error, where SQLAlchemy has wrapped it."""
    if isinstance(error, DBAPIError):
        return getattr(error.orig, "__cause__", None) or error.orig or error
    return error


def sqlstate(error: BaseException) -> str:
    """PostgreSQL's code for an error, from the driver or through SQLAlchemy; empty if it has none."""
    return str(getattr(driver_error(error), "sqlstate", None) or "")


def constraint(error: BaseException) -> str:
    """The constraint that an error says was violated; empty if it says none."""
    return constraints.whole(str(getattr(driver_error(error), "constraint_name", None) or ""))


def reason_of(error: BaseException) -> Trouble | None:
    """The trouble that an error tells of; None for one that says that a statement is wrong."""
    cause = driver_error(error)
    if isinstance(error, DBAPIError) and error.connection_invalidated:
        return Trouble.AWAY
    if isinstance(cause, (ValueError, asyncpg.UnsupportedClientFeatureError)):
        return None  # the driver's word for a value or a setting that is wrong
    state = sqlstate(error)
    if state:
        return _STATES.get(state) or _CLASSES.get(state[:2])
    if isinstance(cause, TimeoutError):
        return Trouble.SLOW
    return Trouble.AWAY if isinstance(cause, _AWAY) else None


def is_away(error: BaseException) -> bool:
    """Whether an error says that the store cannot serve, rather than that a statement is wrong."""
    return reason_of(error) is not None

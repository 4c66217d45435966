"""Times on the wire: RFC 3339 in UTC with microseconds and `Z`."""

from __future__ import annotations

import re
from datetime import UTC, datetime

_RFC3339 = re.compile(r"(\d{4}-\d\d-\d\d)[Tt](\d\d:\d\d:\d\d)(\.\d{1,9})?([Zz]|[+-]\d\d:\d\d)")


def format_time(moment: datetime) -> str:
    """`2026-11-25T10:24:41.000000Z`."""
    # The platform's strftime writes years before 1000 with fewer digits than RFC 3339 wants.
    return moment.astimezone(UTC).isoformat(timespec="microseconds")[:-6] + "Z"


def parse_time(text: str) -> datetime:
    """Read RFC 3339 with any offset.

    Raises:
        ValueError: with a detail that shows the right form, also for a `+` that arrived as a space.
    """
    match = _RFC3339.fullmatch(text)
    if not match:
        raise ValueError(
            "must be a time as in RFC 3339, such as 2026-11-25T10:24:41Z (in a query string write + as %2B)"
        )
    day, clock, fraction, zone = match.groups()
    zone = "+00:00" if zone in "Zz" else zone
    try:
        return datetime.fromisoformat(f"{day}T{clock}{(fraction or '.0')[:7]:0<7}{zone}").astimezone(UTC)
    except (ValueError, OverflowError):
        raise ValueError("is not a time that exists") from None

"""The moments that script/calendar runs the tests at, each the next of its kind: name, UTC time, time zone."""

from __future__ import annotations

import calendar
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime, time, timedelta

_BERLIN, _KIRITIMATI = "Europe/Berlin", "Pacific/Kiritimati"


def _next(today: date, is_it: Callable[[date], bool]) -> date:
    """The first day after today that is one; within eight years there is one of each kind."""
    return next(day for n in range(1, 366 * 8 + 3) if is_it(day := today + timedelta(days=n)))


def _last_of_february(leap: bool) -> Callable[[date], bool]:
    return lambda day: (day.month, day.day) == (2, 28) and calendar.isleap(day.year) is leap


def _last_sunday(month: int) -> Callable[[date], bool]:
    return lambda day: day.month == month and day.weekday() == calendar.SUNDAY and day.day > 24


def moments(now: datetime) -> Iterator[tuple[str, datetime, str]]:
    """Every moment, a little before whatever happens there: a day, a month, a year or an hour ends."""

    def at(is_it: Callable[[date], bool], hour: int, minute: int) -> datetime:
        return datetime.combine(_next(now.date(), is_it), time(hour, minute), UTC)

    yield "leap", at(_last_of_february(True), 23, 58), "UTC"
    yield "february", at(_last_of_february(False), 23, 58), "UTC"
    yield "new-year", at(lambda day: (day.month, day.day) == (12, 31), 23, 59), "UTC"
    yield "january", at(lambda day: (day.month, day.day) == (1, 31), 12, 0), "UTC"
    for zone in (_BERLIN, _KIRITIMATI):  # Europe's clocks change at 01:00 UTC, whoever looks at them
        place = zone.rpartition("/")[2].lower()
        yield f"spring-{place}", at(_last_sunday(3), 0, 59), zone
        yield f"autumn-{place}", at(_last_sunday(10), 0, 59), zone
    yield "years", now + timedelta(days=4 * 365 + 1), "UTC"


if __name__ == "__main__":
    for name, moment, zone in moments(datetime.now(UTC)):
        print(name, moment.strftime("%Y-%m-%dT%H:%M:%SZ"), zone)

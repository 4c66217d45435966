"""Durations as in ISO 8601, on the calendar: a month back from the 31st of March is the very end of February."""

from __future__ import annotations

import calendar
import re
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

_FORM = re.compile(
    r"P(?=\d|T\d)(?:(\d{1,4})Y)?(?:(\d{1,5})M)?(?:(\d{1,5})W)?(?:(\d{1,6})D)?"
    r"(?:T(?=\d)(?:(\d{1,7})H)?(?:(\d{1,9})M)?(?:(\d{1,11}(?:[.,]\d{1,6})?)S)?)?"
)
_MOST_MONTHS = 12 * 1_000
_BEGINNING = datetime(1, 1, 1, tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class Duration:
    """Calendar months and a fixed rest; `text` is as it was given."""

    text: str
    months: int
    rest: timedelta

    @classmethod
    def parse(cls, text: str) -> Duration:
        """Read a duration longer than nothing, such as `P30D`, `P1Y` or `PT12H`.

        Raises:
            ValueError: with a detail that shows the right form.
        """
        match = _FORM.fullmatch(text)
        if match is None:
            raise ValueError("must be a duration as in ISO 8601, such as P30D, P1Y or PT12H")
        years, months, weeks, days, hours, minutes = (int(part or 0) for part in match.groups()[:6])
        seconds = timedelta(seconds=float((match[7] or "0").replace(",", ".")))
        months += 12 * years
        try:
            rest = timedelta(days=7 * weeks + days, hours=hours, minutes=minutes) + seconds
        except OverflowError:
            raise ValueError("is longer than 1,000 years") from None
        if months > _MOST_MONTHS or rest > timedelta(days=365_000):
            raise ValueError("is longer than 1,000 years")
        if months == 0 and rest == timedelta(0):
            raise ValueError("must be longer than nothing")
        return cls(text, months, rest)

    def before(self, moment: datetime) -> datetime:
        """The moment that lies so far back, months first, and never before the year 1. A day that the month there does
        not have is its last instant, so that a later moment never reaches further back than an earlier one.
        `nestrel_before_v1` is the same in SQL."""
        month = moment.year * 12 + moment.month - 1 - self.months
        if month < 12:
            return _BEGINNING
        year, month = month // 12, month % 12 + 1
        last = calendar.monthrange(year, month)[1]
        try:
            if moment.day > last:
                return datetime(year, month, last, 23, 59, 59, 999_999, tzinfo=UTC) - self.rest
            return moment.replace(year=year, month=month) - self.rest
        except OverflowError:
            return _BEGINNING


def in_words(text: str) -> str:
    """A duration for people: `45 days`, `1 year 6 months`, `12 hours`. What is no duration stays as it is."""
    try:
        parsed = Duration.parse(text)
    except ValueError:
        return text
    years, months = divmod(parsed.months, 12)
    hours, seconds = divmod(parsed.rest.seconds, 3_600)
    minutes, seconds = divmod(seconds, 60)
    units = (
        (years, "year"), (months, "month"), (parsed.rest.days, "day"), (hours, "hour"), (minutes, "minute"),
        (seconds, "second"),
    )  # fmt: skip
    return " ".join(f"{number:,} {unit}{'' if number == 1 else 's'}" for number, unit in units if number) or text

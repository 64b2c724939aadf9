"""Dates as analysts say them: a day, month or year, a range with open ends, the last days, days around a date."""

from __future__ import annotations

import calendar
import re
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from zoompick.errors import UsageError

_FORMS = (
    "Give a day (2025-12-15, 15.12.2025, 15 Dec 2025), a week (2025-W51), a month (2025-12, Dec 2025), a quarter "
    "(2025-Q4), a year, two of them as START/END ('..' leaves an end open), days of a month (2025-12-1,9,17), "
    "'last 30 days', '2025-12-15 +8 days' or '2025-12-15 +-10 days'."
)
_LAST_MOMENT = timedelta(microseconds=1)
"""A period ends so long before the next one begins: fractions of its last second are its own."""
_LAST = re.compile(r"(?i)last\s+(\d{1,4})\s*(d|day|w|week|m|month|y|year)s?")
_AROUND = re.compile(r"(?i)(\d{4}-\d{1,2}-\d{1,2})\s*(?:\+-|\+/-|±)\s*(\d{1,4})\s*d(?:ays?)?")
_WINDOW = re.compile(r"(?i)(\d{4}-\d{1,2}-\d{1,2})\s*(?:\+\s*(\d{1,4})\s*d(?:ays?)?|/P(\d{1,4})D)")
_DAYS = re.compile(r"(\d{4}-\d{1,2})-(\d{1,2}(?:\s*,\s*\d{1,2})+)")
_UNIT_DAYS = {"d": 1, "w": 7, "m": 30, "y": 365}


@dataclass(frozen=True, slots=True)
class Period:
    """From ``start`` to ``end``, both included, UTC; None leaves an end open."""

    start: datetime | None
    end: datetime | None

    @classmethod
    def parse(cls, text: str, now: datetime | None = None) -> Period:
        """Read dates as a person writes them.

        Parameters
        ----------
        now : datetime, optional
            The moment from which ``last 30 days`` counts back.

        Raises
        ------
        UsageError
            Not a date, or the end before the start.
        """
        last, around = _LAST.fullmatch(text.strip()), _AROUND.fullmatch(text.strip())
        if last:
            end = now or datetime.now(UTC)
            days = int(last[1]) * _UNIT_DAYS[last[2][0].lower()]
            begin = _later(end, -days, text)
            return cls(begin.replace(hour=0, minute=0, second=0, microsecond=0), end)
        if around:
            day = _edge(around[1], text)
            assert day is not None
            return cls(_later(day[0], -int(around[2]), text), _later(day[1], int(around[2]), text))
        window = _WINDOW.fullmatch(text.strip())
        if window:
            first = _edge(window[1], text)
            days = int(window[2] or window[3])
            assert first is not None
            if not days:
                raise UsageError(f"The dates '{text}' hold no day.", _FORMS)
            return cls(first[0], _later(first[0], days, text) - _LAST_MOMENT)
        parts = [part.strip() for part in text.split("/")]
        if len(parts) > 2 or not any(part not in ("", "..") for part in parts):
            raise UsageError(f"The dates '{text}' cannot be read.", _FORMS)
        start, end_edge = _edge(parts[0], text), _edge(parts[-1], text)
        period = cls(start[0] if start else None, end_edge[1] if end_edge else None)
        if period.start and period.end and period.start > period.end:
            turned = f"Turn them around: {parts[-1]}/{parts[0]}."
            raise UsageError(f"The dates '{text}' end before they begin.", turned)
        return period

    @classmethod
    def parse_all(cls, text: str) -> tuple[Period, ...]:
        """Read dates that may be several days of a month: ``2025-12-1,9,17``."""
        days = _DAYS.fullmatch(text.strip())
        if not days:
            return (cls.parse(text),)
        return tuple(cls.parse(f"{days[1]}-{day.strip()}") for day in days[2].split(","))

    def meets(self, begin: datetime, end: datetime) -> bool:
        """True when a span, both ends included, has a moment in this period."""
        return (self.end is None or begin <= self.end) and (self.start is None or end >= self.start)

    def holds(self, when: datetime) -> bool:
        """True when ``when`` lies in the period."""
        return (self.start is None or when >= self.start) and (self.end is None or when <= self.end)

    @property
    def interval(self) -> str:
        """The period as RFC 3339 text in whole seconds, as STAC API takes it; it holds all of the period."""
        start = self.start and self.start.replace(microsecond=0)
        end = self.end
        if end is not None and end.microsecond:
            end = end.replace(microsecond=0)
            end = end + timedelta(seconds=1) if end < _LAST_SECOND else end
        return "/".join(f"{edge:%Y-%m-%dT%H:%M:%SZ}".rjust(20, "0") if edge else ".." for edge in (start, end))

    def __str__(self) -> str:
        return " to ".join(end.strftime("%Y-%m-%d") if end else "…" for end in (self.start, self.end))


_LAST_SECOND = datetime(9999, 12, 31, 23, 59, 59, tzinfo=UTC)


def _later(moment: datetime, days: int, text: str) -> datetime:
    try:
        return moment + timedelta(days=days)
    except OverflowError as error:
        raise UsageError(f"The dates '{text}' reach beyond the years 1 to 9999.", _FORMS) from error


_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_WRITTEN = re.compile(r"(?i)(?:(\d{1,2})\.?\s+)?([a-z]{3,9})\.?,?\s+(\d{4})")
_POINTS = re.compile(r"(\d{1,2})\.\s?(\d{1,2})\.\s?(\d{4})")
_QUARTER = re.compile(r"(?i)(\d{4})[-\s]?q([1-4])|q([1-4])[-\s]?(\d{4})")
_FULL = ("january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november",
         "december")  # fmt: skip


def _plain(part: str) -> str:
    """A day or month as people write it (15.12.2025, 15 Dec 2025, December 2025), as year, month and day."""
    if points := _POINTS.fullmatch(part):
        return f"{points[3]}-{int(points[2]):02}-{int(points[1]):02}"
    written = _WRITTEN.fullmatch(part)
    word = written[2].lower() if written else ""
    if written and (word in _FULL or word in _MONTHS or word == "sept"):
        month = f"{written[3]}-{_MONTHS.index(word[:3]) + 1:02}"
        return f"{month}-{int(written[1]):02}" if written[1] else month
    return part


def _edge(part: str, whole: str) -> tuple[datetime, datetime] | None:
    """First and last moment that a year, quarter, month, week, day or second names."""
    if part in ("", ".."):
        return None
    typed, part = part, _plain(part)
    if quarter := _QUARTER.fullmatch(part):
        year, number = quarter[1] or quarter[4], int(quarter[2] or quarter[3])
        first, last = (_edge(f"{year}-{3 * number - back:02}", whole) for back in (2, 0))
        assert first is not None and last is not None
        return first[0], last[1]
    match = re.fullmatch(r"(\d{4})(?:-(\d{1,2}))?(?:-(\d{1,2}))?", part)
    week = re.fullmatch(r"(?i)(\d{4})-?w(\d{1,2})", part)
    try:
        if week:
            monday = datetime.fromisocalendar(int(week[1]), int(week[2]), 1).replace(tzinfo=UTC)
            return monday, monday + timedelta(days=7) - _LAST_MOMENT
        if not match:
            moment = datetime.fromisoformat(part)
            moment = moment.astimezone(UTC) if moment.tzinfo else moment.replace(tzinfo=UTC)
            is_whole = not moment.microsecond and "." not in part
            return moment, moment + timedelta(seconds=1) - _LAST_MOMENT if is_whole else moment
        own_year, month, day = (int(group) if group else None for group in match.groups())
        assert own_year is not None
        begin = datetime(own_year, month or 1, day or 1, tzinfo=UTC)
        last_month = month or 12
        last_day = day or calendar.monthrange(own_year, last_month)[1]
        return begin, datetime(own_year, last_month, last_day, 23, 59, 59, 999_999, tzinfo=UTC)
    except (ValueError, OverflowError) as error:
        raise UsageError(f"The date '{typed}' in '{whole}' cannot be read.", _FORMS) from error


def span(periods: tuple[Period, ...]) -> Period | None:
    """One period around all, for servers that take only one; None when there is none."""
    if not periods:
        return None
    starts = [period.start for period in periods]
    ends = [period.end for period in periods]
    return Period(
        None if None in starts else min(start for start in starts if start),
        None if None in ends else max(end for end in ends if end),
    )


_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")


@dataclass(frozen=True, slots=True)
class Season:
    """Months that come back every year, from ``first`` to ``last`` (1 to 12), over New Year when last < first."""

    first: int
    last: int

    @classmethod
    def parse(cls, text: str) -> Season:
        """Read ``dec-feb``, ``12-2`` or a single month.

        Raises
        ------
        UsageError
        """
        parts = [part.strip().lower() for part in text.replace("..", "-").split("-")]
        numbers = [_MONTHS.index(part[:3]) + 1 if part[:3] in _MONTHS else part for part in parts]
        try:
            months = [int(number) for number in numbers]
        except ValueError:
            months = []
        if not 1 <= len(months) <= 2 or not all(1 <= month <= 12 for month in months):
            raise UsageError(f"The season '{text}' cannot be read.", "Give two months: dec-feb, say.")
        return cls(months[0], months[-1])

    def holds(self, when: datetime) -> bool:
        """True when the month of ``when`` belongs to the season."""
        if self.first <= self.last:
            return self.first <= when.month <= self.last
        return when.month >= self.first or when.month <= self.last

    def __str__(self) -> str:
        return f"{_MONTHS[self.first - 1]}-{_MONTHS[self.last - 1]}"


@dataclass(frozen=True, slots=True)
class Hours:
    """A time of day, UTC, from ``first`` to ``last`` in hours; over midnight when last < first."""

    first: float
    last: float

    @classmethod
    def parse(cls, text: str) -> Hours:
        """Read ``10-13`` or ``22:30-02:00``.

        Raises
        ------
        UsageError
        """
        match = re.fullmatch(r"\s*(\d{1,2})(?::(\d{2}))?\s*-\s*(\d{1,2})(?::(\d{2}))?\s*", text)
        values = (
            [int(match[1]) + int(match[2] or 0) / 60, int(match[3]) + int(match[4] or 0) / 60] if match else [99.0]
        )
        if not all(0 <= value <= 24 for value in values):
            raise UsageError(
                f"The hours '{text}' cannot be read.", "Give two times of day, UTC: 10-13 or 22:30-02:00."
            )
        return cls(values[0], values[1])

    def holds(self, when: datetime) -> bool:
        """True when the time of ``when`` lies in it."""
        hour = when.hour + when.minute / 60 + when.second / 3600
        if self.first <= self.last:
            return self.first <= hour <= self.last
        return hour >= self.first or hour <= self.last

    def __str__(self) -> str:
        return f"{_clock(self.first)}-{_clock(self.last)} UTC"


def _clock(hour: float) -> str:
    return f"{int(hour):02d}:{round(hour % 1 * 60):02d}"

"""The query as a value: where, when, how cloudy."""

from __future__ import annotations

import calendar
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from zoompick.catalog.scene import Scene
from zoompick.errors import UsageError
from zoompick.geo.shapes import Shape, share

_FORMS = "Give a day (2025-12-15), a month (2025-12), a year, or two of them as START/END; '..' leaves an end open."


@dataclass(frozen=True, slots=True)
class Period:
    """From ``start`` to ``end``, both included, UTC; None leaves an end open."""

    start: datetime | None
    end: datetime | None

    @classmethod
    def parse(cls, text: str) -> Period:
        """Read ``2025-12-15``, ``2025-12``, ``2025``, ``START/END``, ``START/..``.

        Raises
        ------
        UsageError
            Not a date, or the end before the start.
        """
        parts = [part.strip() for part in text.split("/")]
        if len(parts) > 2 or not any(part not in ("", "..") for part in parts):
            raise UsageError(f"The dates '{text}' cannot be read.", _FORMS)
        start = _edge(parts[0], text)
        end = _edge(parts[-1], text)
        period = cls(start[0] if start else None, end[1] if end else None)
        if period.start and period.end and period.start > period.end:
            raise UsageError(
                f"The dates '{text}' end before they begin.", f"Turn them around: {parts[-1]}/{parts[0]}."
            )
        return period

    def holds(self, when: datetime) -> bool:
        """True when ``when`` lies in the period."""
        return (self.start is None or when >= self.start) and (self.end is None or when <= self.end)

    @property
    def interval(self) -> str:
        """The period as RFC 3339 text, as STAC API takes it."""
        ends = (end.strftime("%Y-%m-%dT%H:%M:%SZ") if end else ".." for end in (self.start, self.end))
        return "/".join(ends)

    def __str__(self) -> str:
        return " to ".join(end.strftime("%Y-%m-%d") if end else "…" for end in (self.start, self.end))


def _edge(part: str, whole: str) -> tuple[datetime, datetime] | None:
    """First and last second that a year, month or day names."""
    if part in ("", ".."):
        return None
    match = re.fullmatch(r"(\d{4})(?:-(\d{1,2}))?(?:-(\d{1,2}))?", part)
    try:
        if not match:
            moment = datetime.fromisoformat(part)
            moment = moment.astimezone(UTC) if moment.tzinfo else moment.replace(tzinfo=UTC)
            return moment, moment
        year, month, day = (int(group) if group else None for group in match.groups())
        assert year is not None
        first = datetime(year, month or 1, day or 1, tzinfo=UTC)
        last_month = month or 12
        last_day = day or calendar.monthrange(year, last_month)[1]
        return first, datetime(year, last_month, last_day, tzinfo=UTC) + timedelta(days=1, seconds=-1)
    except ValueError as error:
        raise UsageError(f"The date '{part}' in '{whole}' cannot be read.", _FORMS) from error


def percent(value: float, what: str) -> float:
    """Check a percentage given by a person."""
    if not 0 <= value <= 100:
        raise UsageError(f"The {what} {value:g} is not between 0 and 100.", "It is a percentage: 20, say.")
    return float(value)


@dataclass(frozen=True)
class Criteria:
    """What a scene must be.

    Attributes
    ----------
    area : Shape
        Longitude/latitude; scenes must touch it.
    periods : sequence of Period
        Any of them; none means any time.
    cloud_max : float or None
        Percent of the whole scene.
    cover_min : float
        Percent of the area that the footprint must cover.
    """

    area: Shape
    collections: Sequence[str] = ()
    periods: Sequence[Period] = ()
    cloud_max: float | None = None
    cover_min: float = 0.0

    def in_time(self, scene: Scene) -> bool:
        """True when the scene lies in one of the periods."""
        return not self.periods or any(period.holds(scene.when) for period in self.periods)

    def clear_enough(self, scene: Scene) -> bool:
        """True when the cloud figure is known and within the limit, or no limit is set."""
        return self.cloud_max is None or (scene.cloud_percent is not None and scene.cloud_percent <= self.cloud_max)

    def cover(self, scene: Scene) -> float:
        """Percent of the area that the scene's footprint covers; 0 without a usable footprint."""
        return 100 * share(self.area, scene.footprint) if scene.has_footprint() else 0.0

    def span(self) -> Period | None:
        """One period around all, for servers that take only one."""
        if not self.periods:
            return None
        starts = [period.start for period in self.periods]
        ends = [period.end for period in self.periods]
        return Period(
            None if None in starts else min(start for start in starts if start),
            None if None in ends else max(end for end in ends if end),
        )

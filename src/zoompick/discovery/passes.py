"""When a satellite likely passes next, estimated from the days on which it did."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from itertools import pairwise

from zoompick.scenes.scene import Scene


@dataclass(frozen=True, slots=True)
class NextPasses:
    """An estimate: when the same satellite likely sees the area again.

    Attributes
    ----------
    revisit_days : float
        Repeat of the track that comes back soonest.
    """

    revisit_days: float
    observed: int
    days: tuple[str, ...]


def next_passes(scene: Scene, others: Sequence[Scene], now: datetime, count: int = 3) -> NextPasses | None:
    """When the same satellite likely passes next, each of its tracks by its own repeat.

    None where the record does not carry it: no track or tile is told, fewer than three passes of each were seen, or
    they come at no regular distance.
    """
    tracks: dict[str, set[date]] = {}
    for other in [*others, scene]:
        track = other.track or other.tile
        if other.platform == scene.platform and track:
            tracks.setdefault(track, set()).add(other.when.date())
    found = [(repeat, sorted(days)) for days in tracks.values() if (repeat := repeat_days(sorted(days)))]
    if not found:
        return None
    likely = sorted({day for repeat, days in found for day in _following(days[-1], repeat, now.date(), count)})
    seen = sum(len(days) for _, days in found)
    return NextPasses(min(repeat for repeat, _ in found), seen, tuple(day.isoformat() for day in likely[:count]))


def repeat_days(days: Sequence[date]) -> int | None:
    """The repeat of a track: the commonest gap, of which nearly all gaps are multiples; None when there is none."""
    gaps = [(after - before).days for before, after in pairwise(days)]
    if len(gaps) < 2:
        return None
    repeat, times = min(Counter(gaps).most_common(), key=lambda entry: (-entry[1], entry[0]))
    regular = sum(gap % repeat == 0 for gap in gaps)
    return repeat if repeat > 1 and times >= 2 and regular >= _REGULAR * len(gaps) else None


_REGULAR = 0.75
"""Share of the gaps that must keep to the repeat: satellites are moved now and then."""


def _following(last: date, repeat: int, today: date, count: int) -> list[date]:
    """The next days of a track, none before today."""
    first = max(1, math.ceil((today - last).days / repeat))
    return [last + timedelta(days=repeat * (first + step)) for step in range(count)]

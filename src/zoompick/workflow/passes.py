"""When a satellite likely passes next, estimated from the days on which it did."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import pairwise
from statistics import median

from zoompick.catalog.scene import Scene


@dataclass(frozen=True, slots=True)
class NextPasses:
    """An estimate: when the same satellite likely sees the area again.

    Attributes
    ----------
    revisit_days : float
        Median distance of the passes that were observed.
    """

    revisit_days: float
    observed: int
    days: tuple[str, ...]


def next_passes(scene: Scene, others: Sequence[Scene], now: datetime, count: int = 3) -> NextPasses | None:
    """When the same satellite likely passes next, from the days on which it did; None with fewer than three.

    Gaps of several revisits (a pass that saw nothing) do not count towards the median.
    """
    days = sorted({other.when.date() for other in [*others, scene] if other.platform == scene.platform})
    gaps = [(after - before).days for before, after in pairwise(days)]
    if len(gaps) < 2:
        return None
    shortest = median(sorted(gaps)[: max(1, len(gaps) // 2)])
    usual = [gap for gap in gaps if gap <= 1.5 * shortest] or gaps
    revisit = float(median(usual))
    passed = max(0, math.ceil((now.date() - days[-1]).days / revisit))
    likely = [
        days[-1] + timedelta(days=round(revisit * (passed + step))) for step in range(0 if passed else 1, count + 1)
    ]
    return NextPasses(revisit, len(days), tuple(day.isoformat() for day in likely[:count]))

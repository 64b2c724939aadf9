"""What a download will take, told before its first byte: bytes, time, room, money."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from zoompick import money
from zoompick.fetch.download import room_for
from zoompick.fetch.get import Ready
from zoompick.files import human_bytes, human_km2, human_time
from zoompick.geo.shapes import Shape
from zoompick.journal import acts
from zoompick.jsontypes import JsonObject
from zoompick.money import Money
from zoompick.scenes.prices import price_of
from zoompick.scenes.scene import Scene

_LAST = 10
_LEAST_BYTES = 1_000_000
"""Acts that brought less tell of waiting, not of a rate."""


@dataclass(frozen=True)
class Outlook:
    """Figures for a person to decide by.

    Attributes
    ----------
    files, total_bytes : int
        Still to be fetched; what earlier runs left is taken off.
    unknown : int
        Files whose size nobody tells.
    saved_bytes : int
        Left at the source by fetching windows.
    seconds : float or None
        At the median rate of the last downloads from this source; None when there were none.
    free_bytes : int or None
        On the disk where they go.
    prices : tuple of Money
        Of the scenes that have to be bought, by currency; what overlaps is counted as often as it is offered.
    bought_km2 : float
    order_limits : tuple of str
        What their sources limit, in sentences.
    is_limited : bool
        ``seconds`` comes of a limit on the rate.
    """

    files: int
    total_bytes: int
    unknown: int
    here: int
    under_way_bytes: int
    saved_bytes: int
    seconds: float | None
    free_bytes: int | None
    prices: tuple[Money, ...]
    bought_km2: float = 0.0
    order_limits: tuple[str, ...] = ()
    is_limited: bool = False

    def to_json(self) -> JsonObject:
        """As the command prints it."""
        rows = [{"amount": round(one.amount, 2), "currency": one.currency} for one in self.prices]
        seconds = None if self.seconds is None else round(self.seconds, 1)
        return {
            "files": self.files, "bytes": self.total_bytes, "unknown_sizes": self.unknown, "here": self.here,
            "resumed_bytes": self.under_way_bytes, "saved_bytes": self.saved_bytes, "seconds": seconds,
            "free_bytes": self.free_bytes, "price": rows[0] if len(rows) == 1 else rows or None,
            "order_limits": list(self.order_limits),
        }  # fmt: skip

    def words(self) -> str:
        """One or two sentences."""
        unknown = f" and {self.unknown} of unknown size" if self.unknown else ""
        count = "1 file" if self.files == 1 else f"{self.files} files"
        parts = [f"To fetch: {count}, {human_bytes(self.total_bytes)}{unknown}"]
        if self.saved_bytes:
            parts.append(f"{human_bytes(self.saved_bytes)} stay at the source")
        if self.under_way_bytes:
            parts.append(f"{human_bytes(self.under_way_bytes)} are left from an earlier run")
        if self.seconds is not None and self.total_bytes:
            rate = "the rate that is allowed" if self.is_limited else "the rate of the last downloads"
            parts.append(f"{human_time(self.seconds)} at {rate}")
        if self.free_bytes is not None:
            parts.append(f"{human_bytes(self.free_bytes)} free on the disk")
        return " ".join(filter(None, ["; ".join(parts) + ".", self.bought]))

    @property
    def bought(self) -> str:
        """What has to be bought, and how it is limited, as sentences; empty for nothing."""
        costs = [f"To be bought: {money.words(self.prices)} for {human_km2(self.bought_km2)}."] if self.prices else []
        return " ".join([*costs, *self.order_limits])


def outlook(ready: Ready, scenes: Sequence[Scene], area: Shape | None, journal: Path | None) -> Outlook:
    """Figures of a plan that has been prepared; its session's pace is the fastest that bytes may come."""
    plan = ready.plan
    room = room_for(plan)
    known = plan.known_bytes - plan.under_way_bytes
    rate, limit = rate_of(journal, {scene.source for scene in scenes}), ready.client.pace.bytes_per_s
    is_limited = bool(limit) and (rate is None or limit < rate)
    rate = limit if is_limited else rate
    sold = {scene for scene, access in plan.on_order if access == "priced"}
    prices = [price for scene in scenes if scene.id in sold and (price := price_of(scene, area))]
    return Outlook(
        files=len(plan.fetch),
        total_bytes=max(0, known),
        unknown=plan.unknown,
        here=len(plan.here),
        under_way_bytes=plan.under_way_bytes,
        saved_bytes=ready.saved_bytes,
        seconds=max(0, known) / rate if rate else None,
        is_limited=is_limited,
        free_bytes=room[0] if room else None,
        prices=money.totals(price.money for price in prices),
        order_limits=ready.order_limits if plan.on_order else (),
        bought_km2=sum(price.km2 for price in prices),
    )


def rate_of(journal: Path | None, sources: set[str]) -> float | None:
    """Median bytes a second of the last downloads from these sources; None when the journal tells of none."""
    rates = [
        line["bytes"] / line["seconds"]
        for line in acts(journal)
        if line.get("act") == "download" and line.get("source") in sources
        if (line.get("bytes") or 0) >= _LEAST_BYTES and (line.get("seconds") or 0) > 0
    ]
    return statistics.median(rates[-_LAST:]) if rates else None

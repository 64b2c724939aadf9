"""When there are scenes: counts and the least cloud by month or by day; gaps, and the span of each satellite."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from itertools import pairwise

from zoompick.discovery.pick import told_cloud
from zoompick.figures.calendar import Mark
from zoompick.jsontypes import JsonObject
from zoompick.scenes.scenelist import Entry


@dataclass(frozen=True)
class Agenda:
    """Figures by period, a day or a month, and lines on spans and gaps."""

    figures: dict[str, JsonObject]
    notes: list[str]

    def to_json(self) -> JsonObject:
        """Counts and clouds by period, for machines."""
        return {"periods": self.figures, "notes": self.notes}


def of_months(entries: Sequence[Entry]) -> Agenda:
    """Scenes and the least cloud of each month, ``2025-01``."""
    return Agenda(_figures(entries, 7), _notes(entries))


def of_days(entries: Sequence[Entry]) -> Agenda:
    """The same of each day."""
    return Agenda(_figures(entries, 10), _notes(entries))


def marks(entries: Sequence[Entry]) -> list[Mark]:
    """A mark for each day and satellite, for the picture."""
    best: dict[tuple[date, str], float | None] = {}
    for entry in entries:
        key = entry.scene.when.date(), entry.scene.platform or "?"
        told = told_cloud(entry)
        held = best.get(key)
        best[key] = told if held is None else held if told is None else min(told, held)
    return [Mark(day, cloud, platform) for (day, platform), cloud in sorted(best.items())]


def _figures(entries: Sequence[Entry], digits: int) -> dict[str, JsonObject]:
    groups: dict[str, list[Entry]] = {}
    for entry in entries:
        groups.setdefault(entry.scene.day[:digits], []).append(entry)
    return {
        key: {"scenes": len(group), "least_cloud_percent": _least(group)} for key, group in sorted(groups.items())
    }


def _least(group: Sequence[Entry]) -> float | None:
    """The least cloud that any of some scenes tells; None when none does."""
    told = [cloud for entry in group if (cloud := told_cloud(entry)) is not None]
    return round(min(told), 1) if told else None


def _notes(entries: Sequence[Entry]) -> list[str]:
    """Years of each satellite, and the longest stretch without any scene."""
    notes = []
    for platform in sorted({entry.scene.platform for entry in entries}):
        days = sorted(e.scene.day for e in entries if e.scene.platform == platform)
        notes.append(f"{platform or 'unnamed'}: {len(days)} scenes, {days[0]} to {days[-1]}")
    dates = sorted({entry.scene.when.date() for entry in entries})
    gaps = [(after - before, before, after) for before, after in pairwise(dates)]
    longest = max(gaps, default=(timedelta(0), None, None))
    if longest[0] > timedelta(days=1):
        notes.append(f"longest gap: {longest[0].days} days, {longest[1]} to {longest[2]}")
    return notes

"""When there are scenes: counts and the least cloud by month or by day; gaps, and the span of each satellite."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from itertools import pairwise
from typing import Any

from zoompick.figures.calendar import Mark
from zoompick.study.scenelist import Entry
from zoompick.workflow.pick import cloud_of

_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_GAP = "·"


@dataclass(frozen=True)
class Agenda:
    """A table (its head first), lines on spans and gaps, and the figures behind it by period."""

    rows: list[list[str]]
    notes: list[str]
    figures: dict[str, dict[str, Any]]

    def to_json(self) -> dict[str, Any]:
        """Counts and clouds by period, for machines."""
        return {"periods": self.figures, "notes": self.notes}


def of_months(entries: Sequence[Entry]) -> Agenda:
    """Years down, months across."""
    figures = _figures(entries, 7)
    years = range(*_span([key[:4] for key in figures]))
    rows = [["year", *_MONTHS, "all"]]
    for year in years:
        cells = [_cell(figures.get(f"{year}-{month:02d}")) for month in range(1, 13)]
        rows.append([str(year), *cells, str(sum(e.scene.when.year == year for e in entries))])
    return Agenda(rows, _notes(entries), figures)


def of_days(entries: Sequence[Entry]) -> Agenda:
    """Months down, days across: the tens of the least cloud of each day, 0 for clear."""
    figures = _figures(entries, 10)
    months = sorted({key[:7] for key in figures})
    rows = [["month", "1   5    10   15   20   25   30", "days", "scenes"]]
    for month in months:
        days = [figures.get(f"{month}-{day:02d}") for day in range(1, 32)]
        line = "".join(_GAP if day is None else str(min(9, int(day["least_cloud_percent"] // 10))) for day in days)
        seen = [day for day in days if day is not None]
        rows.append([month, line, str(len(seen)), str(sum(day["scenes"] for day in seen))])
    return Agenda(rows, _notes(entries), figures)


def marks(entries: Sequence[Entry]) -> list[Mark]:
    """A mark for each day and satellite, for the picture."""
    best: dict[tuple[date, str], float | None] = {}
    for entry in entries:
        key = entry.scene.when.date(), entry.scene.platform or "?"
        told = entry.cloud_area_percent if entry.cloud_area_percent is not None else entry.scene.cloud_percent
        held = best.get(key)
        best[key] = told if held is None else held if told is None else min(told, held)
    return [Mark(day, cloud, platform) for (day, platform), cloud in sorted(best.items())]


def _figures(entries: Sequence[Entry], digits: int) -> dict[str, dict[str, Any]]:
    groups: dict[str, list[Entry]] = {}
    for entry in entries:
        groups.setdefault(entry.scene.day[:digits], []).append(entry)
    return {
        key: {"scenes": len(group), "least_cloud_percent": round(min(map(cloud_of, group)), 1)}
        for key, group in sorted(groups.items())
    }


def _cell(figure: dict[str, Any] | None) -> str:
    return _GAP if figure is None else f"{figure['scenes']}/{_cloud(figure)}"


def _cloud(figure: dict[str, Any]) -> str:
    return f"{figure['least_cloud_percent']:.0f}"


def _span(years: Sequence[str]) -> tuple[int, int]:
    return int(min(years)), int(max(years)) + 1


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

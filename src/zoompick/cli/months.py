"""The calendar of scenes as rows of a table, the head first."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zoompick.jsontypes import JsonObject

if TYPE_CHECKING:
    from zoompick.discovery.agenda import Agenda

_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_GAP = "·"


def by_month(agenda: Agenda) -> list[list[str]]:
    """Years down, months across: scenes and the least cloud; only years and months that hold something."""
    held = sorted({int(key[5:7]) for key in agenda.figures})
    rows = [["year", *(_MONTHS[month - 1] for month in held), "all"]]
    for year in sorted({int(key[:4]) for key in agenda.figures}):
        months = [agenda.figures.get(f"{year:04d}-{month:02d}") for month in held]
        total = sum(month["scenes"] for month in months if month)
        rows.append([str(year), *map(_cell, months), str(total)])
    return rows


def _cell(figure: JsonObject | None) -> str:
    if figure is None:
        return _GAP
    least = figure["least_cloud_percent"]
    return f"{figure['scenes']}/{'?' if least is None else f'{least:.0f}'}"


def _digit(day: JsonObject | None) -> str:
    if day is None:
        return _GAP
    least = day["least_cloud_percent"]
    return "?" if least is None else str(min(9, int(least // 10)))


def by_day(agenda: Agenda) -> list[list[str]]:
    """Months down, days across: the tens of the least cloud of each day, 0 for clear."""
    rows = [["month", "1   5    10   15   20   25   30", "days", "scenes"]]
    for month in sorted({key[:7] for key in agenda.figures}):
        days = [agenda.figures.get(f"{month}-{day:02d}") for day in range(1, 32)]
        line = "".join(map(_digit, days))
        seen = [day for day in days if day is not None]
        rows.append([month, line, str(len(seen)), str(sum(day["scenes"] for day in seen))])
    return rows

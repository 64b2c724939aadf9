"""When there are scenes and how cloudy, as a table or a picture."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick.discovery import agenda
from zoompick.figures.calendar import calendar_picture as drawn
from zoompick.files import refuse_existing
from zoompick.scenes.scenelist import Entry


def calendar(entries: Sequence[Entry], by_day: bool = False) -> agenda.Agenda:
    """When there are scenes and how cloudy: counts and the least cloud by month, or by day; spans and gaps."""
    return agenda.of_days(entries) if by_day else agenda.of_months(entries)


def calendar_picture(entries: Sequence[Entry], out: Path, title: str = "", overwrite: bool = False) -> Path:
    """Draw the calendar of scenes as a PNG."""
    refuse_existing([out], overwrite)
    drawn(agenda.marks(entries), title or f"{len(entries)} scenes by day and cloud", out)
    return out

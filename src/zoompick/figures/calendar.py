"""A calendar of scenes as a picture: years by months, a mark a day, dark for clear and pale for cloudy."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zoompick.figures import style

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MONTHS = "JFMAMJJASOND"


@dataclass(frozen=True, slots=True)
class Mark:
    """A day with scenes: the least cloud of them (None where none tells), and of which satellite."""

    day: date
    cloud: float | None
    platform: str


def calendar_picture(marks: Sequence[Mark], title: str, path: Path) -> None:
    """Draw a band for each satellite and year, twelve months wide, 1280 pixels across."""
    rows = sorted({(mark.platform, mark.day.year) for mark in marks})
    height = 1.1 + 0.42 * max(4, len(rows))
    drawn = style.figure(11.64, height)
    axes = drawn.add_axes((0.13, 0.62 / height, 0.84, (height - 1.25) / height))
    axes.set_facecolor("white")
    place = {row: len(rows) - 1 - number for number, row in enumerate(rows)}
    for mark in marks:
        start = date(mark.day.year, 1, 1)
        x = (mark.day - start).days
        y = place[mark.platform, mark.day.year]
        axes.bar(x + 0.5, 0.78, 1.9, bottom=y - 0.39, color=_colour(mark.cloud), lw=0)
    firsts = [(date(2025, month, 1) - date(2025, 1, 1)).days for month in range(1, 13)]
    for first in firsts[1:]:
        axes.axvline(first, color=style.FAINT, lw=0.6, zorder=0)
    axes.set_xlim(0, 366)
    axes.set_ylim(-0.6, len(rows) - 0.4)
    axes.set_xticks([first + 15 for first in firsts], list(_MONTHS))
    axes.set_yticks(list(place.values()), [style.plain(f"{platform} {year}") for platform, year in place])
    axes.tick_params(length=0)
    drawn.text(0.02, 1 - 0.36 / height, style.plain(title), fontsize=12, fontweight="bold")
    _legend(drawn, height)
    style.save(drawn, path)


def _colour(cloud: float | None) -> Any:
    """From deep (clear) to pale (cloudy); sand where the cloud is not told."""
    if cloud is None:
        return "#d9c7a3"
    part = min(1.0, max(0.0, cloud / 100)) ** 0.7
    deep, pale = (0.10, 0.32, 0.45), (0.86, 0.88, 0.88)
    return tuple(low + (high - low) * part for low, high in zip(deep, pale, strict=True))


def _legend(drawn: Figure, height: float) -> None:
    from matplotlib.patches import Rectangle

    for number, (cloud, text) in enumerate(
        ((0, "clear"), (20, "20 %"), (50, "50 %"), (100, "overcast"), (None, "not told"))
    ):
        x = 0.56 + 0.085 * number
        patch = Rectangle(
            (x, 1 - 0.40 / height), 0.012, 0.14 / height, transform=drawn.transFigure, fc=_colour(cloud), ec="none"
        )
        drawn.add_artist(patch)
        drawn.text(x + 0.016, 1 - 0.38 / height, text, fontsize=8.5)

"""Products against what they were made of, on a sample of windows: what was seen, what differs, what is sure."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import NamedTuple

from zoompick.arrays import Floats, Mask
from zoompick.geo.shapes import Shape, project
from zoompick.judge.shifts import tiles_over
from zoompick.judge.subject import Subject
from zoompick.later import np, shapely
from zoompick.raster.grid import Grid, Window
from zoompick.scenes.finding import Finding, Seen, judged, not_judged

WINDOWS, MOST_OFF_PERCENT, MOST_OFF_CODES_PERCENT = 9, 0.5, 0.1
EDGE_PX = 0.75
"""So near to an outline a pixel may be in or out, whichever rule for it was taken."""
STEP, RELATIVE = 1e-4, 1e-3


class Tally(NamedTuple):
    """Pixels that were compared, and those that are not as they should be."""

    seen: int = 0
    wrong: int = 0

    def plus(self, seen: Mask, wrong: Mask) -> Tally:
        return Tally(self.seen + int(seen.sum()), self.wrong + int((wrong & seen).sum()))

    def fits(self, most_percent: float = 0.5) -> bool:
        """True when something was compared, and hardly a pixel differs."""
        return bool(self.seen) and 100 * self.wrong <= most_percent * self.seen


def compared(
    subject: Subject, title: str, tally: Tally, what: str, most: float = MOST_OFF_PERCENT, cause: str = ""
) -> Finding:
    """One finding of a comparison; not judged where nothing could be compared.

    Parameters
    ----------
    what : str
        What is wrong with the pixels that differ.
    cause : str
        Why, where there is evidence.
    """
    grid = subject.raster.grid
    seen = Seen("px", tally.seen, grid.width * grid.height)
    limit = f"at most {most:g} %"
    if not tally.seen:
        return not_judged(title, subject.label, "No pixel could be compared with what it was made of.", limit)
    percent = 100 * tally.wrong / tally.seen
    why = cause or "It is not what its record tells; why is unknown."
    note = f"{percent:.1f} % of the pixels {what}. {why} Make it again."
    return judged(title, subject.label, percent <= most, f"{percent:.2f} % of {tally.seen} px differ", limit, note,
                  percent, seen=seen)  # fmt: skip


def windows_of(subject: Subject) -> list[Window]:
    """Nine windows spread evenly, the same each time; of a subject that is judged thoroughly all."""
    grid = subject.raster.grid
    if not subject.is_thorough:
        return tiles_over(grid, WINDOWS, 3)
    return [Window(col, row, min(_WHOLE_PX, grid.width - col), min(_WHOLE_PX, grid.height - row))
            for row in range(0, grid.height, _WHOLE_PX) for col in range(0, grid.width, _WHOLE_PX)]  # fmt: skip


_WHOLE_PX = 512


def _centres(grid: Grid, window: Window) -> tuple[Floats, Floats]:
    xs = grid.west + (np.arange(window.col, window.stop_col) + 0.5) * grid.pixel_x
    ys = grid.north - (np.arange(window.row, window.stop_row) + 0.5) * grid.pixel_y
    across, down = np.meshgrid(xs, ys)
    return across, down


def outline_of(area: object, grid: Grid) -> Shape:
    """A recorded area in the system of a grid."""
    return project(shapely.from_geojson(_text(area)), grid.crs)


def _text(area: object) -> str:
    return json.dumps(area)


def surely(polygon: Shape, grid: Grid, window: Window) -> tuple[Mask, Mask]:
    """Pixels that lie inside whichever rule an outline is drawn by, and those that lie outside."""
    margin = EDGE_PX * max(grid.pixel_x, grid.pixel_y)
    xs, ys = _centres(grid, window)
    inside = shapely.contains_xy(polygon.buffer(-margin), xs, ys)
    outside = ~shapely.contains_xy(polygon.buffer(margin), xs, ys)
    return np.asarray(inside), np.asarray(outside)


def judged_as(name: str) -> Callable[[Subject], bool]:
    return lambda subject: subject.traits.judged == name and subject.open is not None

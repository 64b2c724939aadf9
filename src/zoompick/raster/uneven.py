"""Grids whose rows or columns are not evenly spaced: places by their true coordinates, gaps as gaps."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar

from zoompick.arrays import Numbers, Pixels
from zoompick.errors import FormatError
from zoompick.later import np
from zoompick.raster.grid import Grid

_MOST_TIMES = 4
"""A side may grow to so many times its pixels where its finest step is taken for all."""


@dataclass(frozen=True, slots=True)
class Uneven:
    """Centres of columns, eastward, and of rows, southward, in the units of the system.

    It stands where an image turned by some angle has six numbers (:class:`zoompick.raster.placement.Affine`).
    """

    xs: tuple[float, ...]
    ys: tuple[float, ...]
    is_upright: ClassVar[bool] = False
    step_px: ClassVar[int] = 1
    """Between knots of steps that are not even nothing may be interpolated."""

    @classmethod
    def of(cls, xs: Numbers, ys: Numbers, where: str) -> Uneven:
        """From coordinates that rise eastward and fall southward.

        Raises
        ------
        FormatError
            They turn back, a place is missing, or gaps are many times as wide as a pixel.
        """
        for name, line in (("columns", xs), ("rows", -ys)):
            if not (np.isfinite(line).all() and (np.diff(line) > 0).all()):
                raise FormatError(
                    f"{where}: coordinates of its {name} turn back, or one is missing.",
                    "Write it again with coordinates that rise or fall throughout.",
                )
        return cls(tuple(xs.tolist()), tuple(ys.tolist()))

    def grid(self, image: Grid) -> Grid:
        """An even north-up grid around it, as fine as its finest step, unless that is far finer than most."""
        (west, pixel_x, width), (south, pixel_y, height) = _extent(self.xs), _extent(self.ys[::-1])
        return Grid(image.crs, pixel_x, pixel_y, west, south + height * pixel_y, width, height)

    def inverse(self, x: Pixels, y: Pixels) -> tuple[Pixels, Pixels]:
        """Columns and rows, counted from the first corner, of places; NaN beyond the ends and in gaps."""
        return _counted(np.asarray(x), self.xs), len(self.ys) - _counted(np.asarray(y), self.ys[::-1])

    def told(self, name: str) -> str:
        """For people: how it comes to a grid."""
        return f"{name} has rows or columns at uneven steps: it is resampled by their true places"


_REACH = 0.75
"""A pixel reaches so far beside its centre, in steps."""


def _steps(line: tuple[float, ...]) -> Numbers:
    return np.diff(np.asarray(line))


def _extent(line: tuple[float, ...]) -> tuple[float, float, int]:
    """Lower edge, pixel and count of an even side around rising centres."""
    steps = _steps(line)
    low, high = line[0] - steps[0] / 2, line[-1] + steps[-1] / 2
    pixel = float(steps.min())
    if (high - low) / pixel > _MOST_TIMES * len(line):
        pixel = float(np.median(steps))
    if (high - low) / pixel > _MOST_TIMES * len(line):
        raise FormatError("Gaps between rows or columns are many times as wide as a pixel.", "Cut the file at them.")
    pixel = float(f"{pixel:.9g}")
    return float(low), pixel, max(1, math.ceil((high - low) / pixel - 1e-6))


def _counted(places: Pixels, line: tuple[float, ...]) -> Pixels:
    """Pixels from the first edge of rising centres."""
    steps = _steps(line)
    knots = np.concatenate([[line[0] - steps[0]], line, [line[-1] + steps[-1]]])
    found = np.interp(places, knots, np.arange(-1.0, len(line) + 1.0), left=np.nan, right=np.nan) + 0.5
    nearest = knots[np.clip(np.nan_to_num(np.floor(found), nan=0).astype(int) + 1, 0, len(knots) - 1)]
    with np.errstate(invalid="ignore"):
        is_gap = np.abs(places - nearest) > _REACH * np.median(steps)
    return np.where(is_gap, np.nan, found)

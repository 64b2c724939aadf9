"""Rasters in degrees and the turn of the globe: what lies at 185 degrees lies at -175 degrees, too."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from zoompick.arrays import Pixels
from zoompick.geo.bounds import Bounds
from zoompick.geo.shapes import Shape, bounds_of, project, turned
from zoompick.later import np
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Derived, Raster

_TURN = 360.0


class Turned(Derived):
    """A raster in degrees that begins elsewhere: whole turns away, or, when it goes around the globe, at any column.

    Parameters
    ----------
    cols : int
        Columns by which its beginning moves to the east; for a raster that does not go around, whole turns.
    is_ring : bool
        It goes around, what it lacks of the turn is no-data.
    """

    def __init__(self, source: Raster, cols: int, is_ring: bool = False) -> None:
        super().__init__(source)
        self._cols = cols
        self._ring = _ring_of(source.grid) if is_ring else 0

    @property
    def grid(self) -> Grid:
        """The source's, moved."""
        moved = _moved(self.source.grid, self._cols)
        return replace(moved, width=self._ring) if self._ring else moved

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        if not self._ring and not goes_around(self.source.grid):
            return self.source.read(window, bands)
        # Beyond its last column a ring reads off the source, which is no-data.
        width, parts = self._ring or self.source.grid.width, []
        col, left = (window.col + self._cols) % width, window.width
        while left > 0:
            step = min(left, width - col)
            parts.append(self.source.read(Window(col, window.row, step, window.height), bands))
            col, left = 0, left - step
        return parts[0] if len(parts) == 1 else np.concatenate(parts, axis=2)


def goes_around(grid: Grid) -> bool:
    """True for a grid in degrees whose last column meets its first."""
    return grid.crs.is_geographic and abs(grid.width * grid.pixel_x - _TURN) < grid.pixel_x / 2


def _ring_of(grid: Grid) -> int:
    """Columns of a whole turn; 0 where a turn is no whole number of them."""
    count = round(_TURN / grid.pixel_x)
    return count if abs(count * grid.pixel_x - _TURN) < _ALIGNED * grid.pixel_x and grid.width <= count else 0


_ALIGNED = 0.01


def around(raster: Raster, box: Bounds) -> Raster:
    """A raster in degrees, begun so that a box in its CRS lies in it as far as it can."""
    grid = raster.grid
    if not grid.crs.is_geographic or (grid.bounds.west <= box.west and box.east <= grid.bounds.east):
        return raster
    if goes_around(grid):
        cols = math.floor((box.west - grid.west) / grid.pixel_x)
        return Turned(raster, cols) if cols else raster
    turns = [-1, 0, 1]
    met = [turn for turn in turns if _shared(grid.bounds, box, turn * _TURN) > grid.pixel_x / 2]
    if len(met) > 1 and raster.nodata is not None and _ring_of(grid):
        return Turned(raster, math.floor((box.west - grid.west) / grid.pixel_x), is_ring=True)
    best = max(turns, key=lambda turn: (_shared(grid.bounds, box, turn * _TURN), turn == 0))
    return Turned(raster, round(best * _TURN / grid.pixel_x)) if best else raster


def in_same_turn(raster: Raster, area: Shape) -> tuple[Raster, Shape]:
    """A raster, and an area in longitude/latitude in its CRS, both in one turn of the globe."""
    flat = project(area, raster.grid.crs)
    if not raster.grid.crs.is_geographic:
        return raster, flat
    flat = turned(flat, raster.grid.bounds)
    return around(raster, bounds_of(flat)), flat


def _shared(box: Bounds, other: Bounds, shift: float) -> float:
    return min(box.east + shift, other.east) - max(box.west + shift, other.west)


def _moved(grid: Grid, cols: int) -> Grid:
    return replace(grid, west=grid.west + cols * grid.pixel_x)

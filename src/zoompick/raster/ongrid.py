"""A raster laid onto another grid of the same CRS, computed window by window."""

from __future__ import annotations

import math
from collections.abc import Sequence

from zoompick.arrays import Pixels
from zoompick.errors import GridError
from zoompick.later import np
from zoompick.raster import resample
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Derived, Raster
from zoompick.raster.resample import Axis
from zoompick.raster.ways import CLASS

METHODS = ("bilinear", CLASS, "average", "majority")
"""``bilinear``: upwards, area average downwards. ``class``: nearest upwards, majority downwards."""


class OnGrid(Derived):
    """``source`` seen on ``grid``.

    Same lattice: pixels are copied. Smaller target pixels: bilinear or nearest. Larger: area average or majority.
    What lies outside the source is no-data.

    Parameters
    ----------
    method : str
        One of METHODS.

    Raises
    ------
    GridError
        The CRS differ, or the source has no no-data value and does not cover the grid.
    """

    def __init__(self, source: Raster, grid: Grid, method: str = "bilinear") -> None:
        if source.grid.crs != grid.crs:
            raise GridError(
                f"A raster in {source.grid.crs} does not fit a grid in {grid.crs}.",
                "Choose scenes whose CRS is the grid's, or give the grid the CRS of the scenes.",
            )
        super().__init__(source)
        self.method = method
        self._grid = grid
        self._copies = source.grid.shares_lattice(grid)
        self._step = grid.pixel_x / source.grid.pixel_x, grid.pixel_y / source.grid.pixel_y
        self._offset = grid.offset_in(source.grid)
        self._uncovered = not covers(source.grid, grid)
        if self._uncovered and source.nodata is None:
            raise GridError(
                "A raster without a no-data value does not cover the whole grid.",
                "Give it a no-data value, or choose a smaller area.",
            )

    @property
    def grid(self) -> Grid:
        """The target grid."""
        return self._grid

    @property
    def block(self) -> tuple[int, int]:
        """The source's block in target pixels."""
        rows, cols = self.source.block
        return max(1, round(rows / self._step[1])), max(1, round(cols / self._step[0]))

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        if self._copies:
            return self.source.read(self._in_source(window), bands)
        cols = Axis(self._offset[0] + window.col * self._step[0], self._step[0], window.width)
        rows = Axis(self._offset[1] + window.row * self._step[1], self._step[1], window.height)
        halo = 1 if self.method == "bilinear" and not self._shrinks else 0
        under = _span(cols, rows, halo)
        # Beyond the source's edge bilinear taps repeat the edge pixel, so reads stay inside where they can.
        inside = under.intersect(self.source.grid.window)
        if inside.is_empty:
            count = len(self.bands if bands is None else bands)
            return np.full((count, window.height, window.width), self.nodata, self.dtype)
        pixels = self._kernel(self.source.read(inside, bands), _shifted(rows, inside.row), _shifted(cols, inside.col))
        if self._uncovered:
            self._blank_outside(pixels, rows, cols)
        return pixels

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The source's block on the same lattice; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        return coded_block(self.source, self._in_source(window), band) if self._copies else None

    def _in_source(self, window: Window) -> Window:
        """A window in the source's pixels, on the same lattice."""
        col, row = (round(value) for value in self._offset)
        return window.moved(col, row)

    @property
    def _shrinks(self) -> bool:
        return self._step[0] > 1 or self._step[1] > 1

    def _kernel(self, source: Pixels, rows: Axis, cols: Axis) -> Pixels:
        if self.method == "majority" or (self.method == CLASS and self._shrinks):
            return resample.majority(source, rows, cols, self.nodata)
        if self.method == CLASS:
            return resample.nearest(source, rows, cols)
        if self.method == "average" or self._shrinks:
            return resample.area_average(source, rows, cols, self.nodata)
        return resample.bilinear(source, rows, cols, self.nodata)

    def _blank_outside(self, pixels: Pixels, rows: Axis, cols: Axis) -> None:
        """Target pixels whose centre lies off the source are no-data, whatever the kernel continued there."""
        size = self.source.grid
        y, x = rows.centres(), cols.centres()
        pixels[:, (y < 0) | (y >= size.height), :] = self.nodata
        pixels[:, :, (x < 0) | (x >= size.width)] = self.nodata


def covers(source: Grid, grid: Grid) -> bool:
    """True when one grid holds all the ground of another of the same system."""
    have, want = source.bounds, grid.bounds
    slack = 1e-6 * max(grid.pixel_x, grid.pixel_y)
    return (
        have.west <= want.west + slack
        and have.south <= want.south + slack
        and have.east >= want.east - slack
        and have.north >= want.north - slack
    )


def _span(cols: Axis, rows: Axis, halo: int) -> Window:
    col, row = math.floor(cols.start + 1e-6) - halo, math.floor(rows.start + 1e-6) - halo
    stop_col, stop_row = math.ceil(cols.stop - 1e-6) + halo, math.ceil(rows.stop - 1e-6) + halo
    return Window(col, row, stop_col - col, stop_row - row)


def _shifted(axis: Axis, origin: int) -> Axis:
    return Axis(axis.start - origin, axis.step, axis.count)

"""A raster carried onto a grid of another CRS: control points with a bounded error, kernels that know no-data.

Positions are transformed exactly on every 32nd pixel of the target and interpolated between; the error in the middle
of each cell is measured, and the step halved until it stays below a twentieth of a source pixel.
Source of the kernel's convention: OpenCV remap, positions in source pixels with centres at whole numbers.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from zoompick.errors import GridError
from zoompick.geo.crs import transform
from zoompick.raster import kernels
from zoompick.raster.grid import Grid, Window
from zoompick.raster.ongrid import Method, OnGrid
from zoompick.raster.raster import Derived, Pixels, Raster, fill_value, fitting_level, valid_mask
from zoompick.raster.resample import finish

_STEP_PX = 32
_LIMIT_PX = 0.05
_MOST_SOURCE_PX = 20_000


class Warped(Derived):
    """``source`` seen on ``grid`` in another CRS; bilinear, or nearest for classes.

    Where the target's pixels are more than one and a half times as large as the source's, an overview close to
    their size is read, so that what lies between is averaged and not skipped.

    Raises
    ------
    GridError
        The source has no no-data value: what lies outside it could not be told.
    """

    def __init__(self, source: Raster, grid: Grid, is_class: bool = False) -> None:
        if source.nodata is None:
            raise GridError(
                "A raster without a no-data value cannot be carried into another reference system.",
                "Give it a no-data value first.",
            )
        super().__init__(source)
        self._grid = grid
        self._is_class = is_class
        self._level = self._fitting_level()

    @property
    def grid(self) -> Grid:
        """The target grid."""
        return self._grid

    def _fitting_level(self) -> int:
        """The coarsest overview that is still no coarser than the target."""
        middle = Window(self._grid.width // 2, self._grid.height // 2, 2, 2)
        x, y = self._exact(np.array([0, 1]), np.array([0, 1]), middle, self.source.grid)
        step = max(abs(float(x[0, 1] - x[0, 0])), abs(float(y[1, 0] - y[0, 0])), 1e-9)
        first = self.source.grid.pixel_x
        return fitting_level(self.source.levels, first * step * 1.05)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        lattice = self.source.levels[self._level]
        cols, rows = self._positions(window, lattice)
        count = len(self.bands if bands is None else bands)
        out = np.full((count, window.height, window.width), fill_value(self.nodata), self.dtype)
        inside = (cols > -0.5) & (cols < lattice.width - 0.5) & (rows > -0.5) & (rows < lattice.height - 0.5)
        if not inside.any():
            return out
        first_col, first_row = int(np.floor(cols[inside].min())) - 1, int(np.floor(rows[inside].min())) - 1
        last_col, last_row = int(np.ceil(cols[inside].max())) + 2, int(np.ceil(rows[inside].max())) + 2
        under = Window(first_col, first_row, last_col - first_col, last_row - first_row).intersect(lattice.window)
        if max(under.width, under.height) > _MOST_SOURCE_PX:
            return self._in_quarters(window, bands)
        source = self.source.read(under, bands, self._level)
        places = (cols - under.col).astype(np.float32), (rows - under.row).astype(np.float32)
        for target, band in zip(out, source, strict=True):
            target[inside] = self._sampled(band, *places)[inside]
        return out

    def _in_quarters(self, window: Window, bands: Sequence[int] | None) -> Pixels:
        """A window whose source is too large for the kernel, in four parts."""
        half_w, half_h = max(1, window.width // 2), max(1, window.height // 2)
        parts = []
        for row, height in ((window.row, half_h), (window.row + half_h, window.height - half_h)):
            across = [
                self.read(Window(col, row, width, height), bands)
                for col, width in ((window.col, half_w), (window.col + half_w, window.width - half_w))
                if width and height
            ]
            parts += [np.concatenate(across, axis=2)] if across else []
        return np.concatenate(parts, axis=1)

    def _sampled(self, band: Pixels, cols: Pixels, rows: Pixels) -> Pixels:
        """Values at positions; a missing neighbour is left out, a pixel whose nearest one is missing is missing."""
        valid = valid_mask(band, self.nodata)
        if self._is_class:
            return kernels.remap_nearest(band, cols, rows)
        working = np.where(valid, band, 0).astype(np.float32 if band.dtype.itemsize <= 2 else np.float64)
        values = kernels.remap_linear(working, cols, rows)
        if valid.all():
            return finish(values, band.dtype)
        weight = kernels.remap_linear(valid.astype(np.float32), cols, rows)
        present = kernels.remap_nearest(valid.astype(np.uint8), cols, rows).astype(bool) & (weight > 1e-6)
        np.divide(values, weight, out=values, where=present)
        result = finish(np.where(present, values, 0), band.dtype)
        result[~present] = fill_value(self.nodata)
        return result

    def _positions(self, window: Window, lattice: Grid) -> tuple[Any, Any]:
        """Column and row in ``lattice`` of every target pixel's centre."""
        step = _STEP_PX
        while True:
            knots_x = np.arange(0, window.width + step, step)
            knots_y = np.arange(0, window.height + step, step)
            cols, rows = self._exact(knots_x, knots_y, window, lattice)
            middle = self._exact(knots_x[:-1] + step / 2, knots_y[:-1] + step / 2, window, lattice)
            error = max(
                float(np.abs(_centres(knots) - exact).max()) if exact.size else 0.0
                for knots, exact in zip((cols, rows), middle, strict=True)
            )
            if error <= _LIMIT_PX or step <= 1:
                break
            step //= 2
        return (_between(cols, step, window.height, window.width), _between(rows, step, window.height, window.width))

    def _exact(self, xs: Pixels, ys: Pixels, window: Window, lattice: Grid) -> tuple[Pixels, Pixels]:
        grid = self._grid
        x = grid.west + (window.col + xs + 0.5) * grid.pixel_x
        y = grid.north - (window.row + ys + 0.5) * grid.pixel_y
        mesh_x, mesh_y = np.meshgrid(x, y)
        out_x, out_y = transform(mesh_x, mesh_y, grid.crs, lattice.crs)
        cols = (np.asarray(out_x) - lattice.west) / lattice.pixel_x - 0.5
        rows = (lattice.north - np.asarray(out_y)) / lattice.pixel_y - 0.5
        # What has no place in the source's system lies outside it.
        return np.where(np.isfinite(cols), cols, -1e6), np.where(np.isfinite(rows), rows, -1e6)


def laid_on(raster: Raster, grid: Grid, method: Method = "smooth") -> Raster:
    """A raster on a grid: resampled within its CRS, or carried over from another."""
    return OnGrid(raster, grid, method) if raster.grid.crs == grid.crs else Warped(raster, grid, method == "class")


def _centres(knots: Pixels) -> Pixels:
    """What bilinear interpolation gives in the middle of each cell."""
    return (knots[:-1, :-1] + knots[1:, :-1] + knots[:-1, 1:] + knots[1:, 1:]) / 4


def _between(knots: Pixels, step: int, height: int, width: int) -> Pixels:
    row, col = np.arange(height) / step, np.arange(width) / step
    low, weight = row.astype(int), (row % 1)[:, None]
    down = knots[low] * (1 - weight) + knots[low + 1] * weight
    low, weight = col.astype(int), (col % 1)[None, :]
    return down[:, low] * (1 - weight) + down[:, low + 1] * weight

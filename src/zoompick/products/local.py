"""Equalisation in neighbourhoods: each cell of a picture has a curve of its own, blended into the next ones.

Source: S. M. Pizer and others, Adaptive histogram equalization and its variations, Computer Vision, Graphics, and
Image Processing 39 (1987), section 3 (interpolation between the curves of four cells). Contrast is bounded not by
clipped histograms, but by mixing each cell's curve with that of the whole.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from zoompick.arrays import Pixels
from zoompick.later import np
from zoompick.products.ground import Where
from zoompick.raster import engine
from zoompick.raster.grid import Window
from zoompick.raster.raster import Raster, valid_mask

_CELL_PX, _KNOTS = 256, 33
_FEW = 1024
"""A cell with fewer pixels than that has the curve of the whole."""
_OWN = 0.6
"""Share of a cell's own curve in its mixture."""


@dataclass(frozen=True, eq=False)
class LocalCurves:
    """For each band and cell the values at equal steps of rank.

    Attributes
    ----------
    values : ndarray, shape (bands, rows, cols, knots)
        Rising; NaN for a cell without a curve of its own.
    """

    values: Any

    @classmethod
    def measured(cls, raster: Raster, bands: Sequence[int], mask: Where | None = None) -> LocalCurves:
        """Measure every cell, inside a mask where one is given."""
        grid = raster.grid
        rows, cols = -(-grid.height // _CELL_PX), -(-grid.width // _CELL_PX)
        values = np.full((len(bands), rows, cols, _KNOTS), np.nan)
        with engine.crew_of() as crew:
            found = engine.each(crew, grid.tiles(_CELL_PX), _Cell(raster, tuple(bands), mask))
            for place, own in enumerate(found):
                values[:, place // cols, place % cols] = own
        return cls(values)

    def shares(self, band: int, stored: Pixels, window: Window, whole: Pixels) -> Pixels:
        """Shares of the way from dark to bright of a window's values of a band.

        Parameters
        ----------
        band : int
            Place among the bands that were measured.
        whole : ndarray
            Shares by the curve of the whole, of the same shape.
        """
        out = np.zeros(stored.shape)
        table = self.values[band]
        down, up = _neighbours(window.row, window.height, table.shape[0])
        right, left = _neighbours(window.col, window.width, table.shape[1])
        for row, y in [*_of_each(down), *_of_each(up)]:
            for col, x in [*_of_each(right), *_of_each(left)]:
                part = np.ix_(y[0], x[0])
                own = whole[part]
                if np.isfinite(table[row, col]).all():
                    ranks = np.interp(stored[part], table[row, col], np.linspace(0, 1, _KNOTS))
                    own = _OWN * ranks + (1 - _OWN) * own
                out[part] += own * y[1][:, None] * x[1][None, :]
        return out


@dataclass(frozen=True)
class _Cell:
    """Measures one cell."""

    raster: Raster
    bands: tuple[int, ...]
    mask: Where | None

    def __call__(self, window: Window) -> Pixels:
        """Values at equal steps of rank, shape (bands, knots)."""
        pixels = self.raster.read(window, self.bands)
        valid = valid_mask(pixels, self.raster.nodata)
        if self.mask is not None:
            valid &= self.mask.read(window)
        out = np.full((len(pixels), _KNOTS), np.nan)
        for place, (band, there) in enumerate(zip(pixels, valid, strict=True)):
            if there.sum() >= _FEW:
                out[place] = np.quantile(band[there], np.linspace(0, 1, _KNOTS))
        return out


_Weights = tuple[Any, Any]


def _neighbours(first: int, count: int, cells: int) -> tuple[_Weights, _Weights]:
    """For each of some positions its two nearest cells along an axis, with their weights."""
    place = (np.arange(first, first + count) + 0.5) / _CELL_PX - 0.5
    low = np.floor(place).astype(int)
    weight = place - low
    return (np.clip(low, 0, cells - 1), 1 - weight), (np.clip(low + 1, 0, cells - 1), weight)


def _of_each(side: _Weights) -> list[tuple[int, tuple[Any, Any]]]:
    """The positions of each cell, and their weights."""
    numbers, weights = side
    found = []
    for number in np.unique(numbers).tolist():
        places = np.flatnonzero(numbers == number)
        found.append((int(number), (places, weights[places])))
    return found

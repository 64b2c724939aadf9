"""A colour picture of three bands, stretched to 8 bits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from zoompick.imagery.stretch import Limits
from zoompick.raster.grid import Window
from zoompick.raster.raster import Band, Derived, Pixels, Raster, valid_mask

_DARKEST, _BRIGHTEST = 1, 255


class Composite(Derived):
    """Red, green and blue as 8-bit values from 1 to 255; 0 in all three is no-data.

    Parameters
    ----------
    bands : sequence of int
        Three band indices of ``source``.
    limits : sequence of Limits
        For each band the stored values that become 1 and 255.
    """

    def __init__(self, source: Raster, bands: Sequence[int], limits: Sequence[Limits]) -> None:
        super().__init__(source)
        self._indices = tuple(bands)
        self._limits = tuple(limits)
        self._tables = _tables(source.dtype, limits)

    @property
    def bands(self) -> tuple[Band, ...]:
        """Three bands named after what they show."""
        return tuple(Band(self.source.bands[index].name) for index in self._indices)

    @property
    def dtype(self) -> np.dtype[Any]:
        """Unsigned 8 bits."""
        return np.dtype(np.uint8)

    @property
    def nodata(self) -> float | None:
        """Zero."""
        return 0

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        stored = self.source.read(window, self._indices)
        valid = valid_mask(stored, self.source.nodata).all(axis=0)
        out = np.empty(stored.shape, np.uint8)
        for number, limits in enumerate(self._limits):
            table = self._tables[number]
            out[number] = table[stored[number]] if table is not None else _stretched(stored[number], limits)
        out[:, ~valid] = 0
        return out if bands is None else out[list(bands)]


def _tables(dtype: np.dtype[Any], limits: Sequence[Limits]) -> list[Any]:
    """For 8- and 16-bit values a look-up table is much faster than arithmetic."""
    if dtype.kind != "u" or dtype.itemsize > 2:
        return [None] * len(limits)
    values = np.arange(np.iinfo(dtype).max + 1)
    return [_stretched(values, entry) for entry in limits]


def _stretched(values: Pixels, limits: Limits) -> Pixels:
    share = (np.asarray(values, np.float64) - limits.low) / (limits.high - limits.low)
    scaled = _DARKEST + np.nan_to_num(np.clip(share, 0, 1)) * (_BRIGHTEST - _DARKEST)
    return np.rint(scaled).astype(np.uint8)

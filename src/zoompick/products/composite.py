"""A colour picture of three bands, as shades of 8 bits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.later import np
from zoompick.products.curves import Curve, curves_for
from zoompick.products.ground import Where
from zoompick.products.local import LocalCurves
from zoompick.products.tone import Tone
from zoompick.raster import kernels
from zoompick.raster.grid import Window
from zoompick.raster.raster import Band, Derived, Raster, valid_mask


class Composite(Derived):
    """Red, green and blue as 8-bit values from 1 to 255; 0 in all three is no-data.

    Parameters
    ----------
    bands : sequence of int
        Three band indices of ``source``.
    curves : sequence of Curve
        For each band how stored values become shares of dark to bright.
    tone : Tone, optional
        Gamma, brightness, contrast and saturation; none of them by default.
    local : LocalCurves, optional
        Curves of neighbourhoods, into which those of the whole are mixed.
    """

    def __init__(
        self,
        source: Raster,
        bands: Sequence[int],
        curves: Sequence[Curve],
        tone: Tone | None = None,
        local: LocalCurves | None = None,
    ) -> None:
        super().__init__(source)
        self._indices = tuple(bands)
        self._curves = tuple(curves)
        self._tone = tone or PLAIN
        self._local = local
        self._tables = _tables(source.dtype, curves, self._tone) if local is None else [None] * len(curves)
        told = [curve.to_json(source.bands[index]) for curve, index in zip(curves, bands, strict=True)]
        self.record = {"zoompick:curves": told, "zoompick:tone": self._tone.facts()}

    @classmethod
    def measured(
        cls,
        source: Raster,
        bands: Sequence[int],
        tone: Tone,
        mask: Where | None = None,
    ) -> Composite:
        """A picture whose shades are measured here, inside a mask where one is given.

        Raises
        ------
        NothingFoundError
            There is no valid pixel.
        """
        curves = curves_for(source, bands, tone, mask)
        local = LocalCurves.measured(source, bands, mask) if tone.stretch == "local" else None
        return cls(source, bands, curves, tone, local)

    @property
    def bands(self) -> tuple[Band, ...]:
        """Three bands named after what they show."""
        shown = [self.source.bands[index] for index in self._indices]
        return tuple(Band(one.name, wavelength_um=one.wavelength_um, width_um=one.width_um) for one in shown)

    @property
    def dtype(self) -> PixelType:
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
        for number, curve in enumerate(self._curves):
            table = self._tables[number]
            if self._local is not None:
                shares = self._local.shares(number, stored[number], window, curve.at(stored[number]))
                out[number] = _whole(self._tone.shades(shares))
            elif table is None:
                out[number] = _whole(curve.shades(stored[number], self._tone))
            else:
                out[number] = kernels.looked_up(table, stored[number])
        if self._tone.saturation != 1:
            out = kernels.saturated(out, self._tone.saturation)
            np.maximum(out, 1, out=out)
        if not valid.all():
            out[:, ~valid] = 0
        return out if bands is None else out[list(bands)]


PLAIN = Tone(gamma=1, saturation=1)
"""Shades as the curves give them."""


def _tables(dtype: PixelType, curves: Sequence[Curve], tone: Tone) -> list[Any]:
    """For 8- and 16-bit values a look-up table is much faster than arithmetic."""
    if dtype.kind != "u" or dtype.itemsize > 2:
        return [None] * len(curves)
    values = np.arange(np.iinfo(dtype).max + 1)
    return [_whole(curve.shades(values, tone)) for curve in curves]


def _whole(shades: Pixels) -> Pixels:
    return np.rint(shades).astype(np.uint8)

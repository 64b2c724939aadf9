"""An index: a formula over reflectance, as 32-bit floats with NaN for no-data."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.arrays import Pixels, PixelType
from zoompick.jsontypes import JsonObject
from zoompick.later import np
from zoompick.products.formula import Formula
from zoompick.raster.grid import Window
from zoompick.raster.raster import Band, Derived, Raster, band_index, valid_mask
from zoompick.raster.shared import Shared


class Index(Derived):
    """One band computed from bands of ``source`` after scale and offset.

    A pixel is no-data where any band it needs is, and where the formula has no finite value.
    """

    def __init__(self, source: Raster, name: str, formula: Formula, where: str) -> None:
        super().__init__(source)
        self.formula = formula
        self._name = name
        self._indices = tuple(band_index(source, band, where) for band in formula.bands)
        bands = [source.bands[index] for index in self._indices]
        self._offsets = {name: band.offset for name, band in zip(formula.bands, bands, strict=True)}
        self._without: dict[Window, int] = {}
        self._most: dict[str, float] | None = None
        if source.dtype.kind in "iu":
            info = np.iinfo(source.dtype)
            stored = float(max(abs(info.min), info.max))
            self._most = {name: stored * abs(band.scale) + abs(band.offset)
                          for name, band in zip(formula.bands, bands, strict=True)}  # fmt: skip

    @property
    def notes(self) -> tuple[str, ...]:
        """Those of the source, and that stored numbers are used where no scale is told."""
        return (*super().notes, *unscaled(self.source, [self.source.bands[index] for index in self._indices]))

    @property
    def bands(self) -> tuple[Band, ...]:
        """The one band, named after the recipe."""
        return (Band(self._name),)

    @property
    def dtype(self) -> PixelType:
        """32-bit float."""
        return np.dtype(np.float32)

    @property
    def nodata(self) -> float | None:
        """NaN."""
        return float("nan")

    @property
    def no_value(self) -> int | None:
        """Pixels whose bands are there, but of which the formula has no finite value.

        None where not every pixel was computed here, once: on workers elsewhere, or in windows that overlap.
        """
        seen = sum(window.width * window.height for window in self._without)
        return sum(self._without.values()) if seen == self.grid.width * self.grid.height else None

    @property
    def record(self) -> JsonObject:
        """How many pixels have no value, where that was counted."""
        return {} if self.no_value is None else {"zoompick:no_value_px": self.no_value}

    @property
    def afterwards(self) -> tuple[str, ...]:
        """What a person should know once it is written."""
        if not self.no_value:
            return ()
        why = "a denominator that is nothing but rounding, or a logarithm or a power that has none"
        return (f"In {self.no_value} pixels {self._name} has no finite value ({why}): they are no data.",)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        stored = self.source.read(window, self._indices)
        valid = valid_mask(stored, self.source.nodata).all(axis=0)
        values = {}
        for place, (name, index) in enumerate(zip(self.formula.bands, self._indices, strict=True)):
            band = self.source.bands[index]
            # In single precision a reflectance of exactly 0 would come out as noise, and 0 / 0 as a value.
            if isinstance(self.source, Shared):
                values[name] = self.source.physical(window, index)
            else:
                values[name] = stored[place].astype(np.float64) * band.scale + band.offset
        result = np.asarray(self.formula.compute(values, self._offsets, self._most), np.float32)
        finite = np.isfinite(result)
        self._without[window] = int(np.count_nonzero(valid & ~finite))
        valid &= finite
        return np.where(valid, result, np.float32("nan"))[np.newaxis]


def unscaled(source: Raster, bands: Sequence[Band]) -> tuple[str, ...]:
    """A sentence where whole numbers come without scale and offset, so that they may be no reflectance."""
    bare = [band.name for band in bands if (band.scale, band.offset) == (1.0, 0.0) and not band.is_class]
    if source.dtype.kind == "f" or not bare:
        return ()
    return (f"No scale is told for {', '.join(bare)}: stored numbers are taken as they are.",)

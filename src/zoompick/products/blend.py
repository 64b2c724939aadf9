"""Blends: many dates become one picture, pixel by pixel, of what showed the ground.

Scenes of one day count as one date.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.errors import UsageError
from zoompick.later import np
from zoompick.products.formula import Formula
from zoompick.products.mosaic import Mosaic
from zoompick.products.observations import Observation
from zoompick.products.ranks import middle, ranked
from zoompick.raster import kernels
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Band, Derived, fill_value
from zoompick.raster.resample import finish

FORMULA = "zoompick:formula"
"""In a record: what was highest where each pixel is from."""


@dataclass(frozen=True)
class Date:
    """What one day shows: the numbers of its scenes, the first of which counts first."""

    day: str
    scenes: tuple[int, ...]


def dates_of(found: Sequence[Observation]) -> tuple[Date, ...]:
    """Scenes by day, days ascending; UsageError for one that does not tell its time."""
    days: dict[str, list[int]] = {}
    for number, one in enumerate(found):
        if one.when is None:
            raise UsageError(
                f"{one.name} does not tell its time.", "Blends are of dated scenes: keep their items beside."
            )
        days.setdefault(one.day or f"{one.when:%Y-%m-%d}", []).append(number)
    return tuple(Date(day, tuple(days[day])) for day in sorted(days))


class Blend(Mosaic):
    """Percentile or mean of all dates that show the ground; where fewer than ``least`` do there is no data.

    Parameters
    ----------
    percentile : float or None
        0 to 100, between ranks by straight lines, 50 for the median; None for the mean.
    """

    def __init__(self, found: Sequence[Observation], percentile: float | None = 50, least: int = 1) -> None:
        super().__init__(found, clear_only=True)
        self.dates = dates_of(found)
        self._percentile = percentile
        self._least = max(1, least)

    def coded(self, window: Window, band: int) -> None:
        """None: blocks are never passed on."""

    def count(self, window: Window) -> Pixels:
        """How many dates show the ground in each pixel."""
        total = np.zeros((window.height, window.width), np.int16)
        for date in self.dates:
            total += self._seen(date, window)[0]
        return total

    def _seen(self, date: Date, window: Window) -> tuple[Pixels, Pixels | None]:
        """Where a date shows the ground, the same for all bands; by which scene, None where it has but one."""
        key = (date.day, window)
        with self._lock:
            known = self._mixing.get(key)  # type: ignore[call-overload]
        if known is not None:
            return known
        found: tuple[Pixels, Pixels | None]
        if len(date.scenes) == 1:
            found = self.found[date.scenes[0]].usable(window), None
        else:
            owner = np.full((window.height, window.width), -1, np.int16)
            for number in date.scenes:
                kernels.put(owner, number, (owner < 0) & self.found[number].usable(window))
            found = owner >= 0, owner
        with self._lock:
            self._mixing[key] = found  # type: ignore[index]
            while len(self._mixing) > 4 * len(self.dates):
                self._mixing.popitem(last=False)
        return found

    def _layer(self, index: int, date: Date, window: Window, far: float) -> Pixels:
        """A band of a date; ``far`` where it does not show the ground."""
        there, owner = self._seen(date, window)
        if owner is None:
            (number,) = date.scenes
            values = self._values(index, number, window)
            if far == self.nodata and len(self._bands) == 1 and self.found[number].clear is None:
                return values
            layer = np.full(there.shape, far, self.dtype)
            kernels.put(layer, values, there)
            return layer
        layer = np.full(there.shape, far, self.dtype)
        for number in date.scenes:
            own = owner == number
            if own.any():
                kernels.put(layer, self._values(index, number, window), own)
        return layer

    def _read_band(self, index: int, window: Window, out: Pixels) -> None:
        seen = [self._seen(date, window)[0] for date in self.dates]
        count = np.zeros((window.height, window.width), np.int16)
        for there in seen:
            count += there
        if self._percentile is None:
            total = np.zeros(count.shape)
            for date in self.dates:
                total += self._layer(index, date, window, 0)
            blended = finish(total / np.maximum(count, 1), self.dtype, False, self.nodata)
        elif self._percentile == 50 and (end := _end(self.dtype, self.nodata)) is not None:
            blended = middle([self._layer(index, date, window, end) for date in self.dates], seen, end)
        else:
            far = np.inf if self.dtype.kind == "f" else np.iinfo(self.dtype).max
            layers = [self._layer(index, date, window, far) for date in self.dates]
            blended = finish(ranked(layers, count, self._percentile), self.dtype, False, self.nodata)
        out[...] = blended
        kernels.put(out, np.full(out.shape, fill_value(self.nodata), self.dtype), count < self._least)


def _end(dtype: PixelType, nodata: float | None) -> int | None:
    """The end of the range of whole numbers at which no-data lies; None for other no-data, and for floats."""
    if dtype.kind not in "ui":
        return None
    low, high = np.iinfo(dtype).min, np.iinfo(dtype).max
    return low if nodata in (low, None) else high if nodata == high else None


class Highest(Mosaic):
    """All bands of the scene in which a formula over reflectance is highest, where the ground shows."""

    def __init__(self, found: Sequence[Observation], formula: Formula) -> None:
        super().__init__(found, clear_only=True)
        self._formula = formula
        self.record[FORMULA] = formula.text
        names = [band.name for band in found[0].raster.bands]
        lacking = [name for name in formula.bands if name not in names]
        if lacking:
            raise UsageError(f"The formula needs {lacking[0]}, which is not among the bands.", "Add it to `bands`.")
        self._needed = [names.index(name) for name in formula.bands]

    def coded(self, window: Window, band: int) -> None:
        """None: blocks are never passed on."""

    def _chosen(self, window: Window) -> Any:
        owner = np.full((window.height, window.width), -1, np.int16)
        best = np.full(owner.shape, -np.inf)
        for number, one in enumerate(self.found):
            usable = one.usable(window)
            if not usable.any():
                continue
            stored = one.raster.read(window, self._needed).astype(np.float64)
            bands = {
                name: layer * one.raster.bands[place].scale + one.raster.bands[place].offset
                for name, place, layer in zip(self._formula.bands, self._needed, stored, strict=True)
            }
            offsets = {name: one.raster.bands[place].offset for name, place in zip(bands, self._needed, strict=True)}
            value = np.asarray(self._formula.compute(bands, offsets), np.float64)
            better = usable & np.isfinite(value) & (value > best)
            owner[better], best[better] = number, value[better]
        return owner if owner.any() else None


class CountLayer(Derived):
    """How many dates went into each pixel of a blend; 0 is no data."""

    name = "count"

    def __init__(self, source: Mosaic) -> None:
        super().__init__(source)
        self._mosaic = source
        self.record = {key: value for key, value in source.record.items() if key == FORMULA}

    @property
    def bands(self) -> tuple[Band, ...]:
        """One band."""
        return (Band(self.name, is_class=True),)

    @property
    def dtype(self) -> PixelType:
        """Whole numbers of 16 bits."""
        return np.dtype(np.uint16)

    @property
    def nodata(self) -> float | None:
        """Zero."""
        return 0

    @property
    def grid(self) -> Grid:
        """The blend's grid."""
        return self._mosaic.grid

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        blend = self._mosaic
        if isinstance(blend, Blend):
            return blend.count(window).astype(self.dtype)[np.newaxis]
        seen = [one.usable(window) for one in blend.found]
        days = [f"{one.when:%Y-%m-%d}" for one in blend.found if one.when]
        by_day = {day: [mask for mask, own in zip(seen, days, strict=True) if own == day] for day in days}
        total = np.zeros((1, window.height, window.width), np.uint16)
        for masks in by_day.values():
            total += np.any(masks, axis=0)
        return total


class DateLayer(CountLayer):
    """The day each pixel is from, as the number yyyymmdd; 0 is no data."""

    name = "date"

    @property
    def dtype(self) -> PixelType:
        """Whole numbers of 32 bits."""
        return np.dtype(np.uint32)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        days = [0, *(int(f"{one.when:%Y%m%d}") if one.when else 0 for one in self._mosaic.found)]
        return np.asarray(days, self.dtype)[self._mosaic.owner(window, np.dtype(np.int16))][np.newaxis]

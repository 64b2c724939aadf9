"""Blends: many dates become one picture, pixel by pixel, of what showed the ground.

Scenes of one day count as one date. Values are sorted by a network of minima and maxima, which works on whole arrays.
Source of the network: K. E. Batcher, Sorting networks and their applications, AFIPS Spring Joint Computer Conference
(1968), odd-even merging.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np

from zoompick.errors import UsageError
from zoompick.imagery.formula import Formula
from zoompick.imagery.mosaic import Mosaic
from zoompick.imagery.sightings import Sighting
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Band, Derived, Pixels, fill_value
from zoompick.raster.resample import finish


@dataclass(frozen=True)
class Date:
    """What one day shows: the numbers of its scenes, the first of which counts first."""

    day: str
    scenes: tuple[int, ...]


def dates_of(found: Sequence[Sighting]) -> tuple[Date, ...]:
    """Scenes by day, days ascending; UsageError for one that does not tell its time."""
    days: dict[str, list[int]] = {}
    for number, one in enumerate(found):
        if one.when is None:
            raise UsageError(
                f"{one.name} does not tell its time.", "Blends are of dated scenes: keep their items beside."
            )
        days.setdefault(f"{one.when:%Y-%m-%d}", []).append(number)
    return tuple(Date(day, tuple(days[day])) for day in sorted(days))


class Blend(Mosaic):
    """Percentile or mean of all dates that show the ground; where fewer than ``least`` do there is no data.

    Parameters
    ----------
    percentile : float or None
        0 to 100, between ranks by straight lines, 50 for the median; None for the mean.
    """

    def __init__(self, found: Sequence[Sighting], percentile: float | None = 50, least: int = 1) -> None:
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
            total += self._seen(date, window) >= 0
        return total

    def _seen(self, date: Date, window: Window) -> Pixels:
        """The scene that shows the ground on a date, -1 for none; the same for all bands."""
        key = (date.day, window)
        with self._lock:
            known = self._mixing.get(key)  # type: ignore[call-overload]
        if known is not None:
            return known
        found = np.full((window.height, window.width), -1, np.int16)
        for number in date.scenes:
            found[(found < 0) & self.found[number].usable(window)] = number
        with self._lock:
            self._mixing[key] = found  # type: ignore[index]
            while len(self._mixing) > 4 * len(self.dates):
                self._mixing.popitem(last=False)
        return found

    def _read_band(self, index: int, window: Window, out: Pixels) -> None:
        layers, count = [], np.zeros((window.height, window.width), np.int16)
        total = np.zeros(count.shape) if self._percentile is None else None
        far = np.inf if self.dtype.kind == "f" else np.iinfo(self.dtype).max
        for date in self.dates:
            seen = self._seen(date, window)
            layer = np.full(seen.shape, far, self.dtype)
            for number in date.scenes:
                own = seen == number
                if own.any():
                    np.copyto(layer, self._values(index, number, window), where=own)
            count += seen >= 0
            if total is None:
                layers.append(layer)
            else:
                total += np.where(seen >= 0, layer, 0)
        enough = count >= self._least
        if total is None:
            assert self._percentile is not None
            values = ranked(layers, count, self._percentile)
        else:
            values = total / np.maximum(count, 1)
        blended = finish(values, self.dtype, False, self.nodata)
        out[...] = np.where(enough, blended, self.dtype.type(fill_value(self.nodata)))


def ranked(layers: list[Pixels], count: Pixels, percentile: float) -> Pixels:
    """A percentile along layers, of which in each pixel only the ``count`` smallest are values.

    Parameters
    ----------
    layers : list of ndarray, shape (rows, cols)
        Sorted in place; what is missing holds the largest value of the type.

    Returns
    -------
    ndarray of float64
        0 where nothing counts.
    """
    layers = list(layers)
    for low, high in network(len(layers)):
        smaller = np.minimum(layers[low], layers[high])
        layers[high] = np.maximum(layers[low], layers[high])
        layers[low] = smaller
    out = np.zeros(count.shape)
    for number in np.unique(count):
        if number == 0:
            continue
        place = (int(number) - 1) * percentile / 100
        low = int(place)
        share = place - low
        values = layers[low].astype(np.float64)
        if share:
            with np.errstate(invalid="ignore"):
                values += (layers[low + 1].astype(np.float64) - values) * share
        np.copyto(out, values, where=count == number)
    return out


@cache
def network(size: int) -> tuple[tuple[int, int], ...]:
    """Pairs of places to be put in order, so that all ``size`` are sorted."""
    return tuple(pair for pair in _merge_sort(1 << max(0, size - 1).bit_length()) if max(pair) < size)


def _merge_sort(size: int) -> Iterator[tuple[int, int]]:
    """Batcher's odd-even merge sort of a power of two."""
    p = 1
    while p < size:
        k = p
        while k >= 1:
            for j in range(k % p, size - k, 2 * k):
                for i in range(min(k, size - j - k)):
                    if (i + j) // (2 * p) == (i + j + k) // (2 * p):
                        yield i + j, i + j + k
            k //= 2
        p *= 2


class Highest(Mosaic):
    """All bands of the scene in which a formula over reflectance is highest, where the ground shows."""

    def __init__(self, found: Sequence[Sighting], formula: Formula) -> None:
        super().__init__(found, clear_only=True)
        self._formula = formula
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
            value = np.asarray(self._formula.compute(bands), np.float64)
            better = usable & np.isfinite(value) & (value > best)
            owner[better], best[better] = number, value[better]
        return owner if owner.any() else None


class CountLayer(Derived):
    """How many dates went into each pixel of a blend; 0 is no data."""

    name = "count"

    def __init__(self, source: Mosaic) -> None:
        super().__init__(source)
        self._mosaic = source

    @property
    def bands(self) -> tuple[Band, ...]:
        """One band."""
        return (Band(self.name, is_class=True),)

    @property
    def dtype(self) -> np.dtype[Any]:
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
    def dtype(self) -> np.dtype[Any]:
        """Whole numbers of 32 bits."""
        return np.dtype(np.uint32)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        days = [0, *(int(f"{one.when:%Y%m%d}") if one.when else 0 for one in self._mosaic.found)]
        return np.asarray(days, self.dtype)[self._mosaic.owner(window, np.dtype(np.int16))][np.newaxis]

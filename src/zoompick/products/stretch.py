"""Percentiles and moments of bands inside an area, from histograms of blocks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from zoompick.arrays import Counts, Pixels
from zoompick.errors import NothingFoundError
from zoompick.later import np
from zoompick.products.ground import Where
from zoompick.raster import engine, kernels
from zoompick.raster.grid import Window
from zoompick.raster.raster import Raster, valid_mask

_BINS = 65536
_BLOCK_PX = 512
_ENOUGH_BINS, _MOST_PASSES = 4096, 12


def quantiles(
    raster: Raster,
    bands: Sequence[int],
    percentiles: Sequence[float],
    mask: Where | None = None,
) -> tuple[tuple[float, ...], ...]:
    """Stored values of each band at rising percentiles of its valid pixels inside ``mask`` (nearest rank).

    Exact for 8- and 16-bit whole numbers; for wider types within 1/4096 of the range between the first percentile and
    the last, whatever outliers there are.

    Raises
    ------
    NothingFoundError
        There is no valid pixel.
    """
    counted, bins = _histograms(raster, bands, (percentiles[0], percentiles[-1]), mask)
    return tuple(
        tuple(float(number) * own.step + own.start for number in _ranked(counts, percentiles))
        for counts, own in zip(counted, bins, strict=True)
    )


def moments(
    raster: Raster,
    bands: Sequence[int],
    mask: Where | None = None,
) -> tuple[tuple[float, float], ...]:
    """Mean and standard deviation of each band's valid pixels inside ``mask``, as :func:`quantiles` counts them.

    Raises
    ------
    NothingFoundError
        There is no valid pixel.
    """
    counted, bins = _histograms(raster, bands, (0.0, 100.0), mask)
    found = []
    for counts, own in zip(counted, bins, strict=True):
        values = np.arange(len(counts)) * own.step + own.start
        mean = float((counts * values).sum() / counts.sum())
        found.append((mean, float(np.sqrt((counts * (values - mean) ** 2).sum() / counts.sum()))))
    return tuple(found)


def _histograms(
    raster: Raster,
    bands: Sequence[int],
    ends: tuple[float, float],
    mask: Where | None,
) -> tuple[list[Counts], list[_Bins]]:
    """Counts of each band, in bins fine enough between two percentiles."""
    seen = _Seen(raster, tuple(bands), mask)
    with engine.crew_of() as crew:
        bins = _bins(seen, crew)
        for _ in range(_MOST_PASSES):
            counted = _counted(seen, bins, crew)
            finer = [_finer(own, counts, ends) for own, counts in zip(bins, counted, strict=True)]
            if not any(finer):
                break
            bins = [new or own for new, own in zip(finer, bins, strict=True)]
        else:
            counted = _counted(seen, bins, crew)
    if not all(counts.sum() for counts in counted):
        raise NothingFoundError(
            "There is no valid pixel inside the area.", "Look at the scene: is it all cloud or gap?"
        )
    return counted, bins


class _Bins(NamedTuple):
    """Bins of equal width; what lies below the first or above the last is counted in these."""

    start: float
    step: float


def _counted(seen: _Seen, bins: Sequence[_Bins], crew: engine.Crew) -> list[Counts]:
    """How many values of each band lie in each bin."""
    counts = [np.zeros(_BINS, np.int64) for _ in bins]
    for parts in engine.each(crew, seen.raster.grid.tiles(_BLOCK_PX), _Counting(seen, tuple(bins))):
        for total, (first, part) in zip(counts, parts, strict=True):
            total[first : first + len(part)] += part
    return counts


def _finer(bins: _Bins, counts: Counts, percentiles: tuple[float, float]) -> _Bins | None:
    """Bins about the percentiles alone, where a few outliers left hardly any for them; None where these will do."""
    if bins.step == 1.0 and bins.start == 0.0:
        return None
    low, high = _ranked(counts, percentiles)
    if high - low >= _ENOUGH_BINS:
        return None
    start, stop = bins.start + (low - 1) * bins.step, bins.start + (high + 2) * bins.step
    step = (stop - start) / (_BINS - 1)
    is_finest = step <= 4 * np.spacing(max(abs(start), abs(stop), 1e-300))
    return None if is_finest or not np.isfinite(step) else _Bins(start, step)


@dataclass(frozen=True)
class _Seen:
    """Bands of a raster inside a mask."""

    raster: Raster
    bands: tuple[int, ...]
    mask: Where | None

    def values(self, window: Window) -> list[Pixels]:
        """Valid values of each band in a window."""
        pixels = self.raster.read(window, self.bands)
        valid = valid_mask(pixels, self.raster.nodata)
        if self.mask is not None:
            valid &= self.mask.read(window)
        return [band[keep] for band, keep in zip(pixels, valid, strict=True)]

    def extremes(self, window: Window) -> list[tuple[float, float]]:
        """Least and greatest value of each band in a window; infinities the wrong way round where there is none."""
        return [(float(v.min()), float(v.max())) if v.size else (np.inf, -np.inf) for v in self.values(window)]


@dataclass(frozen=True)
class _Counting:
    """Counts the values of a window, bin by bin."""

    seen: _Seen
    bins: tuple[_Bins, ...]

    def __call__(self, window: Window) -> list[tuple[int, Counts]]:
        """For each band the first bin that is not empty, and the counts from there on."""
        if self._is_plain(window):
            return self._whole(window)
        found = []
        for values, bins in zip(self.seen.values(window), self.bins, strict=True):
            counts = np.bincount(_bin(values, *bins))
            first = int(np.argmax(counts > 0)) if counts.size else 0
            found.append((first, counts[first:]))
        return found

    def _is_plain(self, window: Window) -> bool:
        """True where all pixels count and a value is its own bin: gaps are taken out of the counts afterwards."""
        mask, dtype = self.seen.mask, self.seen.raster.dtype
        is_all = mask is None or mask.clearly_holds(window)
        return is_all and dtype.kind == "u" and dtype.itemsize <= 2 and all(b == (0.0, 1.0) for b in self.bins)

    def _whole(self, window: Window) -> list[tuple[int, Counts]]:
        nodata = self.seen.raster.nodata
        found = []
        for band in self.seen.raster.read(window, self.seen.bands):
            first, counts = kernels.counted(band)
            if nodata is not None and first <= nodata < first + len(counts) and nodata == int(nodata):
                counts[int(nodata) - first] = 0
            found.append((first, counts))
        return found


def _bin(values: Pixels, start: float, step: float) -> Pixels:
    if (start, step) == (0.0, 1.0) and values.dtype.kind == "u":
        return values
    return np.clip((values.astype(np.float64) - start) / step, 0, _BINS - 1).astype(np.int64)


def _bins(seen: _Seen, crew: engine.Crew) -> list[_Bins]:
    """First value and width of the bins of each band."""
    raster, count = seen.raster, len(seen.bands)
    if raster.dtype.kind == "u" and raster.dtype.itemsize <= 2:
        return [_Bins(0.0, 1.0)] * count
    low, high = np.full(count, np.inf), np.full(count, -np.inf)
    for extremes in engine.each(crew, raster.grid.tiles(_BLOCK_PX), seen.extremes):
        least, greatest = np.transpose(extremes)
        low, high = np.minimum(low, least), np.maximum(high, greatest)
    low[~np.isfinite(low)] = 0
    # Halved before they are subtracted: the span of all floats is no float.
    step = np.where(high > low, 2 * ((high / 2 - low / 2) / (_BINS - 1)), 1.0)
    return [_Bins(*pair) for pair in zip(low.tolist(), step.tolist(), strict=True)]


def _ranked(histogram: Counts, percentiles: Sequence[float]) -> list[int]:
    """Bins of the ranks of percentiles (nearest rank)."""
    below = np.cumsum(histogram)
    ranks = [min(below[-1] - 1, round(part / 100 * (below[-1] - 1))) for part in percentiles]
    return [int(np.searchsorted(below, rank, side="right")) for rank in ranks]

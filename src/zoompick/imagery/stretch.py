"""Percentiles of bands inside an area, from histograms of blocks."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zoompick.errors import NothingFoundError
from zoompick.raster import engine
from zoompick.raster.grid import Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Pixels, Raster, valid_mask

_BINS = 65536
_BLOCK_PX = 512
Counts = npt.NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Limits:
    """Stored values that become the darkest and the brightest."""

    low: float
    high: float


def percentile_limits(
    raster: Raster,
    bands: Sequence[int],
    percentiles: tuple[float, float],
    mask: PolygonMask | None = None,
    executor: Executor | None = None,
) -> tuple[Limits, ...]:
    """Limits of each band at two percentiles of its valid pixels inside ``mask``.

    Exact for 8- and 16-bit whole numbers; for wider types within 1/65536 of the range of values.

    Parameters
    ----------
    executor : Executor, optional
        Where blocks are read and counted; threads of this process by default.

    Raises
    ------
    NothingFoundError
        There is no valid pixel.
    """
    seen = _Seen(raster, tuple(bands), mask)
    with engine.crew_of(executor) as crew:
        starts, steps = _bins(seen, crew)
        counts = np.zeros((len(bands), _BINS), np.int64)
        for parts in engine.each(crew, raster.grid.tiles(_BLOCK_PX), _Counting(seen, starts, steps)):
            for total, (first, part) in zip(counts, parts, strict=True):
                total[first : first + len(part)] += part
    if not counts.sum(axis=1).all():
        raise NothingFoundError(
            "There is no valid pixel inside the area.", "Look at the scene: is it all cloud or gap?"
        )
    return tuple(
        _limits(histogram, percentiles, start, step)
        for histogram, start, step in zip(counts, starts, steps, strict=True)
    )


@dataclass(frozen=True)
class _Seen:
    """Bands of a raster inside a mask."""

    raster: Raster
    bands: tuple[int, ...]
    mask: PolygonMask | None

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
    starts: tuple[float, ...]
    steps: tuple[float, ...]

    def __call__(self, window: Window) -> list[tuple[int, Counts]]:
        """For each band the first bin that is not empty, and the counts from there on."""
        found = []
        for values, start, step in zip(self.seen.values(window), self.starts, self.steps, strict=True):
            counts = np.bincount(_bin(values, start, step))
            first = int(np.argmax(counts > 0)) if counts.size else 0
            found.append((first, counts[first:]))
        return found


def _bin(values: Pixels, start: float, step: float) -> Pixels:
    if (start, step) == (0.0, 1.0) and values.dtype.kind == "u":
        return values
    return np.clip((values.astype(np.float64) - start) / step, 0, _BINS - 1).astype(np.int64)


def _bins(seen: _Seen, crew: engine.Crew) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """First value and width of the bins of each band."""
    raster, count = seen.raster, len(seen.bands)
    if raster.dtype.kind == "u" and raster.dtype.itemsize <= 2:
        return (0.0,) * count, (1.0,) * count
    low, high = np.full(count, np.inf), np.full(count, -np.inf)
    for extremes in engine.each(crew, raster.grid.tiles(_BLOCK_PX), seen.extremes):
        least, greatest = np.transpose(extremes)
        low, high = np.minimum(low, least), np.maximum(high, greatest)
    low[~np.isfinite(low)] = 0
    step = np.where(high > low, (high - low) / (_BINS - 1), 1.0)
    return tuple(low.tolist()), tuple(step.tolist())


def _limits(histogram: Counts, percentiles: tuple[float, float], start: float, step: float) -> Limits:
    """Values at the ranks of the percentiles (nearest rank)."""
    below = np.cumsum(histogram)
    ranks = [min(below[-1] - 1, round(part / 100 * (below[-1] - 1))) for part in percentiles]
    low, high = (float(np.searchsorted(below, rank, side="right")) * step + start for rank in ranks)
    return Limits(low, high if high > low else low + step)

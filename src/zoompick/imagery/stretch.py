"""Percentiles of bands inside an area, from histograms of blocks."""

from __future__ import annotations

from collections.abc import Sequence
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


@dataclass(frozen=True, slots=True)
class Limits:
    """Stored values that become the darkest and the brightest."""

    low: float
    high: float


def percentile_limits(
    raster: Raster, bands: Sequence[int], percentiles: tuple[float, float], mask: PolygonMask | None = None
) -> tuple[Limits, ...]:
    """Limits of each band at two percentiles of its valid pixels inside ``mask``.

    Exact for 8- and 16-bit whole numbers; for wider types within 1/65536 of the range of values.

    Raises
    ------
    NothingFoundError
        There is no valid pixel.
    """
    starts, width = _bins(raster, bands, mask)
    counts = np.zeros((len(bands), _BINS), np.int64)

    def count(window: Window) -> npt.NDArray[np.int64]:
        parts = zip(_values(raster, bands, window, mask), starts, width, strict=True)
        return np.stack([np.bincount(_bin(values, start, step), minlength=_BINS) for values, start, step in parts])

    with engine.executor_of() as (executor, in_flight):
        for part in engine.each(executor, raster.grid.tiles(_BLOCK_PX), count, in_flight):
            counts += part
    if not counts.sum(axis=1).all():
        raise NothingFoundError(
            "There is no valid pixel inside the area.", "Look at the scene: is it all cloud or gap?"
        )
    return tuple(
        _limits(histogram, percentiles, start, step)
        for histogram, start, step in zip(counts, starts, width, strict=True)
    )


def _bin(values: Pixels, start: float, step: float) -> npt.NDArray[np.int64]:
    if (start, step) == (0.0, 1.0) and values.dtype.kind == "u":
        return values
    return np.clip((values.astype(np.float64) - start) / step, 0, _BINS - 1).astype(np.int64)


def _values(raster: Raster, bands: Sequence[int], window: Window, mask: PolygonMask | None) -> list[Pixels]:
    pixels = raster.read(window, bands)
    valid = valid_mask(pixels, raster.nodata)
    if mask is not None:
        valid &= mask.read(window)
    return [band[keep] for band, keep in zip(pixels, valid, strict=True)]


def _bins(raster: Raster, bands: Sequence[int], mask: PolygonMask | None) -> tuple[list[float], list[float]]:
    """First value and width of the bins of each band."""
    if raster.dtype.kind == "u" and raster.dtype.itemsize <= 2:
        return [0.0] * len(bands), [1.0] * len(bands)
    low, high = np.full(len(bands), np.inf), np.full(len(bands), -np.inf)
    for window in raster.grid.tiles(_BLOCK_PX):
        for number, values in enumerate(_values(raster, bands, window, mask)):
            if values.size:
                low[number] = min(low[number], values.min())
                high[number] = max(high[number], values.max())
    low[~np.isfinite(low)] = 0
    step = np.where(high > low, (high - low) / (_BINS - 1), 1.0)
    return low.tolist(), step.tolist()


def _limits(histogram: npt.NDArray[np.int64], percentiles: tuple[float, float], start: float, step: float) -> Limits:
    """Values at the ranks of the percentiles (nearest rank)."""
    below = np.cumsum(histogram)
    ranks = [min(below[-1] - 1, round(part / 100 * (below[-1] - 1))) for part in percentiles]
    low, high = (float(np.searchsorted(below, rank, side="right")) * step + start for rank in ranks)
    return Limits(low, high if high > low else low + step)

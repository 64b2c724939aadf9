"""Statistics of a band, gathered block by block and merged exactly."""

from __future__ import annotations

import math
from dataclasses import dataclass

from zoompick.arrays import Pixels
from zoompick.later import np
from zoompick.raster import kernels
from zoompick.raster.raster import is_whole, valid_mask


@dataclass(frozen=True, slots=True)
class BandStatistics:
    """Count of pixels and of valid ones, extremes, mean and sum of squared deviations of the stored values."""

    total: int = 0
    count: int = 0
    minimum: float = 0.0
    maximum: float = 0.0
    mean: float = 0.0
    deviations: float = 0.0

    @classmethod
    def of(cls, band: Pixels, nodata: float | None) -> BandStatistics:
        """Statistics of one band's block of any shape; no-data is left out."""
        values, extremes = band.reshape(-1), _extremes(band)
        if extremes is None or not is_whole(band, nodata, extremes):
            if extremes is not None and kernels.are_fast(band.dtype) and band.ndim == _PLANE:
                return cls._beside(band, int(nodata or 0))
            values = band[valid_mask(band, nodata)]
            extremes = (float(values.min()), float(values.max())) if values.size else None
        if extremes is None:
            return cls(total=band.size)
        mean, deviations = _whole_moments(values) if kernels.are_fast(values.dtype) else _moments(values)
        return cls(band.size, values.size, *extremes, mean, deviations)

    @classmethod
    def _beside(cls, band: Pixels, nodata: int) -> BandStatistics:
        """Of whole numbers: what is missing is taken out of the sums of all, which are exact."""
        count, extremes = kernels.beside(band, nodata)
        if extremes is None:
            return cls(total=band.size)
        total, of_squares = kernels.sums(np.ascontiguousarray(band).reshape(-1))
        absent = band.size - count
        total, of_squares = total - absent * nodata, of_squares - absent * nodata * nodata
        return cls(band.size, count, *extremes, total / count, (of_squares * count - total * total) / count)

    def merged(self, other: BandStatistics) -> BandStatistics:
        """Statistics of both sets of pixels.

        Source: T. F. Chan, G. H. Golub, R. J. LeVeque, Updating formulae and a pairwise algorithm for computing
        sample variances (1979), formula 2.1.
        """
        total = self.total + other.total
        if not other.count or not self.count:
            some = self if self.count else other
            return BandStatistics(total, some.count, some.minimum, some.maximum, some.mean, some.deviations)
        count = self.count + other.count
        delta = other.mean - self.mean
        return BandStatistics(
            total,
            count,
            min(self.minimum, other.minimum),
            max(self.maximum, other.maximum),
            self.mean + delta * other.count / count,
            self.deviations + other.deviations + delta * delta * self.count * other.count / count,
        )

    @property
    def is_whole(self) -> bool:
        """True when no pixel is missing."""
        return self.count == self.total

    @property
    def stddev(self) -> float:
        """Standard deviation of the whole population."""
        return math.sqrt(self.deviations / self.count) if self.count else 0.0

    @property
    def valid_percent(self) -> float:
        """Share of valid pixels, 0 to 100."""
        return 100 * self.count / self.total if self.total else 0.0


@dataclass(frozen=True, slots=True)
class Histogram:
    """How many of some pixels of a band lie in each of equal steps from ``minimum`` to ``maximum``."""

    minimum: float
    maximum: float
    counts: tuple[int, ...]

    @classmethod
    def of(cls, values: Pixels, whole: BandStatistics) -> Histogram | None:
        """That of some valid pixels of a band: over its whole range, whole numbers with a step each if they are few.

        All in one step where the numbers are so large that no smaller ones lie between them. None where no pixel is
        there, or the band has no finite range.
        """
        low, high, steps = whole.minimum, whole.maximum, _STEPS
        if values.dtype.kind in "iu" and high - low < _FEW:
            low, high, steps = low - 0.5, high + 0.5, round(high - low) + 1
        if not (whole.count and values.size and math.isfinite(high - low)):
            return None
        if max(high - low, 1.0) <= 2 * steps * math.ulp(max(abs(low), abs(high))):
            return cls(low, high, (values.size,))
        if values.dtype.kind == "f" and high - low > np.finfo(values.dtype).max:
            values = values.astype(np.float64)
        counts, _ = np.histogram(values, steps, (low, high))
        return cls(low, high, tuple(counts.tolist()))


_STEPS, _FEW = 64, 256


def _extremes(band: Pixels) -> tuple[float, float] | None:
    """Smallest and largest of all pixels; None for floats, among which some may be no numbers, and for no pixel."""
    if band.dtype.kind not in "iu" or not band.size:
        return None
    if kernels.are_fast(band.dtype) and band.ndim == _PLANE:
        return kernels.extremes(band)
    return float(band.min()), float(band.max())


_PLANE = 2


def _whole_moments(values: Pixels) -> tuple[float, float]:
    """Mean and sum of squared deviations, exact until the last division."""
    total, of_squares = kernels.sums(values)
    return total / values.size, (of_squares * values.size - total * total) / values.size


def _moments(values: Pixels) -> tuple[float, float]:
    exact = values.astype(np.float64)
    mean = float(exact.mean())
    exact -= mean
    # Not np.dot: its library starts threads of its own, which take the cores from ours.
    np.square(exact, out=exact)
    return mean, float(exact.sum())

"""One pass over all blocks of a raster, in which every check takes its measures: each block is decoded once."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Protocol

from zoompick.arrays import Mask, Pixels
from zoompick.errors import DataError
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import np
from zoompick.raster import engine, kernels
from zoompick.raster.grid import Window
from zoompick.raster.raster import Raster, fill_value, valid_mask

_SIDE_PX, _STRIP_PX = 512, 1 << 20


@dataclass(frozen=True)
class Block:
    """Pixels of a window of the full resolution, all bands.

    Attributes
    ----------
    pixels : ndarray, shape (bands, rows, cols)
    """

    window: Window
    pixels: Pixels
    nodata: float | None

    @cached_property
    def extremes(self) -> list[tuple[float, float] | None]:
        """Smallest and largest value of each band's pixels, no-data among them; None where a value is no number."""
        found: list[tuple[float, float] | None] = []
        for band in self.pixels:
            if kernels.are_fast(band.dtype):
                found.append(kernels.extremes(band))
                continue
            low, high = float(band.min()), float(band.max())
            found.append((low, high) if np.isfinite(low) and np.isfinite(high) else None)
        return found

    @cached_property
    def valid(self) -> list[Mask | None]:
        """Of each band where pixels are there; None where all are."""
        return [self._valid(band, ends) for band, ends in zip(self.pixels, self.extremes, strict=True)]

    def _valid(self, band: Pixels, ends: tuple[float, float] | None) -> Mask | None:
        if ends is not None and (self.nodata is None or not ends[0] <= self.nodata <= ends[1]):
            return None
        mask = valid_mask(band, self.nodata)
        return None if mask.all() else mask

    @cached_property
    def is_whole(self) -> bool:
        """True when no pixel of any band is missing."""
        return all(mask is None for mask in self.valid)

    @cached_property
    def there(self) -> Mask:
        """Where pixels are there in every band."""
        out = np.ones(self.pixels.shape[1:], bool)
        for mask in self.valid:
            if mask is not None:
                out &= mask
        return out


class Total(Protocol):
    """Where the measures of blocks come together."""

    def add(self, window: Window, part: Any) -> None:
        """Those of one block; blocks come in order."""


class Gauge(Protocol):
    """A measure: a frozen value that travels to workers."""

    def look(self, block: Block) -> Any:
        """Measure one block, where it was decoded."""

    def total(self) -> Total:
        """An empty total."""


@dataclass(frozen=True)
class Sweep:
    """What came of a pass.

    Attributes
    ----------
    totals : mapping
        Gauge's name to its total.
    broken : tuple of str
        Why blocks could not be decoded.
    blocks : int
        Blocks of all bands and levels.
    """

    totals: JsonMap
    broken: tuple[str, ...]
    blocks: int


@dataclass(frozen=True)
class _Look:
    raster: Raster
    gauges: Mapping[str, Gauge]

    def __call__(self, job: tuple[int, Window]) -> tuple[Window, JsonObject, list[str]]:
        level, window = job
        if level:
            return window, {}, [text for _, text in self._by_band(window, level) if text]
        try:
            pixels, texts = self.raster.read(window), list[str]()
        except DataError:
            rows = self._by_band(window, 0)
            pixels, texts = np.concatenate([part for part, _ in rows]), [text for _, text in rows if text]
        block = Block(window, pixels, self.raster.nodata)
        return window, {name: gauge.look(block) for name, gauge in self.gauges.items()}, texts

    def _by_band(self, window: Window, level: int) -> list[tuple[Pixels, str]]:
        """Each band's pixels, no-data where they do not decode, and why not."""
        found = []
        for band in range(len(self.raster.bands)):
            try:
                found.append((self.raster.read(window, (band,), level), ""))
            except DataError as error:
                shape = (1, window.height, window.width)
                found.append((np.full(shape, fill_value(self.raster.nodata), self.raster.dtype), error.what))
        return found


def sweep(raster: Raster, gauges: Mapping[str, Gauge]) -> Sweep:
    """Decode every block of every band and overview once, and let the gauges look at the full resolution.

    What does not decode counts as missing, and is told.
    """
    jobs = [(level, window) for level, grid in enumerate(raster.levels)
            for window in _windows(grid.window, raster.block)]  # fmt: skip
    totals = {name: gauge.total() for name, gauge in gauges.items()}
    broken: list[str] = []
    with engine.crew_of() as crew:
        for window, parts, texts in engine.each(crew, jobs, _Look(raster, gauges)):
            broken += texts
            for name, part in parts.items():
                totals[name].add(window, part)
    return Sweep(totals, tuple(broken), len(jobs) * len(raster.bands))


def _windows(whole: Window, block: tuple[int, int]) -> Iterator[Window]:
    """Windows of whole blocks, about half a thousand pixels wide and high, or whole rows where blocks are that."""
    rows, cols = block
    if cols >= whole.width > _SIDE_PX:
        rows *= max(1, _STRIP_PX // (whole.width * rows))
    else:
        rows, cols = (side * max(1, _SIDE_PX // side) for side in (rows, cols))
    for row in range(0, whole.height, rows):
        for col in range(0, whole.width, cols):
            yield Window(col, row, cols, rows).intersect(whole)

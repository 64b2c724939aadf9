"""What is measured of each block, once, for all checks."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from zoompick.arrays import Counts, Floats, Mask, Pixels, PixelType
from zoompick.jsontypes import JsonObject
from zoompick.judge.shifts import tiles_over
from zoompick.judge.sweep import Block
from zoompick.later import np, npt
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Raster, valid_mask


@dataclass(frozen=True)
class Tally:
    """Pixels of each band: there, below zero, at the end of the type, and at values that often mean no-data.

    Attributes
    ----------
    zero : tuple of float
        Stored value below which each band is clearly below zero, not by noise over dark water.
    suspects : tuple of float
        Values that often mean no-data, the raster's own left out.
    top : float or None
        The greatest value of the type; None for floats.
    """

    zero: tuple[float, ...]
    suspects: tuple[float, ...]
    top: float | None

    @classmethod
    def of(cls, raster: Raster) -> Tally:
        """For a raster."""
        whole = raster.dtype.kind in "iu"
        info = np.iinfo(raster.dtype) if whole else None
        known = [float(v) for v in (0, -9999, -32768, 65535) if info is None or info.min <= v <= info.max]
        known += [math.inf, -math.inf] if raster.dtype.kind == "f" else []
        own = raster.nodata
        zero = tuple((_DARK - band.offset) / band.scale for band in raster.bands)
        return cls(zero, tuple(v for v in known if v != own), float(info.max) if info else None)

    def look(self, block: Block) -> TallyTotal:
        """Counts of a block; most are told by its extremes alone."""
        out = TallyTotal.empty(len(self.zero), len(self.suspects))
        for place, (band, valid) in enumerate(zip(block.pixels, block.valid, strict=True)):
            values = band if valid is None else band[valid]
            if not values.size:
                continue
            ends = block.extremes[place] if valid is None else None
            low, high = ends or (float(values.min()), float(values.max()))
            out.count[place], out.low[place], out.high[place] = values.size, low, high
            if low < self.zero[place]:
                out.negative[place] = np.count_nonzero(values < self.zero[place])
            if self.top is not None and high >= self.top:
                out.top[place] = np.count_nonzero(values == self.top)
            for number, suspect in enumerate(self.suspects):
                if math.isinf(suspect):
                    # Where NaN is missing, infinities are; other readers take them for numbers.
                    out.suspect[place, number] = np.count_nonzero(band == suspect)
                elif low <= suspect <= high:
                    out.suspect[place, number] = np.count_nonzero(values == suspect)
        return out

    def total(self) -> TallyTotal:
        """Nothing counted."""
        return TallyTotal.empty(len(self.zero), len(self.suspects))


_DARK = -0.01


@dataclass
class TallyTotal:
    """Counts a band; ``suspect`` of shape (bands, values)."""

    count: Counts
    low: Floats
    high: Floats
    negative: Counts
    top: Counts
    suspect: Counts

    @classmethod
    def empty(cls, bands: int, suspects: int) -> TallyTotal:
        """Of no pixel."""
        count, negative, top = (np.zeros(bands, np.int64) for _ in range(3))
        low, high = np.full(bands, np.inf), np.full(bands, -np.inf)
        return cls(count, low, high, negative, top, np.zeros((bands, suspects), np.int64))

    def add(self, window: Window, part: TallyTotal) -> None:
        """Those of another block."""
        self.count += part.count
        self.negative += part.negative
        self.top += part.top
        self.suspect += part.suspect
        self.low, self.high = np.minimum(self.low, part.low), np.maximum(self.high, part.high)


@dataclass(frozen=True)
class Sample:
    """Every so many pixels of all bands, in both directions."""

    step: int
    grid: Grid
    bands: int
    dtype: str
    nodata: float | None

    @classmethod
    def of(cls, raster: Raster) -> Sample:
        """About a segment of a million pixels of six bands, fewer of more."""
        grid, count = raster.grid, len(raster.bands)
        step = max(1, math.ceil(math.sqrt(grid.width * grid.height * count / _SAMPLED)))
        return cls(step, grid, count, raster.dtype.str, raster.nodata)

    def look(self, block: Block) -> Pixels:
        """Those of a block."""
        row, col = -block.window.row % self.step, -block.window.col % self.step
        return block.pixels[:, row :: self.step, col :: self.step].copy()

    def total(self) -> SampleTotal:
        """An empty array."""
        shape = (self.bands, -(-self.grid.height // self.step), -(-self.grid.width // self.step))
        return SampleTotal(np.zeros(shape, self.dtype), self.step, self.nodata)


_FEW = 1000
_SAMPLED = 1_500_000


@dataclass
class SampleTotal:
    """Sampled pixels, shape (bands, rows, cols), every ``step`` of the raster's."""

    pixels: Pixels
    step: int
    nodata: float | None

    def add(self, window: Window, part: Pixels) -> None:
        """Those of a block."""
        row, col = -(-window.row // self.step), -(-window.col // self.step)
        self.pixels[:, row : row + part.shape[1], col : col + part.shape[2]] = part

    @cached_property
    def each_valid(self) -> Mask:
        """Where each band has a value, shape (bands, rows, cols)."""
        return valid_mask(self.pixels, self.nodata)

    @cached_property
    def valid(self) -> Mask:
        """Where every band has a value, shape (rows, cols)."""
        return np.asarray(self.each_valid.all(axis=0))

    @cached_property
    def correlations(self) -> Floats:
        """Of each two bands, shape (bands, bands), where all that hold anything have a value; 0 for flat ones."""
        filled = self.each_valid.any(axis=(1, 2))
        out = np.zeros((len(self.pixels), len(self.pixels)))
        there = self.each_valid[filled].all(axis=0) if filled.any() else np.zeros(self.pixels.shape[1:], bool)
        if there.sum() < _FEW:
            return out
        values = self.pixels[filled][:, there].astype(np.float64)
        values -= values.mean(axis=1, keepdims=True)
        length = np.sqrt((values**2).sum(axis=1))
        values /= np.where(length > 0, length, 1)[:, None]
        places = np.flatnonzero(filled)
        out[np.ix_(places, places)] = values @ values.T
        return out

    def values_of(self, band: int) -> Pixels:
        """The band's sampled pixels that are there, flat."""
        return np.asarray(self.pixels[band][self.each_valid[band]])


SEGMENTS = 8


@dataclass(frozen=True)
class Lines:
    """Of each row and column of each band: sum and count by eighths, least and greatest, of some of its pixels."""

    bands: int
    rows: int
    cols: int
    every: int = 8

    @classmethod
    def of(cls, raster: Raster) -> Lines:
        """For a raster: one pixel in eight of long lines, more of short ones, so that each shows about 64."""
        rows, cols = raster.grid.height, raster.grid.width
        return cls(len(raster.bands), rows, cols, max(1, min(8, min(rows, cols) // _OF_A_LINE)))

    def look(self, block: Block) -> tuple[Floats, Floats]:
        """Shape (18, bands, rows) and (18, bands, cols)."""
        rows = [self._figures(block, place, 1) for place in range(self.bands)]
        cols = [self._figures(block, place, 0) for place in range(self.bands)]
        return np.stack(rows, axis=1), np.stack(cols, axis=1)

    def _figures(self, block: Block, place: int, axis: int) -> Floats:
        # Lines as columns: sums down an array run through memory in order, several lines at once.
        def thin(values: Pixels) -> Pixels:
            return np.ascontiguousarray(values[:, :: self.every].T if axis == 1 else values[:: self.every])

        band, valid = thin(block.pixels[place]), block.valid[place]
        start, length = (block.window.col, self.cols) if axis == 1 else (block.window.row, self.rows)
        segments = (start + np.arange(len(band)) * self.every) * SEGMENTS // length
        out = _blank(band.shape[1])
        there = None if valid is None else thin(valid)
        values = band if there is None else np.where(there, band, 0)
        for segment in range(int(segments[0]), int(segments[-1]) + 1):
            part = slice(*np.searchsorted(segments, [segment, segment + 1]))
            out[segment] = values[part].sum(0, dtype=_wide(band.dtype))
            out[SEGMENTS + segment] = len(values[part]) if there is None else there[part].sum(0)
        if there is None:
            out[-2:] = band.min(0), band.max(0)
        else:
            numbers = band.astype(np.float64)
            out[-2:] = np.where(there, numbers, np.inf).min(0), np.where(there, numbers, -np.inf).max(0)
        return out

    def total(self) -> LinesTotal:
        """Nothing seen."""
        rows, cols = (np.repeat(_blank(size)[:, None], self.bands, axis=1) for size in (self.rows, self.cols))
        return LinesTotal(rows, cols, self.every)


_OF_A_LINE = 64


def _wide(dtype: PixelType) -> PixelType:
    """A type in which some thousand values of another add up without loss."""
    return np.dtype(np.uint32 if dtype.kind == "u" and dtype.itemsize <= 2 else np.float64)


def _blank(count: int) -> Floats:
    out = np.zeros((2 * SEGMENTS + 2, count))
    out[-2], out[-1] = np.inf, -np.inf
    return out


@dataclass
class LinesTotal:
    """Of one pixel in ``every``: sums and counts by eighths, least and greatest, shape (18, bands, lines)."""

    rows: Floats
    cols: Floats
    every: int

    def add(self, window: Window, part: tuple[Floats, Floats]) -> None:
        """Those of a block."""
        for own, other, start in ((self.rows, part[0], window.row), (self.cols, part[1], window.col)):
            here = own[:, :, start : start + other.shape[2]]
            here[:-2] += other[:-2]
            np.minimum(here[-2], other[-2], out=here[-2])
            np.maximum(here[-1], other[-1], out=here[-1])


@dataclass(frozen=True)
class Gaps:
    """Missing pixels in square cells; a pixel is missing when any band has none."""

    cell: int
    rows: int
    cols: int

    @classmethod
    def of(cls, raster: Raster) -> Gaps:
        """At most about four million cells."""
        grid = raster.grid
        cell = max(1, math.ceil(math.sqrt(grid.width * grid.height / _CELLS)))
        return cls(cell, -(-grid.height // cell), -(-grid.width // cell))

    def look(self, block: Block) -> Counts | None:
        """Missing pixels of each cell that the block touches; None where none is missing."""
        if block.is_whole:
            return None
        missing = ~block.there
        for axis, start in ((0, block.window.row), (1, block.window.col)):
            edges = np.arange(start // self.cell * self.cell, start + missing.shape[axis], self.cell)
            places = np.maximum(edges - start, 0)
            missing = np.add.reduceat(missing.astype(np.int32, copy=False), places, axis)
        return missing.astype(np.int64)

    def total(self) -> GapsTotal:
        """Nothing missing."""
        return GapsTotal(np.zeros((self.rows, self.cols), np.int32), self.cell)


_CELLS = 4_000_000


@dataclass
class GapsTotal:
    """Missing pixels of each cell of ``cell`` x ``cell`` pixels."""

    missing: npt.NDArray[np.int32]
    cell: int

    def add(self, window: Window, part: Counts | None) -> None:
        """Those of a block."""
        if part is not None:
            row, col = window.row // self.cell, window.col // self.cell
            self.missing[row : row + part.shape[0], col : col + part.shape[1]] += part.astype(np.int32)


@dataclass(frozen=True)
class Tiles:
    """Pixels of some windows, whole."""

    windows: tuple[Window, ...]
    bands: int
    dtype: str
    nodata: float | None

    @classmethod
    def of(cls, raster: Raster) -> Tiles:
        """Windows spread over the raster, each inside one block of the pass where that is possible."""
        return cls(tuple(tiles_over(raster.grid)), len(raster.bands), raster.dtype.str, raster.nodata)

    def look(self, block: Block) -> list[tuple[int, Window, Pixels]]:
        """The parts of windows that lie in a block."""
        found = []
        for number, window in enumerate(self.windows):
            shared = window.intersect(block.window)
            if not shared.is_empty:
                rows, cols = shared.slices_in(block.window)
                found.append((number, shared, block.pixels[:, rows, cols].copy()))
        return found

    def total(self) -> TilesTotal:
        """Empty windows."""
        shapes = [(self.bands, window.height, window.width) for window in self.windows]
        return TilesTotal(self.windows, [np.zeros(shape, self.dtype) for shape in shapes], self.nodata)


@dataclass
class TilesTotal:
    """Windows and their pixels, shape (bands, rows, cols) each."""

    windows: tuple[Window, ...]
    pixels: list[Pixels]
    nodata: float | None

    def add(self, window: Window, part: list[tuple[int, Window, Pixels]]) -> None:
        """Those of a block."""
        for number, shared, pixels in part:
            rows, cols = shared.slices_in(self.windows[number])
            self.pixels[number][:, rows, cols] = pixels

    def of(self, band: int) -> list[Floats]:
        """Each window of a band, NaN where pixels are missing."""
        return [np.where(valid_mask(tile[band], self.nodata), tile[band].astype(np.float64), np.nan)
                for tile in self.pixels]  # fmt: skip


@dataclass(frozen=True)
class Inside:
    """Valid pixels inside an area, of each band and of all together."""

    mask: PolygonMask
    bands: int

    def look(self, block: Block) -> Counts:
        """Counts of each band, then of all together."""
        if self.mask.clearly_lacks(block.window):
            return np.zeros(self.bands + 1, np.int64)
        wanted = None if self.mask.clearly_holds(block.window) else self.mask.read(block.window)
        whole = block.window.width * block.window.height if wanted is None else int(wanted.sum())

        def count(valid: Mask | None) -> int:
            if valid is None:
                return whole
            return int(np.count_nonzero(valid if wanted is None else valid & wanted))

        every = whole if block.is_whole else count(block.there)
        return np.array([*(count(valid) for valid in block.valid), every], np.int64)

    def total(self) -> InsideTotal:
        """No pixel."""
        return InsideTotal(np.zeros(self.bands + 1, np.int64))


@dataclass
class InsideTotal:
    """Counts of each band, then of all together."""

    counts: Counts = field()

    def add(self, window: Window, part: Counts) -> None:
        """Those of a block."""
        self.counts = self.counts + part


def pixels_on(grid: Grid, window: Window) -> Mask:
    """True where a pixel of a window lies on a grid at all, shape (rows, cols)."""
    rows, cols = np.arange(window.height) + window.row, np.arange(window.width) + window.col
    return ((rows >= 0) & (rows < grid.height))[:, None] & ((cols >= 0) & (cols < grid.width))


def pixels_in(mask: PolygonMask, grid: Grid) -> int:
    """How many pixels of a grid's lattice have their centre in the polygon; the grid holds it whole."""
    total = 0
    for window in grid.tiles(_SIDE):
        if mask.clearly_lacks(window):
            continue
        total += window.width * window.height if mask.clearly_holds(window) else int(mask.read(window).sum())
    return total


_SIDE = 512


def gauges_for(raster: Raster, area: Any = None) -> JsonObject:
    """The gauges that all checks of a raster need; ``area`` a mask of the area on its grid."""
    found: JsonObject = {
        "tally": Tally.of(raster), "sample": Sample.of(raster), "lines": Lines.of(raster), "gaps": Gaps.of(raster),
        "tiles": Tiles.of(raster),
    }  # fmt: skip
    return found | ({"inside": Inside(area, len(raster.bands))} if area is not None else {})

"""Tiles of all overview levels out of one pass over the full resolution.

Tiles are visited along a Z-shaped curve, so that the four tiles under a parent come close after one another: what
waits for its neighbours is a few tiles a level, whatever the size of the raster.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from zoompick.arrays import Pixels
from zoompick.later import np
from zoompick.raster import resample
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import fill_value

_CHILDREN = 4


@dataclass(frozen=True, slots=True)
class TileKey:
    """A tile's place: level (0 is the full resolution), row and column of tiles, and which bands it holds."""

    level: int
    row: int
    col: int
    bands: tuple[int, ...]

    @property
    def parent(self) -> TileKey:
        """The tile one level up that covers this one."""
        return TileKey(self.level + 1, self.row // 2, self.col // 2, self.bands)


@dataclass(frozen=True)
class Pyramid:
    """Sizes of all levels of a tiled image, full resolution first, each half the one before.

    The last level is the first that fits in one tile.
    """

    grid: Grid
    side: int

    @cached_property
    def levels(self) -> tuple[Grid, ...]:
        """Grids of all levels."""
        grids = [self.grid]
        while max(grids[-1].width, grids[-1].height) > self.side:
            grids.append(self.grid.reduced(2 ** len(grids)))
        return tuple(grids)

    def counts(self, level: int) -> tuple[int, int]:
        """Rows and columns of tiles in a level."""
        grid = self.levels[level]
        return -(-grid.height // self.side), -(-grid.width // self.side)

    def window(self, key: TileKey) -> Window:
        """Pixels of a tile in its level's grid, cut at the edges."""
        grid, col, row = self.levels[key.level], key.col * self.side, key.row * self.side
        return Window(col, row, min(self.side, grid.width - col), min(self.side, grid.height - row))

    def children(self, key: TileKey) -> int:
        """How many tiles of the level below lie under this one."""
        down, across = self.counts(key.level - 1)
        return min(2, down - 2 * key.row) * min(2, across - 2 * key.col)


class Gatherer:
    """Collects the halved tiles of one level until a parent tile is whole."""

    def __init__(self, pyramid: Pyramid, nodata: float | None) -> None:
        self._pyramid = pyramid
        self._nodata = nodata
        self._waiting: dict[TileKey, tuple[Pixels, int]] = {}

    def add(self, key: TileKey, halves: Sequence[Pixels]) -> tuple[TileKey, Pixels] | None:
        """Put a halved tile, its bands in one array or several, in its parent; returns the parent when complete."""
        parent = key.parent
        half = self._pyramid.side // 2
        held = self._waiting.get(parent)
        if held is None:
            shape, count = (len(key.bands), 2 * half, 2 * half), self._pyramid.children(parent)
            buffer = np.empty(shape, halves[0].dtype)
            if count < _CHILDREN:
                buffer[...] = fill_value(self._nodata)
            held = buffer, count
        buffer, missing = held
        row, col = key.row % 2 * half, key.col % 2 * half
        band = 0
        for halved in halves:
            buffer[band : band + len(halved), row : row + half, col : col + half] = halved
            band += len(halved)
        if missing == 1:
            self._waiting.pop(parent, None)
            return parent, buffer
        self._waiting[parent] = buffer, missing - 1
        return None


def halved(inside: Pixels, side: int, nodata: float | None, is_class: bool, is_whole: bool = False) -> Pixels:
    """The pixels of a tile at half the resolution, filled up to a tile of ``side``; classes keep the majority.

    ``is_whole`` spares the search for missing pixels where it is known that there are none; a mean of others that is
    the no-data value by chance steps aside all the same.
    """
    _, rows, cols = inside.shape
    # The last line once more: the mean over what is there stays what it was, and nothing counts as missing.
    even = padded(inside, rows + rows % 2, cols + cols % 2, None)
    if is_class:
        down, across = (resample.Axis(0, 2, size // 2) for size in even.shape[1:])
        return padded(resample.majority(even, down, across, nodata), side, side, nodata)
    spared = is_whole and not resample.lies_within(nodata, even.dtype)
    small = resample.halve(even, None if spared else nodata)
    if spared and nodata is not None and even.dtype.kind == "f" and (small == nodata).any():
        small = resample.halve(even, nodata)
    return padded(small, side, side, nodata)


def padded(pixels: Pixels, rows: int, cols: int, nodata: float | None) -> Pixels:
    """Fill a tile at the right or lower edge up to ``rows`` and ``cols``.

    With no-data, or where there is none by repeating the last row and column, so that averages stay inside.
    """
    if pixels.shape[1:] == (rows, cols):
        return pixels
    count, down, across = pixels.shape
    out = np.empty((count, rows, cols), pixels.dtype)
    out[:, :down, :across] = pixels
    out[:, :down, across:] = pixels[:, :, -1:] if nodata is None else nodata
    out[:, down:] = out[:, down - 1 : down] if nodata is None else nodata
    return out

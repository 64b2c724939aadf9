"""The work of making tiles, as a value that can travel: from a raster's pixels to encoded blocks and overviews.

A worker takes a *plot* of neighbouring tiles, makes them one after the other, and the overviews over them as far up
as they lie over this plot alone. Back go encoded blocks, statistics, and of each topmost tile the pixels at half its
resolution; those are all the pixels that travel.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from zoompick.arrays import Pixels
from zoompick.later import np
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.encode import Block, Encoder
from zoompick.raster.grid import Window
from zoompick.raster.pyramid import Gatherer, Pyramid, TileKey, halved, padded
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.spool import Piece
from zoompick.raster.statistics import BandStatistics

_TILE_BYTES = 4 << 20
"""Pixels of a tile made together: several bands, so that handing jobs about costs little beside the codec."""
_PLOT_BYTES = 16 << 20
"""Pixels of a plot that is made elsewhere: what comes back at once is less than that."""
_FOUR, _MANY = 4, 256
"""Where there are many tiles and each is made quickly, four are one job, with the overview over them."""
_HIGHEST = 3
"""So many levels of overviews at most are made with a plot."""

Keep = Callable[[Block], Pixels | Piece]
"""What becomes of a block: copied, or put in the spool."""


def copied(block: Block) -> Pixels:
    """The bytes of a block as an array, which travels without being copied again (PEP 574)."""
    return np.frombuffer(block, np.uint8).copy()


@dataclass(frozen=True)
class WriteOptions:
    """How a file is written; zero and None take the settings.

    Attributes
    ----------
    is_class : bool
        Overviews keep the majority in place of the mean.
    is_rgb : bool
        Three bands are a colour picture and lie together pixel by pixel.
    effort : int
        Of deflate and zstd; of jpeg and webp the quality, 1 to 100. 0 takes the setting.
    credit : str
        Who has to be named; kept in the file's copyright tag.
    error : float
        What stored values may be off, with lerc.
    is_together : bool
        Bands lie together pixel by pixel, as colours always do; else each in tiles of its own.
    """

    side: int = 0
    compression: str = "deflate"
    effort: int = 0
    is_class: bool = False
    is_rgb: bool = False
    workers: int = 0
    credit: str = ""
    error: float = 0.0
    is_together: bool = False


@dataclass(frozen=True, slots=True)
class Plot:
    """Neighbouring tiles of the full resolution that one worker makes.

    Attributes
    ----------
    number : int
        Its place among all plots: statistics are merged in this order, whichever comes first.
    top : int
        Overviews up to this level are made with it.
    in_rows : bool
        Tiles are made row by row, as sources in strips want it; else along the curve.
    """

    number: int
    row: int
    col: int
    rows: int
    cols: int
    bands: tuple[int, ...]
    top: int
    in_rows: bool = False


@dataclass(frozen=True, slots=True)
class MadeBlock:
    """A block: its tile, with the bands that lie together in it, and its bytes or their place in the spool."""

    key: TileKey
    block: Pixels | Piece
    is_mask: bool = False


@dataclass(frozen=True, slots=True)
class MadeTile:
    """A tile of an overview, made of its pixels, and those at half the resolution, if a level follows."""

    blocks: tuple[MadeBlock, ...]
    key: TileKey
    halves: tuple[Pixels, ...]


@dataclass(frozen=True, slots=True)
class MadePlot:
    """What came of a plot.

    Attributes
    ----------
    statistics : tuple
        For each tile, in order, one entry a band.
    tops : tuple of (TileKey, tuple of ndarray)
        Topmost tiles at half their resolution.
    """

    plot: Plot
    blocks: tuple[MadeBlock, ...]
    statistics: tuple[tuple[BandStatistics, ...], ...]
    tops: tuple[tuple[TileKey, tuple[Pixels, ...]], ...]


@dataclass(frozen=True)
class TileWork:
    """All that decides the blocks of a file; picklable when its raster is."""

    raster: Raster
    pyramid: Pyramid
    options: WriteOptions

    @property
    def separate(self) -> bool:
        """True when each band lies in tiles of its own."""
        return not (self.options.is_rgb or self.options.is_together) and len(self.raster.bands) > 1

    @cached_property
    def encoder(self) -> Encoder:
        """How tiles become bytes."""
        return Encoder(self.raster.dtype, self.options.compression, self.options.effort, self.options.error)

    def plots(self, is_far: bool) -> Iterator[Plot]:
        """Plots that together hold all tiles, in the order in which few wait for their neighbours."""
        bands = len(self.raster.bands)
        if self.raster.block[1] >= self.raster.grid.width > self.options.side and (self.separate or bands == 1):
            return self._strips(is_far)
        one = self.options.side**2 * self.raster.dtype.itemsize
        if not is_far:
            groups = self._groups(_TILE_BYTES // one)
            down, across = self.pyramid.counts(0)
            is_light = _FOUR * one * max(map(len, groups)) <= _TILE_BYTES and down * across >= _MANY
            return self._squares(1 if is_light else 0, groups)
        most = _PLOT_BYTES // (one if self.separate else one * bands)
        top = min(_HIGHEST, max(0, most.bit_length() - 1) // 2)
        return self._squares(top, self._groups(most >> 2 * top))

    def _groups(self, together: int) -> list[tuple[int, ...]]:
        """Bands that are made together, about so many; all, where they lie together."""
        every = tuple(range(len(self.raster.bands)))
        step = max(1, together) if self.separate else len(every)
        return [every[at : at + step] for at in range(0, len(every), step)]

    def _squares(self, top: int, groups: Sequence[tuple[int, ...]]) -> Iterator[Plot]:
        down, across = self.pyramid.counts(0)
        side = 1 << top
        places = along_curve(-(-down // side), -(-across // side))
        number = 0
        for row, col in ((row * side, col * side) for row, col in places):
            for bands in groups:
                yield Plot(number, row, col, min(side, down - row), min(side, across - col), bands, top)
                number += 1

    def _strips(self, is_far: bool) -> Iterator[Plot]:
        """Whole rows of tiles, band by band: a curve would decode strips again and again."""
        down, across = self.pyramid.counts(0)
        top = 1 if is_far else 0
        rows, cols = 1 << top, across if is_far else 1
        places = [
            (band, row, col)
            for band in range(len(self.raster.bands))
            for row in range(0, down, rows)
            for col in range(0, across, cols)
        ]
        for number, (band, row, col) in enumerate(places):
            yield Plot(number, row, col, min(rows, down - row), cols, (band,), top, True)

    def run(self, plot: Plot, keep: Keep = copied) -> MadePlot:
        """Make the tiles of a plot and the overviews over it alone."""
        gatherer = Gatherer(self.pyramid, self.raster.nodata)
        blocks: list[MadeBlock] = []
        statistics: list[tuple[BandStatistics, ...]] = []
        tops: list[tuple[TileKey, tuple[Pixels, ...]]] = []
        for key in tiles_of(plot):
            made, found = self._tile(key, None, keep)
            statistics.append(found)
            while True:
                blocks += made.blocks
                if not made.halves:
                    break
                if made.key.level >= plot.top:
                    tops.append((made.key, made.halves))
                    break
                complete = gatherer.add(made.key, made.halves)
                if complete is None:
                    break
                made, _ = self._tile(*complete, keep)
        return MadePlot(plot, tuple(blocks), tuple(statistics), tuple(tops))

    def overview(self, key: TileKey, pixels: Pixels, keep: Keep = copied) -> MadeTile:
        """Make a tile of an overview of its pixels."""
        return self._tile(key, pixels, keep)[0]

    def _tile(self, key: TileKey, given: Pixels | None, keep: Keep) -> tuple[MadeTile, tuple[BandStatistics, ...]]:
        """Plane by plane, so that each stays in the processor's cache through all its stages."""
        window = self.pyramid.window(key)
        blocks, halves, statistics = [], [], list[BandStatistics]()
        for at, one in enumerate([replace(key, bands=(band,)) for band in key.bands] if self.separate else [key]):
            own = given if given is None or not self.separate else given[at : at + 1]
            if self.encoder.loses:
                made, found, smaller = self._picture(one, window, own, keep)
                blocks += made
            else:
                block, found, smaller = self._plane(one, window, own, keep)
                blocks.append(MadeBlock(one, block))
            statistics += found
            halves += [] if smaller is None else [smaller]
        return MadeTile(tuple(blocks), key, tuple(halves)), tuple(statistics)

    def _plane(
        self, key: TileKey, window: Window, given: Pixels | None, keep: Keep
    ) -> tuple[Pixels | Piece, tuple[BandStatistics, ...], Pixels | None]:
        """Read or take the pixels, encode them, and halve them for the level above."""
        nodata, side = self.raster.nodata, self.options.side
        statistics: tuple[BandStatistics, ...] = ()
        coded = self._coded(window, key) if given is None else None
        if given is None:
            inside = coded.pixels if coded else self.raster.read(window, key.bands)
            statistics = tuple(BandStatistics.of(band, nodata) for band in inside)
        else:
            inside = given[:, : window.height, : window.width]
        value = None if coded else self._only_value(inside, statistics)
        if value is not None:
            half = np.full((1, side // 2, side // 2), value, inside.dtype)
            is_top = key.level >= len(self.pyramid.levels) - 1
            return keep(self.encoder.constant(value, side)), statistics, None if is_top else half
        smaller = None
        if key.level < len(self.pyramid.levels) - 1:
            is_whole = bool(statistics) and all(one.is_whole for one in statistics)
            is_class = self.options.is_class or all(self.raster.bands[band].is_class for band in key.bands)
            smaller = halved(inside, side // 2, nodata, is_class, is_whole)
        if self.encoder.error and given is None:
            # Figures are those of what readers will see.
            block = bytes(self.encoder.encode(padded(inside, side, side, nodata)))
            seen = self.encoder.seen(block)[:, : window.height, : window.width]
            statistics = tuple(BandStatistics.of(np.ascontiguousarray(band), nodata) for band in seen)
            return keep(block), statistics, smaller
        if coded and inside.shape[1:] == (side, side) and self.encoder.passes(coded):
            return keep(coded.data), statistics, smaller
        return keep(self.encoder.encode(padded(inside, side, side, nodata))), statistics, smaller

    def _only_value(self, inside: Pixels, statistics: Sequence[BandStatistics]) -> Any:
        """The value of all pixels of a whole tile of one band; None where they differ, or something is lost."""
        if inside.shape != (1, self.options.side, self.options.side) or self.encoder.error:
            return None
        if statistics:
            (one,) = statistics
            is_same = one.count == 0 or (one.is_whole and one.minimum == one.maximum)
            if not is_same or (one.count == 0 and inside.dtype.kind == "f"):
                return None
        first, middle, last = inside[0, 0, 0], inside[0, self.options.side // 2, 0], inside[0, -1, -1]
        is_same = bool(statistics) or (first == middle == last and (inside == first).all())
        return first if is_same else None

    def _picture(
        self, key: TileKey, window: Window, given: Pixels | None, keep: Keep
    ) -> tuple[list[MadeBlock], tuple[BandStatistics, ...], Pixels | None]:
        """A tile that loses a little, and its mask; statistics are of what readers will see."""
        nodata, side = self.raster.nodata, self.options.side
        inside = self.raster.read(window, key.bands) if given is None else given[:, : window.height, : window.width]
        there: Pixels = np.asarray(valid_mask(inside, nodata).all(axis=0))
        valid = padded(there[np.newaxis], side, side, 0)
        block = bytes(self.encoder.encode(padded(inside, side, side, None)))
        statistics: tuple[BandStatistics, ...] = ()
        if given is None:
            seen = np.maximum(self.encoder.seen(block), 1)[:, : window.height, : window.width]
            seen[:, ~there] = 0
            statistics = tuple(BandStatistics.of(np.ascontiguousarray(band), 0) for band in seen)
        smaller = None
        if key.level < len(self.pyramid.levels) - 1:
            smaller = halved(inside, side // 2, nodata, False)
        mask = MadeBlock(key, keep(self.encoder.mask(valid[0])), True)
        return [MadeBlock(key, keep(block)), mask], statistics, smaller

    def _coded(self, window: Window, key: TileKey) -> CodedBlock | None:
        """The block of a file that this tile is, if it is one."""
        return coded_block(self.raster, window, key.bands[0]) if len(key.bands) == 1 else None


def tiles_of(plot: Plot) -> Iterator[TileKey]:
    """Tiles of a plot, in the order in which they are made."""
    if plot.in_rows:
        places: Iterator[tuple[int, int]] = ((row, col) for row in range(plot.rows) for col in range(plot.cols))
    else:
        places = along_curve(plot.rows, plot.cols)
    return (TileKey(0, plot.row + row, plot.col + col, plot.bands) for row, col in places)


def along_curve(down: int, across: int) -> Iterator[tuple[int, int]]:
    """Places (row, col) of a rectangle in Z-order, so that the four under a parent follow one another.

    Source of the curve: G. M. Morton, A computer oriented geodetic data base (1966).
    """
    stack = [(0, 0, 1 << (max(down, across, 1) - 1).bit_length())]
    while stack:
        row, col, span = stack.pop()
        if row >= down or col >= across:
            continue
        if span == 1:
            yield row, col
            continue
        half = span // 2
        stack += [(row + half, col + half, half), (row + half, col, half), (row, col + half, half), (row, col, half)]

"""The one writer: pulls blocks of a Raster, encodes them on the workers, and lays out a Cloud Optimized GeoTIFF.

One pass, in memory bounded by blocks: encoded tiles of all levels go to a spool file beside the target; when their
lengths are known the head is built and the tiles follow it, smallest overview first, each level row by row.
"""

from __future__ import annotations

import functools
import itertools
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from zoompick import settings
from zoompick.errors import UsageError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.files import BLAKE3, disk_errors, new_hasher, writing
from zoompick.raster import cog, engine, tiffmeta
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.encode import Block, Encoder
from zoompick.raster.grid import Window
from zoompick.raster.pyramid import Gatherer, Pyramid, TileKey, halved, padded
from zoompick.raster.raster import Pixels, Raster
from zoompick.raster.spool import Piece, Spool, spooling
from zoompick.raster.statistics import BandStatistics


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
        Of deflate and zstd; of jpeg and webp the quality, 1 to 100.
    credit : str
        Who has to be named; kept in the file's copyright tag.
    """

    side: int = 0
    compression: str = "deflate"
    effort: int = 0
    is_class: bool = False
    is_rgb: bool = False
    workers: int = 0
    credit: str = ""


@dataclass(frozen=True)
class Written:
    """What was written."""

    path: Path
    size: int
    multihash: str
    statistics: tuple[BandStatistics, ...]


@dataclass(frozen=True)
class _Job:
    """A tile to make: of the full resolution, from the raster; of an overview, from its pixels."""

    key: TileKey
    pixels: Pixels | None = None


Keep = Callable[[Block], bytes | Piece]
"""What becomes of a block: copied, or put in the spool."""


@dataclass(frozen=True)
class _Plane:
    """Those bands of a tile that lie together: their block, or where the spool has it."""

    block: bytes | Piece
    statistics: tuple[BandStatistics, ...]
    halved: Pixels | None


@dataclass(frozen=True)
class _Tile:
    key: TileKey
    planes: tuple[_Plane, ...]


def write_geotiff(
    raster: Raster,
    path: Path,
    options: WriteOptions | None = None,
    report: Report = ignore,
    executor: Executor | None = None,
) -> Written:
    """Write all of ``raster`` as a Cloud Optimized GeoTIFF with overviews, statistics and band names.

    Parameters
    ----------
    executor : Executor, optional
        Where blocks are computed and encoded; threads of this process by default.

    Returns
    -------
    Written
        Size, multihash and statistics of the file.

    Raises
    ------
    DiskError
        No room; nothing is left behind.
    DataError
        An input block does not decode.
    """
    maker = _Maker(raster, path, _with_settings(options or WriteOptions()), report)
    with disk_errors(path), spooling(path) as spool:
        maker.fill(spool, executor)
        written = maker.assemble(spool)
    report(Finished(path.name))
    return written


def _with_settings(options: WriteOptions) -> WriteOptions:
    if options.compression not in cog.COMPRESSION:
        raise UsageError(
            f"There is no compression called '{options.compression}'.",
            f"There is {', '.join(cog.COMPRESSION)}.",
        )
    side = options.side or settings.whole("tile_px")
    if side % 16:
        raise UsageError(f"A tile side of {side} px is no multiple of 16.", "TIFF wants one: 256 or 512, say.")
    effort = _QUALITY if options.compression in cog.PICTURE_ONLY else settings.whole("deflate_level")
    return replace(options, side=side, effort=options.effort or effort)


_JOB_BYTES = 4 << 20
"""Pixels of a tile that make one job: several bands, so that handing jobs about costs little beside the codec."""
_QUALITY = 88
"""Of pictures that may lose a little: artefacts are hard to find, half the bytes of 95."""


class _Maker:
    """State of one file on its way."""

    def __init__(self, raster: Raster, path: Path, options: WriteOptions, report: Report) -> None:
        self.raster = raster
        self.path = path
        self.options = options
        self.report = report
        if options.compression in cog.PICTURE_ONLY and not (
            options.is_rgb and raster.dtype == np.uint8 and len(raster.bands) == 3
        ):
            raise UsageError(
                f"{options.compression} is for pictures of three 8-bit colours.", "Take deflate, zstd or lzw."
            )
        self.pyramid = Pyramid(raster.grid, options.side)
        self.separate = not options.is_rgb and len(raster.bands) > 1
        self.planes = len(raster.bands) if self.separate else 1
        self.encoder = Encoder(raster.dtype, options.compression, options.effort)
        self.gatherer = Gatherer(self.pyramid, raster.nodata)
        self.statistics = [BandStatistics()] * len(raster.bands)
        self.counts = [np.zeros(self.planes * down * across, np.int64) for down, across in self._sizes()]
        self.places = [np.zeros_like(counts) for counts in self.counts]

    def _sizes(self) -> list[tuple[int, int]]:
        return [self.pyramid.counts(level) for level in range(len(self.pyramid.levels))]

    def fill(self, spool: Spool, executor: Executor | None) -> None:
        """Compute, encode and spool every tile of every level."""
        down, across = self.pyramid.counts(0)
        self.report(Started(self.path.name, down * across * len(self.raster.bands), "tiles"))
        # Our own threads put a block down while the processor has it at hand; others send it here.
        work = functools.partial(self._work, keep=bytes if executor else spool.put)
        with engine.executor_of(self.options.workers) as (threads, in_flight):
            engine.drive(executor or threads, self._jobs(), work, lambda tile: self._take(tile, spool), in_flight)

    def _jobs(self) -> Iterator[_Job]:
        bands = len(self.raster.bands)
        grid = self.raster.grid
        in_strips = self.raster.block[1] >= grid.width > self.options.side
        keys: Iterable[TileKey]
        if in_strips and (self.separate or bands == 1):
            keys = self.pyramid.along_rows(bands)
        else:
            one = self.options.side**2 * self.raster.dtype.itemsize
            together = max(1, _JOB_BYTES // one) if self.separate else bands
            every = range(bands)
            keys = self.pyramid.along_curve([tuple(every[at : at + together]) for at in range(0, bands, together)])
        return (_Job(key) for key in keys)

    def _work(self, job: _Job, keep: Keep) -> _Tile:
        """On a worker: plane by plane, so that each stays in the processor's cache through all its stages."""
        key = job.key
        window = self.pyramid.window(key)
        keys = [replace(key, bands=(band,)) for band in key.bands] if self.separate else [key]
        return _Tile(key, tuple(self._plane(one, window, job.pixels, keep) for one in keys))

    def _plane(self, key: TileKey, window: Window, given: Pixels | None, keep: Keep) -> _Plane:
        """Read or take the pixels, encode them, and halve them for the level above."""
        nodata, side = self.raster.nodata, self.options.side
        statistics: tuple[BandStatistics, ...] = ()
        coded = self._coded(window, key) if given is None else None
        if given is None:
            inside = coded.pixels if coded else self.raster.read(window, key.bands)
            statistics = tuple(BandStatistics.of(band, nodata) for band in inside)
        else:
            inside = given[:, : window.height, : window.width]
        smaller = None
        if key.level < len(self.pyramid.levels) - 1:
            is_whole = bool(statistics) and all(one.is_whole for one in statistics)
            smaller = halved(inside, side // 2, nodata, self.options.is_class, is_whole)
        if coded and inside.shape[1:] == (side, side) and self.encoder.passes(coded):
            return _Plane(keep(coded.data), statistics, smaller)
        block = self.encoder.encode(padded(inside, side, side, nodata))
        return _Plane(keep(block), statistics, smaller)

    def _coded(self, window: Window, key: TileKey) -> CodedBlock | None:
        """The block of a file that this tile is, if it is one."""
        return coded_block(self.raster, window, key.bands[0]) if len(key.bands) == 1 else None

    def _take(self, tile: _Tile, spool: Spool) -> list[_Job]:
        """Here: note where the tile's blocks lie, merge statistics, hand a completed parent on."""
        key = tile.key
        down, across = self.pyramid.counts(key.level)
        for number, plane in zip(key.bands if self.separate else (0,), tile.planes, strict=True):
            index = (number * down + key.row) * across + key.col
            piece = spool.put(plane.block) if isinstance(plane.block, bytes) else plane.block
            self.places[key.level][index], self.counts[key.level][index] = piece
        if key.level == 0:
            found = itertools.chain.from_iterable(plane.statistics for plane in tile.planes)
            for band, statistics in zip(key.bands, found, strict=True):
                self.statistics[band] = self.statistics[band].merged(statistics)
            self.report(Advanced(self.path.name, len(key.bands)))
        halves = [plane.halved for plane in tile.planes if plane.halved is not None]
        complete = self.gatherer.add(key, halves) if halves else None
        if complete is None:
            return []
        parent, pixels = complete
        if not self.separate:
            return [_Job(parent, pixels)]
        # The last tiles follow from one another: band by band, so that all workers have their share.
        return [_Job(replace(parent, bands=(b,)), pixels[at : at + 1]) for at, b in enumerate(parent.bands)]

    def assemble(self, spool: Spool) -> Written:
        """Head, then tiles, smallest overview first; hashed on the way."""
        levels = [cog.LevelTiles(grid, counts) for grid, counts in zip(self.pyramid.levels, self.counts, strict=True)]
        plan = cog.layout(self._form(), levels)
        hasher = new_hasher()
        hasher.update(plan.head)
        size = len(plan.head) + sum(int(counts.sum()) for counts in self.counts)
        with writing(self.path, durable=False) as out:
            for piece in itertools.chain([memoryview(plan.head)], spool.moved(self._in_order(), hasher.update)):
                out.write(piece)
        return Written(self.path, size, BLAKE3 + str(hasher.hexdigest()), tuple(self.statistics))

    def _in_order(self) -> Iterator[tuple[int, int]]:
        """Places and lengths of all tiles in the spool, smallest overview first."""
        for places, counts in zip(reversed(self.places), reversed(self.counts), strict=True):
            yield from zip(places.tolist(), counts.tolist(), strict=True)

    def _form(self) -> cog.ImageForm:
        bands = self.raster.bands
        scaled = any((band.scale, band.offset) != (1.0, 0.0) for band in bands)
        return cog.ImageForm(
            dtype=np.dtype(self.raster.dtype),
            samples=len(bands),
            separate=self.separate,
            side=self.options.side,
            compression=self.options.compression,
            predictor=self.encoder.predictor,
            is_rgb=self.options.is_rgb,
            # What loses a little would turn no-data into almost no-data.
            nodata=None if self.options.compression in cog.PICTURE_ONLY else self.raster.nodata,
            xml=tiffmeta.xml_for(bands, self.statistics, scaled),
            credit=self.options.credit,
        )

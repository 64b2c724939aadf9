"""The one writer: pulls blocks of a Raster, encodes them on the workers, and lays out a Cloud Optimized GeoTIFF.

One pass, in memory bounded by blocks: encoded tiles of all levels go to a spool file beside the target; when their
lengths are known the head is built and the tiles follow it, smallest overview first, each level row by row.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from zoompick import settings
from zoompick.errors import UsageError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.files import BLAKE3, disk_errors, new_hasher, temporary_beside, writing
from zoompick.raster import cog, engine, tiffmeta
from zoompick.raster.encode import Encoder
from zoompick.raster.pyramid import Gatherer, Pyramid, TileKey, halved, padded
from zoompick.raster.raster import Pixels, Raster
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
    key: TileKey
    pixels: Pixels | None


@dataclass(frozen=True)
class _Tile:
    key: TileKey
    encoded: tuple[bytes, ...]
    statistics: tuple[BandStatistics, ...]
    halved: Pixels | None


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
    with disk_errors(path):
        handle, spool_path = temporary_beside(path)
        with os.fdopen(handle, "w+b", buffering=0) as spool:
            # The spool has no use but ours: without a name it goes with the process, however that ends.
            _unlink_open(spool_path)
            try:
                maker.fill(spool, executor)
                written = maker.assemble(spool)
            finally:
                spool.close()
                spool_path.unlink(missing_ok=True)
    report(Finished(path.name))
    return written


def _unlink_open(path: Path) -> None:
    if os.name == "posix":
        path.unlink()


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


_QUALITY = 88
_PIECE = 1 << 20
"""Bytes of tiles that are copied at a time when a file is put together."""
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
        self.encoder = Encoder(raster.dtype, options.compression, options.effort, self.separate)
        self.gatherer = Gatherer(self.pyramid, raster.nodata)
        self.statistics = [BandStatistics()] * len(raster.bands)
        self.counts = [np.zeros(self.planes * down * across, np.int64) for down, across in self._sizes()]
        self.places = [np.zeros_like(counts) for counts in self.counts]
        self._spooled = 0

    def _sizes(self) -> list[tuple[int, int]]:
        return [self.pyramid.counts(level) for level in range(len(self.pyramid.levels))]

    def fill(self, spool: BinaryIO, executor: Executor | None) -> None:
        """Compute, encode and spool every tile of every level."""
        down, across = self.pyramid.counts(0)
        self.report(Started(self.path.name, down * across * len(self.raster.bands), "tiles"))
        with engine.executor_of(self.options.workers) as (threads, in_flight):
            engine.drive(
                executor or threads, self._jobs(), self._work, lambda tile: self._take(tile, spool), in_flight
            )

    def _jobs(self) -> Iterator[_Job]:
        bands = len(self.raster.bands)
        grid = self.raster.grid
        in_strips = self.raster.block[1] >= grid.width > self.options.side
        keys: Iterable[TileKey]
        if in_strips and (self.separate or bands == 1):
            keys = self.pyramid.along_rows(bands)
        else:
            # One band a job, where bands are apart: a tile stays in the processor's cache through all its stages.
            groups = [(band,) for band in range(bands)] if self.separate else [tuple(range(bands))]
            keys = self.pyramid.along_curve(groups)
        return (_Job(key, None) for key in keys)

    def _work(self, job: _Job) -> _Tile:
        """On a worker: read or take the pixels, encode them, and halve them for the level above."""
        key, nodata, side = job.key, self.raster.nodata, self.options.side
        window = self.pyramid.window(key)
        statistics: tuple[BandStatistics, ...] = ()
        if job.pixels is None:
            inside = self.raster.read(window, key.bands)
            statistics = tuple(BandStatistics.of(band, nodata) for band in inside)
        else:
            inside = job.pixels[:, : window.height, : window.width]
        is_top = key.level == len(self.pyramid.levels) - 1
        smaller = None if is_top else halved(inside, side // 2, nodata, self.options.is_class)
        return _Tile(key, tuple(self.encoder.encode(padded(inside, side, side, nodata))), statistics, smaller)

    def _take(self, tile: _Tile, spool: BinaryIO) -> list[_Job]:
        """Here: note where the tile's bytes lie, merge statistics, hand a completed parent on."""
        key = tile.key
        down, across = self.pyramid.counts(key.level)
        for plane, data in zip(key.bands if self.separate else (0,), tile.encoded, strict=True):
            index = (plane * down + key.row) * across + key.col
            self.counts[key.level][index] = len(data)
            self.places[key.level][index] = self._spooled
            self._spooled += len(data)
            _write_all(spool, data)
        for band, statistics in zip(key.bands, tile.statistics, strict=False):
            self.statistics[band] = self.statistics[band].merged(statistics)
        if key.level == 0:
            self.report(Advanced(self.path.name, len(key.bands)))
        if tile.halved is None:
            return []
        parent = self.gatherer.add(key, tile.halved)
        return [_Job(*parent)] if parent else []

    def assemble(self, spool: BinaryIO) -> Written:
        """Head, then tiles, smallest overview first; hashed on the way."""
        levels = [cog.LevelTiles(grid, counts) for grid, counts in zip(self.pyramid.levels, self.counts, strict=True)]
        plan = cog.layout(self._form(), levels)
        hasher = new_hasher()
        hasher.update(plan.head)
        with writing(self.path, durable=False) as out:
            out.write(plan.head)
            for piece in self._pieces(spool, hasher):
                out.write(piece)
            size = out.seek(0, os.SEEK_END)
        return Written(self.path, size, BLAKE3 + str(hasher.hexdigest()), tuple(self.statistics))

    def _pieces(self, spool: BinaryIO, hasher: Any) -> Iterator[memoryview]:
        """The tiles as they will lie, some at a time: another thread reads and hashes ahead of who takes them."""
        largest = max(1, *(int(counts.max()) for counts in self.counts))
        free = [memoryview(bytearray(largest + _PIECE)) for _ in range(2)]

        def read(batch: Sequence[tuple[int, int]], buffer: memoryview) -> memoryview:
            end = 0
            for place, count in batch:
                read_into(spool, buffer[end : end + count], place)
                end += count
            hasher.update(buffer[:end])
            return buffer[:end]

        with ThreadPoolExecutor(1, "zoompick-assemble") as pool:
            coming: Future[memoryview] | None = None
            for number, batch in enumerate(self._batches()):
                following = pool.submit(read, batch, free[number % 2])
                if coming is not None:
                    yield coming.result()
                coming = following
            if coming is not None:
                yield coming.result()

    def _batches(self) -> Iterator[list[tuple[int, int]]]:
        """Tiles in order, about a megabyte at a time."""
        batch, size = list[tuple[int, int]](), 0
        for place, count in self._in_order():
            batch.append((place, count))
            size += count
            if size >= _PIECE:
                yield batch
                batch, size = [], 0
        yield batch

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


_seek_lock = threading.Lock()


def read_into(stream: BinaryIO, buffer: memoryview, place: int) -> None:
    """Fill a buffer from a place in a file without moving where others read, as far as the system can."""
    if hasattr(os, "preadv"):
        os.preadv(stream.fileno(), [buffer], place)
        return
    with _seek_lock:
        stream.seek(place)
        stream.readinto(buffer)  # type: ignore[attr-defined]


def _write_all(stream: BinaryIO, data: bytes) -> None:
    """A raw file may take less than it was given when the disk is nearly full; the next call then says so."""
    done = stream.write(data)
    while done < len(data):
        done += stream.write(data[done:])

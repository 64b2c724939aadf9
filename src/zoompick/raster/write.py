"""The one writer: pulls blocks of a Raster, encodes them on the workers, and lays out a Cloud Optimized GeoTIFF.

One pass, in memory bounded by blocks: encoded tiles of all levels go to a spool file beside the target; when their
lengths are known the head is built and the tiles follow it, smallest overview first, each level row by row.
"""

from __future__ import annotations

import functools
import itertools
import shutil
from collections.abc import Iterator, Sequence
from concurrent.futures import Executor
from contextlib import AbstractContextManager, ExitStack, nullcontext
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from zoompick import settings
from zoompick.arrays import Counts, Pixels
from zoompick.errors import GridError, UsageError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.files import BLAKE3, disk_errors, human_bytes, new_hasher, writing
from zoompick.later import np
from zoompick.raster import cog, engine, tiffmeta
from zoompick.raster.codec import PICTURE_ONLY, Codec
from zoompick.raster.engine import Crew
from zoompick.raster.part import FAR_BELOW
from zoompick.raster.pyramid import Gatherer, Pyramid, TileKey
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.spool import Spool, spooling
from zoompick.raster.statistics import BandStatistics, Histogram
from zoompick.raster.tilework import MadeBlock, MadePlot, MadeTile, Plot, TileWork, WriteOptions

__all__ = ["Job", "WriteOptions", "Written", "write_geotiff", "write_together"]


@dataclass(frozen=True)
class Written:
    """What was written.

    Attributes
    ----------
    histograms : tuple
        One a band, of the pixels of the smallest overview; None where nothing is there.
    codec : Codec
        What it was pressed with.
    """

    path: Path
    size: int
    multihash: str
    statistics: tuple[BandStatistics, ...]
    histograms: tuple[Histogram | None, ...] = ()
    codec: Codec = field(default_factory=lambda: Codec("deflate"))


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
        Where blocks are computed and encoded: threads, processes or other machines; threads of this process by
        default. The bytes of the file do not depend on it.

    Returns
    -------
    Written
        Size, multihash and statistics of the file.

    Raises
    ------
    GridError
        More pixels than could ever lie on this disk, however well they pack.
    DiskError
        No room; nothing is left behind.
    DataError
        An input block does not decode.
    """
    return write_together([Job(raster, path, options or WriteOptions())], report, executor)[0]


@dataclass(frozen=True)
class Job:
    """A file to write."""

    raster: Raster
    path: Path
    options: WriteOptions = field(default_factory=WriteOptions)


def write_together(
    jobs: Sequence[Job], report: Report = ignore, executor: Executor | None = None
) -> tuple[Written, ...]:
    """Write several files in one pass: their tiles are made side by side, place after place.

    Where their rasters are made of one :class:`~zoompick.raster.shared.Shared`, each of its blocks is read once. The
    bytes of each file are those that :func:`write_geotiff` would write.

    Raises
    ------
    GridError, DiskError, DataError
        As there; no file is left.
    """
    makers = []
    for job in jobs:
        _refuse_absurd(job.raster, job.path)
        makers.append(_Maker(job.raster, job.path, _with_settings(job.options), report))
    with ExitStack() as stack:
        stack.enter_context(disk_errors(jobs[0].path))
        spools = [stack.enter_context(spooling(job.path)) for job in jobs]
        workers = max(job.options.workers for job in jobs)
        with engine.crew_of(executor, workers) as crew, _near(crew, workers) as near:
            calls = [
                maker.calls(number, spool, crew)
                for number, (maker, spool) in enumerate(zip(makers, spools, strict=True))
            ]
            turns = ([call for call in turn if call is not None] for turn in itertools.zip_longest(*calls))
            if not crew.is_far and len(jobs) > 1 and makers[0].tiles >= _MANY_TILES:
                turns = ([_as_one(turn)] for turn in turns)

            def take(made: list[tuple[int, MadePlot | MadeTile]]) -> list[engine.Call]:
                return [
                    call for number, one in made for call in makers[number].take(one, number, spools[number], near)
                ]

            engine.drive(itertools.chain.from_iterable(turns), take, crew.at_once)
        written = tuple(maker.assemble(spool) for maker, spool in zip(makers, spools, strict=True))
    for job in jobs:
        report(Finished(job.path.name))
    return written


def _near(crew: Crew, workers: int) -> AbstractContextManager[Crew]:
    """Who makes the few overviews over several plots: they are here, so they are made here."""
    return engine.crew_here(workers) if crew.is_far else nullcontext(crew)


def _tagged(number: int, work: Any, job: Any) -> list[tuple[int, Any]]:
    """What comes of a job, with the number of the file that it is for."""
    return [(number, work(job))]


_MANY_TILES = 64
"""Of so many, those of several files at one place are one job: else all but one worker wait for the shared pixels."""


def _as_one(calls: Sequence[engine.Call]) -> engine.Call:
    """Several jobs as one, of a worker of this process."""
    return replace(calls[0], work=_in_turn, job=calls)


def _in_turn(calls: Sequence[engine.Call]) -> list[tuple[int, Any]]:
    return [made for call in calls for made in call.work(call.job)]


def _refuse_absurd(raster: Raster, path: Path) -> None:
    grid = raster.grid
    size = grid.width * grid.height * len(raster.bands) * raster.dtype.itemsize
    above = next(folder for folder in path.absolute().parents if folder.is_dir())
    free = shutil.disk_usage(above).free
    if size > _BEST_PACKING * free or max(grid.width, grid.height) >= _MOST_SIDE:
        raise GridError(
            f"{path.name} would have {grid.width:.9g} x {grid.height:.9g} pixels of {grid.pixel_text}: "
            f"{human_bytes(min(size, 10**300))} before they are packed, with {human_bytes(free)} free here.",
            "Give larger pixels, or a smaller area; nothing was begun.",
        )


_MOST_SIDE = 1 << 31
_BEST_PACKING = 20
"""Pixels that all differ a little hardly pack to less; those that do are written anyhow, until the disk is full."""


def _with_settings(options: WriteOptions) -> WriteOptions:
    if options.compression not in cog.COMPRESSION:
        raise UsageError(
            f"There is no compression called '{options.compression}'.",
            f"There is {', '.join(cog.COMPRESSION)}.",
        )
    side = options.side or settings.whole("tile_px")
    if side % 16:
        raise UsageError(f"A tile side of {side} px is no multiple of 16.", "TIFF wants one: 256 or 512, say.")
    return replace(options, side=side, effort=Codec.usual(options.compression, options.effort).effort)


def as_told(options: WriteOptions, text: str) -> WriteOptions:
    """Options with a compression as a person tells it: ``zstd``, ``lerc=0.01``, ``deflate,pixel``.

    After a comma ``pixel`` lays the bands together pixel by pixel, ``band`` each in tiles of its own.

    Raises
    ------
    UsageError
    """
    name, _, lie = (part.strip() for part in text.partition(","))
    name, sign, bound = (part.strip() for part in name.partition("="))
    if lie not in ("", "pixel", "band"):
        raise UsageError(f"'{lie}' is no way for bands to lie.", "As deflate,pixel or deflate,band.")
    if (name == "lerc") is not bool(sign):
        raise UsageError(
            f"'{text}' cannot be used: lerc, and no other, takes what values may be off.",
            "As lerc=0.01; lerc=0 is exact.",
        )
    return replace(options, compression=name, error=_bound(bound) if sign else 0.0, is_together=lie == "pixel")


def _bound(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value < float("inf"):
        raise UsageError(f"Values cannot be off by '{text}'.", "In stored numbers, 0 or more: lerc=0.01.")
    return value


class _Maker:
    """State of one file on its way: where the blocks lie that have come, and what waits for its neighbours."""

    def __init__(self, raster: Raster, path: Path, options: WriteOptions, report: Report) -> None:
        self.raster = raster
        self.path = path
        self.options = options
        self.report = report
        if options.compression in PICTURE_ONLY and not (
            options.is_rgb and raster.dtype == np.uint8 and len(raster.bands) == 3
        ):
            raise UsageError(
                f"{options.compression} is for pictures of three 8-bit colours.", "Take deflate, zstd or lzw."
            )
        _refuse_blurred(raster, options)
        self.pyramid = Pyramid(raster.grid, options.side)
        self.work = TileWork(raster, self.pyramid, options)
        planes = len(raster.bands) if self.work.separate else 1
        self.gatherer = Gatherer(self.pyramid, raster.nodata)
        self.statistics = _Merged(len(raster.bands))
        sizes = [self.pyramid.counts(level) for level in range(len(self.pyramid.levels))]
        self.counts = [np.zeros(planes * down * across, np.int64) for down, across in sizes]
        self.places = [np.zeros_like(counts) for counts in self.counts]
        self.masks = [np.zeros(down * across, np.int64) for down, across in sizes] if self.work.encoder.loses else []
        self.mask_places = [np.zeros_like(counts) for counts in self.masks]

    @property
    def tiles(self) -> int:
        """Tiles of the full resolution, of one band."""
        down, across = self.pyramid.counts(0)
        return down * across

    def calls(self, number: int, spool: Spool, crew: Crew) -> Iterator[engine.Call]:
        """Every tile of the full resolution, to be made; the overviews follow from what comes back."""
        self.report(Started(self.path.name, self.tiles * len(self.raster.bands), "tiles"))
        # Threads put a block down while the processor has it at hand; from elsewhere it comes here.
        work = crew.work(self.work.run) if crew.is_far else functools.partial(self.work.run, keep=spool.put)
        tagged = functools.partial(_tagged, number, work)
        return (engine.Call(crew.executor, tagged, plot) for plot in self.work.plots(crew.is_far))

    def take(self, made: MadePlot | MadeTile, number: int, spool: Spool, near: Crew) -> list[engine.Call]:
        """Here: note where blocks lie, merge statistics, hand completed parents on."""
        for block in made.blocks:
            self._note(block, spool)
        if isinstance(made, MadePlot):
            self.statistics.add(made.plot, made.statistics)
            self.report(Advanced(self.path.name, len(made.plot.bands) * len(made.statistics)))
            tops: Sequence[tuple[TileKey, Sequence[Pixels]]] = made.tops
        else:
            tops = [(made.key, made.halves)] if made.halves else []
        complete = [whole for key, halves in tops if (whole := self.gatherer.add(key, halves))]

        def call(key: TileKey, pixels: Pixels) -> engine.Call:
            work = functools.partial(self.work.overview, key, keep=spool.put)
            return engine.Call(near.executor, functools.partial(_tagged, number, work), pixels)

        if not self.work.separate:
            return [call(*parent) for parent in complete]
        # The last tiles follow from one another: band by band, so that all workers have their share.
        return [
            call(replace(parent, bands=(band,)), pixels[at : at + 1])
            for parent, pixels in complete
            for at, band in enumerate(parent.bands)
        ]

    def _note(self, made: MadeBlock, spool: Spool) -> None:
        key = made.key
        down, across = self.pyramid.counts(key.level)
        plane = key.bands[0] if self.work.separate else 0
        index = (plane * down + key.row) * across + key.col
        piece = made.block if isinstance(made.block, tuple) else spool.put(made.block.data)
        if made.is_mask:
            self.mask_places[key.level][index], self.masks[key.level][index] = piece
        else:
            self.places[key.level][index], self.counts[key.level][index] = piece

    def assemble(self, spool: Spool) -> Written:
        """Head, then tiles, smallest overview first; hashed on the way."""
        masks: Sequence[Counts | None] = self.masks or [None] * len(self.counts)
        levels = [cog.LevelTiles(*level) for level in zip(self.pyramid.levels, self.counts, masks, strict=True)]
        histograms = self._histograms(spool)
        plan = cog.layout(self._form(histograms), levels)
        hasher = new_hasher()
        hasher.update(plan.head)
        size = len(plan.head) + sum(int(counts.sum()) for counts in (*self.counts, *self.masks))
        with writing(self.path, durable=False) as out:
            for piece in itertools.chain([memoryview(plan.head)], spool.moved(self._in_order(), hasher.update)):
                out.write(piece)
        codec = Codec(self.options.compression, self.options.effort)
        digest = BLAKE3 + str(hasher.hexdigest())
        return Written(self.path, size, digest, self.statistics.bands, histograms, codec)

    def _histograms(self, spool: Spool) -> tuple[Histogram | None, ...]:
        """Of each band, from the smallest overview, which is one tile."""
        grid, side, encoder = self.pyramid.levels[-1], self.options.side, self.work.encoder
        pieces = zip(self.places[-1].tolist(), self.counts[-1].tolist(), strict=True)
        together = 1 if self.work.separate else len(self.raster.bands)
        planes = [band for piece in pieces for band in encoder.seen(spool.get(piece), side, together)]
        is_there = None
        if self.masks:
            is_there = encoder.is_there(spool.get((int(self.mask_places[-1][0]), int(self.masks[-1][0]))), side)
        found = []
        for plane, statistics in zip(planes, self.statistics.bands, strict=True):
            inside = plane[: grid.height, : grid.width]
            valid = (
                valid_mask(inside, self.raster.nodata) if is_there is None else is_there[: grid.height, : grid.width]
            )
            found.append(Histogram.of(inside[valid], statistics))
        return tuple(found)

    def _in_order(self) -> Iterator[tuple[int, int]]:
        """Places and lengths of all tiles in the spool, smallest overview first."""
        for level in reversed(range(len(self.counts))):
            yield from zip(self.places[level].tolist(), self.counts[level].tolist(), strict=True)
            if self.masks:
                yield from zip(self.mask_places[level].tolist(), self.masks[level].tolist(), strict=True)

    def _form(self, histograms: Sequence[Histogram | None]) -> cog.ImageForm:
        bands = self.raster.bands
        scaled = any((band.scale, band.offset) != (1.0, 0.0) for band in bands)
        return cog.ImageForm(
            dtype=np.dtype(self.raster.dtype),
            samples=len(bands),
            separate=self.work.separate,
            side=self.options.side,
            compression=self.options.compression,
            predictor=self.work.encoder.predictor,
            is_rgb=self.options.is_rgb,
            # What loses a little would turn no-data into almost no-data: there a mask tells it.
            nodata=None if self.options.compression in PICTURE_ONLY else self.raster.nodata,
            xml=tiffmeta.xml_for(bands, self.statistics.bands, scaled, histograms),
            credit=self.options.credit,
        )


def _refuse_blurred(raster: Raster, options: WriteOptions) -> None:
    """No-data must come back as it is, and nothing else become it: the codec knows no NaN, and moves numbers."""
    if options.compression != "lerc" or raster.nodata is None:
        return
    is_float = raster.dtype.kind == "f"
    if raster.nodata != FAR_BELOW if is_float else options.error >= 1:
        raise UsageError(
            f"With lerc={options.error:g} the no-data value {raster.nodata:g} and values near it would be mixed up.",
            "Take deflate." if is_float else "Take an error below 1, or deflate.",
        )


class _Merged:
    """Statistics of each band, merged in the order of the plots, whichever comes first."""

    def __init__(self, bands: int) -> None:
        self._found = [BandStatistics()] * bands
        self._early: dict[int, tuple[Plot, Sequence[Sequence[BandStatistics]]]] = {}
        self._next = 0

    @property
    def bands(self) -> tuple[BandStatistics, ...]:
        """What has been merged."""
        return tuple(self._found)

    def add(self, plot: Plot, statistics: Sequence[Sequence[BandStatistics]]) -> None:
        """Those of a plot, tile by tile."""
        self._early[plot.number] = plot, statistics
        while self._next in self._early:
            own, tiles = self._early.pop(self._next)
            for tile in tiles:
                for band, found in zip(own.bands, tile, strict=True):
                    self._found[band] = self._found[band].merged(found)
            self._next += 1

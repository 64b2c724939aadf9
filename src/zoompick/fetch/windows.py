"""Only the study area's part of remote rasters: which blocks that takes, and fetching them."""

from __future__ import annotations

from collections.abc import Iterable
from concurrent.futures import Future
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from zoompick.addresses import without_query
from zoompick.errors import FormatError, NothingFoundError, SourceError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.fetch.whole import Renew
from zoompick.files import multihash_of, take_name, unnamed
from zoompick.geo.bounds import Bounds
from zoompick.geo.shapes import Shape, as_text, bounds_of, project
from zoompick.net.client import Client, workers
from zoompick.net.ranges import NoRangesError, RemoteFile, Span, merged
from zoompick.raster.chosen import CONTAINERS, parted
from zoompick.raster.coded import HasStretches
from zoompick.raster.containercut import ContainerCut
from zoompick.raster.grid import Grid, Window
from zoompick.raster.jp2write import write_jp2
from zoompick.raster.part import Part
from zoompick.raster.upright import Mirrored, Turned
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.scenes import fetched as record
from zoompick.scenes.fetchplan import DownloadPlan, Fetch
from zoompick.scenes.opening import open_raster
from zoompick.scenes.scene import CLASS_BAND

_HEAD_BYTES = 32 << 10
_MARGIN_PX = 4
"""Around the area, so that resampling at its edge has neighbours."""
_JP2 = (".jp2", ".j2k")
_GAP_BYTES = 2 << 10
"""Blocks this close come with one request."""


class Cut(Protocol):
    """The part of a file that is wanted."""

    @property
    def is_empty(self) -> bool:
        """True where the file does not touch the region."""

    def write(self, target: Path) -> None:
        """It as a file of the same kind."""


@dataclass(frozen=True)
class _OfRaster:
    """A window of a GeoTIFF or a JPEG 2000 file."""

    raster: HasStretches
    window: Window
    ending: str
    is_class: bool

    @property
    def is_empty(self) -> bool:
        return self.window.is_empty

    def write(self, target: Path) -> None:
        """Overviews are made anew."""
        part = Part(self.raster, self.window)
        if self.ending in _JP2:
            write_jp2(part, target)
            return
        # Small effort: these files are read again soon, and nobody should wait for them longer than for the network.
        compression = "zstd" if self.raster.is_zstd else "deflate"
        write_geotiff(part, target, WriteOptions(compression=compression, is_class=self.is_class, effort=1))


@dataclass(frozen=True)
class Opened:
    """A remote raster whose header is here.

    Attributes
    ----------
    spans : tuple of Span
        Stretches of the file that the window needs.
    """

    source: RemoteFile
    cut: Cut
    spans: tuple[Span, ...]

    @property
    def size(self) -> int:
        """Bytes still to be fetched."""
        return sum(span.length for span in self.spans)


@dataclass(frozen=True)
class Survey:
    """A plan whose windows are known.

    Attributes
    ----------
    opened : mapping of Path to Opened
        By the path of the file to be.
    whole : mapping of Path to str
        Files that can only be had whole, and why.
    """

    plan: DownloadPlan
    opened: dict[Path, Opened]
    whole: dict[Path, str]

    @property
    def saved_bytes(self) -> int:
        """Bytes that the windows leave at the source."""
        return sum(one.source.size - one.size for one in self.opened.values())


def survey(plan: DownloadPlan, client: Client, report: Report = ignore, renew: Renew = lambda entry: None) -> Survey:
    """Read the header of every file of which a part is wanted, and find the blocks under the region.

    A file in strips or in one tile, a container that is no HDF5 or has no grid along its sides, a file that is no
    raster, and one on a server without ranges are planned whole.
    """
    wanted = [entry for entry in plan.fetch if entry.region is not None]
    opened: dict[Path, Opened] = {}
    whole: dict[Path, str] = {}
    task = "headers"
    report(Started(task, len(wanted), "files"))
    with workers("headers") as pool:
        flying: dict[Future[Opened], Fetch] = {pool.submit(_open, entry, client, renew): entry for entry in wanted}
        for future, entry in flying.items():
            try:
                opened[entry.path] = future.result()
            except (FormatError, NoRangesError) as error:
                whole[entry.path] = error.what
            except SourceError:
                # The download itself meets it again, and tells.
                whole[entry.path] = ""
            report(Advanced(task, 1))
    report(Finished(task))
    fetch = tuple(replace(entry, region=None) if entry.path in whole else entry for entry in plan.fetch)
    decided = replace(plan, fetch=fetch).with_sizes({path: one.size for path, one in opened.items()})
    return Survey(decided, opened, whole)


def _open(entry: Fetch, client: Client, renew: Renew) -> Opened:
    ending = entry.path.suffix.lower()
    assert entry.region is not None
    if not ending.startswith(".tif") and ending not in (*_JP2, *CONTAINERS):
        raise FormatError(f"{entry.path.name} is neither GeoTIFF, JPEG 2000 nor HDF5: it is fetched whole.")
    url, _ = parted(entry.url)
    source = RemoteFile(url, client.on_behalf(entry.key[0]), head_bytes=_HEAD_BYTES, renew=lambda: renew(entry))
    shape = entry.region.shape
    if ending in CONTAINERS:
        cut = ContainerCut.of(source, lambda grid: window_of(grid, shape))
        return Opened(source, cut, _spans(cut.stretches()))
    tiff = open_raster(source)
    if isinstance(tiff, Mirrored | Turned):
        raise FormatError(f"{entry.path.name} does not lie north up: it is fetched whole.")
    if not isinstance(tiff, HasStretches) or not tiff.is_tiled:
        how = "is one tile" if ending in _JP2 else "is stored in strips"
        raise FormatError(f"{entry.path.name} {how}: it is fetched whole.")
    if ending in _JP2 and (len(tiff.bands) > 1 or tiff.nodata is not None):
        raise FormatError(f"{entry.path.name} has several components: it is fetched whole.")
    window = window_of(tiff.grid, shape)
    return Opened(source, _OfRaster(tiff, window, ending, entry.band == CLASS_BAND), _spans(tiff.stretches(window)))


def _spans(stretches: Iterable[tuple[int, int]]) -> tuple[Span, ...]:
    return tuple(merged((Span(start, length) for start, length in stretches), _GAP_BYTES))


def window_of(grid: Grid, region: Shape) -> Window:
    """Pixels of a grid around a region in longitude/latitude, with a margin; empty when they do not meet."""
    box = bounds_of(project(region, grid.crs))
    margin_x, margin_y = _MARGIN_PX * grid.pixel_x, _MARGIN_PX * grid.pixel_y
    wide = Bounds(box.west - margin_x, box.south - margin_y, box.east + margin_x, box.north + margin_y)
    return grid.window_of(wide)


def fetch_window(entry: Fetch, opened: Opened, report: Report = ignore) -> int:
    """Fetch the blocks under the window, side by side, and write them as a file of their own, of the same kind.

    Values, type, no-data value, names, scale and offset stay as they are at the source.

    Returns
    -------
    int
        Bytes received, the header among them.

    Raises
    ------
    NothingFoundError
        The raster does not touch the region.
    SourceError, DataError, DiskError
        Nothing takes the name.
    """
    if opened.cut.is_empty:
        raise NothingFoundError(
            f"{entry.path.name} does not touch the area.", "Drop that scene: 'zoompick pick drop'."
        )
    task = f"{entry.scene}/{entry.path.name}"
    report(Started(task, opened.size, "B"))
    with unnamed(entry.path) as target:
        with opened.source.coming(opened.spans, lambda count: report(Advanced(task, count))):
            opened.cut.write(target)
            size, multihash = target.stat().st_size, multihash_of(target)
        # Where neither tag nor date tells it, only the bytes do.
        opened.source.confirm()
        take_name(target, entry.path)
    assert entry.region is not None
    record.add(
        entry.path,
        record.Fetched(
            band=entry.band,
            url=without_query(entry.url),
            size=size,
            multihash=multihash,
            checked_by="",
            region=as_text(entry.region.shape),
            region_key=entry.region.key,
            whole_size=opened.source.size,
            version=opened.source.version,
        ),
    )
    report(Finished(task))
    return opened.source.cost.received

"""Pictures of scenes before a download: their quicklooks, or any bands of the area out of the overviews."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zoompick.arrays import Pixels
from zoompick.errors import DataError, SourceError, ZoomPickError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, bounds_of, project
from zoompick.later import np
from zoompick.net.client import Client, workers
from zoompick.net.ranges import Cost, RemoteFile
from zoompick.raster.grid import Grid
from zoompick.raster.masks import PolygonMask
from zoompick.raster.part import AtLevel
from zoompick.raster.pictures import colours_of
from zoompick.raster.raster import fitting_level, valid_mask
from zoompick.raster.turn import in_same_turn
from zoompick.raster.warp import resampled_to
from zoompick.scenes.deliveries import OneBand, band_in
from zoompick.scenes.pictures import quicklook_of
from zoompick.scenes.renewal import renewed
from zoompick.scenes.scene import BandFile, Scene, refuse_unknown
from zoompick.scenes.scenelist import Entry
from zoompick.scenes.session import session

TASK = "pictures"
_MOST_BYTES = 20 << 20
_PREVIEW_PX = 360
_PERCENTILES = (2.0, 98.0)


@dataclass(frozen=True)
class Picture:
    """Pixels and where they lie.

    Attributes
    ----------
    pixels : ndarray, uint8, shape (rows, cols, 4)
        Red, green, blue, and 0 where there is nothing.
    note : str
        What is not as it should be: no quicklook, or one whose place is a guess.
    """

    pixels: Pixels
    crs: Crs | None
    bounds: Bounds | None
    note: str = ""


@dataclass(frozen=True)
class Pictures:
    """One picture an entry, in order, and what they cost."""

    pictures: tuple[Picture, ...]
    requests: int
    received_bytes: int


def pictures(
    entries: Sequence[Entry],
    bands: Sequence[str],
    area: Shape | None,
    report: Report = ignore,
    client: Client | None = None,
) -> Pictures:
    """Fetch a picture of each entry, several at a time.

    Parameters
    ----------
    bands : sequence of str
        Three for red, green and blue, or one for grey: read from the overviews, clipped to ``area``; none: quicklook.
    client : Client, optional
        The session that fetches; by default one that knows the sources of all studies.

    Raises
    ------
    UnknownNameError
        A band that none of the scenes has.
    """
    refuse_unknown(bands, [entry.scene for entry in entries])
    client, cost = client or session(report), Cost()
    report(Started(TASK, len(entries), "scenes"))

    def one(entry: Entry) -> Picture:
        asking = client.on_behalf(entry.scene.source)
        try:
            if bands and area is not None:
                return preview(entry.scene, bands, area, asking, cost)
            return _quicklook(entry.scene, asking, cost)
        except ZoomPickError as error:
            return Picture(np.zeros((8, 8, 4), np.uint8), None, None, error.what)
        finally:
            report(Advanced(TASK, 1))

    with workers("look") as pool:
        found = tuple(pool.map(one, entries))
    report(Finished(TASK))
    return Pictures(found, cost.requests, cost.received)


def _quicklook(scene: Scene, client: Client, cost: Cost) -> Picture:
    offered = quicklook_of(scene)
    if offered is None:
        raise SourceError(f"{scene.id} offers no quicklook.", "Give `bands` to look at its overviews.")
    data = client.again(offered.href, lambda: _body(client, offered.href))
    cost.add(len(data))
    return Picture(
        _decoded(data, scene.id), offered.crs, offered.bounds, "" if offered.is_exact else "placed by its box"
    )


def _body(client: Client, url: str) -> bytes:
    parts, size = [], 0
    with client.open(url) as answer:
        for part in answer.chunks():
            size += len(part)
            if size > _MOST_BYTES:
                raise SourceError(f"The quicklook {url} has more than {_MOST_BYTES >> 20} MB.", "It is left out.")
            parts.append(part)
    return b"".join(parts)


def _decoded(data: bytes, label: str) -> Pixels:
    """Pixels of a quicklook, shape (rows, cols, 4)."""
    try:
        return np.ascontiguousarray(np.moveaxis(colours_of(data), 0, 2))
    except DataError as error:
        raise SourceError(f"The quicklook of {label} is no picture: {error.what}", "It is left out.") from error


def _remote(scene: Scene, file: BandFile, client: Client, cost: Cost) -> RemoteFile:
    """A file of a scene where it lies."""
    return RemoteFile(file.href, client, cost, renew=lambda: renewed(scene.address, file.name, client, scene.form))


def preview(scene: Scene, bands: Sequence[str], area: Shape, client: Client, cost: Cost) -> Picture:
    """A few hundred pixels of some bands over the area, stretched between percentiles, nothing outside it.

    Raises
    ------
    SourceError
        A band was not published with this scene, or cannot be read.
    """
    missing = [name for name in bands if name not in scene.bands]
    if missing:
        raise SourceError(f"{scene.id} was published without {', '.join(missing)}.", "Choose other bands.")
    files = [scene.bands[name] for name in bands]
    there = {file.href: _remote(scene, file, client, cost) for file in files}
    sources = [_level(band_in(there[file.href], file), area) for file in files]
    first = sources[0].grid
    _, flat = in_same_turn(sources[0], area)
    pixel = max(min(source.grid.pixel_x for source in sources), max(_sides(flat)) / _PREVIEW_PX)
    grid = Grid.snapped(bounds_of(flat), first.crs, pixel)
    inside = PolygonMask(flat, grid).read(grid.window)
    layers = [resampled_to(source, grid).read(grid.window)[0] for source in sources]
    seen = inside.copy()
    for layer, source in zip(layers, sources, strict=True):
        seen &= valid_mask(layer, source.nodata)
    shown = [_stretched(layer, seen) for layer in layers]
    colours = shown if len(shown) == 3 else shown[:1] * 3
    return Picture(np.dstack([*colours, seen.astype(np.uint8) * 255]), grid.crs, grid.bounds)


def _sides(flat: Shape) -> tuple[float, float]:
    box = bounds_of(flat)
    return box.width, box.height


def _level(source: OneBand, area: Shape) -> AtLevel:
    """The coarsest overview that still has enough pixels over the area."""
    longest = max(_sides(project(area, source.grid.crs)))
    return AtLevel(source, fitting_level(source.levels, longest / (_PREVIEW_PX / 2)))


def _stretched(layer: Pixels, seen: Pixels) -> Pixels:
    values = layer[seen]
    if not values.size:
        return np.zeros(layer.shape, np.uint8)
    low, high = np.percentile(values, _PERCENTILES)
    return np.clip((layer.astype(np.float32) - low) / max(1e-6, high - low) * 255, 0, 255).astype(np.uint8)

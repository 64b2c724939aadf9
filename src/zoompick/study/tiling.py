"""Picture tiles of a service: its layers and levels, plan, get, join."""

from __future__ import annotations

from pathlib import Path

from zoompick.errors import UsageError
from zoompick.events import Report, ignore
from zoompick.geo.shapes import Shape
from zoompick.raster.grid import Grid
from zoompick.raster.write import WriteOptions
from zoompick.scenes.session import session
from zoompick.scenes.source import Source
from zoompick.scenes.tileservice import TileLayer
from zoompick.tiles import tiles
from zoompick.tiles.getting import TileOutcome
from zoompick.tiles.tiles import TileOptions
from zoompick.tiles.tilestore import TileStore


def open_tiles(source: Source, layer: str = "", report: Report = ignore, grid: str = "") -> TileLayer:
    """A layer of a service of picture tiles, its only one by default; on web mercator's grid, where it has that."""
    return tiles.open_layer(source, layer, session(report, [source]), grid)


def tile_levels(layer: TileLayer, ground: Shape) -> list[tuple[str, float, int]]:
    """Levels of a layer: name, side of a pixel on the ground in metres, tiles over a polygon in lon/lat."""
    return tiles.levels(layer, ground)


def plan_tiles(
    layer: TileLayer, ground: Shape, wish: TileOptions, store: Path | None = None, report: Report = ignore
) -> tiles.Prepared:
    """What a level of picture tiles takes: tiles to fetch and here, bytes, time.

    Parameters
    ----------
    ground : shapely polygon
        In longitude and latitude, as ``area.polygon``.
    store : Path, optional
        Where tiles are kept; what is there needs not be fetched.

    Raises
    ------
    UsageError, NothingFoundError, SourceError
        See :func:`zoompick.tiles.tiles.prepare`.
    """
    client = session(report).acting(layer.authority)
    if store is None or not store.exists():
        return tiles.prepare(layer, wish, ground, None, client)
    with TileStore(store) as held:
        return tiles.prepare(layer, wish, ground, held, client)


def get_tiles(
    source: Source, layer: TileLayer, ground: Shape, wish: TileOptions, store: Path, report: Report = ignore
) -> tuple[tiles.Prepared, TileOutcome]:
    """Fetch the tiles over an area into a store, which works offline; what is there is not fetched again.

    Returns
    -------
    (Prepared, TileOutcome)
        What was decided, and what came of it; tiles that could not be fetched are told, not raised.
    """
    client = session(report).acting(layer.authority)
    with TileStore(store) as held:
        prepared = tiles.prepare(layer, wish, ground, held, client, sample=False)
        return prepared, tiles.get(prepared, ground, held, client, source, report)


def join_tiles(
    store: Path,
    ground: Shape,
    out: Path,
    zoom: str = "",
    pixel_max_m: float | None = None,
    compression: str = "deflate",
    onto: Grid | None = None,
    overwrite: bool = False,
    report: Report = ignore,
) -> tiles.Joined:
    """Join stored tiles over an area into one georeferenced picture; see :func:`zoompick.tiles.tiles.join`.

    Parameters
    ----------
    zoom : str
        Level; the one that was fetched last by default.
    pixel_max_m : float, optional
        In place of a level: pixels on the ground no larger than this.
    """
    if zoom and pixel_max_m is not None:
        raise UsageError("A zoom level and a pixel size were told.", "Give `zoom` 14, or `pixel-max` 5.")
    with TileStore(store, must_exist=True) as held:
        if pixel_max_m is not None:
            zoom = tiles.stored_level(held, pixel_max_m, ground.centroid.y)
        wish = WriteOptions(compression=compression, is_rgb=True, credit=held.credit)
        return tiles.join(held, zoom, ground, out, wish, onto, report, overwrite)

"""The world seen on any grid: what the instruments beside Lapwing share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import shapely
import shapely.affinity

from zoompick.geo.crs import LONLAT, Crs, transform
from zoompick.geo.shapes import project
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Band, Pixels
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.standin import land, lapwing, optics, weather, world
from zoompick.standin.covers import BANDS
from zoompick.standin.noise import Field, fractal
from zoompick.standin.passes import Pass, world_positions

UTM = Crs(32729)
_STRIP, _LOOK_ROWS = 512, 64
"""Side of a block of what is too large to be made at once; rows that are looked at together: each takes some
arrays of its own for every band and material."""
_GRAIN_PX, _GRAIN_M = 512, 0.4
_JITTER_PX = 0.30
_CLOUD_M = 256.0


@dataclass(frozen=True)
class Shot:
    """One scene of a simple instrument.

    Attributes
    ----------
    footprint : polygon
        Longitude/latitude.
    seen : Pass
        When, how cloudy, from how far off nadir.
    facts : dict
        What only its own instrument asks.
    """

    id: str
    footprint: Any = field(compare=False)
    seen: Pass
    last: datetime | None = None
    facts: dict[str, Any] = field(default_factory=dict, compare=False)

    @property
    def when(self) -> datetime:
        """Begin of the acquisition."""
        return self.seen.when

    @property
    def until(self) -> datetime:
        """End of the acquisition."""
        return self.last or self.seen.when


@dataclass(frozen=True)
class Picture:
    """Reflectance, shape (bands, rows, cols), in the order of ``names``; class codes, shape (rows, cols)."""

    reflectance: Field
    classes: Any
    names: Sequence[str] = BANDS

    def band(self, name: str) -> Field:
        """One band."""
        return np.asarray(self.reflectance[self.names.index(name)])


def grid_around(polygon: Any, pixel_m: float, crs: Crs = UTM) -> Grid:
    """Smallest grid of whole pixels around a polygon in longitude/latitude."""
    west, south, east, north = project(polygon, crs).bounds
    left, top = np.floor(west / pixel_m) * pixel_m, np.ceil(north / pixel_m) * pixel_m
    return Grid(crs, pixel_m, pixel_m, float(left), float(top),
                int(np.ceil((east - left) / pixel_m)), int(np.ceil((top - south) / pixel_m)))  # fmt: skip


def see(seen: Pass, grid: Grid, cache: Path, names: Sequence[str] = BANDS) -> Picture:
    """Bands of the world on a grid, strip by strip; finer than 8 m it gains grain and softer edges."""
    layers = world.layers(cache)
    cols, rows = _positions(grid)
    chosen = [BANDS.index(name) for name in names]
    reflectance = np.empty((len(chosen), grid.height, grid.width), np.float32)
    classes = np.empty((grid.height, grid.width), np.uint8)
    for top in range(0, grid.height, _LOOK_ROWS):
        rows_here = slice(top, top + _LOOK_ROWS)
        part = _strip(seen, layers, (cols[rows_here], rows[rows_here]), grid.pixel_x)
        reflectance[:, rows_here], classes[rows_here] = part.reflectance[chosen], part.classes
    return Picture(reflectance, classes, tuple(names))


def _positions(grid: Grid) -> tuple[Any, Any]:
    return world_positions(grid, 1 if grid.width < 64 or grid.height < 64 else 32)


def classes_on(seen: Pass, grid: Grid, cache: Path) -> Any:
    """Class codes of the world on a grid of 8 m or more, shape (rows, cols), without a look at any band."""
    layers = world.layers(cache)
    cols, rows = _positions(grid)
    classes = np.empty((grid.height, grid.width), np.uint8)
    for top in range(0, grid.height, _LOOK_ROWS):
        here = slice(top, top + _LOOK_ROWS)
        ground, sky = (
            layers.at(cols[here], rows[here], ("cover", "wet")),
            weather.sky_at(seen, cols[here], rows[here]),
        )
        classes[here] = lapwing.classes_of(optics.seen_in(ground, sky, seen.when))
    return classes


def _strip(seen: Pass, layers: world.Layers, place: tuple[Any, Any], pixel_m: float) -> Picture:
    cols, rows = place
    if pixel_m < world.PIXEL_M:
        y = np.floor(rows * world.PIXEL_M / _GRAIN_M).astype(int) % _GRAIN_PX
        x = np.floor(cols * world.PIXEL_M / _GRAIN_M).astype(int) % _GRAIN_PX
        edges, grain = _fine()
        cols, rows = cols + _JITTER_PX * edges[y, x], rows + _JITTER_PX * edges[x, y]
        ground = layers.at(cols, rows)
        ground = replace(ground, texture=0.6 * ground.texture + 1.1 * grain[y, x])
    else:
        ground = layers.at(cols, rows)
    view = optics.look(seen, ground, weather.sky_at(seen, cols, rows))
    return Picture(view.reflectance, lapwing.classes_of(view.seen))


@dataclass(frozen=True)
class Seen:
    """Bands of a pass as a Raster of its own, looked at window by window: too large to be made at once.

    Attributes
    ----------
    polygon : polygon
        Longitude/latitude; outside it is no-data.
    """

    shot: Pass
    polygon: Any
    grid: Grid
    cache: Path
    names: tuple[str, ...]
    nodata: float = 0
    scale: float = 0.0001

    @property
    def bands(self) -> tuple[Band, ...]:
        """By name, scaled."""
        return tuple(Band(name, self.scale) for name in self.names)

    @property
    def dtype(self) -> np.dtype[Any]:
        """16 bits."""
        return np.dtype(np.uint16)

    @property
    def levels(self) -> tuple[Grid, ...]:
        """Full resolution only."""
        return (self.grid,)

    @property
    def block(self) -> tuple[int, int]:
        """One look."""
        return _STRIP, _STRIP

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Look at a window."""
        place = self.grid.part(window)
        picture, where = see(self.shot, place, self.cache), inside(self.polygon, place)
        chosen = self.names if bands is None else [self.names[index] for index in bands]
        stored = [np.clip(np.rint(picture.band(name) / self.scale), 1, 65535) * where for name in chosen]
        return np.stack(stored).astype(np.uint16)


@cache
def _fine() -> tuple[Field, Field]:
    """What 8 m hide: how edges wave, and the grain of leaves and clods; both repeat after 205 m."""
    shape = (_GRAIN_PX, _GRAIN_PX)
    return fractal(shape, 3.4, 9091, _GRAIN_M, longest=40), fractal(shape, 1.5, 9092, _GRAIN_M, longest=9)


def inside(polygon: Any, grid: Grid) -> Any:
    """True where a grid's pixel centres lie in a polygon given in longitude/latitude; shape (rows, cols)."""
    xs = grid.west + (np.arange(grid.width) + 0.5) * grid.pixel_x
    ys = grid.north - (np.arange(grid.height) + 0.5) * grid.pixel_y
    flat = project(polygon, grid.crs)
    shapely.prepare(flat)
    return shapely.contains_xy(flat, *np.meshgrid(xs, ys))


def clouds_over(polygon: Any, seen: Pass) -> tuple[float, float | None]:
    """Percent of cloud over a polygon, and over its land (None where it has none), from points 256 m apart."""
    grid = grid_around(polygon, _CLOUD_M)
    cols, rows = world_positions(grid, 1)
    where = inside(polygon, grid)
    dry = where & (land.share_at(cols, rows) > 0.5)
    over_land = weather.share_at(seen, cols, rows, dry) if dry.any() else None
    return weather.share_at(seen, cols, rows, where), over_land


def land_percent(polygon: Any) -> float:
    """Percent of land in a polygon."""
    grid = grid_around(polygon, world.PIXEL_M * land.STEP)
    return float(100 * land.share_at(*world_positions(grid, 1))[inside(polygon, grid)].mean())


def outline() -> Any:
    """The world's outline in longitude/latitude."""
    box = world.grid().bounds
    return project(shapely.segmentize(shapely.box(box.west, box.south, box.east, box.north), 2000.0), LONLAT, UTM)


def rectangle(lon: float, lat: float, width_m: float, height_m: float, lean_deg: float) -> Any:
    """A turned rectangle around a place, in longitude/latitude."""
    x, y = (float(value) for value in transform(lon, lat, LONLAT, UTM))
    box = shapely.affinity.rotate(
        shapely.box(x - width_m / 2, y - height_m / 2, x + width_m / 2, y + height_m / 2), lean_deg
    )
    return project(shapely.segmentize(box, 2000.0), LONLAT, UTM)


def write_tiff(pixels: Pixels, grid: Grid, names: Sequence[str], path: Path, is_class: bool = False) -> None:
    """Bands, shape (bands, rows, cols), as a Cloud Optimized GeoTIFF with 0 as no-data."""
    raster = lapwing.Plain(pixels, grid, tuple(Band(name) for name in names), 0)
    write_geotiff(raster, path, WriteOptions(is_class=is_class, workers=1, side=256))


def write_quicklook(picture: Picture, seen: Any, path: Path) -> None:
    """A small picture in natural colour, transparent where ``seen`` is False."""
    colours = [np.clip(picture.band(name) / 0.28, 0, 1) ** 0.6 * 255 for name in ("red", "green", "blue")]
    path.write_bytes(imagecodecs.png_encode(np.dstack([*colours, seen * 255.0]).astype(np.uint8)))


def placed(grid: Grid) -> dict[str, Any]:
    """Shape and transform of a grid, as the projection extension writes them."""
    return {
        "proj:shape": [grid.height, grid.width],
        "proj:transform": [grid.pixel_x, 0, grid.west, 0, -grid.pixel_y, grid.north],
    }

"""What several tests share: small rasters, an area, independent computations."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from zoompick.geo.crs import Crs
from zoompick.net.client import Client
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Band, Pixels

FEN = {
    "type": "Polygon",
    "coordinates": [[[-12.08, -38.625], [-12.04, -38.63], [-12.045, -38.605], [-12.07, -38.598], [-12.08, -38.625]]],
}
UTM = Crs(32728)


def grid(width: int, height: int, pixel: float = 8.0, west: float = 752000.0, north: float = 5720000.0) -> Grid:
    """A grid in UTM zone 28S."""
    return Grid(UTM, pixel, pixel, west, north, width, height)


@dataclass(frozen=True)
class Memory:
    """An array as a Raster."""

    pixels: Pixels
    grid: Grid
    nodata: float | None = None
    bands: tuple[Band, ...] = ()
    block: tuple[int, int] = (64, 64)

    def __post_init__(self) -> None:
        if not self.bands:
            object.__setattr__(self, "bands", tuple(Band(f"b{n}") for n in range(len(self.pixels))))

    @property
    def dtype(self) -> np.dtype[Any]:
        return self.pixels.dtype

    @property
    def levels(self) -> tuple[Grid, ...]:
        return (self.grid,)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        chosen = self.pixels if bands is None else self.pixels[list(bands)]
        out = np.full((len(chosen), window.height, window.width), self.nodata or 0, self.dtype)
        inside = window.intersect(self.grid.window)
        rows, cols = inside.slices_in(self.grid.window)
        to_rows, to_cols = inside.slices_in(window)
        out[:, to_rows, to_cols] = chosen[:, rows, cols]
        return out


def corner_sum(raster: Any) -> int:
    """Sum of the first 64 x 64 pixels; it stands here so that other processes find it."""
    return int(raster.read(Window(0, 0, 64, 64)).astype("int64").sum())


def noise(shape: tuple[int, ...], dtype: str = "uint16", low: float = 1, high: float = 4000, seed: int = 7) -> Pixels:
    """Reproducible pixels."""
    rng = np.random.default_rng(seed)
    if np.dtype(dtype).kind == "f":
        return rng.uniform(low, high, shape).astype(dtype)
    return rng.integers(int(low), int(high), shape).astype(dtype)


def geo_tags(place: Grid, point: bool = False, transformation: bool = False) -> list[tuple[Any, ...]]:
    """GeoTIFF tags written by hand for tifffile, after OGC 19-008r4."""
    directory = (1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 2 if point else 1, 3072, 0, 1, place.crs.epsg)
    x, y = place.west, place.north
    if point:
        x, y = x + place.pixel_x / 2, y - place.pixel_y / 2
    tags: list[tuple[Any, ...]] = [(34735, "H", len(directory), directory, True)]
    if transformation:
        matrix = (place.pixel_x, 0.0, 0.0, x, 0.0, -place.pixel_y, 0.0, y, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0)
        return [*tags, (34264, "d", 16, matrix, True)]
    tags.append((33550, "d", 3, (place.pixel_x, place.pixel_y, 0.0), True))
    tags.append((33922, "d", 6, (0.0, 0.0, 0.0, x, y, 0.0), True))
    return tags


def foreign_tiff(path: Path, pixels: Pixels, place: Grid, nodata: str = "", **options: Any) -> Path:
    """A GeoTIFF written by another hand than ours; ``pixels`` are (bands, rows, cols)."""
    interleaved = options.pop("interleaved", False)
    data = np.moveaxis(pixels, 0, 2) if interleaved else pixels
    if len(pixels) == 1:
        data = pixels[0]
    else:
        options["planarconfig"] = "contig" if interleaved else "separate"
    tags = options.pop("tags", None) or geo_tags(place)
    if nodata:
        tags = [*tags, (42113, "s", len(nodata) + 1, nodata, True)]
    tifffile.imwrite(path, data, photometric="minisblack", extratags=tags, metadata=None, **options)
    return path


def item_of(archive: str, day: str = "2025-12-15") -> dict[str, Any]:
    """The item of a scene over the fen."""
    client = Client()
    body = {
        "collections": ["lapwing-l2"],
        "datetime": f"{day}T00:00:00Z/{day}T23:59:59Z",
        "intersects": FEN,
        "limit": 1,
    }
    return client.json(f"{archive}/search", body)["features"][0]

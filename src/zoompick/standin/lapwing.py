"""The Lapwing instrument: from a view of the ground to the files of a scene."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import scipy.ndimage

from zoompick.raster import resample
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Band, Pixels
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.standin import optics, weather, world
from zoompick.standin.covers import BANDS
from zoompick.standin.passes import SCALE, Scene, world_positions

PIXEL_M = {
    "coastal": 48,
    "blue": 8, "green": 8, "red": 8, "rededge": 16, "nir": 8, "swir16": 16, "swir22": 16, "classes": 16,
}  # fmt: skip
FILL, LAND, WATER, SHADOW, THIN, THICK, SNOW = range(7)
CLASSES = {
    FILL: "fill", LAND: "clear land", WATER: "clear water", SHADOW: "cloud shadow", THIN: "thin cloud",
    THICK: "thick cloud", SNOW: "snow",
}  # fmt: skip
_COMMON = 48
_SHIFT_PX = 1.5
QUICKLOOK_FACTOR = 4
_CUT_SHARE = 0.62


@dataclass(frozen=True)
class Plain:
    """An array as a Raster, for the writer."""

    pixels: Pixels
    grid: Grid
    bands: tuple[Band, ...]
    nodata: float | None

    @property
    def dtype(self) -> np.dtype[Any]:
        return self.pixels.dtype

    @property
    def levels(self) -> tuple[Grid, ...]:
        return (self.grid,)

    @property
    def block(self) -> tuple[int, int]:
        return 512, 512

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        rows, cols = window.slices_in(self.grid.window)
        chosen = self.pixels if bands is None else self.pixels[list(bands)]
        return chosen[:, rows, cols]


def keys(scene: Scene) -> tuple[str, ...]:
    """Bands that were published, the class layer last."""
    return tuple(name for name in (*BANDS, "classes") if name != scene.fault.missing)


def band_grid(scene: Scene, key: str) -> Grid:
    """Grid of one band: the tile's corner, enough pixels to cover the tile (48 m pixels go beyond it)."""
    tile, pixel = scene.tile.grid, float(PIXEL_M[key])
    count = math.ceil(tile.width * tile.pixel_x / pixel)
    return Grid(tile.crs, pixel, pixel, tile.west, tile.north, count, count)


def make(scene: Scene, folder: Path, cache: Path) -> None:
    """Write all files of a scene into ``folder``."""
    sampled, classes, inside = _sampled(scene, cache)
    rng = np.random.default_rng(scene.seed)
    stored = {}
    for number, key in enumerate(BANDS):
        pixels = _detector(sampled[number], PIXEL_M[key], rng, number, scene.offset)
        grid = band_grid(scene, key)
        seen = _reduced(inside.astype(np.float32), PIXEL_M[key]) > 0.5
        pixels = np.where(seen, pixels, 0)[: grid.height, : grid.width]
        if key == scene.fault.shifted:
            pixels = scipy.ndimage.shift(pixels, _SHIFT_PX, order=1, mode="nearest")
        stored[key] = pixels
        if key != scene.fault.missing:
            _write(pixels, grid, key, folder / f"{scene.id}-{key}.tif")
    _write_classes(scene, classes, folder)
    _quicklook(stored, scene, folder / f"{scene.id}-quicklook.png")
    if scene.fault.cut:
        victim = folder / f"{scene.id}-{scene.fault.cut}.tif"
        data = victim.read_bytes()
        victim.write_bytes(data[: int(len(data) * _CUT_SHARE)])


def _sampled(scene: Scene, cache: Path) -> tuple[Any, Any, Any]:
    """Reflectance, classes and swath mask on an 8 m grid that holds a whole number of 48 m pixels."""
    tile = scene.tile.grid
    side = math.ceil(tile.width * 8 / _COMMON) * _COMMON // 8
    grid = Grid(tile.crs, 8.0, 8.0, tile.west, tile.north, side, side)
    cols, rows = world_positions(grid)
    window = _around(cols, rows)
    view = optics.look(scene.seen, world.layers(cache).part(window), weather.sky(scene.seen, window))
    place = [rows - window.row, cols - window.col]
    exact = bool(
        np.abs(place[0] - np.rint(place[0])).max() < 1e-3 and np.abs(place[1] - np.rint(place[1])).max() < 1e-3
    )
    whole = np.rint(place[0]).astype(int), np.rint(place[1]).astype(int)
    sampled = []
    for band, key in enumerate(BANDS):
        sharp = optics.blurred(view.reflectance[band], PIXEL_M[key])
        sampled.append(
            sharp[whole] if exact else scipy.ndimage.map_coordinates(sharp, place, order=1, mode="nearest")
        )
    classes = np.full(view.water.shape, LAND, np.uint8)
    for code, where in ((WATER, view.water), (SHADOW, view.shaded), (THIN, view.thin), (THICK, view.thick)):
        classes[where] = code
    inside = weather.in_swath(scene.seen, cols, rows)
    return sampled, np.where(inside, classes[whole], FILL), inside


def _around(cols: Any, rows: Any) -> Window:
    margin = 6
    col, row = int(cols.min()) - margin, int(rows.min()) - margin
    width, height = int(cols.max()) + margin + 2 - col, int(rows.max()) + margin + 2 - row
    return Window(col, row, width, height)


def _reduced(field: Any, pixel_m: int) -> Any:
    factor = pixel_m // 8
    if factor == 1:
        return field
    rows, cols = field.shape
    return field.reshape(rows // factor, factor, cols // factor, factor).mean(axis=(1, 3))


def _detector(field: Any, pixel_m: int, rng: np.random.Generator, band: int, offset: float) -> Any:
    """Average over the pixel, add noise, quantise: reflectance = stored * scale + offset; 0 is no data."""
    pixels = _reduced(field, pixel_m)
    pixels = pixels + optics.noise(rng, pixels.shape, band)
    return np.clip(np.rint((pixels - offset) / SCALE), 1, 65535).astype(np.uint16)


def _write(pixels: Any, grid: Grid, name: str, path: Path, is_class: bool = False) -> None:
    raster = Plain(pixels[np.newaxis], grid, (Band(name),), 0)
    write_geotiff(raster, path, WriteOptions(is_class=is_class, workers=1, side=256))


def _write_classes(scene: Scene, classes: Any, folder: Path) -> None:
    axis = resample.Axis(0, 2, classes.shape[0] // 2)
    small = resample.majority(classes[np.newaxis], axis, axis, FILL)[0]
    grid = band_grid(scene, "classes")
    _write(small[: grid.height, : grid.width], grid, "classes", folder / f"{scene.id}-classes.tif", is_class=True)


def _quicklook(stored: dict[str, Any], scene: Scene, path: Path) -> None:
    """A small picture in natural colour, transparent where there is no data."""
    layers = []
    for key in ("red", "green", "blue"):
        reflectance = stored[key].astype(np.float32) * SCALE + scene.offset
        shown = np.clip(reflectance / 0.28, 0, 1) ** 0.6 * 255
        layers.append(_reduced(shown, 8 * QUICKLOOK_FACTOR))
    layers.append(_reduced((stored["red"] > 0) * np.float32(255), 8 * QUICKLOOK_FACTOR))
    path.write_bytes(imagecodecs.png_encode(np.ascontiguousarray(np.dstack(layers).astype(np.uint8))))

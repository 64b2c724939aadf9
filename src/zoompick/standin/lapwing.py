"""The Lapwing instrument: from a view of the ground to the files of a scene."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
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
from zoompick.standin.noise import Between
from zoompick.standin.passes import SCALE, Pass, Scene, Tile, world_positions

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
QUICKLOOK_FACTOR, _LOOK_STEP = 4, 2
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
    """Write bands and class layer of a scene into ``folder``."""
    for key in keys(scene)[:-1]:
        make_band(scene, key, folder, cache)
    make_classes(scene, folder, cache)


def make_band(scene: Scene, key: str, folder: Path, cache: Path) -> None:
    """Write one band of a scene into ``folder``; what all bands share is kept for the next."""
    seen, number, pixel_m = _seen(scene.seen, scene.tile, cache), BANDS.index(key), PIXEL_M[key]
    rng = np.random.default_rng((scene.seed, number))
    pixels = _detector(seen.sampled(number, pixel_m), pixel_m, rng, number, scene.offset)
    grid = band_grid(scene, key)
    pixels = np.where(seen.inside(pixel_m), pixels, 0)[: grid.height, : grid.width]
    if key == scene.fault.shifted:
        pixels = scipy.ndimage.shift(pixels, _SHIFT_PX, order=1, mode="nearest")
    path = folder / f"{scene.id}-{key}.tif"
    _write(pixels, grid, key, path)
    if key == scene.fault.cut:
        data = path.read_bytes()
        path.write_bytes(data[: int(len(data) * _CUT_SHARE)])


@dataclass(frozen=True)
class _Place:
    """Where the 8 m pixels of a scene's tile lie, enough of them for a whole number of 48 m pixels.

    Attributes
    ----------
    window : Window
        Of the world around them.
    rows, cols : float32, shape (rows, cols)
        Positions in the window.
    inside : bool, shape (rows, cols)
        In the swath.
    """

    window: Window
    rows: Any
    cols: Any
    inside: Any

    @classmethod
    def of(cls, seen: Pass, tile: Tile) -> _Place:
        """Of what a pass sees of a tile."""
        grid = tile.grid
        side = math.ceil(grid.width * 8 / _COMMON) * _COMMON // 8
        cols, rows = world_positions(Grid(grid.crs, 8.0, 8.0, grid.west, grid.north, side, side))
        window = _around(cols, rows)
        return cls(window, rows - window.row, cols - window.col, weather.in_swath(seen, cols, rows))

    def nearest(self, step: int = 1) -> tuple[Any, Any]:
        """Pixels of the window, of every ``step``-th position."""
        return tuple(np.rint(part[::step, ::step]).astype(int) for part in (self.rows, self.cols))

    @property
    def is_exact(self) -> bool:
        """True where positions lie on the pixels of the world."""
        return all(bool(np.abs(part - np.rint(part)).max() < 1e-3) for part in (self.rows, self.cols))


@dataclass(frozen=True)
class _Seen:
    """What a pass sees of a tile and around it, before pixels average it: shared by all bands."""

    place: _Place
    reflectance: Any

    def sampled(self, band: int, pixel_m: float) -> Any:
        """Reflectance of a band on the tile's 8 m pixels."""
        sharp = optics.blurred(self.reflectance[band], pixel_m)
        return sharp[self._nearest] if self._nearest else self._between.blend(sharp)

    def inside(self, pixel_m: int) -> Any:
        """True where pixels of a size lie in the swath for the most part."""
        if self.place.inside.all():
            return True
        return _reduced(self.place.inside.astype(np.float32), pixel_m) > 0.5

    @cached_property
    def _nearest(self) -> Any:
        """Pixels of the world, where positions lie on them; None elsewhere."""
        return self.place.nearest() if self.place.is_exact else None

    @cached_property
    def _between(self) -> Between:
        return Between.of(self.place.rows, self.place.cols, self.reflectance.shape[1:])


@lru_cache(maxsize=3)
def _seen(seen: Pass, tile: Tile, cache: Path) -> _Seen:
    place = _Place.of(seen, tile)
    ground = world.layers(cache).part(place.window)
    return _Seen(place, optics.look(seen, ground, weather.sky(seen, place.window)).reflectance)


def make_classes(scene: Scene, folder: Path, cache: Path) -> None:
    """Write the class layer of a scene, without a look at its bands."""
    place = _Place.of(scene.seen, scene.tile)
    ground = world.layers(cache).part(place.window)
    classes = classes_of(optics.seen_in(ground, weather.sky(scene.seen, place.window), scene.when))
    codes = np.where(place.inside, classes[place.nearest()], FILL)
    axis = resample.Axis(0, 2, codes.shape[0] // 2)
    small = resample.majority(codes[np.newaxis], axis, axis, FILL)[0]
    grid = band_grid(scene, "classes")
    _write(small[: grid.height, : grid.width], grid, "classes", folder / f"{scene.id}-classes.tif", is_class=True)


def classes_of(seen: optics.Seen) -> Any:
    """Codes of what covers the ground."""
    classes = np.full(seen.water.shape, LAND, np.uint8)
    for code, where in ((WATER, seen.water), (SHADOW, seen.shaded), (THIN, seen.thin), (THICK, seen.thick)):
        classes[where] = code
    return classes


def make_quicklook(scene: Scene, folder: Path, cache: Path) -> None:
    """Write a small picture in natural colour, transparent where there is no data: a look at every second pixel."""
    place = _Place.of(scene.seen, scene.tile)
    rows, cols = place.nearest(_LOOK_STEP)
    ground = world.layers(cache).part(place.window).picked(rows, cols)
    sky = weather.sky_at(scene.seen, cols + place.window.col, rows + place.window.row)
    view = optics.look(scene.seen, ground, sky)
    factor = QUICKLOOK_FACTOR // _LOOK_STEP
    side = scene.tile.grid.width // QUICKLOOK_FACTOR * factor
    layers = []
    for key in ("red", "green", "blue"):
        stored = np.rint((view.reflectance[BANDS.index(key)] - scene.offset) / SCALE) * SCALE + scene.offset
        layers.append(np.clip(stored / 0.28, 0, 1) ** 0.6 * 255)
    layers.append(place.inside[::_LOOK_STEP, ::_LOOK_STEP] * np.float32(255))
    small = [_reduced(layer[:side, :side], 8 * factor) for layer in layers]
    image = np.ascontiguousarray(np.dstack(small).astype(np.uint8))
    (folder / f"{scene.id}-quicklook.png").write_bytes(imagecodecs.png_encode(image))


def _around(cols: Any, rows: Any) -> Window:
    margin = 6
    col, row = int(cols.min()) - margin, int(rows.min()) - margin
    width, height = int(cols.max()) + margin + 2 - col, int(rows.max()) + margin + 2 - row
    return Window(col, row, width, height)


def _reduced(field: Any, pixel_m: int) -> Any:
    factor = pixel_m // 8
    if factor == 1:
        return field
    parts = [field[row::factor, col::factor] for row in range(factor) for col in range(factor)]
    return sum(parts[1:], parts[0]) / np.float32(factor * factor)


def _detector(field: Any, pixel_m: int, rng: np.random.Generator, band: int, offset: float) -> Any:
    """Average over the pixel, add noise, quantise: reflectance = stored * scale + offset; 0 is no data."""
    pixels = _reduced(field, pixel_m)
    pixels = pixels + optics.noise(rng, pixels.shape, band)
    return np.clip(np.rint((pixels - offset) / SCALE), 1, 65535).astype(np.uint16)


def _write(pixels: Any, grid: Grid, name: str, path: Path, is_class: bool = False) -> None:
    raster = Plain(pixels[np.newaxis], grid, (Band(name),), 0)
    write_geotiff(raster, path, WriteOptions(is_class=is_class, workers=1, side=256))

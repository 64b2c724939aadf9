"""Clouds of an overpass: where they are, how thick, and where their shadows fall."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

import numpy as np
import scipy.ndimage

from zoompick.raster.grid import Window
from zoompick.standin import world
from zoompick.standin.noise import Field, enlarged, fractal, smoothstep
from zoompick.standin.passes import Pass, Tile, world_positions

_COARSE = 8
_HEIGHT_M = {"cumulus": 900.0, "bank": 1700.0}
_EDGE = {"cumulus": 0.45, "bank": 0.8}
THIN, THICK = 0.15, 0.6
"""Opacity from which a pixel counts as thin or as thick cloud."""


@lru_cache(maxsize=64)
def _density(seen: Pass) -> Field:
    """How dense the air is on a coarse grid of the world, lifted so that the wished share is cloud."""
    shape = world.HEIGHT // _COARSE, world.WIDTH // _COARSE
    pixel = world.PIXEL_M * _COARSE
    if seen.cloud_kind == "cumulus":
        field = 0.8 * fractal(shape, 2.8, seen.seed, pixel, longest=2600) + 0.75 * fractal(
            shape, 3.4, seen.seed + 1, pixel
        )
    else:
        field = fractal(shape, 3.6, seen.seed, pixel) + 0.22 * fractal(shape, 2.6, seen.seed + 1, pixel, longest=1500)
    wanted = seen.cloud_percent / 100
    if wanted <= 0:
        return field - field.max() - 1
    if wanted >= 1:
        return field - field.min() + 1
    edge = _EDGE[seen.cloud_kind]
    return np.asarray(field - np.quantile(field, 1 - wanted) + THIN_AT * edge, np.float32)


THIN_AT = 0.2463
"""Where smoothstep reaches the opacity THIN: 3t^2 - 2t^3 = 0.15."""


def opacity(seen: Pass, window: Window) -> Field:
    """Opacity of the clouds above a window of the world, 0 to 1, shape (rows, cols)."""
    field = _fine(seen, window)
    return np.asarray(smoothstep(field, 0, _EDGE[seen.cloud_kind]), np.float32)


def shadow(seen: Pass, window: Window) -> Field:
    """How much sunlight the clouds take from a window of the world, 0 to 1."""
    sun = seen.sun
    reach = _HEIGHT_M[seen.cloud_kind] / math.tan(math.radians(sun.elevation_deg)) / world.PIXEL_M
    # The cloud that shades a pixel stands towards the sun.
    cols = round(reach * math.sin(math.radians(sun.azimuth_deg)))
    rows = round(-reach * math.cos(math.radians(sun.azimuth_deg)))
    moved = Window(window.col + cols, window.row + rows, window.width, window.height)
    return np.asarray(smoothstep(_fine(seen, moved), 0, 0.7 * _EDGE[seen.cloud_kind]), np.float32)


def _fine(seen: Pass, window: Window) -> Field:
    """Density at full resolution, frayed at the edges; beyond the world's edge it goes on."""
    coarse = _density(seen)
    rows = (np.arange(window.height) + window.row + 0.5) / _COARSE - 0.5
    cols = (np.arange(window.width) + window.col + 0.5) / _COARSE - 0.5
    base = _bilinear(coarse, rows, cols)
    detail = _frays(seen.cloud_kind)
    y = (np.arange(window.height) + window.row + 37 * seen.number) % detail.shape[0]
    x = (np.arange(window.width) + window.col + 91 * seen.number) % detail.shape[1]
    base += detail[np.ix_(y, x)] * np.float32(0.09 if seen.cloud_kind == "cumulus" else 0.05)
    return base


def _bilinear(field: Field, rows: Any, cols: Any) -> Field:
    rows, cols = np.clip(rows, 0, field.shape[0] - 1), np.clip(cols, 0, field.shape[1] - 1)
    low, weight = rows.astype(int), (rows % 1).astype(np.float32)[:, None]
    high = np.minimum(low + 1, field.shape[0] - 1)
    down = field[low] * (1 - weight) + field[high] * weight
    low, weight = cols.astype(int), (cols % 1).astype(np.float32)[None, :]
    high = np.minimum(low + 1, field.shape[1] - 1)
    return np.asarray(down[:, low] * (1 - weight) + down[:, high] * weight, np.float32)


@lru_cache(maxsize=2)
def _frays(kind: str) -> Field:
    longest = 500 if kind == "cumulus" else 900
    return enlarged(fractal((512, 512), 2.2, 4711, world.PIXEL_M, longest=longest), 1)


@lru_cache(maxsize=1024)
def cloud_percent(seen: Pass, tile: Tile) -> float:
    """Cloud over the part of a tile that the pass sees, from every eighth pixel: quick, and within a point or two."""
    grid = tile.grid.reduced(_COARSE)
    cols, rows = world_positions(grid)
    density = scipy.ndimage.map_coordinates(
        _density(seen), [(rows + 0.5) / _COARSE - 0.5, (cols + 0.5) / _COARSE - 0.5], order=1, mode="nearest"
    )
    inside = in_swath(seen, cols, rows)
    cloudy = density[inside] >= THIN_AT * _EDGE[seen.cloud_kind]
    return float(100 * cloudy.mean()) if cloudy.size else 0.0


def in_swath(seen: Pass, cols: Any, rows: Any) -> Any:
    """True where a position in world pixels lies in the swath."""
    (west, north), (east, _), _, (low, south) = list(seen.swath().exterior.coords)[:4]
    grid = world.grid()
    x, y = grid.west + (cols + 0.5) * grid.pixel_x, grid.north - (rows + 0.5) * grid.pixel_y
    edge = low + (west - low) * (y - south) / (north - south)
    return (x >= edge) & (x <= edge + (east - west))

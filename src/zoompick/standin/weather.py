"""Clouds of an overpass: where they are, how thick, and where their shadows fall."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from zoompick.raster.grid import Window
from zoompick.standin import land, world
from zoompick.standin.noise import Between, Field, enlarged, fractal, smoothstep
from zoompick.standin.passes import Pass, Tile, world_positions

_COARSE = 8
_HEIGHT_M = {"cumulus": 900.0, "bank": 1700.0, "seafog": 300.0}
_EDGE = {"cumulus": 0.45, "bank": 0.8, "seafog": 0.8}
_FRAY = {"cumulus": 0.09, "bank": 0.05, "seafog": 0.05}
_FOG_OVER_SEA = 2.4
THIN, THICK = 0.15, 0.6
"""Opacity from which a pixel counts as thin or as thick cloud."""


@lru_cache(maxsize=256)
def _density(seen: Pass) -> Field:
    """How dense the air is on a coarse grid of the world, lifted so that the wished share is cloud."""
    shape = world.HEIGHT // _COARSE, world.WIDTH // _COARSE
    pixel = world.PIXEL_M * _COARSE
    if seen.cloud_kind == "cumulus":
        field = 0.8 * fractal(shape, 2.8, seen.seed, pixel, longest=2600) + 0.75 * fractal(
            shape, 3.4, seen.seed + 1, pixel
        )
    elif seen.cloud_kind == "seafog":
        field = fractal(shape, 3.4, seen.seed, pixel) + _FOG_OVER_SEA * (1 - land.share(shape))
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


@dataclass(frozen=True)
class Sky:
    """Clouds over a piece of the world, each an array (rows, cols).

    Attributes
    ----------
    opacity : float32
        0 to 1.
    shadow : float32
        How much sunlight the clouds take from the ground, 0 to 1.
    """

    opacity: Field
    shadow: Field


def sky(seen: Pass, window: Window) -> Sky:
    """Sky over a window of the world, pixel by pixel."""
    cols, rows = _towards_sun(seen)
    moved = window.moved(round(cols), round(rows))
    return _sky(seen, _fine(seen, window), _fine(seen, moved))


def sky_at(seen: Pass, cols: Any, rows: Any) -> Sky:
    """Sky over any positions, in pixels of the world; arrays of one shape (rows, cols)."""
    across, down = _towards_sun(seen)
    return _sky(seen, _fine_at(seen, cols, rows), _fine_at(seen, cols + across, rows + down))


def _sky(seen: Pass, above: Field, sunward: Field) -> Sky:
    edge = _EDGE[seen.cloud_kind]
    return Sky(
        np.asarray(smoothstep(above, 0, edge), np.float32), np.asarray(smoothstep(sunward, 0, 0.7 * edge), np.float32)
    )


def _towards_sun(seen: Pass) -> tuple[float, float]:
    """Columns and rows from a pixel to the place under the cloud that shades it: the cloud stands towards the sun."""
    sun = seen.sun
    reach = _HEIGHT_M[seen.cloud_kind] / math.tan(math.radians(sun.elevation_deg)) / world.PIXEL_M
    azimuth = math.radians(sun.azimuth_deg)
    return reach * math.sin(azimuth), -reach * math.cos(azimuth)


def _fine(seen: Pass, window: Window) -> Field:
    """Density at full resolution, frayed at the edges; beyond the world's edge it begins again."""
    coarse = _density(seen)
    rows = (np.arange(window.height) + window.row + 0.5) / _COARSE - 0.5
    cols = (np.arange(window.width) + window.col + 0.5) / _COARSE - 0.5
    base = _bilinear(coarse, rows, cols)
    detail = _frays(seen.cloud_kind)
    y = (np.arange(window.height) + window.row + 37 * seen.number) % detail.shape[0]
    x = (np.arange(window.width) + window.col + 91 * seen.number) % detail.shape[1]
    base += detail[np.ix_(y, x)] * np.float32(_FRAY[seen.cloud_kind])
    return base


def _fine_at(seen: Pass, cols: Any, rows: Any) -> Field:
    """The same density at single positions."""
    base = _coarse_at(seen, cols, rows)
    detail = _frays(seen.cloud_kind)
    y = np.floor(rows + 37 * seen.number).astype(int) % detail.shape[0]
    x = np.floor(cols + 91 * seen.number).astype(int) % detail.shape[1]
    return np.asarray(base + detail[y, x] * np.float32(_FRAY[seen.cloud_kind]), np.float32)


def _coarse_at(seen: Pass, cols: Any, rows: Any) -> Field:
    density = _density(seen)
    return Between.of((rows + 0.5) / _COARSE - 0.5, (cols + 0.5) / _COARSE - 0.5, density.shape, True).blend(density)


def _bilinear(field: Field, rows: Any, cols: Any) -> Field:
    low, weight = np.floor(rows).astype(int), (rows % 1).astype(np.float32)[:, None]
    down = field[low % field.shape[0]] * (1 - weight) + field[(low + 1) % field.shape[0]] * weight
    low, weight = np.floor(cols).astype(int), (cols % 1).astype(np.float32)[None, :]
    across = down.shape[1]
    return np.asarray(down[:, low % across] * (1 - weight) + down[:, (low + 1) % across] * weight, np.float32)


@lru_cache(maxsize=2)
def _frays(kind: str) -> Field:
    longest = 500 if kind == "cumulus" else 900
    return enlarged(fractal((512, 512), 2.2, 4711, world.PIXEL_M, longest=longest), 1)


@lru_cache(maxsize=1024)
def cloud_percent(seen: Pass, tile: Tile) -> float:
    """Cloud over the part of a tile that the pass sees, from every eighth pixel: quick, and within a point or two."""
    cols, rows = world_positions(tile.grid.reduced(_COARSE))
    return share_at(seen, cols, rows, in_swath(seen, cols, rows))


def share_at(seen: Pass, cols: Any, rows: Any, inside: Any) -> float:
    """Percent of cloud at the positions that are ``inside``; 0 when none is."""
    cloudy = _coarse_at(seen, cols, rows)[inside] >= THIN_AT * _EDGE[seen.cloud_kind]
    return float(100 * cloudy.mean()) if cloudy.size else 0.0


def in_swath(seen: Pass, cols: Any, rows: Any) -> Any:
    """True where a position in world pixels lies in the swath."""
    (west, north), (east, _), _, (low, south) = list(seen.swath().exterior.coords)[:4]
    grid = world.grid()
    x, y = grid.west + (cols + 0.5) * grid.pixel_x, grid.north - (rows + 0.5) * grid.pixel_y
    edge = low + (west - low) * (y - south) / (north - south)
    return (x >= edge) & (x <= edge + (east - west))

"""How large pixels are on the ground, row by row and block by block, in any reference system."""

from __future__ import annotations

import math
from dataclasses import dataclass

from zoompick.arrays import Floats, Numbers
from zoompick.geo.scale import Scales, scales_at
from zoompick.later import np
from zoompick.raster.grid import Grid, Window

_MOST_STEP_PX, _STEP_DEG, _STEP_M = 64, 0.05, 10_000.0
"""Between knots no further apart the scale is interpolated: a millionth off at most."""


@dataclass(frozen=True)
class PixelSizes:
    """Of the pixels of a window, arrays of its shape.

    Attributes
    ----------
    across_m, down_m : ndarray
        Metres on the ground from one pixel to the next along a row and along a column.
    area_m2 : ndarray
        Square metres of a pixel; 0 where the system has no place.
    """

    across_m: Floats
    down_m: Floats
    area_m2: Floats


def pixel_sizes(grid: Grid, window: Window) -> PixelSizes:
    """Sizes of the pixels of a window, which may reach outside the grid."""
    step = _step(grid)
    cols = np.arange(window.col // step * step, window.stop_col + step, step)
    rows = np.arange(window.row // step * step, window.stop_row + step, step)
    scales = _at(grid, cols, rows)
    part = (slice(window.row - int(rows[0]), window.stop_row - int(rows[0])),
            slice(window.col - int(cols[0]), window.stop_col - int(cols[0])))  # fmt: skip
    across, down, area = (_spread(one, step)[part] for one in (scales.x_m, scales.y_m, scales.area_m2))
    return PixelSizes(across * grid.pixel_x, down * grid.pixel_y, np.nan_to_num(area) * grid.pixel_x * grid.pixel_y)


def middle_sizes_m(grid: Grid, window: Window) -> tuple[float, float]:
    """Metres from one pixel to the next, along a row and along a column, in the middle of a window."""
    col, row = np.array([window.col + (window.width - 1) / 2]), np.array([window.row + (window.height - 1) / 2])
    scales = _at(grid, col, row)
    across, down = float(scales.x_m[0, 0]) * grid.pixel_x, float(scales.y_m[0, 0]) * grid.pixel_y
    return (across if math.isfinite(across) else grid.pixel_m), (down if math.isfinite(down) else grid.pixel_m)


def _at(grid: Grid, cols: Numbers, rows: Numbers) -> Scales:
    xs, ys = np.meshgrid(grid.west + (cols + 0.5) * grid.pixel_x, grid.north - (rows + 0.5) * grid.pixel_y)
    return scales_at(xs, np.clip(ys, -90, 90) if grid.crs.is_geographic else ys, grid.crs)


def _step(grid: Grid) -> int:
    largest = max(grid.pixel_x, grid.pixel_y)
    least = _STEP_DEG / largest if grid.crs.is_geographic else _STEP_M / (largest * grid.crs.metres_per_unit)
    return max(1, min(_MOST_STEP_PX, int(least)))


def _spread(knots: Floats, step: int) -> Floats:
    """Bilinear interpolation between knots so many pixels apart; without the last knots."""
    if step == 1:
        return knots[:-1, :-1]
    share = np.arange(step) / step
    down = (knots[:-1, None] + np.diff(knots, axis=0)[:, None] * share[None, :, None]).reshape(-1, knots.shape[1])
    return np.asarray((down[:, :-1, None] + np.diff(down, axis=1)[:, :, None] * share).reshape(len(down), -1))

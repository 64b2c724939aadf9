"""How much of the area is there, and how much of it is under cloud."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from zoompick.geo.shapes import Shape, bounds_of, project
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.warp import laid_on
from zoompick.sensors.classes import ClassTable
from zoompick.verification.finding import Finding, judged

_BLOCK_PX = 512


def valid_share(raster: Raster, area: Shape, least_percent: float, subject: str) -> Finding:
    """Share of the area whose pixels are valid in every band.

    Parameters
    ----------
    area : Shape
        Longitude/latitude; what lies outside the raster counts as missing.
    """
    polygon = project(area, raster.grid.crs)
    grid = raster.grid.around(bounds_of(polygon))
    mask = PolygonMask(polygon, grid)
    col, row = (round(value) for value in grid.offset_in(raster.grid))
    inside = valid = 0
    for window in grid.tiles(_BLOCK_PX):
        wanted = mask.read(window)
        pixels = raster.read(window.moved(col, row))
        inside += int(wanted.sum())
        present = valid_mask(pixels, raster.nodata).all(axis=0) & _on(raster.grid, window, col, row)
        valid += int((present & wanted).sum())
    percent = 100 * valid / inside if inside else 0.0
    note = f"{100 - percent:.1f} % of the area has no valid pixel. Pick scenes that cover it."
    return judged(
        "valid in area",
        subject,
        percent >= least_percent,
        f"{percent:.2f} %",
        f"at least {least_percent:g} %",
        note,
        percent,
    )


def _on(grid: Grid, window: Window, col: int, row: int) -> npt.NDArray[np.bool_]:
    """True where a pixel of a moved window lies on the grid at all."""
    cols = np.arange(window.width) + window.col + col
    rows = np.arange(window.height) + window.row + row
    return np.asarray(((rows >= 0) & (rows < grid.height))[:, None] & ((cols >= 0) & (cols < grid.width))[None, :])


def cloud_share(
    layers: Sequence[Raster], table: ClassTable, area: Shape, most_percent: float, subject: str
) -> Finding:
    """Share of the area's seen pixels that the class layers call cloud.

    Parameters
    ----------
    layers : sequence of Raster
        Class layers that fill each other's gaps, the first on top.
    """
    first = layers[0].grid
    polygon = project(area, first.crs)
    grid = Grid.snapped(bounds_of(polygon), first.crs, first.pixel_x)
    mask = PolygonMask(polygon, grid)
    seen = cloudy = 0
    for window in grid.tiles(_BLOCK_PX):
        classes = _merged(layers, grid, window, table)
        known = mask.read(window) & ~np.isin(classes, list(table.fill))
        seen += int(known.sum())
        cloudy += int((known & np.isin(classes, list(table.cloud))).sum())
    if not seen:
        note = "The class layer has no pixel in the area. Pick scenes that cover it."
        return judged("cloud in area", subject, False, "nothing seen", f"at most {most_percent:g} %", note)
    percent = 100 * cloudy / seen
    note = f"Cloud hides {percent:.1f} % of the area. Pick a clearer scene."
    return judged(
        "cloud in area",
        subject,
        percent <= most_percent,
        f"{percent:.2f} %",
        f"at most {most_percent:g} %",
        note,
        percent,
    )


def _merged(layers: Sequence[Raster], grid: Grid, window: Window, table: ClassTable) -> npt.NDArray[np.int64]:
    fill = next(iter(table.fill), 0)
    out = np.full((window.height, window.width), fill, np.int64)
    for layer in layers:
        gaps = np.isin(out, list(table.fill) or [fill])
        out[gaps] = laid_on(layer, grid, "class").read(window)[0][gaps]
    return out

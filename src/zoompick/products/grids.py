"""The grid that files of one or several reference systems are laid on: around an area, or around all of them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick.area.model import Area
from zoompick.errors import UsageError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs, utm_for
from zoompick.geo.shapes import bounds_of, in_one_turn, outline_of, project, turned
from zoompick.raster.grid import Grid

_STEPS = 64


def common_grid(
    grids: Sequence[Grid], area: Area | None = None, pixel: float | None = None, crs: Crs | str | None = None
) -> Grid:
    """A grid for rasters that may lie in different systems.

    Parameters
    ----------
    area : Area, optional
        By default all the ground of the rasters.
    pixel : float, optional
        In units of the reference system; the finest raster's by default.
    crs : Crs or str, optional
        ``auto`` is the UTM zone of the middle; by default that in which most of the rasters lie.

    Raises
    ------
    UsageError
        The pixel size cannot be told: degrees here, metres there.
    """
    finest = min(grids, key=lambda grid: grid.pixel_m)
    target = _crs(grids, area, crs)
    if pixel is None and finest.crs.is_geographic != target.is_geographic:
        raise UsageError(
            f"The finest file has pixels of {finest.pixel_text}, the grid's system {target} has other units.",
            "Give the pixel size: `pixel` 10.",
        )
    bounds = _area_bounds(area, target, finest) if area is not None else _all_bounds(grids, target)
    if target == finest.crs and pixel in (None, finest.pixel_x):
        return finest.around(bounds)
    return Grid.snapped(bounds, target, finest.pixel_x if pixel is None else pixel)


def _crs(grids: Sequence[Grid], area: Area | None, crs: Crs | str | None) -> Crs:
    if isinstance(crs, Crs):
        return crs
    if crs is None:
        found = [grid.crs for grid in grids]
        return max(found, key=lambda one: (found.count(one), -found.index(one)))
    if crs != "auto":
        return Crs.parse(_text_of(crs))
    if area is not None:
        return area.utm
    middle = outline_of(grids[0].bounds, grids[0].crs, _step(grids[0])).centroid
    return utm_for(middle.x, middle.y)


def _text_of(crs: str) -> str:
    """What tells a system: the text given, or that of the file it names, as a ``.prj``."""
    path = Path(crs)
    if "[" in crs or path.suffix.lower() not in (".prj", ".wkt", ".wkt2", ".txt"):
        return crs
    try:
        return path.read_text(encoding="utf-8-sig")
    except (OSError, ValueError) as error:
        raise UsageError(
            f"The reference system cannot be read from {crs}: {error}.", "Give EPSG:… or WKT2."
        ) from error


def _area_bounds(area: Area, target: Crs, finest: Grid) -> Bounds:
    flat = project(area.polygon, target)
    if target.is_geographic:
        flat = turned(flat, finest.bounds) if finest.crs == target else in_one_turn(flat)
    return bounds_of(flat)


def _all_bounds(grids: Sequence[Grid], target: Crs) -> Bounds:
    every = [
        grid.bounds
        if grid.crs == target
        else bounds_of(project(outline_of(grid.bounds, grid.crs, _step(grid)), target))
        for grid in grids
    ]
    return Bounds(
        min(b.west for b in every),
        min(b.south for b in every),
        max(b.east for b in every),
        max(b.north for b in every),
    )


def _step(grid: Grid) -> float:
    return max(grid.bounds.width, grid.bounds.height) / _STEPS

"""How much of the area is there, and how much of it is under cloud."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zoompick.geo.shapes import Shape, bounds_of
from zoompick.raster import engine
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.turn import met
from zoompick.raster.warp import laid_on
from zoompick.sensors.classes import ClassTable
from zoompick.verification.finding import Finding, judged

_BLOCK_PX = 512


def valid_share(
    raster: Raster, area: Shape, least_percent: float, subject: str, executor: Executor | None = None
) -> Finding:
    """Share of the area whose pixels are valid in every band.

    Parameters
    ----------
    area : Shape
        Longitude/latitude; what lies outside the raster counts as missing.
    """
    raster, polygon = met(raster, area)
    grid = raster.grid.around(bounds_of(polygon))
    inside, valid = _totals(grid, _Valid(raster, PolygonMask(polygon, grid)), executor)
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


def _totals(grid: Grid, count: Callable[[Window], tuple[int, int]], executor: Executor | None) -> tuple[int, int]:
    """Two counts of every block of a grid, added up."""
    first = second = 0
    with engine.crew_of(executor) as crew:
        for one, other in engine.each(crew, grid.tiles(_BLOCK_PX), count):
            first, second = first + one, second + other
    return first, second


@dataclass(frozen=True)
class _Valid:
    """Pixels of a window that lie in the area, and those of them that are valid in every band."""

    raster: Raster
    mask: PolygonMask

    def __call__(self, window: Window) -> tuple[int, int]:
        col, row = (round(value) for value in self.mask.grid.offset_in(self.raster.grid))
        wanted = self.mask.read(window)
        pixels = self.raster.read(window.moved(col, row))
        present = valid_mask(pixels, self.raster.nodata).all(axis=0) & _on(self.raster.grid, window, col, row)
        return int(wanted.sum()), int((present & wanted).sum())


def _on(grid: Grid, window: Window, col: int, row: int) -> npt.NDArray[np.bool_]:
    """True where a pixel of a moved window lies on the grid at all."""
    cols = np.arange(window.width) + window.col + col
    rows = np.arange(window.height) + window.row + row
    return np.asarray(((rows >= 0) & (rows < grid.height))[:, None] & ((cols >= 0) & (cols < grid.width))[None, :])


def cloud_share(
    layers: Sequence[Raster],
    table: ClassTable,
    area: Shape,
    most_percent: float,
    subject: str,
    executor: Executor | None = None,
) -> Finding:
    """Share of the area's seen pixels that the class layers call cloud.

    Parameters
    ----------
    layers : sequence of Raster
        Class layers that fill each other's gaps, the first on top.
    """
    first = layers[0].grid
    _, polygon = met(layers[0], area)
    grid = Grid.snapped(bounds_of(polygon), first.crs, first.pixel_x)
    laid = tuple(laid_on(layer, grid, "class") for layer in layers)
    seen, cloudy = _totals(grid, _Cloudy(laid, table, PolygonMask(polygon, grid)), executor)
    if not seen:
        note = "The class layer has no pixel in the area. Pick scenes that cover it."
        return judged("cloud in area", subject, False, "nothing seen", f"at most {most_percent:g} %", note)
    whole = polygon.area / (grid.pixel_x * grid.pixel_y)
    percent, looked = 100 * cloudy / seen, min(100.0, 100 * seen / whole)
    note = f"Cloud hides {percent:.1f} % of the area. Pick a clearer scene."
    return judged(
        "cloud in area",
        subject,
        percent <= most_percent,
        f"{percent:.2f} % of what was seen ({looked:.0f} % of the area)",
        f"at most {most_percent:g} %",
        note,
        percent,
    )


@dataclass(frozen=True)
class _Cloudy:
    """Pixels of a window that were seen in the area, and those of them that are cloud."""

    layers: tuple[Raster, ...]
    table: ClassTable
    mask: PolygonMask

    def __call__(self, window: Window) -> tuple[int, int]:
        classes = self._merged(window)
        known = self.mask.read(window) & ~self.table.holds(classes, ("fill",))
        return int(known.sum()), int((known & self.table.holds(classes, ("cloud",))).sum())

    def _merged(self, window: Window) -> npt.NDArray[np.int64]:
        fill = self._fill_code()
        out = np.full((window.height, window.width), fill, np.int64)
        unseen = np.ones(out.shape, bool)
        for layer in self.layers:
            out[unseen] = layer.read(window)[0][unseen]
            unseen = self.table.holds(out, ("fill",)) if self._has_fill else out == fill
        return out

    def _fill_code(self) -> int:
        bit = next((bit for meaning, bit in self.table.bits if meaning == "fill"), None)
        return next(iter(self.table.fill), 0) if bit is None else 1 << bit

    @property
    def _has_fill(self) -> bool:
        return bool(self.table.fill) or any(meaning == "fill" for meaning, _ in self.table.bits)

"""What changed between two dates: the difference of an index, and classes of change with their areas."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

from zoompick.arrays import Pixels, PixelType
from zoompick.errors import GridError, UsageError
from zoompick.geo.crs import ellipsoid
from zoompick.geo.shapes import outline_of
from zoompick.later import np
from zoompick.raster import engine
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Band, Derived, Raster, valid_mask

_BLOCK_PX = 512
LOST, SAME, GAINED, STILL = 1, 2, 3, 4


@dataclass(frozen=True)
class Rule:
    """What counts as change.

    Attributes
    ----------
    above : float or None
        A value: pixels that rise above it are gained, those that fall below it lost.
    by : float or None
        A difference: pixels that rise by as much are gained, those that fall by as much lost.
    """

    above: float | None = None
    by: float | None = None

    def __post_init__(self) -> None:
        if (self.above is None) == (self.by is None):
            raise UsageError("Change is told by `above` a value or `change-min` a difference.", "Give one of them.")
        if self.by is not None and self.by <= 0:
            raise UsageError(f"A difference of {self.by:g} is no change.", "Give one above 0.")

    def names(self, index: str) -> dict[int, str]:
        """Classes by code."""
        if self.above is not None:
            return {LOST: f"no longer above {self.above:g}", SAME: f"below {self.above:g} both times",
                    GAINED: f"now above {self.above:g}", STILL: f"above {self.above:g} both times"}  # fmt: skip
        return {LOST: f"{index} fell by {self.by:g} or more", SAME: "less change than that",
                GAINED: f"{index} rose by {self.by:g} or more"}  # fmt: skip


class Difference(Derived):
    """After less before, as 32-bit floats in physical units; NaN where either is missing."""

    def __init__(self, before: Raster, after: Raster) -> None:
        super().__init__(after)
        if not before.grid.shares_lattice(after.grid) or before.grid.window != after.grid.window:
            raise GridError("The two do not lie on one grid.", "Lay the second on the first's: `like` FILE.")
        self._before = before

    @property
    def bands(self) -> tuple[Band, ...]:
        """One band."""
        return (Band("difference"),)

    @property
    def dtype(self) -> PixelType:
        """32-bit float."""
        return np.dtype(np.float32)

    @property
    def nodata(self) -> float | None:
        """NaN."""
        return float("nan")

    def both(self, window: Window) -> tuple[Pixels, Pixels, Pixels]:
        """Physical values before and after, and where both are there."""
        found, valid = [], np.ones((window.height, window.width), bool)
        for raster in (self._before, self.source):
            stored = raster.read(window, (0,))[0]
            valid &= valid_mask(stored, raster.nodata)
            band = raster.bands[0]
            found.append(stored.astype(np.float64) * band.scale + band.offset)
        return found[0], found[1], valid

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        before, after, valid = self.both(window)
        return np.where(valid, after - before, np.nan).astype(np.float32)[np.newaxis]


class Change(Derived):
    """Classes of change: 1 lost, 2 the same, 3 gained, 4 still above; 0 where either date is missing."""

    def __init__(self, difference: Difference, rule: Rule, index: str) -> None:
        super().__init__(difference)
        self._difference, self._rule = difference, rule
        rows = [{"value": code, "name": name} for code, name in rule.names(index).items()]
        self.record = {"classification:classes": rows}

    @property
    def bands(self) -> tuple[Band, ...]:
        """One band of codes."""
        return (Band("change", is_class=True),)

    @property
    def dtype(self) -> PixelType:
        """Unsigned 8 bits."""
        return np.dtype(np.uint8)

    @property
    def nodata(self) -> float | None:
        """Zero."""
        return 0

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        before, after, valid = self._difference.both(window)
        if self._rule.above is not None:
            was, now = before > self._rule.above, after > self._rule.above
            code = np.select([was & ~now, ~was & now, was & now], [LOST, GAINED, STILL], SAME)
        else:
            assert self._rule.by is not None
            step = after - before
            code = np.select([step <= -self._rule.by, step >= self._rule.by], [LOST, GAINED], SAME)
        return np.where(valid, code, 0).astype(np.uint8)[np.newaxis]


@dataclass(frozen=True)
class _Counting:
    """Square metres of each code in a window."""

    raster: Raster
    rows_m2: tuple[float, ...]
    mask: PolygonMask | None

    def __call__(self, window: Window) -> Pixels:
        codes = self.raster.read(window)[0].astype(np.int64)
        if self.mask is not None:
            codes = np.where(self.mask.read(window), codes, 0)
        sizes = np.asarray(self.rows_m2[window.row : window.stop_row])[:, None]
        return np.bincount(codes.ravel(), np.broadcast_to(sizes, codes.shape).ravel(), minlength=256)


def areas_m2(raster: Raster, mask: PolygonMask | None = None) -> dict[int, float]:
    """Ground under each code of a class raster, on the ellipsoid, 0 left out."""
    total = np.zeros(256)
    with engine.crew_of() as crew:
        work = _Counting(raster, tuple(pixel_areas_m2(raster.grid)), mask)
        for found in engine.each(crew, raster.grid.tiles(_BLOCK_PX), work):
            total += found[:256]
    return {code: float(total[code]) for code in np.flatnonzero(total).tolist() if code}


def pixel_areas_m2(grid: Grid) -> list[float]:
    """Ground of a pixel in each row, on the ellipsoid: its own for degrees, one for all rows of a plane.

    On a plane it is that of the middle of the grid, where the scale stands for the whole of a scene.
    """
    bounds = grid.bounds
    if grid.crs.is_geographic:
        lats = bounds.north - np.arange(grid.height + 1) * grid.pixel_y
        return [_cell_m2(0, south, grid.pixel_x, north) for north, south in itertools.pairwise(lats)]
    side = 64
    col, row = max(0, grid.width // 2 - side), max(0, grid.height // 2 - side)
    part = grid.part(Window(col, row, min(2 * side, grid.width), min(2 * side, grid.height)))
    outline = outline_of(part.bounds, grid.crs, part.bounds.width / 8)
    area, _ = ellipsoid().geometry_area_perimeter(outline)
    return [abs(area) / (part.width * part.height)] * grid.height


def _cell_m2(west: float, south: float, east: float, north: float) -> float:
    share = np.linspace(west, east, 5)
    lons, lats = [*share, *share[::-1]], [south] * 5 + [north] * 5
    area, _ = ellipsoid().polygon_area_perimeter(lons, np.clip(lats, -90, 90))
    return abs(float(area))

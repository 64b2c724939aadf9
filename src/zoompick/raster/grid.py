"""Where pixels lie: windows and grids. North is up; rows run south."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

from zoompick.errors import GridError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import METRES_A_DEGREE, Crs

_LEAST_PIXEL, _ALIKE = 1e-9, 1e-6
_LATTICE_TOLERANCE_PX = 1e-3
"""Two grids share a lattice when their pixel corners agree to a thousandth of a pixel."""


@dataclass(frozen=True, slots=True)
class Window:
    """A rectangle of pixels: first column and row, width and height. It may reach outside its raster."""

    col: int
    row: int
    width: int
    height: int

    @property
    def stop_col(self) -> int:
        """First column after the window."""
        return self.col + self.width

    @property
    def stop_row(self) -> int:
        """First row after the window."""
        return self.row + self.height

    @property
    def is_empty(self) -> bool:
        """True when it holds no pixel."""
        return self.width <= 0 or self.height <= 0

    def intersect(self, other: Window) -> Window:
        """Pixels in both; empty windows have a width or height of 0."""
        col, row = max(self.col, other.col), max(self.row, other.row)
        width = max(0, min(self.stop_col, other.stop_col) - col)
        height = max(0, min(self.stop_row, other.stop_row) - row)
        return Window(col, row, width, height)

    def moved(self, cols: int, rows: int) -> Window:
        """The window so many columns to the right and rows down."""
        return Window(self.col + cols, self.row + rows, self.width, self.height)

    def slices_in(self, outer: Window) -> tuple[slice, slice]:
        """Row and column slices of this window in an array that holds ``outer``."""
        row, col = self.row - outer.row, self.col - outer.col
        return slice(row, row + self.height), slice(col, col + self.width)


@dataclass(frozen=True, slots=True)
class Grid:
    """A north-up lattice of pixels.

    Attributes
    ----------
    crs : Crs
    pixel_x, pixel_y : float
        Pixel width and height in CRS units, both positive.
    west, north : float
        Outer corner of the pixel in column 0, row 0.
    width, height : int
        Size in pixels.
    """

    crs: Crs
    pixel_x: float
    pixel_y: float
    west: float
    north: float
    width: int
    height: int

    def __post_init__(self) -> None:
        if not (self.pixel_x > 0 and self.pixel_y > 0 and self.width > 0 and self.height > 0):
            raise GridError(
                f"A grid of {self.width} x {self.height} pixels of {self.pixel_x:g} x {self.pixel_y:g} cannot be.",
                "Pixel sizes and pixel counts must be positive.",
            )

    @classmethod
    def snapped(cls, bounds: Bounds, crs: Crs, pixel: float) -> Grid:
        """Smallest grid of square pixels around ``bounds`` whose corners are multiples of the pixel size.

        Snapping to multiples makes grids of neighbouring studies, and of scenes cut the same way, line up.
        """
        if not _LEAST_PIXEL <= pixel < math.inf:
            raise GridError(f"Pixels of {pixel:g} cannot be.", "Give the pixel size in units of the CRS, as 8.")
        slack = _LATTICE_TOLERANCE_PX
        first_col = math.floor(bounds.west / pixel + slack)
        last_col = math.ceil(bounds.east / pixel - slack)
        first_row = math.floor(-bounds.north / pixel + slack)
        last_row = math.ceil(-bounds.south / pixel - slack)
        width, height = max(1, last_col - first_col), max(1, last_row - first_row)
        return cls(crs, pixel, pixel, first_col * pixel, -first_row * pixel, width, height)

    @property
    def bounds(self) -> Bounds:
        """Outer edges in CRS units."""
        east, south = self.west + self.width * self.pixel_x, self.north - self.height * self.pixel_y
        return Bounds(self.west, south, east, self.north)

    @property
    def window(self) -> Window:
        """All pixels."""
        return Window(0, 0, self.width, self.height)

    @property
    def pixel_m(self) -> float:
        """Width of a pixel in metres of its system; in degrees that at the equator.

        How long it is on the ground :mod:`zoompick.raster.pixelsize` tells.
        """
        crs = self.crs
        return self.pixel_x * (METRES_A_DEGREE if crs.is_geographic else crs.metres_per_unit)

    @property
    def pixel_text(self) -> str:
        """Pixel size for people, in units of the system: ``8 m``, ``26 ft``, ``0.0001°``; both sides, if unlike."""
        unit = self.crs.unit_text
        if abs(self.pixel_y / self.pixel_x - 1) > _ALIKE:
            return f"{self.pixel_x:g} x {self.pixel_y:g}{unit}"
        return f"{self.pixel_x:g}{unit}"

    def reduced(self, factor: int) -> Grid:
        """Grid of an overview whose pixels are ``factor`` times as large; the last ones may reach outside."""
        return Grid(
            self.crs,
            self.pixel_x * factor,
            self.pixel_y * factor,
            self.west,
            self.north,
            -(-self.width // factor),
            -(-self.height // factor),
        )

    def part(self, window: Window) -> Grid:
        """Grid of a window of this one."""
        west = self.west + window.col * self.pixel_x
        north = self.north - window.row * self.pixel_y
        return Grid(self.crs, self.pixel_x, self.pixel_y, west, north, window.width, window.height)

    def window_of(self, bounds: Bounds) -> Window:
        """Pixels touched by a rectangle in this grid's CRS, cut to the grid."""
        return self._touched(bounds).intersect(self.window)

    def around(self, bounds: Bounds) -> Grid:
        """Smallest grid on this lattice that covers a rectangle in this grid's CRS, wherever that lies."""
        touched = self._touched(bounds)
        return self.part(replace(touched, width=max(1, touched.width), height=max(1, touched.height)))

    def _touched(self, bounds: Bounds) -> Window:
        slack = _LATTICE_TOLERANCE_PX
        col = math.floor((bounds.west - self.west) / self.pixel_x + slack)
        row = math.floor((self.north - bounds.north) / self.pixel_y + slack)
        stop_col = math.ceil((bounds.east - self.west) / self.pixel_x - slack)
        stop_row = math.ceil((self.north - bounds.south) / self.pixel_y - slack)
        return Window(col, row, max(0, stop_col - col), max(0, stop_row - row))

    def offset_in(self, other: Grid) -> tuple[float, float]:
        """Column and row in ``other`` of this grid's outer corner (same CRS; may be fractions)."""
        return (self.west - other.west) / other.pixel_x, (other.north - self.north) / other.pixel_y

    def shares_lattice(self, other: Grid) -> bool:
        """True when CRS and pixel size are the same and pixel corners coincide."""
        if self.crs != other.crs:
            return False
        span = max(self.width, self.height, other.width, other.height)
        for mine, theirs in ((self.pixel_x, other.pixel_x), (self.pixel_y, other.pixel_y)):
            if abs(mine / theirs - 1) * span > _LATTICE_TOLERANCE_PX:
                return False
        return all(abs(value - round(value)) < _LATTICE_TOLERANCE_PX for value in self.offset_in(other))

    def tiles(self, side: int) -> Iterator[Window]:
        """Windows of square tiles, row by row; those at the right and lower edge are cut to the grid."""
        for row in range(0, self.height, side):
            for col in range(0, self.width, side):
                yield Window(col, row, side, side).intersect(self.window)

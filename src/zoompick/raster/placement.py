"""Where the pixels of an image lie, however it is turned: north up as a grid, else with six numbers beside.

Source of the six numbers: OGC GeoTIFF 1.1 (OGC 19-008r4), section 7.4 and annex B (ModelTransformationTag).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import ClassVar, Protocol

from zoompick.arrays import Pixels
from zoompick.errors import FormatError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs
from zoompick.later import np
from zoompick.raster.grid import Grid

_SLIGHT = 1e-6
"""What is turned by less than so many pixels a pixel lies north up: a hundredth of a pixel over ten thousand."""


class Placement(Protocol):
    """Where the pixels of an image lie that is no north-up grid."""

    step_px: int

    @property
    def is_upright(self) -> bool:
        """True where rows or columns run along the axes, evenly."""

    def grid(self, image: Grid) -> Grid:
        """A north-up grid around the image."""

    def inverse(self, x: Pixels, y: Pixels) -> tuple[Pixels, Pixels]:
        """Columns and rows, counted from the first corner, of places; NaN for none."""

    def told(self, name: str) -> str:
        """For people: how it comes to a grid."""


@dataclass(frozen=True, slots=True)
class Affine:
    """Corners of pixels: ``x = a * col + b * row + c``, ``y = d * col + e * row + f``, counted from the first one's.

    North up, ``a`` is the pixel's width, ``e`` its height with a minus, ``b`` and ``d`` are 0.
    """

    a: float
    b: float
    c: float
    d: float
    e: float
    f: float

    @property
    def determinant(self) -> float:
        """Area of a pixel, negative where rows run south as columns run east."""
        return self.a * self.e - self.b * self.d

    @property
    def is_upright(self) -> bool:
        """True where rows or columns run along the axes: mirrored or turned by quarters at most."""
        slack = _SLIGHT * max(abs(self.a), abs(self.b), abs(self.d), abs(self.e))
        return max(abs(self.b), abs(self.d)) <= slack or max(abs(self.a), abs(self.e)) <= slack

    @property
    def is_crosswise(self) -> bool:
        """True where columns run north or south."""
        return abs(self.b) > abs(self.a)

    @property
    def angle_deg(self) -> float:
        """By how much rows are turned from west to east, counted against the clock."""
        return math.degrees(math.atan2(self.d, self.a))

    step_px: ClassVar[int] = 32
    """Between knots so many pixels apart places run straight."""

    def grid(self, image: Grid) -> Grid:
        """A north-up grid around an image, pixels as fine as its own, corners at multiples of their size."""
        return Grid.snapped(self.bounds((0, image.width), (0, image.height)), image.crs, self.pixel)

    def told(self, name: str) -> str:
        """For people: how it comes to a grid."""
        return f"{name} lies turned by {self.angle_deg:.4g} degrees: it is resampled"

    @property
    def pixel(self) -> float:
        """Side of a square as fine as the finer side of a pixel, without the noise of the last digits."""
        return float(f"{min(math.hypot(self.a, self.d), math.hypot(self.b, self.e)):.9g}")

    def by_centres(self) -> Affine:
        """The same, where the numbers given are those of the first pixel's centre."""
        return replace(self, c=self.c - (self.a + self.b) / 2, f=self.f - (self.d + self.e) / 2)

    def bounds(self, cols: tuple[float, float], rows: tuple[float, float]) -> Bounds:
        """Box around a rectangle of pixels, from corner to corner."""
        xs = [self.a * col + self.b * row + self.c for col in cols for row in rows]
        ys = [self.d * col + self.e * row + self.f for col in cols for row in rows]
        return Bounds(min(xs), min(ys), max(xs), max(ys))

    def inverse(self, x: Pixels, y: Pixels) -> tuple[Pixels, Pixels]:
        """Columns and rows, counted from the first corner, of places."""
        x, y, size = np.asarray(x) - self.c, np.asarray(y) - self.f, self.determinant
        return (self.e * x - self.b * y) / size, (self.a * y - self.d * x) / size


_OF_PIXELS = (
    'ENGCRS["pixels",EDATUM["the picture"],CS[Cartesian,2],AXIS["column",east],AXIS["row",north],'
    'LENGTHUNIT["metre",1]]'
)


@dataclass(frozen=True, slots=True)
class Placed:
    """Place of an image.

    Attributes
    ----------
    grid : Grid
        North up; where the image is turned, one that counts pixels: corner at 0, 0, sides of 1.
    turn : Affine or None
        Where the pixels of that one lie.
    """

    grid: Grid
    turn: Affine | None = None

    @classmethod
    def nowhere(cls, width: int, height: int) -> Placed:
        """Of an image that tells no place: a grid that counts its pixels, from its lower left corner."""
        return cls(Grid(Crs(0, _OF_PIXELS), 1, 1, 0, height, width, height))

    @classmethod
    def of(cls, crs: Crs, at: Affine, width: int, height: int, where: str) -> Placed:
        """From the six numbers of an image of ``width`` x ``height`` pixels.

        Raises
        ------
        FormatError
            Pixels without an extent.
        """
        if not (math.isfinite(at.determinant) and at.determinant):
            raise FormatError(
                f"{where} has pixels of {at.a:g} x {at.e:g}, turned by {at.b:g} and {at.d:g}: they have no extent.",
                "Write it again with the program that made it.",
            )
        slack = _SLIGHT * max(abs(at.a), abs(at.e))
        if max(abs(at.b), abs(at.d)) <= slack and at.a > 0 > at.e:
            return cls(Grid(crs, at.a, -at.e, at.c, at.f, width, height))
        return cls(Grid(crs, 1, 1, 0, 0, width, height), at)

"""Rectangles in the axes of one CRS."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

from zoompick.errors import AreaError


@dataclass(frozen=True, slots=True)
class Bounds:
    """West, south, east, north in the units of a CRS (degrees for longitude/latitude).

    East is never below west here; a box across the antimeridian is two of these.
    """

    west: float
    south: float
    east: float
    north: float

    @classmethod
    def from_lonlat(cls, west: float, south: float, east: float, north: float) -> Bounds:
        """Check a box of longitudes and latitudes as a person gives it.

        Raises
        ------
        AreaError
            A value is out of range, or the box is empty or turned around.
        """
        given = (west, south, east, north)
        shown = " ".join(f"{value:g}" for value in given)
        order = "The order is west south east north, in degrees."
        if not all(math.isfinite(value) for value in given):
            raise AreaError(f"The box {shown} holds a value that is no number.", order)
        bad = next((value for value in (south, north) if abs(value) > 90), None)
        if bad is not None:
            swapped = abs(west) <= 90 and abs(east) <= 90
            hint = " It looks as if latitude was given first." if swapped else ""
            raise AreaError(f"The latitude {bad:g} in the box {shown} is beyond 90 degrees.{hint}", order)
        bad = next((value for value in (west, east) if abs(value) > 180), None)
        if bad is not None:
            raise AreaError(f"The longitude {bad:g} in the box {shown} is beyond 180 degrees.", order)
        if south >= north:
            raise AreaError(f"In the box {shown} the south ({south:g}) is not below the north ({north:g}).", order)
        if west >= east:
            raise AreaError(f"In the box {shown} the west ({west:g}) is not below the east ({east:g}).", order)
        return cls(*given)

    @classmethod
    def around(cls, xs: Iterable[float], ys: Iterable[float]) -> Bounds:
        """Smallest rectangle around points."""
        xs, ys = list(xs), list(ys)
        return cls(min(xs), min(ys), max(xs), max(ys))

    @property
    def width(self) -> float:
        """East minus west."""
        return self.east - self.west

    @property
    def height(self) -> float:
        """North minus south."""
        return self.north - self.south

    def intersects(self, other: Bounds) -> bool:
        """True when the rectangles share more than an edge."""
        return (
            self.west < other.east
            and other.west < self.east
            and self.south < other.north
            and other.south < self.north
        )

    def as_list(self) -> list[float]:
        """``[west, south, east, north]``, as JSON bboxes are written."""
        return [self.west, self.south, self.east, self.north]

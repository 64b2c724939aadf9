"""The study area as a value."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs, utm_for
from zoompick.geo.shapes import Shape, area_km2, bounds_of, box_polygon, geojson_of


@dataclass(frozen=True)
class Area:
    """A named polygon in WGS 84 longitude/latitude."""

    name: str
    polygon: Shape

    @classmethod
    def from_box(cls, west: float, south: float, east: float, north: float, name: str = "box") -> Area:
        """Area of a box in degrees; raises :class:`~zoompick.errors.AreaError` when it makes no sense."""
        return cls(name, box_polygon(Bounds.from_lonlat(west, south, east, north)))

    @property
    def size_km2(self) -> float:
        """True size on the ellipsoid in square kilometres."""
        return area_km2(self.polygon)

    @property
    def bounds(self) -> Bounds:
        """Rectangle around it, in degrees."""
        return bounds_of(self.polygon)

    @property
    def utm(self) -> Crs:
        """UTM system of its centre."""
        box = self.bounds
        return utm_for((box.west + box.east) / 2, (box.south + box.north) / 2)

    def to_feature(self) -> dict[str, Any]:
        """GeoJSON Feature of the area."""
        return {
            "type": "Feature",
            "bbox": self.bounds.as_list(),
            "properties": {"name": self.name, "size_km2": round(self.size_km2, 4)},
            "geometry": geojson_of(self.polygon),
        }

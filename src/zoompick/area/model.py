"""The study area as a value, and the named polygons that files hold."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace

from zoompick.errors import AreaError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs, utm_for
from zoompick.geo.shapes import Shape, bounds_of, geojson_of, lonlat_box
from zoompick.geo.sizes import area_km2
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import np, shapely


@dataclass(frozen=True, slots=True)
class Feature:
    """One polygon of a file: its name (empty when it has none) and its attributes.

    Attributes
    ----------
    problem : AreaError or None
        What is wrong with its geometry; the polygon is empty then.
    """

    name: str
    polygon: Shape
    attributes: JsonMap = field(default_factory=dict)
    problem: AreaError | None = None

    @classmethod
    def made_by(cls, name: str, make: Callable[[], Shape], attributes: JsonMap | None = None) -> Feature:
        """A feature whose polygon is read now; where it cannot be, that is kept, for others of the file may do."""
        try:
            return cls(name, make(), attributes or {})
        except AreaError as error:
            return cls(name, shapely.Polygon(), attributes or {}, error)


@dataclass(frozen=True)
class Area:
    """A named polygon in WGS 84 longitude/latitude; parts on both sides of the antimeridian are a MultiPolygon.

    Attributes
    ----------
    description : str
        A person's words on it.
    notes : tuple of str
        What had to be supposed when it was read.
    """

    name: str
    polygon: Shape
    description: str = ""
    notes: tuple[str, ...] = ()

    @classmethod
    def from_box(cls, west: float, south: float, east: float, north: float, name: str = "box") -> Area:
        """Area of a box in degrees; with west above east it runs across the antimeridian.

        Raises
        ------
        AreaError
            The box makes no sense.
        """
        return cls(name, lonlat_box(west, south, east, north))

    def renamed(self, name: str, description: str | None = None) -> Area:
        """The same ground under another name."""
        return replace(self, name=name, description=self.description if description is None else description)

    @property
    def size_km2(self) -> float:
        """True size on the ellipsoid in square kilometres."""
        return area_km2(self.polygon)

    @property
    def bounds(self) -> Bounds:
        """Rectangle around it, in degrees."""
        return bounds_of(self.polygon)

    @property
    def crosses_antimeridian(self) -> bool:
        """True when parts lie on both sides of 180 degrees and belong together there."""
        box = self.bounds
        return box.west <= -180 + 1e-9 and box.east >= 180 - 1e-9 and len(shapely.get_parts(self.polygon)) > 1

    @property
    def centre(self) -> tuple[float, float]:
        """Longitude and latitude of the middle; of an area around a pole, of the ball's point above its corners."""
        box = self.bounds
        parts = list(shapely.get_parts(self.polygon))
        if box.west <= -180 and box.east >= 180 and (box.south <= -90 or box.north >= 90):
            corners = np.radians(shapely.get_coordinates(self.polygon))
            if box.south <= -90 and box.north >= 90:
                return 0.0, 0.0
            corners = corners[(np.abs(corners[:, 0]) < np.pi) & (np.abs(corners[:, 1]) < np.pi / 2)]
            x, y = np.cos(corners[:, 1]) * np.cos(corners[:, 0]), np.cos(corners[:, 1]) * np.sin(corners[:, 0])
            east, north, up = float(x.mean()), float(y.mean()), float(np.sin(corners[:, 1]).mean())
            return math.degrees(math.atan2(north, east)), math.degrees(math.atan2(up, math.hypot(east, north)))
        if self.crosses_antimeridian:
            parts = [shapely.transform(p, lambda xy: np.add(xy, (360, 0))) if p.bounds[2] <= 0 else p for p in parts]
        middle = shapely.MultiPolygon(parts).centroid
        return (middle.x + 180) % 360 - 180, middle.y

    @property
    def utm(self) -> Crs:
        """UTM system of its centre."""
        return utm_for(*self.centre)

    @property
    def utm_zones(self) -> tuple[Crs, ...]:
        """All UTM systems that it touches, from west to east."""
        _, lat = self.centre
        if self.utm.is_polar:
            return (self.utm,)
        found = []
        for part in shapely.get_parts(self.polygon):
            west, _, east, _ = part.bounds
            last = max(west, math.nextafter(east, -math.inf))
            first_zone, last_zone = (min(60, math.floor((lon + 180) / 6) + 1) for lon in (west, last))
            found += [utm_for(6 * zone - 183, lat) for zone in range(first_zone, last_zone + 1)]
        return tuple(dict.fromkeys(sorted(found, key=lambda crs: crs.epsg)))

    def to_feature(self) -> JsonObject:
        """GeoJSON Feature of the area."""
        properties: JsonObject = {"name": self.name, "size_km2": round(self.size_km2, 4)}
        if self.description:
            properties["description"] = self.description
        return {
            "type": "Feature",
            "bbox": self.bounds.as_list(),
            "properties": properties,
            "geometry": geojson_of(self.polygon),
        }


def only_named(features: list[Feature], wanted: str, where: str) -> list[Feature]:
    """Features by name, or by ``attribute=value``; all when nothing is wanted.

    Raises
    ------
    AreaError
        None fits; the message lists what there is.
    """
    if not wanted:
        return features
    key, equals, value = wanted.partition("=")
    if equals:
        found = [
            entry for entry in features if str(entry.attributes.get(key.strip(), "")).lower() == value.strip().lower()
        ]
        there = sorted(
            {str(entry.attributes.get(key.strip())) for entry in features if key.strip() in entry.attributes}
        )
        keys = sorted({name for entry in features for name in entry.attributes})
        hint = (
            f"{key.strip()} is {', '.join(there[:12])}."
            if there
            else f"The attributes are {', '.join(keys[:12]) or 'none'}."
        )
    else:
        name = wanted.strip().lower()
        found = [entry for entry in features if entry.name.lower() == name]
        layers = ("layer", "member")
        found = found or [e for e in features if any(str(e.attributes.get(k, "")).lower() == name for k in layers)]
        names = sorted({entry.name for entry in features if entry.name})
        hint = f"There is {', '.join(names[:12])}{' …' if len(names) > 12 else ''}." if names else "None has a name."
    if not found:
        raise AreaError(f"No polygon in {where} is {wanted}.", hint)
    return found

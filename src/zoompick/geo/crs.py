"""The only door to pyproj: reference systems by code, point transforms, the ellipsoid."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache, lru_cache
from typing import TYPE_CHECKING, Any

from zoompick.arrays import Floats
from zoompick.errors import UsageError
from zoompick.jsontypes import JsonObject
from zoompick.later import np, pyproj

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

_EPSG_NAME = re.compile(
    r"(?i)(?:(?:urn:(?:x-)?ogc:def:crs:)?epsg:(?:[\d.]*:)?|https?://[^/\s]+/(?:def/crs/epsg|gml/srs/epsg)[/.][^#\s]*?[/#])?"
    r"(\d{4,6})"
)
_LONLAT_NAME = re.compile(r"(?i)(?:urn:(?:x-)?ogc:def:crs:)?(?:ogc:(?:[\d.]*:)?)?crs:?84|https?://\S+/crs84")
METRES_A_DEGREE = 111_320.0
"""Of latitude, rounded: for sizes that need not be exact."""


@dataclass(frozen=True)
class Projection:
    """A map projection by method and parameters, named as in WKT2 (OGC 18-010r7).

    Attributes
    ----------
    parameters : mapping
        Angles in degrees, lengths in the unit of the system.
    base_epsg : int
        The system in degrees below it; 0 where only its ellipsoid is known.
    inverse_flattening : float
        0 for a sphere.
    """

    name: str
    method: str
    parameters: Mapping[str, float]
    metres_per_unit: float = 1.0
    base_epsg: int = 4326
    semi_major_m: float = 0.0
    inverse_flattening: float = 0.0


@dataclass(frozen=True, slots=True)
class Crs:
    """A coordinate reference system, known by its EPSG number, or by its text where the register has none for it.

    Axis order here is always x (easting, longitude) before y, whatever the register says.

    Attributes
    ----------
    epsg : int
        0 for a system outside the register.
    text : str
        Then its WKT2, on one line.
    """

    epsg: int
    text: str = ""

    @classmethod
    def parse(cls, text: str) -> Crs:
        """Read ``EPSG:32728``, ``32728``, a URN or an address of one, CRS84 (WGS 84), or well-known text.

        Source: OGC 07-092r3 (URNs of coordinate reference systems).

        Raises
        ------
        UsageError
            The text is neither, or the code is not in the register.
        """
        if "[" in text:
            return cls.from_wkt(text)
        if _LONLAT_NAME.fullmatch(text.strip()):
            return LONLAT
        match = _EPSG_NAME.fullmatch(text.strip())
        if not match:
            raise UsageError(
                f"'{text}' is not a coordinate reference system known here.",
                "Give an EPSG code, as EPSG:32728, or WKT2.",
            )
        crs = cls(int(match[1]))
        definition(crs)
        return crs

    @classmethod
    def from_wkt(cls, wkt: str) -> Crs:
        """The system that well-known text describes: that of the register, if one is the same.

        Raises
        ------
        UsageError
            It cannot be read, or is no system of the ground in two dimensions.
        """
        try:
            return cls._of(pyproj.CRS.from_wkt(wkt))
        except pyproj.exceptions.CRSError as error:
            raise UsageError(f"The reference system cannot be read: {error}.", "Give an EPSG code.") from error

    @classmethod
    def from_projection(cls, told: Projection) -> Crs:
        """The system of a map projection: that of the register, if one is the same.

        Raises
        ------
        UsageError
            Parameters are missing or absurd.
        """
        try:
            return cls._of(pyproj.CRS.from_json_dict(_json_of(told)))
        except pyproj.exceptions.ProjError as error:
            raise UsageError(f"The projection cannot be used: {error}.", "Give an EPSG code.") from error

    @classmethod
    def _of(cls, crs: pyproj.CRS) -> Crs:
        number = _registered(crs)
        if number is not None:
            return cls(number)
        if len(crs.axis_info) != _FLAT or not (crs.is_projected or crs.is_geographic):
            raise UsageError(
                f"The reference system {crs.name} is none of places on the ground.", "Give an EPSG code."
            )
        told = cls(0, crs.to_wkt("WKT2_2019"))
        plain = told.projection
        # In one form, so that systems that are the same have the same text whoever wrote them.
        return told if plain is None else cls(0, pyproj.CRS.from_json_dict(_json_of(plain)).to_wkt("WKT2_2019"))

    @classmethod
    def from_cf(cls, told: Mapping[str, object]) -> Crs:
        """The system that a CF grid mapping's attributes describe (CF conventions, appendix F).

        Raises
        ------
        UsageError
            They cannot be read.
        """
        try:
            plain = {key: value.decode() if isinstance(value, bytes) else value for key, value in told.items()}
            return cls.from_wkt(pyproj.CRS.from_cf(plain).to_wkt())
        except (pyproj.exceptions.CRSError, KeyError, TypeError, ValueError) as error:
            raise UsageError(f"The grid mapping cannot be read: {error}.", "Give an EPSG code.") from error

    def __str__(self) -> str:
        how = definition(self).coordinate_operation
        if not self.epsg and self.name in ("undefined", "unknown") and how is not None:
            return str(how.method_name)
        return self.code if self.epsg else self.name

    @property
    def code(self) -> str:
        """What :meth:`parse` reads."""
        return f"EPSG:{self.epsg}" if self.epsg else self.text

    @property
    def projection(self) -> Projection | None:
        """Method and parameters of a projected system; None of others."""
        found = definition(self)
        if found.coordinate_operation is None or not found.is_projected or found.is_bound:
            return None
        base, shape = found.geodetic_crs, found.ellipsoid
        if base is None or shape is None:
            return None
        parameters = {p.name: _plain(p, self.metres_per_unit) for p in found.coordinate_operation.params}
        number = base.to_epsg(min_confidence=70) or 0
        flat = 0.0 if math.isinf(shape.inverse_flattening) else float(shape.inverse_flattening)
        about = (number, float(shape.semi_major_metre), flat)
        return Projection(
            found.name, found.coordinate_operation.method_name, parameters, self.metres_per_unit, *about
        )

    @property
    def is_geographic(self) -> bool:
        """True when coordinates are degrees."""
        return bool(definition(self).is_geographic)

    @property
    def name(self) -> str:
        """The register's name, as ``WGS 84 / UTM zone 28S``."""
        return str(definition(self).name)

    @property
    def is_polar(self) -> bool:
        """True for the two polar stereographic systems that take UTM's place beyond 84 N and 80 S."""
        return self.epsg in (32661, 32761)

    @property
    def prj(self) -> str:
        """The text of a shapefile's ``.prj``."""
        return str(definition(self).to_wkt("WKT1_ESRI"))

    @property
    def wkt(self) -> str:
        """Well-known text as GeoPackage wants it (OGC 01-009)."""
        return str(definition(self).to_wkt("WKT1_GDAL"))

    @property
    def wkt2(self) -> str:
        """Well-known text of OGC 18-010r7."""
        return self.text or str(definition(self).to_wkt("WKT2_2019"))

    @property
    def is_north_first(self) -> bool:
        """True where the register names the northing or latitude first, as services that keep to it write it."""
        return bool(definition(self).axis_info[0].direction in ("north", "south"))

    @property
    def metres_per_unit(self) -> float:
        """Length of one unit of a projected CRS in metres."""
        return float(definition(self).axis_info[0].unit_conversion_factor)

    @property
    def unit_text(self) -> str:
        """Unit of coordinates, as it is written behind a number: ``°``, `` m``, `` ft``."""
        if self.is_geographic:
            return "°"
        metres = self.metres_per_unit
        known = {1.0: "m", 0.3048: "ft", 1200 / 3937: "US ft", 1000.0: "km"}
        return " " + next((unit for size, unit in known.items() if math.isclose(size, metres, rel_tol=1e-9)),
                          f"units of {metres:.6g} m")  # fmt: skip


LONLAT = Crs(4326)
"""WGS 84 longitude/latitude in degrees."""


@cache
def definition(crs: Crs) -> pyproj.CRS:
    """The library's own value for a system; UsageError for a number that the register does not have."""
    try:
        return pyproj.CRS.from_epsg(crs.epsg) if crs.epsg else pyproj.CRS.from_wkt(crs.text)
    except pyproj.exceptions.CRSError as error:
        raise UsageError(f"{crs.code or 'EPSG:0'} is not in the register.", "Check the number.") from error


_BEYOND_DEG = 10


def is_far_outside(crs: Crs, lon: float, lat: float) -> bool:
    """True for a position more than ten degrees outside the area that the register has a system for."""
    use = definition(crs).area_of_use
    if use is None:
        return abs(lon) > 180 or abs(lat) > 90
    across = (lon - use.west) % 360 if use.west > use.east else lon - use.west
    width = (use.east - use.west) % 360 if use.west > use.east else use.east - use.west
    outside = not (-_BEYOND_DEG <= across <= width + _BEYOND_DEG or width >= 360)
    return outside or not use.south - _BEYOND_DEG <= lat <= use.north + _BEYOND_DEG


_FLAT = 2


def _plain(parameter: Any, metres_per_unit: float) -> float:
    """A projection's parameter in degrees, in the system's unit of length, or as the ratio it is."""
    value, size = float(parameter.value), float(parameter.unit_conversion_factor)
    if _is_length(parameter.name):
        return value * size / metres_per_unit
    return value if parameter.unit_name in ("degree", "unity") else math.degrees(value * size)


def _is_length(parameter: str) -> bool:
    return any(word in parameter for word in ("asting", "orthing", "eight"))


def _json_of(told: Projection) -> JsonObject:
    """PROJJSON (version 0.7) of a projection."""
    if told.base_epsg:
        base = definition(Crs(told.base_epsg)).to_json_dict()
    else:
        base = _on_ellipsoid(told.semi_major_m, told.inverse_flattening or 0)
    unit = "metre" if told.metres_per_unit == 1 else {
        "type": "LinearUnit", "name": f"{told.metres_per_unit:.12g} m", "conversion_factor": told.metres_per_unit
    }  # fmt: skip
    parameters = [
        {"name": name, "value": value, "unit": _unit(name, unit)} for name, value in told.parameters.items()
    ]
    axes = [("Easting", "E", "east"), ("Northing", "N", "north")]
    return {
        "type": "ProjectedCRS", "name": told.name, "base_crs": base,
        "conversion": {"name": told.name, "method": {"name": told.method}, "parameters": parameters},
        "coordinate_system": {"subtype": "Cartesian", "axis": [
            {"name": name, "abbreviation": short, "direction": way, "unit": unit} for name, short, way in axes
        ]},
    }  # fmt: skip


def _on_ellipsoid(semi_major_m: float, inverse_flattening: float) -> JsonObject:
    """PROJJSON of longitude and latitude on an ellipsoid, or on a sphere, without a datum's name.

    By hand: the library looks through its whole register for the meridian of Greenwich.
    """
    size = {"semi_major_axis": semi_major_m, "inverse_flattening": inverse_flattening} if inverse_flattening else {
        "radius": semi_major_m
    }  # fmt: skip
    axes = [("Longitude", "lon", "east"), ("Latitude", "lat", "north")]
    return {
        "type": "GeographicCRS", "name": "undefined",
        "datum": {
            "type": "GeodeticReferenceFrame", "name": "undefined", "ellipsoid": {"name": "undefined", **size}
        },
        "coordinate_system": {"subtype": "ellipsoidal", "axis": [
            {"name": name, "abbreviation": short, "direction": way, "unit": "degree"} for name, short, way in axes
        ]},
    }  # fmt: skip


def _unit(parameter: str, length: Any) -> Any:
    if parameter.startswith("Scale"):
        return "unity"
    return length if _is_length(parameter) else "degree"


_ALIKE_M = 0.01


def _registered(crs: pyproj.CRS) -> int | None:
    """Number of a system in the register; of one without a datum, that under which points come out alike."""
    number = crs.to_epsg(min_confidence=70)
    if number is not None:
        return int(number)
    for candidate in crs.list_authority(auth_name="EPSG", min_confidence=0)[:8]:
        other = pyproj.CRS.from_epsg(int(candidate.code))
        area = other.area_of_use
        if area is None or other.is_geographic != crs.is_geographic:
            continue
        lons, lats = np.linspace(area.west, area.east, 5)[1:-1], np.linspace(area.south, area.north, 5)[1:-1]
        here, there = (
            np.array(pyproj.Transformer.from_crs(system.geodetic_crs, system, always_xy=True).transform(lons, lats))
            for system in (crs, other)
        )
        if np.isfinite(here).all() and np.abs(here - there).max() < _ALIKE_M:
            return int(candidate.code)
    return None


@lru_cache(maxsize=64)
def _transformer(source: Crs, target: Crs) -> pyproj.Transformer:
    return pyproj.Transformer.from_crs(definition(source), definition(target), always_xy=True)


@cache
def ellipsoid() -> pyproj.Geod:
    """The WGS 84 ellipsoid for geodesic areas and lengths."""
    return pyproj.Geod(ellps="WGS84")


def transform(xs: ArrayLike, ys: ArrayLike, source: Crs, target: Crs) -> tuple[Floats, Floats]:
    """Transform points between two systems.

    Parameters
    ----------
    xs, ys : array_like
        Coordinates of equal shape, x before y.

    Returns
    -------
    tuple of ndarray
        Arrays of the same shape; a point outside the target's domain comes back as infinity.
    """
    xs, ys = np.asarray(xs, dtype=float), np.asarray(ys, dtype=float)
    if source == target:
        return xs, ys
    out_x, out_y = _transformer(source, target).transform(xs, ys)
    return np.asarray(out_x), np.asarray(out_y)


class LocalPlane:
    """Metres east and north of a point: the azimuthal equidistant projection about it.

    Source: J. P. Snyder, Map projections: a working manual (1987), section 25.
    """

    def __init__(self, lon: float, lat: float) -> None:
        self._projection = pyproj.Proj(proj="aeqd", lon_0=lon, lat_0=lat, ellps="WGS84", over=True)

    def forward(self, lons: ArrayLike, lats: ArrayLike) -> tuple[Floats, Floats]:
        """Degrees to metres."""
        return self._projection(lons, lats)

    def inverse(self, xs: ArrayLike, ys: ArrayLike) -> tuple[Floats, Floats]:
        """Metres to degrees."""
        return self._projection(xs, ys, inverse=True)


def lonlat_from_wkt(xs: ArrayLike, ys: ArrayLike, wkt: str) -> tuple[Floats, Floats]:
    """Longitudes and latitudes (WGS 84) of points in a system told as WKT, as a ``.prj`` file holds it.

    Raises
    ------
    UsageError
        The text describes no reference system.
    """
    try:
        source = pyproj.CRS.from_wkt(wkt)
        transformer = pyproj.Transformer.from_crs(source, definition(LONLAT), always_xy=True)
    except pyproj.exceptions.ProjError as error:
        raise UsageError("The reference system told as WKT cannot be read.", "Look at the .prj file.") from error
    out_x, out_y = transformer.transform(np.asarray(xs, float), np.asarray(ys, float))
    return np.asarray(out_x), np.asarray(out_y)


def utm_for(lon: float, lat: float) -> Crs:
    """WGS 84 / UTM system whose zone holds a point, by the plain six-degree rule; UPS beyond 84 N and 80 S.

    Source: EPSG guidance note 7-2: zone = floor((lon + 180) / 6) + 1; 326zz north, 327zz south.
    """
    if lat >= 84 or lat < -80:
        return Crs(32661 if lat > 0 else 32761)
    zone = min(60, math.floor((lon + 180) / 6) + 1)
    return utm_zone(zone, lat >= 0)


def utm_zone(zone: int, is_north: bool) -> Crs:
    """WGS 84 / UTM system by the number of its zone, 1 to 60."""
    return Crs((32600 if is_north else 32700) + zone)

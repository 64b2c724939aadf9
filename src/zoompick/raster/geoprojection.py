"""Map projections outside the register, to and from the GeoTIFF keys that tell method and parameters.

Source: OGC GeoTIFF 1.1 (OGC 19-008r4), sections 7.5.2 to 7.5.4 and annex C; key numbers as there.
"""

from __future__ import annotations

import math
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from importlib import resources

from zoompick.errors import FormatError, UsageError
from zoompick.geo.crs import Crs, Projection
from zoompick.jsontypes import JsonObject

CITATION, GEODETIC_CRS, PROJECTED_CRS, PROJECTED_CITATION = 1026, 2048, 3072, 3073
USER_DEFINED = 32767
_MODEL_TYPE, _RASTER_TYPE, _PROJECTED, _PIXEL_IS_AREA = 1024, 1025, 1, 1
_ELLIPSOID, _SEMI_MAJOR, _SEMI_MINOR, _INVERSE_FLATTENING = 2056, 2057, 2058, 2059
_CONVERSION, _METHOD, _UNIT, _UNIT_SIZE = 3074, 3075, 3076, 3077
_SCALE, _POLE, _PARALLEL = "Scale factor at natural origin", 90.0, 3078
_POLAR_A, _MERCATOR_B = "Polar Stereographic (variant A)", "Mercator (variant B)"
_UNITS_M = {9001: 1.0, 9002: 0.3048, 9003: 1200 / 3937, 9036: 1000.0}
"""Metres to a unit of length, by its number in the register."""

Keys = Mapping[int, int | float | str]


@dataclass(frozen=True)
class _Method:
    number: int
    name: str
    parameters: Mapping[str, Sequence[int]]


def keys_of(crs: Crs) -> list[tuple[int, int | float | str]]:
    """Keys that tell a projected system outside the register, in ascending order.

    Raises
    ------
    UsageError
        GeoTIFF has no keys for it.
    """
    told = crs.projection
    method = next((one for one in _methods() if told and one.name == told.method), None)
    unit = next((n for n, metres in _UNITS_M.items() if told and math.isclose(metres, told.metres_per_unit)), None)
    if told is None or method is None or unit is None:
        how = f"its method is {told.method}" if told else "it is no plain projected system"
        raise UsageError(
            f"A GeoTIFF cannot tell the reference system {crs.name}: {how}.",
            f"GeoTIFF has {', '.join(dict.fromkeys(one.name for one in _methods()))}; or take an EPSG code.",
        )
    keys: dict[int, int | float | str] = {
        _MODEL_TYPE: _PROJECTED, _RASTER_TYPE: _PIXEL_IS_AREA, CITATION: crs.name, PROJECTED_CRS: USER_DEFINED,
        PROJECTED_CITATION: crs.name, _CONVERSION: USER_DEFINED, _METHOD: method.number, _UNIT: unit,
    }  # fmt: skip
    if told.base_epsg:
        keys[GEODETIC_CRS] = told.base_epsg
    else:
        keys |= {GEODETIC_CRS: USER_DEFINED, _ELLIPSOID: USER_DEFINED, _SEMI_MAJOR: told.semi_major_m}
        flat = {_INVERSE_FLATTENING: told.inverse_flattening} if told.inverse_flattening else {}
        keys |= flat or {_SEMI_MINOR: told.semi_major_m}
    for name, value in told.parameters.items():
        if name in method.parameters:
            keys[method.parameters[name][0]] = float(value)
    return sorted(keys.items())


def crs_of(keys: Keys, address: str) -> Crs:
    """The projected system that keys tell by method and parameters.

    Raises
    ------
    FormatError
        The keys tell none, or one of another method.
    """
    number = keys.get(_METHOD)
    method = _method(keys)
    metres = _UNITS_M.get(int(keys.get(_UNIT, 9001)), keys.get(_UNIT_SIZE))
    if method is None or not isinstance(metres, float) or not metres > 0:
        raise FormatError(
            f"{address} does not name its coordinate reference system by an EPSG number"
            + (f", nor by a projection known here: method {number}." if number else "."),
            "Write it again with one, as EPSG:32728.",
        )
    found = {name: _value(keys, method, name, 1.0 if name == _SCALE else 0.0) for name in method.parameters}
    base, name = keys.get(GEODETIC_CRS, USER_DEFINED), _named(keys)
    epsg = int(base) if isinstance(base, int) and base != USER_DEFINED else 0
    shape = (0.0, 0.0) if epsg else _ellipsoid(keys)
    try:
        return Crs.from_projection(Projection(name, method.name, found, float(metres), epsg, *shape))
    except UsageError as error:
        raise FormatError(f"{address} tells a reference system that cannot be used: {error.what}") from error


def _method(keys: Keys) -> _Method | None:
    """The method that keys tell; of two variants under one number that which the parameters tell."""
    found = [one for one in _methods() if one.number == keys.get(_METHOD)]
    for one in found[1:]:
        if one.name == _POLAR_A and abs(_value(keys, one, "Latitude of natural origin", 0.0)) == _POLE:
            return one
        if one.name == _MERCATOR_B and isinstance(keys.get(_PARALLEL), float):
            return one
    return found[0] if found else None


def _named(keys: Keys) -> str:
    """The name that keys give the system; texts end with a bar, and some hold several facts between bars."""
    text = str(keys.get(PROJECTED_CITATION) or keys.get(CITATION) or "")
    return text.split("|")[0].strip() or "unnamed projection"


def _value(keys: Keys, method: _Method, name: str, missing: float) -> float:
    return next((float(keys[key]) for key in method.parameters[name] if isinstance(keys.get(key), float)), missing)


def _ellipsoid(keys: Keys) -> tuple[float, float]:
    """Semi-major axis in metres and inverse flattening, 0 for a sphere; WGS 84 where keys tell none."""
    major, minor, inverse = (keys.get(key) for key in (_SEMI_MAJOR, _SEMI_MINOR, _INVERSE_FLATTENING))
    if not isinstance(major, float) or not major > 0:
        return 6378137.0, 298.257223563
    if isinstance(inverse, float) and math.isfinite(inverse):
        return major, inverse
    if isinstance(minor, float) and 0 < minor < major:
        return major, major / (major - minor)
    return major, 0.0


@cache
def _methods() -> tuple[_Method, ...]:
    text = resources.files("zoompick.raster").joinpath("data/projections.toml").read_text(encoding="utf-8")
    rows: list[JsonObject] = tomllib.loads(text)["method"]
    return tuple(_Method(**row) for row in rows)

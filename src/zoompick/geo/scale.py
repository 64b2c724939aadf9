"""How long a unit of a reference system is on the ground, place by place.

Neighbouring places are put on the ellipsoid, and the chord between them is measured: exact to a millionth, in any
projection, at the poles and across 180 degrees too.
Source: J. P. Snyder, Map Projections: A Working Manual, USGS Professional Paper 1395 (1987), chapters 3 and 4.
"""

from __future__ import annotations

from dataclasses import dataclass

from zoompick.arrays import Floats
from zoompick.geo.crs import LONLAT, Crs, ellipsoid, transform
from zoompick.later import np

_CHORD_M, _CHORD_DEG = 20.0, 2e-4


@dataclass(frozen=True)
class Scales:
    """Of some places, arrays of one shape; NaN where a system has no place.

    Attributes
    ----------
    x_m, y_m : ndarray
        Metres on the ground of a unit along x and along y.
    area_m2 : ndarray
        Square metres on the ground of a square unit.
    """

    x_m: Floats
    y_m: Floats
    area_m2: Floats


def scales_at(xs: Floats, ys: Floats, crs: Crs) -> Scales:
    """Local scales at places of a system, arrays of one shape."""
    chord = _CHORD_DEG if crs.is_geographic else _CHORD_M / crs.metres_per_unit
    half = chord / 2
    along = (_places(xs + half, ys, crs) - _places(xs - half, ys, crs)) / chord
    up = (_places(xs, ys + half, crs) - _places(xs, ys - half, crs)) / chord
    with np.errstate(invalid="ignore"):
        area = np.linalg.norm(np.cross(along, up), axis=-1)
        return Scales(np.linalg.norm(along, axis=-1), np.linalg.norm(up, axis=-1), area)


def _places(xs: Floats, ys: Floats, crs: Crs) -> Floats:
    """Places on the ellipsoid as metres from its middle, shape (..., 3)."""
    lons, lats = (np.radians(np.where(np.isfinite(one), one, np.nan)) for one in transform(xs, ys, crs, LONLAT))
    body = ellipsoid()
    normal = body.a / np.sqrt(1 - body.es * np.sin(lats) ** 2)
    flat = normal * np.cos(lats)
    return np.stack([flat * np.cos(lons), flat * np.sin(lons), normal * (1 - body.es) * np.sin(lats)], axis=-1)

"""The ground as a formula: reflectance, clouds and what covers the ground, anywhere on Earth.

All functions take longitude and latitude in degrees, arrays of one shape, and give arrays of that shape.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

LON, LAT = -12.055, -38.615
"""Middle of the fen."""
_REACH_LON, _REACH_LAT = 0.05, 0.04
_BASE = {"blue": 0.07, "green": 0.10, "red": 0.09, "nir": 0.31, "swir16": 0.21}
_LAKE = {"blue": 0.06, "green": 0.05, "red": 0.03, "nir": 0.02, "swir16": 0.01}
_CLOUD = 0.62
_SOFT = 0.08
KINDS = ("water", "thick", "thin", "shadow", "soil", "rice", "unsure", "broken")


def reflectance(band: str, lon: Any, lat: Any, cloud: tuple[float, float] | None = None) -> Any:
    """Reflectance of a band; a cloud lies about its middle, ``(lon, lat)``, where there is one.

    It varies slowly, so that any decent interpolation comes within a hundredth of it; edges of cloud alone are hard.
    """
    u, v = _local(lon, lat)
    hills = 1 + 0.25 * np.sin(2.1 * u + len(band)) * np.cos(1.7 * v) + 0.1 * np.cos(3.3 * (u + v))
    share = _water(u, v)
    ground = _BASE[band] * hills * (1 - share) + _LAKE[band] * share
    found = kinds(lon, lat, cloud)
    ground = np.where(found["shadow"], 0.35 * ground, ground)
    return np.where(found["thick"], _CLOUD, np.where(found["thin"], 0.5 * (ground + _CLOUD), ground))


def kinds(lon: Any, lat: Any, cloud: tuple[float, float] | None = None) -> Mapping[str, Any]:
    """Where each kind of ground or sky is, by name; each place is of one kind at most."""
    u, v = _local(lon, lat)
    blank = np.zeros(np.shape(u), bool)
    thick, thin, shadow = blank, blank, blank
    if cloud is not None:
        middle = _local(np.asarray(cloud[0]), np.asarray(cloud[1]))
        away = np.hypot(u - middle[0], v - middle[1])
        thick, thin = away < 0.22, (away >= 0.22) & (away < 0.34)
        shadow = (np.hypot(u - middle[0] - 0.3, v - middle[1] + 0.3) < 0.2) & ~thick & ~thin
    free = ~(thick | thin | shadow)
    water = free & (_water(u, v) > 0.5)
    broken = free & ~water & (np.abs(u + 0.9) < 0.06) & (np.abs(v) < 0.5)
    unsure = free & ~water & (np.abs(u - 0.9) < 0.06) & (np.abs(v) < 0.5)
    dry = free & ~water & ~broken & ~unsure
    soil = dry & (np.sin(5 * u) > 0)
    return {"water": water, "thick": thick, "thin": thin, "shadow": shadow, "soil": soil, "rice": dry & ~soil,
            "unsure": unsure, "broken": broken}  # fmt: skip


def warmth(lon: Any, lat: Any) -> Any:
    """Temperature of the sea in kelvin: smooth over the whole globe, the antimeridian and the poles too."""
    x, y = np.radians(lon), np.radians(lat)
    return 285 + 12 * np.cos(y) ** 2 + 2 * np.cos(y) * np.cos(x) + np.sin(3 * y)


def rain(lon: Any, lat: Any) -> Any:
    """Rain in mm, from 0 to about 20."""
    u, v = _local(lon, lat)
    return 10 + 6 * np.sin(0.7 * u) + 4 * np.cos(0.9 * v)


def _local(lon: Any, lat: Any) -> tuple[Any, Any]:
    return (lon - LON) / _REACH_LON, (lat - LAT) / _REACH_LAT


def _water(u: Any, v: Any) -> Any:
    """Share of water, about a lake with a soft shore."""
    return 1 / (1 + np.exp((np.hypot((u + 0.25) / 0.45, (v - 0.2) / 0.35) - 1) / _SOFT))

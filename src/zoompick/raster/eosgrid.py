"""Grids as the text of HDF-EOS files tells them, in HDF4 and in HDF5: in degrees, UTM or sinusoidal.

Source: HDF-EOS Library Users Guide, volume 1, section "Grid"; General Cartographic Transformation Package for its
angles and parameters.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from zoompick.geo.crs import LONLAT, Crs, Projection, utm_zone
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import np

TEXT = "StructMetadata"
"""What the attribute, or the dataset, that holds the text is called, a number behind it."""


@dataclass(frozen=True)
class EosGrid:
    """A grid of such a file.

    Attributes
    ----------
    shape : (int, int)
        Rows and columns.
    told : mapping
        Its system, its west and north, and the size of its pixels.
    fields : frozenset of str
        Datasets on it; where the text names none, all of its size are.
    """

    name: str
    shape: tuple[int, int]
    told: JsonMap
    fields: frozenset[str] = frozenset()

    def holds(self, path: str, shape: tuple[int, int]) -> bool:
        """True when a dataset of some size lies on it."""
        *groups, name = path.split("/")
        is_elsewhere = "GRIDS" in groups and self.name not in groups
        return shape == self.shape and not is_elsewhere and (not self.fields or name in self.fields)


def grids_in(text: str) -> tuple[EosGrid, ...]:
    """The grids that the text tells."""
    found = []
    for block in re.findall(r"GROUP=GRID_\d+(.*?)END_GROUP=GRID_\d+", text, re.DOTALL):
        told = dict(re.findall(r"(\w+)=\"?([^\"\n]+)\"?", block))
        place = _eos_grid(told)
        if place is not None:
            fields = frozenset(re.findall(r"DataFieldName=\"([^\"\n]+)\"", block))
            found.append(EosGrid(told.get("GridName", "").strip(), place[0], place[1], fields))
    return tuple(found)


def _eos_grid(told: dict[str, str]) -> tuple[tuple[int, int], JsonObject] | None:
    """Rows and columns, and where they lie, of a grid of square pixels in degrees, a UTM zone, or sinusoidal."""
    try:
        cols, rows = int(told["XDim"]), int(told["YDim"])
        (west, north), (east, south) = (
            tuple(float(value) for value in told[key].strip("()").split(","))
            for key in ("UpperLeftPointMtrs", "LowerRightMtrs")
        )
        projection, zone = told["Projection"].strip(), int(told.get("ZoneCode", "0"))
        params = [float(value) for value in told.get("ProjParams", "").strip("()").split(",") if value.strip()]
    except (KeyError, ValueError):
        return None
    if projection == "GCTP_GEO":
        crs, (west, north, east, south) = LONLAT, map(_packed_degrees, (west, north, east, south))
    elif projection == "GCTP_UTM" and 1 <= abs(zone) <= _ZONES:
        crs = utm_zone(abs(zone), zone > 0)
    elif projection == "GCTP_SNSOID" and params:
        crs = _sinusoidal(params)
    else:
        return None
    pixel = (east - west) / cols
    if pixel <= 0 or abs((north - south) / rows / pixel - 1) > 1e-6:
        return None
    return (rows, cols), {"crs": crs.code, "west": west, "north": north, "pixel_m": pixel}


_ZONES = 60


def _sinusoidal(params: list[float]) -> Crs:
    """Parameters of the transformation package: 1 the sphere's radius, 5 the meridian, 7 and 8 false origin."""
    radius, meridian, east, north = (params[at] if at < len(params) else 0.0 for at in (0, 4, 6, 7))
    told = {"Longitude of natural origin": _packed_degrees(meridian), "False easting": east, "False northing": north}
    return Crs.from_projection(Projection("Sinusoidal", "Sinusoidal", told, 1.0, 0, radius or _SPHERE_M, 0.0))


_SPHERE_M = 6370997.0
"""The package's own, where no radius is told."""


def _packed_degrees(value: float) -> float:
    """DDDMMMSSS.SS as degrees."""
    degrees, rest = divmod(abs(value), 1_000_000)
    minutes, seconds = divmod(rest, 1000)
    return float(np.copysign(degrees + minutes / 60 + seconds / 3600, value))

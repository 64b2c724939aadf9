"""Collections and items of the rude archive, by hand; each says in its docstring where it has no manners."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cache, partial
from pathlib import Path
from typing import Any

import numpy as np

from zoompick.standin.rude import truth
from zoompick.standin.rude.containers import ocean_swath, weather_grid
from zoompick.standin.rude.files import write_tiff
from zoompick.standin.rude.places import FEET, Place

BOX = (-12.12, -38.665, -11.99, -38.565)
"""What the grids cover, in degrees."""
Cloud = tuple[float, float]
Maker = Callable[[Path], None]


@dataclass(frozen=True)
class RudeItem:
    """An item: what it tells, and how each of its files is made.

    Attributes
    ----------
    told : mapping
        Its properties.
    assets : mapping
        What it tells of each asset, by key, without an address; an asset's file is named after its key.
    makers : mapping
        What writes a file, by its name.
    geometry : mapping or None
        Its footprint.
    """

    collection: str
    id: str
    told: Mapping[str, Any]
    assets: Mapping[str, Mapping[str, Any]]
    makers: Mapping[str, Maker] = field(compare=False)
    geometry: Mapping[str, Any] | None

    @property
    def span(self) -> tuple[datetime, datetime]:
        """First and last moment."""
        first = str(self.told.get("start_datetime") or self.told.get("datetime"))
        last = str(self.told.get("end_datetime") or self.told.get("datetime"))
        return _moment(first), _moment(last)


def _moment(text: str) -> datetime:
    try:
        return datetime.fromisoformat(text).astimezone(UTC)
    except ValueError:
        return datetime(2025, 12, 1, tzinfo=UTC)


def _polygon(ring: list[list[float]]) -> dict[str, Any]:
    return {"type": "Polygon", "coordinates": [ring]}


CODES = {0: "no-data", 1: "unclassified", 2: "defective", 3: "cloud_free", 4: "thin cloud", 5: "bare soil", 6: "rice",
         7: "water", 8: "dense_cloud", 9: "cloud shadow"}  # fmt: skip
_OF_KIND = {"water": 7, "thick": 8, "thin": 4, "shadow": 9, "soil": 5, "rice": 6, "unsure": 1, "broken": 2}
BITS = {"water": 0, "thick": 3, "thin": 4, "shadow": 5, "unsure": 9, "broken": 10}


_TIFF, _COG = "image/tiff", "image/tiff; application=geotiff"


def _scaled(path: Path, name: str, place: Place, cloud: Cloud | None = None) -> None:
    """Reflectance by ten thousand, 0 for what is missing."""
    stored = np.rint(truth.reflectance(name, *place.lonlat, cloud) * 10_000)
    write_tiff(path, stored.clip(1).astype(np.uint16)[np.newaxis], place, "0")


def _floats(path: Path, names: Sequence[str], place: Place, cloud: Cloud | None) -> None:
    """Reflectance as it is, bands together, two rows missing."""
    pixels = np.stack([truth.reflectance(name, *place.lonlat, cloud) for name in names]).astype(np.float32)
    pixels[:, :2] = np.nan
    write_tiff(path, pixels, place, "nan")


def _signed(path: Path, name: str, place: Place) -> None:
    """Reflectance about a middle, so that numbers lie on both sides of no data; three rows missing."""
    stored = np.rint((truth.reflectance(name, *place.lonlat) - 0.1) * 1000).astype(np.int16)
    # What would be 0 and is not missing steps aside, as the makers of such files do.
    stored[stored == 0] = 1
    stored[-3:, :] = 0
    write_tiff(path, stored[np.newaxis], place, "0", tile=None if name == "nir" else 64)


def _codes(path: Path, place: Place, cloud: Cloud | None) -> None:
    """Classes by codes; a row and a column without data, and no tag that tells it."""
    found = truth.kinds(*place.lonlat, cloud)
    codes = np.zeros((place.height, place.width), np.uint8)
    for name, where in found.items():
        codes[where] = _OF_KIND[name]
    codes[found["rice"] & (place.lonlat[1] < truth.LAT)] = 3
    codes[0, :] = codes[:, 0] = 0
    write_tiff(path, codes[np.newaxis], place)


def _bits(path: Path, place: Place, cloud: Cloud | None) -> None:
    """Classes by bits."""
    codes = np.zeros((place.height, place.width), np.uint16)
    for name, where in truth.kinds(*place.lonlat, cloud).items():
        codes[where] |= np.uint16(1 << BITS[name]) if name in BITS else np.uint16(0)
    write_tiff(path, codes[np.newaxis], place, tile=None)


def petrel() -> list[RudeItem]:
    """Mercator metres, STAC 1.0 bands, words of another tradition, cloud without a prefix.

    Nothing tells sizes, digests or a licence, addresses are relative, and one item of four cannot be read.
    """
    place, names = Place.around(3857, BOX, (32.0, 32.0)), ("blue", "green", "red", "nir")
    assets: dict[str, Any] = {
        name: {"type": _COG, "roles": ["data"], "eo:bands": [{"name": f"P{number}", "common_name": name}],
               "raster:bands": [{"scale": 0.0001, "nodata": 0}]}
        for number, name in enumerate(names, 1)
    }  # fmt: skip
    classes = [{"value": code, "name": word} for code, word in CODES.items()]
    assets["scl"] = {"type": _COG, "roles": ["data"], "classification:classes": classes}
    found = []
    clouds = {"2025-12-03": (-12.04, -38.60), "2025-12-11": None, "2025-12-19": (-12.09, -38.63)}
    for day, cloud in clouds.items():
        makers: dict[str, Maker] = {
            f"{name}.tif": partial(_scaled, name=name, place=place, cloud=cloud) for name in names
        }
        makers["scl.tif"] = partial(_codes, place=place, cloud=cloud)
        told = {"datetime": f"{day}T10:41:07.25+00:00", "platform": "petrel-1", "proj:epsg": 3857,
                "cloud_cover": 0 if cloud is None else 11}  # fmt: skip
        found.append(RudeItem("petrel-mercator", f"petrel-{day}", told, assets, makers, _polygon(place.ring)))
    bad = {"datetime": "the day before yesterday", "cloud_cover": "a little"}
    odd = {"type": "Polygon", "coordinates": [[[-12.1, -38.6], [-12.0, "south"]]]}
    return [found[0], RudeItem("petrel-mercator", "petrel-unreadable", bad, {}, {}, odd), *found[1:]]


def knot() -> list[RudeItem]:
    """Degrees, floats with NaN, flags in bits, a month for a moment (``datetime`` null), a percentage as text."""
    place, names = Place.around(4326, BOX, (0.0004, 0.0003)), ("blue", "green", "red", "nir")
    bands = [
        {"name": name.upper(), "eo:common_name": name, "data_type": "float32", "nodata": "nan"} for name in names
    ]
    words = {"water": "water", "thick": "cloud", "thin": "cirrus", "shadow": "cloud_shadow", "unsure": "unclassified",
             "broken": "saturated"}  # fmt: skip
    fields = [{"name": word, "offset": BITS[kind], "length": 1,
               "classes": [{"value": 0, "name": f"no_{word}"}, {"value": 1, "name": word}]}
              for kind, word in words.items()]  # fmt: skip
    assets = {"sr": {"type": _TIFF, "roles": ["data"], "bands": bands},
              "qa": {"type": _TIFF, "roles": ["data"], "classification:bitfields": fields}}  # fmt: skip
    found = []
    for month, days, cloud in ((11, 30, (-12.03, -38.62)), (12, 31, None)):
        makers = {"sr.tif": partial(_floats, names=names, place=place, cloud=cloud),
                  "qa.tif": partial(_bits, place=place, cloud=cloud)}  # fmt: skip
        told = {"datetime": None, "start_datetime": f"2025-{month}-01T00:00:00Z",
                "end_datetime": f"2025-{month}-{days}T23:59:59Z", "proj:code": "EPSG:4326",
                "eo:cloud_cover": "9.5" if cloud else None, "gsd": 30}  # fmt: skip
        found.append(RudeItem("knot-monthly", f"knot-2025{month}", told, assets, makers, _polygon(place.ring)))
    return found


def plover() -> list[RudeItem]:
    """A system in feet that no register has, three lattices that do not fit, signed numbers, no names of bands."""
    lattices = {"red": (60.0, 0.0), "nir": (90.0, 0.4), "swir16": (200.0, 0.7)}
    places = {name: Place.around(FEET, BOX, (pixel, pixel), shift) for name, (pixel, shift) in lattices.items()}
    about = {"type": _TIFF, "roles": ["data"], "raster:scale": 0.001, "raster:offset": 0.1}
    found = []
    for day in ("2025-12-05", "2025-12-13"):
        makers = {f"{name}.tif": partial(_signed, name=name, place=place) for name, place in places.items()}
        told = {"datetime": f"{day}T11:02:00Z", "proj:code": None, "proj:wkt2": FEET, "eo:cloud_cover": 0}
        found.append(RudeItem("plover-feet", f"plover-{day}", told, dict.fromkeys(lattices, about), makers,
                              _polygon(places["red"].ring)))  # fmt: skip
    return found


def dunnock() -> list[RudeItem]:
    """One pass over midnight UTC in two halves, on two days by their moments; no cloud, no class layer."""
    middle = (BOX[1] + BOX[3]) / 2
    halves = {"2025-12-09T23:59:41Z": (BOX[0], middle - 0.004, BOX[2], BOX[3]),
              "2025-12-10T00:00:09Z": (BOX[0], BOX[1], BOX[2], middle + 0.004)}  # fmt: skip
    names = ("green", "red", "nir")
    assets = {name: {"type": _COG, "roles": ["data"], "bands": [{"name": name, "eo:common_name": name}],
                     "raster:scale": 0.0001, "raster:offset": 0} for name in names}  # fmt: skip
    found = []
    for number, (moment, box) in enumerate(halves.items()):
        place = Place.around(32728, box, (40.0, 40.0))
        makers = {f"{name}.tif": partial(_scaled, name=name, place=place) for name in names}
        told = {"datetime": moment, "platform": "dunnock-1", "proj:epsg": 32728, "sat:relative_orbit": 41}
        found.append(RudeItem("dunnock-midnight", f"dunnock-{number}", told, assets, makers, _polygon(place.ring)))
    return found


def skua() -> list[RudeItem]:
    """Swaths, one over 180 degrees and one over the pole: places packed as whole numbers, variables in groups."""
    over = {"type": "MultiPolygon", "coordinates": [
        [[[176.0, -19.5], [180.0, -19.5], [180.0, -14.5], [176.0, -14.5], [176.0, -19.5]]],
        [[[-180.0, -19.5], [-178.8, -19.5], [-178.8, -14.5], [-180.0, -14.5], [-180.0, -19.5]]],
    ]}  # fmt: skip
    cap = _polygon([[-180.0, 86.5], [180.0, 86.5], [180.0, 90.0], [-180.0, 90.0], [-180.0, 86.5]])
    swaths: dict[str, tuple[tuple[float, float], str, Mapping[str, Any]]] = {
        "skua-antimeridian": ((178.6, -17.0), "2025-12-07T01:10:00Z", over),
        "skua-pole": ((40.0, 89.0), "2025-12-07T02:02:00Z", cap),
    }
    assets = {"granule": {"type": "application/x-netcdf", "roles": ["data"], "bands": [{"name": "sst"}]}}
    return [
        RudeItem("skua-swaths", name, {"datetime": moment, "platform": "skua-1"}, assets,
                 {"granule.nc": partial(ocean_swath, middle=middle)}, outline)
        for name, (middle, moment, outline) in swaths.items()
    ]  # fmt: skip


def whimbrel() -> list[RudeItem]:
    """A netCDF grid of uneven rows and packed longitudes from 0 to 360, in a group, missing in three ways."""
    ring = [[-14.0, -41.0], [-10.0, -41.0], [-10.0, -36.0], [-14.0, -36.0], [-14.0, -41.0]]
    told = {"datetime": "2025-12-08T12:00:00Z", "cloud_cover": None}
    names = [{"name": "rain"}, {"name": "warmth"}]
    assets = {"data": {"type": "application/netcdf", "roles": ["data"], "bands": names}}
    return [
        RudeItem("whimbrel-weather", "whimbrel-20251208", told, assets, {"data.nc": weather_grid}, _polygon(ring))
    ]


@cache
def items() -> tuple[RudeItem, ...]:
    """All items."""
    return tuple(one for make in COLLECTIONS.values() for one in make())


COLLECTIONS: Mapping[str, Callable[[], list[RudeItem]]] = {
    "petrel-mercator": petrel, "knot-monthly": knot, "plover-feet": plover, "dunnock-midnight": dunnock,
    "skua-swaths": skua, "whimbrel-weather": whimbrel,
}  # fmt: skip

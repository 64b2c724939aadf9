"""Tern: an ocean instrument, 750 m, a wide swath in short granules, by day and by night."""

from __future__ import annotations

import random
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import shapely

from zoompick.geo.crs import LONLAT, transform
from zoompick.standin import ground, land, package, stac, world
from zoompick.standin.container import Variable, write_container
from zoompick.standin.ground import Shot
from zoompick.standin.noise import fractal
from zoompick.standin.passes import Pass
from zoompick.standin.simple import Simple
from zoompick.standin.store import Store
from zoompick.standin.sun import Sun

_USES = ("eo", "view", "file", "processing")
_BEGIN, _DAYS = datetime(2025, 11, 10, tzinfo=UTC), 60
_DAY_HOURS, _NIGHT_HOURS = 13.1, 1.6
_COLS, _ROWS = 2000, 420
_PIXEL_M = 750.0
_LEAN = 0.17
"""Ground metres west per metre along the track."""
_GRANULES = (-1, 0, 1)
_SECONDS = 48
_CLOUDY, _EVERY = 1, 6


def _shots() -> list[Shot]:
    """Three granules in a row from each pass, two passes a day."""
    rng = random.Random(750)
    found: list[Shot] = []
    for day in range(_DAYS):
        for hours in (_NIGHT_HOURS, _DAY_HOURS):
            start = _BEGIN + timedelta(days=day, hours=hours, seconds=rng.randrange(2400))
            offset_m, cloud = rng.uniform(-550_000, 550_000), rng.uniform(5, 95)
            for granule in _GRANULES:
                when = start + timedelta(seconds=_SECONDS * granule)
                seen = Pass(7000 + len(found), "", when, offset_m / 1000, cloud, "bank", 0.0, 0.0)
                facts = {"granule": granule, "is_day": hours == _DAY_HOURS}
                name = f"tern-{when:%Y%m%dt%H%M%S}-{'d' if facts['is_day'] else 'n'}"
                last = when + timedelta(seconds=_SECONDS)
                found.append(Shot(name, _outline(seen, granule), seen, last, facts))
    return found


def _places(seen: Pass, granule: int, rows: Any, cols: Any) -> tuple[Any, Any]:
    """Longitude and latitude of pixels, shape (rows, cols).

    A plain metric net around the islands, good enough for an invented orbit.
    """
    down, across = np.meshgrid(rows, cols, indexing="ij")
    along_m = (down + (granule - 0.5) * _ROWS) * _PIXEL_M
    across_m = (across - _COLS / 2) * _PIXEL_M + seen.centre_km * 1000 - _LEAN * along_m
    lat = world.CENTRE_LAT - along_m / 111_000
    return world.CENTRE_LON + across_m / (111_000 * np.cos(np.radians(lat))), lat


def _all_places(scene: Shot) -> tuple[Any, Any]:
    return _places(scene.seen, scene.facts["granule"], np.arange(_ROWS), np.arange(_COLS))


def _outline(seen: Pass, granule: int) -> Any:
    """Around the pixels, corners and a few points between them."""
    lon, lat = _places(seen, granule, np.linspace(-0.5, _ROWS - 0.5, 5), np.linspace(-0.5, _COLS - 0.5, 17))
    edge = [(lon[0], lat[0]), (lon[:, -1], lat[:, -1]), (lon[-1, ::-1], lat[-1, ::-1]), (lon[::-1, 0], lat[::-1, 0])]
    ring = [(float(x), float(y)) for xs, ys in edge for x, y in zip(xs, ys, strict=True)]
    return shapely.remove_repeated_points(shapely.Polygon(ring))


@cache
def _cloud(seed: int, percent: float) -> Any:
    """True where a granule is cloudy, shape (rows, cols): exactly the share that its item tells."""
    field = fractal((_ROWS, _COLS), 3.0, seed, _PIXEL_M)
    return field > np.quantile(field, 1 - percent / 100)


class Tern(Simple):
    """A radiometer that sees the ocean twice a day."""

    name = "tern-ocean"
    groups = ("", "look", "package")
    facts_name, look_title = "tern", "Sea surface temperature on the swath"

    def shots(self) -> Sequence[Shot]:
        """All granules, made anew."""
        return _shots()

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        return stac.collection(
            self.facts, base, self.scenes(), {"platform": ["tern-1"], "gsd": [750]}, {"granule": self._about(True)}
        )

    def _about(self, is_day: bool) -> dict[str, Any]:
        bands = [entry for entry in self.facts["band"] if is_day or entry["nights"]]
        return {
            "type": "application/x-netcdf", "roles": ["data"], "title": "Swath with a place for each pixel",
            "gsd": 750,
            "bands": [{"name": entry["name"], "description": entry["title"]} for entry in bands],
        }  # fmt: skip

    def item(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        """A granule as a STAC Item; by night it has no band of reflected light."""
        known = store.published(self, scene)
        file = f"{scene.id}.nc"
        centre = scene.footprint.centroid
        sun = Sun.at(scene.when, centre.x, centre.y)
        assets = {
            "granule": self._about(scene.facts["is_day"])
            | {"href": f"{base}/files/{scene.id}/{file}"}
            | stac.published(known, file),
            "quicklook": self.quicklook(scene, base, known),
            "package": self.package(f"{file}.bz2", base, scene, known, "application/x-bzip2"),
        }
        properties = {
            "created": stac.moment(scene.until + timedelta(hours=3)),
            "platform": "tern-1",
            "gsd": 750,
            "eo:cloud_cover": round(scene.seen.cloud_percent, 1),
            "view:sun_azimuth": round(sun.azimuth_deg, 2),
            "view:sun_elevation": round(sun.elevation_deg, 2),
            "ost:day_night": "day" if scene.facts["is_day"] else "night",
        }
        return stac.item(self.facts, scene, base, properties, assets, _USES)

    def make(self, scene: Shot, group: str, folder: Path, cache: Path) -> None:
        """The granule, or the quicklook alone, which lies on the swath too."""
        if group != "look":
            super().make(scene, group, folder, cache)
            return
        cloudy, dry = _cloud(scene.seen.seed, scene.seen.cloud_percent), _land(scene)
        shade = np.clip((_temperature(scene) - 284) / 12, 0, 1) * 255
        layers = [np.where(cloudy, 235, np.where(dry, 90, level)) for level in (shade, 0.6 * shade, 255 - shade)]
        small = np.dstack(layers)[::_EVERY, ::_EVERY].astype(np.uint8)
        path = folder / f"{scene.id}-quicklook.png"
        path.write_bytes(imagecodecs.png_encode(np.ascontiguousarray(small)))

    def pack(self, scene: Shot, data: Path, folder: Path) -> None:
        """The granule, smaller."""
        package.compressed(data / f"{scene.id}.nc", folder / f"{scene.id}.nc.bz2")

    def make_data(self, scene: Shot, folder: Path, cache: Path) -> None:
        """The granule."""
        cloudy = _cloud(scene.seen.seed, scene.seen.cloud_percent)
        warm, dry = _temperature(scene), _land(scene)
        lon, lat = _all_places(scene)
        grid = ("along", "across")
        hidden = cloudy | dry
        variables = {
            "lat": Variable(lat.astype(np.float32), grid, {"units": "degrees_north", "standard_name": "latitude"}),
            "lon": Variable(lon.astype(np.float32), grid, {"units": "degrees_east", "standard_name": "longitude"}),
            "flags": Variable((cloudy * _CLOUDY + 2 * dry).astype(np.uint8), grid, {"flag_masks": [1, 2]}),
            "sst": _field(warm, hidden, grid, "kelvin"),
        }
        if scene.facts["is_day"]:
            green = np.exp(0.7 * fractal((_ROWS, _COLS), 3.0, scene.seen.seed + 5, _PIXEL_M) - 1)
            variables["chlorophyll"] = _field(green, hidden, grid, "mg m-3")
            variables["turbidity"] = _field(0.4 + 1.5 * green, hidden, grid, "NTU")
        write_container(folder / f"{scene.id}.nc", variables, {"Conventions": "CF-1.8", "title": scene.id})


def _field(values: Any, hidden: Any, grid: tuple[str, ...], unit: str) -> Variable:
    shown = np.where(hidden, np.float32(-999), values).astype(np.float32)
    return Variable(shown, grid, {"units": unit, "_FillValue": np.float32(-999), "coordinates": "lon lat"})


def _temperature(scene: Shot) -> Any:
    """Kelvin: warmer to the north, with eddies, and a little cooler by night."""
    _, lat = _all_places(scene)
    eddies = fractal((_ROWS, _COLS), 3.2, 41, _PIXEL_M, longest=300_000)
    return 289 + 0.9 * (lat - world.CENTRE_LAT) + 1.1 * eddies - (0 if scene.facts["is_day"] else 0.4)


def _land(scene: Shot) -> Any:
    """True on the islands."""
    lon, lat = _all_places(scene)
    near = (np.abs(lon - world.CENTRE_LON) < 1) & (np.abs(lat - world.CENTRE_LAT) < 1)
    dry = np.zeros(lon.shape, bool)
    if near.any():
        x, y = transform(lon[near], lat[near], LONLAT, ground.UTM)
        grid = world.grid()
        dry[near] = land.share_at((x - grid.west) / grid.pixel_x, (grid.north - y) / grid.pixel_y) > 0.5
    return dry

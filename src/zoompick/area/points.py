"""Points in files: GeoJSON, KML, GPX and WKT, to draw a circle about."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from typing import Any, NamedTuple

from zoompick.area import guard
from zoompick.errors import AreaError
from zoompick.files import parse_json

_WKT = re.compile(
    r"(?i)(?:srid\s*=\s*4326\s*;\s*)?point\s*(?:z|m|zm)?\s*\(\s*([-+]?[0-9]{1,3}(?:\.[0-9]{1,30})?)\s+"
    r"([-+]?[0-9]{1,3}(?:\.[0-9]{1,30})?)"
)


class Named(NamedTuple):
    """A point in degrees, and its name; empty when it has none."""

    name: str
    lon: float
    lat: float


def points_of(data: bytes, label: str) -> list[Named]:
    """All points of a file's bytes (UTF-8).

    Raises
    ------
    AreaError
        Of no form that is read, or a point off the globe.
    """
    text = data.decode("utf-8-sig", "replace").lstrip()
    if text.startswith("{"):
        guard.refuse_deep(text, label)
        try:
            found = list(_of_geojson(parse_json(text), ""))
        except ValueError as error:
            raise AreaError(f"{label} is not GeoJSON: {error}.", "Export it again.") from error
    elif text.startswith("<"):
        found = list(_of_xml(data, label))
    else:
        match = _WKT.match(text)
        found = [] if match is None else [Named("", float(match[1]), float(match[2]))]
    for point in found:
        if not (abs(point.lon) <= 180 and abs(point.lat) <= 90):
            raise AreaError(
                f"{label} has the point {point.lon:g}, {point.lat:g}, which is not on the globe.", "Mend it."
            )
    return found


def _of_geojson(value: Any, name: str) -> Iterator[Named]:
    if not isinstance(value, dict):
        return
    if value.get("type") == "Feature":
        told = value.get("properties")
        own = str(told.get("name") or "") if isinstance(told, dict) else ""
        yield from _of_geojson(value.get("geometry"), own)
        return
    for part in ("features", "geometries"):
        members = value.get(part)
        for member in members if isinstance(members, list) else ():
            yield from _of_geojson(member, name)
    places = value.get("coordinates")
    if value.get("type") == "Point":
        places = [places]
    elif value.get("type") != "MultiPoint":
        return
    for place in places if isinstance(places, list) else ():
        if isinstance(place, list) and len(place) >= 2 and all(map(_is_number, place[:2])):
            yield Named(name, float(place[0]), float(place[1]))


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def _of_xml(data: bytes, label: str) -> Iterator[Named]:
    """Points of KML placemarks, waypoints of GPX."""
    for element in guard.xml_root(data, label).iter():
        kind = guard.local(element)
        if kind == "wpt":
            name = next((child.text or "" for child in element if guard.local(child) == "name"), "")
            yield from _numbers(name.strip(), [element.get("lon", ""), element.get("lat", "")])
        elif kind == "Placemark":
            name = next((child.text or "" for child in element if guard.local(child) == "name"), "")
            for point in (below for below in element.iter() if guard.local(below) == "Point"):
                text = next((below.text or "" for below in point.iter() if guard.local(below) == "coordinates"), "")
                yield from _numbers(name.strip(), text.strip().split(","))


def _numbers(name: str, texts: list[str]) -> Iterator[Named]:
    try:
        yield Named(name, float(texts[0]), float(texts[1]))
    except (ValueError, IndexError):
        return

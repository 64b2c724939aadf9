"""Points and lines of files, of whatever form, to draw circles and strips about."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from zoompick.area import geopackage, guard, kml, shapefile, systems, tables, wkt
from zoompick.errors import AreaError
from zoompick.files import parse_json
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape
from zoompick.later import np, shapely

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

_CORNERS = ("trkpt", "rtept")
_KINDS = ("Point", "MultiPoint", "LineString", "MultiLineString")


class Mark(NamedTuple):
    """A point or a line in degrees, and its name; empty when it has none."""

    name: str
    shape: Shape

    @property
    def is_point(self) -> bool:
        """True for a single point."""
        return str(self.shape.geom_type) == "Point"


def marks_of(path: Path) -> list[Mark]:
    """All points and lines of a file.

    Raises
    ------
    AreaError
        Of no form that is read, or a mark off the globe.
    """
    head, suffix = path.open("rb").read(512), path.suffix.lower()
    if head.startswith(b"SQLite format 3"):
        found = [Mark(*one) for one in geopackage.marks(path)]
    elif head.startswith(b"PK") and (
        suffix == ".kmz" or any(n.lower().endswith(".kml") for n in guard.members(path))
    ):
        found = list(_of_xml(kml.document_of(path), path.name))
    elif head.startswith((b"\x00\x00\x27\x0a", b"PK")) or suffix == ".shp":
        found = [Mark(*one) for one in shapefile.marks(path)]
    else:
        found = _of_text(guard.as_utf8(guard.read_bytes(path)), path.name)
    for mark in found:
        corners = shapely.get_coordinates(mark.shape)
        off = ~((np.abs(corners[:, 0]) <= 180) & (np.abs(corners[:, 1]) <= 90))
        if off.any():
            lon, lat = corners[off][0]
            raise AreaError(f"{path.name} has the point {lon:g}, {lat:g}, which is not on the globe.", "Mend it.")
    return found


def _of_text(data: bytes, label: str) -> list[Mark]:
    text = data.decode("utf-8-sig", "replace").lstrip()
    if text.startswith("{"):
        guard.refuse_deep(text, label)
        try:
            value = parse_json(text)
        except ValueError as error:
            raise AreaError(f"{label} is not GeoJSON: {error}.", "Export it again.") from error
        source = systems.of_geojson(value, label)
        return list(_of_geojson(value, "", source, label))
    if text.startswith("<"):
        return list(_of_xml(data, label))
    if wkt.looks_like_wkt(text):
        return [Mark("", part) for part in wkt.parts_of(text, label) if part.geom_type in _KINDS]
    return [Mark(name, shape) for name, shape in tables.marks(text, label)]


def _of_geojson(value: object, name: str, source: Crs, label: str) -> Iterator[Mark]:
    if not isinstance(value, dict):
        return
    if value.get("type") == "Feature":
        told = value.get("properties")
        own = str(told.get("name") or told.get("title") or "") if isinstance(told, dict) else ""
        yield from _of_geojson(value.get("geometry"), own or str(value.get("id") or ""), source, label)
        return
    for part in ("features", "geometries"):
        members = value.get(part)
        for member in members if isinstance(members, list) else ():
            yield from _of_geojson(member, name, source, label)
    if value.get("type") in _KINDS:
        try:
            shape = shapely.force_2d(shapely.from_geojson(json.dumps(value)))
        except (shapely.errors.ShapelyError, ValueError) as error:
            raise AreaError(f"A {value['type']} in {label} is damaged.", "Export it again.") from error
        yield from (Mark(name, systems.carried(part, source, label)) for part in shapely.get_parts(shape)
                    if np.isfinite(shapely.get_coordinates(part)).all())  # fmt: skip


def _of_xml(data: bytes, label: str) -> Iterator[Mark]:
    """Points and lines of KML placemarks, waypoints, tracks and routes of GPX."""
    for element in guard.xml_root(data, label).iter():
        kind = guard.local(element)
        if kind == "wpt":
            yield from _line(_name(element), [_place(element)])
        elif kind in ("trk", "rte"):
            for line in (element, *(one for one in element if guard.local(one) == "trkseg")):
                yield from _line(_name(element), [_place(one) for one in line if guard.local(one) in _CORNERS])
        elif kind == "Placemark":
            for part in (below for below in element.iter() if guard.local(below) in ("Point", "LineString")):
                text = next((below.text or "" for below in part.iter() if guard.local(below) == "coordinates"), "")
                yield from _line(_name(element), [corner.split(",")[:2] for corner in text.split()])


def _name(element: Element) -> str:
    return next((child.text or "" for child in element if guard.local(child) == "name"), "").strip()


def _place(element: Element) -> list[str]:
    return [element.get("lon", ""), element.get("lat", "")]


def _line(name: str, corners: list[list[str]]) -> Iterator[Mark]:
    try:
        places = [(float(lon), float(lat)) for lon, lat in corners]
    except ValueError:
        return
    if np.isfinite(places).all() and places:
        yield Mark(name, shapely.Point(places[0]) if len(places) == 1 else shapely.LineString(places))

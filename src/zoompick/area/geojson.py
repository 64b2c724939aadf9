"""GeoJSON areas (RFC 7946): a geometry, Feature, FeatureCollection or GeometryCollection."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from functools import partial

from zoompick.area import guard, systems
from zoompick.area.model import Feature
from zoompick.arrays import Floats
from zoompick.errors import AreaError
from zoompick.files import parse_json
from zoompick.geo.crs import LONLAT, Crs
from zoompick.geo.shapes import geojson_of, polygon_of, polygons_of
from zoompick.jsontypes import JsonObject
from zoompick.later import np, shapely


def read_geojson(data: bytes, label: str) -> tuple[list[Feature], list[str]]:
    """Polygons of a GeoJSON text; a STAC Item or ItemCollection is one too.

    Raises
    ------
    AreaError
    """
    try:
        data, rings = _without_long_rings(data)
        text = data.decode("utf-8-sig")
        guard.refuse_deep(text, label)
        value = parse_json(text)
    except ValueError as error:
        raise AreaError(
            f"{label} is not GeoJSON.", f"It is not valid JSON: {error}. A polygon is expected."
        ) from error
    source = systems.of_geojson(value, label)
    found = [(_placed(_with_ring(geometry, rings), source, label), properties)
             for geometry, properties in _features(value)]  # fmt: skip
    if not found:
        kind = value.get("type") if isinstance(value, dict) else None
        raise AreaError(
            f"{label} holds no GeoJSON polygon (its type is {kind}).", "Give a polygon or features with one."
        )
    features, skipped = [], 0
    polygons = polygons_of([geometry for geometry, _ in found])
    for (geometry, properties), polygon in zip(found, polygons, strict=True):
        if geometry is None or (len(found) > 1 and _kind(geometry) in _NO_AREAS):
            skipped += 1
            continue
        name = str(properties.get("name") or properties.get("title") or "")
        make = partial(polygon_of, geometry, f"The area in {label}")
        features.append(Feature(name, polygon, properties) if polygon else Feature.made_by(name, make, properties))
    if not features:
        raise AreaError(
            f"{label} holds no polygon.",
            "Its features have points, lines or no geometry; about points and lines `around` draws one.",
        )
    return features, [f"{label}: {skipped} features without a polygon were left out."] if skipped else []


_NO_AREAS = ("Point", "LineString", "MultiPoint", "MultiLineString")
_LONG_BYTES = 4 << 20
_RING = re.compile(rb'"coordinates"\s*:\s*(\[\s*\[\s*\[[-+0-9.eE,\s\[\]]*)')
_MARK = "\x02ring {}"


def _without_long_rings(data: bytes) -> tuple[bytes, list[Floats]]:
    """A text whose polygons of one very long ring are replaced by marks, and these rings, shape (n, 2).

    As lists a million corners would take ten times the memory of their digits.
    """
    rings: list[Floats] = []
    if len(data) < _LONG_BYTES:
        return data, rings
    pieces, place = [], 0
    for found in _RING.finditer(data):
        run = found[1].rstrip(b", \t\r\n")
        if len(run) < _LONG_BYTES or re.search(rb"\]\s*\]\s*,", run) or not re.search(rb"\]\s*\]\s*\]$", run):
            continue
        count = run.count(b"[") - 2
        numbers = np.fromstring(run.translate(None, b"[]").decode("ascii"), sep=",")
        if not count or len(numbers) % count or len(numbers) // count not in (2, 3):
            continue
        pieces += [data[place : found.start(1)], b'"' + json.dumps(_MARK.format(len(rings)))[1:-1].encode() + b'"']
        rings.append(numbers.reshape(count, -1)[:, :2])
        place = found.start(1) + len(run)
    return (b"".join([*pieces, data[place:]]) if rings else data), rings


def _with_ring(geometry: object, rings: Sequence[Floats]) -> object:
    """A geometry whose mark is a ring again."""
    mark = geometry.get("coordinates") if rings and isinstance(geometry, dict) else None
    for number, ring in enumerate(rings):
        if mark == _MARK.format(number) and isinstance(geometry, dict):
            return dict(geometry) | {"coordinates": [ring]}
    return geometry


def _placed(geometry: object, source: Crs, label: str) -> object:
    """A geometry of another system in degrees."""
    if source == LONLAT or not isinstance(geometry, dict) or "Polygon" not in _kind(geometry):
        return geometry
    try:
        rings = json.dumps(geometry, default=lambda ring: ring.tolist())
        shape = systems.carried(shapely.force_2d(shapely.from_geojson(rings)), source, label)
    except (shapely.errors.ShapelyError, ValueError) as error:
        raise AreaError(f"A polygon in {label} is damaged.", "Export it again.") from error
    return geojson_of(shape)


def _kind(geometry: object) -> str:
    return str(geometry.get("type")) if isinstance(geometry, dict) else ""


def _features(value: object) -> Iterator[tuple[object, JsonObject]]:
    if not isinstance(value, dict):
        return
    kind = value.get("type")
    if kind == "FeatureCollection":
        entries = value.get("features")
        for entry in entries if isinstance(entries, list) else ():
            yield from _features(entry)
    elif kind == "Feature":
        geometry, properties = value.get("geometry"), value.get("properties")
        properties = dict(properties) if isinstance(properties, dict) else {}
        if "id" in value and "name" not in properties:
            properties["name"] = value["id"]
        if _kind(geometry) == "GeometryCollection":
            yield from ((part, properties) for part, _ in _features(geometry))
        else:
            yield geometry, properties
    elif kind == "GeometryCollection":
        parts = value.get("geometries")
        for part in parts if isinstance(parts, list) else ():
            yield from _features(part)
    elif "coordinates" in value:
        yield value, {}

"""Footprint files as STAC Items: ItemCollections, GeoJSON, shapefiles, GeoPackages and GeoParquet of any maker.

A file made by others names its columns as it likes; the usual names of an id, a date, cloud and a path are known.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from datetime import date, datetime
from pathlib import Path
from typing import Any

from zoompick import foreign
from zoompick.area.geopackage import read_geopackage
from zoompick.area.model import Feature
from zoompick.area.shapefile import read_shapefile
from zoompick.discovery import geoparquet
from zoompick.errors import DataError, FormatError
from zoompick.files import parse_json, read_json
from zoompick.geo.shapes import geojson_of
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.net.links import links_of

ENDINGS = (".json", ".geojson", ".shp", ".zip", ".gpkg", ".parquet", ".geoparquet")
_ID = ("id", "scene_id", "scene", "item_id", "name", "title", "tile", "filename", "file", "location")
_DATE = ("datetime", "acquired", "acquisition", "acq_date", "date", "sensing_time", "time")
_BEGIN = ("start_datetime", "start_date", "start_time", "begin", "start")
_END = ("end_datetime", "end_date", "end_time", "until", "end", "stop")
_CLOUD = ("eo:cloud_cover", "cloud_cover", "cloudcover", "cloud_pct", "cloud", "clouds")
_HREF = ("href", "url", "location", "path", "file", "filename")
_DATE_FORMS = ("%Y-%m-%d", "%Y/%m/%d", "%Y%m%d", "%d.%m.%Y", "%Y-%m-%d %H:%M:%S", "%Y%m%dT%H%M%S")


def items_of(path: Path, collection: str, day: str = "") -> Iterator[JsonObject]:
    """Items of a file, one a footprint.

    Parameters
    ----------
    collection : str
        Name for items that tell none.
    day : str
        A date for footprints that tell none, as a delivery's tile index does.

    Raises
    ------
    FormatError, AreaError
        Missing, damaged, or of no form that is read.
    """
    if not path.is_file():
        raise FormatError(f"There is no footprint file {path}.", "Check the path.")
    suffix = path.suffix.lower()
    if suffix in geoparquet.ENDINGS:
        for number, feature in enumerate(geoparquet.features_of(path)):
            yield item_of_row(feature, number, collection, day)
    elif suffix in (".json", ".geojson"):
        yield from _of_json(path, collection, day)
    elif suffix in ENDINGS:
        yield from _of_features(_vector(path), collection, day)
    else:
        raise FormatError(f"{path.name} is no footprint file.", f"Give one of {', '.join(ENDINGS)}.")


def _vector(path: Path) -> Iterable[Feature]:
    if path.suffix.lower() == ".gpkg":
        return read_geopackage(path)[0]

    return read_shapefile(path)[0]


_MOST_LINKED = 100_000


def _linked(path: Path, catalog: JsonObject, collection: str) -> Iterator[JsonObject]:
    """Items that a static STAC catalog on disk links to, in its own folder and those below; each file once."""
    root, waiting, seen = path.parent, [(path, catalog)], {path}
    while waiting:
        place, document = waiting.pop(0)
        if document.get("type") == "Feature":
            yield {"collection": collection, **_with_places(document, place)}
            continue
        for link in links_of(document):
            target = _beside(place, link["href"])
            if link.get("rel") not in ("item", "child") or not target.is_relative_to(root) or target in seen:
                continue
            seen.add(target)
            if len(seen) > _MOST_LINKED:
                raise FormatError(f"{path.name} links to more than {_MOST_LINKED} files.", "Give a part of it.")
            with contextlib.suppress(DataError, OSError, ValueError):
                found = read_json(target)
                waiting += [(target, found)] if isinstance(found, dict) else []


def _beside(place: Path, href: str) -> Path:
    """A file that a document names by a relative path; the document itself for what is none."""
    try:
        return place if "://" in href else (place.parent / href).resolve()
    except (OSError, ValueError):
        return place


def _with_places(item: JsonObject, place: Path) -> JsonObject:
    """An item whose assets are told by whole paths."""
    assets = item.get("assets")
    if not isinstance(assets, dict):
        return item
    told = {
        key: {**row, "href": href if "://" in href else str(_beside(place, href))}
        for key, row in assets.items() if isinstance(row, dict) for href in [str(row.get("href", ""))]
    }  # fmt: skip
    return {**item, "assets": told}


def _of_json(path: Path, collection: str, day: str) -> Iterator[JsonObject]:
    try:
        value = parse_json(path.read_text(encoding="utf-8-sig"))
    except (OSError, ValueError) as error:
        raise FormatError(f"{path} is not JSON that can be read: {error}.", "Make it again.") from error
    if isinstance(value, dict) and value.get("type") in ("Catalog", "Collection"):
        yield from _linked(path.resolve(), value, collection)
        return
    features = value.get("features") if isinstance(value, dict) else None
    if not isinstance(features, list):
        raise FormatError(f"{path.name} holds no FeatureCollection.", "Give an ItemCollection or GeoJSON features.")
    for number, feature in enumerate(features):
        if not isinstance(feature, dict):
            continue
        if isinstance(feature.get("assets"), dict):
            yield {"collection": collection, **feature}
        else:
            given = feature.get("properties")
            attributes = dict(given) if isinstance(given, dict) else {}
            if "id" in feature:
                attributes.setdefault("id", feature["id"])
            yield _item(attributes, feature.get("geometry"), number, collection, day)


def _of_features(features: Iterable[Feature], collection: str, day: str) -> Iterator[JsonObject]:
    for number, feature in enumerate(features):
        attributes = {**feature.attributes}
        if feature.name:
            attributes.setdefault("name", feature.name)
        yield _item(attributes, geojson_of(feature.polygon), number, collection, day)


def _item(attributes: JsonMap, geometry: Any, number: int, collection: str, day: str) -> JsonObject:
    lower = {str(key).lower(): value for key, value in attributes.items() if value not in (None, "")}
    properties: JsonObject = {str(key): _plain(value) for key, value in attributes.items() if value is not None}
    properties |= _moments(lower, day)
    cloud = next((lower[name] for name in _CLOUD if name in lower), None)
    if isinstance(cloud, int | float):
        properties["eo:cloud_cover"] = float(cloud)
    href = next((str(lower[name]) for name in _HREF if name in lower), "")
    assets = {"data": {"href": href, "roles": ["data"], "type": _type_of(href)}} if href else {}
    return {
        "type": "Feature",
        "stac_version": "1.1.0",
        "id": str(next((lower[name] for name in _ID if name in lower), number + 1)),
        "collection": str(lower.get("collection", collection)),
        "geometry": geometry,
        "properties": properties,
        "assets": assets,
        "links": [],
    }


def _moments(lower: JsonMap, day: str) -> JsonObject:
    """Moment, or first and last, of a row by its columns; the day that the source was given where it tells none."""
    when, begin, end = (
        moment_of(next((lower[name] for name in names if name in lower), "")) for names in (_DATE, _BEGIN, _END)
    )
    if when is None and begin is not None and end is not None:
        return {"datetime": None, "start_datetime": _text(begin), "end_datetime": _text(end)}
    when = when or begin or moment_of(day)
    return {} if when is None else {"datetime": _text(when)}


def _text(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def item_of_row(feature: Feature, number: int, collection: str, day: str) -> JsonObject:
    """A row as :mod:`~zoompick.discovery.geoparquet` writes gives its item back; any other is read by its columns."""
    row = {key: value for key, value in feature.attributes.items() if key != "bbox"}
    try:
        properties, assets = parse_json(row.pop("properties")), parse_json(row.pop("assets"))
    except (KeyError, TypeError, ValueError):
        return _item(row, geojson_of(feature.polygon), number, collection, day)
    item = _item(row, geojson_of(feature.polygon), number, collection, day)
    return item | {"properties": properties, "assets": assets}


def _plain(value: object) -> Any:
    """What JSON can hold."""
    if isinstance(value, date | datetime):
        return value.isoformat()
    return value if isinstance(value, str | int | float | bool | list | dict) else str(value)


def _type_of(href: str) -> str:
    return (
        "image/tiff; application=geotiff" if href.lower().endswith((".tif", ".tiff")) else "application/octet-stream"
    )


def moment_of(value: object) -> datetime | None:
    """The moment that a cell means, UTC; None where it means none."""
    if isinstance(value, date):
        return foreign.moment(value.isoformat())
    text = str(value).strip()
    for form in ("", *_DATE_FORMS):
        try:
            told = datetime.strptime(text, form).isoformat() if form else text
        except ValueError:
            continue
        if (moment := foreign.moment(told)) is not None:
            return moment
    return None

"""Read an area from a file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import shapely

from zoompick.area.model import Area
from zoompick.errors import AreaError, DataError
from zoompick.files import read_json
from zoompick.geo.shapes import Shape, checked_polygon, polygon_of


def read_area(path: Path) -> Area:
    """Read a GeoJSON polygon, Feature or FeatureCollection (RFC 7946).

    Several polygons become one area of them all. The name is the feature's ``name``, else the file's.

    Raises
    ------
    AreaError
        The file is missing, not GeoJSON, or its polygon is empty, crossing itself or off the globe.
    """
    if not path.is_file():
        raise AreaError(f"There is no area file {path}.", "Give the path of a GeoJSON file, or --box W S E N.")
    try:
        value = read_json(path)
    except DataError as error:
        raise AreaError(f"{path} is not GeoJSON.", f"{error.what} A GeoJSON polygon is expected.") from error
    geometries, name = _geometries(value, path)
    polygons = [polygon_of(geometry, f"The area in {path.name}") for geometry in geometries]
    return Area(name or path.stem, _one(polygons, path))


def _geometries(value: Any, path: Path) -> tuple[list[Any], str]:
    kind = value.get("type") if isinstance(value, dict) else None
    if kind == "FeatureCollection":
        features = [entry for entry in value.get("features") or [] if isinstance(entry, dict)]
        if not features:
            raise AreaError(f"The FeatureCollection in {path} is empty.", "Give a file with at least one polygon.")
        return [feature.get("geometry") for feature in features], _name(features[0]) if len(features) == 1 else ""
    if kind == "Feature":
        return [value.get("geometry")], _name(value)
    if kind is None:
        raise AreaError(f"{path} holds JSON, but no GeoJSON object.", "A GeoJSON polygon is expected.")
    return [value], ""


def _name(feature: dict[str, Any]) -> str:
    properties = feature.get("properties")
    name = properties.get("name") if isinstance(properties, dict) else None
    return name if isinstance(name, str) else ""


def _one(polygons: list[Shape], path: Path) -> Shape:
    if len(polygons) == 1:
        return polygons[0]
    return checked_polygon(shapely.union_all(polygons), f"The area in {path.name}")

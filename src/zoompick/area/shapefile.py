"""Shapefiles, plain or zipped; their .prj is obeyed.

Source: Shapefile technical description (1998): polygons are rings, clockwise ones outside.
"""

from __future__ import annotations

import io
import struct
import zipfile
from dataclasses import replace
from functools import partial
from pathlib import Path

from zoompick.area import guard
from zoompick.area.model import Area, Feature
from zoompick.errors import AreaError, UsageError
from zoompick.geo.crs import LONLAT, lonlat_from_wkt
from zoompick.geo.shapes import Shape, checked_polygon
from zoompick.jsontypes import JsonObject
from zoompick.later import np, shapefile, shapely

_PARTS = (".shp", ".shx", ".dbf", ".prj", ".cpg")


def read_shapefile(path: Path) -> tuple[list[Feature], list[str]]:
    """Polygons of a .shp with its companions beside it, or of a zip that holds them.

    Raises
    ------
    AreaError
        No polygons, damaged, or metres without a .prj to tell of what system.
    """
    if path.suffix.lower() == ".zip":
        found = guard.members(path)
        layers = sorted(name for name in found if name.lower().endswith(".shp") and not name.startswith("__MACOSX"))
        if not layers:
            raise AreaError(f"{path.name} holds no shapefile.", "A zipped shapefile has .shp, .shx and .dbf inside.")
        features: list[Feature] = []
        notes: list[str] = []
        for layer in layers:
            parts = {name[-4:].lower(): data for name, data in found.items() if name[:-4] == layer[:-4]}
            more, told = _features(parts, path.name if len(layers) == 1 else f"{layer} in {path.name}")
            stem = layer[:-4].rpartition("/")[2]
            features += [
                replace(one, name=one.name or stem, attributes={"layer": stem, **one.attributes}) for one in more
            ]
            notes += told
        return features, notes
    beside = {entry.suffix.lower(): entry for entry in path.parent.glob(f"{path.stem}.*")}
    parts = {kind: guard.read_bytes(beside[kind]) for kind in _PARTS if kind in beside}
    return _features(parts, path.name)


def _features(parts: dict[str, bytes], label: str) -> tuple[list[Feature], list[str]]:
    streams: JsonObject = {kind[1:]: io.BytesIO(parts[kind]) for kind in (".shp", ".shx", ".dbf") if kind in parts}
    encoding = parts.get(".cpg", b"utf-8").decode("ascii", "replace").strip() or "utf-8"
    try:
        with shapefile.Reader(**streams, encoding=encoding, encodingErrors="replace") as reader:
            if "POLYGON" not in reader.shapeTypeName:
                raise AreaError(f"{label} holds {reader.shapeTypeName.lower()}s, no polygons.", "Give polygons.")
            rows = [
                (entry.shape.__geo_interface__, dict(entry.record.as_dict())) for entry in reader.iterShapeRecords()
            ]
    except (
        shapefile.ShapefileException,
        struct.error,
        ValueError,
        TypeError,
        LookupError,
        OSError,
        EOFError,
    ) as error:
        raise AreaError(f"{label} is not a shapefile that can be read: {error}.", "Export it again.") from error
    shapes = [
        shapely.force_2d(shapely.geometry.shape(geometry)) for geometry, _ in rows if geometry.get("coordinates")
    ]
    if not shapes:
        raise AreaError(f"{label} holds no polygon.", "Export it again.")
    prj = parts.get(".prj", b"").decode("utf-8", "replace").strip()
    placed, notes = _placed(shapes, prj, label)
    attributes = [record for geometry, record in rows if geometry.get("coordinates")]
    return [
        Feature.made_by(_name(record), partial(checked_polygon, polygon, f"A polygon in {label}"), record)
        for polygon, record in zip(placed, attributes, strict=True)
    ], notes


def _name(record: JsonObject) -> str:
    return next((str(value) for key, value in record.items() if key.lower() == "name" and value), "")


def _placed(shapes: list[Shape], prj: str, label: str) -> tuple[list[Shape], list[str]]:
    """Polygons in degrees; AreaError when nothing tells what the numbers are."""
    if prj:
        try:
            return [shapely.transform(shape, lambda xy: np.column_stack(lonlat_from_wkt(xy[:, 0], xy[:, 1], prj)))
                    for shape in shapes], []  # fmt: skip
        except UsageError as error:
            raise AreaError(f"The .prj of {label} cannot be read.", "Export it again with its system.") from error
    west, south, east, north = shapely.total_bounds(shapes)
    if west < -180 or east > 180 or south < -90 or north > 90:
        raise AreaError(
            f"{label} has no .prj, and its coordinates (up to {max(abs(east), abs(north)):.0f}) are no degrees.",
            "Put the .prj file beside it: nothing else tells where it lies.",
        )
    return shapes, [f"{label} has no .prj; its numbers were taken as degrees, WGS 84."]


def write_shapefile(area: Area, path: Path, stem: str) -> None:
    """Write a zip with a shapefile called ``stem``, WGS 84; the format cuts texts to 254 characters."""
    streams = {kind: io.BytesIO() for kind in ("shp", "shx", "dbf")}
    with shapefile.Writer(**streams, shapeType=shapefile.POLYGON, encoding="utf-8") as writer:
        writer.field("name", "C", 120)
        writer.field("descr", "C", 254)
        writer.field("size_km2", "N", 18, 4)
        clockwise = shapely.orient_polygons(area.polygon, exterior_cw=True)
        writer.shape(dict(shapely.geometry.mapping(clockwise)))
        writer.record(area.name[:120], area.description[:254], round(area.size_km2, 4))
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for kind, stream in streams.items():
            archive.writestr(f"{stem}.{kind}", stream.getvalue())
        archive.writestr(f"{stem}.prj", LONLAT.prj)
        archive.writestr(f"{stem}.cpg", "UTF-8")

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

from zoompick.area import guard, systems
from zoompick.area.model import Area, Feature
from zoompick.errors import AreaError
from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import Shape, checked_polygon
from zoompick.jsontypes import JsonObject
from zoompick.later import shapefile, shapely

_PARTS = (".shp", ".shx", ".dbf", ".prj", ".cpg")


def read_shapefile(path: Path) -> tuple[list[Feature], list[str]]:
    """Polygons of a .shp with its companions beside it, or of a zip that holds them.

    Raises
    ------
    AreaError
        No polygons, damaged, or metres without a .prj to tell of what system.
    """
    layers = _layers(path)
    if path.suffix.lower() != ".zip":
        return _features(layers[path.stem], path.name)
    features: list[Feature] = []
    notes: list[str] = []
    for layer, parts in layers.items():
        more, told = _features(parts, path.name if len(layers) == 1 else f"{layer}.shp in {path.name}")
        stem = layer.rpartition("/")[2]
        features += [
            replace(one, name=one.name or stem, attributes={"layer": stem, **one.attributes}) for one in more
        ]
        notes += told
    return features, notes


def marks(path: Path) -> list[tuple[str, Shape]]:
    """Points and lines of its layers, one by one, with their names.

    Raises
    ------
    AreaError
        Damaged, or metres without a .prj.
    """
    found = []
    for parts in _layers(path).values():
        kind, rows = _records(parts, path.name)
        if rows and "POLYGON" not in kind:
            placed, _ = _placed([shape for shape, _ in rows], _prj(parts), path.name)
            found += [(_name(record), part) for shape, (_, record) in zip(placed, rows, strict=True)
                      for part in shapely.get_parts(shape)]  # fmt: skip
    return found


def _layers(path: Path) -> dict[str, dict[str, bytes]]:
    """Bytes of the parts of each layer, by their endings."""
    if path.suffix.lower() != ".zip":
        beside = {entry.suffix.lower(): entry for entry in path.parent.glob(f"{path.stem}.*")}
        return {path.stem: {kind: guard.read_bytes(beside[kind]) for kind in _PARTS if kind in beside}}
    found = guard.members(path)
    layers = sorted(name[:-4] for name in found if name.lower().endswith(".shp") and not name.startswith("__MACOSX"))
    if not layers:
        raise AreaError(f"{path.name} holds no shapefile.", "A zipped shapefile has .shp, .shx and .dbf inside.")
    return {
        layer: {name[-4:].lower(): data for name, data in found.items() if name[:-4] == layer} for layer in layers
    }


def _records(parts: dict[str, bytes], label: str) -> tuple[str, list[tuple[Shape, JsonObject]]]:
    """Type of a layer, and its shapes that are not empty with their records."""
    streams: JsonObject = {kind[1:]: io.BytesIO(parts[kind]) for kind in (".shp", ".shx", ".dbf") if kind in parts}
    encoding = parts.get(".cpg", b"utf-8").decode("ascii", "replace").strip() or "utf-8"
    try:
        with shapefile.Reader(**streams, encoding=encoding, encodingErrors="replace") as reader:
            rows = [
                (entry.shape.__geo_interface__, dict(entry.record.as_dict())) for entry in reader.iterShapeRecords()
            ]
            kind = str(reader.shapeTypeName)
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
    return kind, [(shapely.force_2d(shapely.geometry.shape(geometry)), record)
                  for geometry, record in rows if geometry.get("coordinates")]  # fmt: skip


def _prj(parts: dict[str, bytes]) -> str:
    return parts.get(".prj", b"").decode("utf-8", "replace").strip()


def _features(parts: dict[str, bytes], label: str) -> tuple[list[Feature], list[str]]:
    kind, rows = _records(parts, label)
    if "POLYGON" not in kind:
        raise AreaError(
            f"{label} holds {kind.lower()}s, no polygons.",
            "Give polygons; about points and lines `around` draws one.",
        )
    if not rows:
        raise AreaError(f"{label} holds no polygon.", "Export it again.")
    placed, notes = _placed([shape for shape, _ in rows], _prj(parts), label)
    return [
        Feature.made_by(_name(record), partial(checked_polygon, polygon, f"A polygon in {label}"), record)
        for polygon, (_, record) in zip(placed, rows, strict=True)
    ], notes


def _name(record: JsonObject) -> str:
    return next((str(value) for key, value in record.items() if key.lower() == "name" and value), "")


def _placed(shapes: list[Shape], prj: str, label: str) -> tuple[list[Shape], list[str]]:
    """Polygons in degrees; AreaError when nothing tells what the numbers are."""
    if prj:
        return [systems.carried_from_wkt(shape, prj, f"The .prj of {label}") for shape in shapes], []
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
